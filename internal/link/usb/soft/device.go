// Package soft is USB devices made of software: the far end of a cable. One engine keeps the
// descriptors, the control endpoint and the queues of the bulk endpoints, packet for packet as
// on a wire; it is plugged into a bus in memory (Bus), for tests, or into the running kernel
// (Kernel), which then sees a device like any other.
package soft

import (
	"context"
	"encoding/binary"
	"errors"
	"slices"
	"sync"

	"jarlid/internal/link/usb"
)

// Speeds, in Mbit/s.
const (
	Full  = 12
	High  = 480
	Super = 5000
)

// Function is one of a device's interfaces. One with an endpoint has a pair of bulk endpoints,
// In and Out, numbers from 1 to 15.
type Function struct {
	Class, SubClass, Protocol byte
	In, Out                   byte
	Notify                    byte   // an interrupt endpoint towards the computer, which nothing comes out of
	Extra                     []byte // descriptors of its class
	Name                      string
}

// Gadget is what a device says of itself.
type Gadget struct {
	Vendor, Product     uint16
	Maker, Name, Serial string
	Speed               int // Full, High or Super; 0 is High
	Functions           []Function
	// Raw is given out in place of the descriptors made from the above: the device descriptor
	// and the configuration behind it. For devices that lie.
	Raw []byte
}

// Plug is a socket that gadgets are plugged into.
type Plug interface {
	// Plug plugs the device in; other says whether into another socket than the last time.
	// The device is there until Unplug, or until unplug is called.
	Plug(d *Device, other bool) (unplug func(), err error)
}

// Holder is a Plug that can take a device's interface as another program would, until let is
// called. It waits until the device is there.
type Holder interface {
	Hold(d *Device, program string) (let func(), err error)
}

// Errors of a device's endpoints.
var (
	ErrUnplugged = errors.New("the cable is out")
	ErrOverflow  = errors.New("more came than the device asked for, and is lost")
	ErrHalted    = errors.New("the endpoint is halted")
)

// Device is a gadget while it is plugged in.
type Device struct {
	Gadget
	// Sent is told of every transfer that the computer submits on an OUT endpoint; for tests.
	Sent func(p []byte)
	// Stuck says that its halts can't be cleared.
	Stuck bool

	mu     sync.Mutex
	eps    map[byte]*endpoint
	gone   chan struct{}
	end    sync.Once
	set    chan struct{} // closed when the computer has chosen its configuration
	once   sync.Once
	out    int64 // bytes the computer has sent
	cut    int64 // after how many of them nothing more is taken; 0 never
	paused bool  // nothing is taken now
	then   func()
}

// endpoint is one bulk endpoint. The two queues meet in step.
type endpoint struct {
	in     bool
	host   []*request // transfers the computer has submitted
	far    []*request // transfers the device has begun
	halted bool
}

// request is one side's transfer. Of the side that sends, buf is what it sends; of the other,
// where it goes.
type request struct {
	buf   []byte
	n     int
	zero  bool // a packet without bytes ends it, when it ends with a full one
	done  func(n int, err error)
	ended bool
}

// NewDevice makes a device that is not yet plugged in.
func NewDevice(g Gadget) *Device {
	if g.Speed == 0 {
		g.Speed = High
	}
	d := &Device{Gadget: g, eps: map[byte]*endpoint{}, gone: make(chan struct{}), set: make(chan struct{})}
	for _, f := range g.Functions {
		if f.In != 0 {
			d.eps[f.In|0x80], d.eps[f.Out] = &endpoint{in: true}, &endpoint{}
		}
		if f.Notify != 0 {
			d.eps[f.Notify|0x80] = &endpoint{in: true}
		}
	}
	return d
}

// Packet is the largest packet of its bulk endpoints, in bytes.
func (d *Device) Packet() int {
	switch d.Speed {
	case Full:
		return 64
	case Super:
		return 1024
	}
	return 512
}

// Gone is closed when the device was unplugged.
func (d *Device) Gone() <-chan struct{} { return d.gone }

// unplugged ends every transfer.
func (d *Device) unplugged() {
	d.end.Do(func() {
		d.mu.Lock()
		var calls []func()
		for _, e := range d.eps {
			for _, r := range append(e.host, e.far...) {
				calls = append(calls, func() { r.done(r.n, ErrUnplugged) })
			}
			e.host, e.far = nil, nil
		}
		close(d.gone)
		d.mu.Unlock()
		for _, f := range calls {
			f()
		}
	})
}

