package soft

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"jarlid/internal/link/serial"
	"jarlid/internal/link/usb"
)

// Kernel plugs devices into this computer's own kernel, through its virtual host controller
// vhci_hcd over USB/IP (Documentation/usb/usbip_protocol.rst). It wants root, and the module.
type Kernel struct {
	mu   sync.Mutex
	last int // the virtual port it was plugged into, plus one
}

// vhci is the controller's folder in sysfs.
const vhci = "/sys/devices/platform/vhci_hcd.0/"

// USB/IP's commands, and the flag of a transfer that needs a packet without bytes behind it
// (usbip_protocol.rst; URB_ZERO_PACKET in linux/usb.h).
const (
	cmdSubmit = 1
	cmdUnlink = 2
	retSubmit = 3
	retUnlink = 4

	headerSize = 48
	zeroPacket = 0x40

	// mostTransfer bounds what a transfer's length may be, in bytes.
	mostTransfer = 32 << 20
	// freeLimit is how long a port takes to be free again behind an unplug.
	freeLimit = 5 * time.Second
)

// Ready reports whether devices can be plugged into the kernel; the error says what to do.
func (k *Kernel) Ready() error {
	if _, err := os.Stat(vhci + "attach"); err != nil {
		return errors.New("this kernel has no virtual USB sockets: load them as root with \"modprobe " +
			"vhci_hcd\"; they are in the kernel's package, not in every container")
	}
	f, err := os.OpenFile(vhci+"attach", os.O_WRONLY, 0)
	if err != nil {
		return errors.New("plugging a device into the kernel wants root: run it with sudo")
	}
	return f.Close()
}

// free gives the controller's free ports that fit a speed: those for SuperSpeed belong to
// another hub. A port without a device has the state 4 (VDEV_ST_NULL).
func free(super bool) ([]int, error) {
	b, err := os.ReadFile(vhci + "status")
	if err != nil {
		return nil, err
	}
	var list []int
	for l := range strings.Lines(string(b)) {
		var hub string
		var port, state int
		if n, _ := fmt.Sscanf(l, "%s %d %d", &hub, &port, &state); n == 3 && state == 4 &&
			(hub == "ss") == super {
			list = append(list, port)
		}
	}
	return list, nil
}

// Plug plugs a device in: where it was the last time, or into another socket.
func (k *Kernel) Plug(d *Device, other bool) (func(), error) {
	if err := k.Ready(); err != nil {
		return nil, err
	}
	speed := map[int]int{Full: 2, High: 3, Super: 5}[d.Speed] // enum usb_device_speed
	k.mu.Lock()
	defer k.mu.Unlock()
	var last error = errors.New("no virtual USB socket is free")
	for end := time.Now().Add(freeLimit); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		ports, err := free(d.Speed == Super)
		if err != nil {
			return nil, err
		}
		before := k.last - 1
		if i := slices.Index(ports, before); i >= 0 {
			ports = slices.Delete(ports, i, i+1)
			if !other {
				ports = slices.Insert(ports, 0, before)
			}
		} else if before >= 0 && !other {
			continue // it is about to be free again
		}
		for _, port := range ports {
			unplug, err := attach(d, port, speed)
			if err == nil {
				k.last = port + 1
				select { // it is there when the kernel has set it up
				case <-d.set:
				case <-time.After(holdLimit): // it never does so with a device that lies
				}
				return unplug, nil
			}
			last = err
		}
	}
	return nil, last
}

// holdLimit is how long a device may take to be set up by the kernel.
const holdLimit = 5 * time.Second

// Hold claims the device's interface, or opens its line, in this process.
func (k *Kernel) Hold(d *Device, _ string) (func(), error) {
	bus, ports := usb.System(), serial.System()
	for end := time.Now().Add(holdLimit); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		list, err := bus.List()
		if err != nil {
			return nil, err
		}
		for _, u := range list {
			if i, ok := u.Phone(); ok && u.Serial == d.Serial && u.Vendor == d.Vendor {
				pipe, err := bus.Open(context.Background(), u, i)
				if err != nil {
					return nil, err
				}
				return func() { pipe.Close() }, nil
			}
		}
		lines, _ := ports.List() // none yet
		for _, l := range lines {
			if d.hasLine() && l.Serial == d.Serial {
				s, err := ports.Open(l.Path)
				if err != nil {
					return nil, err
				}
				return func() { s.Close() }, nil
			}
		}
	}
	return nil, errors.New("the kernel does not show the device")
}

