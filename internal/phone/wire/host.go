package wire

import (
	"net"
	"slices"
	"strconv"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/model"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
	"jarlid/internal/link/serial"
	"jarlid/internal/link/usb"
)

// Host is what this computer gives a session. Package bench fills it.
type Host struct {
	Home   string // the folder with the jobs
	Models model.Set
	Dial   link.Dialer
	// Key gives this computer's key.
	Key func() (*adb.Key, error)
	// Lock makes this program the only one that works on a phone known under these
	// names (addresses, serial numbers), for as long as until unlock is called.
	// ErrBusy when another one does.
	Lock func(names ...string) (unlock func(), err error)
	// Holder says which program has locked one of the names, and what it does; "" when that
	// can't be told.
	Holder func(names ...string) string
	// Cable is where phones on a cable are; nil for none.
	Cable usb.Bus
	// Ports are the serial lines; nil for none.
	Ports serial.Ports
	// Known gives the other serial numbers of the phone that reports this one in some mode,
	// and Other reports whether a serial number is that of another phone of the bench.
	Known func(serial string) []string
	Other func(p *Phone, serial string) bool
	// Common reports whether several phones report a serial number.
	Common func(serial string) bool
	// SameAs keeps that two serial numbers are those of one phone.
	SameAs func(a, b string) error
}

// Model gives the phone's model, nil when none is known.
func (p *Phone) Model() *model.Model { return p.model }

// Settle keeps which model the phone turned out to be.
func (p *Phone) Settle(m *model.Model) { p.model = m }

// Addresses are where the phone may be now: those it is listed with, and where it is seen on
// a cable.
func (p *Phone) Addresses() []Address {
	list := slices.DeleteFunc(slices.Clone(p.At), func(a Address) bool { return a.Scheme == CableScheme })
	sure, _ := p.OnCable(p.Devices())
	for _, d := range sure {
		list = append(list, CableAddress(d))
	}
	if len(sure) == 0 {
		for _, l := range p.lines() {
			if a := LineAddress(l.Path); !slices.Contains(list, a) {
				list = append(list, a)
			}
		}
	}
	if len(list) == 0 {
		return p.At // where it is looked for in vain
	}
	return list
}

// NoWayTo reports whether the phone is known by addresses of the network alone, none of which reaches a mode.
// usual is the address where it would answer on the same host, at the usual port.
func (p *Phone) NoWayTo(m card.Mode) (usual Address, none bool) {
	host := ""
	for _, a := range p.At {
		h, _, err := net.SplitHostPort(a.Place)
		if err != nil || a.Reaches(m) {
			return Address{}, false
		}
		host = h
	}
	if host == "" {
		return Address{}, false
	}
	i := slices.IndexFunc(schemes, func(s Scheme) bool { return s.port > 0 && slices.Contains(s.Modes, m) })
	if i < 0 {
		return Address{}, false
	}
	return Address{Scheme: schemes[i].Name, Place: net.JoinHostPort(host, strconv.Itoa(schemes[i].port))},
		true
}

// lines are the serial lines that are this phone, by the device's serial number, where the system shows
// lines and not the devices they come from.
func (p *Phone) lines() (mine []serial.Line) {
	_, _, serials := p.SeenAs()
	for _, l := range p.allLines() {
		if l.Serial != "" && slices.Contains(serials, l.Serial) {
			mine = append(mine, l)
		}
	}
	return mine
}

// Hand gives the model file's recipe of that name, or the usual one.
func (p *Phone) Hand(name string, usual ...string) model.Recipe {
	if r, ok := p.model.Hand(name); ok {
		return r
	}
	return model.Recipe{Do: usual}
}

// DebuggingHands is what switches debugging on again after a format.
func (p *Phone) DebuggingHands() model.Recipe {
	return p.Hand("debugging", "Go through the welcome pages and switch debugging on in the developer "+
		"settings; formatting switched it off.")
}

// Who is the phone as journals know it.
func (p *Phone) Who(serial string) journal.Who {
	if serial == "" {
		serial = p.Serial
	}
	_, _, also := p.SeenAs()
	if p.Host.Known != nil && serial != "" {
		also = append(also, p.Host.Known(serial)...)
	}
	// A number that two phones of the bench report tells neither of them: their names do.
	shared := serial != "" && (p.Host.Other != nil && p.Host.Other(p, serial) ||
		p.Host.Common != nil && p.Host.Common(serial))
	return journal.Who{Name: p.Name, Serial: serial, Also: also, Serials: shared || p.model != nil &&
		p.model.SerialDiffers}
}

// NotHereError says that a phone does not answer.
type NotHereError struct{ Name, Text string }

// Error says which one.
func (e *NotHereError) Error() string { return e.Text }

// LockNames are the names the phone is locked under before it is known better: its
// resolved addresses and the serial number it is listed with.
func (p *Phone) LockNames() []string {
	var names []string
	for _, a := range p.Addresses() {
		names = append(names, a.resolved())
	}
	if p.Serial != "" {
		names = append(names, serialName+p.Serial)
	}
	return names
}

// serialName begins the name of a lock on a serial number.
const serialName = "serial "

// IsSerialName reports whether a phone is locked under a name by its serial number, and not by where
// it is.
func IsSerialName(name string) bool { return strings.HasPrefix(name, serialName) }

// SerialNames are the names a phone is locked under once it was read.
func SerialNames(c *card.Card) []string {
	var names []string
	for _, f := range []card.Plain{card.FactSerial, card.FactOtherSerial} {
		if v := c.Value(f); v != "" {
			names = append(names, serialName+v)
		}
	}
	return names
}

// AdbAddress is the address a running system would answer at.
func (p *Phone) AdbAddress() Address {
	for _, a := range p.Addresses() {
		if a.Reaches(card.System) {
			return a
		}
	}
	return Address{}
}

// Phone is one phone that is listed or was named by its addresses.
type Phone struct {
	Name   string
	Serial string // as it is listed; "" when it is not
	At     []Address
	Listed bool // on the bench, rather than named by its address alone
	*Host

	model *model.Model
	trail *trail
}

// New gives a phone; the model is nil when none is known.
func New(h *Host, name, serial string, m *model.Model, at ...Address) *Phone {
	return &Phone{Name: name, Serial: serial, At: at, Host: h, model: m, trail: &trail{}}
}
