package act

import (
	"context"
	"errors"

	"jarlid/internal/core/card"
	"jarlid/internal/core/model"
	"jarlid/internal/core/plan"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/phone/shell"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

// formatData formats the data in the way this mode has.
func (j *Actor) formatData(ctx context.Context, s *plan.FormatData) (Done, error) {
	var rec Done
	var err error
	switch {
	case j.HasLoader():
		rec, err = j.eraseData(ctx)
	case j.Card.Value(card.FactRoot) == "yes":
		rec, err = j.formatByShell(ctx)
	default:
		rec, err = j.formatByHand()
	}
	if err != nil {
		return rec, err
	}
	plan.Apply(s, j.Card)
	return rec, nil
}

// eraseData erases userdata, and metadata where there is one: a system formats
// what it finds erased.
func (j *Actor) eraseData(ctx context.Context) (Done, error) {
	d := Done{Confirm: journal.PhoneWord}
	for _, p := range plan.DataPartitions(j.Card) {
		if err := j.erasePartition(ctx, p, &d); err != nil {
			return d, err
		}
	}
	return d, nil
}

func (j *Actor) erasePartition(ctx context.Context, p card.Partition, d *Done) error {
	j.Obs.Say(say.Wait, "erasing %s; this can be silent for minutes", p)
	answers, err := j.Erase(ctx, p.String())
	d.Answers = append(d.Answers, answers...)
	return err
}

// formatByShell formats through the recovery's root shell, with the file
// system its table of mounts names, and reads back what is there then.
func (j *Actor) formatByShell(ctx context.Context) (Done, error) {
	rec := Done{}
	for _, p := range []struct{ name, mount string }{{"userdata", "/data"}, {"metadata", "/metadata"}} {
		_, err := j.format(ctx, card.At(p.name, ""), p.mount, &rec)
		var none *shell.NoMakerError
		switch {
		case errors.Is(err, wire.ErrNoPartition) && p.name == "metadata":
			continue
		case errors.As(err, &none):
			return rec, j.tellRecovery(ctx, &rec, "--wipe_data")
		case err != nil:
			return rec, err
		}
	}
	if err := j.answerMessage(ctx); err != nil {
		return rec, err
	}
	state, err := j.DataState(ctx)
	switch {
	case err != nil:
		return rec, err
	case state == card.DataEncrypted:
		return rec, &link.RefusedError{Command: "format userdata",
			Message: "read back, the data is still encrypted"}
	case state == card.DataFormatted:
		rec.Confirm = journal.ReadBack
	default:
		rec.Confirm = journal.PhoneWord
	}
	return rec, nil
}

// formatByHand has a person do it in the recovery's menu; nobody can read back
// that it was done.
func (j *Actor) formatByHand() (Done, error) {
	r := j.Hand("format-data",
		`On the phone, choose the menu entry that formats all data (not just the caches).`)
	return j.doneByHand(r, "Does the phone say that the data was formatted?", "format the data")
}

// doneByHand shows what to do in the recovery's menu and asks whether it was done;
// nobody can read that back.
func (j *Actor) doneByHand(r model.Recipe, question, what string) (Done, error) {
	if err := j.Obs.Hands(r, handsLimit); err != nil {
		return Done{}, err
	}
	yes, err := j.confirm(question)
	if err != nil {
		return Done{}, err
	}
	if !yes {
		return Done{}, &link.RefusedError{Command: what,
			Message: "the person at the phone says that it was not done"}
	}
	return Done{Confirm: journal.NotKnown}, nil
}

// format formats one partition through the recovery's root shell, and reports whether what is there was read
// back. A recovery that has no program for it is a *shell.NoMakerError.
func (j *Actor) format(ctx context.Context, p card.Partition, mount string, rec *Done) (sure bool,
	err error) {
	j.Obs.Say(say.Wait, "formatting %s", p)
	made, err := j.MakeEmpty(ctx, p, mount)
	if made.Said != "" {
		rec.Answers = append(rec.Answers, made.Said)
	}
	return made.ReadBack, err
}
