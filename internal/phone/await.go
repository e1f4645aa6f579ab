package phone

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/link"
	"jarlid/internal/link/usb"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

const (
	// restless is how often a phone may come and go on its cable while it is waited for.
	restless = 3
	// settle is how long a phone may be seen in another mode before that is taken for where it ended up:
	// some pass through the bootloader. As long may something keep this program from it.
	settle = 6 * time.Second
	// allowLimit is how long the owner has to allow this computer's key.
	allowLimit = 2 * time.Minute
)

// hintAfter is how long a phone on a cable may stay away before a person is told what to try.
const hintAfter = 10 * time.Second

// replugHint gives what says, once and late enough, that a cable may have to be pulled: in sideload
// mode some phones stay unseen until it is.
func (s *Session) replugHint(want card.Mode) func() {
	port, _, _ := s.SeenAs()
	began, said := time.Now(), port == "" || want == card.None
	return func() {
		if said || time.Since(began) < hintAfter {
			return
		}
		said = true
		why := "if its screen says that it is there"
		if want == card.Sideload {
			why = "in sideload mode some phones show themselves only after that"
		}
		s.Obs.Say(say.Todo, "%s is not on its cable yet; pull the cable and put it back: %s", s.Name, why)
	}
}

// strangers are devices that came while a phone is awaited and that could be it.
type strangers struct {
	asked map[string]bool
	since time.Time // they are there
}

// askAfter is how long a phone that is awaited may stay away while another device is there that
// could be it, before a person is asked.
const askAfter = 6 * time.Second

// ask asks whether one of them is the phone, once each. Without a person none is.
func (t *strangers) ask(s *Session) error {
	sure, maybe := s.OnCable(s.Devices())
	if len(sure) > 1 {
		maybe = sure
	}
	maybe = slices.DeleteFunc(maybe, func(d usb.Device) bool { return t.asked[wire.DeviceKey(d)] })
	if len(maybe) == 0 || s.Obs.Nobody || len(sure) == 1 {
		t.since = time.Time{}
		return nil
	}
	if t.since.IsZero() {
		t.since = time.Now()
	}
	if time.Since(t.since) < askAfter {
		return nil
	}
	var words []string
	for _, d := range maybe {
		t.asked[wire.DeviceKey(d)] = true
		words = append(words, wire.DeviceWords(d))
	}
	n, err := s.Obs.Choose(fmt.Sprintf("Which of these is %s?", s.Name), append(words, "none of them"))
	if err != nil || n < 0 || n >= len(maybe) {
		return err
	}
	s.Saw(maybe[n])
	if s.Serial != "" && maybe[n].Serial != "" && s.SameAs != nil { // and so it is found the next time
		return s.SameAs(s.Serial, maybe[n].Serial)
	}
	return nil
}

// Await waits until the phone shows up in one of several modes, of which the first is
// the one that was wanted. With patient set, other modes on the way do not count: a
// person is at work. Errors: *WrongModeError, *adb.NotAuthorisedError (of a system),
// *finding.StopError (of a cable that can't be used), *NotHereError when limit is over.
func (s *Session) Await(ctx context.Context, limit time.Duration, patient bool, modes ...card.Mode) (
	wire.Conn, error) {
	return s.await(ctx, limit, patient, nil, modes)
}

// AwaitHands waits as a patient Await does while a person brings the phone into a mode. One
// that shows up in a mode that takes commands, other than the one it was in, is commanded on.
func (s *Session) AwaitHands(ctx context.Context, limit time.Duration, from card.Mode, modes ...card.Mode) (
	wire.Conn, error) {
	to, tried := modes[0], map[card.Mode]bool{from: true}
	return s.await(ctx, limit, true, func(o *Session) bool {
		if tried[o.Mode()] {
			return false
		}
		tried[o.Mode()] = true
		return taken(o.Restart(ctx, to))
	}, modes)
}

// AwaitAgain waits as Await does for a phone that went away before it answered a restart. One that shows up
// in the mode it was in has not taken that, and is told again.
func (s *Session) AwaitAgain(ctx context.Context, limit time.Duration, patient bool, from card.Mode,
	modes ...card.Mode) (wire.Conn, error) {
	told := false
	return s.await(ctx, limit, patient, func(o *Session) bool {
		if told || o.Mode() != from {
			return false
		}
		told = true
		return taken(o.Restart(ctx, modes[0]))
	}, modes)
}

// taken reports whether a phone took a restart, for all one knows.
func taken(err error) bool {
	var left *link.LeftError
	return err == nil || errors.As(err, &left)
}

