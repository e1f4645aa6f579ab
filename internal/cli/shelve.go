package cli

import (
	"github.com/spf13/cobra"

	"jarlid/internal/engine"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

func (a *app) shelveCommand() *cobra.Command {
	return &cobra.Command{Use: "shelve PATH...", Short: "Move a file or folder of the phone's system " +
		"aside, reversibly", Args: words(1, -1, "which files or folders, by their paths on the phone"),
		Long: "Moves files of the system aside on the slot the recovery runs on, so that they do nothing: " +
			"a vendor overlay that makes a\n" +
			"generic system restart for ever, an app, a script. They stay on the phone, in a folder of " +
			"their partition, with a record of where they\n" +
			"came from; unshelve puts them back. Needs a recovery with a root shell.",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.run(cmd, &task.Shelve{Paths: args})
		}}
}

func (a *app) unshelveCommand() *cobra.Command {
	return &cobra.Command{Use: "unshelve [PATH...]",
		Short: "Put back what was moved aside; without a path, everything",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.run(cmd, &task.Shelve{Paths: args, Back: true})
		}}
}

// showMoved shows what was moved on the phone: put back, or aside.
func (a *app) showMoved(e end, back bool, result func(*engine.Job) task.Moved) {
	if e.job == nil {
		return
	}
	j, r := e.job, result(e.job)
	a.result = r
	if !e.done {
		return
	}
	for i, m := range r.Moved {
		if back {
			a.say(j.Name, say.Done, "%s is back on %s", r.Items[i].Path, r.Items[i].Partition)
			continue
		}
		a.say(j.Name, say.Done, "%s is moved aside on %s, to %s", r.Items[i].Path, r.Items[i].Partition, m.To)
		a.say(j.Name, say.Note, "to have it back: %s", a.env.Command(j.Name, "unshelve", r.Items[i].Path))
	}
	a.suggest(j)
}
