package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
)

func (a *app) benchCommand() *cobra.Command {
	var watch, why bool
	c := &cobra.Command{Use: "bench", Short: "The phones that are here, one row each; --watch, and --why when one is missing", Args: noWords,
		RunE: func(cmd *cobra.Command, _ []string) error {
			switch {
			case watch && why:
				return usage("--watch and --why are two questions; ask one at a time")
			case watch:
				return a.watch(cmd.Context())
			case why:
				return a.why(cmd.Context())
			}
			here, absent, err := a.look(cmd.Context())
			if err != nil {
				return err
			}
			a.printBench(here, absent)
			if len(here) == 0 {
				a.next = append(a.next, "jarlid bench --why")
				return &bench.NotHereError{Text: "no phone is here"}
			}
			return nil
		}}
	c.Flags().BoolVar(&watch, "watch", false, "look again and again until Ctrl-C, and show what changes")
	c.Flags().BoolVar(&why, "why", false, "find out why a phone is not here: each cause is tested")
	return c
}

// watchEvery is how often the bench is looked at.
const watchEvery = time.Second

// watch shows the bench each time it changes.
func (a *app) watch(ctx context.Context) error {
	ctx, stop := a.untilStopped(ctx)
	defer stop()
	last := ""
	for {
		here, absent, err := a.look(ctx)
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		now, err := json.Marshal([]any{a.benchRows(here), absent})
		if err != nil {
			return err
		}
		if string(now) != last {
			last = string(now)
			a.redraw()
			a.printBench(here, absent)
			if a.json {
				a.out.event("bench", map[string]any{"phones": a.benchRows(here), "absent": orEmpty(absent)})
			} else if len(here)+len(absent) == 0 {
				a.out.Say(bench.Look, "no phone is here")
			}
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(watchEvery):
		}
	}
}

// redraw begins the screen anew on a terminal; on a pipe the next table says
// when it was.
func (a *app) redraw() {
	switch {
	case a.json:
	case a.out.live:
		fmt.Fprint(a.stdout, "\x1b[H\x1b[2J")
		a.out.Say(bench.Look, "the bench at %s; Ctrl-C ends it", time.Now().Format("15:04:05"))
	default:
		a.out.Say(bench.Look, "the bench at %s", time.Now().Format("15:04:05"))
	}
}

// why says for every phone why it is not here.
func (a *app) why(ctx context.Context) error {
	b, err := a.bench()
	if err != nil {
		return err
	}
	causes, err := b.Why(ctx, a.on)
	if err != nil {
		return err
	}
	a.result["causes"] = orEmpty(causes)
	if len(causes) == 0 {
		a.out.Say(bench.Look, "no phone is on the list, and phones on a cable are not looked for yet")
		a.out.Say(bench.Need, "name one by its address: --on tcp:HOST for fastboot, --on adb:HOST; or run a stand-in")
		a.next = append(a.next, "jarlid standin run dunlin --at DIR")
		return &bench.NotHereError{Text: "no phone is listed"}
	}
	missing := 0
	for _, c := range causes {
		for _, t := range c.Tested {
			a.out.Say(bench.Look, "%s, %s", c.Phone, t)
		}
		if c.Cause == "here" {
			a.out.Say(bench.Good, "%s: %s", c.Phone, c.Text)
			continue
		}
		missing++
		a.out.Say("care", "%s, %s: %s", c.Phone, c.Cause, c.Text)
		a.out.Say(bench.Need, "%s", c.Do)
	}
	if missing > 0 {
		return &bench.NotHereError{Text: fmt.Sprintf("%d of %d phones can't be worked with as they are", missing, len(causes))}
	}
	return nil
}
