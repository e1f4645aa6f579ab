package act

import (
	"bytes"
	"context"
	"errors"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image/bcb"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/say"
)

// changeMessage changes the bootloader message through the recovery's root shell and compares it after the
// write; there reports whether misc is readable. The rest of misc is left as it is. change reports whether
// there is a message to write.
func (j *Actor) changeMessage(ctx context.Context, change func(*bcb.Message) bool) (there bool, err error) {
	misc, err := j.ReadBlock(ctx, "misc", bcb.Size)
	if err != nil || misc == nil {
		return false, err
	}
	m, err := bcb.ParseMessage(misc)
	if err != nil || !change(&m) {
		return true, err
	}
	if err := m.Put(misc); err != nil {
		return true, err
	}
	want := misc[:bcb.MessageSize]
	if err := j.WritePartition(ctx, card.At("misc", ""), strings.NewReader(string(want)),
		func(int64) {}); err != nil {
		return true, err
	}
	got, err := j.ReadBlock(ctx, "misc", bcb.MessageSize)
	if err == nil && !bytes.Equal(got, want) {
		err = &link.RefusedError{Command: "write misc", Message: "read back, misc holds another message"}
	}
	return true, err
}

// answerMessage takes away what a system that gave up left in misc, as a recovery does once its owner has
// chosen: it would lead each start into the recovery again.
func (j *Actor) answerMessage(ctx context.Context) error {
	if place.LeftInMisc(j.Card) == "" {
		return nil
	}
	_, err := j.changeMessage(ctx, func(m *bcb.Message) bool {
		if !m.GaveUp() {
			return false
		}
		j.Obs.Say(say.Info, "the request that the system left in misc when it gave up (%s) is taken away; "+
			"with it each start would end in the recovery", strings.Join(m.Recovery[1:], " "))
		*m = bcb.Message{Status: m.Status}
		return true
	})
	if err == nil {
		j.Card.Learn(card.FactReason, "none", card.Read)
	}
	return err
}

// tellRecovery leaves an order for the recovery in the bootloader message and reboots into it: it wipes by
// itself and starts the system. The rest of misc is left as it is; where it can't be read it is not written.
func (j *Actor) tellRecovery(ctx context.Context, rec *Done, order string) error {
	there, err := j.changeMessage(ctx, func(m *bcb.Message) bool {
		m.Command, m.Recovery = bcb.CommandRecovery, []string{"recovery", order}
		return true
	})
	if err != nil {
		return err
	}
	if !there {
		return &link.RefusedError{Command: order, Message: "the recovery has no program to format with, " +
			"and misc can't be read, so no order is left there; choose it in the recovery's menu"}
	}
	j.Obs.Say(say.Info, "this recovery has no program to format with; it was left an order in the "+
		"bootloader message (%s), does it by itself and starts the system", order)
	var left *link.LeftError
	if err := j.Restart(ctx, card.Recovery); err != nil && !errors.As(err, &left) {
		return err
	}
	before := j.Card
	j.Gone(ctx)
	effects := j.Card.Clone()
	plan.Apply(&plan.Restart{From: card.Recovery, To: card.System}, effects)
	if order == "--wipe_data" {
		plan.Apply(&plan.FormatData{}, effects)
	}
	w, err := j.awaitSystem(ctx, effects, j.Await)
	if err != nil {
		return err
	}
	j.Card = effects
	if w != nil {
		if err := j.arrived(ctx, w, before, card.System, false); err != nil {
			return err
		}
		j.fellBack(effects.Value(card.FactStarted))
	}
	rec.Confirm = journal.PhoneWord
	if left != nil && w == nil {
		rec.Confirm = journal.NotKnown // the order to reboot may be lost
	}
	return nil
}
