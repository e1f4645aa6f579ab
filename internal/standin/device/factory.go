package device

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image/bcb"
	"jarlid/internal/core/model"
	"jarlid/internal/host"
	"jarlid/internal/standin/disk"
	"jarlid/internal/standin/scenario"
)

// Open opens the stand-in kept in o.Dir, or makes a new one there.
func Open(m *model.Model, o Options) (*Phone, error) {
	s, err := parseSpec(m)
	if err != nil {
		return nil, err
	}
	if o.Log == nil {
		o.Log = func(string) {}
	}
	if o.Net == nil {
		o.Net = &Loopback{}
	}
	if err := os.MkdirAll(o.Dir, 0o755); err != nil {
		return nil, err
	}
	p := &Phone{Model: m, Spec: s, Options: o, Next: make(chan Transition, 1)}
	b, err := host.Read(p.statePath())
	switch {
	case errors.Is(err, fs.ErrNotExist):
		err = p.factory()
	case err == nil:
		if err = json.Unmarshal(b, &p.State); err != nil {
			err = fmt.Errorf("%s is damaged (%w); empty the folder to begin anew", p.statePath(), err)
			break
		}
		if p.Store, err = disk.Open(o.Dir, s.parts(), s.Super.Partitions, m.Slots > 1); err == nil &&
			p.State.Cows != nil {
			p.Store.Cows.Store(&p.State.Cows)
		}
	}
	if err != nil {
		return nil, err
	}
	p.Store.Slot.Store(int32(max(p.NextSlot(), 0)))
	if o.Mode != "" {
		p.State.Mode = card.Mode(o.Mode)
	}
	return p, nil
}

// factory makes a new phone as its manufacturer ships it: slot a filled, b empty.
func (p *Phone) factory() error {
	var err error
	if p.Store, err = disk.Open(p.Options.Dir, p.Spec.parts(), p.Spec.Super.Partitions,
		p.Model.Slots > 1); err != nil {
		return err
	}
	if err := p.fill(); err != nil {
		return err
	}
	misc := make([]byte, bcb.Size)
	if p.Model.Slots > 1 {
		c := &bcb.Control{Suffix: "_a", Slots: []bcb.Slot{{Priority: bcb.MaxPriority, TriesLeft: bcb.MaxTries,
			Successful: true}, {}}}
		if err := c.Put(misc); err != nil {
			return err
		}
	}
	if err := p.Store.Put("misc", misc, 0); err != nil {
		return err
	}
	p.State = State{Serial: OrElse(p.Options.Serial, p.Spec.Serial), MayUnlock: true,
		Unlocked: !p.Options.Locked,
		Percent:  p.Spec.Battery.Percent, Mode: card.Mode(p.Spec.Start), Snapshot: SnapNone}
	if p.Spec.Rollback {
		p.State.Rollback = map[uint32]uint64{0: scenario.Stock.Rollback}
	}
	if p.Options.Battery > 0 {
		p.State.Percent = p.Options.Battery
	}
	// The owner has used it: data is there, encrypted by the stock system,
	// debugging switched on.
	if err := p.FormatData(); err != nil {
		return err
	}
	v, key := &vault{Brand: scenario.Stock.Brand}, []byte(nil)
	if !p.Spec.PlainData {
		if v, key, err = p.newVault(scenario.Stock.Brand, scenario.Stock.Patch); err != nil {
			return err
		}
	}
	v.Debugging, v.Setup = true, true
	if err := p.SaveVault(v, key); err != nil {
		return err
	}
	p.Save()
	return nil
}

// fill writes the manufacturer's images to slot a; slot b stays empty, but for the
// radio firmware, which a manufacturer puts on both.
func (p *Phone) fill() error {
	set, err := scenario.Images(scenario.Stock, p.Spec.Phone(p.Model))
	if err != nil {
		return err
	}
	if p.Store.Has("super") {
		sizes := map[string]int64{}
		for _, name := range p.Spec.Super.Partitions {
			sizes[name] = int64(len(set[name]))
		}
		if err := SetSuper(p.Store, p.newSuper(sizes), -1); err != nil {
			return err
		}
	}
	for name, b := range set {
		names := p.Store.Names(name)
		if name != "radio" {
			names = names[:1]
		}
		for _, n := range names {
			if !p.Logical(n) && p.Store.Sizes[n] < int64(len(b)) {
				continue // a model file of one's own may lack it, or have it smaller
			}
			if err := p.Store.Put(n, b, 0); err != nil {
				return err
			}
		}
	}
	return nil
}
