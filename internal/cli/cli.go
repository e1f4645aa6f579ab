// Package cli is what a person sees of Jar Lid: commands, tables, questions,
// progress, JSON and exit codes. It holds no rule of the trade.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"slices"
	"strings"
	"sync"
	"syscall"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/plan"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
)

// Exit codes.
const (
	exitDone    = 0
	exitWrong   = 1 // went wrong
	exitUsage   = 2
	exitStopped = 3 // stopped by a finding, nothing changed
	exitNoPhone = 4
	exitPhone   = 5 // the phone refused or was lost on the way
	exitNo      = 6 // the answer is no
	exitMidway  = 7 // stopped by a finding on the way
)

// app is one run of the program.
type app struct {
	stdin          io.Reader
	stdout, stderr io.Writer

	on, home, card string
	json, yes, dry bool
	accept         []string

	out    *output
	result map[string]any // the last line of --json
	next   []string       // commands to go on with
	acted  bool           // a job had changed something when it ended
	jobDir string
	soft   chan struct{} // closed by the first Ctrl-C
	later  []func()      // done at the end
}

// Run runs the program with the given arguments and gives its exit code.
func Run(args []string, stdin io.Reader, stdout, stderr io.Writer) int {
	a := &app{stdin: stdin, stdout: stdout, stderr: stderr, result: map[string]any{}, soft: make(chan struct{})}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(stdin)
	root.SetOut(stdout)
	root.SetErr(stderr)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	stop := a.signals(cancel)
	defer stop()
	err := root.ExecuteContext(ctx)
	for _, f := range slices.Backward(a.later) { // as defer does: files before the folder they are in
		f()
	}
	if a.out == nil { // cobra stopped before anything ran
		if err == nil {
			return exitDone
		}
		a.json = a.json || hasFlag(args, "--json")
		a.out = newOutput(stdout, stdin, a.json)
	}
	return a.finish(ctx, err)
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

// signals makes the first Ctrl-C end the job after the write in progress, the
// second one at once.
func (a *app) signals(cancel func()) (stop func()) {
	ch := make(chan os.Signal, 2)
	signal.Notify(ch, os.Interrupt, syscall.SIGTERM)
	done := make(chan struct{})
	go func() {
		for n := 0; ; n++ {
			select {
			case <-ch:
			case <-done:
				return
			}
			if n > 0 {
				cancel()
				return
			}
			close(a.soft)
			if a.jobDir == "" && !a.working() {
				cancel()
				return
			}
			fmt.Fprintln(a.stderr, "\nnote  stopping after the write in progress; press Ctrl-C again to stop at once")
		}
	}()
	return func() { signal.Stop(ch); close(done) }
}

var workMu sync.Mutex

// working tells whether a job is under way, which is ended in order.
func (a *app) working() bool {
	workMu.Lock()
	defer workMu.Unlock()
	return a.acted
}

func (a *app) setWorking(on bool) {
	workMu.Lock()
	defer workMu.Unlock()
	a.acted = on
}

// finish prints the end and gives the exit code.
func (a *app) finish(ctx context.Context, err error) int {
	a.out.endBar()
	code := exitCode(err)
	if err != nil && ctx.Err() != nil {
		err = errors.New("stopped at once")
		code = exitWrong
	}
	if a.json {
		a.result["ok"], a.result["exit"] = err == nil, code
		var f *bench.FindingError
		if errors.As(err, &f) {
			a.result["findings"] = f.Findings
		}
		if err != nil {
			a.result["error"] = err.Error()
		}
		if a.jobDir != "" {
			a.result["journal"] = a.jobDir
		}
		if len(a.next) > 0 {
			a.result["next"] = a.next
		}
		a.out.event("result", a.result)
		return code
	}
	a.sayError(err, code)
	for _, n := range a.next {
		a.out.line(bench.Next, n)
	}
	return code
}

func (a *app) sayError(err error, code int) {
	if err == nil {
		return
	}
	var f *bench.FindingError
	var u *bench.UnknownError
	switch {
	case errors.As(err, &f):
		a.sayStopped(f)
	case errors.Is(err, errNobody):
		a.out.line(bench.Fail, err.Error()+"; nothing was changed. Answer with --yes, or run it in a terminal")
	case errors.As(err, &u):
		a.out.line(bench.Fail, u.Text)
		if u.Hint != "" {
			a.out.line(bench.Need, u.Hint)
		}
	case code == exitUsage:
		a.out.line(bench.Fail, err.Error())
		if len(a.next) == 0 {
			a.next = append(a.next, "jarlid --help")
		}
	default:
		a.out.line(bench.Fail, err.Error())
	}
	if a.jobDir != "" && code != exitStopped {
		a.out.line(bench.Look, "what was done stands in "+a.jobDir)
	}
}

func (a *app) sayStopped(f *bench.FindingError) {
	if len(f.Findings) > 0 && f.Findings[0].Final && !f.Declined {
		switch f.Findings[0].Name {
		case finding.SeveralPhones, finding.NotAuthorised, finding.ImageAsPartition:
			a.out.Found(f.Findings[0]) // found before any job could tell it
		}
	}
	text := "stopped, nothing was changed"
	if f.Acted {
		text = "stopped on the way, the journal says what was done"
	}
	if f.Declined {
		text = "not gone on with, nothing was changed"
		if f.Acted {
			text = "not gone on with; the journal says what was done"
		}
	}
	a.out.line(bench.Fail, text)
	if len(f.Findings) > 0 {
		a.next = append(a.next, "jarlid explain "+f.Findings[0].Name)
	}
}

func exitCode(err error) int {
	var f *bench.FindingError
	var away *bench.NotHereError
	var usage *bench.UsageError
	var refused *link.RefusedError
	var rule *link.ProtocolError
	var lost *link.LostError
	var mode *bench.WrongModeError
	var denied *adb.NotAuthorisedError
	var no *noError
	switch {
	case err == nil:
		return exitDone
	case errors.As(err, &f):
		if f.Acted {
			return exitMidway
		}
		return exitStopped
	case errors.Is(err, errNobody):
		return exitStopped
	case errors.As(err, &usage):
		return exitUsage
	case errors.As(err, &no):
		return exitNo
	case errors.As(err, &away):
		return exitNoPhone
	case errors.As(err, &refused), errors.As(err, &rule), errors.As(err, &lost), errors.As(err, &mode), errors.As(err, &denied):
		return exitPhone
	}
	return exitWrong
}

// noError is the answer no of a command that answers a question.
type noError struct{ text string }

func (e *noError) Error() string { return e.text }

func usage(format string, args ...any) error {
	return &bench.UsageError{Text: fmt.Sprintf(format, args...)}
}

// root makes the tree of commands.
func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "jarlid",
		Short: "Puts custom firmware on unlocked phones: looks first, says what happened, loses nothing",
		Long: "Jar Lid flashes recoveries, formats data and sideloads packages on unlocked phones.\n" +
			"Without a command it tells what is here, in what state, and the likely next command.",
		SilenceUsage: true, SilenceErrors: true,
		Args: noWords,
		PersistentPreRunE: func(*cobra.Command, []string) error {
			a.out = newOutput(a.stdout, a.stdin, a.json)
			return nil
		},
		RunE: func(cmd *cobra.Command, _ []string) error { return a.status(cmd.Context()) },
	}
	f := root.PersistentFlags()
	f.StringVar(&a.on, "on", "", "the phone: bench name, serial number or address (tcp:HOST[:PORT], udp:HOST[:PORT], adb:HOST[:PORT])")
	f.StringVar(&a.card, "card", "", "a saved card instead of a phone: everything is checked, nothing done")
	f.StringVar(&a.home, "home", "", "folder for bench.yaml, models, key and jobs (default: JARLID_HOME or the user's data folder)")
	f.BoolVar(&a.json, "json", false, "print JSON Lines, the result last")
	f.BoolVar(&a.yes, "yes", false, "answer yes to what is asked; never lifts a stop")
	f.BoolVar(&a.dry, "dry-run", false, "check everything, change nothing")
	f.StringArrayVar(&a.accept, "accept", nil, "lift a stop by its name: NAME or NAME=WHAT (repeatable)")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usage("%v", err) })
	root.RegisterFlagCompletionFunc("on", func(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
		return a.phoneNames(), cobra.ShellCompDirectiveNoFileComp
	})
	root.RegisterFlagCompletionFunc("accept", cobra.FixedCompletions(finding.Names(), cobra.ShellCompDirectiveNoFileComp))
	root.AddCommand(a.benchCommand(), a.identCommand(), a.proofCommand(), a.liftCommand(), a.fitCommand(), a.cardCommand(), a.unlockCommand(), a.flashCommand(),
		a.recoveryCommand(), a.slotCommand(), a.vbmetaCommand(), a.relockCommand(), a.wipeCommand(),
		a.sideloadCommand(), a.putCommand(), a.appCommand(), a.arriveCommand(), a.backupCommand(), a.shelveCommand(), a.unshelveCommand(), a.goCommand(), a.explainCommand(), a.standinCommand(), a.demoCommand())
	return root
}

