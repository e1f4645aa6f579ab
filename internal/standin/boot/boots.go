package boot

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/standin/device"
	"jarlid/internal/standin/disk"
	"jarlid/internal/standin/scenario"
)

func (p *Starter) recoveryOrStay() card.Mode {
	if err := p.startRecovery(nil); err != nil {
		p.Show("No recovery: %v", err)
		return card.Bootloader
	}
	return card.Recovery
}

// fragment reads the ramdisk of one type out of a slot's vendor_boot.
func (p *Starter) fragment(slot string, typ uint32, want ...string) (*boot.Ramdisk, error) {
	name := p.On("vendor_boot", slot)
	v, err := p.Store.Open(name)
	if err != nil {
		return nil, err
	}
	defer v.Close()
	m, err := boot.ParseVendor(v, v.Size)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	for _, f := range m.Fragments {
		if f.Type == typ {
			rd, err := boot.ReadRamdisk(io.NewSectionReader(v, f.Offset, f.Size),
				append(want, scenario.TraitsFile)...)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
			return rd, nil
		}
	}
	return nil, fmt.Errorf("%s holds no ramdisk of the type %s", name, boot.FragmentTypes[typ])
}

// kernelOf makes sure that an image has a kernel for this board.
func (p *Starter) kernelOf(name string, m *boot.Image, rd *boot.Ramdisk) error {
	if m.Section("kernel").Size == 0 {
		return fmt.Errorf("%s has no kernel", name)
	}
	if d := ident.DeviceOf(rd.Props); d != "" && !p.Model.Is(d) {
		return fmt.Errorf("%s is made for %s and hangs on this board", name, d)
	}
	return nil
}

// recoveryRamdisk reads the recovery of a slot from where this phone keeps it,
// or from an image that was sent.
func (p *Starter) recoveryRamdisk(slot string, sent []byte, want ...string) (rd *boot.Ramdisk, name string,
	err error) {
	home := p.Model.RecoveryPartition()
	name = p.On(home, slot)
	if home == "vendor_boot" {
		m, own, err := p.BootPart(p.On("boot", slot))
		if err == nil {
			err = p.kernelOf(p.On("boot", slot), m, own)
		}
		if err == nil {
			rd, err = p.fragment(slot, boot.FragmentRecovery, want...)
		}
		return rd, name, err
	}
	var m *boot.Image
	if sent != nil {
		name = "the image that was sent"
		m, rd, err = device.ReadBoot(name, bytes.NewReader(sent), int64(len(sent)), want...)
	} else {
		m, rd, err = p.BootPart(name, want...)
	}
	if err == nil {
		err = p.kernelOf(name, m, rd)
	}
	return rd, name, err
}

// startRecovery starts the recovery of the next slot, or one that was sent.
func (p *Starter) startRecovery(sent []byte) error {
	i := p.NextSlot()
	if i < 0 {
		return fmt.Errorf("no slot can be started")
	}
	slot := device.SlotName(i)
	rd, name, err := p.recoveryRamdisk(slot, sent)
	if err != nil {
		return err
	}
	if !rd.Recovery {
		return fmt.Errorf("%s holds no recovery", name)
	}
	if d := ident.DeviceOf(rd.Props); d != "" && !p.Model.Is(d) {
		return fmt.Errorf("%s is made for %s and hangs on this board", name, d)
	}
	if _, err := p.verify(slot, false); err != nil {
		return err
	}
	r := &device.Running{Slot: slot, Props: rd.Props}
	if b, ok := rd.Wanted[scenario.TraitsFile]; ok {
		if err := yaml.Unmarshal(b, &r.Traits); err != nil {
			return fmt.Errorf("%s: its traits are damaged: %w", name, err)
		}
	} else {
		// A recovery nobody here made: it behaves as its properties say.
		r.Traits = device.Traits{Shell: rd.Props["ro.debuggable"] == "1", Fastbootd: true}
	}
	for part, mark := range r.Traits.Needs {
		have, err := p.Store.Head(p.On(part, slot), 1<<20)
		if err != nil || !bytes.Contains(have, []byte(mark)) {
			return fmt.Errorf("%s stops on a black screen: what is in %s is not what it was built for", name,
				p.On(part, slot))
		}
	}
	r.Files = func(want string) ([]byte, bool) {
		rd, _, err := p.recoveryRamdisk(slot, sent, want)
		if err != nil {
			return nil, false
		}
		b, ok := rd.Wanted[want]
		return b, ok
	}
	p.started(r)
	p.Show("%s", device.OrElse(ident.BuildOf(r.Props), "a recovery without a name"))
	return nil
}

