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
	"jarlid/internal/link"
	"jarlid/internal/say"
)

const (
	// connectLimit is how long a phone may take to greet, in a look at the bench.
	connectLimit = 4 * time.Second
	pollEvery    = 150 * time.Millisecond
	// settle is how long a phone may be seen in another mode before that is
	// taken for where it ended up: some pass through the bootloader.
	settle = 6 * time.Second
	// allowLimit is how long the owner has to allow this computer's key.
	allowLimit = 2 * time.Minute
)

// Connect connects to the phone in whatever mode it is in. offered, when not nil,
// shows this computer's key to a phone that does not know it, is called then, and
// the owner's answer is awaited until ctx ends. The session has an empty card.
// Errors: *NotHereError, *adb.NotAuthorisedError, *link.ProtocolError.
func (p *Phone) Connect(ctx context.Context, offered func()) (*Session, error) {
	if offered == nil {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, connectLimit)
		defer cancel()
	}
	type result struct {
		w   Wire
		err error
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	at := p.addresses()
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
		var rule *link.ProtocolError
		if last == nil || NotAuthorised(r.err) != nil || errors.As(r.err, &rule) {
			last = r.err
		}
	}
	var lost *link.LostError
	if errors.As(last, &lost) || last == nil {
		return nil, &NotHereError{Name: p.Name, Text: fmt.Sprintf("%s does not answer at %s", p.Name, addressWords(at))}
	}
	return nil, last
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
	return s.open(ctx, p.Host, a, offered)
}

// Denied is the error of a phone that does not know this computer's key.
func (p *Phone) Denied(fingerprint string) error {
	return finding.Stopped(finding.NotAuthorised, p.Name, fmt.Sprintf("%s does not know this computer's key (fingerprint %s)", p.Name, fingerprint),
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
	s, err := p.Connect(ctx, func() {
		obs.Say(say.Info, "%s asks its owner about this computer's key, fingerprint %s", p.Name, key.Fingerprint())
		_ = obs.Hands(p.Hand("allow-key", "Wake the phone and allow debugging for this computer on its screen."), allowLimit)
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
	}
	return s, err
}

// Await waits until the phone shows up in one of several modes, of which the first is
// the one that was wanted. With patient set, other modes on the way do not count: a
// person is at work. Errors: *WrongModeError, *adb.NotAuthorisedError (of a system),
// *NotHereError when limit is over.
func (p *Phone) Await(ctx context.Context, limit time.Duration, patient bool, modes ...card.Mode) (Wire, error) {
	want := modes[0]
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	var other card.Mode
	var since time.Time
	for {
		s, err := p.Connect(ctx, nil)
		switch {
		case err == nil && slices.Contains(modes, s.Mode()):
			return s.wire, nil
		case NotAuthorised(err) != nil && want == card.System:
			return nil, err
		case err == nil:
			if s.Mode() != other {
				other, since = s.Mode(), time.Now()
			}
			s.Close()
			if !patient && time.Since(since) > settle {
				return nil, &WrongModeError{Want: want, Got: other}
			}
		default:
			other = card.None
		}
		if err := Pause(ctx, pollEvery); err != nil {
			if other != card.None {
				return nil, &WrongModeError{Want: want, Got: other}
			}
			if errors.Is(err, context.Canceled) {
				return nil, err
			}
			return nil, &NotHereError{Name: p.Name, Text: fmt.Sprintf("%s did not show up in %s within %s", p.Name, want, limit.Round(time.Second))}
		}
	}
}

// Pause waits, or until ctx ends, and gives ctx's error then.
func Pause(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-t.C:
		return nil
	}
}
