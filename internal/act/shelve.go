package act

import (
	"context"
	"fmt"
	"time"

	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/phone"
)

// shelve moves files aside or back, one after the other, and looks where they are.
func (j *Actor) shelve(ctx context.Context, s *plan.Shelve) (Done, error) {
	rec := Done{Confirm: journal.ReadBack}
	for i := range s.Items {
		if err := j.shelveOne(ctx, &s.Items[i], s.Back); err != nil {
			return rec, err
		}
		rec.Answers = append(rec.Answers, fmt.Sprintf("%s: %s to %s", s.Items[i].Partition,
			j.Out.Moves[len(j.Out.Moves)-1].From, j.Out.Moves[len(j.Out.Moves)-1].To))
	}
	plan.Apply(s, j.Card)
	return rec, nil
}

func (j *Actor) shelveOne(ctx context.Context, item *place.Item, back bool) error {
	dev, _, err := j.SystemDevice(ctx, item.Partition.Base)
	if err != nil {
		return err
	}
	if dev == nil {
		return &link.RefusedError{Command: "move " + item.Path,
			Message: "its partition is not there any more"}
	}
	m, err := j.MountSystem(ctx, dev, true)
	if err != nil {
		return err
	}
	defer m.Release(ctx)
	list, err := m.Aside(ctx)
	if err != nil {
		return err
	}
	from, to := item.Inside, item.Aside()
	if back {
		from, to = to, from
	} else {
		// The record comes first: what is moved is never without it.
		list = append(list, phone.ShelfEntry{Path: item.Path, From: item.Inside, Aside: item.Aside(),
			When: time.Now().UTC().Truncate(time.Millisecond)})
		if err := m.Keep(ctx, list); err != nil {
			return err
		}
	}
	if err := m.Move(ctx, from, to); err != nil {
		return err
	}
	if back {
		var rest []phone.ShelfEntry
		for _, e := range list {
			if e.Path != item.Path {
				rest = append(rest, e)
			}
		}
		if err := m.Keep(ctx, rest); err != nil {
			return err
		}
	}
	j.Out.Moves = append(j.Out.Moves, Moved{From: "/" + from, To: "/" + to})
	return nil
}
