package wire

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/spell"
	"jarlid/internal/link/adb"
	"jarlid/internal/link/fastboot"
	"jarlid/internal/link/usb"
	"jarlid/internal/link/usb/soft"
	"jarlid/internal/standin/device"
)

// Numbers of vendor and products from the range pid.codes keeps for private tests (1209:0001
// and following).
const (
	testVendor    = 0x1209
	productLoader = 0x0001
	productDebug  = 0x0002
	productFiles  = 0x0003
	productLine   = 0x0004

	replugAfter   = time.Second            // a person puts a cable back that fell out
	detachAfter   = 100 * time.Millisecond // a phone that restarts leaves the bus a moment later
	phoneEndpoint = 1
)

// cord is what happens to a stand-in's cable.
type cord struct {
	mu      sync.Mutex
	out     bool          // a person has pulled it
	put     chan struct{} // closed when it is put back
	other   bool          // the next time into another socket
	speed   int           // of the socket
	claimed bool          // another program takes the phone's interface
	dev     *soft.Device  // while it is plugged in
	from    int64         // what the computer had sent when a fault was ordered
	unplug  func()
}

// gadget is the phone as a device in a mode; nil when it shows none. A system shows its files,
// and debugging where that is on; a recovery without a shell shows nothing.
func (p *Ends) gadget(mode card.Mode) *soft.Gadget {
	g := soft.Gadget{Vendor: testVendor, Maker: "Wickerlight", Name: p.Model.Title, Serial: p.State.Serial}
	switch mode {
	case card.Bootloader, card.Fastbootd:
		g.Product, g.Functions = productLoader, []soft.Function{soft.Phone(usb.ProtocolFastboot)}
	case card.Loader:
		g.Product, g.Functions = productLine, soft.Line()
		if list := p.Model.Loader.USB; len(list) > 0 {
			if _, err := fmt.Sscanf(list[0], "%04x:%04x", &g.Vendor, &g.Product); err != nil {
				p.Options.Log("its model file has no numbers of a loader: " + err.Error())
			}
		}
	case card.Recovery, card.Sideload:
		if !p.Reachable(mode) {
			return nil
		}
		g.Serial = device.OrElse(p.Spec.ADBName, p.State.Serial)
		g.Product, g.Functions = productDebug, []soft.Function{soft.Phone(usb.ProtocolADB)}
	case card.System:
		g.Serial = device.OrElse(p.Spec.ADBName, p.State.Serial)
		g.Product, g.Functions = productFiles, []soft.Function{soft.Files()}
		if p.Reachable(mode) {
			g.Product, g.Functions = productDebug, append(g.Functions, soft.Phone(usb.ProtocolADB))
		}
	default:
		return nil
	}
	p.cord.mu.Lock()
	g.Speed = p.cord.speed
	p.cord.mu.Unlock()
	return &g
}

// Plug has the phone on its cable for as long as the mode lasts, and whenever the cable is in.
func (p *Ends) Plug(ctx context.Context, mode card.Mode) (wait func(), err error) {
	var all sync.WaitGroup
	first := make(chan error, 1)
	if p.Faulty("replug") {
		p.pull(0, false)
	}
	all.Go(func() {
		told := func(err error) {
			select {
			case first <- err:
			default:
			}
		}
		for ctx.Err() == nil {
			g := p.gadget(mode)
			if g == nil {
				told(nil)
				<-ctx.Done()
				return
			}
			if !p.cord.isIn(ctx, func() { told(nil) }) {
				break
			}
			err := p.plugged(ctx, mode, *g, func() { told(nil) })
			told(err)
			if err != nil {
				p.Show("the cable can't be plugged in: %v", err)
				<-ctx.Done()
			}
		}
		told(nil)
	})
	return all.Wait, <-first
}

// isIn waits until the cable is in; pulled is called when that is not so.
func (c *cord) isIn(ctx context.Context, pulled func()) bool {
	c.mu.Lock()
	out, put := c.out, c.put
	c.mu.Unlock()
	if !out {
		return true
	}
	pulled()
	select {
	case <-put:
		return true
	case <-ctx.Done():
		return false
	}
}

