package cli

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jarlid/internal/core/finding"
	"jarlid/internal/core/image"
	"jarlid/internal/core/spell"
	"jarlid/internal/files"
	"jarlid/internal/host"
	"jarlid/internal/journal"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

// jobsCommand: what was done on this bench.
func (a *app) jobsCommand() *cobra.Command {
	c := &cobra.Command{Use: "jobs", Short: "List every job of this bench: when, on which phone, how it " +
		"ended, where it broke off", Args: noWords,
		RunE: func(cmd *cobra.Command, args []string) error { return a.jobs(cmd) }}
	var page string
	show := &cobra.Command{Use: "show NUMBER", Short: "Tell one job or a whole run at length: files, " +
		"findings and answers, each step and how it was confirmed",
		Args: words(1, 1, "the number of a job or a run, as jarlid jobs lists them"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.jobShow(cmd, args, page) }}
	show.Flags().StringVar(&page, "page", "", "write the report as one page (HTML) that needs no network: "+
		"what was there before and after, each step, how it ended")
	resume := &cobra.Command{Use: "resume [NUMBER]", Short: "Go on with a job that broke off: what is done " +
		"stays done, the phone is read anew", Args: words(0, 1, "one number, or nothing for the last one"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.jobResume(cmd, args) }}
	var age string
	prune := &cobra.Command{Use: "prune", Short: "Delete old jobs: never one that broke off, or that alone " +
		"knows something of a phone", Args: noWords,
		RunE: func(cmd *cobra.Command, args []string) error { return a.jobsPrune(cmd, age) }}
	prune.Flags().StringVar(&age, "older", "", "how old: 90d, 12w, 48h (needed)")
	c.AddCommand(show, resume, prune)
	return c
}

