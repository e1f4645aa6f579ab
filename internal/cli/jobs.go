package cli

import (
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"jarlid/internal/core/finding"
	"jarlid/internal/core/image"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

// jobsCommand: what was done on this bench.
func (a *app) jobsCommand() *cobra.Command {
	c := &cobra.Command{Use: "jobs", Short: "List every job of this bench: when, on which phone, how it ended, where it broke off", Args: noWords,
		RunE: func(cmd *cobra.Command, args []string) error { return a.jobs(cmd, args) }}
	show := &cobra.Command{Use: "show NUMBER", Short: "Tell one job at length: its files, findings and answers, each step and how it was confirmed", Args: words(1, 1, "a job's number"),
		ValidArgsFunction: func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			return a.jobNumbers(), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error { return a.jobShow(cmd, args) }}
	resume := &cobra.Command{Use: "resume [NUMBER]", Short: "Go on with a job that broke off: what is done stays done, the phone is read anew", Args: words(0, 1, "a job's number, or nothing"),
		ValidArgsFunction: show.ValidArgsFunction,
		RunE:              func(cmd *cobra.Command, args []string) error { return a.jobResume(cmd, args) }}
	c.AddCommand(show, resume)
	return c
}

// jobNumbers completes the jobs there are.
func (a *app) jobNumbers() []string {
	e, err := a.with(nil, nil)
	if err != nil {
		return nil
	}
	l, err := task.ListJobs(e)
	if err != nil {
		return nil
	}
	var list []string
	for _, j := range l.Jobs {
		list = append(list, fmt.Sprintf("%d\t%s", j.Number, j.Short()))
	}
	return list
}

func when(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

var outcomeWords = map[task.JobOutcome]string{task.JobDone: "done", task.JobFailed: "failed", task.JobStopped: "stopped by a finding", task.JobInterrupted: "interrupted",
	task.JobNotEnded: "no end is written", task.JobUnreadable: "can't be read"}

func (a *app) jobs(cmd *cobra.Command, args []string) error {
	e, err := a.with(cmd, args)
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
	for _, j := range l.Jobs {
		number := "-"
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
		rows = append(rows, []string{number, at, j.Phone, how, j.Short()})
	}
	a.out.Table([]string{"JOB", "BEGAN", "PHONE", "HOW IT ENDED", "COMMAND"}, rows)
	if last := l.Jobs[0]; last.Number > 0 {
		a.next = append(a.next, fmt.Sprintf("jarlid jobs show %d", last.Number))
	}
	return nil
}

func (a *app) jobShow(cmd *cobra.Command, args []string) error {
	e, err := a.with(cmd, args)
	if err != nil {
		return err
	}
	s, err := task.ShowJob(e, args[0])
	if err != nil {
		return err
	}
	a.result = s
	if a.json {
		return nil
	}
	if s.Outcome == task.JobUnreadable {
		a.say(s.Phone, say.Warn, "%s: %s", finding.JournalDamaged, s.Error)
		return nil
	}
	a.say(s.Phone, say.Info, "job %s: %s", s.Job, s.Typed())
	a.say(s.Phone, say.Info, "on %s%s%s, %s, by jarlid %s", s.Phone, before(", serial number ", s.Serial), before(", model ", s.Model), when(s.Began), s.Program)
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
	for _, q := range s.Said {
		a.say(s.Phone, say.Info, "asked %q, the answer was %q", q.Question, q.Answer)
	}
	for _, st := range s.Steps {
		a.sayJobStep(s.Phone, st)
	}
	switch s.Outcome {
	case task.JobDone:
		a.say(s.Phone, say.Done, "it ended well, %s", when(*s.Ended))
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

// jobResume goes on with what broke off, by the commands that are left of it.
func (a *app) jobResume(cmd *cobra.Command, args []string) error {
	e, err := a.with(cmd, args)
	if err != nil {
		return err
	}
	word := ""
	if len(args) > 0 {
		word = args[0]
	}
	s, err := task.ResumeJob(e, word)
	if err != nil {
		return err
	}
	if s == nil {
		a.say("", say.Done, "nothing broke off: there is nothing to go on with")
		return nil
	}
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
			return usage("the command of job %s is none of this program's: %s", s.Job, strings.Join(words, " "))
		}
		if err := c.ParseFlags(rest); err != nil {
			return usage("the command of job %s is none of this program's: %v", s.Job, err)
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

func (a *app) sayJobStep(phone string, st task.JobStep) {
	text := fmt.Sprintf("step %d: %s", st.Step, st.Title)
	if st.Began != nil && st.Ended != nil {
		text += fmt.Sprintf(", %s", st.Ended.Sub(*st.Began).Round(time.Second))
	}
	word := say.Info
	switch st.Outcome {
	case "done":
		word = say.Good
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
		a.say(phone, say.Info, "the phone said: %s", answer)
	}
}