// waiting is a wait for a phone to show up in one of several modes.
type waiting struct {
	s       *Session
	modes   []card.Mode // the first is the wanted one
	patient bool
	command func(*Session) bool // sends a phone in another mode on; reports whether it goes
	bar     Bar
	other   card.Mode // it is seen in
	began   time.Time
	asked   bool // for an address
	since   time.Time
	came    map[string]bool // on the cable, each time again
}

func (s *Session) await(ctx context.Context, limit time.Duration, patient bool, command func(*Session) bool,
	modes []card.Mode) (wire.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	var changed <-chan struct{}
	if s.Cable != nil {
		changed = s.Cable.Watch(ctx)
	}
	w := &waiting{s: s, modes: modes, patient: patient, command: command, came: map[string]bool{},
		began: time.Now()}
	strangers := &strangers{asked: map[string]bool{}}
	hint := s.replugHint(modes[0])
	for {
		o, err := s.Connect(ctx, nil)
		s.tellSaid()
		if ctx.Err() == nil { // else it was cut short
			w.bar.Saw(err)
		}
		switch {
		case err == nil && slices.Contains(modes, o.Mode()):
			return o.wire, nil
		case wire.NotAuthorised(err) != nil && modes[0] == card.System:
			return nil, err
		case w.bar.stop != nil:
			w.other = card.None
			if !patient && w.bar.Lasts() {
				return nil, w.bar.stop
			}
			w.bar.Warn(s.Obs) // whoever is at work may be able to do something about it
		case err == nil:
			if err := w.elsewhere(ctx, o); err != nil {
				return nil, err
			}
		default:
			w.other = card.None
			sure, _ := s.OnCable(s.Devices())
			for _, d := range sure {
				w.came[wire.DeviceKey(d)] = true
			}
			if len(sure) == 0 {
				hint()
			}
			if err := strangers.ask(s); err != nil {
				return nil, err
			}
			if c := w.atUsual(ctx); c != nil {
				return c, nil
			}
		}
		if err := wire.PauseOr(ctx, wire.PollEvery, changed); err != nil {
			return nil, w.over(err, limit)
		}
	}
}

// addressAfter is how long a phone may stay away before it is looked for at the usual port.
const addressAfter = 5 * time.Second

// atUsual looks for a phone that none of its addresses reaches in the wanted mode at the usual port of its
// host, once, and says how an address is added.
func (w *waiting) atUsual(ctx context.Context) wire.Conn {
	usual, none := w.s.NoWayTo(w.modes[0])
	if !none || w.asked || time.Since(w.began) < addressAfter {
		return nil
	}
	w.asked = true
	who := w.s.Name
	if !w.s.Listed {
		who = w.s.At[0].String()
	}
	if c, err := w.s.ConnectTo(ctx, usual, nil); err == nil {
		if slices.Contains(w.modes, c.Mode()) {
			w.s.Obs.Say(say.Note, "%s is at %s, which its entry on the bench lacks: jarlid bench name %s "+
				"--at %s",
				w.s.Name, usual, who, usual)
			return c
		}
		c.Close()
	}
	w.s.Obs.Say(say.Todo, "no address of %s reaches %s; add the one where it is: jarlid bench name %s --at "+
		"%s:HOST",
		w.s.Name, w.modes[0], who, usual.Scheme)
	return nil
}

// elsewhere is a phone that shows up in another mode.
func (w *waiting) elsewhere(ctx context.Context, o *Session) error {
	if o.Mode() != w.other {
		w.other, w.since = o.Mode(), time.Now()
	}
	if w.command != nil && w.command(o) {
		w.s.Obs.Say(say.Info, "%s showed up in %s and is sent on into %s", w.s.Name, w.other, w.modes[0])
		o.Gone(ctx)
	}
	o.Close()
	if !w.patient && time.Since(w.since) > settle {
		return &WrongModeError{Want: w.modes[0], Got: w.other}
	}
	return nil
}

// over is the error of a wait that ended without the phone.
func (w *waiting) over(err error, limit time.Duration) error {
	switch {
	case w.other != card.None:
		return &WrongModeError{Want: w.modes[0], Got: w.other}
	case errors.Is(err, context.Canceled):
		return err
	case w.bar.stop != nil:
		return w.bar.stop
	}
	text := fmt.Sprintf("%s did not show up in %s within %s", w.s.Name, w.modes[0], limit.Round(time.Second))
	if len(w.came) >= restless {
		text += fmt.Sprintf("; it came and went %d times on its cable: the cable, the hub or the "+
			"battery is bad, or it restarts in a loop", len(w.came))
	}
	return &wire.NotHereError{Name: w.s.Name, Text: text}
}
