package sheet

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"jarlid/internal/core/finding"
	"jarlid/internal/core/spell"
	"jarlid/internal/engine"
	"jarlid/internal/journal"
	"jarlid/internal/task"
)

// Phone is one phone of a run.
type Phone struct {
	Name string
	// Env is what its tasks are run with, Options what they have in common: the phone, who hears of it.
	Env     *task.Env
	Options engine.Options

	Serial string
	Model  string
	Judged *Judged
	From   int // the task it begins with, counted from 0
	// Rest is what is left of that task; nil: all of it.
	Rest []*Made

	outcome []TaskOutcome
	acted   bool
	job     int
}

// TaskOutcome is the outcome of one task.
type TaskOutcome struct {
	N       int    `json:"n"`
	Task    string `json:"task"`
	Outcome string `json:"outcome"`
	Job     int    `json:"job,omitempty"`
	Error   string `json:"error,omitempty"`
}

// PhoneOutcome is the outcome of one phone.
type PhoneOutcome struct {
	Name  string        `json:"name"`
	OK    bool          `json:"ok"`
	Exit  int           `json:"exit"`
	Job   int           `json:"job,omitempty"` // its last one
	Tasks []TaskOutcome `json:"tasks"`
}

// Ran is the outcome of a run.
type Ran struct {
	Run    int            `json:"run,omitempty"`
	Sheet  string         `json:"sheet"`
	Phones []PhoneOutcome `json:"phones"`
}

// Observer hears how the tasks of a run go, on all its phones at the same time.
type Observer interface {
	// TaskBegins: the nth of all tasks (counted from 1) begins on a phone.
	TaskBegins(p *Phone, n, of int, title string)
	// TaskEnds: it came to its end; j is nil where no phone was opened.
	TaskEnds(p *Phone, w task.Work, j *engine.Job, err error)
	// TaskSkipped: the nth task is not for a phone, or done already.
	TaskSkipped(p *Phone, n int, title, why string)
	// PhoneEnds: all tasks of a phone have come to their end.
	PhoneEnds(p *Phone, o *PhoneOutcome, err error)
}

// Start is how a run begins.
type Start struct {
	Phones   []*Phone
	Question string
	Said     []journal.Answer
	Table    string
	Of       *journal.Run // that is resumed; nil for a new one
	// Left are the phones that were meant and that nothing is done on, with why.
	Left []LeftOut
}

// LeftOut is a phone that was meant and that a run leaves out.
type LeftOut struct {
	journal.RunPhone
	Err error
}

// Run carries the sheet out, on all phones at the same time. Each ends by itself.
func (r *Ready) Run(ctx context.Context, o Observer, s Start) (*Ran, error) {
	var log *journal.RunWriter
	var err error
	home, sink := r.Env.Bench.Home, r.Env.Options.Sink
	if s.Of != nil {
		if log, err = journal.OpenRun(s.Of, sink); err == nil {
			err = log.Write(journal.RunRecord{Event: journal.Resumed, Said: s.Said})
		}
	} else if log, err = journal.CreateRun(home, r.Text, sink); err == nil {
		begin := journal.RunRecord{Event: journal.Begin, Name: r.Name, Sheet: r.Path, Elsewhere: r.Elsewhere,
			Table: s.Table, Said: s.Said}
		for i := range r.Tasks {
			begin.Tasks = append(begin.Tasks, r.Tasks[i].Typed())
		}
		for _, p := range s.Phones {
			begin.Phones = append(begin.Phones, journal.RunPhone{Name: p.Name, On: p.Options.On,
				Serial: p.Serial,
				Model:  p.Model})
		}
		for _, p := range s.Left {
			begin.Phones = append(begin.Phones, p.RunPhone)
		}
		err = log.Write(begin)
		for _, p := range s.Left {
			err = errors.Join(err, log.Write(journal.RunRecord{Event: journal.PhoneEnd, Phone: p.Name,
				Exit: task.Exit(p.Err), Error: spell.Error(p.Err)}))
		}
	}
	if err != nil {
		return nil, err
	}
	ran := &Ran{Run: log.Number, Sheet: r.Name, Phones: make([]PhoneOutcome, len(s.Phones))}
	var wg sync.WaitGroup
	errs := make([]error, len(s.Phones))
	for i, p := range s.Phones {
		wg.Go(func() {
			ran.Phones[i], errs[i] = r.phone(ctx, o, log, p, s.Question)
		})
	}
	wg.Wait()
	err = errors.Join(errs...)
	return ran, errors.Join(err, log.Write(journal.RunRecord{Event: journal.End}), log.Close())
}

// phone carries the tasks out on one phone. An error is that of the run's own record; what became
// of the phone is in its outcome.
func (r *Ready) phone(ctx context.Context, o Observer, log *journal.RunWriter, p *Phone, question string) (
	PhoneOutcome, error) {
	out := PhoneOutcome{Name: p.Name, Tasks: []TaskOutcome{}}
	err := r.tasks(ctx, o, log, p, question)
	var write *journal.WriteError
	out.Tasks = append(out.Tasks, p.outcome...)
	out.Job = p.job
	if out.Exit = task.Exit(err); out.Exit == task.ExitStopped && p.acted {
		out.Exit = task.ExitMidway
	}
	out.OK = err == nil
	o.PhoneEnds(p, &out, err)
	end := journal.RunRecord{Event: journal.PhoneEnd, Phone: p.Name, Exit: out.Exit}
	if err != nil {
		end.Error = spell.Error(err)
	}
	if werr := log.Write(end); werr != nil && !errors.As(err, &write) {
		return out, werr
	}
	return out, nil
}

