package cli

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
	"jarlid/internal/cli/term"
	"jarlid/internal/core/card"
	"jarlid/internal/core/spell"
	"jarlid/internal/phone"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

func (a *app) benchCommand() *cobra.Command {
	var watch, why, rule bool
	c := &cobra.Command{Use: "bench", Short: "List the phones that are here, or say why one is not",
		Args: noWords,
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := a.taskEnv(cmd)
			switch {
			case err != nil:
				return err
			case watch && why || rule && (watch || why):
				return task.Usage("--watch, --why and --rule are three questions; ask one at a time")
			case rule:
				return a.rule(e)
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
				return &wire.NotHereError{Text: "no phone is here"}
			}
			return nil
		}}
	c.Flags().BoolVar(&watch, "watch", false, "look again and again until Ctrl-C, and show what changes")
	c.Flags().BoolVar(&why, "why", false, "find out why a phone is not here: each cause is tested")
	c.Flags().BoolVar(&rule, "rule", false, "print the rule that lets a user of Linux talk to phones on "+
		"a cable")
	var at []string
	name := &cobra.Command{Use: "name PHONE [NAME]",
		Short: "Give a phone a name on the bench, or another address",
		Args:  words(1, 2, "which phone (name, serial number or address), then its new name"),
		RunE:  func(cmd *cobra.Command, args []string) error { return a.benchName(cmd, args, at) }}
	name.Flags().StringArrayVar(&at, "at", nil, "an address where it is in another mode, such as "+
		"adb:192.168.1.7 (repeatable)")
	c.AddCommand(name)
	return c
}

// named is the result of bench name.
type named struct {
	Name   string `json:"name"`
	Before string `json:"before"`
	Serial string `json:"serial,omitempty"`
	// At are the addresses that were added.
	At []string `json:"at,omitempty"`
}

func (a *app) benchName(cmd *cobra.Command, args, at []string) error {
	if len(args) < 2 && len(at) == 0 {
		return task.Usage("say its new name, or where it is too: --at ADDRESS")
	}
	var more []wire.Address
	for _, s := range at {
		address, err := wire.ParseAddress(s)
		if err != nil {
			return task.Usage("%v", err)
		}
		more = append(more, address)
	}
	e, err := a.taskEnv(cmd)
	if err != nil {
		return err
	}
	p, err := e.Bench.Pick(cmd.Context(), args[0])
	if err != nil {
		return err
	}
	name := p.Name
	if len(args) > 1 {
		name = args[1]
	}
	if e.Options.DryRun {
		a.result = named{name, p.Name, p.Serial, at}
		a.say(name, say.Note, "a dry run writes nothing on the bench")
		return nil
	}
	if err := e.Bench.Rename(p, name, more...); err != nil {
		return task.Usage("%v", err)
	}
	a.result = named{name, p.Name, p.Serial, at}
	if len(at) > 0 {
		a.say(name, say.Done, "%s is at %s too", name, strings.Join(at, " and "))
	}
	if name != p.Name {
		a.say(name, say.Done, "%s is called %s from now on", p.Name, name)
	}
	return nil
}

// ruleShown is the result of bench --rule.
type ruleShown struct {
	File string `json:"file"`
	Rule string `json:"rule"`
}

func (a *app) rule(e *task.Env) error {
	text := e.Bench.RuleFor()
	a.result, a.bare = ruleShown{bench.RuleFile, text}, true
	if !a.json {
		a.out.Plain(strings.TrimSuffix(text, "\n"))
	}
	return nil
}

