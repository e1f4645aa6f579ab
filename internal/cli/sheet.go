package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jarlid/internal/cli/term"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/image"
	"jarlid/internal/core/spell"
	"jarlid/internal/engine"
	"jarlid/internal/files"
	"jarlid/internal/journal"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
	"jarlid/internal/task"
	"jarlid/internal/task/sheet"
)

// sheetCommand: a whole job as one file.
func (a *app) sheetCommand() *cobra.Command {
	c := &cobra.Command{Use: "sheet", Short: "Draft, check and run a whole job as one file, on one phone " +
		"or on many", Args: noWords,
		RunE: wants("draft FILES..., check FILE or run FILE")}
	c.AddCommand(a.sheetDraftCommand(), a.sheetCheckCommand(), a.sheetRunCommand())
	return c
}

// sheetOptions are those of check and run.
type sheetOptions struct {
	open   sheet.Options
	all    bool
	cards  []string
	models []string
}

func (o *sheetOptions) add(c *cobra.Command) {
	c.Flags().StringArrayVar(&o.open.Elsewhere, "file", nil,
		"a file of the sheet that lies elsewhere: NAME=PATH (repeatable)")
	c.Flags().StringVar(&o.open.Table, "table", "", "a CSV file with what differs from phone to phone: a "+
		"line a phone, columns name or serial, code, ...")
	c.Flags().BoolVar(&o.all, "all", false, "every phone that is here")
}

func (a *app) sheetCheckCommand() *cobra.Command {
	var o sheetOptions
	c := &cobra.Command{Use: "check FILE", Short: "Judge a whole job as one plan, before anything is touched",
		Args: words(1, 1, "which sheet"),
		Long: "Judges all tasks of a sheet in their order, each by the facts as those before it will have " +
			"left them: on the phones that are named (--on A,B,C or\n" +
			"--all), on saved cards (--card FILE, --cards FILE,...), or on what model files say " +
			"(--models). Nothing is changed. Ends with 0 when nothing stops it, with 6 when something does.",
		RunE: func(cmd *cobra.Command, args []string) error { return a.sheetCheck(cmd, args, &o) }}
	o.add(c)
	c.Flags().StringSliceVar(&o.cards, "cards", nil, "several saved cards instead of phones")
	c.Flags().StringSliceVar(&o.models, "models", nil, "models instead of phones: what their model files say")
	return c
}

func (a *app) sheetRunCommand() *cobra.Command {
	var o sheetOptions
	c := &cobra.Command{Use: "run FILE", Short: "Run a whole job on one phone, or on many at the same time",
		Args: words(1, 1, "which sheet"),
		Long: "Checks the sheet on every phone that is named (--on A,B,C or --all), asks once, and runs it " +
			"on all of them at the same time. Each phone has its own\n" +
			"lock and journal, and one that fails stops alone. What broke off is gone on with by: jarlid " +
			"jobs resume.",
		RunE: func(cmd *cobra.Command, args []string) error { return a.sheetRun(cmd, args, &o) }}
	o.add(c)
	return c
}

// openSheet reads a sheet, makes it ready, and holds its files against it.
func (a *app) openSheet(cmd *cobra.Command, path string, o *sheetOptions) (*sheet.Ready, []sheet.Found,
	error) {
	e, err := a.taskEnv(cmd)
	if err != nil {
		return nil, nil, err
	}
	op, err := sheet.Open(path, o.open)
	if err != nil {
		return nil, nil, err
	}
	a.say("", say.Info, "%s: %s, %s", filepath.Base(path), op.Name, spell.Counted(len(op.Tasks), "task"))
	for _, h := range op.Hands {
		a.say("", say.Note, "to be at hand: %s, for %s", h.Who, h.For)
	}
	r := op.Prepare(cmd.Context(), e)
	changed, err := r.Changed(cmd.Context())
	return r, changed, err
}

