package phone

import (
	"fmt"
	"slices"
	"strings"

	"jarlid/internal/link/usb"
	"jarlid/internal/phone/wire"
)

// USB classes that tell what a device is that is no phone in a mode that takes commands
// (usb.org, Defined Class Codes).
const (
	classStillImage = 0x06
)

var classNames = map[byte]string{0x01: "sound", 0x02: "a serial line or modem", 0x03: "keys or a mouse",
	0x05: "force feedback", 0x06: "files and pictures",
	0x07: "a printer",
	0x08: "a disk",
	0x0a: "a serial line's data",
	0x0b: "a card reader",
	0x0e: "a camera's video",
	0x0f: "health",
	0x10: "sound and video",
	0xdc: "diagnosis", 0xe0: "radio", 0xef: "several functions", 0xfe: "firmware", 0xff: "its maker's own"}

// InterfaceWords says in words what a device offers.
func InterfaceWords(d usb.Device) string {
	var list []string
	for _, i := range d.Interfaces {
		w := classNames[i.Class]
		switch {
		case i.Fastboot():
			w = "fastboot"
		case i.ADB():
			w = "ADB"
		case w == "":
			w = fmt.Sprintf("class %02x", i.Class)
		}
		if !slices.Contains(list, w) {
			list = append(list, w)
		}
	}
	if len(list) == 0 {
		return "nothing"
	}
	return strings.Join(list, ", ")
}

// NoPhone checks a device that is in no mode that takes commands: what it can be, in causes
// and words; "" for what is no phone at all. Devices with nothing but interfaces of their
// manufacturer's own count when they are fresh: many an adapter is one.
func NoPhone(d usb.Device, fresh bool) (Cause, bool) {
	c := Cause{Phone: wire.CableAddress(d).String(), Serial: d.Serial,
		Tested: []string{strings.TrimPrefix(strings.TrimPrefix(wire.DeviceWords(d),
			wire.CableAddress(d).String()),
			", ") + " shows: " + InterfaceWords(d)}}
	has := func(is func(usb.Interface) bool) bool { return slices.ContainsFunc(d.Interfaces, is) }
	onlyOwn := len(d.Interfaces) > 0 && !has(func(i usb.Interface) bool { return i.Class != usb.ClassVendor })
	switch {
	case has(func(i usb.Interface) bool { return i.Class == classStillImage }):
		c.Cause = CauseFilesOnly
		c.Text = "it shows its files and nothing else: its system runs, and debugging is off"
		c.Do = "switch debugging on in its developer settings, and answer its question about this computer"
	case d.HasLine():
		c.Cause = CauseLoader
		c.Text = "it shows a serial line: a maker's loader, or a modem; it speaks neither fastboot nor ADB"
		c.Do = fmt.Sprintf("if its loader speaks the loader protocol, or a bridge does, name it: --on %s; "+
			"else bring the phone into its recovery or system by its keys", wire.CableAddress(d))
	case len(d.Interfaces) == 0 || onlyOwn && fresh:
		c.Cause = CauseCharging
		c.Text = "it shows no interface that is known: it charges only, or is in a mode of its maker's own"
		c.Do = "wake it, choose another use of the cable on its screen, or bring it into the bootloader by " +
			"its keys; a cable without data wires shows nothing at all"
	default:
		return c, false
	}
	return c, true
}

// slowSpeed is that of a full-speed link, in Mbit/s; phones of any age do 480.
const slowSpeed = 12

// SpeedWords gives a link's speed.
func SpeedWords(mbit int) string {
	switch {
	case mbit <= 0:
		return "speed not told"
	case mbit >= 1000:
		return fmt.Sprintf("%d Gbit/s", mbit/1000)
	}
	return fmt.Sprintf("%d Mbit/s", mbit)
}