// After has f called, on a goroutine of its own, once the computer has sent n further bytes, to
// the packet. Nothing more is taken then, until Resume.
func (d *Device) After(n int64, f func()) {
	d.mu.Lock()
	d.cut, d.then = d.out+max(n, 1), f
	d.mu.Unlock()
}

// Resume goes on behind After.
func (d *Device) Resume() {
	d.mu.Lock()
	d.paused = false
	var calls []func()
	for _, e := range d.eps {
		calls = append(calls, d.step(e)...)
	}
	d.mu.Unlock()
	for _, f := range calls {
		f()
	}
}

// Taken is how many bytes the computer has sent so far.
func (d *Device) Taken() int64 {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.out
}

// submit takes a transfer of the computer.
func (d *Device) submit(addr byte, r *request) {
	if addr&0x80 == 0 && d.Sent != nil {
		d.Sent(r.buf)
	}
	d.begin(addr, r, true)
}

func (d *Device) begin(addr byte, r *request, host bool) {
	d.mu.Lock()
	e := d.eps[addr]
	var calls []func()
	switch {
	case d.IsGone():
		calls = append(calls, func() { r.done(0, ErrUnplugged) })
	case e == nil || host && e.halted: // the device's own transfers wait until that is cleared
		calls = append(calls, func() { r.done(0, ErrHalted) })
	case host:
		e.host = append(e.host, r)
	default:
		e.far = append(e.far, r)
	}
	if e != nil {
		calls = append(calls, d.step(e)...)
	}
	d.mu.Unlock()
	for _, f := range calls {
		f()
	}
}

// IsGone reports whether the device was unplugged.
func (d *Device) IsGone() bool {
	select {
	case <-d.gone:
		return true
	default:
		return false
	}
}

// cancel takes a transfer back; false when it has ended already.
func (d *Device) cancel(addr byte, r *request) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	e := d.eps[addr]
	if e == nil || r.ended {
		return false
	}
	r.ended = true
	drop := func(list []*request) []*request {
		for i := range list {
			if list[i] == r {
				return append(list[:i:i], list[i+1:]...)
			}
		}
		return list
	}
	e.host, e.far = drop(e.host), drop(e.far)
	return true
}

// step moves packets from the sending side to the other, as long as both have a transfer: a
// transfer that takes ends when it is full or a packet came that is not; one that sends when
// its bytes are gone. A full packet at the end of what is sent ends nothing at the other side,
// unless a packet without bytes follows: that is where real devices wait for ever.
func (d *Device) step(e *endpoint) (calls []func()) {
	end := func(list *[]*request, err error) {
		r := (*list)[0]
		*list = (*list)[1:]
		r.ended = true
		n := r.n
		calls = append(calls, func() { r.done(n, err) })
	}
	from, to := &e.host, &e.far
	if e.in {
		from, to = to, from
	}
	packet := d.Packet()
	for len(*from) > 0 && len(*to) > 0 && !e.halted && (e.in || !d.paused) {
		s, t := (*from)[0], (*to)[0]
		left := len(s.buf) - s.n
		if !e.in && d.cut > 0 {
			// Only whole packets, up to the one the cut falls into.
			if room := (d.cut - d.out + int64(packet) - 1) / int64(packet) * int64(packet); int64(
				left) > room {
				left = int(room)
			}
		}
		// As much as goes in whole packets, or the last one, which is not full.
		n := min(left, len(t.buf)-t.n)
		last := n == len(s.buf)-s.n
		if !last {
			n = n / packet * packet
			if n == 0 && left > 0 { // a packet that does not fit into what was asked for
				s.n += min(left, packet)
				end(to, ErrOverflow)
				if s.n >= len(s.buf) {
					end(from, nil)
				}
				continue
			}
		}
		copy(t.buf[t.n:], s.buf[s.n:s.n+n])
		s.n, t.n = s.n+n, t.n+n
		if !e.in {
			d.out += int64(n)
		}
		short := last && (n%packet != 0 || len(s.buf) == 0 || s.zero && s.n == len(s.buf))
		if s.n == len(s.buf) {
			end(from, nil)
		}
		if short || t.n == len(t.buf) {
			end(to, nil)
		}
		if !e.in && d.cut > 0 && d.out >= d.cut {
			then := d.then
			d.cut, d.then, d.paused = 0, nil, true
			calls = append(calls, func() { go then() })
		}
	}
	return calls
}

