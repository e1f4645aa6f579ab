package wire

import (
	"strings"
	"testing"

	"jarlid/internal/core/card"
)

func TestAddresses(t *testing.T) {
	for s, want := range map[string]string{"tcp:192.0.2.7": "tcp:192.0.2.7:5554",
		"adb:phone": "adb:phone:5555", "tcp:[::1]:99": "tcp:[::1]:99", "adb:[::1]": "adb:[::1]:5555",
		"tcp:": "", "tcp:x:0": "", "tcp:x:99999": "",
		"usb:1":     "",
		"usb:1-4.2": "usb:1-4.2",
		"usb:PCIROOT(0)#PCI(1400)#USBROOT(0)#USB(4)": "usb:PCIROOT(0)#PCI(1400)#USBROOT(0)#USB(4)",
		"usb:PCIROOT(0) x USB(4)":                    "",
		"usb:USB(4)\x1b":                             "",
		"usb:2-1":                                    "usb:2-1",
		"usb:1-":                                     "",
		"usb:1-4.":                                   "",
		"usb:../4":                                   "",
		"usb:1-0":                                    "",
		"usb:1-4/..":                                 "",
		"usb:-1":                                     "",
		"udp:x":                                      "udp:x:5554",
		"plain":                                      ""} {
		a, err := ParseAddress(s)
		got := ""
		if err == nil {
			got = a.String()
		}
		if got != want {
			t.Errorf("%s is %q, want %q", s, got, want)
		}
	}
}

// TestSchemes holds the table of wires to what the rest relies on: a name and a form for
// people, modes that it declares, and each mode that answers reached by one of them.
func TestSchemes(t *testing.T) {
	reached := map[card.Mode]bool{}
	for _, s := range schemes {
		if s.Name == "" || s.Form == "" || len(s.Modes) == 0 || s.open == nil ||
			strings.Contains(s.Name, ":") {
			t.Errorf("%+v; unwanted: s.Name == '' || s.Form == '' || len(s.Modes) == 0 || s.open == ...", s)
		}
		if got, ok := SchemeOf(s.Name); !ok || got.Name != s.Name {
			t.Errorf("%s is not found by its name", s.Name)
		}
		if !strings.Contains(AddressForms(), s.Name+":"+s.Form) {
			t.Errorf("%s is not among the forms a person is told", s.Name)
		}
		place := "192.0.2.7:99"
		switch s.Name {
		case "usb":
			place = "1-4.2"
		case "serial":
			place = "/dev/ttyACM0"
		}
		a, err := ParseAddress(s.Name + ":" + place)
		if err != nil || !IsAddress(s.Name+":x") {
			t.Errorf("ParseAddress(s.Name + ':' + place): %s: %v; unwanted: err != nil || "+
				"!IsAddress(s.Name+':x')", s.Name, err)
		}
		for _, m := range s.Modes {
			reached[m] = true
			if !a.Reaches(m) {
				t.Errorf("%s does not reach %s, and says so in the table", a, m)
			}
		}
		if a.Reaches(card.None) {
			t.Errorf("%s reaches a phone that is off", a)
		}
	}
	for _, m := range []card.Mode{card.Bootloader, card.Fastbootd, card.Recovery, card.Sideload, card.System,
		card.Loader} {
		if !reached[m] {
			t.Errorf("no wire reaches %s", m)
		}
	}
}

// TestOneLockForOnePhone: ways that end at one bootloader are one name of a lock.
func TestOneLockForOnePhone(t *testing.T) {
	for _, same := range [][]string{{"tcp:127.0.0.1:5554", "udp:127.0.0.1:5554", "tcp:127.0.0.1",
		"udp:localhost"}, {"adb:[::1]:99", "adb:[0:0:0:0:0:0:0:1]:99"}} {
		names := map[string]bool{}
		for _, s := range same {
			a, err := ParseAddress(s)
			if err != nil {
				t.Fatalf("ParseAddress(s): %v", err)
			}
			names[a.resolved()] = true
		}
		if len(names) != 1 {
			t.Errorf("%v are locked under %v", same, names)
		}
	}
}
