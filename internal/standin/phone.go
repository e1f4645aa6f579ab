// Package standin is phones made of software: the far side of the wire, with
// real storage behind it. A stand-in speaks fastboot and ADB on the loopback
// interface and does what a real phone would do with what it is sent, wrong
// orders of steps included.
package standin

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/gofrs/flock"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image/bcb"
	"jarlid/internal/core/model"
	"jarlid/internal/host"
	"jarlid/internal/link/usb/soft"
	"jarlid/internal/standin/disk"
	"jarlid/internal/standin/scenario"
)

// Options say how a stand-in is set up.
type Options struct {
	Dir      string // where its storage and state are kept
	Fastboot string // address to listen on; "": a free port of 127.0.0.1
	ADB      string
	Loader   string // of a phone that has one instead of fastboot
	Control  string
	Locked   bool            // a new one comes with its bootloader locked
	Battery  int             // a new one's charge in percent; 0: the model's
	Serial   string          // a new one's serial number; "": the model's
	Mode     string          // the mode it comes up in; "": where it was, or the model's
	Log      func(string)    // what happens on the phone, a sentence each
	Ready    func(Addresses) // called when it can be reached
	Net      Net             // where it listens; nil: the loopback interface
	Quirks   *Quirks         // of its recoveries; nil: the model's
	Cable    soft.Plug       // where its cable ends; nil: it has none and is reached over Net
}

// Net is where stand-ins listen and are reached.
type Net interface {
	Listen(network, address string) (net.Listener, error)
	ListenPacket(network, address string) (net.PacketConn, error)
	DialContext(ctx context.Context, network, address string) (net.Conn, error)
}

// Loopback is the computer's own network.
type Loopback struct{ net.Dialer }

// Listen listens.
func (*Loopback) Listen(network, address string) (net.Listener, error) {
	return net.Listen(network, address)
}

// ListenPacket listens for datagrams.
func (*Loopback) ListenPacket(network, address string) (net.PacketConn, error) {
	return net.ListenPacket(network, address)
}

// Addresses are where a running stand-in is reached.
type Addresses struct {
	Serial, Fastboot, ADB, Loader, Control string
}

// At are the addresses of its modes, as they are typed.
func (a Addresses) At() []string {
	if a.Loader != "" {
		return []string{"loader:" + a.Loader, "adb:" + a.ADB}
	}
	return []string{"tcp:" + a.Fastboot, "adb:" + a.ADB}
}

// state is what of the phone is not in its partitions.
type state struct {
	Serial   string    `json:"serial"`
	Unlocked bool      `json:"unlocked"`
	Percent  int       `json:"battery_percent"`
	Mode     card.Mode `json:"mode"`
	Started  string    `json:"started_slot"` // of the running system or recovery
	Fastboot string    `json:"fastboot"`
	ADB      string    `json:"adb"`
	Loader   string    `json:"loader,omitempty"`
	Control  string    `json:"control"`

	Owner     bool                 `json:"owner"`      // accounts were signed in when the data was last there
	MayUnlock bool                 `json:"may_unlock"` // allowed in the developer settings
	Snapshot  string               `json:"snapshot"`   // none, snapshotted, merging
	Cows      map[string]disk.Span `json:"cows,omitempty"`
	Rollback  map[uint32]uint64    `json:"rollback,omitempty"` // by location
}

// Phone is a running stand-in.
type Phone struct {
	model *model.Model
	spec  *spec
	o     Options
	store *disk.Disk

	mu     sync.Mutex
	st     state
	screen []string // what the display shows, the newest last
	menu   string   // the submenu that is open in the recovery
	run    *running // the recovery or system that runs
	ask    *question
	// Of one with a loader: whether its battery is out, and whether it asks about its loader.
	noBattery, asksLoader bool
	loaderLine            io.Closer     // what a manufacturer's loader talks over
	loaderTurn            chan struct{} // held while it does

	// faultMu is one of its own: cables count while the phone is held.
	faultMu sync.Mutex
	fault   *Fault // what goes wrong next

	cord cord

	next chan transition // what to start now
}

// transition is what ends a mode.
type transition struct {
	// "start": by misc; "bootloader", "recovery": by keys; or a card.Mode within a recovery
	to    string
	delay time.Duration // how long it takes
	image []byte        // for "image": what was sent to be started
}

// question is one the phone's screen asks its owner.
type question struct {
	text   string
	answer chan bool
}

