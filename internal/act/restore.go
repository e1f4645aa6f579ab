package act

import (
	"context"
	"fmt"
	"path"
	"path/filepath"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/plan"
	"jarlid/internal/files"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/phone"
	"jarlid/internal/say"
)

// restoreFiles sends the files of a backup to the shared storage, with their times.
func (j *Actor) restoreFiles(ctx context.Context, s *plan.RestoreFiles) (Done, error) {
	rec := Done{Confirm: journal.ReadBack}
	at, err := j.Mount(ctx, phone.AreaStorage)
	if err != nil {
		return rec, err
	}
	m := say.NewMeter(j.Obs, say.Send, "the shared storage", s.Item.Bytes)
	defer m.End()
	done := int64(0)
	for _, f := range s.Item.Files {
		if err := j.restoreFile(ctx, filepath.Join(s.Dir, filepath.FromSlash(f.At())), path.Join(at, f.Path),
			f.Time, func(n int64) {
				m.Set(done + n)
			}); err != nil {
			return rec, err
		}
		there, err := j.Shell().Digest(ctx, path.Join(at, f.Path))
		switch {
		case err != nil:
			return rec, err
		case there == "":
			rec.Confirm = journal.PhoneWord
		case there != f.SHA256:
			return rec, &link.RefusedError{Command: s.Title(), Message: f.Path +
				" arrived with another digest"}
		}
		done += f.Bytes
	}
	rec.Bytes = done
	plan.Apply(s, j.Card)
	return rec, nil
}

func (j *Actor) restoreFile(ctx context.Context, local, to string, when time.Time, moved func(int64)) error {
	f, _, err := files.Open(local)
	if err != nil {
		return err
	}
	defer f.Close()
	return j.Push(ctx, to, 0o100660, when, f, moved)
}

// copySlot copies a partition on the phone and compares the digests of both.
func (j *Actor) copySlot(ctx context.Context, s *plan.CopySlot) (Done, error) {
	rec := Done{Confirm: journal.ReadBack}
	from, err := j.Block(ctx, s.Source())
	if err != nil {
		return rec, err
	}
	to, err := j.Block(ctx, s.Target())
	if err != nil {
		return rec, err
	}
	j.Obs.Say(say.Wait, "the phone copies %s to %s", s.Source(), s.Target())
	if err := j.Shell().Copy(ctx, from, to); err != nil {
		return rec, err
	}
	rec.Bytes = from.Size
	a, err := j.DigestOf(ctx, s.Source())
	if err != nil {
		return rec, err
	}
	b := ""
	if to.Size == from.Size { // of a larger one the digest says nothing
		if b, err = j.DigestOf(ctx, s.Target()); err != nil {
			return rec, err
		}
	}
	switch {
	case a == "" || b == "":
		rec.Confirm = journal.PhoneWord
	case a != b:
		return rec, &link.RefusedError{Command: s.Title(),
			Message: fmt.Sprintf("read back, %s has the digest %s and %s has %s", s.Source(), a, s.Target(),
				b)}
	}
	rec.SHA256 = a
	plan.Apply(s, j.Card)
	if a != "" {
		j.Card.Set(card.FactDigest.Of(s.Source()), card.Fact{Value: a, Source: card.Read, Mode: j.Mode(),
			At: time.Now().UTC()})
		j.Card.Learn(card.FactDigest.Of(s.Target()), a, card.Journal)
	}
	return rec, nil
}
