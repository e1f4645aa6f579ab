package cli

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/plan"
)

func (a *app) recoveryCommand() *cobra.Command {
	c := &cobra.Command{Use: "recovery", Short: "Install a recovery where this phone keeps it", Args: noWords,
		RunE: func(*cobra.Command, []string) error { return usage("recovery wants a command: set FILE") }}
	var into string
	set := &cobra.Command{Use: "set FILE", Short: "Write a recovery, on phones with slots to both", Args: words(1, 1, "one file"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.recoverySet(cmd, args, into) }}
	set.Flags().StringVar(&into, "into", "", "another destination: PARTITION@SLOT, slot a, b, both, current or other")
	c.AddCommand(set)
	return c
}

func (a *app) recoverySet(cmd *cobra.Command, args []string, into string) error {
	ctx := cmd.Context()
	paths, err := expand(args)
	if err != nil {
		return err
	}
	if len(paths) != 1 {
		return usage("recovery set wants one file, %s means %d", args[0], len(paths))
	}
	target, err := plan.ParseTarget(into)
	if err != nil {
		return usage("%v", err)
	}
	f, err := a.identify(paths[0], ident.Options{})
	if err != nil {
		return err
	}
	j, err := a.job(ctx, cmd, args)
	if err != nil {
		return err
	}
	defer j.Close()
	a.out.Say(bench.Look, "%s is %s, %s", filepath.Base(f.Path), f.Words(), image.Size(f.Size))
	base := target.Partition
	if base == "" {
		base = j.Phone.Model().RecoveryPartition()
	}
	if err := j.Phone.ReadPartition(ctx, j.Link, j.Card, base); err != nil {
		return err
	}
	steps, extra, err := plan.RecoverySet(f, target, j.Card, j.Phone.Model())
	if err != nil {
		return usage("%v", err)
	}
	j.Files = []bench.FileRecord{{Path: f.Path, Size: f.Size}}
	j.SetWish(extra, steps...)
	err = a.run(ctx, j)
	a.result["writes"] = orEmpty(j.Writes)
	if err != nil || a.dry {
		return err
	}
	a.sayWrites(j)
	a.suggest(j)
	return nil
}

// orEmpty keeps an empty list from becoming null in JSON.
func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

func (a *app) sayWrites(j *bench.Job) {
	var where []string
	word := ""
	for _, w := range j.Writes {
		where = append(where, plan.Suffixed(w.Partition, w.Slot))
		word = w.Confirmed
	}
	how := map[string]string{bench.ReadBack: "read back, it matches", bench.PhoneWord: "taken on the phone's word: a bootloader can't be read back",
		bench.NotKnown: "nobody can tell yet"}[word]
	a.out.Say(bench.Done, "%s written, %s", strings.Join(where, " and "), how)
	if len(j.Writes) > 0 {
		a.out.Say(bench.Look, "SHA-256 of what was sent: %s", j.Writes[0].SHA256)
	}
}

// areas are what `wipe` knows.
var areas = []string{"userdata"}

func (a *app) wipeCommand() *cobra.Command {
	return &cobra.Command{Use: "wipe AREA", Short: "Erase an area: userdata formats all data of the owner", Args: words(1, 1, "an area: userdata"),
		ValidArgs: areas,
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			if !slices.Contains(areas, args[0]) {
				return usage("%q is not an area to wipe; there is: %s", args[0], strings.Join(areas, ", "))
			}
			j, err := a.job(ctx, cmd, args)
			if err != nil {
				return err
			}
			defer j.Close()
			j.SetWish(nil, &plan.FormatData{})
			if err := a.run(ctx, j); err != nil || a.dry {
				return err
			}
			a.result["areas"] = []map[string]any{{"area": args[0], "erased": true, "why": "asked for"}}
			a.out.Say(bench.Done, "the data is formatted; the next system starts as new, with debugging off")
			a.suggest(j)
			return nil
		}}
}

func (a *app) sideloadCommand() *cobra.Command {
	var then string
	c := &cobra.Command{Use: "sideload PACKAGE", Short: "Send a package to the recovery and find out what became of it", Args: words(1, 1, "one package"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.sideload(cmd, args, then) }}
	c.Flags().StringVar(&then, "then", "recovery", "afterwards: recovery (restart into it, on the slot that was installed) or stay")
	c.RegisterFlagCompletionFunc("then", cobra.FixedCompletions([]string{"recovery", "stay"}, cobra.ShellCompDirectiveNoFileComp))
	return c
}

