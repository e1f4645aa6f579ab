package cli

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/core/advice"
	"jarlid/internal/core/card"
	"jarlid/internal/core/spell"
	"jarlid/internal/engine"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
	"jarlid/internal/task"
	"jarlid/internal/task/sheet"
)

// draftOptions are those of sheet draft.
type draftOptions struct {
	goal, output, model string
	recoveryIn          string
	over                bool
}

func (a *app) sheetDraftCommand() *cobra.Command {
	var o draftOptions
	var goals []string
	for _, g := range advice.Goals {
		goals = append(goals, string(g))
	}
	c := &cobra.Command{Use: "draft FILE...", Short: "Work out a whole job from files and a phone, and " +
		"write it as a sheet", Args: words(1, -1, "which files the evening is about"),
		Long: "Works out from the files and the phone (or a saved card, or a model) which job this is, in " +
			"which order, and writes it as a sheet, each line with its reason. What can't be\n" +
			"known stands there as an open question. Look it over, check it (jarlid sheet check), run it " +
			"(jarlid sheet run).",
		RunE: func(cmd *cobra.Command, args []string) error { return a.sheetDraft(cmd, args, &o) }}
	c.Flags().StringVar(&o.goal, "for", "", "what it is for: "+strings.Join(goals, ", ")+
		" (default: what the files are for)")
	c.Flags().StringVarP(&o.output, "output", "o", "",
		"the sheet to write; its files lie in the same folder or below (default: evening.yaml beside them)")
	c.Flags().StringVar(&o.model, "model", "", "a model instead of a phone: what its model file says")
	c.Flags().StringVar(&o.recoveryIn, "recovery-in", "",
		"the partition this phone keeps its recovery in, where that can't be worked out")
	c.Flags().BoolVar(&o.over, "over", false, "write over a sheet that is there")
	a.complete(c, "for", cobra.FixedCompletions(goals, cobra.ShellCompDirectiveNoFileComp))
	return c
}

func (a *app) sheetDraft(cmd *cobra.Command, args []string, o *draftOptions) error {
	e, err := a.taskEnv(cmd)
	if err != nil {
		return err
	}
	if o.goal != "" && !slices.Contains(advice.Goals, advice.Goal(o.goal)) {
		var goals []string
		for _, g := range advice.Goals {
			goals = append(goals, string(g))
		}
		return task.Usage("%q is no goal for --for%s", o.goal, spell.NoneOf(o.goal, goals))
	}
	j, err := a.openForDraft(cmd.Context(), e, args, o)
	if err != nil {
		return err
	}
	d, err := sheet.DraftOf(cmd.Context(), e, args, o.output, sheet.DraftFor{Card: j.Card, Model: j.Model(),
		Models: j.Models, Goal: advice.Goal(o.goal), Over: o.over || a.dryRun})
	if err != nil {
		return err
	}
	a.result = d
	shown := d.Sheet
	if wd, err := os.Getwd(); err == nil {
		if rel, err := filepath.Rel(wd, d.Sheet); err == nil && filepath.IsLocal(rel) {
			shown = rel
		}
	}
	var rows [][]string
	for i, t := range d.Tasks {
		rows = append(rows, []string{t, d.Why[i]})
	}
	a.out.Table([]string{"TASK", "BECAUSE"}, rows)
	for _, s := range d.Asks {
		a.say("", say.Asks, "%s", s)
	}
	for _, s := range d.Open {
		a.say("", say.Open, "%s", s)
	}
	for _, s := range d.Left {
		a.say("", say.Note, "left out: %s", s)
	}
	if a.dryRun {
		a.say("", say.Done, "dry run: %s was not written", shown)
		return nil
	}
	if err := d.Write(); err != nil {
		return err
	}
	a.say("", say.Done, "%s: %s, %s", shown, d.Name, spell.Counted(len(d.Tasks), "task"))
	if len(d.Open) > 0 {
		a.say("", say.Todo, "answer what is open in the sheet, then check it: jarlid sheet check")
		return nil
	}
	a.next = append(a.next, e.Command("", "sheet", "check", shown)+before(" --on ", a.on))
	return nil
}

// openForDraft opens the phone a sheet is drafted for, or takes what a model file says of it.
func (a *app) openForDraft(ctx context.Context, e *task.Env, args []string, o *draftOptions) (j *engine.Job,
	err error) {
	if o.model != "" {
		m := e.Bench.Models.Find(o.model)
		if m == nil {
			return nil, task.Usage("there is no model file for %q%s", o.model,
				spell.NoneOf(o.model, e.Bench.Models.Names()))
		}
		j = engine.OfModel(e.Bench, e.Options, m)
		e.Later(j.Close)
	} else if j, err = sheet.OpenForDraft(ctx, e); err != nil {
		var away *wire.NotHereError
		if errors.As(err, &away) {
			a.next = append(a.next,
				e.Command("", append(append([]string{"sheet", "draft"}, args...), "--model", "MODEL")...))
		}
		return nil, err
	}
	if o.recoveryIn != "" {
		j.Card.Learn(card.FactHome, card.Part(o.recoveryIn).Base, card.Said)
		j.Card.Conclude() // what the phone has outranks what was said
	}
	return j, nil
}