func (a *app) sheetCheck(cmd *cobra.Command, args []string, o *sheetOptions) error {
	r, changed, err := a.openSheet(cmd, args[0], o)
	if err != nil {
		return err
	}
	r.Allowed = r.Wants() // which are asked for when it is run
	all, err := a.judgeAll(cmd, r, o)
	if err != nil {
		return err
	}
	var judged []*sheet.Judged
	for i := range all {
		judged = append(judged, &all[i])
	}
	sheet.Share(judged)
	c := sheet.Finish(r.Opened, changed, all)
	a.result = c
	for _, f := range changed {
		a.sayFound("", f)
	}
	a.sayAllJudged(judged)
	for _, w := range r.Wants() {
		a.say("", say.Note, "line %d wants %s allowed, because %s; it is asked for when it is run", w.Line,
			w.Word, w.Because)
	}
	if !c.Runs() {
		if stops := c.Stopping(); len(stops) > 0 {
			a.next = append(a.next, "jarlid explain "+stops[0].Name)
		}
		return &task.NoError{Text: fmt.Sprintf("%s can't be run like this", filepath.Base(args[0]))}
	}
	a.say("", say.Done, "nothing stops it; nothing was touched")
	if len(o.cards)+len(o.models) == 0 && a.card == "" {
		words := []string{"sheet", "run", args[0]}
		if o.all {
			words = append(words, "--all")
		}
		a.next = append(a.next, a.env.Command("", words...)+before(" --on ", a.on))
	}
	return nil
}

// judgeAll checks a sheet on all that is meant: saved cards, models, or phones.
func (a *app) judgeAll(cmd *cobra.Command, r *sheet.Ready, o *sheetOptions) (all []sheet.Judged, err error) {
	judge := func(j *engine.Job) error {
		defer j.Close()
		one, err := r.Judge(cmd.Context(), j, 0, nil)
		if err == nil {
			all = append(all, *one)
		}
		return err
	}
	cards := o.cards
	if a.card != "" {
		cards = append(cards, a.card)
	}
	a.env.Options.NoHands = a.noHands // who only checks needs nobody at the phone
	for _, c := range cards {
		opts := a.env.Options
		opts.SavedCard = files.Unquote(c)
		j, err := engine.Open(cmd.Context(), a.env.Bench, opts)
		if err == nil {
			err = judge(j)
		}
		if err != nil {
			return nil, err
		}
	}
	for _, name := range o.models {
		m := a.env.Bench.Models.Find(name)
		if m == nil {
			return nil, task.Usage("there is no model file for %q%s", name,
				spell.NoneOf(name, a.env.Bench.Models.Names()))
		}
		if err := judge(engine.OfModel(a.env.Bench, a.env.Options, m)); err != nil {
			return nil, err
		}
	}
	if len(cards)+len(o.models) > 0 {
		return all, nil
	}
	t, err := a.gatherTray(cmd, o.all)
	if err != nil {
		var away *wire.NotHereError
		if errors.As(err, &away) && a.on == "" {
			a.next = append(a.next, a.env.Command("", "sheet", "check", cmd.Flags().Arg(0), "--models",
				"MODEL"))
		}
		return nil, err
	}
	defer t.close()
	for _, m := range t.members {
		j, err := m.open(cmd.Context())
		if err != nil {
			return nil, err
		}
		one, err := r.Judge(cmd.Context(), j, 0, nil)
		m.env.Close()
		if err != nil {
			return nil, err
		}
		all = append(all, *one)
	}
	return all, nil
}

func (a *app) sayFound(phone string, f sheet.Found) {
	one := f.Finding
	one.Text += fmt.Sprintf(" (line %d)", f.Line)
	a.out.Tell(say.Event{Phone: phone, Finding: &one})
}

// sayAllJudged tells what is to be known of the phones before they begin: those that are alike at
// once, in text.
func (a *app) sayAllJudged(all []*sheet.Judged) {
	var groups [][]*sheet.Judged
	for _, j := range all {
		i := slices.IndexFunc(groups, func(g []*sheet.Judged) bool { return !a.json && g[0].Alike(j) })
		if i < 0 {
			groups = append(groups, []*sheet.Judged{j})
		} else {
			groups[i] = append(groups[i], j)
		}
	}
	for _, group := range groups {
		var names []string
		for _, j := range group {
			names = append(names, j.Name)
		}
		out := a.out
		if len(groups) > 1 {
			out = out.Of(strings.Join(names, ", "))
		}
		a.sayJudged(group[0], out, names)
	}
}

