// Package standin is phones made of software: the far side of the wire, with
// real storage behind it. A stand-in speaks fastboot and ADB on the loopback
// interface and does what a real phone would do with what it is sent, wrong
// orders of steps included.
package standin

import (
	"context"
	"fmt"
	"net"
	"path/filepath"
	"sync"
	"time"

	"github.com/gofrs/flock"

	"jarlid/internal/core/card"
	"jarlid/internal/core/model"
	"jarlid/internal/standin/device"
	"jarlid/internal/standin/scenario"
	"jarlid/internal/standin/wire"
)

// Phone is a running stand-in.
type Phone struct{ *wire.Ends }

// Described is the phone a model file describes, for which the scenario makes images. Errors: a file whose
// part "standin" is missing or wrong.
func Described(m *model.Model) (scenario.Phone, error) { return device.Described(m) }

// New opens the stand-in kept in o.Dir, or makes a new one there.
func New(m *model.Model, o device.Options) (*Phone, error) {
	d, err := device.Open(m, o)
	if err != nil {
		return nil, err
	}
	return &Phone{wire.New(d)}, nil
}

// Run runs the phone until ctx ends. A second one on the same folder fails.
func (p *Phone) Run(ctx context.Context) error {
	lock := flock.New(filepath.Join(p.Options.Dir, "lock"))
	ok, err := lock.TryLock()
	if err != nil {
		return err
	}
	if !ok {
		return fmt.Errorf("a stand-in is already running in %s", p.Options.Dir)
	}
	defer lock.Unlock()
	ctl, err := p.reserve(&p.State.Control, p.Options.Control)
	if err != nil {
		return err
	}
	defer ctl.Close()
	if p.Options.Cable == nil {
		at, want := &p.State.Fastboot, p.Options.Fastboot
		if p.Spec.Loader != nil {
			at, want = &p.State.Loader, p.Options.Loader
		}
		fb, err := p.reserve(at, want)
		if err != nil {
			return err
		}
		ad, err := p.reserve(&p.State.ADB, p.Options.ADB)
		fb.Close() // opened again only in the modes that listen
		if err != nil {
			return err
		}
		ad.Close()
	}
	p.Mu.Lock()
	p.Save()
	token := controlToken()
	a := device.Addresses{Serial: p.State.Serial, Fastboot: p.State.Fastboot, ADB: p.State.ADB,
		Loader:  p.State.Loader,
		Control: p.State.Control + "/" + token}
	p.Mu.Unlock()
	stopControl := p.serveControl(ctl, token)
	defer stopControl()
	ready := func() {
		if p.Options.Ready != nil {
			p.Options.Ready(a)
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
		l, err := p.Options.Net.Listen("tcp", a)
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
	t := device.Transition{To: string(p.State.Mode)}
	for {
		mode := p.Begin(t)
		if mode == card.Bootloader && p.Spec.Loader != nil {
			mode = card.Loader // where others have a bootloader to fall back to
		}
		p.Mu.Lock()
		p.State.Mode = mode
		p.Save()
		p.Mu.Unlock()
		mctx, cancel := context.WithCancel(ctx)
		wait, err := p.listen(mctx, mode)
		if err != nil {
			cancel()
			return err
		}
		p.Options.Log(fmt.Sprintf("mode: %s", device.ModeWord(mode)))
		ready()
		select {
		case <-ctx.Done():
		case t = <-p.Next:
		}
		cancel()
		wait()
		if ctx.Err() != nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(t.Delay):
		}
	}
}

// listen opens what a mode can be reached by; the result waits for its end.
func (p *Phone) listen(ctx context.Context, mode card.Mode) (wait func(), err error) {
	if p.Options.Cable != nil {
		return p.Plug(ctx, mode)
	}
	var address string
	var serve func(context.Context, net.Conn)
	switch mode {
	case card.Bootloader, card.Fastbootd:
		address, serve = p.State.Fastboot, p.ServeFastboot
	case card.Loader:
		address, serve = p.State.Loader, func(ctx context.Context, c net.Conn) { p.ServeOwnLoader(ctx, c) }
	case card.Recovery, card.Sideload, card.System:
		if !p.Reachable(mode) {
			return func() {}, nil
		}
		address, serve = p.State.ADB, p.ServeADB
	default:
		return func() {}, nil
	}
	l, err := p.Options.Net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("the stand-in can't listen on %s any more: %w", address, err)
	}
	var wg sync.WaitGroup
	stop := context.AfterFunc(ctx, func() { l.Close() })
	var packets net.PacketConn
	if mode.Def().Fastboot {
		// UDP at the same number, where it is free.
		if packets, err = p.Options.Net.ListenPacket("udp", address); err != nil {
			p.Options.Log("no fastboot over UDP: " + err.Error())
			packets = nil
		} else {
			wg.Go(func() { p.ServeUDP(ctx, packets) })
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
				serve(ctx, p.Wrap(conn))
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