// startImage starts an image that was sent and not written.
func (p *Starter) startImage(sent []byte) card.Mode {
	err := p.startRecovery(sent)
	if err == nil {
		return card.Recovery
	}
	p.Show("The image that was sent did not start: %v", err)
	p.Stopped()
	return card.Bootloader
}

// verify is verified boot of one slot, worked out from the bytes. A locked phone
// starts only what verifies down to the last hash under its manufacturer's key and is not
// older than what it started before. An unlocked one forgives signatures and digests;
// what it never forgives is a vbmeta that can't be read, and the trees of the
// system's partitions (whole set), which the kernel enforces.
func (p *Starter) verify(slot string, whole bool) (*vbmeta.Chain, error) {
	if _, ok := p.Store.Slots["vbmeta"]; !ok {
		return nil, nil
	}
	var opened []*disk.Volume
	defer func() {
		for _, v := range opened {
			v.Close()
		}
	}()
	open := func(name string) (io.ReaderAt, int64, error) {
		v, err := p.Store.Open(p.On(name, slot))
		if err != nil {
			return nil, 0, fmt.Errorf("%w: %v", fs.ErrNotExist, err)
		}
		opened = append(opened, v)
		return v, v.Size, nil
	}
	// What would be forgiven is not worked out.
	strict := !p.Unlocked() || p.Spec.Enforces
	var also vbmeta.Contents
	if strict {
		also |= vbmeta.WithHashes
	}
	if whole {
		if _, off, _, _ := vbmeta.Trees(open, "vbmeta"); strict || !off {
			also |= vbmeta.WithTrees
		}
	}
	c, err := vbmeta.VerifyChain(context.Background(), open, "vbmeta", also)
	if err != nil {
		return c, err
	}
	if err := c.Invalid(); err != nil {
		return c, fmt.Errorf("verified boot: %w", err)
	}
	if strict {
		if err := p.trusts(c); err != nil {
			return c, fmt.Errorf("verified boot refuses it: %w", err)
		}
		return c, nil
	}
	p.Show("Warning: this phone is unlocked, what it starts is not verified.")
	if c.Top.Flags&vbmeta.FlagHashtreeDisabled == 0 {
		if bad := c.Bad("hashtree"); len(bad) > 0 {
			return c, device.Loops("%s does not match its tree: %w", p.On(bad[0].Partition, slot), bad[0].Err)
		}
		for _, v := range c.Verdicts {
			if name := p.On(v.Partition, slot); v.Kind == "hashtree" && p.Store.Changed(name) {
				return c, device.Loops("files of %s were changed, so it does not match its tree", name)
			}
		}
	}
	return c, nil
}

// trusts is what a locked phone demands.
func (p *Starter) trusts(c *vbmeta.Chain) error {
	if bad := c.Bad(); len(bad) > 0 {
		return fmt.Errorf("%s: %w", bad[0].Partition, bad[0].Err)
	}
	key, err := scenario.Key("wickerlight")
	if err != nil {
		return err
	}
	if !bytes.Equal(c.Top.PublicKey, vbmeta.EncodeKey(&key.PublicKey)) {
		return errors.New("the vbmeta is not signed by the maker")
	}
	for _, v := range c.Verdicts {
		if v.Image != nil && v.Image.RollbackIndex < p.State.Rollback[v.Location] {
			return fmt.Errorf("%s has rollback index %d, below the stored %d", v.Partition,
				v.Image.RollbackIndex, p.State.Rollback[v.Location])
		}
	}
	return nil
}

// trySystem starts the system of one slot.
func (p *Starter) trySystem(slot string) error {
	name := p.On("boot", slot)
	m, rd, err := p.BootPart(name)
	if err == nil {
		err = p.kernelOf(name, m, rd)
	}
	if err == nil && m.Section("ramdisk").Size == 0 {
		rd, err = p.genericRamdisk(slot)
	}
	if err != nil {
		return err
	}
	if p.Model.RecoveryPartition() == "boot" && rd.Recovery && !rd.NormalStart {
		return device.Loops("%s holds a recovery and nothing for a normal start", name)
	}
	chain, err := p.verify(slot, true)
	if err != nil {
		return err
	}
	if err := p.radioFits(slot, rd.Props["ro.wickerlight.radio.min"]); err != nil {
		return err
	}
	props, restores, err := p.SystemProps(slot)
	if err != nil {
		return device.Loops("%w", err)
	}
	if err := p.startable(slot, m); err != nil {
		return err
	}
	if err := p.AddedFits(slot); err != nil {
		return err
	}
	if err := p.overlaysFit(slot, props); err != nil {
		return err
	}
	r := &device.Running{Slot: slot, Props: props, Since: time.Now()}
	first, err := p.OpenData(r)
	if err != nil {
		return err
	}
	if first {
		p.Show("First start: preparing the data")
		time.Sleep(time.Duration(p.Spec.Delays.FirstStart))
	}
	p.started(r)
	p.good(slot, chain)
	if restores {
		if err := p.restoreRecovery(); err != nil {
			return err
		}
	}
	p.Mu.Lock()
	welcomed := r.Vault.Setup
	p.Mu.Unlock()
	if welcomed {
		p.Show("%s", ident.BuildOf(props))
	} else {
		p.Show("Welcome to %s", ident.BuildOf(props))
	}
	return nil
}

