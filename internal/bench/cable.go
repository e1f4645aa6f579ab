package bench

import (
	"slices"

	"jarlid/internal/core/card"
	"jarlid/internal/link/usb"
	"jarlid/internal/phone"
	"jarlid/internal/phone/wire"
)

// numbered is a bus that leaves out serial numbers that identify nothing.
type numbered struct{ usb.Bus }

// List implements usb.Bus.
func (n numbered) List() ([]usb.Device, error) {
	list, err := n.Bus.List()
	list = slices.Clone(list)
	for i := range list {
		if card.Placeholder(list[i].Serial) {
			list[i].Serial = ""
		}
	}
	return list, err
}

// Devices gives what is plugged in.
func (b *Bench) Devices() ([]usb.Device, error) {
	if b.cable == nil {
		return nil, nil
	}
	return b.cable.List()
}

// unlisted adds the phones on a cable that are none of those that are listed. They are called
// by their serial number; where they have none, or share it, by their socket.
func (b *Bench) unlisted(list []*phone.Phone) []*phone.Phone {
	devices, err := b.Devices()
	list = b.onLines(list, devices)
	if err != nil {
		return list // the listed ones can be reached all the same; bench --why tells
	}
	taken := map[string]bool{} // sockets of what is a listed phone, or could be
	for _, p := range list {
		sure, _ := p.OnCable(devices)
		for _, d := range sure {
			taken[d.Port] = true
		}
	}
	var free []usb.Device
	h := b.host()
	for _, d := range devices {
		if h.Talks(d) && !taken[d.Port] {
			free = append(free, d)
		}
	}
	for _, d := range free {
		at := wire.CableAddress(d)
		beside := slices.ContainsFunc(free, func(o usb.Device) bool {
			return o.Port != d.Port && o.Serial == d.Serial
		})
		shared := b.common(d.Serial)
		if beside && !shared && d.Serial != "" {
			_ = b.share(d.Serial) // without it the number identifies one of them when the other is away
		}
		name, serial := d.Serial, d.Serial
		if group := b.known(serial); len(group) > 0 && serial != "" {
			name = group[0] // one name in all its modes
		}
		if name == "" || shared || beside {
			name, serial = at.String(), ""
		}
		p := phone.New(h, name, serial, b.Models.OfLoader(d.Numbers()), at)
		list = append(list, p)
		b.metMu.Lock()
		if b.met == nil {
			b.met = map[string]*phone.Phone{}
		}
		b.met[name] = p
		b.metMu.Unlock()
	}
	return list
}

// onLines adds the phones on a serial line that are none of those that are listed, nor on the cables:
// those whose numbers a model file knows for a manufacturer's loader. Any other line may be anything.
func (b *Bench) onLines(list []*phone.Phone, devices []usb.Device) []*phone.Phone {
	if b.ports == nil {
		return list
	}
	lines, err := b.ports.List()
	if err != nil {
		return list
	}
	for _, l := range lines {
		at, m := wire.LineAddress(l.Path), b.Models.OfLoader(l.USB)
		listed := slices.ContainsFunc(list, func(p *phone.Phone) bool {
			return slices.Contains(p.At, at) || l.Serial != "" && (p.Serial == l.Serial ||
				slices.Contains(b.known(l.Serial), p.Serial))
		})
		if m == nil || listed || slices.ContainsFunc(devices, func(d usb.Device) bool {
			return d.Numbers() == l.USB && d.Serial == l.Serial
		}) {
			continue
		}
		name := l.Serial
		if name == "" {
			name = at.String()
		}
		list = append(list, phone.New(b.host(), name, l.Serial, m, at))
	}
	return list
}

// socketOf gives the socket of a line that a manufacturer's loader comes out of, so that one phone has one
// address; any other address is as it is.
func (b *Bench) socketOf(a wire.Address) wire.Address {
	if b.ports == nil || a.Scheme != "serial" {
		return a
	}
	lines, _ := b.ports.List() // the line is opened by its path then
	for _, l := range lines {
		if a == wire.LineAddress(l.Path) && l.Socket != "" && b.Models.OfLoader(l.USB) != nil {
			return wire.CableAddress(usb.Device{Port: l.Socket})
		}
	}
	return a
}

// inSocket gives the phone that is plugged in at one of the addresses: the phone of that name
// if it is listed by its serial number, otherwise the device itself.
func (b *Bench) inSocket(list []*phone.Phone, at []wire.Address) *phone.Phone {
	devices, _ := b.Devices()
	for _, d := range devices {
		if !slices.ContainsFunc(at, func(a wire.Address) bool {
			return a.Scheme == "usb" && d.At(a.Place)
		}) {
			continue
		}
		for _, p := range list {
			sure, _ := p.OnCable(devices)
			if len(sure) == 1 && sure[0].Port == d.Port {
				return p
			}
		}
		return phone.New(b.host(), wire.CableAddress(d).String(), "", nil, at...)
	}
	return nil
}

// known gives the serial numbers of the phone that reports this one, it among them; none when
// it is known by this one alone.
func (b *Bench) known(serial string) []string {
	f, err := b.read()
	if err != nil || serial == "" {
		return nil
	}
	for _, group := range f.Serials {
		if slices.Contains(group, serial) {
			return group
		}
	}
	return nil
}

// common reports whether several phones were seen that report a serial number.
func (b *Bench) common(serial string) bool {
	f, err := b.read()
	return err == nil && slices.Contains(f.Shared, serial)
}

// share keeps that several phones report a serial number, so that it identifies none of them.
func (b *Bench) share(serial string) error {
	return b.change(func(f *file) {
		if !slices.Contains(f.Shared, serial) {
			f.Shared = append(f.Shared, serial)
		}
	})
}

// other reports whether a serial number belongs to another listed phone.
func (b *Bench) other(p *wire.Phone, serial string) bool {
	f, err := b.read()
	if err != nil {
		return false
	}
	return slices.ContainsFunc(f.Phones, func(e Entry) bool { return e.Name != p.Name && e.Serial == serial })
}

// sameAs keeps that two serial numbers are one phone's.
func (b *Bench) sameAs(one, two string) error {
	return b.change(func(f *file) {
		for i, group := range f.Serials {
			if slices.Contains(group, one) || slices.Contains(group, two) {
				for _, s := range []string{one, two} {
					if !slices.Contains(group, s) {
						f.Serials[i] = append(f.Serials[i], s)
					}
				}
				return
			}
		}
		f.Serials = append(f.Serials, []string{one, two})
	})
}
