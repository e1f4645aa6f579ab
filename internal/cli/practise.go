package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
	"jarlid/internal/core/card"
	"jarlid/internal/core/model"
	"jarlid/internal/demo"
	"jarlid/internal/standin"
)

func (a *app) standinCommand() *cobra.Command {
	c := &cobra.Command{Use: "standin", Short: "Phones made of software, to practise and test on", Args: noWords,
		RunE: func(*cobra.Command, []string) error { return usage("standin wants a command: run, press or fault") }}
	var o standin.Options
	var as string
	run := &cobra.Command{Use: "run MODEL", Short: "Run a stand-in until Ctrl-C", Args: words(1, 1, "a model: dunlin, or the path of a model file"),
		Long: "Runs a phone made of software. It keeps its storage in the folder given with --at, listens on the\n" +
			"loopback interface only, and is listed on the bench while it runs.",
		RunE: func(cmd *cobra.Command, args []string) error { return a.standinRun(cmd.Context(), args[0], as, o) }}
	f := run.Flags()
	f.StringVar(&o.Dir, "at", "", "folder for its storage and state (needed)")
	f.StringVar(&as, "as", "", "its name on the bench (default: the model's)")
	f.StringVar(&o.Fastboot, "fastboot", "", "address for fastboot, such as 127.0.0.1:5554 (default: a free port)")
	f.StringVar(&o.ADB, "adb", "", "address for ADB, such as 127.0.0.1:5555 (default: a free port)")
	f.BoolVar(&o.Locked, "locked", false, "a new one comes with its bootloader locked")
	f.IntVar(&o.Battery, "battery", 0, "a new one's charge in percent")
	f.StringVar(&o.Mode, "mode", "", "come up in this mode: bootloader, fastbootd, recovery, sideload or system")
	press := &cobra.Command{Use: "press NAME KEY...", Short: "Hands at a stand-in: keys, menu entries and answers, in order",
		Args: words(2, -1, "a stand-in and what to press"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.standinPress(cmd.Context(), args[0], args[1:]) }}
	var fault standin.Fault
	bad := &cobra.Command{Use: "fault NAME KIND", Short: "Make something go wrong at a stand-in", Args: words(2, 2, "a stand-in and a fault"),
		Long: "Faults: " + strings.Join(standin.Faults, ", ") + ".",
		RunE: func(cmd *cobra.Command, args []string) error {
			fault.Kind = args[1]
			return a.standinFault(cmd.Context(), args[0], fault)
		}}
	bad.Flags().Int64Var(&fault.After, "after", 0, "drop, battery, stall: once the computer has sent so many bytes; refuse, drop-next: after so many commands")
	bad.Flags().Int64Var(&fault.For, "for", 1, "stall: seconds; refuse, drop-next, fail-at-end: how often")
	c.AddCommand(run, press, bad)
	return c
}

// loadModel finds a model by name, or reads a model file by its path.
func (a *app) loadModel(b *bench.Bench, name string) (*model.Model, error) {
	if m := b.Models.Find(name); m != nil {
		return m, nil
	}
	if !strings.HasSuffix(name, ".yaml") && !strings.ContainsRune(name, filepath.Separator) {
		var names []string
		for _, m := range b.Models {
			names = append(names, m.Name)
		}
		return nil, usage("there is no model %q; there is: %s, or the path of a model file", name, strings.Join(names, ", "))
	}
	data, err := os.ReadFile(unquote(name))
	if err != nil {
		return nil, err
	}
	return model.Parse(data)
}

func (a *app) standinRun(ctx context.Context, name, as string, o standin.Options) error {
	if o.Dir == "" {
		return usage("standin run wants --at DIR, the folder for its storage")
	}
	if o.Battery < 0 || o.Battery > 100 {
		return usage("--battery is a percentage from 1 to 100, not %d", o.Battery)
	}
	switch card.Mode(o.Mode) {
	case card.None, card.Bootloader, card.Fastbootd, card.Recovery, card.Sideload, card.System:
	default:
		return usage("--mode is bootloader, fastbootd, recovery, sideload or system, not %q", o.Mode)
	}
	b, err := a.bench()
	if err != nil {
		return err
	}
	m, err := a.loadModel(b, name)
	if err != nil {
		return err
	}
	if as == "" {
		as = m.Name
	}
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return err
	}
	o.Dir = dir
	entry := bench.Entry{Name: as, Model: m.Name, Standin: dir}
	o.Log = func(s string) { a.out.Say(bench.Look, "%s", s) }
	o.Ready = func(at standin.Addresses) {
		entry.Serial, entry.Fastboot, entry.ADB, entry.Control = at.Serial, "tcp:"+at.Fastboot, "adb:"+at.ADB, at.Control
		if err := b.Register(entry); err != nil {
			a.out.Say("care", "it could not be listed on the bench: %v", err)
		}
		if a.json {
			a.out.event("ready", map[string]any{"name": as, "serial": at.Serial, "fastboot": entry.Fastboot, "adb": entry.ADB, "control": at.Control})
		}
		a.out.Say(bench.Look, "%s, serial number %s: fastboot at tcp:%s, ADB at adb:%s", as, at.Serial, at.Fastboot, at.ADB)
		a.out.Say(bench.Look, "its storage is in %s; Ctrl-C ends it and keeps everything", dir)
	}
	p, err := standin.New(m, o)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		select {
		case <-a.soft:
			cancel()
		case <-ctx.Done():
		}
	}()
	err = p.Run(ctx)
	if uerr := b.Unregister(entry); err == nil {
		err = uerr
	}
	if err == nil {
		a.out.Say(bench.Done, "%s is switched off; its state is kept in %s", as, dir)
	}
	return err
}

