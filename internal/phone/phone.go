// Package phone is a session with one phone: connecting, waiting for a mode,
// reading facts, partitions and mounts. What a session can do depends on the wire
// and the mode; what it lacks is said by a LackError. It never restarts a phone to
// read it.
package phone

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
	"jarlid/internal/link/serial"
	"jarlid/internal/link/usb"
	"jarlid/internal/say"
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
	// SameAs keeps that two serial numbers are those of one phone.
	SameAs func(a, b string) error
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

// Model gives the phone's model, nil when none is known.
func (p *Phone) Model() *model.Model { return p.model }

// addresses are where the phone may be now: those it is listed with, and where it is seen on
// a cable.
func (p *Phone) addresses() []Address {
	list := slices.DeleteFunc(slices.Clone(p.At), func(a Address) bool { return a.Scheme == cableScheme })
	sure, _ := p.OnCable(p.devices())
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

// lines are the serial lines that are this phone, by the device's serial number, where the system shows
// lines and not the devices they come from.
func (p *Phone) lines() (mine []serial.Line) {
	_, _, serials := p.seenAs()
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
	_, _, also := p.seenAs()
	if p.Host.Known != nil && serial != "" {
		also = append(also, p.Host.Known(serial)...)
	}
	// A number that two phones of the bench report tells neither of them: their names do.
	shared := p.Host.Other != nil && serial != "" && p.Host.Other(p, serial)
	return journal.Who{Name: p.Name, Serial: serial, Also: also, Serials: shared || p.model != nil &&
		p.model.SerialDiffers}
}

// Session is an open connection to a phone, and what is known of it. A session
// whose phone can't be seen has no wire: Open is false.
type Session struct {
	*Phone
	Card *card.Card
	Obs  say.To
	// Damaged are journals of this phone that can't be read.
	Damaged []*journal.DamagedError
	// System is what came up, when the phone was started into its system and that
	// showed.
	System *card.Card
	// WaitSystem is how long a started system is watched for.
	WaitSystem time.Duration

	wire  Wire
	vars  *variables               // of fastboot, once they were read
	read  map[string]bool          // what Know has read over this wire
	sizes map[card.Partition]int64 // of a loader's table, once it was read
	// of all partitions there are, once a recovery's devices were listed; empty where that can't be done
	blocks map[card.Partition]devices
	spelt  map[string]string // the phone's own spelling of its partitions' names, by theirs in the card
}

// NewSession gives a session without a wire, about a phone known by a card.
func (p *Phone) NewSession(c *card.Card, obs say.To) *Session {
	return &Session{Phone: p, Card: c, Obs: obs, WaitSystem: time.Minute}
}

// Connected reports whether there is a wire.
func (s *Session) Connected() bool { return s.wire != nil }

// Mode is the mode at the other end of the wire, None without one.
func (s *Session) Mode() card.Mode {
	if s.wire == nil {
		return card.None
	}
	return s.wire.Mode()
}

// Address is where the wire goes.
func (s *Session) Address() Address {
	if s.wire == nil {
		return Address{}
	}
	return s.wire.Address()
}

// Wire gives the wire, nil without one.
func (s *Session) Wire() Wire { return s.wire }

// Use goes on over another wire, nil for none. The old one is not closed.
func (s *Session) Use(w Wire) {
	s.wire, s.vars, s.read, s.sizes, s.blocks, s.spelt = w, nil, nil, nil, nil, nil
}

// Close lets the phone go.
func (s *Session) Close() {
	if s.wire != nil {
		s.wire.Close()
	}
}

// Drop closes the wire and goes on without one.
func (s *Session) Drop() {
	s.Close()
	s.Use(nil)
}

// NotHereError says that a phone does not answer.
type NotHereError struct{ Name, Text string }

// Error says which one.
func (e *NotHereError) Error() string { return e.Text }

// WrongModeError says that a phone came up in another mode than it was sent to.
type WrongModeError struct{ Want, Got card.Mode }

// Error names both.
func (e *WrongModeError) Error() string {
	return fmt.Sprintf("the phone came up in %s instead of %s", e.Got, e.Want)
}

// ErrBusy says that another jarlid works on the phone.
var ErrBusy = fmt.Errorf("another jarlid works on this phone")

// Busy is the finding of a phone another jarlid works on.
func (p *Phone) Busy() error {
	text := "another jarlid is working on " + p.Name
	if p.Holder != nil {
		if who := p.Holder(p.LockNames()...); who != "" {
			text += ": " + who
		}
	}
	return finding.Stopped(finding.PhoneBusy, p.Name, text, "wait until it has finished, or end it")
}

// LockNames are the names the phone is locked under before it is known better: its
// resolved addresses and the serial number it is listed with.
func (p *Phone) LockNames() []string {
	var names []string
	for _, a := range p.addresses() {
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

// Seen is a phone that answered a look, with what was read.
type Seen struct {
	*Phone
	Mode    card.Mode
	Address string
	Card    *card.Card
	Denied  *adb.NotAuthorisedError // it is there and does not know this computer
	Busy    bool                    // another jarlid works on it, so it was not asked
	// Stop is what keeps this computer from a phone on a cable; it is there and was not asked.
	Stop *finding.Finding
	// Device is what it is on a cable; nil when it is on none.
	Device *usb.Device
}

// Look connects, reads and lets go again. A phone that another jarlid works on is not
// asked: Busy.
func (p *Phone) Look(ctx context.Context) (*Seen, error) {
	unlock, err := p.Lock(p.LockNames()...)
	if err == ErrBusy {
		return &Seen{Phone: p, Busy: true, Card: &card.Card{}}, nil
	}
	if err != nil {
		return nil, err
	}
	defer unlock()
	s, err := p.Connect(ctx, nil)
	seen := &Seen{Phone: p, Card: &card.Card{}}
	var stop *finding.StopError
	switch denied := NotAuthorised(err); {
	case denied != nil:
		seen.Mode, seen.Denied = card.System, denied
		seen.at(p.adbAddress())
		return seen, nil
	case errors.As(err, &stop) && len(p.addresses()) > 0:
		seen.Stop = &stop.Findings[0]
		seen.at(p.addresses()[0])
		return seen, nil
	case err != nil:
		return nil, err
	}
	defer s.Close()
	if err := s.Read(ctx); err != nil {
		return nil, err
	}
	seen.Mode, seen.Card = s.Mode(), s.Card
	seen.at(s.Address())
	return seen, nil
}

// at notes where the phone is.
func (s *Seen) at(a Address) {
	s.Address = a.String()
	if d, ok := s.Phone.Device(a); ok {
		s.Device = &d
	}
}

// now is the time as it is written to files.
func now() time.Time { return time.Now().UTC().Truncate(time.Millisecond) }

// OtherPhoneError says that another phone answers where one went away. It is a lost
// phone.
type OtherPhoneError struct{ Want, Got string }

// Error names both by their serial numbers.
func (e *OtherPhoneError) Error() string {
	return fmt.Sprintf("another phone answers at its place: %s instead of %s", e.Got, e.Want)
}

// Unwrap says that the phone was lost.
func (e *OtherPhoneError) Unwrap() error {
	return &link.LostError{During: "the restart", Err: fmt.Errorf("another phone is at its place")}
}
