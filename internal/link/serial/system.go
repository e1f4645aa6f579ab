package serial

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"

	"go.bug.st/serial"
)

// speed is what a line is set to, in bits a second; one over USB does not care.
const speed = 115200

// system is this computer's lines.
type system struct{ sys string }

// System gives this computer's lines.
func System() Ports { return system{sys: "/sys"} }

// Open opens a line for this program alone.
func (system) Open(path string) (Stream, error) {
	p, err := serial.Open(path, &serial.Mode{BaudRate: speed, DataBits: 8, Parity: serial.NoParity,
		StopBits: serial.OneStopBit})
	if err != nil {
		return nil, meant(err)
	}
	return &stream{Fetched(unending{p})}, nil
}

// meant gives the library's errors their meaning.
func meant(err error) error {
	var s *serial.PortError
	code := serial.PortErrorCode(-1)
	if errors.As(err, &s) {
		code = s.Code()
	}
	switch {
	case code == serial.PortBusy:
		return ErrBusy
	case code == serial.PermissionDenied, errors.Is(err, fs.ErrPermission):
		return ErrDenied
	case code == serial.PortNotFound, code == serial.InvalidSerialPort, errors.Is(err, fs.ErrNotExist):
		return ErrNone
	}
	return fmt.Errorf("the line can't be opened: %w", err)
}

// socket gives the socket that a line's device is in, as Linux names it: the line's folder in sysfs
// leads to the device's interface, whose name is the socket's with what interface it is.
func (s system) socket(path string) string {
	dir, err := filepath.EvalSymlinks(filepath.Join(s.sys, "class", "tty", filepath.Base(path), "device"))
	if err != nil {
		return ""
	}
	for ; len(dir) > len(s.sys); dir = filepath.Dir(dir) {
		// an adapter's has a folder of its own below the interface's
		if socket, _, ok := strings.Cut(filepath.Base(dir), ":"); ok && strings.Contains(socket, "-") {
			return socket
		}
	}
	return ""
}

// stream is a line of the system's.
type stream struct{ Stream }

// unending is a port whose reads end with bytes or an error.
type unending struct{ serial.Port }

func (u unending) Read(b []byte) (int, error) {
	for {
		if n, err := u.Port.Read(b); n > 0 || err != nil {
			return n, err
		}
	}
}

// kept is how many bytes the system keeps for certain while nobody reads: a quarter of what Linux has at
// most (TTYB_DEFAULT_MEM_LIMIT of drivers/tty/tty_buffer.c, 64 KiB with what it needs itself). Its driver of
// lines on USB stops the phone too late at times, and what comes beyond is lost.
const kept = 16 << 10

// Keeps is that.
func (l *stream) Keeps() int { return kept }
