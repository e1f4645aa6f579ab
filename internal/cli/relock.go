package cli

import (
	"github.com/spf13/cobra"

	"jarlid/internal/task"
)

func (a *app) relockCommand() *cobra.Command {
	var t task.Relock
	c := &cobra.Command{Use: "relock", Short: "Lock the bootloader again, where the phone will start then",
		Args: noWords,
		Long: "Locks the bootloader. A locked phone starts only what its maker signed, so it is done only " +
			"when it is known that the phone holds just\n" +
			"that: the maker's set is named with --images, its chain verified, and each of its images held " +
			"against what was written to the phone.",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.run(cmd, &t)
		}}
	c.Flags().StringVar(&t.Images, "images", "", "the maker's firmware set that is on the phone: a folder, "+
		"a zip, a payload")
	return c
}

// showLocked shows that the bootloader is locked.
func (a *app) showLocked(t *task.Relock, e end) {
	j := e.job
	if !e.done && !e.nothing() {
		return
	}
	a.result = t.Result(j)
	if e.done {
		a.showLock(j, "locked")
		a.next = append(a.next, a.env.Command(j.Name, "go", "system"))
	}
}
