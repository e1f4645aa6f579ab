package wire

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"jarlid/internal/core/finding"
	"jarlid/internal/link"
	"jarlid/internal/link/serial"
	"jarlid/internal/link/usb"
)

// serialScheme is the scheme of serial lines.
const serialScheme = "serial"

// LineAddress is the address of a serial line.
func LineAddress(path string) Address { return Address{Scheme: serialScheme, Place: path} }

// allLines are the serial lines of this computer; none where they can't be listed: phones are reached in
// their other modes all the same.
func (h *Host) allLines() []serial.Line {
	if h == nil || h.Ports == nil {
		return nil
	}
	list, err := h.Ports.List()
	if err != nil {
		return nil
	}
	return list
}

// Talks reports whether a device is a phone in a mode that takes commands: by an interface for that, or
// by numbers that a model file knows for a manufacturer's loader. Any other serial line may be anything.
func (h *Host) Talks(d usb.Device) bool {
	_, ok := d.Phone()
	return ok || h.Models.OfLoader(d.Numbers()) != nil
}

// lineOf gives the line that comes out of a device.
func (h *Host) lineOf(d usb.Device) (serial.Line, bool) {
	list := h.allLines()
	at := slices.IndexFunc(list, func(l serial.Line) bool { return d.At(l.Socket) })
	if at < 0 { // a system that does not say where its lines come from
		same := func(l serial.Line) bool {
			return l.Socket == "" && l.USB == d.Numbers() && l.Serial == d.Serial
		}
		if at = slices.IndexFunc(list, same); at >= 0 && slices.ContainsFunc(list[at+1:], same) {
			at = -1
		}
	}
	if at < 0 {
		return serial.Line{}, false
	}
	return list[at], true
}

// lineLimit is how long a line may take to be there, and this user's, behind the device it comes from.
const lineLimit = 2 * time.Second

// openSerial connects over a serial line.
func openSerial(ctx context.Context, p *Phone, a Address, _ func()) (Conn, error) {
	if p.Ports == nil {
		return nil, &NotHereError{Name: p.Name, Text: "there are no serial lines here"}
	}
	s, err := p.Ports.Open(a.Place)
	if err != nil {
		return nil, p.lineError(a, err)
	}
	return newOwnLoader(ctx, s, a)
}

// openDeviceLine connects over the line that comes out of a device. Its driver takes a moment to bring
// the line, and a rule to give this user the right to it.
func (p *Phone) openDeviceLine(ctx context.Context, a Address, d usb.Device) (Conn, error) {
	var s serial.Stream
	for end := time.Now().Add(lineLimit); ; {
		l, ok := p.lineOf(d)
		err := serial.ErrNone
		if ok {
			s, err = p.Ports.Open(l.Path)
		}
		if err == nil {
			break
		}
		known := errors.Is(err, serial.ErrNone) || errors.Is(err, serial.ErrDenied) ||
			errors.Is(err, serial.ErrBusy)
		if !known || !time.Now().Before(end) || Pause(ctx, PollEvery) != nil {
			if !ok && d.HasLine() {
				return nil, finding.Stopped(finding.NoDriver, p.Name,
					fmt.Sprintf("what is plugged in at %s shows a serial line, and this system has no "+
						"driver for that", a),
					"load the driver (on Linux: modprobe cdc_acm, as root), then pull the cable and put "+
						"it back")
			}
			return nil, p.lineError(a, err)
		}
	}
	return newOwnLoader(ctx, s, a)
}

// lineError says why a line can't be opened.
func (p *Phone) lineError(a Address, err error) error {
	switch {
	case errors.Is(err, serial.ErrBusy):
		return finding.Stopped(finding.HeldByAnother, p.Name,
			fmt.Sprintf("%s at %s is in use by another program", p.Name, a),
			"end the other program, then run the command again")
	case errors.Is(err, serial.ErrDenied):
		return finding.Stopped(finding.NoPermission, p.Name, fmt.Sprintf("this user may not use the line %s",
			a), ruleRemedy)
	case errors.Is(err, serial.ErrNone):
		return link.Lost("connecting", fmt.Errorf("there is no line %s", a.Place))
	}
	return link.Lost("connecting", err)
}
