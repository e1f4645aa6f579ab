//go:build amd64 || arm64

package usb

import (
	"bytes"
	"context"
	"os"
	"slices"
	"time"

	"golang.org/x/sys/unix"
)

const (
	// kernelEvents is the netlink group of the kernel's own events (lib/kobject_uevent.c).
	kernelEvents = 1
	// pollDevices is how often the devices are compared: always, since events get lost in
	// containers and when many come at once.
	pollDevices = 500 * time.Millisecond
)

// Watch listens to the kernel's events, and compares the devices from time to time where
// these can't be had or are lost.
func (l *Linux) Watch(ctx context.Context) <-chan struct{} {
	changed := make(chan struct{}, 1)
	tell := func() {
		select {
		case changed <- struct{}{}:
		default: // it has been told and not yet looked
		}
	}
	if f, err := events(); err == nil {
		context.AfterFunc(ctx, func() { f.Close() })
		go func() {
			buf := make([]byte, 16<<10)
			for {
				n, err := f.Read(buf)
				if err != nil && ctx.Err() != nil {
					return
				}
				if err != nil || bytes.Contains(buf[:n], []byte("\x00SUBSYSTEM=usb\x00")) {
					tell() // an error is events that were lost
				}
				if err != nil && pause(ctx, pollDevices) != nil {
					return
				}
			}
		}()
	}
	go func() {
		var last []int
		for {
			var now []int
			list, _ := l.List()
			for _, d := range list {
				now = append(now, d.Bus<<16|d.Number)
			}
			slices.Sort(now)
			if last != nil && !slices.Equal(last, now) {
				tell()
			}
			last = append([]int{0}, now...)[1:]
			if pause(ctx, pollDevices) != nil {
				return
			}
		}
	}()
	return changed
}

// events opens a socket on which the kernel tells what comes and goes.
func events() (*os.File, error) {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK,
		unix.NETLINK_KOBJECT_UEVENT)
	if err != nil {
		return nil, err
	}
	if err := unix.Bind(fd, &unix.SockaddrNetlink{Family: unix.AF_NETLINK,
		Groups: kernelEvents}); err != nil {
		unix.Close(fd)
		return nil, err
	}
	return os.NewFile(uintptr(fd), "uevents"), nil
}
