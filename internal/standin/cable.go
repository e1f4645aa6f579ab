package standin

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/link/adb"
	"jarlid/internal/link/fastboot"
	"jarlid/internal/link/usb"
	"jarlid/internal/link/usb/soft"
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
func (p *Phone) gadget(mode card.Mode) *soft.Gadget {
	g := soft.Gadget{Vendor: testVendor, Maker: "Wickerlight", Name: p.model.Title, Serial: p.st.Serial}
	switch mode {
	case card.Bootloader, card.Fastbootd:
		g.Product, g.Functions = productLoader, []soft.Function{soft.Phone(usb.ProtocolFastboot)}
	case card.Loader:
		g.Product, g.Functions = productLine, soft.Line()
		if list := p.model.Loader.USB; len(list) > 0 {
			if _, err := fmt.Sscanf(list[0], "%04x:%04x", &g.Vendor, &g.Product); err != nil {
				p.o.Log("its model file has no numbers of a loader: " + err.Error())
			}
		}
	case card.Recovery, card.Sideload:
		if !p.reachable(mode) {
			return nil
		}
		g.Serial = orElse(p.spec.ADBName, p.st.Serial)
		g.Product, g.Functions = productDebug, []soft.Function{soft.Phone(usb.ProtocolADB)}
	case card.System:
		g.Serial = orElse(p.spec.ADBName, p.st.Serial)
		g.Product, g.Functions = productFiles, []soft.Function{soft.Files()}
		if p.reachable(mode) {
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

// plug has the phone on its cable for as long as the mode lasts, and whenever the cable is in.
func (p *Phone) plug(ctx context.Context, mode card.Mode) (wait func(), err error) {
	var all sync.WaitGroup
	first := make(chan error, 1)
	if p.faulty("replug") {
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
				p.show("the cable can't be plugged in: %v", err)
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
func (p *Phone) plugged(ctx context.Context, mode card.Mode, g soft.Gadget, in func()) error {
	dev := soft.NewDevice(g)
	c := &p.cord
	c.mu.Lock()
	other, held := c.other, c.claimed
	c.other = false
	c.mu.Unlock()
	unplug, err := p.o.Cable.Plug(dev, other)
	if err != nil {
		return err
	}
	if h, ok := p.o.Cable.(soft.Holder); held && ok {
		let, err := h.Hold(dev, "another program")
		if err != nil {
			p.o.Log("the interface could not be held: " + err.Error())
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
func (p *Phone) serveLoader(ctx context.Context, dev *soft.Device) {
	for ctx.Err() == nil && !dev.IsGone() {
		p.fastboot(ctx, &loaderPort{p, dev})
	}
}

// serveLine is a manufacturer's loader on its cable: one line, whatever program has it open.
func (p *Phone) serveLine(ctx context.Context, dev *soft.Device) {
	w := soft.NewWire(dev, phoneEndpoint)
	defer context.AfterFunc(ctx, func() { _ = w.Close() })() // it never fails
	p.serveOwnLoader(ctx, &lineToUSB{w, p})
}

// lineToUSB bends what a loader sends, where a fault says so.
type lineToUSB struct {
	*soft.Wire
	p *Phone
}

func (l *lineToUSB) Write(b []byte) (int, error) { return l.p.bend(l.Wire, b) }

// loaderPort carries fastboot over a device's endpoints.
type loaderPort struct {
	p   *Phone
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
		l.p.o.Log(fmt.Sprintf("a packet came that does not fit into the %d bytes that were due", len(b)))
	}
	return n, err
}

func (l *loaderPort) ReadData(ctx context.Context, b []byte) (int, error) {
	return l.ReadPacket(ctx, b)
}

func (l *loaderPort) Close() error { return nil }

var _ fastboot.Transport = (*loaderPort)(nil)

// serveDebug is ADB on the cable, one connection after the other.
func (p *Phone) serveDebug(ctx context.Context, dev *soft.Device) {
	if mode := p.mode(); mode == card.System && !p.reachable(mode) {
		return // its files alone
	}
	var d adb.Device
	for ctx.Err() == nil && !dev.IsGone() {
		s := &debugPort{soft.NewStream(dev, phoneEndpoint, !p.spec.OldADB), p}
		p.debug(ctx, s, &d, func() { p.pull(replugAfter, false) })
		if ctx.Err() == nil {
			time.Sleep(time.Millisecond) // a broken one begins again
		}
	}
}

// debugPort bends what a phone sends, where a fault says so.
type debugPort struct {
	*soft.Stream
	p *Phone
}

func (d *debugPort) Write(b []byte) (int, error) { return d.p.bend(d.Stream, b) }

func (p *Phone) mode() card.Mode {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.st.Mode
}

// bent is what goes out in place of b when the wire goes wrong.
func (p *Phone) bent(b []byte) []byte {
	switch {
	case p.faulty("short-answer"):
		return b[:len(b)/2]
	case p.faulty("garbage"):
		bad := make([]byte, len(b))
		for i := range bad {
			bad[i] = byte(i*37) ^ 0x1b
		}
		return bad
	}
	return b
}

// bend writes what goes out in place of b, as if it were b.
func (p *Phone) bend(w io.Writer, b []byte) (int, error) {
	n, err := w.Write(p.bent(b))
	if err == nil {
		n = len(b)
	}
	return n, err
}

// pull pulls the cable, to put it back after a while; other says whether into another socket.
// 0: until a person does.
func (p *Phone) pull(back time.Duration, other bool) {
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
func (p *Phone) putBack(put chan struct{}) {
	c := &p.cord
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.out && c.put == put {
		c.out = false
		close(put)
	}
}

// onCable makes a fault that was ordered happen to the cable: at once, or when its time comes.
func (p *Phone) onCable(f Fault) {
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

// cableKeys are what a person does to the cable.
var cableKeys = []string{"cable-out", "cable-in", "cable-elsewhere"}

// handle is a person at the cable.
func (p *Phone) handle(key string) {
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
func (p *Phone) arm() {
	c := &p.cord
	c.mu.Lock()
	dev := c.dev
	c.mu.Unlock()
	p.faultMu.Lock()
	f := p.fault
	p.faultMu.Unlock()
	if dev == nil || f == nil {
		return
	}
	c.mu.Lock()
	c.from = dev.Taken()
	c.mu.Unlock()
	happens := func() {
		p.faultMu.Lock()
		mine := p.fault == f
		if mine {
			p.fault = nil
		}
		p.faultMu.Unlock()
		if mine {
			p.o.Log("fault: " + f.Kind)
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
func (p *Phone) disarm(dev *soft.Device) {
	p.cord.mu.Lock()
	sent := dev.Taken() - p.cord.from
	p.cord.mu.Unlock()
	p.faultMu.Lock()
	if p.fault != nil && slices.Contains(countedFaults, p.fault.Kind) {
		f := *p.fault
		f.After -= sent
		p.fault = &f
	}
	p.faultMu.Unlock()
}

// happen is the fault itself.
func (p *Phone) happen(f *Fault, dev *soft.Device) {
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
		p.flat()
		p.cord.mu.Lock()
		unplug := p.cord.unplug
		p.cord.mu.Unlock()
		if unplug != nil {
			unplug()
		}
	}
}
