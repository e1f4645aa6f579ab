package usb

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Node is a device, or an interface of one with several, as Windows lists it: texts of its device
// list (SetupAPI's SPDRP_* properties).
type Node struct {
	Instance   string   // USB\VID_1209&PID_0001\SERIAL, or USB\VID_1209&PID_0001&MI_01\6&2a...
	Parent     string   // the instance it hangs on, "" where that is not told
	Compatible []string // USB\Class_ff&SubClass_42&Prot_03
	Service    string   // its driver, "" for none
	Location   []string // PCIROOT(0)#PCI(1400)#USBROOT(0)#USB(4)
	Maker      string
	Name       string
	Problem    int // the device manager's code, 0 for none
}

var (
	// numbers are a device's vendor and product, and the interface, in a node's name ("Standard USB
	// Identifiers" in Windows' documentation).
	numbers = regexp.MustCompile(
		`(?i)^USB\\VID_([0-9a-f]{4})&PID_([0-9a-f]{4})(?:&MI_([0-9a-f]{2}))?(?:&[^\\]*)?\\(.+)$`)
	// classes are what a driver could be chosen by.
	classes = regexp.MustCompile(`(?i)^USB\\Class_([0-9a-f]{2})&SubClass_([0-9a-f]{2})&Prot_([0-9a-f]{2})$`)
)

// Device reads a node: the interface it is about, and the device it belongs to. ok is false for what
// is no interface of a device, such as a hub.
func (n Node) Device() (d Device, ok bool) {
	m := numbers.FindStringSubmatch(n.Instance)
	if m == nil {
		return d, false
	}
	hex := func(s string, bits int) uint64 {
		v, _ := strconv.ParseUint(s, 16, bits) // the pattern lets hex digits through alone
		return v
	}
	d.Vendor, d.Product = uint16(hex(m[1], 16)), uint16(hex(m[2], 16))
	d.Maker, d.Name = Text(n.Maker), Text(n.Name)
	i := Interface{Number: int(hex(m[3], 8)), Driver: n.Service}
	found := false
	for _, c := range n.Compatible {
		if k := classes.FindStringSubmatch(c); k != nil {
			i.Class, i.SubClass, i.Protocol = byte(hex(k[1], 8)), byte(hex(k[2], 8)), byte(hex(k[3], 8))
			found = true
			break
		}
	}
	serial := m[4]
	if m[3] != "" { // an interface of several: the number is in the name of the whole
		serial = ""
		if p := numbers.FindStringSubmatch(n.Parent); p != nil {
			serial = p[4]
		}
	}
	if !strings.Contains(serial, "&") { // else Windows made it up
		d.Serial = Text(serial)
	}
	d.Port = n.Instance
	if at := slices.IndexFunc(n.Location, func(s string) bool {
		return strings.Contains(s, "USB")
	}); at >= 0 {
		d.Port, _, _ = strings.Cut(n.Location[at], "#USBMI(")
	}
	if !found {
		return d, n.Problem != 0
	}
	d.Interfaces = []Interface{i}
	return d, true
}