// noWords refuses words behind a command that takes none, and names a command
// that does not exist for what it is.
func noWords(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	if cmd.HasSubCommands() {
		return usage("%s has no command %q", cmd.CommandPath(), args[0])
	}
	return usage("%s takes no words, and there is %q", cmd.CommandPath(), args[0])
}

// words checks how many words a command takes.
func words(least, most int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) < least || most >= 0 && len(args) > most {
			return usage("%s wants %s, and got %d words", cmd.CommandPath(), what, len(args))
		}
		return nil
	}
}

func (a *app) homeDir() (string, error) {
	if a.home != "" {
		return a.home, nil
	}
	if dir := os.Getenv("JARLID_HOME"); dir != "" {
		return dir, nil
	}
	return bench.DefaultHome()
}

func (a *app) bench() (*bench.Bench, error) {
	home, err := a.homeDir()
	if err != nil {
		return nil, err
	}
	return bench.Open(home)
}

func (a *app) phoneNames() []string {
	b, err := a.bench()
	if err != nil {
		return nil
	}
	list, err := b.Entries()
	if err != nil {
		return nil
	}
	var names []string
	for _, e := range list {
		names = append(names, e.Name)
	}
	return names
}

// open opens the phone that is meant, reads it and says which it is.
func (a *app) open(ctx context.Context) (*bench.Job, error) {
	b, err := a.bench()
	if err != nil {
		return nil, err
	}
	if a.card != "" {
		return a.offline(b)
	}
	p, err := b.Pick(ctx, a.on)
	if err != nil {
		return nil, err
	}
	j, err := p.NewJob(ctx, a.out)
	if err == nil {
		a.out.Say(bench.Look, "%s", phoneLine(p, j.Card))
	}
	return j, err
}