type result struct {
	n   int
	err error
}

// wait does one transfer of the device's side and waits for its end.
func (d *Device) wait(ctx context.Context, addr byte, r *request) (int, error) {
	done := make(chan result, 1)
	r.done = func(n int, err error) { done <- result{n, err} }
	d.begin(addr, r, false)
	select {
	case got := <-done:
		return got.n, got.err
	case <-ctx.Done():
		if d.cancel(addr, r) {
			return r.n, ctx.Err()
		}
		got := <-done
		return got.n, got.err
	}
}

// Recv waits for a transfer of at most len(p) bytes on OUT endpoint n: it ends when p is full
// or with a packet that is not full. A packet that does not fit into what is left of p is
// ErrOverflow, and lost.
func (d *Device) Recv(ctx context.Context, n byte, p []byte) (int, error) {
	return d.wait(ctx, n&0x0f, &request{buf: p})
}

// Send sends p on IN endpoint n and waits until the computer has fetched it; zero puts a
// packet without bytes behind a full last one.
func (d *Device) Send(ctx context.Context, n byte, p []byte, zero bool) error {
	_, err := d.wait(ctx, n|0x80, &request{buf: p, zero: zero})
	return err
}

// Halt makes an endpoint refuse the computer's transfers until the computer clears that; the device's
// own stay where they are, as in a controller's queue.
func (d *Device) Halt(addr byte) {
	d.mu.Lock()
	var calls []func()
	if e := d.eps[addr]; e != nil {
		e.halted = true
		for _, r := range e.host {
			r.ended = true
			calls = append(calls, func() { r.done(r.n, ErrHalted) })
		}
		e.host = nil
	}
	d.mu.Unlock()
	for _, f := range calls {
		f()
	}
}

// clearHalt lets an endpoint go on.
func (d *Device) clearHalt(addr byte) {
	d.mu.Lock()
	var calls []func()
	if e := d.eps[addr]; e != nil && !d.Stuck {
		e.halted = false
		calls = d.step(e)
	}
	d.mu.Unlock()
	for _, f := range calls {
		f()
	}
}

// Descriptors gives the device descriptor and the configuration behind it (USB 2.0, 9.6).
func (d *Device) Descriptors() []byte {
	if d.Raw != nil {
		return d.Raw
	}
	return append(d.deviceDescriptor(), d.configDescriptor()...)
}

func (d *Device) deviceDescriptor() []byte {
	version, packet := uint16(0x0200), byte(64)
	if d.Speed == Super {
		version, packet = 0x0300, 9 // 2 to the power of 9
	}
	b := []byte{18, 1, 0, 0, 0, 0, 0, packet}
	binary.LittleEndian.PutUint16(b[2:], version)
	b = binary.LittleEndian.AppendUint16(b, d.Vendor)
	b = binary.LittleEndian.AppendUint16(b, d.Product)
	return append(b, 0, 1, 1, 2, 3, 1)
}

func (d *Device) configDescriptor() []byte {
	power := byte(250) // 500 mA, in units of 2 mA
	if d.Speed == Super {
		power = 112 // 896 mA, in units of 8 mA; above 900 mA nothing is configured
	}
	b := []byte{9, 2, 0, 0, byte(len(d.Functions)), 1, 0, 0x80, power}
	packet := d.Packet()
	for i, f := range d.Functions {
		var ends [][]byte
		if f.Notify != 0 {
			ends = append(ends, []byte{7, 5, f.Notify | 0x80, 3, 16, 0, 9}) // 16 bytes, every 32 ms
		}
		if f.In != 0 {
			for _, a := range []byte{f.In | 0x80, f.Out} {
				ends = append(ends, []byte{7, 5, a, 2, byte(packet), byte(packet >> 8), 0})
			}
		}
		b = append(b, 9, 4, byte(i), 0, byte(len(ends)), f.Class, f.SubClass, f.Protocol, byte(4+i))
		b = append(b, f.Extra...)
		for _, e := range ends {
			b = append(b, e...)
			if burst := e[3] == 2; d.Speed == Super && burst {
				b = append(b, 6, 0x30, 15, 0, 0, 0)
			} else if d.Speed == Super {
				b = append(b, 6, 0x30, 0, 0, 16, 0)
			}
		}
	}
	binary.LittleEndian.PutUint16(b[2:], uint16(len(b)))
	return b
}

