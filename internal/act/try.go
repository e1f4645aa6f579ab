package act

import (
	"context"
	"errors"
	"path/filepath"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/plan"
	"jarlid/internal/journal"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

// tryLimit is how long a recovery that was sent may take until it shows up;
// one without a shell never does.
const tryLimit = 90 * time.Second

// try sends an image and has the bootloader start it.
func (j *Actor) try(ctx context.Context, s *plan.Try) (Done, error) {
	src, err := j.Verifier.Source(s.File.Path, s.File.Size)
	if err != nil {
		return Done{}, err
	}
	defer src.Close()
	d := Done{Bytes: s.File.Size, Confirm: journal.ReadBack}
	m := say.NewMeter(j.Obs, say.Send, filepath.Base(s.File.Path), s.File.Size)
	hctx, cancel := context.WithCancel(ctx)
	defer cancel()
	sum := j.Sums.Digest(hctx, src)
	d.Answers, err = j.Start(ctx, src.Reader(), s.File.Size, m.Set)
	m.End()
	if err != nil {
		cancel()
		_, _ = sum() // it ends with the context
		if j.learnRefusal("boot", err) && len(s.Otherwise) > 0 {
			j.Obs.Say(say.Note, "this bootloader starts no image that is not written; the recovery's "+
				"image is "+
				"written whole")
			return Done{Confirm: journal.PhoneWord, Looked: true, Further: s.Otherwise, InPlace: 1}, nil
		}
		return d, err
	}
	if d.SHA256, err = sum(); err == nil {
		err = src.Sent(d.SHA256)
	}
	if err != nil {
		return d, err
	}
	j.Obs.Say(say.Wait, "the phone starts it")
	before := j.Card
	j.Gone(ctx)
	j.Card = before.Clone()
	plan.Apply(s, j.Card)
	w, err := j.Await(ctx, tryLimit, false, card.Recovery)
	var away *wire.NotHereError
	if errors.As(err, &away) {
		d.Confirm = journal.NotKnown
		return d, nil
	}
	if err != nil {
		after := j.Card
		j.Card = before
		return d, j.whyNot(card.Recovery, after, j.elsewhere(ctx, card.Recovery, before, before, err))
	}
	effects := j.Card
	if err := j.arrived(ctx, w, before, card.Recovery, false); err != nil {
		return d, err
	}
	// What runs is on no slot: what the slot holds is what it held before.
	if home := j.home(j.Card, j.Card.Value(card.FactStarted)); home.Base != "" {
		for _, f := range []card.ID{card.FactHolds.Of(home), card.FactDigest.Of(home)} {
			j.Card.Set(f, before.Get(f))
		}
	}
	j.Card.Set(card.FactTemporary, effects.Get(card.FactTemporary))
	return d, nil
}