// offline opens a saved card.
func (a *app) offline(b *bench.Bench) (*bench.Job, error) {
	data, err := os.ReadFile(unquote(a.card))
	if err != nil {
		return nil, err
	}
	c, name, err := card.Load(data)
	if err != nil {
		return nil, usage("%s: %v", a.card, err)
	}
	j := b.Offline(name, c, a.out)
	a.out.Say(bench.Look, "the saved card of %s: %s", name, phoneLine(j.Phone, c))
	return j, nil
}

// job opens the phone that is meant for a command that may change it.
func (a *app) job(ctx context.Context, cmd *cobra.Command, args []string) (*bench.Job, error) {
	j, err := a.open(ctx)
	if err != nil {
		return nil, err
	}
	if err := a.wire(cmd, args, j); err != nil {
		j.Close()
		return nil, err
	}
	return j, nil
}

// wire gives a job what the command line says.
func (a *app) wire(cmd *cobra.Command, args []string, j *bench.Job) error {
	for _, s := range a.accept {
		acc := finding.ParseAccept(s)
		if _, ok := finding.Explain(acc.Name); !ok {
			return usage("there is no finding called %q to accept", acc.Name)
		}
		j.Accept = append(j.Accept, acc)
	}
	a.dry = a.dry || j.DryRun // a saved card can't be changed
	j.Yes, j.DryRun, j.Soft = a.yes, a.dry, a.soft
	j.Command = append([]string{cmd.CommandPath()}, args...)
	return nil
}

// run runs a job and keeps what the end has to say of it.
func (a *app) run(ctx context.Context, j *bench.Job) error {
	a.setWorking(true)
	err := j.Run(ctx)
	a.setWorking(false)
	a.jobDir = j.Dir
	if a.dry && err == nil {
		a.out.Say(bench.Done, "dry run: everything was checked, nothing was changed")
		for i, s := range j.Plan.Steps {
			a.out.Say(bench.Look, "step %d would %s", i+1, s.Title())
		}
	}
	return err
}

// suggest adds the likely next command for a phone.
func (a *app) suggest(j *bench.Job) {
	if s := plan.Suggest(j.Card, j.Phone.Model()); s.Command != "" {
		a.next = append(a.next, a.command(s.Command, j.Phone.Name))
	}
}

// command completes a command so that it can be pasted.
func (a *app) command(c, phone string) string {
	if strings.Contains(c, " explain ") {
		return c
	}
	if a.card != "" {
		return c
	}
	if a.on != "" {
		phone = a.on
	}
	return c + " --on " + phone
}

// expand gives the files that words on the command line mean: quoted paths as
// dragged into a terminal, and patterns on systems whose shell leaves them.
func expand(args []string) ([]string, error) {
	var out []string
	for _, s := range args {
		s = unquote(s)
		if _, err := os.Stat(s); errors.Is(err, fs.ErrNotExist) && strings.ContainsAny(s, "*?") {
			list, err := globFiles(s)
			if err != nil || len(list) == 0 {
				return nil, fmt.Errorf("no file matches %s", s)
			}
			out = append(out, list...)
			continue
		}
		out = append(out, s)
	}
	return out, nil
}

// unquote takes the quotes and the blanks off a path that was dragged into a
// terminal.
func unquote(s string) string {
	t := strings.TrimSpace(s)
	if _, err := os.Stat(s); err == nil {
		return s
	}
	if len(t) >= 2 && (t[0] == '\'' || t[0] == '"') && t[len(t)-1] == t[0] {
		return t[1 : len(t)-1]
	}
	return t
}
