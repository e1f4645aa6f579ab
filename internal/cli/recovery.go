package cli

import (
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/act"
	"jarlid/internal/core/card"
	"jarlid/internal/core/place"
	"jarlid/internal/core/spell"
	"jarlid/internal/engine"
	"jarlid/internal/journal"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

func (a *app) recoveryCommand() *cobra.Command {
	c := &cobra.Command{Use: "recovery", Short: "Start a recovery without writing it, or install it where " +
		"this phone keeps it", Args: noWords,
		RunE: wants("try FILE, install FILE or hold")}
	var t task.RecoveryInstall
	install := &cobra.Command{Use: "install FILE", Short: "Write a recovery, on phones with slots to both",
		Args: words(0, 1, "which recovery: its file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				t.File = args[0]
			}
			return a.run(cmd, &t)
		}}
	install.Flags().BoolVar(&t.Previous, "previous", false,
		"write back what was there before the last recovery was installed, where a job could keep it")
	install.Flags().StringVar(&t.Boot, "boot", "", "where the recovery lives in a boot or vendor_boot "+
		"image: put it into this one (or the one in this ROM package or set), not into the phone's own")
	install.Flags().StringVar(&t.Into, "into", "", "another destination: PARTITION@SLOT, slot a, b, both, "+
		"current or other")
	try := &cobra.Command{Use: "try FILE", Short: "Start a recovery without writing it; it is gone after " +
		"the next restart", Args: words(1, 1, "which recovery: its file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.run(cmd, &task.RecoveryTry{File: args[0]})
		}}
	hold := &cobra.Command{Use: "hold", Short: "Stop the stock system from putting its own recovery back",
		Args: noWords,
		Long: "Looks through the system for the script that writes the maker's recovery again at each " +
			"start, by what is in it, and moves it\n" +
			"aside. Needs a recovery with a root shell. Where there is no such script, that is good news.",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.run(cmd, &task.RecoveryHold{})
		}}
	c.AddCommand(install, try, hold)
	return c
}

// showInstalled shows where a recovery was written.
func (a *app) showInstalled(t *task.RecoveryInstall, e end) {
	j := e.job
	if j != nil {
		a.result = t.Result(j)
	}
	if e.err != nil && j != nil && !t.Previous && len(j.Out.Writes) == 0 && place.HalfWritten(j.Card,
		"boot") {
		if old, _ := journal.Previous(j.Home, j.Who(j.Card.Value(card.FactSerial)), "boot"); len(old) > 0 {
			a.next = append(a.next, a.env.Command(j.Name, "recovery", "install", "--previous"))
		}
	}
	if e.done {
		a.sayWrites(j)
		a.suggest(j)
	}
}

// showTried shows whether a recovery that was started without being written runs.
func (a *app) showTried(t *task.RecoveryTry, e end) {
	if !e.done {
		return
	}
	j := e.job
	r := t.Result(j)
	a.result = r
	if r.Seen {
		a.say(j.Name, say.Done, "%s is running, and written nowhere: it is gone after the next restart",
			orUnknown(r.Recovery))
	} else {
		a.say(j.Name, say.Warn, "the phone took it and can't be seen from here, as recoveries without a "+
			"shell can't: look at its screen")
		a.say(j.Name, say.Note, "the recovery was sent; whether it runs, nobody can tell")
	}
	a.next = append(a.next, a.env.Command(j.Name, "recovery", "install", t.File))
}

var confirmWords = map[string]string{journal.ReadBack: "read back, it matches",
	journal.PhoneWord: "taken on the phone's word: it can't be read back there",
	journal.NotKnown:  "nobody can tell yet"}

// sayWrites tells which images were written, and how that is known.
func (a *app) sayWrites(j *engine.Job) {
	list := j.Out.Writes
	if len(list) == 0 {
		return
	}
	var where []string
	how, sums := map[string]bool{}, map[string]bool{}
	for _, w := range list {
		where = append(where, partitionOf(w))
		how[confirmWords[w.Confirmed]], sums[w.SHA256] = true, true
	}
	names := spell.And(where)
	word := say.Done
	if how[confirmWords[journal.NotKnown]] {
		word = say.Note
	}
	if len(sums) == 1 {
		a.say(j.Name, say.Info, "SHA-256 of what was sent: %s", list[0].SHA256)
	}
	a.say(j.Name, word, "%s written, %s", names, strings.Join(slices.Sorted(maps.Keys(how)), "; "))
}

func partitionOf(w act.WriteResult) string { return card.At(w.Partition, w.Slot).String() }

func orUnknown(s *string) string {
	if s == nil {
		return "unknown"
	}
	return *s
}
