package soft

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"jarlid/internal/link"
	"jarlid/internal/link/serial"
	"jarlid/internal/link/usb"
)

// Wire is a device's pair of endpoints as its side of a serial line: bytes without beginning or end.
type Wire struct {
	d    *Device
	n    byte
	buf  []byte
	rest []byte
	rd   *link.Deadline
	ctx  context.Context
	end  context.CancelFunc
}

// NewWire makes one of endpoints n.
func NewWire(d *Device, n byte) *Wire {
	w := &Wire{d: d, n: n, buf: make([]byte, d.Packet()), rd: link.NewDeadline()}
	w.ctx, w.end = context.WithCancel(context.Background())
	return w
}

// Read takes what a packet brings: the computer does not say where its transfers end.
func (w *Wire) Read(b []byte) (int, error) {
	if len(w.rest) == 0 {
		ctx, done := w.rd.Context()
		stop := context.AfterFunc(w.ctx, done)
		n, err := w.d.Recv(ctx, w.n, w.buf)
		stop()
		done()
		if err != nil {
			return 0, w.ended(err)
		}
		w.rest = w.buf[:n]
	}
	n := copy(b, w.rest)
	w.rest = w.rest[n:]
	return n, nil
}

// Write waits until the computer has fetched it, which it does while somebody has the line open.
func (w *Wire) Write(b []byte) (int, error) {
	if err := w.d.Send(w.ctx, w.n, b, true); err != nil {
		return 0, w.ended(err)
	}
	return len(b), nil
}

func (w *Wire) ended(err error) error {
	switch {
	case w.ctx.Err() != nil:
		return os.ErrClosed
	case errors.Is(err, context.Canceled):
		return os.ErrDeadlineExceeded
	}
	return err
}

// SetReadDeadline bounds reads.
func (w *Wire) SetReadDeadline(t time.Time) error {
	w.rd.Set(t)
	return nil
}

// Close ends what waits; the device stays plugged in.
func (w *Wire) Close() error {
	w.end()
	return nil
}

// Ports are the serial lines of the devices on a bus in memory, as a system's driver shows them.
func (b *Bus) Ports() serial.Ports { return busPorts{b} }

type busPorts struct{ b *Bus }

// linePath is what the line in a socket is called.
func linePath(port string) string {
	return "/dev/ttyACM" + strings.NewReplacer("-", "", ".", "").Replace(port)
}

// List gives them.
func (p busPorts) List() ([]serial.Line, error) {
	list, err := p.b.List()
	if err != nil {
		return nil, err
	}
	var lines []serial.Line
	for _, d := range list {
		if d.HasLine() {
			lines = append(lines, serial.Line{Path: linePath(d.Port), USB: d.Numbers(), Serial: d.Serial,
				Socket: d.Port})
		}
	}
	return lines, nil
}

// Open opens one.
func (p busPorts) Open(path string) (serial.Stream, error) {
	list, err := p.b.List()
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(list, func(d usb.Device) bool { return d.HasLine() && linePath(d.Port) == path })
	if at < 0 {
		return nil, serial.ErrNone
	}
	data := slices.IndexFunc(list[at].Interfaces, func(i usb.Interface) bool {
		return i.Class == usb.ClassSerialData
	})
	if data < 0 {
		return nil, fmt.Errorf("the device in %s has no data behind its line", list[at].Port)
	}
	pipe, err := p.b.Open(context.Background(), list[at], list[at].Interfaces[data])
	var denied *usb.PermissionError
	var held *usb.HeldError
	switch {
	case errors.As(err, &denied):
		return nil, serial.ErrDenied
	case errors.As(err, &held):
		return nil, serial.ErrBusy
	case err != nil:
		return nil, serial.ErrNone
	}
	l := &busLine{pipe: pipe}
	l.ctx, l.end = context.WithCancel(context.Background())
	return serial.Fetched(l), nil
}

// busLine is an open line.
type busLine struct {
	pipe usb.Pipe
	ctx  context.Context
	end  context.CancelFunc
}

// Read takes what a packet brings.
func (l *busLine) Read(b []byte) (int, error) { return l.pipe.Read(l.ctx, b[:l.pipe.Packet()]) }

// Write sends bytes.
func (l *busLine) Write(b []byte) (int, error) { return l.pipe.Write(l.ctx, b) }

// Close lets the line go.
func (l *busLine) Close() error {
	l.end()
	return l.pipe.Close()
}
