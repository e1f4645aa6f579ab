package phone

import (
	"context"
	"fmt"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

// Connect connects to the phone in whatever mode it is in. offered, when not nil, shows this computer's key
// to a phone that does not know it, is called then, and the owner's answer is awaited until ctx ends. The
// session has an empty card. Errors: those of wire.Phone.Open.
func (p *Phone) Connect(ctx context.Context, offered func()) (*Session, error) {
	w, err := p.Open(ctx, offered)
	if err != nil {
		return nil, err
	}
	s := p.NewSession(&card.Card{}, say.To{Phone: p.Name})
	s.Use(w)
	return s, nil
}

// Denied is the error of a phone that does not know this computer's key.
func (p *Phone) Denied(fingerprint string) error {
	return finding.Stopped(finding.NotAuthorised, p.Name,
		fmt.Sprintf("%s does not know this computer's key (fingerprint %s)", p.Name, fingerprint),
		"wake the phone, answer the question on its screen, and run the command again")
}

// offersAtMost is how often a phone that hangs up is shown the key. It hangs up when its owner says no, and
// when its owner toggles debugging, as a person is asked to.
const offersAtMost = 3

// OfferKey shows the key and waits for the owner, for as long as a minute or two. A phone whose
// owner toggles debugging meanwhile is asked again.
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
	offers := 0
	offered := func() {
		if offers++; offers > 1 {
			obs.Say(say.Wait, "the connection ended without an answer; the phone is asked again")
			return
		}
		obs.Say(say.Info, "%s asks its owner about this computer's key, fingerprint %s", p.Name,
			key.Fingerprint())
		if obs.Hands(p.Hand("allow-key", "Wake the phone and allow debugging for this computer on its "+
			"screen."), allowLimit) != nil {
			refuse() // nobody is there to allow it
		}
	}
	s, err := p.Connect(ctx, offered)
	for err != nil && offers < offersAtMost && wire.Pause(ctx, wire.SecondLook) == nil {
		s, err = p.Connect(ctx, offered)
	}
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
	if wire.NotAuthorised(err) != nil {
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
