package sheet

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/engine"
	"jarlid/internal/journal"
	"jarlid/internal/task"
)

// Reopen reads the sheet of a run as it was run then. Files and table are looked for where they
// were.
func Reopen(r *journal.Run) (*Opened, error) {
	text, err := r.Text()
	if err != nil {
		return nil, err
	}
	first := r.First()
	s, err := parse(text, filepath.Base(first.Sheet))
	if err != nil {
		return nil, err
	}
	o := Options{Table: first.Table}
	for name, path := range first.Elsewhere {
		o.Elsewhere = append(o.Elsewhere, name+"="+path)
	}
	return s.at(first.Sheet, text, o)
}

// Left says where a run continues on a phone, which was read again: with which task, and what is
// left of it. What is done is not done again, an install that succeeded least of all.
func (r *Ready) Left(ctx context.Context, run *journal.Run, j *engine.Job) (from int, rest []*Made,
	err error) {
	r.recalled(run)
	n, mode, last := 0, card.None, (*journal.RunRecord)(nil) // the task that was begun last
	done := map[int]bool{}
	for i := range run.Records {
		rec := &run.Records[i]
		if rec.Phone != j.Name {
			continue
		}
		switch rec.Event {
		case journal.TaskBegin:
			if n != rec.Task { // else it is resumed again
				mode, last = card.Mode(rec.Mode), nil
			}
			n = rec.Task
		case journal.TaskRest:
			last = rec
		case journal.TaskEnd:
			done[rec.Task] = rec.Outcome == journal.TaskDone || rec.Outcome == journal.TaskSkipped
		}
	}
	for from < len(r.Tasks) && done[from+1] {
		from++
	}
	if from >= len(r.Tasks) || n != from+1 {
		return from, nil, nil
	}
	t := &r.Tasks[from]
	rest, done[n], err = r.leftOf(ctx, run, j, n, last)
	if err != nil {
		return from, nil, err
	}
	if done[n] {
		return from + 1, nil, nil
	}
	if now := j.Card.Mode(); t.Command == "go" || mode == card.None || !j.Connected() || now == mode {
		return from, rest, nil
	}
	// It may have been taken elsewhere since it was interrupted. What can be done there is; else it goes on
	// where the task began.
	if rest == nil {
		m, err := r.Ready(ctx, t, r.vars(j.Name, j.Card.Value(card.FactSerial),
			whenFacts["model"](j.Card, j.Model())))
		if err != nil {
			return from, nil, err
		}
		rest = []*Made{m}
	}
	l := Line{N: n}
	if err := r.line(ctx, j.Ahead(), &l, rest[:1], nil); err != nil {
		return from, nil, err
	}
	if slices.ContainsFunc(l.Findings, func(f finding.Finding) bool {
		return f.Name == finding.NotInThisMode
	}) {
		rest = append([]*Made{{Task: &task.Go{Mode: mode, Wait: goWait},
			Words: []string{"go", string(mode)}}}, rest...)
	}
	return from, rest, nil
}

// leftOf works out from the journals what is left of a task.
func (r *Ready) leftOf(ctx context.Context, run *journal.Run, j *engine.Job, n int, last *journal.RunRecord) (
	rest []*Made, done bool, err error) {
	if _, looks := commands[r.Tasks[n-1].Command].of().(foreseer); looks {
		return nil, false, nil // it only looks: it does so again
	}
	all, err := journal.Jobs(j.Home)
	if err != nil {
		return nil, false, err
	}
	job := journal.LastPart(all, run.Number, n, who(j))
	var words, behind [][]string
	if last != nil {
		words = last.Rest
		if job != nil && job.Number > last.Job {
			words, behind = nil, last.Rest[1:]
		}
	}
	if words == nil {
		switch {
		case job == nil:
			return nil, false, nil // it did not begin
		case job.OK():
			words = behind
			if len(words) == 0 {
				return nil, true, nil
			}
		default:
			b := job.BrokenOff()
			if b == nil && last != nil { // nothing was done since
				words, behind = last.Rest, nil
				break
			}
			if b == nil {
				return nil, false, nil // nothing was done
			}
			if b.Kind == "sideload" && j.Card.Landing() != "" {
				// The journal could not be told any more, but the phone says it: the package is in.
				b.Landed()
			}
			if slices.Equal(b.Command, job.Records[0].Command) && len(b.Then) == 0 && last == nil {
				return nil, false, nil // all of it is left
			}
			words = [][]string{bare(b.Command)}
			words = slices.Concat(words, b.After(), behind)
		}
	}
	for _, w := range words {
		m, err := fromWords(w)
		if err != nil {
			return nil, false, fmt.Errorf("task %d of run %d: %w", n, run.Number, err)
		}
		if err := r.load(ctx, m.Task); err != nil {
			return nil, false, err
		}
		rest = append(rest, m)
	}
	return rest, false, nil
}

// bare takes the program's name and the phone off a command.
func bare(typed []string) (words []string) {
	for i := 1; i < len(typed); i++ {
		if typed[i] == "--on" {
			i++
			continue
		}
		words = append(words, typed[i])
	}
	return words
}

// who is a phone as journals know it.
func who(j *engine.Job) journal.Who { return j.Who(j.Card.Value(card.FactSerial)) }
