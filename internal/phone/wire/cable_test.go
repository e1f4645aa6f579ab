package wire

import (
	"slices"
	"testing"

	"jarlid/internal/link/usb"
)

// TestOnCable: which device is a phone is decided by its serial number, else by its socket where
// nothing is against it; whatever else came could be it and is asked about; what was there beside
// it, or belongs to another phone, never is.
func TestOnCable(t *testing.T) {
	phone := []usb.Interface{{Class: usb.ClassVendor, SubClass: usb.SubClassPhone, Protocol: usb.ProtocolADB}}
	dev := func(port, serial string, number int, peer ...string) usb.Device {
		d := usb.Device{Port: port, Serial: serial, Number: number, Bus: 1, Interfaces: phone}
		if len(peer) > 0 {
			d.Peer = peer[0]
		}
		return d
	}
	files := usb.Device{Port: "1-1", Serial: "A", Number: 9, Interfaces: []usb.Interface{{Class: 6}}}
	for name, c := range map[string]struct {
		serial      string // as it is listed
		at          []Address
		port, peer  string // where it was seen
		serials     []string
		others      []usb.Device // beside it then
		now         []usb.Device
		sure, maybe []string
	}{
		"by its number": {serial: "A", now: []usb.Device{dev("1-1", "B", 1),
			dev("1-2", "A", 2)}, sure: []string{"1-2"}},
		"by a number of another mode": {serial: "A", now: []usb.Device{dev("1-2", "A2", 2)},
			sure: []string{"1-2"}},
		"in a mode without commands": {serial: "A", now: []usb.Device{files}},
		"moved": {serial: "A", port: "1-1", now: []usb.Device{dev("1-2", "A", 2)},
			sure: []string{"1-2"}},
		"another number in its socket": {serial: "A", port: "1-1", now: []usb.Device{dev("1-1", "Z", 2)},
			sure: []string{"1-1"}},
		"no number in its socket": {serial: "A", port: "1-1", now: []usb.Device{dev("1-1", "", 2)},
			sure: []string{"1-1"}},
		"the socket's other bus": {serial: "A", port: "1-1", peer: "2-1",
			now: []usb.Device{dev("2-1", "Z", 2, "1-1")}, sure: []string{"2-1"}},
		"its number before its socket": {serial: "A", port: "1-1", now: []usb.Device{dev("1-1", "Z", 2),
			dev("1-2", "A", 3)}, sure: []string{"1-2"}},
		"another phone's number": {serial: "A", port: "1-1",
			now: []usb.Device{dev("1-1", "other", 2)}},
		"another number elsewhere": {serial: "A", port: "1-1", now: []usb.Device{dev("1-3", "Z", 2)},
			maybe: []string{"1-3"}},
		"two that came": {serial: "A", port: "1-1", now: []usb.Device{dev("1-3", "Y", 2),
			dev("1-4", "Z", 3)}, maybe: []string{"1-3", "1-4"}},
		"one that was there beside it": {serial: "A", port: "1-1",
			others: []usb.Device{dev("1-3", "Z", 2)}, now: []usb.Device{dev("1-3", "Z", 2)}},
		"one that was there, and came anew": {serial: "A", port: "1-1",
			others: []usb.Device{dev("1-3", "Z", 2)}, now: []usb.Device{dev("1-3", "Z", 3)},
			maybe: []string{"1-3"}},
		"never seen yet": {serial: "A", now: []usb.Device{dev("1-3", "Z", 2),
			dev("1-4", "other", 3)}, maybe: []string{"1-3"}},
		"known by its address alone": {at: []Address{{"fastboot", "10.0.0.1"}},
			now: []usb.Device{dev("1-3", "Z", 2)}},
		"named by its socket": {at: []Address{{"usb", "1-3"}},
			now: []usb.Device{dev("1-3", "Z", 2), dev("1-4", "Y", 3)}, sure: []string{"1-3"}},
		"two with its number": {serial: "A", now: []usb.Device{dev("1-1", "A", 1),
			dev("1-2", "A", 2)}, sure: []string{"1-1", "1-2"}},
		"two with its number, one in place": {serial: "A", port: "1-2", now: []usb.Device{dev("1-1", "A", 1),
			dev("1-2", "A", 2)}, sure: []string{"1-2"}},
		"a number learnt on the way": {serial: "A", port: "1-1", serials: []string{"A9"},
			now: []usb.Device{dev("1-4", "A9", 2)}, sure: []string{"1-4"}},
	} {
		t.Run(name, func(t *testing.T) {
			h := &Host{Known: func(s string) []string {
				if s == "A" {
					return []string{"A", "A2"}
				}
				return nil
			}, Other: func(_ *Phone, s string) bool { return s == "other" }}
			p := New(h, "brook", c.serial, nil, c.at...)
			p.trail.port, p.trail.peer, p.trail.serials, p.trail.others = c.port, c.peer, c.serials,
				map[string]bool{}
			for _, o := range c.others {
				p.trail.others[DeviceKey(o)] = true
			}
			sure, maybe := p.OnCable(c.now)
			ports := func(list []usb.Device) (out []string) {
				for _, d := range list {
					out = append(out, d.Port)
				}
				return out
			}
			if !slices.Equal(ports(sure), c.sure) || !slices.Equal(ports(maybe), c.maybe) {
				t.Errorf("sure %v, maybe %v", ports(sure), ports(maybe))
			}
		})
	}
}
