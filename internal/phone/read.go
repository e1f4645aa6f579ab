package phone

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
	"jarlid/internal/journal"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

// Read reads what the phone reports in the mode it is in, and adds what the
// journal and the model file know. It never restarts or changes the phone.
func (s *Session) Read(ctx context.Context) error {
	s.Card = &card.Card{}
	s.read = nil
	s.Card.Set(card.FactMode, card.Fact{Value: string(s.Mode()), Source: card.Read, Mode: s.Mode(),
		At: now()})
	if err := s.readWire(ctx); err != nil {
		return err
	}
	s.settleModel()
	past, err := s.recall(s.Card.Value(card.FactSerial))
	if err != nil {
		return err
	}
	if now, was := s.Card.Value(card.FactProduct), past.Value(card.FactProduct); otherBoard(s.Card, past,
		s.Models) {
		s.Obs.Say(say.Note, "%s calls itself %s now and %s in an earlier job: what was remembered is left "+
			"out", s.Name,
			now, was)
		past = &card.Card{}
	}
	forgetRefusals(s.Card, past)
	superseded(s.Card, past)
	contradict(s.Card, past)
	c := s.Card
	if s.Mode().Def().Fastboot {
		past.Set(card.FactStarted, card.Fact{Why: "the bootloader does not start from a slot"})
	}
	c.Merge(past)
	if s.Mode() != card.Recovery && s.Mode() != card.Sideload {
		c.Set(card.FactTemporary, card.Fact{})
	}
	if other := past.Get(card.FactSerial); other.Known() && c.Get(card.FactSerial).Source == card.Read &&
		other.Value != c.Value(card.FactSerial) {
		c.Set(card.FactOtherSerial, other)
	}
	s.learnOtherSerial()
	s.Model().Learn(c)
	c.Conclude()
	s.learnBase()
	s.learnHeld()
	if c.Value(card.FactSerial) == "" && s.Serial != "" {
		c.Learn(card.FactSerial, s.Serial, card.Model)
	}
	return nil
}

// readWire reads what the wire reports by itself.
func (s *Session) readWire(ctx context.Context) error {
	switch w := s.wire.(type) {
	case wire.Lister:
		listed, err := w.Variables(ctx)
		if err != nil {
			return err
		}
		s.vars = s.listing(ctx, w, listed)
		return s.readVariables()
	case wire.Reporter:
		return s.readLoader(ctx, w)
	case wire.Greeter:
		s.learn(card.FactProduct, ident.PhoneOf(w.Greeting()))
		if s.HasShell() {
			return s.readShell(ctx)
		}
	}
	return nil
}

// Recall makes the card of a phone nobody asks: what jobs did to it, and what its
// model file says.
func (s *Session) Recall() error {
	c, err := s.recall(s.Serial)
	if err != nil {
		return err
	}
	s.Model().Learn(c)
	c.Conclude()
	s.Card = c
	return nil
}

func (s *Session) recall(serial string) (*card.Card, error) {
	c, damaged, err := journal.Recall(s.Home, s.Who(serial))
	s.Damaged = damaged
	if err == nil {
		stale(c)
	}
	return c, err
}

// chargeKept is how long a charge that was read counts in modes that don't tell it: a phone that
// does nothing but wait loses a few percent in that time.
const chargeKept = 30 * time.Minute

// stale forgets what does not last as long as since it was read. A clock that was set back makes
// everything older than it is.
func stale(c *card.Card) {
	f := c.Get(card.FactPercent)
	if age := time.Since(f.At); f.Known() && (age < 0 || age > chargeKept) {
		c.Set(card.FactPercent, card.Fact{})
	}
}

// Reread reads the card again over the open wire and keeps what a step knows better.
func (s *Session) Reread(ctx context.Context) error {
	before := s.Card
	if err := s.Read(ctx); err != nil {
		s.Card = before
		return err
	}
	s.Card.Merge(before)
	return nil
}