// New opens the stand-in kept in o.Dir, or makes a new one there.
func New(m *model.Model, o Options) (*Phone, error) {
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
	p := &Phone{model: m, spec: s, o: o, loaderTurn: make(chan struct{}, 1), next: make(chan transition, 1)}
	b, err := host.Read(p.statePath())
	switch {
	case errors.Is(err, fs.ErrNotExist):
		err = p.factory()
	case err == nil:
		if err = json.Unmarshal(b, &p.st); err != nil {
			err = fmt.Errorf("%s is damaged (%w); empty the folder to begin anew", p.statePath(), err)
			break
		}
		if p.store, err = disk.Open(o.Dir, s.parts(), s.Super.Partitions); err == nil && p.st.Cows != nil {
			p.store.Cows.Store(&p.st.Cows)
		}
	}
	if err != nil {
		return nil, err
	}
	p.store.Slot.Store(int32(max(p.nextSlot(), 0)))
	if o.Mode != "" {
		p.st.Mode = card.Mode(o.Mode)
	}
	return p, nil
}

func (p *Phone) statePath() string { return filepath.Join(p.o.Dir, "state.json") }

// save keeps the state; p.mu is held. A killed stand-in never leaves half a
// file.
func (p *Phone) save() {
	b, err := json.MarshalIndent(p.st, "", "  ")
	if err == nil {
		err = host.WriteWhole(p.statePath(), b, 0o644)
	}
	if err != nil {
		p.o.Log("the stand-in's state could not be kept: " + err.Error())
	}
}

// factory makes a new phone as its manufacturer ships it: slot a filled, b empty.
func (p *Phone) factory() error {
	var err error
	if p.store, err = disk.Open(p.o.Dir, p.spec.parts(), p.spec.Super.Partitions); err != nil {
		return err
	}
	if err := p.fill(); err != nil {
		return err
	}
	misc := make([]byte, bcb.Size)
	if p.model.Slots > 1 {
		c := &bcb.Control{Suffix: "_a", Slots: []bcb.Slot{{Priority: bcb.MaxPriority, TriesLeft: bcb.MaxTries,
			Successful: true}, {}}}
		if err := c.Put(misc); err != nil {
			return err
		}
	}
	if err := p.store.Put("misc", misc, 0); err != nil {
		return err
	}
	p.st = state{Serial: orElse(p.o.Serial, p.spec.Serial), MayUnlock: true, Unlocked: !p.o.Locked,
		Percent: p.spec.Battery.Percent, Mode: card.Mode(p.spec.Start), Snapshot: snapNone}
	if p.spec.Rollback {
		p.st.Rollback = map[uint32]uint64{0: scenario.Stock.Rollback}
	}
	if p.o.Battery > 0 {
		p.st.Percent = p.o.Battery
	}
	// The owner has used it: data is there, encrypted by the stock system,
	// debugging switched on.
	if err := p.formatData(); err != nil {
		return err
	}
	v, key := &vault{Brand: scenario.Stock.Brand}, []byte(nil)
	if !p.spec.PlainData {
		if v, key, err = p.newVault(scenario.Stock.Brand, scenario.Stock.Patch); err != nil {
			return err
		}
	}
	v.Debugging, v.Setup = true, true
	if err := p.saveVault(v, key); err != nil {
		return err
	}
	p.save()
	return nil
}

// fill writes the manufacturer's images to slot a; slot b stays empty, but for the
// radio firmware, which a manufacturer puts on both.
func (p *Phone) fill() error {
	set, err := scenario.Images(scenario.Stock, p.spec.phone(p.model))
	if err != nil {
		return err
	}
	if p.store.Has("super") {
		sizes := map[string]int64{}
		for _, name := range p.spec.Super.Partitions {
			sizes[name] = int64(len(set[name]))
		}
		if err := setSuper(p.store, p.newSuper(sizes), -1); err != nil {
			return err
		}
	}
	for name, b := range set {
		names := p.store.Names(name)
		if name != "radio" {
			names = names[:1]
		}
		for _, n := range names {
			if !p.logical(n) && p.store.Sizes[n] < int64(len(b)) {
				continue // a model file of one's own may lack it, or have it smaller
			}
			if err := p.store.Put(n, b, 0); err != nil {
				return err
			}
		}
	}
	return nil
}

// Run runs the phone until ctx ends. A second one on the same folder fails.
func (p *Phone) Run(ctx context.Context) error {
	lock := flock.New(filepath.Join(p.o.Dir, "lock"))
	ok, err := lock.TryLock()
	if err != nil {
		return err
	}
	if !ok {
		return fmt.Errorf("a stand-in is already running in %s", p.o.Dir)
	}
	defer lock.Unlock()
	ctl, err := p.reserve(&p.st.Control, p.o.Control)
	if err != nil {
		return err
	}
	defer ctl.Close()
	if p.o.Cable == nil {
		at, want := &p.st.Fastboot, p.o.Fastboot
		if p.spec.Loader != nil {
			at, want = &p.st.Loader, p.o.Loader
		}
		fb, err := p.reserve(at, want)
		if err != nil {
			return err
		}
		ad, err := p.reserve(&p.st.ADB, p.o.ADB)
		fb.Close() // opened again only in the modes that listen
		if err != nil {
			return err
		}
		ad.Close()
	}
	p.mu.Lock()
	p.save()
	token := controlToken()
	a := Addresses{Serial: p.st.Serial, Fastboot: p.st.Fastboot, ADB: p.st.ADB, Loader: p.st.Loader,
		Control: p.st.Control + "/" + token}
	p.mu.Unlock()
	stopControl := p.serveControl(ctl, token)
	defer stopControl()
	ready := func() {
		if p.o.Ready != nil {
			p.o.Ready(a)
		}
	}
	return p.loop(ctx, sync.OnceFunc(ready))
}

