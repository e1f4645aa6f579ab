package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/say"
	"jarlid/internal/task"
)

func (a *app) appCommand() *cobra.Command {
	return &cobra.Command{Use: "app FILE...", Short: "Install apps on the started system",
		Args: words(1, -1, "which apps: their files"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.installApps(cmd, &task.App{Files: args})
		}}
}

func (a *app) installApps(cmd *cobra.Command, t *task.App) error {
	j, done, err := a.do(cmd, t)
	if j != nil {
		a.result = t.Result(j)
	}
	if !done {
		return err
	}
	var names []string
	for _, r := range j.Out.Apps {
		names = append(names, base(r.Path))
	}
	a.say(j.Name, say.Done, "installed: %s", strings.Join(names, ", "))
	return nil
}
