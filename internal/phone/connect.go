package phone

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/link"
	"jarlid/internal/link/fastboot"
	"jarlid/internal/say"
)

const (
	// connectLimit is how long a phone may take to be reached, and answerLimit how long until its
	// first answers have come, in a look at the bench: some bootloaders think for five seconds.
	connectLimit = 4 * time.Second
	answerLimit  = 12 * time.Second
	// helloLimit is that of a manufacturer's loader: its hello is sent four times, three seconds apart.
	helloLimit = 15 * time.Second
	// cableLimit is that of a cable: rights come late, and a phone that an earlier program left
	// in the middle of a message is brought round in three tries of five seconds.
	cableLimit = 35 * time.Second
	pollEvery  = 150 * time.Millisecond
	// restless is how often a phone may come and go on its cable while it is waited for.
	restless = 3
	// settle is how long a phone may be seen in another mode before that is taken for where it ended up:
	// some pass through the bootloader. As long may something keep this program from it.
	settle = 6 * time.Second
	// allowLimit is how long the owner has to allow this computer's key.
	allowLimit = 2 * time.Minute
)

// Connect connects to the phone in whatever mode it is in. offered, when not nil,
// shows this computer's key to a phone that does not know it, is called then, and
// the owner's answer is awaited until ctx ends. The session has an empty card.
// Errors: *NotHereError, *adb.NotAuthorisedError, *link.ProtocolError.
func (p *Phone) Connect(ctx context.Context, offered func()) (*Session, error) {
	at := p.addresses()
	if err := p.twice(at); err != nil {
		return nil, err
	}
	if offered == nil {
		limit := connectLimit
		for _, a := range at {
			if s, ok := schemeOf(a.Scheme); ok {
				limit = max(limit, s.limit)
			}
		}
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, limit)
		defer cancel()
	}
	type result struct {
		w   Wire
		err error
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	results := make(chan result, len(at))
	for _, a := range at {
		go func() {
			w, err := p.connectTo(ctx, a, offered)
			results <- result{w, err}
		}()
	}
	var last error
	for left := len(at) - 1; left >= 0; left-- {
		r := <-results
		if r.err == nil {
			// Another address that answers too belongs to another mode of the same
			// phone and cannot: let it go.
			go func() {
				for range left {
					if o := <-results; o.w != nil {
						o.w.Close()
					}
				}
			}()
			s := p.NewSession(&card.Card{}, say.To{Phone: p.Name})
			s.Use(r.w)
			return s, nil
		}
		if last == nil || tells(r.err) {
			last = r.err
		}
	}
	var lost *link.LostError
	var swallowed *fastboot.SwallowedError
	if errors.As(last, &lost) && !errors.As(last, &swallowed) || last == nil {
		return nil, &NotHereError{Name: p.Name, Text: fmt.Sprintf("%s does not answer at %s", p.Name,
			addressWords(at))}
	}
	return nil, last
}

// twice: two devices that could be the phone are never chosen from.
func (p *Phone) twice(at []Address) *finding.StopError {
	var ports []string
	for _, a := range at {
		if a.Scheme == cableScheme {
			ports = append(ports, a.String())
		}
	}
	if len(ports) < 2 {
		return nil
	}
	return finding.Stopped(finding.SeveralPhones, p.Name, fmt.Sprintf("%s could be any of these: %s", p.Name,
		strings.Join(ports, ", ")),
		"name the one that is meant by its socket, such as --on "+ports[0])
}

// tells reports whether an error says more than that nothing answers.
func tells(err error) bool {
	var rule *link.ProtocolError
	var stop *finding.StopError
	var swallowed *fastboot.SwallowedError
	return NotAuthorised(err) != nil || errors.As(err, &rule) || errors.As(err, &stop) ||
		errors.As(err, &swallowed)
}

// dial reaches an address; a way that leads nowhere is given up before an answer would be.
func (p *Phone) dial(ctx context.Context, network, place string) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, connectLimit)
	defer cancel()
	return p.Dial.DialContext(ctx, network, place)
}

func addressWords(at []Address) string {
	var list []string
	for _, a := range at {
		list = append(list, a.String())
	}
	if len(list) == 0 {
		return "any address"
	}
	return strings.Join(list, " and ")
}

func (p *Phone) connectTo(ctx context.Context, a Address, offered func()) (Wire, error) {
	s, ok := schemeOf(a.Scheme)
	if !ok {
		return nil, &AddressError{a.String(), AddressForms()}
	}
	return s.open(ctx, p, a, offered)
}

// Denied is the error of a phone that does not know this computer's key.
func (p *Phone) Denied(fingerprint string) error {
	return finding.Stopped(finding.NotAuthorised, p.Name,
		fmt.Sprintf("%s does not know this computer's key (fingerprint %s)", p.Name, fingerprint),
		"wake the phone, answer the question on its screen, and run the command again")
}