// reserve listens on the wanted address, else where it listened before, else
// on a free port. Only loopback addresses are taken.
func (p *Phone) reserve(kept *string, want string) (net.Listener, error) {
	try := []string{want}
	if want == "" {
		try = []string{*kept, "127.0.0.1:0"}
	}
	var last error
	for _, a := range try {
		if a == "" {
			continue
		}
		host, _, err := net.SplitHostPort(a)
		if err != nil {
			return nil, err
		}
		if ip := net.ParseIP(host); ip == nil || !ip.IsLoopback() {
			return nil, fmt.Errorf("a stand-in listens on loopback addresses such as 127.0.0.1 only, "+
				"not on %q", host)
		}
		l, err := p.o.Net.Listen("tcp", a)
		if err == nil {
			*kept = l.Addr().String()
			return l, nil
		}
		last = err
	}
	return nil, last
}

// loop goes from mode to mode.
func (p *Phone) loop(ctx context.Context, ready func()) error {
	// A killed stand-in comes back in the mode it was in, as a phone with an
	// empty battery does not; whoever drops the cable finds it unchanged.
	t := transition{to: string(p.st.Mode)}
	for {
		mode := p.begin(t)
		if mode == card.Bootloader && p.spec.Loader != nil {
			mode = card.Loader // where others have a bootloader to fall back to
		}
		p.mu.Lock()
		p.st.Mode = mode
		p.save()
		p.mu.Unlock()
		mctx, cancel := context.WithCancel(ctx)
		wait, err := p.listen(mctx, mode)
		if err != nil {
			cancel()
			return err
		}
		p.o.Log(fmt.Sprintf("mode: %s", modeWord(mode)))
		ready()
		select {
		case <-ctx.Done():
		case t = <-p.next:
		}
		cancel()
		wait()
		if ctx.Err() != nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(t.delay):
		}
	}
}

func modeWord(m card.Mode) string {
	if m == card.None {
		return "off"
	}
	return string(m)
}

// go on to another mode; the first wish counts.
func (p *Phone) move(to string, delay time.Duration) {
	select {
	case p.next <- transition{to: to, delay: delay}:
	default:
	}
}

// restart ends the mode and starts what misc says.
func (p *Phone) restart() { p.move("start", time.Duration(p.spec.Delays.Restart)) }

// listen opens what a mode can be reached by; the result waits for its end.
func (p *Phone) listen(ctx context.Context, mode card.Mode) (wait func(), err error) {
	if p.o.Cable != nil {
		return p.plug(ctx, mode)
	}
	var address string
	var serve func(context.Context, net.Conn)
	switch mode {
	case card.Bootloader, card.Fastbootd:
		address, serve = p.st.Fastboot, p.serveFastboot
	case card.Loader:
		address, serve = p.st.Loader, func(ctx context.Context, c net.Conn) { p.serveOwnLoader(ctx, c) }
	case card.Recovery, card.Sideload, card.System:
		if !p.reachable(mode) {
			return func() {}, nil
		}
		address, serve = p.st.ADB, p.serveADB
	default:
		return func() {}, nil
	}
	l, err := p.o.Net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("the stand-in can't listen on %s any more: %w", address, err)
	}
	var wg sync.WaitGroup
	stop := context.AfterFunc(ctx, func() { l.Close() })
	var packets net.PacketConn
	if mode.Def().Fastboot {
		// UDP at the same number, where it is free.
		if packets, err = p.o.Net.ListenPacket("udp", address); err != nil {
			p.o.Log("no fastboot over UDP: " + err.Error())
			packets = nil
		} else {
			wg.Go(func() { p.serveUDP(ctx, packets) })
		}
	}
	wg.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			one := func() {
				done := context.AfterFunc(ctx, func() { conn.Close() })
				serve(ctx, cable{conn, p})
				done()
				conn.Close()
			}
			if mode.Def().Images {
				one() // a bootloader talks to one computer at a time
			} else {
				wg.Go(one)
			}
		}
	})
	return func() {
		stop()
		l.Close()
		if packets != nil {
			packets.Close()
		}
		wg.Wait()
	}, nil
}

// show puts a line on the phone's screen.
func (p *Phone) show(format string, args ...any) {
	line := fmt.Sprintf(format, args...)
	p.mu.Lock()
	p.screen = append(p.screen, line)
	if len(p.screen) > 200 {
		p.screen = p.screen[len(p.screen)-200:]
	}
	p.mu.Unlock()
	p.o.Log("screen: " + line)
}
