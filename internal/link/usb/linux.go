//go:build linux && (amd64 || arm64)

package usb

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"jarlid/internal/link"
)

// Linux is the kernel's USB: devices as sysfs shows them, usbfs to talk to them
// (Documentation/ABI/testing/sysfs-bus-usb, Documentation/driver-api/usb/usb.rst).
type Linux struct {
	Sys  string // the folder of devices, /sys/bus/usb/devices
	Dev  string // the folder of nodes, /dev/bus/usb
	Proc string // /proc, to name who holds one
}

// System gives this computer's cables.
func System() Bus {
	return &Linux{Sys: "/sys/bus/usb/devices", Dev: "/dev/bus/usb", Proc: "/proc"}
}

const (
	classHub = 0x09
	// permissionLimit is how long EACCES is no finding yet: the rights of a node come after the
	// event that announces it, when a rule has run.
	permissionLimit = 2 * time.Second
	// busyLimit is how long a claim is tried again: a program that has just ended lets go late.
	busyLimit = 500 * time.Millisecond
	openEvery = 50 * time.Millisecond
	// readMost bounds an attribute's length, in bytes; sysfs gives at most a page.
	readMost = maxDescriptors
)

// List reads sysfs. A device that vanishes meanwhile is left out; so is one that is not yet
// set up: its attributes come before its interfaces, endpoints and node.
func (l *Linux) List() ([]Device, error) {
	names, err := os.ReadDir(l.Sys)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil // a kernel without USB
	}
	if err != nil {
		return nil, err
	}
	var list []Device
	for _, e := range names {
		name := e.Name()
		if strings.Contains(name, ":") || strings.HasPrefix(name, "usb") {
			continue // an interface, or a root hub
		}
		if d, ok := l.device(name); ok {
			list = append(list, d)
		}
	}
	slices.SortFunc(list, func(a, b Device) int { return strings.Compare(a.Port, b.Port) })
	return list, nil
}

func (l *Linux) device(name string) (Device, bool) {
	dir := filepath.Join(l.Sys, name)
	text := func(attr string) string {
		b, err := readSome(filepath.Join(dir, attr))
		if err != nil {
			return ""
		}
		return strings.TrimRight(string(b), "\n")
	}
	if class, _ := strconv.ParseUint(text("bDeviceClass"), 16, 8); class == classHub {
		return Device{}, false
	}
	raw, err := readSome(filepath.Join(dir, "descriptors"))
	if err != nil {
		return Device{}, false
	}
	config, _ := strconv.ParseUint(strings.TrimSpace(text("bConfigurationValue")), 10, 8)
	d, err := ParseDescriptors(raw, byte(config))
	if err != nil {
		d.Broken = err.Error()
	}
	d.Port, d.Peer = name, l.peer(dir)
	d.Bus, _ = strconv.Atoi(text("busnum"))
	d.Number, _ = strconv.Atoi(text("devnum"))
	d.Maker, d.Name, d.Serial = Text(text("manufacturer")), Text(text("product")), Text(text("serial"))
	if speed, err := strconv.ParseFloat(text("speed"), 64); err == nil {
		d.Speed = int(speed)
	}
	if d.Bus == 0 || d.Number == 0 {
		return Device{}, false
	}
	if config == 0 {
		d.Interfaces = nil // the kernel has configured nothing: too much power asked for, or not allowed
		return d, true
	}
	for i := range d.Interfaces {
		at := fmt.Sprintf("%s/%s:%d.%d", dir, name, config, d.Interfaces[i].Number)
		if _, err := os.Stat(at); err != nil {
			return Device{}, false // it is being set up
		}
		if to, err := os.Readlink(at + "/driver"); err == nil {
			d.Interfaces[i].Driver = filepath.Base(to)
		}
	}
	if _, err := os.Stat(l.node(d)); err != nil {
		return Device{}, false
	}
	return d, true
}

// peer names the same socket on its other bus: each port of a hub has a folder of its own
// there (usbU-portN), with a link to its companion's.
func (l *Linux) peer(dir string) string {
	to, err := filepath.EvalSymlinks(filepath.Join(dir, "port", "peer"))
	if err != nil {
		return ""
	}
	hub, port, ok := strings.Cut(filepath.Base(to), "-port")
	if !ok {
		return ""
	}
	if bus, root := strings.CutPrefix(hub, "usb"); root {
		return bus + "-" + port
	}
	return hub + "." + port
}