// setRight forgets what was known from journals and is contradicted by what was read since
// then. past is the card of before.
func (s *Session) setRight(past *card.Card) {
	contradict(s.Card, past)
	for _, i := range past.IDs() {
		if s.Card.Get(i).Source == card.Journal {
			s.Card.Set(i, past.Get(i))
		}
	}
}

// learnOtherSerial takes another number of the phone from the bench, which keeps them.
func (s *Session) learnOtherSerial() {
	serial := s.Card.Value(card.FactSerial)
	if s.Host.Known == nil || serial == "" || s.Card.Get(card.FactOtherSerial).Known() {
		return
	}
	for _, other := range s.Host.Known(serial) {
		if other != serial {
			s.Card.Set(card.FactOtherSerial, card.Fact{Value: other, Source: card.Said})
		}
	}
}

// otherBoard reports whether a bootloader or loader calls itself otherwise than in earlier jobs, in the same
// mode: another phone is at that name or address. What systems call themselves says nothing of it.
func otherBoard(read, past *card.Card, models model.Set) bool {
	now, was := read.Get(card.FactProduct), past.Get(card.FactProduct)
	if now.Source != card.Read || !was.Known() || now.Mode != was.Mode || !now.Mode.Def().Images ||
		now.Value == was.Value {
		return false
	}
	same, known := models.Same(now.Value, was.Value)
	return !known || !same
}

// forgetRefusals makes unknown what an earlier version of the bootloader refused.
func forgetRefusals(read, past *card.Card) {
	now, was := read.Get(card.FactBootloader), past.Get(card.FactBootloader)
	if now.Source != card.Read || !was.Known() || now.Mode != was.Mode || now.Value == was.Value {
		return
	}
	for _, i := range past.IDs() {
		if i.Name == card.Name(card.FactCommand) || i.Name == card.Name(card.FactVariable) {
			past.Forget(i, fmt.Sprintf("the bootloader is version %s now; version %s refused it", now.Value,
				was.Value))
		}
	}
}

// superseded leaves out what a bootloader says of the system that was there before a job installed another
// one: it knows nothing of that.
func superseded(read, past *card.Card) {
	slot := read.Value(card.FactNext)
	if put, _ := past.Yes(card.FactPut.Of(slot)); put && read.Mode().Def().Fastboot {
		read.Set(card.FactPatch.Of(slot), card.Fact{})
	}
}

// itsOwn tells of facts that a phone changes by itself, by its starts or by its
// owner, and of digests: one that is read is that of the whole partition, one in a journal
// that of the file. That they differ from a journal says nothing of another program.
func itsOwn(d card.Def) bool {
	return len(d.From) == 0 || d.Name == card.Name(card.FactDigest) || slices.Contains(d.From, "misc") ||
		slices.Contains(d.From, "userdata")
}

// contradict makes unknown what a journal knows of a partition, where anything that was
// read says that something else is there now: another program was at work.
func contradict(read, past *card.Card) {
	const why = "what is there now is not what Jar Lid put there: another program was at work"
	for _, i := range read.IDs() {
		d, _ := i.Def()
		now, was := read.Get(i), past.Get(i)
		if now.Source != card.Read || was.Source != card.Journal || was.Job == 0 || was.Pending ||
			now.Value == was.Value || itsOwn(d) {
			continue
		}
		for _, base := range d.From {
			if base == card.Own {
				past.Written(card.Part(i.Key), why)
				continue
			}
			if base == "system" || base == "vendor" {
				continue // an update that the system took by itself; its build is compared below
			}
			for _, slot := range card.EverySlot {
				past.Written(card.At(base, slot), why)
			}
		}
	}
	system := card.At("system", read.Value(card.FactStarted))
	version, build := read.Get(card.FactVersion), read.Get(card.FactBuild)
	if f := past.Get(card.FactHolds.Of(system)); f.Source == card.Journal && version.Source == card.Read &&
		place.MatchesBuild(f.Value, version.Value, build.Value) == "no" {
		past.Written(system, why)
	}
}

