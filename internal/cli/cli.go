// Package cli is what a person sees of Jar Lid: it turns flags into tasks and results
// into lines and JSON. It holds no rule of the trade.
package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"jarlid/internal/bench"
	"jarlid/internal/cli/term"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/spell"
	"jarlid/internal/engine"
	"jarlid/internal/files"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/link/serial"
	"jarlid/internal/link/usb"
	"jarlid/internal/link/usb/soft"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
	"jarlid/internal/standin/device"
	"jarlid/internal/task"
)

// Config is what the program is run in: main's process, or a test's bubble.
type Config struct {
	Stdin          io.Reader
	Stdout, Stderr io.Writer
	Env            func(string) string // nil: the process's environment
	// Attended says whether a person types the answers; nil: when Stdin is a terminal.
	Attended *bool
	// Interrupts has a value for each Ctrl-C.
	Interrupts <-chan struct{}
	// Closing is closed when the window is: a few seconds are left, and jobs end at once.
	Closing <-chan struct{}
	// Hold keeps the window and the computer from stopping a job until it is released; nil: nothing does.
	Hold    func() (release func())
	Dial    link.Dialer  // nil: the network
	Cable   usb.Bus      // nil: no phone is on a cable
	Ports   serial.Ports // serial lines; nil: none are looked for
	Plug    soft.Plug    // where stand-ins' cables end; nil: this computer's kernel
	Columns int          // the width of the terminal that Stdout is; 0: what the system says of it
	// is called when something is to be done at a phone; nil: nobody waits for that
	Asked func()
	Chdir func(dir string) error // moves the process to a folder; nil: it stays where it is
	Locks string                 // the folder of locks; "": the user's
	Net   device.Net             // where stand-ins listen; nil: the loopback interface
	Sink  journal.OpenSink
}

// app is one run of the program.
type app struct {
	Config
	request
	display
	outcome
	stops

	env *task.Env // once a command has asked for it
}

// request is what was typed: the words after the program's name, and the options that every command has.
type request struct {
	typed                []string
	on, home, card       string
	yes, dryRun, noHands bool
	memory               string // what extracting may take, as typed
	accept               []string
}

// display is where the run is shown, and how much of it.
type display struct {
	out                  *term.Term
	json, quiet, details bool
	helped               bool // help was shown, in JSON too
	bare                 bool // the output is for another program, and no command follows from it
}

// outcome is what the last line says.
type outcome struct {
	ran    string      // the command, with the commands it belongs to
	phone  *engine.Job // that was opened, the last of several
	jobDir string
	result any      // of --json
	next   []string // commands that follow
}

// stops is how the run is stopped before its end.
type stops struct {
	stop   chan struct{} // closed by the first Ctrl-C
	writes *writes
	keeps  bool // the command writes files that stay where it is cancelled
}

// Set before any run: several may go on at the same time.
func init() { cobra.MousetrapHelpText = "" } // a click is RunClicked's

// Run runs the program with the given arguments and gives its exit code.
func Run(args []string, c Config) int {
	if c.Env == nil {
		c.Env = os.Getenv
	}
	a := &app{Config: c, request: request{typed: withoutCode(args)},
		stops: stops{stop: make(chan struct{}), writes: &writes{}}}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(c.Stdin)
	root.SetOut(c.Stdout)
	root.SetErr(c.Stderr)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	done, late := make(chan struct{}), make(chan struct{})
	defer close(done)
	go a.interrupts(done, late, cancel)
	type end struct {
		cmd *cobra.Command
		err error
	}
	ended, gone := make(chan end, 1), make(chan struct{})
	go func() {
		defer close(gone)
		cmd, err := root.ExecuteContextC(ctx)
		if a.env != nil {
			a.env.Close()
		}
		ended <- end{cmd, err}
	}()
	var err error
	select {
	case e := <-ended:
		a.ran, err = e.cmd.CommandPath(), e.err
	case <-late:
		return a.abandon(hasFlag(args, "--json"))
	case <-gone:
		select {
		case e := <-ended:
			a.ran, err = e.cmd.CommandPath(), e.err
		default:
			runtime.Goexit() // its goroutine was ended from within, and so is this one
		}
	}
	if a.out == nil { // cobra stopped before anything ran
		if err == nil {
			return task.ExitDone
		}
		a.json = a.json || hasFlag(args, "--json")
		a.show()
	}
	if a.helped && err == nil {
		return task.ExitDone // help is all there is to say
	}
	return a.finish(err)
}