func (a *app) standinPress(ctx context.Context, name string, keys []string) error {
	control, err := a.control(name)
	if err != nil {
		return err
	}
	reply, err := standin.Press(ctx, control, keys)
	if err != nil {
		return err
	}
	a.result["mode"], a.result["screen"] = reply.Mode, reply.Screen
	for _, line := range reply.Screen[max(0, len(reply.Screen)-3):] {
		a.out.Say(bench.Look, "screen: %s", line)
	}
	a.out.Say(bench.Done, "pressed %s", strings.Join(keys, ", then "))
	return nil
}

func (a *app) standinFault(ctx context.Context, name string, f standin.Fault) error {
	control, err := a.control(name)
	if err != nil {
		return err
	}
	if f.After < 0 || f.For < 0 {
		return usage("--after and --for take numbers from 0 on")
	}
	if err := standin.OrderFault(ctx, control, f); err != nil {
		return err
	}
	if f.Kind == "clear" {
		a.out.Say(bench.Done, "nothing more goes wrong at %s", name)
		return nil
	}
	a.out.Say(bench.Done, "at %s this goes wrong next: %s", name, f.Kind)
	return nil
}

// control gives the address a running stand-in takes orders at.
func (a *app) control(name string) (string, error) {
	b, err := a.bench()
	if err != nil {
		return "", err
	}
	list, err := b.Entries()
	if err != nil {
		return "", err
	}
	for _, e := range list {
		if e.Name == name && e.Control != "" {
			return e.Control, nil
		}
	}
	return "", &bench.NotHereError{Text: fmt.Sprintf("no stand-in called %q is running", name)}
}

func (a *app) listStories() {
	var rows [][]string
	stories := []map[string]string{}
	for _, s := range demo.Stories() {
		rows, stories = append(rows, s[:]), append(stories, map[string]string{"name": s[0], "title": s[1]})
	}
	a.result["stories"] = stories
	if !a.json {
		a.out.table([]string{"STORY", "WHAT IT IS ABOUT"}, rows)
		a.next = append(a.next, "jarlid demo --story "+rows[len(rows)-1][0])
	}
}

func (a *app) demoCommand() *cobra.Command {
	var o demo.Options
	list := false
	c := &cobra.Command{Use: "demo", Short: "The whole story on a stand-in, no phone needed", Args: noWords,
		RunE: func(cmd *cobra.Command, _ []string) error {
			o.Say = func(word, text string) { a.out.Say(bench.Word(word), "%s", text) }
			o.Plain = func(text string) {
				if !a.json {
					fmt.Fprintln(a.stdout, text)
				}
			}
			o.Run = func(typed string, args ...string) int {
				if a.json {
					args = append(args, "--json")
				}
				return Run(args, strings.NewReader(typed), a.stdout, a.stderr)
			}
			if list {
				a.listStories()
				return nil
			}
			return demo.Run(cmd.Context(), o)
		}}
	c.Flags().StringVar(&o.Story, "story", "", "another story than the first: its name")
	c.Flags().BoolVar(&list, "list", false, "list the stories")
	c.Flags().StringVar(&o.Dir, "at", "", "folder for the files and the stand-in (default: a new one among the temporary files)")
	c.Flags().BoolVar(&o.Keep, "keep", false, "leave the stand-in running at the end, to play with")
	c.Flags().StringVar(&o.For, "for", "", "with --only-files: make them for this phone of the scenario, with its firmware set, a ROM, add-ons and a generic system")
	c.Flags().BoolVar(&o.OnlyFiles, "only-files", false, "only make the files")
	return c
}
