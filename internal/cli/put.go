package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/core/plan"
	"jarlid/internal/journal"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

func (a *app) putCommand() *cobra.Command {
	var t task.Put
	c := &cobra.Command{Use: "put FILE... --to storage|sd",
		Short: "Put packages onto the phone itself, their digests checked there",
		Long: "Sends files to the shared storage or the memory card of a phone in recovery or with its " +
			"system started, and\n" +
			"compares the digest of what arrived. What lies there already with the same digest is left " +
			"alone. With --install it then says what to choose on the phone and waits for the\n" +
			"recovery's own record of the install.",
		Args: words(1, -1, "which files to put there"),
		RunE: func(cmd *cobra.Command, args []string) error {
			t.Files = args
			return a.run(cmd, &t)
		}}
	c.Flags().StringVar(&t.To, "to", "", "where: storage (the shared storage) or sd (a memory card)")
	c.Flags().BoolVar(&t.Install, "install", false, "then have it installed from there, by hand at the phone")
	a.complete(c, "to", cobra.FixedCompletions(plan.Storages, cobra.ShellCompDirectiveNoFileComp))
	return c
}

// showPut shows which files are on the phone now.
func (a *app) showPut(t *task.Put, e end) {
	j := e.job
	if j != nil {
		a.result = t.Result(j)
	}
	if !e.done {
		return
	}
	for _, s := range j.Out.Stored {
		if s.There {
			a.say(j.Name, say.Good, "%s lay there already, its digest matches", s.Path)
			continue
		}
		a.say(j.Name, say.Done, "%s lies there, %s", s.Path,
			map[string]string{journal.ReadBack: "its digest read there matches",
				journal.PhoneWord: "taken on the phone's word: it has no tool to make a digest"}[s.Confirmed])
	}
	if t.Install {
		var names []string
		for _, p := range j.Out.Packages {
			names = append(names, base(p.Path))
		}
		a.say(j.Name, say.Done, "installed: %s", strings.Join(names, ", "))
		a.suggest(j)
	}
}