func (a *app) printBench(h *task.Here) {
	var lines [][]string
	for _, r := range h.Phones {
		mode, next := string(r.Mode), orUnknown(r.NextSlot)
		if r.Denied != "" {
			mode += ", not authorised"
		}
		if r.Failed != "" {
			mode = "could not be read"
		}
		if r.Busy {
			mode = "another jarlid works on it"
		}
		at := r.Address
		if r.Stop != nil {
			mode = r.Stop.Name
		}
		if r.USB != nil {
			at += ", " + phone.SpeedWords(r.USB.Speed)
		}
		if r.OneSlot {
			next = "no slots"
		}
		lines = append(lines, []string{r.Name, orUnknown(r.Serial), orUnknown(r.Model), mode, next,
			yesWord(r.Unlocked), at})
	}
	if len(lines) > 0 {
		a.out.Show(term.Table{Head: []string{"NAME", "SERIAL", "MODEL", "MODE", "NEXT SLOT", "UNLOCKED",
			"ADDRESS"}, Rows: lines, Second: 6})
	}
	if a.json {
		return
	}
	for _, r := range h.Phones {
		if r.Failed != "" {
			a.say(r.Name, say.Warn, "%s could not be read: %s", r.Name, r.Failed)
		}
		if r.Stop != nil {
			a.say(r.Name, say.Warn, "%s", r.Stop.Text)
			a.say(r.Name, say.Todo, "%s", r.Stop.Remedy)
		}
	}
	for _, n := range h.Absent {
		a.say(n, say.Note, "%s is listed and does not answer: off, restarting, in a mode without a "+
			"connection, or unplugged", n)
	}
}

// watchEvery is how often the bench is checked.
const watchEvery = time.Second

// watch shows the bench each time it changes.
func (a *app) watch(ctx context.Context, e *task.Env) error {
	ctx, stop := e.UntilStopped(ctx)
	defer stop()
	primary := a.out.Watch()
	defer func() { // the last state stays on the screen
		primary()
		if h, ok := a.result.(*task.Here); ok && a.out.Drawn() {
			a.printBench(h)
		}
	}()
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
		if wire.Pause(ctx, watchEvery) != nil {
			return nil
		}
	}
}

// redraw begins the screen again on a terminal; on a pipe the next table says
// when it was.
func (a *app) redraw() {
	if a.json {
		return
	}
	a.out.Redraw()
	text := "the bench at " + time.Now().Format("15:04:05")
	if a.out.Drawn() {
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
	if _, cerr := e.Bench.Devices(); cerr != nil {
		a.say("", say.Info, "the cables can't be looked at: %v", cerr)
	}
	if len(list) == 0 {
		a.say("", say.Info, "no phone is on the list, and none on a cable: nothing is plugged in that is "+
			"one, or its cable is worn or has no data wires")
		a.say("", say.Todo, "plug it in, try another cable and port, switch it on, and bring it into the "+
			"bootloader by its keys, held longer")
		a.say("", say.Todo, "or name one by its address: --on tcp:HOST for fastboot, --on adb:HOST; or run "+
			"a stand-in")
		a.next = append(a.next, "jarlid standin run dunlin --at DIR")
		return &wire.NotHereError{Text: "no phone is listed"}
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
		if c.Cause != phone.CauseSlowLink { // it can be worked with
			missing++
		}
		a.say(c.Phone, say.Warn, "%s, %s: %s", c.Phone, c.Cause, c.Text)
		a.say(c.Phone, say.Todo, "%s", c.Do)
	}
	if missing > 0 {
		a.next = append(a.next, e.Command("", "bench")) // once that is done
		return &wire.NotHereError{Text: spell.SomeOf(missing, len(list), "phone",
			"can't be worked with as it is", "can't be worked with as they are")}
	}
	return nil
}

// phoneLine says in a line which phone it is and in what state.
func phoneLine(name string, c *card.Card) string {
	mode := c.Mode().Def().Words
	if up, known := c.Yes(card.FactBooted); c.Mode() == card.System && known && !up {
		mode = "system starting"
	}
	parts := []string{strings.TrimSpace(name + " " + c.Value(card.FactSerial)), mode}
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
		if f := c.Get(f); f.Source == card.Read {
			parts = append(parts, f.Value)
		}
	}
	if tried, _ := c.Yes(card.FactTemporary); tried && c.Mode() == card.Recovery {
		parts = append(parts, "written nowhere")
	}
	return strings.Join(parts, ", ")
}
