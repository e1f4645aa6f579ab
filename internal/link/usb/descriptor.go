package usb

import (
	"encoding/binary"
	"fmt"
)

// Descriptor types and sizes, and fields within them: Universal Serial Bus Specification 2.0,
// chapter 9.6.
const (
	typeDevice    = 1
	typeConfig    = 2
	typeInterface = 4
	typeEndpoint  = 5

	sizeDevice    = 18
	sizeConfig    = 9
	sizeInterface = 9
	sizeEndpoint  = 7

	endpointIn   = 0x80
	transferMask = 0x03
	transferBulk = 0x02
	// packetMask takes the size out of wMaxPacketSize; above it are transactions per frame.
	packetMask = 0x07ff

	// maxDescriptors bounds what is read: a configuration's length has 16 bits.
	maxDescriptors = 1 << 16
)

// DescriptorError says what a device's descriptors have wrong, and where.
type DescriptorError struct {
	Offset int
	What   string
}

// Error gives both.
func (e *DescriptorError) Error() string {
	return fmt.Sprintf("its descriptors are wrong at byte %d: %s", e.Offset, e.What)
}

// ParseDescriptors reads a device descriptor and the configuration behind it that has the
// number config (0: the first), as they come from the device one behind the other. It never
// reads past a length, whatever one says. What was read before a *DescriptorError is given too.
func ParseDescriptors(b []byte, config byte) (Device, error) {
	var d Device
	if len(b) < sizeDevice || b[0] < sizeDevice || b[1] != typeDevice {
		return d, &DescriptorError{0, "there is no device descriptor"}
	}
	b = b[:min(len(b), maxDescriptors)]
	le := binary.LittleEndian
	d.Version, d.Vendor, d.Product = le.Uint16(b[2:]), le.Uint16(b[8:]), le.Uint16(b[10:])
	var cur *Interface // the one whose endpoints follow; nil for a setting that is not the first
	in := false        // within the configuration that is asked for
	for off := int(b[0]); off < len(b); {
		n := int(b[off])
		switch {
		case n < 2:
			return d, &DescriptorError{off, fmt.Sprintf("a descriptor of %d bytes", n)}
		case off+n > len(b):
			return d, &DescriptorError{off, fmt.Sprintf("a descriptor of %d bytes where %d are left", n,
				len(b)-off)}
		}
		p := b[off : off+n]
		switch p[1] {
		case typeConfig:
			if n < sizeConfig {
				return d, &DescriptorError{off, fmt.Sprintf("a configuration descriptor of %d bytes", n)}
			}
			if in {
				return d, nil // the next configuration
			}
			in, cur = config == 0 || p[5] == config, nil
		case typeInterface:
			if n < sizeInterface {
				return d, &DescriptorError{off, fmt.Sprintf("an interface descriptor of %d bytes", n)}
			}
			cur = nil
			if in && p[3] == 0 { // the first setting, which is the one that is on
				d.Interfaces = append(d.Interfaces, Interface{Number: int(p[2]), Class: p[5], SubClass: p[6],
					Protocol: p[7]})
				cur = &d.Interfaces[len(d.Interfaces)-1]
			}
		case typeEndpoint:
			if n < sizeEndpoint {
				return d, &DescriptorError{off, fmt.Sprintf("an endpoint descriptor of %d bytes", n)}
			}
			if cur != nil && p[3]&transferMask == transferBulk {
				cur.endpoint(p[2], int(le.Uint16(p[4:])&packetMask))
			}
		}
		off += n
	}
	return d, nil
}

// endpoint takes the first usable one of each direction. A phone's interface has one of each.
func (i *Interface) endpoint(addr byte, packet int) {
	if addr&0x0f == 0 || addr&0x70 != 0 || packet == 0 {
		return // endpoint 0 is the control endpoint; a packet of no bytes carries nothing
	}
	if i.Packet != 0 && i.Packet != packet {
		return
	}
	switch {
	case addr&endpointIn != 0 && i.In == 0:
		i.In, i.Packet = addr, packet
	case addr&endpointIn == 0 && i.Out == 0:
		i.Out, i.Packet = addr, packet
	}
}

// usable reports whether the interface has what bytes go both ways through: bulk packets are 8 to
// 64 bytes, 512 or 1024, by speed (USB 2.0, 5.8.3; USB 3.2, 8.12.1.1).
func (i Interface) usable() bool {
	switch i.Packet {
	case 8, 16, 32, 64, 512, 1024:
		return i.In != 0 && i.Out != 0
	}
	return false
}