func (a *app) sideload(cmd *cobra.Command, args []string, then string) error {
	ctx := cmd.Context()
	if then != "recovery" && then != "stay" {
		return usage("--then is recovery or stay, not %q", then)
	}
	paths, err := expand(args)
	if err != nil {
		return err
	}
	if len(paths) != 1 {
		return usage("sideload takes one package, %s means %d files", args[0], len(paths))
	}
	f, err := a.identify(paths[0], ident.Options{})
	if err != nil {
		return err
	}
	j, err := a.job(ctx, cmd, args)
	if err != nil {
		return err
	}
	defer j.Close()
	a.out.Say(bench.Look, "%s is %s, %s", filepath.Base(f.Path), f.Words(), image.Size(f.Size))
	a.sayRange(f)
	from := j.Card.Value(card.FactStarted)
	j.Files = []bench.FileRecord{{Path: f.Path, Size: f.Size}}
	steps := []plan.Step{&plan.Sideload{File: f}}
	if then == "recovery" {
		steps = append(steps, &plan.Restart{To: card.Recovery})
	}
	j.SetWish(nil, steps...)
	err = a.run(ctx, j)
	a.result["packages"] = orEmpty(j.Packages)
	a.result["slot_next"] = known(j.Card, card.FactNext)
	for _, p := range j.Packages {
		a.out.Say(bench.Look, "the phone read %s of %s, %s in all, in %d passes", image.Size(p.Distinct), image.Size(f.Size), image.Size(p.Served), p.Passes)
	}
	if err != nil || a.dry {
		if err != nil && !errors.Is(err, bench.ErrStopped) && len(j.Packages) > 0 && j.Packages[0].Outcome != bench.Installed {
			a.next = append(a.next, a.command("jarlid slot", j.Phone.Name))
		}
		return err
	}
	if then == "recovery" && j.Link == nil {
		a.out.Say("care", "the phone took the restart into recovery and can't be seen from here: the recovery on that slot has no shell")
	} else if then == "recovery" {
		j.ConfirmSlot(from)
	}
	a.out.Say(bench.Done, "%s is installed; slot %s starts next", filepath.Base(f.Path), orUnknown(known(j.Card, card.FactNext)))
	a.suggest(j)
	return nil
}

// sayRange tells beforehand what people panic about.
func (a *app) sayRange(f *ident.File) {
	if f.Package != nil {
		a.out.Say("note", "the phone reads the package more than once and may stop early; there is no honest percentage, so none is shown")
	}
}

func (a *app) goCommand() *cobra.Command {
	var wait time.Duration
	var names []string
	for _, m := range card.Modes {
		if m != card.Fastbootd {
			names = append(names, string(m))
		}
	}
	c := &cobra.Command{Use: "go MODE", Short: "Bring the phone into another mode", Args: words(1, 1, "a mode: "+strings.Join(names, ", ")), ValidArgs: names,
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			if !slices.Contains(names, args[0]) {
				return usage("%q is not a mode; there is: %s", args[0], strings.Join(names, ", "))
			}
			j, err := a.job(ctx, cmd, args)
			if err != nil {
				return err
			}
			defer j.Close()
			j.WaitSystem = wait
			j.SetWish(nil, &plan.Restart{To: card.Mode(args[0])})
			if err := a.run(ctx, j); err != nil || a.dry {
				return err
			}
			a.sayArrived(j, card.Mode(args[0]))
			return nil
		}}
	c.Flags().DurationVar(&wait, "wait", time.Minute, "how long to watch a starting system")
	return c
}

func (a *app) sayArrived(j *bench.Job, to card.Mode) {
	c := j.Card
	a.result["mode"] = string(to)
	a.result["slot"] = known(c, card.FactStarted)
	if to == card.System && j.System == nil {
		a.result["seen"] = false
		a.out.Say("care", "the phone took the restart, and its system can't be seen from here: debugging is off there, or it is still starting")
		a.out.Say(bench.Need, "look at its screen; switch debugging on to have it read, or bring it into the bootloader, where jarlid slot tells the slot")
		a.out.Say(bench.Done, "restarted; which system came up, nobody can tell yet")
		a.next = append(a.next, a.command("jarlid bench", j.Phone.Name))
		return
	}
	a.result["seen"] = true
	switch to {
	case card.System:
		a.result["version"], a.result["build"] = known(c, card.FactVersion), known(c, card.FactBuild)
		a.out.Say(bench.Done, "%s, build %s, is running from slot %s", orUnknown(known(c, card.FactVersion)), orUnknown(known(c, card.FactBuild)), orUnknown(known(c, card.FactStarted)))
	case card.Recovery:
		if j.Link == nil {
			a.result["seen"] = false
			a.out.Say("care", "the phone took the restart; its recovery can't be seen from here, as those without a shell can't")
			a.out.Say(bench.Need, "look at its screen to see whether a recovery is there")
			a.out.Say(bench.Done, "restarted; which recovery came up, nobody can tell")
			return
		}
		j.ConfirmSlot("")
		a.out.Say(bench.Done, "%s is running", orUnknown(known(c, card.FactRecovery)))
	default:
		a.out.Say(bench.Done, "%s", fmt.Sprintf("the phone is in %s", to))
	}
	a.suggest(j)
}
