package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/core/card"
	"jarlid/internal/core/place"
	"jarlid/internal/journal"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

func (a *app) slotCommand() *cobra.Command {
	show := func(cmd *cobra.Command, args []string) error {
		if _, err := a.taskEnv(cmd); err != nil {
			return err
		}
		return a.slotShow(cmd.Context())
	}
	c := &cobra.Command{Use: "slot", Short: "Show both slots, choose the next one, copy between them",
		Args: noWords, RunE: show}
	use := &cobra.Command{Use: "use SLOT", Short: "Choose the slot that starts next",
		Args: words(1, 1, "which slot: a, b or other"), ValidArgs: []string{"a", "b", "other"},
		RunE: func(cmd *cobra.Command, args []string) error {
			if to, err := place.ParseTarget("@" + args[0]); err != nil {
				return task.Usage("%v", err)
			} else if to.Slot == "both" {
				return task.Usage("%q is not one slot: a, b or other", args[0])
			}
			return a.run(cmd, &task.SlotUse{Slot: args[0]})
		}}
	var t task.SlotCopy
	mirror := &cobra.Command{Use: "copy [PARTITION...]",
		Short: "Mirror firmware to the other slot, proven by digests",
		Long: "Copies partitions from the slot that runs to the other one, on the phone itself, and " +
			"compares the digests of both. Without\n" +
			"names: the maker's firmware, as the model file lists it. Needs a recovery with a root shell.",
		RunE: func(cmd *cobra.Command, args []string) error {
			t.Partitions = args
			return a.run(cmd, &t)
		}}
	mirror.Flags().StringVar(&t.From, "from", "",
		"the slot to copy from: a or b (default: the one that runs)")
	c.AddCommand(&cobra.Command{Use: "show", Short: "Show both slots side by side, as slot alone does",
		Args: noWords, RunE: show}, use, mirror)
	return c
}

// showChosen shows which slot starts next.
func (a *app) showChosen(t *task.SlotUse, e end) {
	if !e.done {
		return
	}
	r := t.Result(e.job)
	a.result = r
	a.say(e.job.Name, say.Done, "slot %s starts next; its tries are full again, and it counts as not "+
		"yet proven",
		r.Next)
	a.suggest(e.job)
}

// showCopied shows which partitions are the same on both slots.
func (a *app) showCopied(t *task.SlotCopy, e end) {
	if e.job != nil {
		a.result = t.Result(e.job)
	}
	if !e.done {
		return
	}
	for _, w := range e.job.Out.Writes {
		a.say(e.job.Name, say.Done, "%s is the same on both slots, %s", w.Partition,
			map[string]string{journal.ReadBack: "their digests match: " + w.SHA256,
				journal.PhoneWord: "on the phone's word"}[w.Confirmed])
	}
}

func (a *app) slotShow(ctx context.Context) error {
	r, err := task.ShowSlots(ctx, a.env)
	if err != nil {
		return err
	}
	a.result = r
	switch {
	case !r.Told:
		a.say("", say.Warn, "this phone does not say whether it has slots")
		return nil
	case len(r.Slots) == 0:
		a.say("", say.Good, "this phone has no slots: one of everything")
		return nil
	}
	var lines [][]string
	for _, s := range r.Slots {
		tries := "unknown"
		if s.Tries != nil {
			tries = fmt.Sprint(*s.Tries)
		}
		lines = append(lines, []string{s.Slot, yesWord(s.Started), yesWord(s.Next), yesWord(s.Bootable),
			yesWord(s.Successful), tries, heldWords(s.Holds)})
	}
	a.out.Table([]string{"SLOT", "STARTED FROM", "STARTS NEXT", "BOOTABLE", "PROVEN", "TRIES LEFT", "HOLDS"},
		lines)
	a.sayHeld(r)
	if r.Card.Mode() == card.Bootloader {
		a.say("", say.Note, "in the bootloader nothing has been started from a slot yet")
	}
	started, next := r.Card.Value(card.FactStarted), r.Card.Value(card.FactNext)
	if started != "" && next != "" && started != next {
		a.say("", say.Note, "started from and starts next differ: something was installed to slot %s or it "+
			"was chosen; a restart goes there", next)
	}
	return nil
}

// heldWords names a slot's system, the most that fits a table.
func heldWords(held []place.Held) string {
	for _, h := range held {
		if h.What == "system" {
			return place.ShortBuild(h.Value)
		}
	}
	return "unknown"
}

// sayHeld says what else is on each slot, and how that is known.
func (a *app) sayHeld(r *task.Slots) {
	if a.json {
		return
	}
	for _, row := range r.Slots {
		done := map[string]bool{}
		for _, h := range row.Holds {
			key := h.Value + string(h.Source)
			if done[key] {
				continue
			}
			done[key] = true
			var what []string
			for _, o := range row.Holds {
				if o.Value == h.Value && o.Source == h.Source {
					what = append(what, o.What)
				}
			}
			a.say("", say.Info, "slot %s, %s: %s (%s)", row.Slot, strings.Join(what, ", "), h.Value,
				sourceWords(h.Source))
		}
	}
	if r.NextInstall != nil {
		a.say("", say.Info, "the next A/B package is installed to slot %s", *r.NextInstall)
	}
}

// sourceWords says how a fact is known.
func sourceWords(e card.Source) string {
	return map[card.Source]string{card.Read: "read now", card.Saved: "saved card", card.Journal: "journal",
		card.Model: "model file",
		card.Said:  "you said so", card.Concluded: "concluded"}[e]
}

func yesWord(b *bool) string {
	if b == nil {
		return "unknown"
	}
	return map[bool]string{true: "yes", false: "no"}[*b]
}