// OfferKey shows the key and waits for the owner, for as long as a minute or two.
func (p *Phone) OfferKey(ctx context.Context, obs say.To) (*Session, error) {
	ctx, cancel := context.WithTimeout(ctx, allowLimit)
	defer cancel()
	key, err := p.Key()
	if err != nil {
		return nil, err
	}
	if obs.Nobody {
		return nil, p.Denied(key.Fingerprint())
	}
	ctx, refuse := context.WithCancel(ctx)
	defer refuse()
	s, err := p.Connect(ctx, func() {
		obs.Say(say.Info, "%s asks its owner about this computer's key, fingerprint %s", p.Name,
			key.Fingerprint())
		if obs.Hands(p.Hand("allow-key", "Wake the phone and allow debugging for this computer on its "+
			"screen."), allowLimit) != nil {
			refuse() // nobody is there to allow it
		}
	})
	if err != nil {
		return nil, p.Denied(key.Fingerprint())
	}
	s.Obs = obs
	return s, nil
}

// Reach connects to the phone. One that does not know this computer's key is shown it,
// and the owner's answer awaited; without one that is the finding not-authorised.
func (p *Phone) Reach(ctx context.Context, obs say.To) (*Session, error) {
	s, err := p.Connect(ctx, nil)
	if NotAuthorised(err) != nil {
		return p.OfferKey(ctx, obs)
	}
	if err == nil {
		s.Obs = obs
		s.tellSaid()
	}
	return s, err
}

// tellSaid tells what was done to bring the phone round.
func (s *Session) tellSaid() {
	for _, text := range s.Said() {
		s.Obs.Say(say.Info, "%s: %s", s.Name, text)
	}
}

// Await waits until the phone shows up in one of several modes, of which the first is
// the one that was wanted. With patient set, other modes on the way do not count: a
// person is at work. Errors: *WrongModeError, *adb.NotAuthorisedError (of a system),
// *finding.StopError (of a cable that can't be used), *NotHereError when limit is over.
func (s *Session) Await(ctx context.Context, limit time.Duration, patient bool, modes ...card.Mode) (
	Wire, error) {
	return s.await(ctx, limit, patient, nil, modes)
}

// AwaitHands waits as a patient Await does while a person brings the phone into a mode. One
// that shows up in a mode that takes commands, other than the one it was in, is commanded on.
func (s *Session) AwaitHands(ctx context.Context, limit time.Duration, from card.Mode, modes ...card.Mode) (
	Wire, error) {
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
	modes ...card.Mode) (Wire, error) {
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

func (s *Session) await(ctx context.Context, limit time.Duration, patient bool, command func(*Session) bool,
	modes []card.Mode) (Wire, error) {
	want := modes[0]
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	var changed <-chan struct{}
	if s.Cable != nil {
		changed = s.Cable.Watch(ctx)
	}
	strangers := &strangers{asked: map[string]bool{}}
	hint := s.replugHint(want)
	came := map[string]bool{} // on the cable, each time again
	var other card.Mode
	var since time.Time // it is seen in that
	var bar Bar
	for {
		o, err := s.Connect(ctx, nil)
		s.tellSaid()
		if ctx.Err() == nil { // else it was cut short
			bar.Saw(err)
		}
		switch {
		case err == nil && slices.Contains(modes, o.Mode()):
			return o.wire, nil
		case NotAuthorised(err) != nil && want == card.System:
			return nil, err
		case bar.stop != nil:
			other = card.None
			if !patient && bar.Lasts() {
				return nil, bar.stop
			}
			bar.Warn(s.Obs) // whoever is at work may be able to do something about it
		case err == nil:
			if o.Mode() != other {
				other, since = o.Mode(), time.Now()
			}
			if command != nil && command(o) {
				s.Obs.Say(say.Info, "%s showed up in %s and is sent on into %s", s.Name, other, want)
				o.Gone(ctx)
			}
			o.Close()
			if !patient && time.Since(since) > settle {
				return nil, &WrongModeError{Want: want, Got: other}
			}
		default:
			other = card.None
			sure, _ := s.OnCable(s.devices())
			for _, d := range sure {
				came[deviceKey(d)] = true
			}
			if len(sure) == 0 {
				hint()
			}
			if err := strangers.ask(s); err != nil {
				return nil, err
			}
		}
		if err := pauseOr(ctx, pollEvery, changed); err != nil {
			if other != card.None {
				return nil, &WrongModeError{Want: want, Got: other}
			}
			if errors.Is(err, context.Canceled) {
				return nil, err
			}
			if bar.stop != nil {
				return nil, bar.stop
			}
			text := fmt.Sprintf("%s did not show up in %s within %s", s.Name, want, limit.Round(time.Second))
			if len(came) >= restless {
				text += fmt.Sprintf("; it came and went %d times on its cable: the cable, the hub or the "+
					"battery is bad, or it restarts in a loop", len(came))
			}
			return nil, &NotHereError{Name: s.Name, Text: text}
		}
	}
}

// A phone that dropped the connection is looked for again before it is said that it does not
// answer, so many times and that far apart: one whose cable fell out is listed again after a second
// or two.
const (
	MoreLooks  = 2
	SecondLook = time.Second
)

// Pause waits, or until ctx ends, and gives ctx's error then.
func Pause(ctx context.Context, d time.Duration) error { return pauseOr(ctx, d, nil) }

// pauseOr is a Pause that ends when something is told, too.
func pauseOr(ctx context.Context, d time.Duration, told <-chan struct{}) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-told:
		return nil
	case <-t.C:
		return nil
	}
}
