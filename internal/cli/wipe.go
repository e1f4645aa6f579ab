package cli

import (
	"cmp"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/core/plan"
	"jarlid/internal/engine"
	"jarlid/internal/journal"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

func (a *app) wipeCommand() *cobra.Command {
	return &cobra.Command{Use: "wipe AREA...", Short: "Erase areas, with a table of what goes and what stays",
		Args: words(1, -1, "which areas: "+strings.Join(plan.Areas, ", ")+" or part:NAME"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.run(cmd, &task.Wipe{Areas: args}) }}
}

// showWiped shows which areas are erased.
func (a *app) showWiped(t *task.Wipe, e end) {
	j := e.job
	if j == nil {
		return
	}
	res := t.Result(j, e.done)
	a.result = res
	if !e.done {
		return
	}
	for _, r := range res.Areas {
		word, how := say.Done, ""
		for _, w := range res.How {
			switch {
			case w.What != r.Area:
			case w.Confirmed == journal.NotKnown:
				word, how = say.Note, ", as you say; nobody can read that back"
			case w.Left != "":
				how = ", except " + w.Left
			}
		}
		switch {
		case r.Area == "userdata":
			a.say(j.Name, word, "the data is %s%s; the next system starts as new, with debugging off", r.How,
				how)
		case len(r.Partitions) == 0:
			a.say(j.Name, word, "%s wiped%s", r.Area, how)
		default:
			a.say(j.Name, word, "%s is %s (%s)%s", r.Area, r.How, strings.Join(r.Partitions, ", "), how)
		}
	}
	a.suggest(j)
}

func (a *app) showAreas(d *engine.Draft, v task.WipeView) {
	if len(d.Steps) == 0 {
		return
	}
	var lines [][]string
	for _, r := range append(v.Asked[:len(v.Asked):len(v.Asked)], v.Stays...) {
		lines = append(lines, []string{r.Area, cmp.Or(r.How, "stays"), strings.Join(r.Partitions, ", "),
			r.Why})
	}
	a.out.Table([]string{"AREA", "IS", "PARTITIONS", "WHAT IT MEANS"}, lines)
}

// areaRows say what each area is, for the help.
func areaRows() [][2]string {
	return [][2]string{{"userdata", "all data of the owner, the shared storage too"},
		{"caches", "what can be made anew"},
		{"apps", "apps, accounts and settings; the shared storage stays (in a recovery)"},
		{"storage", "the shared storage alone (in a recovery)"},
		{"system@SLOT", "the system of a slot"},
		{"vendor@SLOT", "the maker's drivers of a slot"},
		{"part:NAME[@SLOT]", "any partition, by its name"}}
}
