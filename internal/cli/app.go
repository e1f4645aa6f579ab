package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/core/spell"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

func (a *app) appCommand() *cobra.Command {
	return &cobra.Command{Use: "app FILE...", Short: "Install apps on the started system",
		Args: words(1, -1, "which apps: their files"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.run(cmd, &task.App{Files: args})
		}}
}

// showApps shows which apps were installed.
func (a *app) showApps(t *task.App, e end) {
	if e.job != nil {
		a.result = t.Result(e.job)
	}
	if !e.done {
		return
	}
	var names []string
	for _, r := range e.job.Out.Apps {
		name := base(r.Path)
		if n := len(r.Parts); n > 0 {
			name += " with " + spell.Counted(n, "part")
		}
		names = append(names, name)
	}
	a.say(e.job.Name, say.Done, "installed: %s", strings.Join(names, ", "))
}