// Parses reports whether a command can be typed: it is one, and has these options and so many words.
// args are without the program's name.
func Parses(args []string) error {
	c, rest, err := (&app{}).root().Find(args)
	if err == nil {
		err = c.ParseFlags(rest)
	}
	if errors.Is(err, pflag.ErrHelp) {
		return nil
	}
	if err == nil {
		err = c.ValidateArgs(c.Flags().Args())
	}
	return err
}

// RunClicked runs the program where somebody clicked on it, or dropped files on it, in a window of its
// own that closes with it: it tells what is here, or what the files are, and waits.
func RunClicked(args []string, c Config) int {
	if len(args) > 0 && !slices.ContainsFunc(args, func(s string) bool {
		_, err := os.Stat(s)
		return err != nil
	}) {
		args = append([]string{"ident"}, args...)
	}
	code := Run(args, c)
	if len(args) == 0 {
		fmt.Fprintln(c.Stdout, "\nJar Lid is worked with by typing: open a terminal in this folder, and "+
			"type jarlid --help.")
	}
	fmt.Fprint(c.Stdout, "Press Enter to close this window. ")
	_, _ = bufio.NewReader(c.Stdin).ReadString('\n') // the window closes whatever came
	return code
}

// withoutCode takes an unlock code out of what was typed: it is kept nowhere.
func withoutCode(args []string) (out []string) {
	for i := 0; i < len(args); i++ {
		switch {
		case args[i] == "--code":
			i++
		case strings.HasPrefix(args[i], "--code="):
		default:
			out = append(out, args[i])
		}
	}
	return out
}

// show makes what the run is shown on.
func (a *app) show() {
	a.out = term.New(term.Options{Out: a.Stdout, In: a.Stdin, JSON: a.json, Env: a.Env, Attended: a.Attended,
		Columns: a.Columns, Asked: a.Asked, Cancel: a.stop, Quiet: a.quiet, Details: a.details})
}

func hasFlag(args []string, name string) bool {
	for _, s := range args {
		if s == "--" {
			return false
		}
		if s == name {
			return true
		}
	}
	return false
}

// ending is how a command ended, in the last line of JSON.
type ending struct {
	OK       bool              `json:"ok"`
	Exit     int               `json:"exit"`
	Error    string            `json:"error,omitempty"`
	Findings []finding.Finding `json:"findings,omitempty"`
	Journal  string            `json:"journal,omitempty"`
	Next     []string          `json:"next,omitempty"`
}

// finish prints the end and gives the exit code.
func (a *app) finish(err error) int {
	a.out.EndBar()
	err = task.AsFinding(err)
	code := task.Exit(err)
	if err != nil && a.stopping() {
		code, err = a.cancelled(err)
	}
	a.onward(err, code)
	if a.json {
		e := ending{OK: err == nil, Exit: code, Journal: a.jobDir, Next: a.next}
		var f *finding.StopError
		if errors.As(err, &f) {
			e.Findings = f.Findings
		}
		if err != nil {
			e.Error = spell.Error(err)
		}
		a.out.Result(a.result, e)
		return code
	}
	a.sayError(err, code)
	for _, n := range a.next {
		a.out.Line(say.Next, n)
	}
	return code
}

// complete says how an option's value is completed. The library keeps that for the life of the
// program, with all it holds on to, so it is told only when a shell asks for it.
func (a *app) complete(c *cobra.Command, option string, f cobra.CompletionFunc) {
	if len(a.typed) == 0 ||
		!slices.Contains([]string{cobra.ShellCompRequestCmd, cobra.ShellCompNoDescRequestCmd}, a.typed[0]) {
		return
	}
	if err := c.RegisterFlagCompletionFunc(option, f); err != nil {
		panic(err) // no such option: the program contradicts itself
	}
}

