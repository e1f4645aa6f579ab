package cli

import (
	"github.com/spf13/cobra"

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
		a.say(j.Name, say.Done, "the bootloader is open, read back; all data is erased")
	}
	a.suggest(j)
}

// showBefore tells what has to be done before a bootloader can be opened.
func (a *app) showBefore(v task.UnlockView) {
	for _, s := range v.Before {
		a.say("", say.Todo, "before: %s", s)
	}
}