// plugged is one time that the cable is in.
func (p *Ends) plugged(ctx context.Context, mode card.Mode, g soft.Gadget, in func()) error {
	dev := soft.NewDevice(g)
	c := &p.cord
	c.mu.Lock()
	other, held := c.other, c.claimed
	c.other = false
	c.mu.Unlock()
	unplug, err := p.Options.Cable.Plug(dev, other)
	if err != nil {
		return err
	}
	if h, ok := p.Options.Cable.(soft.Holder); held && ok {
		let, err := h.Hold(dev, "another program")
		if err != nil {
			p.Options.Log("the interface could not be held: " + err.Error())
		} else {
			defer let()
		}
	}
	c.mu.Lock()
	c.dev, c.unplug = dev, unplug
	c.mu.Unlock()
	p.arm()
	in()
	stop := context.AfterFunc(ctx, func() {
		time.Sleep(detachAfter)
		unplug()
	})
	var serving sync.WaitGroup
	serving.Go(func() {
		switch mode {
		case card.Bootloader, card.Fastbootd:
			p.serveLoader(ctx, dev)
		case card.Loader:
			p.serveLine(ctx, dev)
		default:
			p.serveDebug(ctx, dev)
		}
	})
	<-dev.Gone()
	serving.Wait()
	stop()
	p.disarm(dev)
	c.mu.Lock()
	c.dev, c.unplug = nil, nil
	c.mu.Unlock()
	return nil
}

// serveLoader is a bootloader on its cable: one session after the other, which it can't tell
// apart, since nothing tells it that a program ended.
func (p *Ends) serveLoader(ctx context.Context, dev *soft.Device) {
	for ctx.Err() == nil && !dev.IsGone() {
		p.fastboot(ctx, &loaderPort{p, dev})
	}
}

// serveLine is a manufacturer's loader on its cable: one line, whatever program has it open.
func (p *Ends) serveLine(ctx context.Context, dev *soft.Device) {
	w := soft.NewWire(dev, phoneEndpoint)
	defer context.AfterFunc(ctx, func() { _ = w.Close() })() // it never fails
	p.ServeOwnLoader(ctx, &lineToUSB{w, p})
}

// lineToUSB bends what a loader sends, where a fault says so.
type lineToUSB struct {
	*soft.Wire
	p *Ends
}

func (l *lineToUSB) Write(b []byte) (int, error) { return l.p.bend(l.Wire, b) }

// loaderPort carries fastboot over a device's endpoints.
type loaderPort struct {
	p   *Ends
	dev *soft.Device
}

func (l *loaderPort) WritePacket(ctx context.Context, b []byte) error {
	return l.dev.Send(ctx, phoneEndpoint, l.p.bent(b), false)
}

// ReadPacket reads a command, or some of the data of a download. What does not fit is lost, and
// the phone's own buffer would have been overrun.
func (l *loaderPort) ReadPacket(ctx context.Context, b []byte) (int, error) {
	n, err := l.dev.Recv(ctx, phoneEndpoint, b)
	if errors.Is(err, soft.ErrOverflow) {
		l.p.Options.Log(fmt.Sprintf("a packet came that does not fit into the %d bytes that were due",
			len(b)))
	}
	return n, err
}

func (l *loaderPort) ReadData(ctx context.Context, b []byte) (int, error) {
	return l.ReadPacket(ctx, b)
}

func (l *loaderPort) Close() error { return nil }

var _ fastboot.Transport = (*loaderPort)(nil)

// serveDebug is ADB on the cable, one connection after the other.
func (p *Ends) serveDebug(ctx context.Context, dev *soft.Device) {
	if mode := p.Mode(); mode == card.System && !p.Reachable(mode) {
		return // its files alone
	}
	var d adb.Device
	for ctx.Err() == nil && !dev.IsGone() {
		s := &debugPort{soft.NewStream(dev, phoneEndpoint, !p.Spec.OldADB), p}
		p.debug(ctx, s, &d, func() { p.pull(replugAfter, false) })
		if ctx.Err() == nil {
			time.Sleep(time.Millisecond) // a broken one begins again
		}
	}
}

// debugPort bends what a phone sends, where a fault says so.
type debugPort struct {
	*soft.Stream
	p *Ends
}

func (d *debugPort) Write(b []byte) (int, error) { return d.p.bend(d.Stream, b) }

// bent is what goes out in place of b when the wire goes wrong.
func (p *Ends) bent(b []byte) []byte {
	switch {
	case p.Faulty("short-answer"):
		return b[:len(b)/2]
	case p.Faulty("garbage"):
		bad := make([]byte, len(b))
		for i := range bad {
			bad[i] = byte(i*37) ^ 0x1b
		}
		return bad
	}
	return b
}

// bend writes what goes out in place of b, as if it were b.
func (p *Ends) bend(w io.Writer, b []byte) (int, error) {
	n, err := w.Write(p.bent(b))
	if err == nil {
		n = len(b)
	}
	return n, err
}