// sayJudged tells what is to be known of one phone, and of those that are like it.
func (a *app) sayJudged(j *sheet.Judged, out *term.Term, names []string) {
	for _, f := range j.Holds {
		one := f.Finding
		out.Tell(say.Event{Phone: j.Name, Finding: &one})
	}
	var rows [][]string
	for _, t := range j.Tasks {
		if !t.For {
			continue
		}
		rows = append(rows, []string{fmt.Sprint(t.N), t.Task, takes(t.Seconds), t.Note})
	}
	if len(rows) > 0 {
		out.Table([]string{"TASK", "COMMAND", "TAKES ABOUT", "NOTE"}, rows)
	}
	for _, t := range j.Tasks {
		for _, f := range t.Findings {
			one := f
			one.Text += fmt.Sprintf(" (task %d, line %d)", t.N, t.Line)
			out.Tell(say.Event{Phone: j.Name, Finding: &one})
		}
	}
	for _, h := range j.Hands {
		out.Say(j.Name, say.Note, "task %d wants somebody at the phone, to %s: %s", h.N, h.Step,
			strings.Join(h.Do, " "))
	}
	for _, s := range j.Open {
		out.Say(j.Name, say.Open, "%s", s)
	}
	for _, s := range j.Lost {
		out.Say(j.Name, say.Lose, "%s", s)
	}
	for _, s := range j.Kept {
		out.Say(j.Name, say.Keep, "%s", s)
	}
	if n := len(rows); n > 0 {
		each := ""
		if len(names) > 1 {
			each = " each"
		}
		read := ""
		if j.Reads > 0 {
			read = ", " + image.Size(j.Reads) + " to read"
		}
		out.Say(j.Name, say.Info, "%s on %s: %s to send%s%s, about %s", spell.Counted(n, "task"),
			strings.Join(names, ", "), image.Size(j.Bytes), read, each, takes(j.Seconds))
	}
}

// takes says about how long something takes.
func takes(seconds int) string {
	switch d := time.Duration(seconds) * time.Second; {
	case seconds == 0:
		return "no time"
	case d < time.Minute:
		return fmt.Sprintf("%d s", seconds)
	default:
		return fmt.Sprintf("%d min", int((d+30*time.Second)/time.Minute))
	}
}

func (a *app) sheetRun(cmd *cobra.Command, args []string, o *sheetOptions) error {
	if a.card != "" {
		return task.Usage("sheet run works on phones; on a saved card it is checked: jarlid sheet check")
	}
	defer a.hold()()
	r, changed, err := a.openSheet(cmd, args[0], o)
	if err != nil {
		return err
	}
	if err := stopped(changed); err != nil {
		return err
	}
	t, err := a.gatherTray(cmd, o.all)
	if err != nil {
		return err
	}
	defer t.close()
	return a.runTray(cmd, t, r, o.open.Table, nil)
}

// stopped is the error of files that are not the ones a sheet was written for; nil for none.
func stopped(changed []sheet.Found) error {
	if len(changed) == 0 {
		return nil
	}
	stop := &finding.StopError{}
	for _, f := range changed {
		stop.Findings = append(stop.Findings, f.Finding)
	}
	return stop
}

// runTray checks a sheet on all phones of a tray, asks once, and runs it on those that nothing
// stops. run is one that is resumed, nil for a new one.
func (a *app) runTray(cmd *cobra.Command, t *tray, r *sheet.Ready, table string, run *journal.Run) error {
	ctx := cmd.Context()
	t.sheet, t.open = r, map[string]error{}
	if err := a.allow(r); err != nil {
		return err
	}
	var phones []*sheet.Phone
	var judged []*sheet.Judged
	var opened []*sheet.Phone
	for _, m := range t.members {
		p, err := t.judge(ctx, m, run)
		if err != nil {
			t.open[m.name] = err
			m.sayFailed("", task.AsFinding(err))
			continue
		}
		judged, opened = append(judged, p.Judged), append(opened, p)
	}
	sheet.Share(judged)
	for _, p := range opened {
		if stops := p.Judged.Stops(); len(stops) > 0 {
			t.open[p.Name] = &finding.StopError{Findings: stops, Told: true}
			continue
		}
		phones = append(phones, p)
	}
	a.sayAllJudged(judged)
	if len(phones) == 0 {
		return t.refused(nil)
	}
	said, question, err := a.askAll(r, phones, run)
	if err != nil {
		return err
	}
	if a.dryRun {
		a.say("", say.Done, "dry run: everything was checked, nothing was changed")
		return nil
	}
	var names []string
	for _, p := range phones {
		names = append(names, p.Name)
	}
	end := func() {}
	if len(phones) > 1 {
		end = a.out.Tray(names)
	}
	ran, err := r.Run(ctx, t, sheet.Start{Phones: phones, Question: question, Said: said, Table: table,
		Of: run, Left: t.left(opened)})
	end()
	if err != nil {
		return err
	}
	return t.refused(ran)
}

