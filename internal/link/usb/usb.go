// Package usb reaches phones on a cable: which devices are plugged in, and the pair of bulk
// endpoints through which a phone's bootloader, recovery or system talks. Linux is behind it
// (sysfs and usbfs), or Windows (its device list and WinUSB); elsewhere a cable is refused by
// ErrUnsupported.
package usb

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"
)

// The interfaces a phone talks through: vendor-specific class, subclass and protocols as the
// platform's fastboot/README.md and adb/protocol notes publish them.
const (
	ClassVendor      = 0xff
	SubClassPhone    = 0x42
	ProtocolADB      = 0x01
	ProtocolFastboot = 0x03
)

// The interfaces of a serial line: communications with the abstract control model, and the data beside
// it (USB Class Definitions for Communications Devices 1.2, 4.2, 4.3 and 4.5).
const (
	ClassComm       = 0x02
	SubClassACM     = 0x02
	ClassSerialData = 0x0a
)

// ErrUnsupported says that this system's cables can't be used yet.
var ErrUnsupported = errors.New("phones on a cable work on Linux (amd64 and arm64) and Windows only; reach " +
	"this one over the network")

// ErrGone says that the device was unplugged or restarted.
var ErrGone = errors.New("the cable was pulled, or the phone restarted")

// ErrStalled says that the device halted an endpoint: it refuses to go on until that is cleared.
var ErrStalled = errors.New("the phone halted its endpoint")

// PermissionError says that this user may not use the device.
type PermissionError struct{ Node string }

// Error names the node.
func (e *PermissionError) Error() string { return "no permission to use " + e.Node }

// HeldError says that the interface is in use.
type HeldError struct {
	Program string // the program that holds it, "" when that can't be read
	PID     int    // its process, 0 when that can't be read
	Driver  string // the kernel's driver that is bound instead of a program, else ""
}

// Error says who holds it.
func (e *HeldError) Error() string { return "it is in use by " + e.Holder() }

// Holder names who holds it, in words.
func (e *HeldError) Holder() string {
	switch {
	case e.Driver != "":
		return "the kernel's driver " + e.Driver
	case e.PID > 0:
		return fmt.Sprintf("%s, process %d", e.Program, e.PID)
	}
	if e.Program != "" {
		return e.Program
	}
	return "a program of another user"
}

// NoDriverError says that Windows has no driver for a phone's interface, or another one than WinUSB.
type NoDriverError struct{ Name string }

// Error names the device.
func (e *NoDriverError) Error() string {
	return "Windows has no WinUSB driver for " + cmp.Or(e.Name, "the phone")
}

// Device is one device that is plugged in.
type Device struct {
	Port   string // the socket: bus and port path as Linux writes it, "1-4.2"
	Peer   string // the same socket on its other bus, "" when there is none
	Bus    int
	Number int // again each time it is plugged in or restarts
	Vendor uint16
	// Product is the product's number, Maker and Name are what it calls itself; texts are
	// made safe to print.
	Product     uint16
	Maker, Name string
	Serial      string
	Speed       int    // Mbit/s: 1, 12, 480, 5000 and more; 0 when it is not told
	Version     uint16 // of the USB specification it follows, binary coded decimal: 0x0210
	Interfaces  []Interface
	// Broken says what is wrong with its descriptors, "" for nothing. What could be read of
	// them is there.
	Broken string
	// NoDriver says that Windows has no driver for its phone's interface.
	NoDriver bool
	Instance string // its name in Windows' list, "" elsewhere
}

// Interface is one of a device's interfaces, in its first setting.
type Interface struct {
	Number                    int
	Class, SubClass, Protocol byte
	In, Out                   byte // addresses of the bulk endpoints, 0 for none
	Packet                    int  // the largest packet of these, in bytes
	Driver                    string
}

// Fastboot reports whether a bootloader or userspace fastboot talks through it.
func (i Interface) Fastboot() bool {
	return i.Class == ClassVendor && i.SubClass == SubClassPhone && i.Protocol == ProtocolFastboot
}

// ADB reports whether a recovery or a system talks through it.
func (i Interface) ADB() bool {
	return i.Class == ClassVendor && i.SubClass == SubClassPhone && i.Protocol == ProtocolADB
}

// IsLine reports whether it is the control of a serial line.
func (i Interface) IsLine() bool { return i.Class == ClassComm && i.SubClass == SubClassACM }

// Numbers are its vendor and product, as model files have them.
func (d Device) Numbers() string { return fmt.Sprintf("%04x:%04x", d.Vendor, d.Product) }

// HasLine reports whether the device is a serial line.
func (d Device) HasLine() bool { return slices.ContainsFunc(d.Interfaces, Interface.IsLine) }

// Phone gives the interface a phone talks through; fastboot before ADB where there are both.
func (d Device) Phone() (Interface, bool) {
	for _, is := range []func(Interface) bool{Interface.Fastboot, Interface.ADB} {
		if i := slices.IndexFunc(d.Interfaces, is); i >= 0 {
			return d.Interfaces[i], true
		}
	}
	return Interface{}, false
}

// At reports whether the device is in that socket, by either of its buses.
func (d Device) At(port string) bool { return port != "" && (d.Port == port || d.Peer == port) }

// Bus is where devices are plugged in.
type Bus interface {
	// List gives the devices that are there and set up, hubs left out, ordered by port.
	List() ([]Device, error)
	// Watch gives a channel that has something in it whenever devices came or went since it
	// was last read. It lives as long as ctx.
	Watch(ctx context.Context) <-chan struct{}
	// Open takes an interface for this program alone. Errors: *PermissionError, *HeldError,
	// ErrGone, ErrUnsupported, *link.ProtocolError of an interface without a pair of bulk
	// endpoints.
	Open(ctx context.Context, d Device, i Interface) (Pipe, error)
}

// Pipe is a pair of bulk endpoints. One reads and one writes at a time, both at once.
type Pipe interface {
	// Packet is the largest packet, in bytes: 64, 512 or 1024.
	Packet() int
	// Read waits for one transfer into p, which is a multiple of Packet long: until p is full
	// or a packet came that is not (which may be empty). With ctx it ends early; what had
	// come by then is kept for the next Read. Errors: ErrGone, ErrStalled, ctx's.
	Read(ctx context.Context, p []byte) (int, error)
	// Write sends p as one transfer, an empty one as a packet without bytes. Nothing is sent
	// behind a transfer that ends with a full packet.
	Write(ctx context.Context, p []byte) (int, error)
	// ClearHalt lets both endpoints go on after a stall.
	ClearHalt() error
	// Reset starts the device's connection again, without it leaving the bus.
	Reset() error
	Close() error
}

// longestText is how much of a device's text is kept, in letters: descriptors hold 126.
const longestText = 126

// Text makes what a device says of itself safe to print: no control or invisible letters, no
// blanks at its ends.
func Text(s string) string {
	s = strings.TrimSpace(strings.Map(func(r rune) rune {
		if r == unicode.ReplacementChar || !unicode.IsPrint(r) {
			return '?'
		}
		return r
	}, strings.TrimRight(s, "\x00\r\n ")))
	if r := []rune(s); len(r) > longestText {
		s = string(r[:longestText])
	}
	return s
}