// learnHeld turns what runs into what its slot holds. A recovery that was only
// tried is on no slot.
func (s *Session) learnHeld() {
	c := s.Card
	started := c.Get(card.FactStarted)
	if slots, known := c.Slots(); !known || len(slots) > 0 && started.Source != card.Read {
		return
	}
	if f := c.Get(card.FactVersion); f.Source == card.Read {
		if patch := c.Value(card.FactPatch.Of(started.Value)); patch != "" {
			f.Value += ", patch level " + patch
		}
		c.Set(card.FactHolds.Of(card.At("system", started.Value)), f)
	}
	tried, _ := c.Yes(card.FactTemporary)
	home := place.RecoveryHome(c).Partition
	f := c.Get(card.FactRecovery)
	if f.Source != card.Read || tried || home == "" {
		return
	}
	p := card.At(home, started.Value)
	switch held := c.Get(card.FactHolds.Of(p)); {
	case !held.Known():
		c.Set(card.FactHolds.Of(p), f)
	case held.Source == card.Journal && held.Value != f.Value:
		// What Jar Lid wrote there is kept to be compared with what runs; its bytes are
		// not there any more.
		c.Forget(card.FactDigest.Of(p), "another recovery runs than the one that was written there")
	}
}

// learnBase reads the version a model file's base is about.
func (s *Session) learnBase() {
	if s.Model() == nil || s.Model().Base == nil {
		return
	}
	switch {
	case s.vars != nil && s.Mode() == card.Bootloader:
		s.learn(card.FactBase, s.vars.get(s.Model().Base.Variable))
	case s.Model().Base.Variable == "version-baseband" && s.Card.Get(card.FactRadio).Source == card.Read:
		s.Card.Set(card.FactBase, s.Card.Get(card.FactRadio))
	}
}

// settleModel finds the model the phone's own word means.
func (s *Session) settleModel() {
	product := s.Card.Get(card.FactProduct)
	m := s.Models.Find(product.Value)
	switch {
	case m != nil:
		s.Settle(m)
		product.Value = m.Name
		s.Card.Set(card.FactModel, product)
	case s.Model() != nil:
		// The bench list says what it is; boards have names of their own.
	case product.Known():
		s.Card.Set(card.FactModel, product)
	}
}

// SameSerial makes sure that what came back is the phone that went away. On a cable a phone
// may report another number in another mode: it is the same one when it came back in its socket
// by itself; after hands were at it, which may have changed the phone, a person is asked.
func (s *Session) SameSerial(before *card.Card, hands bool) error {
	a, b := before.Get(card.FactSerial), s.Card.Get(card.FactSerial)
	if a.Source != card.Read || b.Source != card.Read || a.Value == b.Value {
		return nil
	}
	if s.Model() != nil && s.Model().SerialDiffers {
		return s.sameAs(a.Value, b.Value)
	}
	other := &OtherPhoneError{Want: a.Value, Got: b.Value}
	if s.Address().Scheme != wire.CableScheme || before.Mode() == s.Mode() {
		return other
	}
	if s.Host.Known != nil && slices.Contains(s.Host.Known(a.Value), b.Value) {
		return nil
	}
	if x, y := before.Value(card.FactModel), s.Card.Value(card.FactModel); x != "" && y != "" && x != y {
		return other
	}
	if hands {
		same, err := s.Obs.Confirm(
			fmt.Sprintf("%s had the serial number %s, and what is at %s now reports %s. Is it the "+
				"same phone?", s.Name, a.Value, s.Address(), b.Value))
		if errors.Is(err, say.ErrCancelled) {
			return err
		}
		if err != nil || !same {
			return other
		}
	} else {
		s.Obs.Say(say.Info, "%s came back in its socket with another serial number, %s; phones do so in "+
			"other modes", s.Name, b.Value)
	}
	return s.sameAs(a.Value, b.Value)
}

// sameAs keeps that a phone on a cable reports two numbers, so that it has one name in all its
// modes.
func (s *Session) sameAs(one, two string) error {
	if s.SameAs == nil || s.Address().Scheme != wire.CableScheme {
		return nil
	}
	return s.SameAs(one, two)
}
