package soft

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"jarlid/internal/link"
	"jarlid/internal/link/usb"
)

// Bus is a bus in memory: the usb.Bus of a program, and the Plug of devices, in one process. The
// zero value is ready, and safe for use by several goroutines.
type Bus struct {
	// Rate is how many bytes a pipe carries in a second; 0: as many as there are.
	Rate int64
	// Denied are ports whose devices this user has no permission for.
	Denied []string
	// Undriven are ports whose devices have no driver, as on Windows.
	Undriven []string

	mu       sync.Mutex
	numbers  int
	devices  map[string]*Device // by port
	count    map[*Device]int    // its number
	holders  map[*Device]string // by whom else
	watchers []chan struct{}
}

// ports is how many sockets the bus has.
const ports = 8

func (b *Bus) init() {
	if b.devices == nil {
		b.devices, b.count, b.holders = map[string]*Device{}, map[*Device]int{}, map[*Device]string{}
	}
}

// Plug plugs a device into the lowest free socket; other skips the one that is meant usually.
func (b *Bus) Plug(d *Device, other bool) (func(), error) {
	b.mu.Lock()
	var free []string
	for i := range ports {
		if p := fmt.Sprintf("1-%d", i+1); b.devices[p] == nil {
			free = append(free, p)
		}
	}
	b.mu.Unlock()
	if other && len(free) > 1 {
		free = free[1:]
	}
	if len(free) == 0 {
		return nil, errors.New("no socket is free")
	}
	return b.PlugAt(free[0], d), nil
}

// PlugAt plugs a device into a socket.
func (b *Bus) PlugAt(port string, d *Device) (unplug func()) {
	b.mu.Lock()
	b.init()
	b.numbers++
	b.devices[port], b.count[d] = d, b.numbers
	b.tell()
	b.mu.Unlock()
	return sync.OnceFunc(func() {
		b.mu.Lock()
		delete(b.devices, port)
		delete(b.count, d)
		b.tell()
		b.mu.Unlock()
		d.unplugged()
	})
}

// Deny has this user have no permission for the devices in these sockets from now on, whatever goes on.
func (b *Bus) Deny(sockets ...string) {
	b.mu.Lock()
	b.Denied = sockets
	b.mu.Unlock()
}

// Hold makes a device's interface be in use by another program, until let is called.
func (b *Bus) Hold(d *Device, program string) (let func(), err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.init()
	b.holders[d] = program
	return func() {
		b.mu.Lock()
		delete(b.holders, d)
		b.mu.Unlock()
	}, nil
}

func (b *Bus) tell() {
	for _, w := range b.watchers {
		select {
		case w <- struct{}{}:
		default:
		}
	}
}

// List gives the devices that are plugged in.
func (b *Bus) List() ([]usb.Device, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	var list []usb.Device
	for port, d := range b.devices {
		u, err := usb.ParseDescriptors(d.Descriptors(), 0)
		if err != nil {
			u.Broken = err.Error()
		}
		u.Port, u.Bus, u.Number, u.Speed = port, 1, b.count[d], d.Speed
		u.Maker, u.Name, u.Serial = usb.Text(d.Maker), usb.Text(d.Name), usb.Text(d.Serial)
		list = append(list, u)
	}
	slices.SortFunc(list, func(x, y usb.Device) int { return strings.Compare(x.Port, y.Port) })
	return list, nil
}

// Watch tells when devices come and go.
func (b *Bus) Watch(ctx context.Context) <-chan struct{} {
	w := make(chan struct{}, 1)
	b.mu.Lock()
	b.watchers = append(b.watchers, w)
	b.mu.Unlock()
	context.AfterFunc(ctx, func() {
		b.mu.Lock()
		b.watchers = slices.DeleteFunc(b.watchers, func(o chan struct{}) bool { return o == w })
		b.mu.Unlock()
	})
	return w
}

