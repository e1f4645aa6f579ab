//go:build amd64 || arm64

package usb

import (
	"context"
	"errors"
	"sync"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// The ioctls of usbfs and its structures: include/uapi/linux/usbdevice_fs.h. The numbers are
// those of the architectures that count as the generic _IOC does, amd64 and arm64 among them.
const (
	ioctlGetDriver = 0x41045508 // _IOW('U', 8, struct usbdevfs_getdriver)
	ioctlSubmit    = 0x8038550a // _IOR('U', 10, struct usbdevfs_urb)
	ioctlDiscard   = 0x0000550b // _IO('U', 11)
	ioctlReap      = 0x4008550d // _IOW('U', 13, void *): REAPURBNDELAY
	ioctlClaim     = 0x8004550f // _IOR('U', 15, unsigned int)
	ioctlRelease   = 0x80045510 // _IOR('U', 16, unsigned int)
	ioctlReset     = 0x00005514 // _IO('U', 20)
	ioctlClearHalt = 0x80045515 // _IOR('U', 21, unsigned int)

	urbBulk = 3 // USBDEVFS_URB_TYPE_BULK
)

// urb is struct usbdevfs_urb of a 64-bit kernel, without isochronous packets.
type urb struct {
	kind, endpoint       byte
	status               int32
	flags                uint32
	buffer               uintptr
	length, actual       int32
	startFrame, packets  int32
	errorCount, signalNo uint32
	context              uintptr
}

const (
	// slotSize is the largest piece of a transfer, in bytes, and slots how many of each
	// direction are in flight: together at most a MiB, since the kernel has 16 MiB for the
	// buffers of all programs (usbcore's usbfs_memory_mb).
	slotSize = 64 << 10
	slots    = 8
	// leastSlot is how small the pieces get when the kernel has no memory.
	leastSlot = 4 << 10
	// discardLimit is how long discarded pieces may take to come back.
	discardLimit = 5 * time.Second
)

// ioctl repeats what a signal interrupted: Go's own preemption signals do so all the time.
func ioctl(fd int, request uintptr, arg unsafe.Pointer) error {
	for {
		_, _, no := unix.Syscall(unix.SYS_IOCTL, uintptr(fd), request, uintptr(arg))
		switch no {
		case 0:
			return nil
		case unix.EINTR:
			continue
		}
		return no
	}
}

func claim(fd, number int) error {
	n := uint32(number)
	return ioctl(fd, ioctlClaim, unsafe.Pointer(&n))
}

// boundDriver gives the kernel driver bound to an interface; "usbfs" is a program.
func boundDriver(fd, number int) string {
	var d struct {
		number uint32
		name   [256]byte
	}
	d.number = uint32(number)
	if ioctl(fd, ioctlGetDriver, unsafe.Pointer(&d)) != nil {
		return ""
	}
	return unix.ByteSliceToString(d.name[:])
}

// pipe is a claimed interface.
type pipe struct {
	fd, wake int // wake is an eventfd that ends the reaper's wait
	i        Interface
	mem      []byte // URBs and buffers: outside Go's heap, since the kernel keeps their addresses
	in, out  lane
	slots    map[uintptr]*slot

	gone   chan struct{} // closed when the device is
	ended  chan struct{} // closed when the reaper has ended
	shut   chan struct{} // closed when the pipe is
	closed sync.Once
	rest   []byte // came in when a read was given up
}

// lane is one direction.
type lane struct {
	turn  chan struct{} // one transfer at a time
	slots []slot
	piece int // how large a piece may be now
	done  chan *slot
}

type slot struct {
	u    *urb
	buf  []byte
	lane *lane
}

func newPipe(fd int, i Interface) (*pipe, error) {
	page := unix.Getpagesize()
	mem, err := unix.Mmap(-1, 0, page+2*slots*slotSize, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_PRIVATE|
		unix.MAP_ANONYMOUS)
	if err != nil {
		return nil, err
	}
	wake, err := unix.Eventfd(0, unix.EFD_CLOEXEC|unix.EFD_NONBLOCK)
	if err != nil {
		unix.Munmap(mem)
		return nil, err
	}
	p := &pipe{fd: fd, wake: wake, i: i, mem: mem, slots: map[uintptr]*slot{}, gone: make(chan struct{}),
		ended: make(chan struct{}), shut: make(chan struct{})}
	at := page
	for k, l := range []*lane{&p.in, &p.out} {
		l.turn, l.done, l.piece, l.slots = make(chan struct{}, 1), make(chan *slot, slots), slotSize,
			make([]slot, slots)
		for n := range l.slots {
			u := (*urb)(unsafe.Pointer(&mem[(k*slots+n)*int(unsafe.Sizeof(urb{}))]))
			l.slots[n] = slot{u: u, buf: mem[at : at+slotSize : at+slotSize], lane: l}
			p.slots[uintptr(unsafe.Pointer(u))] = &l.slots[n]
			at += slotSize
		}
	}
	go p.reap()
	return p, nil
}

func (p *pipe) Packet() int { return p.i.Packet }

// reap takes finished URBs from the kernel and gives them to their lanes, until the device is
// gone or the pipe closed. usbfs tells finished ones by POLLOUT, an unplug by POLLHUP.
func (p *pipe) reap() {
	defer close(p.ended)
	fds := []unix.PollFd{{Fd: int32(p.fd), Events: unix.POLLOUT}, {Fd: int32(p.wake), Events: unix.POLLIN}}
	for {
		if _, err := unix.Poll(fds, -1); err != nil && !errors.Is(err, unix.EINTR) {
			close(p.gone)
			return
		}
		for {
			var u uintptr
			err := ioctl(p.fd, ioctlReap, unsafe.Pointer(&u))
			if err == nil {
				if s := p.slots[u]; s != nil {
					s.lane.done <- s
				}
				continue
			}
			if !errors.Is(err, unix.EAGAIN) {
				close(p.gone) // ENODEV: all that was in flight has been reaped before
				return
			}
			break
		}
		if fds[1].Revents&unix.POLLIN != 0 {
			return
		}
		if fds[0].Revents&(unix.POLLHUP|unix.POLLERR) != 0 && fds[0].Revents&unix.POLLOUT == 0 {
			close(p.gone)
			return
		}
	}
}

// submit hands a slot to the kernel. Where it has no memory pieces are halved, down to
// leastSlot; the piece that was handed over is given.
func (p *pipe) submit(s *slot, endpoint byte, b []byte, in bool) (int, error) {
	for {
		n := min(len(b), s.lane.piece)
		if !in {
			copy(s.buf, b[:n])
		}
		*s.u = urb{kind: urbBulk, endpoint: endpoint,
			buffer: uintptr(unsafe.Pointer(unsafe.SliceData(s.buf))), length: int32(n)}
		err := ioctl(p.fd, ioctlSubmit, unsafe.Pointer(s.u))
		if !errors.Is(err, unix.ENOMEM) || s.lane.piece <= leastSlot {
			return n, err
		}
		s.lane.piece /= 2
	}
}

// outcome is how a transfer went.
type outcome struct {
	n     int
	err   error
	short bool
}

// transfer moves b as one transfer, in pieces of which several are in flight. Pieces finish in
// their order.
func (p *pipe) transfer(ctx context.Context, l *lane, endpoint byte, b []byte) outcome {
	in := endpoint&endpointIn != 0
	var o outcome
	var flying, free []*slot
	for n := range l.slots {
		free = append(free, &l.slots[n])
	}
	sent := 0
	first := true // an empty transfer is one piece
	for (sent < len(b) || first || len(flying) > 0) && o.err == nil && !o.short {
		for len(free) > 0 && (sent < len(b) || first) {
			n, err := p.submit(free[0], endpoint, b[sent:], in)
			if errors.Is(err, unix.ENOMEM) && len(flying) > 0 {
				break // there is room again when one of them is done
			}
			if err != nil {
				o.err = mapped(err)
				break
			}
			flying, free = append(flying, free[0]), free[1:]
			sent, first = sent+n, false
		}
		if len(flying) == 0 || o.err != nil {
			break
		}
		select {
		case s := <-l.done:
			o.take(s, b, in)
			flying, free = flying[1:], append(free, s)
		case <-ctx.Done():
			o.err = ctx.Err()
		case <-p.shut:
			o.err = ErrGone
		case <-p.gone:
			select { // what came before it went counts
			case s := <-l.done:
				o.take(s, b, in)
				flying, free = flying[1:], append(free, s)
			default:
				o.err = ErrGone
			}
		}
	}
	for _, s := range flying {
		_ = ioctl(p.fd, ioctlDiscard, unsafe.Pointer(s.u)) // one that has finished can't be discarded
	}
	p.settle(&o, l, flying, in)
	return o
}

// settle waits for discarded pieces. What came in with them is kept in its order.
func (p *pipe) settle(o *outcome, l *lane, flying []*slot, in bool) {
	if len(flying) == 0 {
		return
	}
	limit := time.NewTimer(discardLimit)
	defer limit.Stop()
	for range flying {
		select {
		case s := <-l.done:
			if !in {
				o.n += int(s.u.actual)
				continue
			}
			p.rest = append(p.rest, s.buf[:s.u.actual]...)
		case <-p.gone:
			return
		case <-limit.C:
			o.err = ErrGone // a host driver that gives nothing back; its memory stays mapped
			return
		}
	}
}

// take accounts for a piece that is done.
func (o *outcome) take(s *slot, b []byte, in bool) {
	n := int(s.u.actual)
	if in {
		copy(b[o.n:], s.buf[:n])
	}
	o.n += n
	switch {
	case s.u.status != 0:
		o.err = mapped(unix.Errno(-s.u.status))
	case n < int(s.u.length) && !in:
		o.err = mapped(unix.EPROTO)
	case n < int(s.u.length):
		o.short = true
	}
}

// enter waits for the turn of a transfer.
func (p *pipe) enter(ctx context.Context, l *lane) error {
	select {
	case <-p.shut:
		return ErrGone
	default:
	}
	select {
	case l.turn <- struct{}{}:
		return nil
	case <-p.shut:
		return ErrGone
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (p *pipe) Read(ctx context.Context, b []byte) (int, error) {
	l := &p.in
	if err := p.enter(ctx, l); err != nil {
		return 0, err
	}
	defer func() { <-l.turn }()
	if len(p.rest) > 0 {
		n := copy(b, p.rest)
		p.rest = p.rest[n:]
		return n, nil
	}
	o := p.transfer(ctx, l, p.i.In, b)
	if o.err != nil && o.n > 0 && !errors.Is(o.err, ErrGone) {
		p.rest = append(append([]byte(nil), b[:o.n]...), p.rest...)
		o.n = 0
	}
	return o.n, o.err
}

func (p *pipe) Write(ctx context.Context, b []byte) (int, error) {
	l := &p.out
	if err := p.enter(ctx, l); err != nil {
		return 0, err
	}
	defer func() { <-l.turn }()
	o := p.transfer(ctx, l, p.i.Out, b)
	return o.n, o.err
}

func (p *pipe) ClearHalt() error {
	for _, e := range []byte{p.i.In, p.i.Out} {
		n := uint32(e)
		if err := ioctl(p.fd, ioctlClearHalt, unsafe.Pointer(&n)); err != nil {
			return mapped(err)
		}
	}
	p.rest = nil
	return nil
}

func (p *pipe) Reset() error {
	p.rest = nil
	if err := ioctl(p.fd, ioctlReset, nil); err != nil {
		return mapped(err)
	}
	return nil
}

// Close ends transfers that wait, and lets the interface and the node go.
func (p *pipe) Close() error {
	p.closed.Do(func() {
		close(p.shut)
		idle := p.take(&p.in) && p.take(&p.out)
		n := uint32(p.i.Number)
		_ = ioctl(p.fd, ioctlRelease, unsafe.Pointer(&n))
		_, _ = unix.Write(p.wake, []byte{1, 0, 0, 0, 0, 0, 0, 0})
		<-p.ended
		unix.Close(p.fd)
		unix.Close(p.wake)
		if idle {
			unix.Munmap(p.mem)
		}
	})
	return nil
}

// take keeps a lane for good; false when a transfer does not end.
func (p *pipe) take(l *lane) bool {
	limit := time.NewTimer(discardLimit)
	defer limit.Stop()
	select {
	case l.turn <- struct{}{}:
		return true
	case <-limit.C:
		return false
	}
}
