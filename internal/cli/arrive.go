package cli

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/plan"
)

func (a *app) appCommand() *cobra.Command {
	return &cobra.Command{Use: "app FILE...", Short: "Install app packages on the started system", Args: words(1, -1, "one or more app packages"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			paths, err := expand(args)
			if err != nil {
				return err
			}
			var steps []plan.Step
			var names []string
			var records []bench.FileRecord
			for _, p := range paths {
				f, err := a.identify(p, ident.Options{})
				if err != nil {
					return err
				}
				words := f.Words()
				if f.App != nil {
					words = f.App.Words()
				}
				a.out.Say(bench.Look, "%s is %s, %s", filepath.Base(p), words, image.Size(f.Size))
				steps, names = append(steps, &plan.InstallApp{File: f}), append(names, filepath.Base(p))
				records = append(records, bench.FileRecord{Path: p, Size: f.Size})
			}
			j, err := a.job(ctx, cmd, args)
			if err != nil {
				return err
			}
			defer j.Close()
			j.Files = records
			j.SetWish(nil, steps...)
			err = a.run(ctx, j)
			a.result["apps"] = orEmpty(j.Apps)
			if err != nil || a.dry {
				return err
			}
			a.out.Say(bench.Done, "installed: %s", strings.Join(names, ", "))
			return nil
		}}
}

func (a *app) arriveCommand() *cobra.Command {
	var limit time.Duration
	c := &cobra.Command{Use: "arrive", Short: "Watch the first start, notice loops, read what came up and compare", Args: noWords,
		Long: "Watches a phone that is starting: says what is normal, notices a loop or a fall back to the other slot, to the recovery or\n" +
			"to the bootloader, and what to do then. When the system is up it is read and compared with what was installed.",
		RunE: func(cmd *cobra.Command, _ []string) error { return a.arrive(cmd, limit) }}
	c.Flags().DurationVar(&limit, "wait", 20*time.Minute, "how long to watch")
	return c
}

func (a *app) arrive(cmd *cobra.Command, limit time.Duration) error {
	if a.card != "" {
		return usage("arrive watches a phone; a saved card does not start")
	}
	b, err := a.bench()
	if err != nil {
		return err
	}
	p, before, err := b.Before(a.on)
	if err != nil {
		return err
	}
	what := before.Value(card.FactHolds + plan.Suffixed("system", before.Value(card.FactNext)))
	if what == "" {
		a.out.Say(bench.Look, "watching %s start; no job of Jar Lid installed a system on it", p.Name)
	} else {
		a.out.Say(bench.Look, "watching %s start; what was installed is %s", p.Name, plan.ShortBuild(what))
	}
	got, err := p.Arrive(cmd.Context(), a.out, before, limit)
	if err != nil {
		return err
	}
	a.result["stage"], a.result["matches"], a.result["said"] = got.Stage, got.Matches, got.Said
	a.result["advice"] = orEmpty(got.Advice)
	if c := got.Card; c != nil && c.Mode() == card.System {
		a.result["version"], a.result["build"], a.result["security_patch"] = known(c, card.FactVersion), known(c, card.FactBuild), known(c, card.FactPatch)
		a.result["slot"], a.result["data"] = known(c, card.FactStarted), known(c, card.FactData)
	}
	return a.sayArrival(p, got)
}

func (a *app) sayArrival(p *bench.Phone, got *bench.Arrived) error {
	if got.Text != "" {
		a.out.Say("care", "%s", got.Text)
	}
	for _, s := range got.Advice {
		if strings.HasPrefix(s, "jarlid ") {
			a.next = append(a.next, a.command(s, p.Name))
			continue
		}
		a.out.Say(bench.Need, "%s", s)
	}
	c := got.Card
	switch {
	case got.Stage == plan.StageFinished && got.Said:
		a.out.Say("care", "taken on your word; which system it is, nobody has read")
		a.out.Say(bench.Done, "the system is up, as you say")
		return nil
	case got.Stage == plan.StageFinished:
		slot := ""
		if s := c.Value(card.FactStarted); s != "" {
			slot = " from slot " + s
		}
		rows := [][]string{{"version", c.Value(card.FactVersion)}, {"build", c.Value(card.FactBuild)}, {"security patch", c.Value(card.FactPatch)},
			{"data", c.Value(card.FactData)}, {"time", got.Took.Round(time.Second).String()}}
		if !a.json {
			a.out.table([]string{"WHAT CAME UP", "AS IT SAYS"}, rows)
		}
		switch got.Matches {
		case "yes":
			a.out.Say(bench.Good, "it is what was installed")
		case "unknown":
			a.out.Say(bench.Look, "no job of Jar Lid installed it, so there is nothing to compare it with")
		}
		a.out.Say("note", "apps are still being prepared after a first start; the phone may be slow for some minutes")
		a.out.Say(bench.Done, "%s is up%s", orUnknown(known(c, card.FactVersion)), slot)
		if got.Matches == "no" {
			return &noError{"another system runs than the one that was installed"}
		}
		return nil
	case got.Stage == plan.StageUnknown || got.Stage == plan.StageStarting:
		return &bench.UnknownError{Text: fmt.Sprintf("nobody can tell yet whether %s has started its system", p.Name)}
	}
	return &noError{fmt.Sprintf("the system of %s did not come up", p.Name)}
}
