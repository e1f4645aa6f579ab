package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
	"jarlid/internal/core/local"
	"jarlid/internal/core/model"
	"jarlid/internal/demo"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
	"jarlid/internal/standin"
	"jarlid/internal/standin/device"
	"jarlid/internal/standin/scenario"
	"jarlid/internal/task"
)

// demoOptions say how the demo runs.
type demoOptions struct {
	dir       string // where everything is put; "": a new temporary folder
	keep      bool   // leave the stand-in running until Ctrl-C
	onlyFiles bool
	story     string // which one; "": the first
	device    string // with onlyFiles: the phone they are for
	list      bool
}

func (a *app) demoCommand() *cobra.Command {
	var o demoOptions
	c := &cobra.Command{Use: "demo", Short: "Tell a whole evening on a phone made of software", Args: noWords,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if o.list {
				a.listStories()
				return nil
			}
			return a.demo(cmd.Context(), o)
		}}
	c.Flags().StringVar(&o.story, "story", "", "another story than the first: its name")
	c.Flags().BoolVar(&o.list, "list", false, "list the stories")
	c.Flags().StringVar(&o.dir, "at", "", "folder for the files and the stand-in (default: a new one among "+
		"the temporary files)")
	c.Flags().BoolVar(&o.keep, "keep", false, "leave the stand-in running at the end until Ctrl-C, to "+
		"play with")
	c.Flags().StringVar(&o.device, "for", "", "with --only-files: make them for this phone of the "+
		"scenario, with its firmware set, a ROM, add-ons and a generic system")
	c.Flags().BoolVar(&o.onlyFiles, "only-files", false, "only make the files")
	return c
}

// storyRow is a story in the result of demo --list.
type storyRow struct {
	Name  string `json:"name"`
	Title string `json:"title"`
}

// storyList is the result of demo --list.
type storyList struct {
	Stories []storyRow `json:"stories"`
}

func (a *app) listStories() {
	r := storyList{}
	var rows [][]string
	for _, s := range demo.Stories() {
		rows, r.Stories = append(rows, []string{s.Name, s.Title}),
			append(r.Stories, storyRow{s.Name, s.Title})
	}
	a.result = r
	a.out.Table([]string{"STORY", "WHAT IT IS ABOUT"}, rows)
	if !a.json {
		a.next = append(a.next, "jarlid demo --story "+rows[len(rows)-1][0])
	}
}

// practise names the command that switches a phone on which the demo's files are for.
func (a *app) practise(dir, name, device string) {
	a.next = append(a.next, "jarlid standin run "+local.Quote(device)+" --at "+
		local.Quote(filepath.Join(dir, name)))
}

