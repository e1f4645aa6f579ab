package phone

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"sync/atomic"
	"time"

	"go.bug.st/serial"

	"jarlid/internal/core/finding"
	"jarlid/internal/link"
	"jarlid/internal/link/loader"
)

// serialScheme is the scheme of serial lines.
const serialScheme = "serial"

// lineSpeed is what a line is set to, in bits a second; one over USB does not care.
const lineSpeed = 115200

// Line is a serial line on USB.
type Line struct {
	Path   string // as the system names it
	USB    string // VENDOR:PRODUCT, in small hex
	Serial string // of the device
}

// lowered writes a device's numbers as model files do.
func lowered(vendor, product string) string { return strings.ToLower(vendor + ":" + product) }

// LineAddress is the address of a serial line.
func LineAddress(path string) Address { return Address{Scheme: serialScheme, Place: path} }

// openLine opens a serial line as the system has it.
func openLine(path string) (loader.Stream, error) {
	p, err := serial.Open(path, &serial.Mode{BaudRate: lineSpeed, DataBits: 8, Parity: serial.NoParity, StopBits: serial.OneStopBit})
	if err != nil {
		return nil, err
	}
	return &line{Port: p}, nil
}

// line gives a serial port deadlines. The library has a limit for each read; one that waits longer is
// made of several, so that a deadline that comes nearer meanwhile counts.
type line struct {
	serial.Port
	deadline atomic.Int64 // nanoseconds of the Unix epoch; 0: none
}

// lineEvery is how long one read waits.
const lineEvery = 100 * time.Millisecond

// SetReadDeadline bounds reads that are under way too.
func (l *line) SetReadDeadline(t time.Time) error {
	n := int64(0)
	if !t.IsZero() {
		n = max(t.UnixNano(), 1)
	}
	l.deadline.Store(n)
	return nil
}

// Read waits for bytes, until the deadline. Errors: os.ErrDeadlineExceeded.
func (l *line) Read(b []byte) (int, error) {
	for {
		wait := lineEvery
		if at := l.deadline.Load(); at != 0 {
			if wait = min(wait, time.Until(time.Unix(0, at))); wait <= 0 {
				return 0, os.ErrDeadlineExceeded
			}
		}
		if err := l.SetReadTimeout(wait); err != nil {
			return 0, err
		}
		if n, err := l.Port.Read(b); n > 0 || err != nil {
			return n, err
		}
	}
}

// lineError says why a line can't be opened.
func (p *Phone) lineError(a Address, err error) error {
	var s *serial.PortError
	code := serial.PortErrorCode(-1)
	if errors.As(err, &s) {
		code = s.Code()
	}
	switch {
	case code == serial.PortBusy:
		return finding.Stopped(finding.HeldByAnother, p.Name, fmt.Sprintf("%s at %s is in use by another program", p.Name, a), "end the other program, then run the command again")
	case code == serial.PermissionDenied, errors.Is(err, fs.ErrPermission):
		return finding.Stopped(finding.NoPermission, p.Name, fmt.Sprintf("this user may not use the line %s", a), RuleRemedy)
	}
	return link.Lost("connecting", fmt.Errorf("there is no line %s", a.Place))
}
