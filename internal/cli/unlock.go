package cli

import (
	"github.com/spf13/cobra"

	"jarlid/internal/core/card"
	"jarlid/internal/engine"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

func (a *app) unlockCommand() *cobra.Command {
	var t task.Unlock
	c := &cobra.Command{Use: "unlock", Short: "Open the bootloader: what it costs, what to press, whether " +
		"it is open", Args: noWords,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.run(cmd, &t)
		}}
	c.Flags().StringVar(&t.Code, "code", "", "the code some makers give out for it")
	return c
}

// showUnlocked shows that the bootloader is open.
func (a *app) showUnlocked(t *task.Unlock, e end) {
	j := e.job
	if !e.done && !e.nothing() {
		return
	}
	a.result = t.Result(j)
	if e.done {
		a.say(j.Name, say.Note, "debugging is off again: after the next start of the system, go through "+
			"its welcome and switch it on")
		a.showLock(j, "open")
	}
	a.suggest(j)
}

// showBefore tells what has to be done before a bootloader can be opened.
func (a *app) showBefore(v task.UnlockView) {
	for _, s := range v.Before {
		a.say("", say.Todo, "before: %s", s)
	}
}

// showLock shows the state of the lock with its source.
func (a *app) showLock(j *engine.Job, is string) {
	switch f := j.Card.Get(card.FactUnlocked); {
	case f.Source == card.Read:
		a.say(j.Name, say.Done, "the bootloader is %s, read back; all data is erased", is)
	case f.Known():
		a.say(j.Name, say.Done, "the bootloader is %s, as you say; all data is erased", is)
	default:
		a.say(j.Name, say.Warn, "the bootloader took the command; whether it is %s is unknown, as it does "+
			"not report it",
			is)
		a.say(j.Name, say.Done, "the phone's screen shows it, and its card does once a system has booted")
	}
}
