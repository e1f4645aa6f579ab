package usb

import "testing"

// TestNodes: devices as Windows lists them; the names are of the form its documentation of USB
// identifiers gives.
func TestNodes(t *testing.T) {
	fast, adb := []string{`USB\Class_ff&SubClass_42&Prot_03`, `USB\Class_ff&SubClass_42`, `USB\Class_ff`},
		[]string{`USB\COMPAT_VID_1209`, `USB\Class_FF&SubClass_42&Prot_01`}
	at := []string{`PCIROOT(0)#PCI(1400)#USBROOT(0)#USB(4)#USBMI(1)`, `ACPI(_SB_)#ACPI(PCI0)`}
	for name, c := range map[string]struct {
		n              Node
		ok             bool
		serial, port   string
		fastboot, adb  bool
		number, vendor int
	}{
		"a bootloader": {Node{Instance: `USB\VID_1209&PID_0001\WL-DU-0007`, Compatible: fast,
			Location: at[:1],
			Service:  "WINUSB"}, true, "WL-DU-0007", `PCIROOT(0)#PCI(1400)#USBROOT(0)#USB(4)`, true, false,
			0, 0x1209},
		"one of several": {Node{Instance: `USB\VID_1209&PID_0002&MI_01\6&2a1b&0&0001`,
			Parent:     `USB\VID_1209&PID_0002\WL-DU-0007`,
			Compatible: adb,
			Location:   at}, true, "WL-DU-0007", `PCIROOT(0)#PCI(1400)#USBROOT(0)#USB(4)`, false, true,
			1, 0x1209},
		"without a number": {Node{Instance: `usb\vid_1209&pid_0001\5&1f&0&4`, Compatible: fast}, true,
			"", `usb\vid_1209&pid_0001\5&1f&0&4`, true, false, 0, 0x1209},
		"with a revision": {Node{Instance: `USB\VID_1209&PID_0001&REV_0100\X1`, Compatible: fast}, true,
			"X1", `USB\VID_1209&PID_0001&REV_0100\X1`, true, false, 0, 0x1209},
		"a hub": {Node{Instance: `USB\ROOT_HUB30\4&1&0&0`}, false, "", "", false,
			false, 0, 0},
		"a device of its class": {Node{Instance: `USB\VID_1209&PID_0003\1`}, false, "", "", false, false, 0,
			0},
		"a number that lies": {Node{Instance: "USB\\VID_1209&PID_0001\\a\x1b[2J", Compatible: fast}, true,
			"a?[2J", "USB\\VID_1209&PID_0001\\a\x1b[2J", true, false, 0, 0x1209},
	} {
		d, ok := c.n.Device()
		if ok != c.ok {
			t.Errorf("%s: %v; unwanted: ok != c.ok", name, ok)
			continue
		}
		if !ok {
			continue
		}
		i, _ := d.Phone()
		if d.Serial != c.serial || d.Port != c.port || i.Fastboot() != c.fastboot || i.ADB() != c.adb ||
			i.Number != c.number || int(d.Vendor) != c.vendor {
			t.Errorf("%s: %+v; unwanted: d.Serial != c.serial || d.Port != c.port || i.Fastboot() != ...",
				name, d)
		}
	}
}

func FuzzNode(f *testing.F) {
	f.Add(`USB\VID_1209&PID_0001&MI_01\X`, `USB\Class_ff&SubClass_42&Prot_03`, "USB(4)")
	f.Fuzz(func(t *testing.T, instance, class, at string) {
		d, ok := Node{Instance: instance, Compatible: []string{class}, Location: []string{at}}.Device()
		if ok && d.Port == "" {
			t.Errorf("%+v; unwanted: ok && d.Port == ''", d)
		}
	})
}
