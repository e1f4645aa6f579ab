// Package serial reaches serial lines as the system has them: a manufacturer's loader talks over one that
// comes out of its phone's USB socket, and the system's own driver holds that.
package serial

import (
	"errors"
	"io"
	"time"
)

// Errors of Open.
var (
	ErrNone   = errors.New("there is no such line")
	ErrBusy   = errors.New("the line is in use by another program")
	ErrDenied = errors.New("this user may not use the line")
)

// Line is a serial line on USB.
type Line struct {
	Path   string // as the system names it: /dev/ttyACM0, COM5
	USB    string // VENDOR:PRODUCT of its device, in small hex
	Serial string // of the device
	Socket string // the device is in, as usb.Device.Port has it; "" where that is not told
}

// Stream is an open line.
type Stream interface {
	io.ReadWriteCloser
	SetReadDeadline(time.Time) error
}

// Ports are the lines of a computer.
type Ports interface {
	// List gives those on USB.
	List() ([]Line, error)
	// Open opens any. Errors: ErrNone, ErrBusy, ErrDenied, or what the system says.
	Open(path string) (Stream, error)
}
