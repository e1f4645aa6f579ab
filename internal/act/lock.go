package act

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/model"
	"jarlid/internal/core/plan"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/phone"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

// unlock sends the command this bootloader knows, waits for the person at the
// phone, and reads whether it is open.
func (j *Actor) unlock(ctx context.Context, s *plan.Unlock) (Done, error) {
	d := Done{}
	commands := slices.Clone(model.Unlocks)
	if m := j.Model(); m != nil && m.Bootloader.Unlock != "" {
		commands = []string{m.Bootloader.Unlock}
	}
	if j.Code != "" {
		commands[len(commands)-1] += " " + j.Code
		commands = commands[len(commands)-1:]
	}
	if err := j.lockHands("unlock"); err != nil {
		return Done{}, err
	} // before the command: some answer it only after the person has
	// Whoever is at the phone decides: until then nothing is under way that could break.
	ctx, end := j.awaiting(ctx)
	defer end()
	var err error
	for _, cmd := range commands {
		var answers []string
		answers, err = j.Command(ctx, cmd, handsLimit)
		for _, a := range answers {
			d.Answers = append(d.Answers, j.hideCode(a))
		}
		err = j.withoutCode(err)
		if !unknownCommand(err) {
			break
		}
		if j.Code == "" { // which is kept nowhere
			j.Card.Learn(card.FactCommand.Of(cmd), "no", card.Journal)
		}
	}
	if Stopped(ctx, err) == ErrStopped {
		return d, ErrStopped
	}
	var lost *link.LostError
	if err != nil && !errors.As(err, &lost) { // some restart before they answer
		return d, err
	}
	return j.lockSettled(ctx, d, s)
}

// hideCode takes the code out of a text: it is told to nobody and kept nowhere.
func (j *Actor) hideCode(text string) string {
	if j.Code == "" {
		return text
	}
	return strings.ReplaceAll(text, j.Code, "(the code)")
}

// withoutCode takes the code out of what a phone's refusal, or a lost connection, says.
func (j *Actor) withoutCode(err error) error {
	var refused *link.RefusedError
	var lost *link.LostError
	var rule *link.ProtocolError
	switch {
	case errors.As(err, &rule):
		return &link.ProtocolError{Protocol: rule.Protocol, What: j.hideCode(rule.What)}
	case errors.As(err, &refused):
		return &link.RefusedError{Command: j.hideCode(refused.Command), Message: j.hideCode(refused.Message)}
	case errors.As(err, &lost):
		return &link.LostError{During: j.hideCode(lost.During), Err: lost.Err}
	case err != nil && j.hideCode(err.Error()) != err.Error():
		return errors.New(j.hideCode(err.Error()))
	}
	return err
}

// relock sends the published command and waits until the bootloader says that it
// is shut.
func (j *Actor) relock(ctx context.Context, s *plan.Relock) (Done, error) {
	if err := j.lockHands("relock"); err != nil {
		return Done{}, err
	}
	command := "flashing lock"
	if m := j.Model(); m != nil && strings.HasPrefix(m.Bootloader.Unlock, "oem unlock") {
		command = "oem lock" // its older counterpart
	}
	ctx, end := j.awaiting(ctx)
	defer end()
	answers, err := j.Command(ctx, command, handsLimit)
	if Stopped(ctx, err) == ErrStopped {
		return Done{}, ErrStopped
	}
	d := Done{Answers: answers}
	var lost *link.LostError
	if err != nil && !errors.As(err, &lost) { // some restart before they answer
		return d, err
	}
	return j.lockSettled(ctx, d, s)
}

// lockHands shows how the phone's own question about its lock is answered.
func (j *Actor) lockHands(recipe string) error {
	return j.Obs.Hands(j.Hand(recipe,
		`Read the question on the phone's screen and answer "yes" with its keys.`), handsLimit)
}

// lockSettled waits until the bootloader says that the lock is as a step leaves it;
// that erased the data, which a bootloader does not tell.
func (j *Actor) lockSettled(ctx context.Context, d Done, s plan.Step) (Done, error) {
	before := j.Card
	after := before.Clone()
	plan.Apply(s, after)
	open := after.Value(card.FactUnlocked) == "yes"
	silent, err := j.awaitLock(ctx, open)
	if err != nil {
		j.Card = before
		return d, Stopped(ctx, err)
	}
	d.Confirm = journal.ReadBack
	if silent {
		if d.Confirm, err = j.lockSeen(open); err != nil {
			j.Card = before
			return d, err
		}
	}
	if err := j.SameSerial(before, false); err != nil {
		return d, err
	}
	now := j.Card
	j.Card = now.Clone()
	j.Card.Merge(after)
	for _, i := range after.IDs() { // what was read of the data is older than the step
		changed := after.Get(i)
		switch {
		case changed == before.Get(i) || now.Get(i).Source == card.Read:
		case d.Confirm == journal.NotKnown && i != card.FactDebugging.ID(): // a person switches it on again
			j.Card.Forget(i, "the bootloader does not report whether it is locked")
		default:
			j.Card.Set(i, changed)
		}
	}
	return d, nil
}

// lockSeen asks the person at the phone about the lock that its bootloader does not report, and gives the
// source.
func (j *Actor) lockSeen(open bool) (confirmed string, err error) {
	is := map[bool]string{true: "unlocked", false: "locked"}[open]
	if j.Yes {
		return journal.NotKnown, nil // nobody was asked
	}
	yes, err := j.confirm(fmt.Sprintf("%s does not report whether it is locked. Does its screen show that "+
		"it is %s now?",
		j.Name, is))
	switch {
	case errors.Is(err, say.ErrNobody):
		return journal.NotKnown, nil
	case err != nil:
		return "", err
	case !yes:
		return "", &UnknownError{Text: "the phone is not " + is + ", as you say",
			Hint: "run the command again"}
	}
	return SaidSo, nil
}

// lockEvery is how often a bootloader is asked whether its lock has changed.
const lockEvery = 300 * time.Millisecond

// lockIs gives what a bootloader reports of its lock; known is false where it does not, here whether it was
// asked.
func lockIs(ctx context.Context, s *phone.Session) (open, known, here bool) {
	if !s.HasLoader() || s.Read(ctx) != nil {
		return false, false, false
	}
	open, known = s.Card.Yes(card.FactUnlocked)
	return open, known && s.Card.Get(card.FactUnlocked).Source == card.Read, true
}

// awaitLock looks again and again until the bootloader reports that it is open, or shut. silent: it reports
// neither.
func (j *Actor) awaitLock(ctx context.Context, open bool) (silent bool, err error) {
	j.Drop()
	var bar phone.Bar
	for end := time.Now().Add(handsLimit); time.Now().Before(end); {
		s, err := j.Connect(ctx, nil)
		bar.Saw(err)
		bar.Warn(j.Obs)
		if err == nil {
			is, known, here := lockIs(ctx, s)
			if here && (known && is == open || !known) {
				j.Use(s.Wire())
				if err := wire.Pause(ctx, wire.SecondLook); err != nil {
					return false, err
				}
				err := j.Read(ctx)
				var lost *link.LostError
				if !errors.As(err, &lost) {
					return !known, err
				}
				j.Drop() // it had said so, and restarted then, as many do
				continue
			}
			s.Close()
		}
		if err := wire.Pause(ctx, lockEvery); err != nil {
			return false, err
		}
	}
	what, still := "unlock", "locked"
	if !open {
		what, still = "lock", "open"
	}
	return false, &link.RefusedError{Command: what, Message: "it is still " + still +
		": nobody said yes at the phone, or it restarted into another mode"}
}