// root makes the tree of commands.
func (a *app) root() *cobra.Command {
	version := false
	root := &cobra.Command{
		Use:   "jarlid",
		Short: "Puts custom firmware on unlocked phones: looks first, says what happened, loses nothing",
		Long: "Jar Lid puts custom firmware on unlocked phones: it looks before it touches, says what " +
			"happened, and loses nothing.\n\n" +
			"Without a command it tells what is here, in what state, and the likely next command.",
		SilenceUsage: true, SilenceErrors: true,
		Args: noWords,
		PersistentPreRunE: func(*cobra.Command, []string) error {
			a.show()
			return nil
		},
		RunE: func(cmd *cobra.Command, _ []string) error {
			if version {
				a.version()
				return nil
			}
			return a.status(cmd.Context())
		},
		CompletionOptions: cobra.CompletionOptions{DisableDefaultCmd: true},
	}
	root.Flags().BoolVarP(&version, "version", "v", false,
		"the program's version, and the forms of file it writes")
	root.SetHelpCommand(a.helpCommand())
	root.SetHelpFunc(func(c *cobra.Command, _ []string) { a.help(c) })
	f := root.PersistentFlags()
	f.StringVar(&a.on, "on", "", "the phone: bench name, serial number or address ("+wire.AddressForms()+")")
	f.StringVar(&a.card, "card", "", "a saved card instead of a phone: everything is checked, nothing done")
	f.StringVar(&a.home, "home", "", "folder for bench.yaml, models, key and jobs (default: JARLID_HOME or "+
		"the user's data folder)")
	f.BoolVar(&a.json, "json", false, "print JSON Lines, the result last")
	f.BoolVar(&a.quiet, "quiet", false, "tell only what was found, what is to be done at the phone, and "+
		"the end")
	f.BoolVar(&a.details, "details", false, "tell at length what is folded else")
	f.BoolVar(&a.yes, "yes", false, "answer yes to what is asked; never allows a stop")
	f.BoolVar(&a.dryRun, "dry-run", false, "check everything, change nothing")
	f.BoolVar(&a.noHands, "no-hands", false, "nobody is at the phone: end at once where a person would "+
		"be needed")
	f.StringArrayVar(&a.accept, "accept", nil, "allow a stop by its name: NAME or NAME=WHAT (repeatable)")
	root.SetFlagErrorFunc(flagError)
	a.complete(root, "on", func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return a.phoneNames(), cobra.ShellCompDirectiveNoFileComp
	})
	a.complete(root, "accept", func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return finding.Names(), cobra.ShellCompDirectiveNoFileComp
	})
	root.AddCommand(a.benchCommand(), a.identCommand(), a.proofCommand(), a.liftCommand(), a.fitCommand(),
		a.cardCommand(), a.modelCommand(), a.sheetCommand(), a.jobsCommand(), a.unlockCommand(),
		a.flashCommand(),
		a.recoveryCommand(), a.slotCommand(), a.vbmetaCommand(), a.relockCommand(), a.wipeCommand(),
		a.sideloadCommand(), a.putCommand(), a.appCommand(), a.arriveCommand(),
		a.backupCommand(), a.shelveCommand(), a.unshelveCommand(), a.goCommand(), a.explainCommand(),
		a.standinCommand(), a.demoCommand(), a.manCommand(), a.completionCommand())
	root.InitDefaultHelpCmd() // ours
	// Only where a shell asks: no other start waits for it.
	if len(a.typed) > 0 && strings.HasPrefix(a.typed[0], cobra.ShellCompRequestCmd) {
		a.completeWords(root)
	}
	return root
}

// noWords refuses words behind a command that takes none, and names a command
// that does not exist for what it is.
func noWords(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	if cmd.HasSubCommands() {
		var names []string
		for _, c := range cmd.Commands() {
			names = append(names, c.Name())
		}
		return task.Usage("%s has no command %q%s", cmd.CommandPath(), args[0],
			spell.DidYouMean(args[0], names))
	}
	return task.Usage("%s takes no words, and there is %q", cmd.CommandPath(), args[0])
}

// wants makes a command that only has others.
func wants(what string) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, _ []string) error {
		return task.Usage("say what to do with it: %s %s", cmd.CommandPath(), what)
	}
}

// words checks how many words a command takes. what goes on behind "say": which are meant.
func words(least, most int, what string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		switch {
		case len(args) < least:
			return task.Usage("say %s", what)
		case most >= 0 && len(args) > most:
			return task.Usage("%q is one word too many; say %s", args[most], what)
		}
		return nil
	}
}

func (a *app) homeDir() (string, error) {
	if a.home != "" {
		return a.home, nil
	}
	if dir := a.Env("JARLID_HOME"); dir != "" {
		return dir, nil
	}
	return bench.DefaultHome()
}

