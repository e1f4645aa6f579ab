package act

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/link/fastboot"
	"jarlid/internal/say"
)

// activate chooses a slot.
func (j *Actor) activate(ctx context.Context, s *plan.Activate) (Done, error) {
	answers, err := j.SetActive(ctx, s.Slot)
	d := Done{Answers: answers}
	if err != nil {
		return d, err
	}
	plan.Apply(s, j.Card)
	return d, j.Reread(ctx)
}

// activated reads back which slot is next.
func (j *Actor) activated(_ context.Context, s *plan.Activate, _ Done) (string, error) {
	next := j.Card.Get(card.FactNext)
	if next.Source != card.Read {
		return journal.PhoneWord, nil
	}
	if next.Value != s.Slot {
		return "", &link.RefusedError{Command: "choose slot " + s.Slot, Message: "it said yes, and slot " +
			next.Value + " is still next"}
	}
	return journal.ReadBack, nil
}

// makeRoom gives a logical partition the size that is needed, taking away what
// has to go.
func (j *Actor) makeRoom(ctx context.Context, s *plan.MakeRoom) (Done, error) {
	d := Done{}
	room := place.RoomFor(j.Card, s.Name(), s.Need)
	do := func(format string, args ...any) error {
		answers, err := j.Command(ctx, fmt.Sprintf(format, args...), fastboot.LimitWrite)
		d.Answers = append(d.Answers, answers...)
		return err
	}
	if room.Known && room.Fits && s.Need <= room.Have {
		d.Looked = true
		return d, nil // it is large enough already
	}
	for _, p := range room.Delete {
		j.Obs.Say(say.Wait, "taking away %s", p)
		if err := do("delete-logical-partition:%s", j.Spelling(p)); err != nil {
			return d, err
		}
	}
	j.Obs.Say(say.Wait, "giving %s room for %s", s.Name(), image.Size(s.Need))
	if err := do("resize-logical-partition:%s:%d", j.Spelling(s.Name()),
		image.Align(s.Need, 4096)); err != nil {
		return d, err
	}
	plan.Apply(s, j.Card)
	return d, j.Reread(ctx)
}

// roomMade reads back how large the partition is.
func (j *Actor) roomMade(_ context.Context, s *plan.MakeRoom, d Done) (string, error) {
	n, known := j.Card.Number(card.FactSize.Of(s.Name()))
	if d.Looked || !known || j.Card.Get(card.FactSize.Of(s.Name())).Source != card.Read {
		return journal.PhoneWord, nil
	}
	if n < s.Need {
		return "", &link.RefusedError{Command: s.Title(),
			Message: fmt.Sprintf("it said yes, and %s has %d bytes", s.Name(), n)}
	}
	return journal.ReadBack, nil
}

// erase erases one partition.
func (j *Actor) erase(ctx context.Context, s *plan.Erase) (Done, error) {
	d := Done{Confirm: journal.PhoneWord}
	if err := j.erasePartition(ctx, s.Name(), &d); err != nil {
		return d, err
	}
	plan.Apply(s, j.Card)
	return d, nil
}

// unknownCommand tells a refusal of a command the bootloader does not know from
// one of what was asked; the protocol has no other sign for it than the words.
func unknownCommand(err error) bool {
	var refused *link.RefusedError
	return errors.As(err, &refused) && strings.Contains(strings.ToLower(refused.Message), "unknown")
}

// learnRefusal keeps that a bootloader does not know a command, so that the
// next job knows it beforehand, and reports whether that is so.
func (j *Actor) learnRefusal(command string, err error) bool {
	unknown := unknownCommand(err)
	if unknown {
		j.Card.Learn(card.FactCommand.Of(command), "no", card.Journal)
	}
	return unknown
}
