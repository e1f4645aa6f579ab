// Package phone is a session with one phone: connecting, waiting for a mode,
// reading facts, partitions and mounts. What a session can do depends on the wire
// and the mode; what it lacks is said by a LackError. It never restarts a phone to
// read it.
package phone

import (
	"context"
	"fmt"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/phone/shell"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

// Phone is one phone that is listed or was named by its addresses, and can be worked on.
type Phone struct{ *wire.Phone }

// New gives a phone; the model is nil when none is known.
func New(h *wire.Host, name, serial string, m *model.Model, at ...wire.Address) *Phone {
	return &Phone{wire.New(h, name, serial, m, at...)}
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

	wire  wire.Conn
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
func (s *Session) Address() wire.Address {
	if s.wire == nil {
		return wire.Address{}
	}
	return s.wire.Address()
}

// Wire gives the wire, nil without one.
func (s *Session) Wire() wire.Conn { return s.wire }

// Use goes on over another wire, nil for none. The old one is not closed.
func (s *Session) Use(w wire.Conn) {
	s.wire, s.vars, s.read, s.sizes, s.blocks, s.spelt = w, nil, nil, nil, nil, nil
}

// Close lets the phone go.
func (s *Session) Close() {
	if s.wire != nil {
		s.wire.Close()
	}
}

// Hand gives the recipe of that name: the model file's, otherwise what a person did the last time, otherwise
// the usual one.
func (s *Session) Hand(name string, usual ...string) model.Recipe {
	if said := s.Card.Value(card.FactKeysFor.Of(name)); said != "" {
		usual = []string{said}
	}
	return s.Phone.Hand(name, usual...)
}

// Drop closes the wire and goes on without one.
func (s *Session) Drop() {
	s.Close()
	s.Use(nil)
}

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

// learn puts a fact the phone told just now.
func (s *Session) learn(w card.Which, value string) {
	switch {
	case w == card.FactSerial && value != "" && card.Placeholder(value):
		s.Card.Forget(w, "it reports "+value+", as phones without a number do")
	case value != "":
		s.Card.Set(w, card.Fact{Value: value, Source: card.Read, Mode: s.Mode(), At: now()})
	}
}

func (s *Session) learnYes(w card.Which, word string) {
	if yes, ok := card.ParseYes(word); ok {
		s.learn(w, card.YesNo(yes))
	}
}

// devices are the block devices of one partition: by its name, and mapped.
type devices struct{ plain, mapped *shell.Device }

// told takes a partition's name as this wire has it, and gives it as the card does. It is false
// for a second one whose name differs in its letters' case alone: the one in small letters counts,
// else the first in their order, and the other is never touched.
func (s *Session) told(name string) (card.Partition, bool) {
	p := card.Part(name)
	key := p.String()
	if have, ok := s.spelt[key]; ok && have != name && (have == key || name != key && have < name) {
		return p, false
	}
	if s.spelt == nil {
		s.spelt = map[string]string{}
	}
	s.spelt[key] = name
	return p, true
}

func (s *Session) spell(name string) string {
	if as, ok := s.spelt[name]; ok {
		return as
	}
	p := card.Part(name)
	if as, ok := s.spelt[p.Base]; ok && p.Slot != "" {
		return card.At(as, p.Slot).String()
	}
	for _, slot := range []string{"a", "b"} {
		if as, ok := s.spelt[name+"_"+slot]; ok {
			return as[:len(name)]
		}
	}
	return name
}

// variables answers for one phone's variables: those it listed, and those it
// tells only when asked.
type variables struct {
	ctx    context.Context
	c      wire.Lister
	listed map[string]string // partitions in these names are as in the card
	spell  func(string) string
	// unknown are those it was asked for and does not know, and earlier those that an earlier job found so.
	unknown, earlier map[string]bool
	last             error
}