// text gives string descriptor i; nil for none.
func (d *Device) text(i int) []byte {
	list := []string{"", d.Maker, d.Name, d.Serial}
	for _, f := range d.Functions {
		list = append(list, f.Name)
	}
	if i == 0 {
		return []byte{4, 3, 9, 4} // English
	}
	if i >= len(list) || list[i] == "" {
		return nil
	}
	b := []byte{0, 3}
	for _, r := range list[i] {
		if len(b) < 254 {
			b = append(b, byte(r), byte(r>>8))
		}
	}
	b[0] = byte(len(b))
	return b
}

// control answers a request on endpoint 0; false stalls it. Requests: USB 2.0, 9.4.
func (d *Device) control(setup []byte) ([]byte, bool) {
	kind, req, length := setup[0], setup[1], int(binary.LittleEndian.Uint16(setup[6:]))
	value, index := binary.LittleEndian.Uint16(setup[2:]), binary.LittleEndian.Uint16(setup[4:])
	cut := func(b []byte) ([]byte, bool) { return b[:min(length, len(b))], b != nil }
	switch {
	case kind == 0x80 && req == 6: // GET_DESCRIPTOR
		all := d.Descriptors()
		switch value >> 8 {
		case 1:
			return cut(all[:min(18, len(all))])
		case 2:
			return cut(all[min(18, len(all)):])
		case 3:
			return cut(d.text(int(value & 0xff)))
		case 15: // BOS, with the SuperSpeed capability
			if d.Speed == Super {
				return cut([]byte{5, 15, 15, 0, 1, 10, 16, 3, 0, 0x0e, 0, 3, 10, 0xff, 7})
			}
		}
	case kind == 0 && req == 9 && value != 0: // SET_CONFIGURATION
		d.once.Do(func() { close(d.set) })
		return nil, true
	case kind == 0 && (req == 9 || req == 5), kind == 1 && req == 11:
		// SET_CONFIGURATION, SET_ADDRESS, SET_INTERFACE
		return nil, true
	case kind&0x9f == 0x80 && req == 0: // GET_STATUS
		return cut([]byte{0, 0})
	case kind == 0x21 && (req == 0x20 || req == 0x22 || req == 0x23) && d.hasLine():
		// SET_LINE_CODING, SET_CONTROL_LINE_STATE, SEND_BREAK (PSTN120, 6.3)
		return nil, true
	case kind == 0xa1 && req == 0x21 && d.hasLine():
		// GET_LINE_CODING: 115200 bits a second, eight of them in a byte
		return cut([]byte{0, 0xc2, 1, 0, 0, 0, 8})
	case kind == 2 && req == 1: // CLEAR_FEATURE of an endpoint
		d.clearHalt(byte(index))
		return nil, true
	case kind == 0 && (req == 1 || req == 3), req == 0x30, req == 0x31: // features, SET_SEL, SET_ISOCH_DELAY
		return nil, true
	}
	return nil, false
}

// Phone is the function a phone's fastboot or ADB talks through.
func Phone(protocol byte) Function {
	name := map[byte]string{usb.ProtocolADB: "ADB", usb.ProtocolFastboot: "fastboot"}[protocol]
	return Function{Class: usb.ClassVendor, SubClass: usb.SubClassPhone, Protocol: protocol, In: 1, Out: 1,
		Name: name}
}

// Line is the functions of a serial line: its control, and its data (Communications Devices 1.2, 5.2.3,
// and its subclass for telephone networks, 5.3.1 and 5.3.2). It takes its place as interfaces 0 and 1.
func Line() []Function {
	return []Function{
		{Class: usb.ClassComm, SubClass: usb.SubClassACM, Protocol: 1, Notify: 3, Name: "serial line",
			Extra: []byte{
				5, 0x24, 0, 0x20, 1, // made by version 1.20
				5, 0x24, 1, 0, 1, // no calls
				4, 0x24, 2, 2, // what a line is set to can be asked
				5, 0x24, 6, 0, 1}}, // 0 controls 1
		{Class: usb.ClassSerialData, In: 1, Out: 1, Name: "serial line's data"},
	}
}

func (d *Device) hasLine() bool {
	return slices.ContainsFunc(d.Functions, func(f Function) bool {
		return f.Class == usb.ClassComm && f.SubClass == usb.SubClassACM
	})
}

// Files is the function of a phone that shows its files (still image class, as MTP uses it);
// its endpoints lead nowhere.
func Files() Function {
	return Function{Class: 6, SubClass: 1, Protocol: 1, In: 2, Out: 2, Name: "files"}
}