// allow asks for the stops that the sheet needs allowed: each by its name, with the reason. A
// sheet by itself allows nothing.
func (a *app) allow(r *sheet.Ready) error {
	for _, w := range r.Wants() {
		if slices.ContainsFunc(a.accept, func(s string) bool { return s == w.Word }) {
			a.say("", say.Note, "%s is allowed on the command line", w.Word)
			continue
		}
		if a.dryRun || a.yes {
			a.say("", say.Note, "the sheet (line %d) wants %s allowed, because %s; --yes does not allow a "+
				"stop, --accept %s does", w.Line, w.Word, w.Because, w.Word)
			continue
		}
		yes, err := say.To{Observer: a.out}.Confirm(
			fmt.Sprintf("The sheet (line %d) wants %s allowed, because %s. Allow it?", w.Line, w.Word,
				w.Because))
		if err != nil && !errors.Is(err, say.ErrNobody) {
			return err
		}
		if yes {
			r.Allowed = append(r.Allowed, w)
		}
	}
	return nil
}

// askAll asks the one question for everything.
func (a *app) askAll(r *sheet.Ready, phones []*sheet.Phone, run *journal.Run) (said []journal.Answer,
	question string, err error) {
	var names []string
	for _, p := range phones {
		names = append(names, p.Name)
	}
	list := spell.And(names)
	question = fmt.Sprintf("Run %s on %s?", r.Name, list)
	if run != nil {
		question = fmt.Sprintf("Go on with %s on %s?", r.Name, list)
	}
	asks := []string{question}
	if run == nil {
		asks = append(slices.Clone(r.Asks), question)
	}
	for _, q := range asks {
		answer := journal.Answer{Question: q, Answer: "yes, by --yes"}
		switch {
		case a.dryRun:
			a.say("", say.Asks, "%s (a dry run ends here)", q)
			continue
		case !a.yes:
			yes, err := say.To{Observer: a.out}.Confirm(q)
			if errors.Is(err, say.ErrNobody) {
				return nil, "", &finding.StopError{Findings: []finding.Finding{
					{Name: finding.NotConfirmed, Severity: finding.Stop, Final: true, About: r.Name,
						Text:   "nobody is here to answer: " + q,
						Remedy: "run it in a terminal, or with --yes"}}}
			}
			if err != nil {
				return nil, "", err
			}
			if !yes {
				return nil, "", &finding.StopError{Declined: true, Told: true}
			}
			answer.Answer = "yes"
		}
		said = append(said, answer)
	}
	return said, question, nil
}

// resumeRun resumes a run of a sheet, on the phones where it did not come to its end.
func (a *app) resumeRun(cmd *cobra.Command, run *journal.Run) error {
	defer a.hold()()
	op, err := sheet.Reopen(run)
	if err != nil {
		return err
	}
	broken := run.Broken()
	if len(broken) == 0 {
		a.say("", say.Done, "run %d came to its end on all its phones: there is nothing to go on with",
			run.Number)
		return nil
	}
	a.say("", say.Info, "run %d of %s, begun %s", run.Number, op.Name, when(run.First().At))
	r := op.Prepare(cmd.Context(), a.env)
	changed, err := r.Changed(cmd.Context())
	if err != nil {
		return err
	}
	if err := stopped(changed); err != nil {
		return err
	}
	t := a.newTray()
	defer t.close()
	for _, p := range broken {
		if wire.IsAddress(p.On) && p.Serial != "" {
			if list, err := a.env.Bench.Meant(p.Serial); err == nil && len(list) == 1 {
				p.On = p.Serial // it may be at another port by now
			}
		}
		if a.on != "" && !slices.Contains(phonesOf(a.on), p.Name) && !slices.Contains(phonesOf(a.on),
			p.Serial) {
			continue
		}
		t.add(p.Name, p.On, len(broken) > 1)
	}
	if len(t.members) == 0 {
		return task.Usage("run %d has nothing left on %s", run.Number, a.on)
	}
	return a.runTray(cmd, t, r, run.First().Table, run)
}

// open opens a phone for a look.
func (m *member) open(ctx context.Context) (*engine.Job, error) {
	m.env.Options.ByHand = true
	return m.env.Open(ctx)
}
