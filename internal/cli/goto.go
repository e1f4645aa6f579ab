package cli

import (
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jarlid/internal/core/card"
	"jarlid/internal/core/spell"
	"jarlid/internal/engine"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

func (a *app) goCommand() *cobra.Command {
	var wait time.Duration
	var names []string
	for _, m := range card.Modes {
		names = append(names, string(m))
	}
	c := &cobra.Command{Use: "go MODE", Short: "Bring the phone into another mode",
		Args: words(1, 1, "which mode: "+strings.Join(names, ", ")), ValidArgs: names,
		RunE: func(cmd *cobra.Command, args []string) error {
			if !slices.Contains(names, args[0]) {
				return task.Usage("%q is not a mode%s", args[0], spell.NoneOf(args[0], names))
			}
			return a.run(cmd, &task.Go{Mode: card.Mode(args[0]), Wait: wait})
		}}
	c.Flags().DurationVar(&wait, "wait", time.Minute, "how long to watch a starting system")
	return c
}

// showGone shows where a phone was brought.
func (a *app) showGone(t *task.Go, e end) {
	if !e.done {
		return
	}
	j, r := e.job, t.Result(e.job)
	a.result = r
	switch {
	case r.Mode == card.System && !r.Seen:
		a.sayUnseen(j, r)
		return
	case r.Mode == card.System:
		from := ""
		if slots, told := j.Card.Slots(); !told || len(slots) > 0 {
			from = " from slot " + orUnknown(r.Slot)
		}
		a.say(j.Name, say.Done, "%s, build %s, is running%s", orUnknown(r.Version), orUnknown(r.Build), from)
	case r.Mode == card.Recovery && r.Said:
		a.say(j.Name, say.Done, "its recovery is on the screen, as you say; it can't be seen from here")
		a.next = append(a.next, a.env.Command(j.Name, "sideload", "PACKAGE"))
		return
	case r.Mode == card.Recovery && !r.Seen:
		text := "the phone took the restart; its recovery can't be seen from here, as those without a " +
			"shell can't"
		if !r.Commanded {
			text = "the phone was to be brought into its recovery by hand; it can't be seen from here, as " +
				"recoveries without a shell can't"
		}
		a.say(j.Name, say.Warn, "%s", text)
		a.say(j.Name, say.Todo, "look at its screen to see whether a recovery is there")
		a.sayTaken(j, r, "recovery")
		a.suggest(j)
		return
	case r.Mode == card.Recovery:
		a.sayLanded(j, "")
		a.say(j.Name, say.Done, "%s is running", orUnknown(task.Known(j.Card, card.FactRecovery)))
	default:
		a.say(j.Name, say.Done, "the phone is in %s", r.Mode)
	}
	a.suggest(j)
}

// sayUnseen says of a system that can't be seen why.
func (a *app) sayUnseen(j *engine.Job, r task.Gone) {
	took := "the phone took the restart"
	if !r.Commanded {
		took = "the phone was to be started by hand"
	}
	a.next = append(a.next, a.env.Command(j.Name, "arrive"))
	if r.Unwatched {
		word := say.Done
		if !r.Commanded {
			word = say.Note
		}
		a.say(j.Name, word, "%s; which system comes up is not waited for", took)
		return
	}
	if !r.Barred { // else that was told
		why := "it is still starting, or debugging is off there"
		if j.Card.Value(card.FactDebugging) == "off" {
			why = "formatting the data switched debugging off, or it is still starting"
		}
		a.say(j.Name, say.Warn, "%s, and its system can't be seen from here: %s", took, why)
		a.say(j.Name, say.Todo, "look at its screen; with debugging switched on there it can be read")
	}
	a.sayTaken(j, r, "system")
}

// sayTaken ends a restart whose end is not seen. It is done where the phone took it; what a person was asked
// to do by hand is not.
func (a *app) sayTaken(j *engine.Job, r task.Gone, what string) {
	if !r.Commanded {
		a.say(j.Name, say.Note, "which %s came up, nobody can tell", what)
		return
	}
	a.say(j.Name, say.Done, "the restart into its %[1]s was taken; nobody has seen which %[1]s came up", what)
}
