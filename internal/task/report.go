package task

import (
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/journal"
)

// Report is a job, or a run of a sheet, as it is told at length.
type Report struct {
	Number int           `json:"number"`
	Name   string        `json:"name"` // of the sheet, or the command
	Began  time.Time     `json:"began"`
	Ended  *time.Time    `json:"ended"`
	Sheet  string        `json:"sheet,omitempty"`
	Tasks  []string      `json:"tasks,omitempty"`
	Phones []PhoneReport `json:"phones"`

	Program string           `json:"program,omitempty"`
	Said    []journal.Answer `json:"said,omitempty"`
	Run     bool             `json:"-"`
}

// PhoneReport is what was done to one phone.
type PhoneReport struct {
	Name    string       `json:"name"`
	Serial  string       `json:"serial,omitempty"`
	Model   string       `json:"model,omitempty"`
	OK      bool         `json:"ok"`
	Error   string       `json:"error,omitempty"`
	Tasks   []TaskReport `json:"tasks,omitempty"`
	Jobs    []*JobShown  `json:"jobs"`
	Changed []FactChange `json:"changed"`

	Before *card.Card `json:"-"`
	After  *card.Card `json:"-"`
}

// TaskReport is one task of a run.
type TaskReport struct {
	N       int    `json:"n"`
	Task    string `json:"task"`
	Outcome string `json:"outcome"` // done, not-for-this-phone, failed, stopped, not-ended, not-begun
	Error   string `json:"error,omitempty"`
	Jobs    []int  `json:"jobs,omitempty"`
}

// FactChange is a fact that is another one since.
type FactChange struct {
	Fact   string `json:"fact"`
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}

// ReportOf gathers what is known of a job or a run.
func ReportOf(e *Env, word string) (*Report, error) {
	run, err := RunOf(e, word)
	if err != nil {
		return nil, err
	}
	all, err := journal.Jobs(e.Bench.Home)
	if err != nil {
		return nil, err
	}
	if run == nil {
		s, err := ShowJob(e, word)
		if err != nil {
			return nil, err
		}
		r := &Report{Number: s.Number, Name: s.Short(), Began: s.Began, Ended: s.Ended, Program: s.Program,
			Said: s.Said}
		p := PhoneReport{Name: s.Phone, Serial: s.Serial, Model: s.Model, OK: s.Outcome.Good(),
			Error: s.Error, Jobs: []*JobShown{s}}
		p.span(all)
		r.Phones = []PhoneReport{p}
		return r, nil
	}
	first := run.First()
	r := &Report{Number: run.Number, Name: first.Name, Began: first.At, Sheet: first.Sheet,
		Tasks: first.Tasks, Program: first.Program, Said: first.Said, Run: true}
	if last := run.Records[len(run.Records)-1]; last.Event == journal.End {
		r.Ended = &last.At
	}
	for _, ph := range first.Phones {
		p := PhoneReport{Name: ph.Name, Serial: ph.Serial, Model: ph.Model, Jobs: []*JobShown{}}
		for i, title := range first.Tasks {
			p.Tasks = append(p.Tasks, TaskReport{N: i + 1, Task: title, Outcome: "not-begun"})
		}
		for _, x := range run.Records {
			if x.Phone != ph.Name {
				continue
			}
			if x.Event == journal.PhoneEnd {
				p.OK, p.Error = x.Exit == 0, x.Error
			}
			if x.Task < 1 || x.Task > len(p.Tasks) {
				continue
			}
			t := &p.Tasks[x.Task-1]
			switch x.Event {
			case journal.TaskBegin:
				t.Outcome, t.Error = "not-ended", ""
			case journal.TaskEnd:
				t.Outcome, t.Error = x.Outcome, x.Error
			}
		}
		for i := range all {
			j := &all[i]
			if j.Run() != run.Number || !j.Of(journal.Who{Name: ph.Name, Serial: ph.Serial}) {
				continue
			}
			s, err := shownJob(e, j)
			if err != nil {
				return nil, err
			}
			p.Jobs = append(p.Jobs, s)
			if n := j.Records[0].Of.Task; n >= 1 && n <= len(p.Tasks) {
				p.Tasks[n-1].Jobs = append(p.Tasks[n-1].Jobs, j.Number)
			}
		}
		p.span(all)
		r.Phones = append(r.Phones, p)
	}
	return r, nil
}

// span finds out what was known of the phone before and after.
func (p *PhoneReport) span(all []journal.Entry) {
	p.Before, p.After, p.Changed = &card.Card{}, &card.Card{}, []FactChange{}
	var numbers []int
	for _, j := range p.Jobs {
		numbers = append(numbers, j.Number)
	}
	if len(numbers) == 0 {
		return
	}
	p.Before, p.After = journal.Span(all, journal.Who{Name: p.Name, Serial: p.Serial}, numbers)
	ids := append(p.Before.IDs(), p.After.IDs()...)
	slices.SortFunc(ids, func(a, b card.ID) int { return strings.Compare(a.String(), b.String()) })
	for _, i := range slices.Compact(ids) {
		was, is := p.Before.Get(i), p.After.Get(i)
		if was.Value != is.Value || was.Known() != is.Known() {
			p.Changed = append(p.Changed, FactChange{i.String(), shownFact(was), shownFact(is)})
		}
	}
}

// longFact bounds how much of a fact a report shows, in bytes.
const longFact = 120

func shownFact(f card.Fact) string {
	switch {
	case !f.Known():
		return "unknown"
	case f.Pending:
		return "what is in " + f.Value
	case len(f.Value) > longFact:
		return f.Value[:longFact] + "..."
	}
	return f.Value
}

// PruneJobs deletes the folders of jobs and runs that began longer ago than age; never one that
// was interrupted, nor one that a later job's recovery or backup rests on: what is beside a journal to
// be put back is kept with it. What they told of a phone is told by the last one of it, which stays.
func PruneJobs(e *Env, age time.Duration, dry bool) (gone []JobRow, kept int, err error) {
	all, err := journal.Jobs(e.Bench.Home)
	if err != nil {
		return nil, 0, err
	}
	runs, err := journal.Runs(e.Bench.Home)
	if err != nil {
		return nil, 0, err
	}
	old := func(t time.Time) bool { return time.Since(t) > age }
	broken := map[int]bool{}
	for _, r := range runs {
		if len(r.Broken()) > 0 || !old(r.Records[len(r.Records)-1].At) {
			broken[r.Number] = true
		}
	}
	for i := 0; i < len(all); { // what is gone counts no more for those behind it
		j := &all[i]
		row := rowOf(j)
		switch {
		case !row.Outcome.Good() || !old(row.Began) || broken[j.Run()] || journal.Needed(all, i):
			kept++
			i++
		default:
			if !dry {
				if err := journal.Remove(e.Bench.Home, j.Dir); err != nil {
					return gone, kept, err
				}
			}
			gone = append(gone, row)
			all = slices.Delete(all, i, i+1)
		}
	}
	for _, j := range all { // a run stays with what is left of it
		if n := j.Run(); n > 0 {
			broken[n] = true
		}
	}
	for _, r := range runs {
		if broken[r.Number] {
			kept++
			continue
		}
		if !dry {
			if err := journal.Remove(e.Bench.Home, r.Dir); err != nil {
				return gone, kept, err
			}
		}
		gone = append(gone, runRow(r))
	}
	return gone, kept, nil
}