func (r *Ready) tasks(ctx context.Context, o Observer, log *journal.RunWriter, p *Phone,
	question string) error {
	agree := p.Judged.Agreed(question)
	for i := range r.Tasks {
		t := &r.Tasks[i]
		n, title := i+1, t.Typed()
		note := func(outcome string, job int, err error) error {
			ended := TaskOutcome{N: n, Task: title, Outcome: outcome, Job: job}
			rec := journal.RunRecord{Event: journal.TaskEnd, Phone: p.Name, Task: n, Outcome: outcome,
				Job: job}
			if err != nil {
				ended.Error = spell.Error(err)
				rec.Error = ended.Error
			}
			p.outcome, p.job = append(p.outcome, ended), cmp.Or(job, p.job)
			return log.Write(rec)
		}
		if i < p.From {
			p.outcome = append(p.outcome, TaskOutcome{N: n, Task: title, Outcome: journal.TaskDone})
			continue
		}
		select {
		case <-r.Env.Options.Stop:
			return engine.ErrStopped
		default:
		}
		line := p.Judged.Tasks[i]
		if len(line.Unsure) > 0 {
			var err error
			if line.For, err = r.isFor(ctx, p, t); err != nil {
				return errors.Join(err, note(journal.TaskStopped, 0, err))
			}
		}
		if !line.For {
			o.TaskSkipped(p, n, title, "is not for this phone")
			if err := note(journal.TaskSkipped, 0, nil); err != nil {
				return err
			}
			continue
		}
		if err := log.Write(journal.RunRecord{Event: journal.TaskBegin, Phone: p.Name, Task: n,
			Mode: string(line.Mode)}); err != nil {
			return err
		}
		job, err := r.one(ctx, o, log, p, i, agree)
		outcome := journal.TaskDone
		switch task.Exit(err) {
		case task.ExitDone:
		case task.ExitStopped, task.ExitMidway:
			outcome = journal.TaskStopped
		default:
			outcome = journal.TaskFailed
		}
		if werr := note(outcome, job, err); werr != nil || err != nil {
			return errors.Join(err, werr)
		}
	}
	return nil
}

// isFor reads what decides whether a task is for a phone.
func (r *Ready) isFor(ctx context.Context, p *Phone, t *Task) (bool, error) {
	p.Env.Options = p.Options
	p.Env.Options.ByHand = true
	j, err := p.Env.Open(ctx)
	p.Env.Close()
	if err != nil {
		return false, err
	}
	yes, unknown := t.fits(j.Card, j.Model(), j.Models)
	if len(unknown) > 0 && yes {
		return false, finding.Stopped(finding.TaskImpossible, t.Command,
			fmt.Sprintf("whether %s is for %s can't be told: %s is not known", t.Command, p.Name,
				strings.Join(unknown, ", ")),
			fmt.Sprintf("find it out (jarlid card), and change when in line %d of the sheet", t.Line))
	}
	return yes, nil
}

// one carries out one task, or what is left of it.
func (r *Ready) one(ctx context.Context, o Observer, log *journal.RunWriter, p *Phone, i int,
	agree *engine.Agreed) (job int, err error) {
	t := &r.Tasks[i]
	opts := p.Options
	opts.Of, opts.Agreed, opts.Sums = &journal.Part{Run: log.Number, Task: i + 1}, agree, r.Sums
	opts.Accept = append(slices.Clone(opts.Accept), r.accepts(nil, t)...)
	do := func(m *Made) error {
		opts.Typed = slices.Concat([]string{"jarlid"}, m.Words, []string{"--on", opts.On})
		p.Env.Options = opts
		o.TaskBegins(p, i+1, len(r.Tasks), t.Typed())
		j, err := p.Env.Run(ctx, m.Task)
		err = task.AsFinding(err)
		o.TaskEnds(p, m.Task, j, err)
		p.Env.Close()
		if j != nil && j.Dir != "" {
			job = journal.NumberOf(j.Dir)
		}
		p.acted = p.acted || j != nil && j.Acted
		return err
	}
	rest := p.Rest
	p.Rest = nil
	if rest == nil {
		vars := r.vars(p.Name, p.Serial, p.Model)
		m, err := r.Ready(ctx, t, vars)
		if err != nil {
			return job, err
		}
		again, err := r.series(log, p.Name, i+1, m)
		if again && err == nil {
			m, err = r.Ready(ctx, t, vars)
		}
		if err != nil {
			return job, err
		}
		return job, do(m)
	}
	for k, m := range rest {
		all, err := journal.Jobs(r.Env.Bench.Home)
		if err != nil {
			return job, err
		}
		rec := journal.RunRecord{Event: journal.TaskRest, Phone: p.Name, Task: i + 1}
		if last := journal.LastPart(all, log.Number, i+1,
			journal.Who{Name: p.Name, Serial: p.Serial}); last != nil {
			rec.Job = last.Number
		}
		for _, m := range rest[k:] {
			rec.Rest = append(rec.Rest, m.Words)
		}
		if err := log.Write(rec); err != nil {
			return job, err
		}
		if err := do(m); err != nil {
			return job, err
		}
	}
	return job, nil
}