func when(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

var outcomeWords = map[task.JobOutcome]string{task.JobDone: "done",
	task.JobUnseen:  "done, its end was not seen",
	task.JobFailed:  "failed",
	task.JobStopped: "stopped by a finding", task.JobInterrupted: "interrupted",
	task.JobNotEnded: "no end is written", task.JobUnreadable: "can't be read"}

func (a *app) jobs(cmd *cobra.Command) error {
	e, err := a.taskEnv(cmd)
	if err != nil {
		return err
	}
	l, err := task.ListJobs(e)
	if err != nil {
		return err
	}
	a.result = l
	if len(l.Jobs) == 0 {
		a.say("", say.Info, "no job was done on this bench yet")
		return nil
	}
	var rows [][]string
	runs := false
	for _, j := range l.Jobs {
		number, run := "-", ""
		if j.Number > 0 {
			number = strconv.Itoa(j.Number)
		}
		at, how := "-", outcomeWords[j.Outcome]
		if !j.Began.IsZero() {
			at = when(j.Began)
		}
		if j.Step != "" {
			how += ": " + j.Step
		}
		if j.Run > 0 {
			runs, run = true, fmt.Sprintf("%d, task %d", j.Run, j.Task)
		}
		rows = append(rows, []string{number, run, at, j.Phone, how, j.Short()})
	}
	heading := []string{"JOB", "OF RUN", "BEGAN", "PHONE", "ENDED", "COMMAND"}
	if !runs {
		heading = slices.Delete(heading, 1, 2)
		for i := range rows {
			rows[i] = slices.Delete(rows[i], 1, 2)
		}
	}
	a.out.Table(heading, rows)
	if last := l.Jobs[0]; last.Number > 0 {
		a.next = append(a.next, fmt.Sprintf("jarlid jobs show %d", last.Number))
	}
	return nil
}

func (a *app) jobShow(cmd *cobra.Command, args []string, page string) error {
	e, err := a.taskEnv(cmd)
	if err != nil {
		return err
	}
	if page != "" {
		r, err := task.ReportOf(e, args[0])
		if err != nil {
			return err
		}
		a.result = r
		return a.writeReport(r, files.Unquote(page))
	}
	if run, err := task.RunOf(e, args[0]); err != nil || run != nil {
		if err != nil {
			return err
		}
		return a.runShow(e, args[0], run)
	}
	s, err := task.ShowJob(e, args[0])
	if err != nil {
		return err
	}
	if a.result = s; a.json {
		return nil
	}
	if s.Outcome == task.JobUnreadable {
		a.say(s.Phone, say.Warn, "%s: %s", finding.JournalDamaged, s.Error)
		return nil
	}
	a.say(s.Phone, say.Info, "job %s: %s", s.Job, s.Typed())
	a.say(s.Phone, say.Info, "on %s%s%s, %s, by jarlid %s", s.Phone, before(", serial number ", s.Serial),
		before(", model ", s.Model), when(s.Began), s.Program)
	for _, f := range s.Files {
		a.say(s.Phone, say.Info, "file: %s, %s", filepath.ToSlash(f.Path), image.Size(f.Size))
	}
	for _, f := range s.Findings {
		text := f.Name
		if f.About != "" {
			text += "=" + f.About
		}
		if f.Accepted {
			text += ", allowed by name"
		}
		a.say(s.Phone, say.Word(f.Severity), "%s: %s", text, f.Text)
	}
	a.saySaid(s.Phone, s.Said)
	for _, st := range s.Steps {
		a.sayJobStep(s.Phone, st)
	}
	switch s.Outcome {
	case task.JobDone:
		a.say(s.Phone, say.Done, "it ended well, %s", when(*s.Ended))
	case task.JobUnseen:
		a.say(s.Phone, say.Done, "it was done, %s; how its last step ended nobody has seen: %s",
			when(*s.Ended), s.Step)
	case task.JobNotEnded:
		a.say(s.Phone, say.Fail, "no end is written: it runs now, or was cut off%s", before(" in: ", s.Step))
	default:
		why := s.Error
		if why == "" {
			why = s.Step
		}
		a.say(s.Phone, say.Fail, "%s%s", outcomeWords[s.Outcome], before(": ", why))
	}
	if s.Again != nil {
		a.next = append(a.next, e.Command("", "jobs", "resume", strconv.Itoa(s.Number)))
	}
	return nil
}

// jobResume resumes what was interrupted, by the commands that are left of it.
func (a *app) jobResume(cmd *cobra.Command, args []string) error {
	e, err := a.taskEnv(cmd)
	if err != nil {
		return err
	}
	word := ""
	if len(args) > 0 {
		word = args[0]
	}
	run, word, err := task.ResumeRun(e, word)
	if err != nil {
		return err
	}
	if run != nil {
		return a.resumeRun(cmd, run)
	}
	s, err := task.ResumeJob(e, word)
	if err != nil {
		return err
	}
	if s == nil {
		a.say("", say.Done, "nothing broke off: there is nothing to go on with")
		return nil
	}
	s.Look(cmd.Context(), e)
	a.say(s.Phone, say.Info, "job %s on %s broke off: %s", s.Job, s.Phone, s.Short())
	for _, st := range s.Steps {
		a.sayJobStep(s.Phone, st)
	}
	yes, home := a.yes, a.home
	for _, words := range s.Left() {
		a.env.Close()
		a.env = nil
		c, rest, err := cmd.Root().Find(words)
		if err != nil {
			return task.Usage("the command of job %s is none of this program's: %s", s.Job,
				strings.Join(words, " "))
		}
		if err := c.ParseFlags(rest); err != nil {
			return task.Usage("the command of job %s is none of this program's: %v", s.Job, err)
		}
		a.yes, a.home, a.typed = yes, home, words
		left := c.Flags().Args()
		if err := c.ValidateArgs(left); err != nil {
			return err
		}
		a.say(s.Phone, say.Info, "going on with: jarlid %s", strings.Join(words, " "))
		c.SetContext(cmd.Context())
		if err := c.RunE(c, left); err != nil {
			return err
		}
	}
	return nil
}

// before puts a word before a text, where there is one.
func before(word, text string) string {
	if text == "" {
		return ""
	}
	return word + text
}

// saySaid shows what was asked and answered.
func (a *app) saySaid(phone string, list []journal.Answer) {
	for _, q := range list {
		a.say(phone, say.Info, "asked %q, the answer was %q", q.Question, q.Answer)
	}
}

func (a *app) sayJobStep(phone string, st task.JobStep) {
	text := fmt.Sprintf("step %d: %s", st.Step, st.Title)
	if st.Began != nil && st.Ended != nil {
		text += fmt.Sprintf(", %s", st.Ended.Sub(*st.Began).Round(time.Second))
	}
	word := say.Info
	switch st.Outcome {
	case "done":
		word = say.Good
		if st.Confirmed == journal.NotKnown {
			word = say.Note
		}
		how := st.Confirmed
		if w, ok := confirmWords[how]; ok {
			how = w
		}
		text += before(", ", how)
		if st.Bytes > 0 {
			text += ", " + image.Size(st.Bytes)
		}
	case "failed":
		word, text = say.Fail, text+before(": ", st.Error)
	case "not-begun":
		text += ", not begun"
	case "not-ended":
		word, text = say.Warn, text+", begun, and no end of it is written"
	default:
		word, text = say.Warn, text+", "+st.Outcome
	}
	a.say(phone, word, "%s", text)
	for _, answer := range st.Answers {
		if strings.TrimSpace(answer) == "" {
			continue // it said yes, and nothing else
		}
		a.say(phone, say.Info, "the phone said: %s", answer)
	}
}

// runShow tells a run of a sheet: each phone's tasks as they went.
func (a *app) runShow(e *task.Env, word string, run *journal.Run) error {
	r, err := task.ReportOf(e, word)
	if err != nil {
		return err
	}
	a.result = r
	if a.json {
		return nil
	}
	a.say("", say.Info, "run %d of %s (%s), begun %s", r.Number, r.Name, filepath.Base(r.Sheet),
		when(r.Began))
	a.saySaid("", r.Said)
	var rows [][]string
	for _, p := range r.Phones {
		for _, t := range p.Tasks {
			var jobs []string
			for _, n := range t.Jobs {
				jobs = append(jobs, strconv.Itoa(n))
			}
			rows = append(rows, []string{p.Name, strconv.Itoa(t.N), strings.ReplaceAll(t.Outcome, "-", " "),
				strings.Join(jobs, ", "), t.Task})
		}
	}
	a.out.Table([]string{"PHONE", "TASK", "ENDED", "JOB", "COMMAND"}, rows)
	broken := false
	for _, p := range r.Phones {
		switch {
		case p.OK:
			var outcomes []string
			for _, t := range p.Tasks {
				outcomes = append(outcomes, t.Outcome)
			}
			a.say(p.Name, say.Done, "%s: %s", p.Name, tasksDone(outcomes))
		case p.Error != "":
			a.say(p.Name, say.Fail, "%s: %s", p.Name, p.Error)
		default:
			a.say(p.Name, say.Fail, "%s: no end is written: it runs now, or was cut off", p.Name)
		}
	}
	broken = len(run.Broken()) > 0
	if broken {
		a.next = append(a.next, e.Command("", "jobs", "resume", strconv.Itoa(r.Number)))
	}
	return nil
}

func (a *app) writeReport(r *task.Report, path string) error {
	b, err := reportHTML(r)
	if err == nil {
		err = host.WriteWhole(path, b, 0o644)
	}
	if err == nil {
		a.say("", say.Done, "%s: the report of %s, one page that needs nothing else", path, r.Name)
	}
	return err
}

// jobsPrune deletes old jobs.
func (a *app) jobsPrune(cmd *cobra.Command, age string) error {
	e, err := a.taskEnv(cmd)
	if err != nil {
		return err
	}
	if age == "" {
		return task.Usage("say how old: --older 90d, for example")
	}
	d, err := parseAge(age)
	if err != nil {
		return err
	}
	gone, _, err := task.PruneJobs(e, d, true)
	if err != nil {
		return err
	}
	if len(gone) == 0 {
		a.result = pruned{Jobs: []int{}}
		a.say("", say.Done, "nothing is to be deleted: no job that ended well, and of which later ones "+
			"know everything, is older than %s", age)
		return nil
	}
	var rows [][]string
	for _, j := range gone {
		rows = append(rows, []string{strconv.Itoa(j.Number), when(j.Began), j.Phone, j.Short()})
	}
	a.out.Table([]string{"JOB", "BEGAN", "PHONE", "COMMAND"}, rows)
	question := fmt.Sprintf("Delete the journals of these %d jobs?", len(gone))
	if len(gone) == 1 {
		question = "Delete the journal of this job?"
	}
	switch {
	case a.dryRun:
		a.say("", say.Asks, "%s (a dry run ends here)", question)
		return nil
	case !a.yes:
		yes, err := say.To{Observer: a.out}.Confirm(question)
		if errors.Is(err, say.ErrNobody) {
			return finding.Stopped(finding.NotConfirmed, "jobs", "nobody is here to answer: "+question,
				"run it in a terminal, or with --yes")
		}
		if err != nil {
			return err
		}
		if !yes {
			return &finding.StopError{Declined: true, Told: true}
		}
	}
	gone, kept, err := task.PruneJobs(e, d, false)
	r := pruned{Jobs: []int{}, Kept: kept}
	for _, j := range gone {
		r.Jobs = append(r.Jobs, j.Number)
	}
	a.result = r
	if err == nil {
		a.say("", say.Done, "%s deleted, %d stay", spell.Counted(len(gone), "job"), kept)
	}
	return err
}

// pruned are the jobs that were deleted.
type pruned struct {
	Jobs []int `json:"deleted"`
	Kept int   `json:"kept"`
}

// parseAge reads an age: days, weeks, or what a duration is written as.
func parseAge(s string) (time.Duration, error) {
	for unit, hours := range map[string]time.Duration{"d": 24, "w": 7 * 24} {
		if n, ok := strings.CutSuffix(s, unit); ok {
			if v, err := strconv.Atoi(n); err == nil && v >= 0 && v < 100000 {
				return time.Duration(v) * hours * time.Hour, nil
			}
		}
	}
	d, err := time.ParseDuration(s)
	if err != nil || d < 0 {
		return 0, task.Usage("%q is no age; write 90d, 12w or 48h", s)
	}
	return d, nil
}
