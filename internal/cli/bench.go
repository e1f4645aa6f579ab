package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jarlid/internal/core/card"
	"jarlid/internal/phone"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

func (a *app) benchCommand() *cobra.Command {
	var watch, why bool
	c := &cobra.Command{Use: "bench", Short: "The phones that are here, one row each; --watch, and --why when one is missing", Args: noWords,
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := a.with(cmd, args)
			switch {
			case err != nil:
				return err
			case watch && why:
				return usage("--watch and --why are two questions; ask one at a time")
			case watch:
				return a.watch(cmd.Context(), e)
			case why:
				return a.why(cmd.Context(), e)
			}
			h, err := task.Look(cmd.Context(), e)
			if err != nil {
				return err
			}
			a.result = h
			a.printBench(h)
			if len(h.Phones) == 0 {
				a.next = append(a.next, "jarlid bench --why")
				return &phone.NotHereError{Text: "no phone is here"}
			}
			return nil
		}}
	c.Flags().BoolVar(&watch, "watch", false, "look again and again until Ctrl-C, and show what changes")
	c.Flags().BoolVar(&why, "why", false, "find out why a phone is not here: each cause is tested")
	return c
}

func (a *app) printBench(h *task.Here) {
	var lines [][]string
	for _, r := range h.Phones {
		mode, next := string(r.Mode), orUnknown(r.NextSlot)
		if r.Denied != "" {
			mode += ", not authorised"
		}
		if r.Busy {
			mode = "another jarlid works on it"
		}
		if r.OneSlot {
			next = "no slots"
		}
		lines = append(lines, []string{r.Name, orUnknown(r.Serial), orUnknown(r.Model), mode, next, yesWord(r.Unlocked), r.Address})
	}
	if len(lines) > 0 {
		a.out.Table([]string{"NAME", "SERIAL", "MODEL", "MODE", "NEXT SLOT", "UNLOCKED", "ADDRESS"}, lines)
	}
	if a.json {
		return
	}
	for _, n := range h.Absent {
		a.say(n, say.Note, "%s is listed and does not answer: off, restarting, in a mode without a connection, or unplugged", n)
	}
}

// watchEvery is how often the bench is looked at.
const watchEvery = time.Second

// watch shows the bench each time it changes.
func (a *app) watch(ctx context.Context, e *task.Env) error {
	ctx, stop := e.UntilStopped(ctx)
	defer stop()
	last := ""
	for {
		h, err := task.Look(ctx, e)
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		now, err := json.Marshal(h)
		if err != nil {
			return err
		}
		if string(now) != last {
			last = string(now)
			a.result = h
			a.redraw()
			a.printBench(h)
			a.out.Event("bench", "", h)
			if len(h.Phones)+len(h.Absent) == 0 && !a.json {
				a.say("", say.Info, "no phone is here")
			}
		}
		if phone.Pause(ctx, watchEvery) != nil {
			return nil
		}
	}
}

// redraw begins the screen anew on a terminal; on a pipe the next table says
// when it was.
func (a *app) redraw() {
	if a.json {
		return
	}
	a.out.Redraw()
	text := "the bench at " + time.Now().Format("15:04:05")
	if a.out.Live() {
		text += "; Ctrl-C ends it"
	}
	a.say("", say.Info, "%s", text)
}

// causes is the result of bench --why.
type causes struct {
	Causes []phone.Cause `json:"causes"`
}

// why says for every phone why it is not here.
func (a *app) why(ctx context.Context, e *task.Env) error {
	list, err := e.Bench.Why(ctx, a.on)
	if err != nil {
		return err
	}
	a.result = causes{append([]phone.Cause{}, list...)}
	if len(list) == 0 {
		a.say("", say.Info, "no phone is on the list, and phones on a cable are not looked for yet")
		a.say("", say.Todo, "name one by its address: --on tcp:HOST for fastboot, --on adb:HOST; or run a stand-in")
		a.next = append(a.next, "jarlid standin run dunlin --at DIR")
		return &phone.NotHereError{Text: "no phone is listed"}
	}
	missing := 0
	for _, c := range list {
		for _, t := range c.Tested {
			a.say(c.Phone, say.Info, "%s, %s", c.Phone, t)
		}
		if c.Cause == phone.CauseHere {
			a.say(c.Phone, say.Good, "%s: %s", c.Phone, c.Text)
			continue
		}
		missing++
		a.say(c.Phone, say.Warn, "%s, %s: %s", c.Phone, c.Cause, c.Text)
		a.say(c.Phone, say.Todo, "%s", c.Do)
	}
	if missing > 0 {
		return &phone.NotHereError{Text: fmt.Sprintf("%d of %d phones can't be worked with as they are", missing, len(list))}
	}
	return nil
}

// phoneLine says in a line which phone it is and in what state.
func phoneLine(name string, c *card.Card) string {
	parts := []string{strings.TrimSpace(name + " " + c.Value(card.FactSerial)), modeWords(c.Mode())}
	if m := c.Value(card.FactModel); m != "" && m != name {
		parts = append(parts, "model "+m)
	}
	if yes, known := c.Yes(card.FactUnlocked); known {
		parts = append(parts, map[bool]string{true: "unlocked", false: "locked"}[yes])
	}
	if s := c.Value(card.FactStarted); s != "" {
		parts = append(parts, "started from slot "+s)
	}
	if s := c.Value(card.FactNext); s != "" {
		parts = append(parts, "slot "+s+" is next")
	}
	for _, f := range []card.Plain{card.FactRecovery, card.FactVersion} {
		if f := c.Get(f); f.Evidence == card.Read {
			parts = append(parts, f.Value)
		}
	}
	return strings.Join(parts, ", ")
}

func modeWords(m card.Mode) string {
	switch m {
	case card.Bootloader:
		return "fastboot mode"
	case card.Fastbootd:
		return "userspace fastboot"
	case card.Recovery:
		return "in recovery"
	case card.Sideload:
		return "waiting for a package"
	case card.System:
		return "system running"
	}
	return "not seen"
}