// pull pulls the cable, to put it back after a while; other says whether into another socket.
// 0: until a person does.
func (p *Ends) pull(back time.Duration, other bool) {
	c := &p.cord
	c.mu.Lock()
	unplug := c.unplug
	if !c.out {
		c.out, c.put = true, make(chan struct{})
	}
	c.other = c.other || other
	put := c.put
	c.mu.Unlock()
	if unplug != nil {
		unplug()
	}
	if back > 0 {
		time.AfterFunc(back, func() { p.putBack(put) })
	}
}

// putBack puts the cable back that was pulled when put was made.
func (p *Ends) putBack(put chan struct{}) {
	c := &p.cord
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.out && c.put == put {
		c.out = false
		close(put)
	}
}

// onCable makes a fault that was ordered happen to the cable: at once, or when its time comes.
func (p *Ends) onCable(f device.Fault) {
	c := &p.cord
	c.mu.Lock()
	before := [2]bool{c.claimed, c.speed != 0}
	switch f.Kind {
	case "held":
		c.claimed = true
	case "slow-link":
		c.speed = soft.Full
	case "clear":
		c.claimed, c.speed = false, 0
	}
	again := before != [2]bool{c.claimed, c.speed != 0}
	c.mu.Unlock()
	if again {
		p.pull(replugAfter, false)
	}
	p.arm()
}

// CableKeys are what a person does to the cable.
var CableKeys = []string{"cable-out", "cable-in", "cable-elsewhere"}

// Handle is a person at the cable.
func (p *Ends) Handle(key string) {
	c := &p.cord
	switch key {
	case "cable-out":
		p.pull(0, false)
	case "cable-elsewhere":
		p.pull(0, true)
	case "cable-in":
		c.mu.Lock()
		put := c.put
		c.mu.Unlock()
		p.putBack(put)
	}
}

// arm makes the fault that was ordered happen to the device that is plugged in.
func (p *Ends) arm() {
	c := &p.cord
	c.mu.Lock()
	dev := c.dev
	c.mu.Unlock()
	p.FaultMu.Lock()
	f := p.Fault
	p.FaultMu.Unlock()
	if dev == nil || f == nil {
		return
	}
	c.mu.Lock()
	c.from = dev.Taken()
	c.mu.Unlock()
	happens := func() {
		p.FaultMu.Lock()
		mine := p.Fault == f
		if mine {
			p.Fault = nil
		}
		p.FaultMu.Unlock()
		if mine {
			p.Options.Log("fault: " + f.Kind)
			p.happen(f, dev)
		}
		dev.Resume()
	}
	if slices.Contains(countedFaults, f.Kind) {
		dev.After(f.After, happens)
	}
}

// countedFaults happen to a cable once the computer has sent so many bytes.
var countedFaults = []string{"drop", "battery", "stall", "elsewhere", "halt"}

// disarm counts what was sent until the cable was out for a fault that has not happened.
func (p *Ends) disarm(dev *soft.Device) {
	p.cord.mu.Lock()
	sent := dev.Taken() - p.cord.from
	p.cord.mu.Unlock()
	p.FaultMu.Lock()
	if p.Fault != nil && slices.Contains(countedFaults, p.Fault.Kind) {
		f := *p.Fault
		f.After -= sent
		p.Fault = &f
	}
	p.FaultMu.Unlock()
}

// happen is the fault itself.
func (p *Ends) happen(f *device.Fault, dev *soft.Device) {
	switch f.Kind {
	case "drop":
		p.pull(replugAfter, false)
	case "elsewhere":
		p.pull(replugAfter, true)
	case "stall":
		time.Sleep(time.Duration(f.For) * time.Second)
	case "halt":
		dev.Halt(phoneEndpoint | 0x80)
		dev.Halt(phoneEndpoint)
	case "battery":
		p.Flat()
		p.cord.mu.Lock()
		unplug := p.cord.unplug
		p.cord.mu.Unlock()
		if unplug != nil {
			unplug()
		}
	}
}

// Order orders one.
func (p *Ends) Order(f device.Fault) error {
	at := slices.IndexFunc(device.Faults, func(k device.FaultKind) bool { return k.Name == f.Kind })
	if at < 0 {
		return fmt.Errorf("there is no fault %q%s", f.Kind, spell.NoneOf(f.Kind, device.FaultNames()))
	}
	if device.Faults[at].Cable && p.Options.Cable == nil {
		return fmt.Errorf("the fault %s wants a stand-in on a cable: standin run with --usb", f.Kind)
	}
	f.For = max(f.For, 1)
	p.FaultMu.Lock()
	p.Fault = &f
	if f.Kind == "clear" {
		p.Fault = nil
	}
	p.FaultMu.Unlock()
	if p.Options.Cable != nil {
		p.onCable(f)
	}
	return nil
}