// good marks a slot that has started, stores its rollback indexes where a
// locked phone does, and begins the merge that waits for it.
func (p *Starter) good(slot string, chain *vbmeta.Chain) {
	if p.Model.Slots > 1 {
		c := p.Control()
		i := int(slot[0] - 'a')
		c.Slots[i].Successful, c.Slots[i].TriesLeft = true, 0
		p.SetControl(c)
	}
	p.Mu.Lock()
	defer p.Mu.Unlock()
	if p.Spec.Rollback && !p.State.Unlocked && chain != nil {
		for _, v := range chain.Verdicts {
			if v.Image != nil && v.Image.RollbackIndex > p.State.Rollback[v.Location] {
				if p.State.Rollback == nil {
					p.State.Rollback = map[uint32]uint64{}
				}
				p.State.Rollback[v.Location] = v.Image.RollbackIndex
			}
		}
	}
	if p.State.Snapshot == device.SnapWaiting && len(p.State.Cows) > 0 {
		for name := range p.State.Cows {
			if !strings.HasSuffix(name, "_"+slot) {
				return
			}
		}
		p.SetSnapshot(device.SnapMerging)
	}
	if p.State.Snapshot == device.SnapMerging {
		run := p.Running
		time.AfterFunc(time.Duration(p.Spec.Delays.Merge), func() {
			p.Mu.Lock()
			still := p.Running == run
			p.Mu.Unlock()
			if !still {
				return // restarted meanwhile: the next start resumes it
			}
			if err := p.Merge(); err != nil {
				p.Show("The merge failed: %v", err)
			}
		})
	}
}

// genericRamdisk is what a boot image without a ramdisk starts with: the one
// of init_boot and the manufacturer's of vendor_boot.
func (p *Starter) genericRamdisk(slot string) (*boot.Ramdisk, error) {
	name := p.On("init_boot", slot)
	_, rd, err := p.BootPart(name)
	if err != nil {
		return nil, err
	}
	if d := ident.DeviceOf(rd.Props); d != "" && !p.Model.Is(d) {
		return nil, fmt.Errorf("%s is made for %s and hangs on this board", name, d)
	}
	if _, err := p.fragment(slot, boot.FragmentPlatform); err != nil {
		return nil, device.Loops("the kernel finds no modules and no table of mounts: %w", err)
	}
	return rd, nil
}

func (p *Starter) radioFits(slot, least string) error {
	if _, has := p.Store.Slots["radio"]; !has {
		return nil
	}
	v, ok := p.Radio(slot)
	if !ok {
		return device.Loops("the radio firmware on slot %s does not start", slot)
	}
	if least != "" && card.CompareVersions(v, least) < 0 {
		return device.Loops("the system wants radio firmware %s, slot %s has %s", least, slot, v)
	}
	return nil
}

// overlaysFit makes sure that the manufacturer's overlays find what they lie over: a
// generic system has none of it and restarts over and over.
func (p *Starter) overlaysFit(slot string, props map[string]string) error {
	if _, has := p.Store.Slots["vendor"]; !has || props["ro.product.device"] != "generic" {
		return nil
	}
	f, err := p.Store.Mount(p.On("vendor", slot))
	if err != nil {
		return err
	}
	defer f.Close()
	if list, err := f.List("overlay"); err == nil && len(list) > 0 {
		return device.Loops("the overlay %s of the vendor partition names what a generic system does "+
			"not have",
			list[0])
	}
	return nil
}

// restoreRecovery is what the manufacturer's system does at each start: the manufacturer's
// recovery is written again when another one is there.
func (p *Starter) restoreRecovery() error {
	want, err := scenario.Recovery(scenario.StockRecovery, p.Spec.Phone(p.Model))
	if err != nil {
		return err
	}
	home := p.Model.RecoveryPartition()
	have, err := p.Store.Head(home, int64(len(want)))
	if err != nil || bytes.Equal(have, want) {
		return err
	}
	p.Options.Log("the system puts the maker's recovery back")
	return p.Store.Put(home, want, 0)
}