// Open claims an interface.
func (b *Bus) Open(_ context.Context, u usb.Device, i usb.Interface) (usb.Pipe, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	d := b.devices[u.Port]
	switch {
	case d == nil || b.count[d] != u.Number:
		return nil, usb.ErrGone
	case i.In == 0 || i.Out == 0:
		return nil, &link.ProtocolError{Protocol: "USB",
			What: "announces no pair of bulk endpoints on its interface"}
	case slices.Contains(b.Undriven, u.Port):
		return nil, &usb.NoDriverError{Name: u.Name}
	case slices.Contains(b.Denied, u.Port):
		return nil, &usb.PermissionError{Node: "the node of " + u.Port}
	case b.holders[d] != "":
		return nil, &usb.HeldError{Program: b.holders[d], PID: 1}
	}
	b.holders[d] = "this program"
	return &pipe{b: b, d: d, in: i.In, out: i.Out}, nil
}

// OpenPhone opens the first phone that is plugged in.
func (b *Bus) OpenPhone(ctx context.Context) (usb.Pipe, error) {
	list, err := b.List()
	if err != nil {
		return nil, err
	}
	for _, u := range list {
		if i, ok := u.Phone(); ok {
			return b.Open(ctx, u, i)
		}
	}
	return nil, usb.ErrGone
}

// pipe is a claimed interface of a device in memory.
type pipe struct {
	b       *Bus
	d       *Device
	in, out byte
	rest    []byte
	owed    time.Duration // bytes have cost so much time that was not waited for
	close   sync.Once
	mu      sync.Mutex
	flying  map[*request]byte
	closed  bool
}

func (p *pipe) Packet() int { return p.d.Packet() }

// transfer does one transfer of the computer's side.
func (p *pipe) transfer(ctx context.Context, addr byte, b []byte) (int, error) {
	done := make(chan result, 1)
	r := &request{buf: b, done: func(n int, err error) { done <- result{n, err} }}
	p.mu.Lock()
	if p.closed {
		p.mu.Unlock()
		return 0, usb.ErrGone
	}
	if p.flying == nil {
		p.flying = map[*request]byte{}
	}
	p.flying[r] = addr
	p.mu.Unlock()
	p.d.submit(addr, r)
	var got result
	select {
	case got = <-done:
	case <-ctx.Done():
		if p.d.cancel(addr, r) {
			got = result{r.n, ctx.Err()}
		} else {
			got = <-done
		}
	}
	p.mu.Lock()
	delete(p.flying, r)
	p.mu.Unlock()
	switch {
	case errors.Is(got.err, ErrUnplugged):
		got.err = usb.ErrGone
	case errors.Is(got.err, ErrHalted):
		got.err = usb.ErrStalled
	case errors.Is(got.err, ErrOverflow):
		got.err = &link.ProtocolError{Protocol: "USB", What: "sent more than was asked for"}
	}
	return got.n, got.err
}

// pay waits for the time that bytes cost.
func (p *pipe) pay(n int) {
	if p.b.Rate <= 0 {
		return
	}
	p.mu.Lock()
	p.owed += time.Duration(int64(n) * int64(time.Second) / p.b.Rate)
	owed := p.owed
	if owed >= time.Millisecond {
		p.owed = 0
	}
	p.mu.Unlock()
	if owed >= time.Millisecond {
		time.Sleep(owed)
	}
}

func (p *pipe) Read(ctx context.Context, b []byte) (int, error) {
	if len(p.rest) > 0 {
		n := copy(b, p.rest)
		p.rest = p.rest[n:]
		return n, nil
	}
	n, err := p.transfer(ctx, p.in, b)
	if err != nil && n > 0 && !errors.Is(err, usb.ErrGone) {
		p.rest, n = append([]byte(nil), b[:n]...), 0
	}
	p.pay(n)
	return n, err
}

func (p *pipe) Write(ctx context.Context, b []byte) (int, error) {
	n, err := p.transfer(ctx, p.out, b)
	p.pay(n)
	return n, err
}

func (p *pipe) ClearHalt() error {
	p.rest = nil
	for _, a := range []byte{p.in, p.out} {
		p.d.clearHalt(a)
	}
	return nil
}

// Reset drops what is under way, as a reset of the bus does.
func (p *pipe) Reset() error { return p.ClearHalt() }

func (p *pipe) Close() error {
	p.close.Do(func() {
		p.mu.Lock()
		p.closed = true
		list := maps.Clone(p.flying)
		p.mu.Unlock()
		for r, addr := range list {
			if p.d.cancel(addr, r) {
				r.done(r.n, ErrUnplugged)
			}
		}
		p.b.mu.Lock()
		delete(p.b.holders, p.d)
		p.b.mu.Unlock()
	})
	return nil
}