func (a *app) demo(ctx context.Context, o demoOptions) error {
	var err error
	if o.dir == "" {
		o.dir, err = os.MkdirTemp("", "jarlid-demo-")
	} else {
		o.dir, err = filepath.Abs(o.dir)
	}
	if err != nil {
		return err
	}
	dir := filepath.Join(o.dir, "files")
	if o.device != "" {
		if !o.onlyFiles {
			return task.Usage("the story is told on a phone of its own; --for goes with --only-files")
		}
		e, err := a.taskEnv(nil)
		if err != nil {
			return err
		}
		m, err := a.loadModel(e.Bench, o.device)
		if err != nil {
			return err
		}
		if err := demo.MakeOf(dir, m); err != nil {
			return err
		}
		a.say("", say.Done, "the files for %s are in %s", o.device, dir)
		a.practise(o.dir, m.Name, o.device)
		return nil
	}
	tale, err := demo.FindStory(o.story)
	if err != nil {
		return task.Usage("%v", err)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if a.Chdir != nil && !o.onlyFiles { // the commands below name files as one would type them there
		if err := a.Chdir(dir); err != nil {
			return err
		}
	}
	list, err := tale.Prepare(dir)
	if err != nil {
		return err
	}
	if o.onlyFiles {
		if err := demo.MakeFooters(dir, scenario.PhoneOf(tale.Device)); err != nil {
			return err
		}
		a.say("", say.Done, "the files are in %s", dir)
		a.practise(o.dir, tale.Device, tale.Device)
		return nil
	}
	a.out.Prose("", strings.Join(tale.Intro, " "))
	return a.tell(ctx, o, tale, list)
}

// tell starts the phone and walks through the scenes.
func (a *app) tell(ctx context.Context, o demoOptions, tale *demo.Story, list []demo.Scene) error {
	home := filepath.Join(o.dir, "home")
	phones := tale.Phones
	window := "another window"
	if len(phones) == 0 {
		phones = []demo.Phone{{Name: tale.Device}}
	} else {
		window = "other windows"
	}
	a.out.Plain("")
	a.out.Prose("", fmt.Sprintf("Whoever wants to type along does so here; %s ends up in %s:",
		map[bool]string{true: "the phone", false: "each phone"}[len(phones) == 1], window))
	a.out.Plain(command + "cd " + local.Quote(filepath.Join(o.dir, "files")))
	a.out.Plain(command + local.SetVariable("JARLID_HOME", home))
	at := func(p demo.Phone) string { return filepath.Join(o.dir, p.Name) }
	for _, p := range phones {
		more := ""
		if p.Serial != "" {
			more = " --as " + p.Name + " --serial " + p.Serial
		}
		a.out.Plain(command + "jarlid standin run " + tale.Device + more + " --at " + local.Quote(at(p)))
	}
	b, err := bench.Open(bench.Options{Home: home, Locks: a.Locks, Dial: a.Dial})
	if err != nil {
		return err
	}
	pctx, off := context.WithCancel(ctx)
	defer off()
	controls := map[string]string{}
	for _, p := range phones {
		entry, ended, err := a.switchOn(pctx, b, b.Models.Find(tale.Device), p, at(p))
		if err != nil {
			return err
		}
		controls[p.Name] = entry.Control
		defer func() {
			off()
			if err := errors.Join(<-ended, b.Unregister(entry)); err != nil {
				a.say("", say.Warn, "the stand-in did not end well: %v", err)
			}
		}()
	}
	for n, s := range list {
		if len(s.Hands) > 0 {
			s.At = map[string][]string{phones[0].Name: s.Hands}
		}
		if err := a.play(ctx, home, controls, fmt.Sprintf("%d/%d", n+1, len(list)), s); err != nil {
			return err
		}
	}
	a.out.Plain("")
	a.out.Prose("", tale.End)
	a.say("", say.Info, "files: %s", filepath.Join(o.dir, "files"))
	if len(phones) == 1 {
		a.say("", say.Info, "the phone's storage: %s", at(phones[0]))
	}
	a.say("", say.Info, "journals: %s", filepath.Join(home, "jobs"))
	if !o.keep {
		a.say("", say.Info, "the stand-in is switched off; run it again with: jarlid standin run %s --at "+
			"%s --home %s", tale.Device, local.Quote(at(phones[0])), local.Quote(home))
		return nil
	}
	a.say("", say.Info, "the stand-in runs until Ctrl-C; to work with it, in another window: jarlid "+
		"--home %s", home)
	<-ctx.Done()
	return nil
}

// switchOn runs a stand-in and lists it on the bench.
func (a *app) switchOn(ctx context.Context, b *bench.Bench, m *model.Model, as demo.Phone, at string) (
	bench.Entry, <-chan error, error) {
	ready, ended := make(chan device.Addresses, 1), make(chan error, 1)
	p, err := standin.New(m, device.Options{Dir: at, Serial: as.Serial, Net: a.Net,
		Ready: func(s device.Addresses) {
			ready <- s
		}})
	if err != nil {
		return bench.Entry{}, nil, err
	}
	go func() { ended <- p.Run(ctx) }()
	select {
	case s := <-ready:
		e := bench.Entry{Name: as.Name, Model: m.Name, Serial: s.Serial, At: s.At(), Control: s.Control,
			Standin: at}
		return e, ended, b.Register(e)
	case err := <-ended:
		return bench.Entry{}, nil, fmt.Errorf("the stand-in did not start: %w", err)
	}
}

// command is what stands before a command that is shown.
const command = "      $ "

// play shows a command and runs it.
func (a *app) play(ctx context.Context, home string, controls map[string]string, number string,
	s demo.Scene) error {
	a.out.Plain("")
	a.out.Prose(number, s.Why)
	shown := []string{"jarlid"}
	for _, w := range s.Args {
		shown = append(shown, local.Quote(w))
	}
	a.out.Plain(command + strings.Join(shown, " "))
	hctx, cancel := context.WithCancel(ctx)
	defer cancel()
	asked := make(chan struct{})
	for name, keys := range s.At {
		go func() {
			if s.WhenAsked {
				select {
				case <-asked:
				case <-hctx.Done():
					return
				}
			}
			a.hands(hctx, controls[name], keys)
		}()
	}
	if f := s.Fault; f != nil {
		if err := standin.OrderFault(ctx, a.Net, controls[f.Phone],
			device.Fault{Kind: f.Kind, After: f.After, For: 1}); err != nil {
			return err
		}
	}
	stop := make(chan struct{}, 2)
	unhook := context.AfterFunc(ctx, func() { stop <- struct{}{}; stop <- struct{}{} })
	defer unhook()
	c := a.Config
	c.Asked = sync.OnceFunc(func() { close(asked) })
	c.Cable = nil // the story's phone is on the loopback network, and real ones are none of it
	attended := s.Typed != "" || len(s.At) > 0
	c.Stdin, c.Attended, c.Interrupts = strings.NewReader(s.Typed), &attended, stop
	args := append(s.Args[:len(s.Args):len(s.Args)], "--home", home)
	if a.json {
		args = append(args, "--json")
	}
	if code := Run(args, c); code != s.Exit {
		return fmt.Errorf("jarlid %s ended with %d, and the story wants %d", strings.Join(s.Args, " "),
			code, s.Exit)
	}
	return ctx.Err()
}

// handsEvery is how often something is pressed that the phone does not have yet.
const handsEvery = 200 * time.Millisecond

// hands presses one thing after the other, each as soon as the phone has it.
func (a *app) hands(ctx context.Context, control string, keys []string) {
	for _, k := range keys {
		for {
			if _, err := standin.Press(ctx, a.Net, control, []string{k}); err == nil {
				break
			}
			if wire.Pause(ctx, handsEvery) != nil {
				return
			}
		}
	}
}