func attach(d *Device, port, speed int) (func(), error) {
	fds, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	for _, f := range fds {
		_ = unix.SetsockoptInt(f, unix.SOL_SOCKET, unix.SO_SNDBUF, 1<<20) // speed alone hangs on it
	}
	ours := os.NewFile(uintptr(fds[1]), "usbip")
	conn, err := net.FileConn(ours)
	ours.Close()
	if err != nil {
		unix.Close(fds[0])
		return nil, err
	}
	c := &controller{d: d, conn: conn, w: bufio.NewWriterSize(conn, 64<<10), flying: map[uint32]flight{}}
	// "port sockfd devid speed", decimal; the kernel keeps its own reference to the socket.
	err = os.WriteFile(vhci+"attach", fmt.Appendf(nil, "%d %d %d %d", port, fds[0], 1<<16|port+1, speed), 0)
	unix.Close(fds[0])
	if err != nil {
		conn.Close()
		return nil, err
	}
	go c.serve()
	return sync.OnceFunc(func() {
		// gone already where the socket broke
		_ = os.WriteFile(vhci+"detach", fmt.Appendf(nil, "%d", port), 0)
		conn.Close()
		d.unplugged()
	}), nil
}

// controller is the kernel's end: it submits transfers, and takes them back.
type controller struct {
	d    *Device
	conn net.Conn

	mu     sync.Mutex
	w      *bufio.Writer
	flying map[uint32]flight
}

type flight struct {
	addr byte
	r    *request
}

func (c *controller) serve() {
	defer c.d.unplugged()
	defer c.conn.Close()
	r := bufio.NewReaderSize(c.conn, 256<<10)
	be := binary.BigEndian
	var h [headerSize]byte
	for {
		if _, err := io.ReadFull(r, h[:]); err != nil {
			return
		}
		seq, out, addr := be.Uint32(h[4:]), be.Uint32(h[12:]) == 0, byte(be.Uint32(h[16:]))
		switch be.Uint32(h[:]) {
		case cmdSubmit:
			flags, n := be.Uint32(h[20:]), be.Uint32(h[24:])
			if n > mostTransfer {
				return
			}
			buf := make([]byte, n)
			if out {
				if _, err := io.ReadFull(r, buf); err != nil {
					return
				}
			}
			c.submit(seq, out, addr, flags, buf, h[40:48])
		case cmdUnlink:
			c.unlink(seq, be.Uint32(h[20:]))
		default:
			return
		}
	}
}

func (c *controller) submit(seq uint32, out bool, addr byte, flags uint32, buf, setup []byte) {
	if addr == 0 {
		data, ok := c.d.control(setup)
		if !ok {
			c.answer(seq, nil, 0, unix.EPIPE)
			return
		}
		n := len(data)
		if out {
			data, n = nil, len(buf)
		}
		c.answer(seq, data, n, 0)
		return
	}
	if !out {
		addr |= 0x80
	}
	req := &request{buf: buf, zero: out && flags&zeroPacket != 0}
	req.done = func(n int, err error) {
		c.mu.Lock()
		delete(c.flying, seq)
		c.mu.Unlock()
		var data []byte
		if !out {
			data = buf[:n]
		}
		c.answer(seq, data, n, errno(err))
	}
	c.mu.Lock()
	c.flying[seq] = flight{addr, req}
	c.mu.Unlock()
	c.d.submit(addr, req)
}

func errno(err error) unix.Errno {
	switch {
	case err == nil:
		return 0
	case errors.Is(err, ErrHalted):
		return unix.EPIPE
	case errors.Is(err, ErrOverflow):
		return unix.EOVERFLOW
	}
	return unix.ESHUTDOWN
}

// answer sends RET_SUBMIT.
func (c *controller) answer(seq uint32, data []byte, n int, no unix.Errno) {
	var h [headerSize]byte
	be := binary.BigEndian
	be.PutUint32(h[:], retSubmit)
	be.PutUint32(h[4:], seq)
	be.PutUint32(h[20:], uint32(-int32(no)))
	be.PutUint32(h[24:], uint32(n))
	c.send(h[:], data)
}

// send: what can't be sent means that the socket is closed, which serve notices.
func (c *controller) send(h, data []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	_, _ = c.w.Write(h)
	_, _ = c.w.Write(data)
	_ = c.w.Flush()
}

// unlink takes a transfer back: -ECONNRESET when it was still under way, 0 when it had ended.
func (c *controller) unlink(seq, victim uint32) {
	c.mu.Lock()
	f, there := c.flying[victim]
	c.mu.Unlock()
	no := unix.Errno(0)
	if there && c.d.cancel(f.addr, f.r) {
		no = unix.ECONNRESET
		c.mu.Lock()
		delete(c.flying, victim)
		c.mu.Unlock()
	}
	var h [headerSize]byte
	be := binary.BigEndian
	be.PutUint32(h[:], retUnlink)
	be.PutUint32(h[4:], seq)
	be.PutUint32(h[20:], uint32(-int32(no)))
	c.send(h[:], nil)
}
