package cli

import (
	"context"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
	"jarlid/internal/core/card"
	"jarlid/internal/core/plan"
)

func (a *app) shelveCommand() *cobra.Command {
	return &cobra.Command{Use: "shelve PATH...", Short: "Move a file or folder of the phone's system aside, reversibly", Args: words(1, -1, "one or more paths on the phone"),
		Long: "Moves files of the system aside on the slot the recovery runs on, so that they do nothing: a vendor overlay that makes a\n" +
			"generic system restart for ever, an app, a script. They stay on the phone, in a folder of their partition, with a record of where they\n" +
			"came from; unshelve puts them back. Needs a recovery with a root shell.",
		RunE: func(cmd *cobra.Command, args []string) error { return a.shelve(cmd, args, false) }}
}

func (a *app) unshelveCommand() *cobra.Command {
	return &cobra.Command{Use: "unshelve [PATH...]", Short: "Put back what was moved aside; without a path, everything",
		RunE: func(cmd *cobra.Command, args []string) error { return a.shelve(cmd, args, true) }}
}

// inRecovery opens the phone for work that only its recovery can do.
func (a *app) inRecovery(ctx context.Context, cmd *cobra.Command, args []string) (*bench.Job, error) {
	j, err := a.job(ctx, cmd, args)
	if err != nil {
		return nil, err
	}
	if j.Card.Mode() != card.Recovery || j.Link == nil {
		a.next = append(a.next, a.command("jarlid go recovery", j.Phone.Name))
		j.Close()
		return nil, usage("%s works in the phone's recovery, and it is in %s", cmd.CommandPath(), orUnknown(known(j.Card, card.FactMode)))
	}
	return j, nil
}

func (a *app) shelve(cmd *cobra.Command, args []string, back bool) error {
	ctx := cmd.Context()
	for _, s := range args {
		if _, _, err := plan.ParseShelfPath(s); err != nil {
			return usage("%v", err)
		}
	}
	j, err := a.inRecovery(ctx, cmd, args)
	if err != nil {
		return err
	}
	defer j.Close()
	return a.moveItems(ctx, j, back, "nothing is moved aside on "+j.Phone.Name, func() (items []plan.Item, err error) {
		if len(args) == 0 {
			return j.Shelved(ctx)
		}
		for _, s := range args {
			item, err := j.Locate(ctx, s, back)
			if err != nil {
				return nil, err
			}
			items = append(items, item)
		}
		return items, nil
	})
}

// moveItems moves what find finds; none is what is said when that is nothing. Without
// a root shell there is nothing to find with, and the step's own finding says so.
func (a *app) moveItems(ctx context.Context, j *bench.Job, back bool, none string, find func() ([]plan.Item, error)) error {
	items := []plan.Item{{Path: "files"}}
	if j.Card.Value(card.FactRoot) == "yes" {
		var err error
		if items, err = find(); err != nil {
			return err
		}
	}
	if len(items) == 0 {
		a.result["moved"] = []bench.Moved{}
		a.out.Say(bench.Done, "%s", none)
		return nil
	}
	if err := j.ReadTrees(ctx); err != nil {
		return err
	}
	j.SetWish(nil, &plan.Shelve{Items: items, Back: back})
	err := a.run(ctx, j)
	a.result["moved"] = orEmpty(j.Moves)
	if err != nil || a.dry {
		return err
	}
	for i, m := range j.Moves {
		if back {
			a.out.Say(bench.Done, "%s is back on %s", items[i].Path, items[i].Partition)
			continue
		}
		a.out.Say(bench.Done, "%s is moved aside on %s, to %s", items[i].Path, items[i].Partition, m.To)
		a.out.Say("note", "to have it back: %s", a.command("jarlid unshelve "+items[i].Path, j.Phone.Name))
	}
	a.suggest(j)
	return nil
}

func (a *app) recoveryHold() *cobra.Command {
	return &cobra.Command{Use: "hold", Short: "Stop the stock system from putting its own recovery back", Args: noWords,
		Long: "Looks through the system for the script that writes the maker's recovery again at each start, by what is in it, and moves it\n" +
			"aside. Needs a recovery with a root shell. Where there is no such script, that is good news.",
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			j, err := a.inRecovery(ctx, cmd, args)
			if err != nil {
				return err
			}
			defer j.Close()
			return a.moveItems(ctx, j, false, "there is none here: no script of this system puts another recovery back", func() ([]plan.Item, error) {
				items, err := j.Restorers(ctx)
				for _, i := range items {
					a.out.Say(bench.Look, "%s on %s puts the maker's recovery back at each start", i.Path, i.Partition)
				}
				return items, err
			})
		}}
}
