package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/plan"
)

func (a *app) wipeCommand() *cobra.Command {
	return &cobra.Command{Use: "wipe AREA...", Short: "Erase areas, with a table of what goes and what stays",
		Long: "Areas: userdata (all data of the owner), caches, system@SLOT, vendor@SLOT, part:NAME[@SLOT],\n" +
			"and in a recovery apps (apps, accounts and settings, the shared storage stays) and storage (the shared storage alone).",
		Args: words(1, -1, "one or more areas: "+strings.Join(plan.Areas, ", ")+" or part:NAME"), ValidArgs: plan.Areas,
		RunE: a.wipe}
}

func (a *app) wipe(cmd *cobra.Command, args []string) error {
	for _, s := range args {
		if _, _, err := plan.ParseArea(s); err != nil {
			return usage("%v", err)
		}
	}
	j, err := a.jobByHand(cmd.Context(), cmd, args)
	if err != nil {
		return err
	}
	defer j.Close()
	if err := j.Phone.ReadLying(cmd.Context(), j.Link, j.Card); err != nil {
		return err
	}
	var steps []plan.Step
	var found []finding.Finding
	rows := []plan.AreaRow{}
	for _, s := range args {
		area, t, err := plan.ParseArea(s)
		if err != nil {
			return usage("%v", err)
		}
		for _, p := range plan.PartitionsOf(area, t) {
			if err := j.Phone.ReadPartition(j.Card, j.Link, p); err != nil {
				return err
			}
		}
		st, r, f, err := plan.Wipe(area, t, j.Card)
		if err != nil {
			return usage("%v", err)
		}
		steps, rows, found = append(steps, st...), append(rows, r...), append(found, f...)
	}
	if len(steps) > 0 {
		a.showAreas(append(rows[:len(rows):len(rows)], plan.Stays(rows, j.Card, j.Phone.Model())...))
	}
	j.SetWish(found, steps...)
	err = a.run(cmd.Context(), j)
	done := rows
	if err != nil || a.dry {
		done = done[:0:0]
		for _, r := range rows {
			r.Erased = false
			done = append(done, r)
		}
	}
	a.result["areas"] = done
	if err != nil || a.dry {
		return err
	}
	for _, r := range rows {
		if r.Area == "userdata" {
			a.out.Say(bench.Done, "the data is formatted; the next system starts as new, with debugging off")
			continue
		}
		if len(r.Partitions) == 0 {
			a.out.Say(bench.Done, "%s wiped", r.Area)
			continue
		}
		a.out.Say(bench.Done, "%s is erased (%s)", r.Area, strings.Join(r.Partitions, ", "))
	}
	a.suggest(j)
	return nil
}

func (a *app) showAreas(rows []plan.AreaRow) {
	if a.json {
		return
	}
	var lines [][]string
	for _, r := range rows {
		lines = append(lines, []string{r.Area, map[bool]string{true: "erased", false: "stays"}[r.Erased], strings.Join(r.Partitions, ", "), r.Why})
	}
	a.out.table([]string{"AREA", "IS", "PARTITIONS", "WHAT IT MEANS"}, lines)
}