func readSome(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b := make([]byte, 0, 4096)
	for len(b) < readMost {
		if len(b) == cap(b) {
			b = slices.Grow(b, cap(b))
		}
		n, err := f.Read(b[len(b):cap(b)])
		b = b[:len(b)+n]
		if err != nil || n == 0 {
			break
		}
	}
	return b, nil
}

func (l *Linux) node(d Device) string {
	return fmt.Sprintf("%s/%03d/%03d", l.Dev, d.Bus, d.Number)
}

// Open opens the device's node and claims the interface.
func (l *Linux) Open(ctx context.Context, d Device, i Interface) (Pipe, error) {
	if !i.usable() {
		what := "announces no pair of bulk endpoints on its interface"
		if d.Broken != "" {
			what += "; " + d.Broken
		}
		return nil, &link.ProtocolError{Protocol: "USB", What: what}
	}
	node := l.node(d)
	fd, err := l.openNode(ctx, node)
	if err != nil {
		return nil, err
	}
	for end := time.Now().Add(busyLimit); ; {
		err = claim(fd, i.Number)
		if !errors.Is(err, unix.EBUSY) || !time.Now().Before(end) || pause(ctx, openEvery) != nil {
			break
		}
	}
	if err == nil {
		var p *pipe
		if p, err = newPipe(fd, i); err == nil {
			return p, nil
		}
	}
	held := err
	if errors.Is(err, unix.EBUSY) {
		held = l.holder(fd, node, i)
	}
	unix.Close(fd)
	return nil, mapped(held)
}

func (l *Linux) openNode(ctx context.Context, node string) (int, error) {
	for end := time.Now().Add(permissionLimit); ; {
		fd, err := unix.Open(node, unix.O_RDWR|unix.O_CLOEXEC, 0)
		switch {
		case err == nil:
			return fd, nil
		case errors.Is(err, unix.EINTR):
			continue
		case !errors.Is(err, unix.EACCES) && !errors.Is(err, unix.EPERM):
			return -1, mapped(err)
		}
		if !time.Now().Before(end) {
			return -1, &PermissionError{Node: node}
		}
		if err := pause(ctx, openEvery); err != nil {
			if errors.Is(err, context.DeadlineExceeded) {
				return -1, &PermissionError{Node: node}
			}
			return -1, err
		}
	}
}

func pause(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-t.C:
		return nil
	}
}

// holder finds out who has claimed an interface: a driver of the kernel, or the program that
// has the node open, where /proc lets that be read.
func (l *Linux) holder(fd int, node string, i Interface) error {
	if driver := boundDriver(fd, i.Number); driver != "" && driver != "usbfs" {
		return &HeldError{Driver: driver}
	}
	procs, _ := filepath.Glob(l.Proc + "/[0-9]*/fd/*")
	for _, p := range procs {
		if to, err := os.Readlink(p); err != nil || to != node {
			continue
		}
		dir := filepath.Dir(filepath.Dir(p))
		pid, _ := strconv.Atoi(filepath.Base(dir))
		if pid == os.Getpid() {
			if n, _ := strconv.Atoi(filepath.Base(p)); n == fd {
				continue // what was opened just now
			}
		}
		name, _ := os.ReadFile(dir + "/comm")
		return &HeldError{Program: Text(string(name)), PID: pid}
	}
	return &HeldError{}
}

// mapped gives an errno its meaning. What the kernel tells of a device that is gone is a race:
// ESHUTDOWN or ENODEV as a rule, EPROTO from other host drivers, EILSEQ and EIO on real
// cables, ENOENT from a node that was removed.
func mapped(err error) error {
	var no unix.Errno
	if !errors.As(err, &no) {
		return err
	}
	switch no {
	case unix.ESHUTDOWN, unix.ENODEV, unix.EPROTO, unix.ENOENT, unix.EILSEQ, unix.EIO, unix.ENXIO, unix.ETIME,
		unix.ECOMM, unix.ENOSR:
		return fmt.Errorf("%w (%v)", ErrGone, no)
	case unix.EPIPE:
		return ErrStalled
	case unix.EACCES, unix.EPERM:
		return &PermissionError{Node: "the device"}
	case unix.EOVERFLOW:
		return &link.ProtocolError{Protocol: "USB", What: "sent more than was asked for"}
	}
	return fmt.Errorf("the kernel's USB: %w", no)
}