// taskEnv gives what commands are run taskEnv. cmd is nil where nothing is changed: the command as it was
// typed is not kept then.
func (a *app) taskEnv(cmd *cobra.Command) (*task.Env, error) {
	if a.env != nil {
		return a.env, nil
	}
	home, err := a.homeDir()
	if err != nil {
		return nil, err
	}
	b, err := bench.Open(bench.Options{Home: home, Locks: a.Locks, Dial: a.Dial, Cable: a.Cable,
		Ports: a.Ports, Doing: strings.Join(append([]string{"jarlid"}, a.typed...), " ")})
	if err != nil {
		return nil, err
	}
	if b.Closed {
		a.say("", say.Note, "%s could be read by other users of this computer; it is closed to them now",
			home)
	}
	o := engine.Options{On: a.on, Yes: a.yes, DryRun: a.dryRun, NoHands: a.noHands || !a.out.Attended(),
		Away: a.noHands, Stop: a.stop, Observer: a.out, Sink: a.Sink, OnOpen: a.opened, OnDraft: a.shown,
		Writing: a.writes.set, Verifier: &files.Verifier{Home: home}}
	if a.card != "" {
		o.SavedCard = files.Unquote(a.card)
	}
	if cmd != nil {
		o.Typed = append([]string{"jarlid"}, a.typed...)
	}
	for _, s := range a.accept {
		acc := finding.ParseAccept(s)
		if _, ok := finding.Explain(acc.Name); !ok {
			if one, _, several := strings.Cut(acc.Name, ","); several {
				return nil, task.Usage("write --accept once for each finding: --accept %s --accept ...", one)
			}
			return nil, task.Usage("there is no finding called %q to accept%s", acc.Name,
				spell.DidYouMean(acc.Name, finding.Names()))
		}
		o.Accept = append(o.Accept, acc)
	}
	a.env = &task.Env{Bench: b, Options: o}
	a.env.Later(o.Verifier.Save)
	if a.memory != "" {
		if a.env.MaxMemory, err = parseBytes(a.memory); err != nil {
			return nil, err
		}
	}
	return a.env, nil
}

// maxMemory adds the bound on what extracting files may take.
func (a *app) maxMemory(c *cobra.Command) {
	c.Flags().StringVar(&a.memory, "max-memory", "256MiB", "the most memory that unwrapping a file may take")
}

// opened says which phone it is and in what state.
func (a *app) opened(j *engine.Job) {
	a.phone = j
	switch {
	case j.Offline() && j.SavedCard == "":
		a.out.Say(j.Name, say.Info, "no phone, but what the model file of %s says, as if one were in its "+
			"bootloader, unlocked", j.Name)
	case j.Offline():
		a.out.Say(j.Name, say.Info, "the saved card of %s: %s", j.Name, phoneLine(j.Name, j.Card))
	case !j.Connected():
		a.out.Say(j.Name, say.Info, "%s does not answer: it is off, in a mode without a connection, or "+
			"starting; it is brought there by hand", j.Name)
	default:
		a.out.Say(j.Name, say.Info, "%s", phoneLine(j.Name, j.Card))
	}
}

// suggest adds the likely next command for a phone.
func (a *app) suggest(j *engine.Job) {
	if c, _ := a.env.Suggest(j.Name, j.Card, j.Model()); c != "" {
		a.next = append(a.next, c)
	}
}

// entries are what is listed on the bench, for completion: nothing where that can't be told.
func (a *app) entries() []bench.Entry {
	e, err := a.taskEnv(nil)
	if err != nil {
		return nil
	}
	list, err := e.Bench.Entries()
	if err != nil {
		return nil
	}
	return list
}

// namesOf are the names of those entries that are meant.
func namesOf(list []bench.Entry, meant func(bench.Entry) bool) (names []string) {
	for _, e := range list {
		if meant(e) {
			names = append(names, e.Name)
		}
	}
	return names
}

func (a *app) phoneNames() []string {
	return namesOf(a.entries(), func(bench.Entry) bool { return true })
}

// say tells a sentence about a phone; name is "" for none.
func (a *app) say(name string, w say.Word, format string, args ...any) {
	a.out.Say(name, w, format, args...)
}

// base is a file's name without its folder.
func base(path string) string { return filepath.Base(path) }
