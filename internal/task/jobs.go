package task

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"jarlid/internal/core/finding"
	"jarlid/internal/core/spell"
	"jarlid/internal/engine"
	"jarlid/internal/journal"
)

// JobOutcome is how a job ended.
type JobOutcome string

// The outcomes.
const (
	JobDone        JobOutcome = "done"
	JobUnseen      JobOutcome = "unseen"      // its last step is done, and nobody saw how that ended
	JobFailed      JobOutcome = "failed"      // a step failed, or the phone was lost
	JobStopped     JobOutcome = "stopped"     // a finding stopped it on the way
	JobInterrupted JobOutcome = "interrupted" // by Ctrl-C
	JobNotEnded    JobOutcome = "not-ended"   // no end is written: it runs now, or was cut off
	JobUnreadable  JobOutcome = "unreadable"
)

// Good reports whether a job came to its end, its last step seen or not.
func (o JobOutcome) Good() bool { return o == JobDone || o == JobUnseen }

// JobRow is one job of this home.
type JobRow struct {
	Number  int        `json:"number"` // 0 where its folder is called otherwise
	Job     string     `json:"job"`    // its folder's name
	Phone   string     `json:"phone"`
	Command []string   `json:"command"`
	Began   time.Time  `json:"began"`
	Ended   *time.Time `json:"ended"` // null while no end is written
	Outcome JobOutcome `json:"outcome"`
	// Step is what was under way when it did not end well.
	Step  string `json:"step,omitempty"`
	Error string `json:"error,omitempty"`
	// Run is the run of a sheet it belongs to, and Task which of its tasks it is.
	Run  int `json:"run,omitempty"`
	Task int `json:"task,omitempty"`
	// Sheet is the sheet's name, of a run itself; Phones are its phones then.
	Sheet  string   `json:"sheet,omitempty"`
	Phones []string `json:"phones,omitempty"`
}

// JobList are the jobs, the last one first.
type JobList struct {
	Jobs []JobRow `json:"jobs"`
}

// JobStep is one step of a job as it went.
type JobStep struct {
	Step      int        `json:"step"`
	Title     string     `json:"title"`
	Began     *time.Time `json:"began"` // null: it was not begun
	Ended     *time.Time `json:"ended"`
	Outcome   string     `json:"outcome"` // done, failed, stopped, interrupted, not-ended, not-begun
	Confirmed string     `json:"confirmed,omitempty"`
	Bytes     int64      `json:"bytes,omitempty"`
	SHA256    string     `json:"sha256,omitempty"`
	Answers   []string   `json:"answers,omitempty"`
	Error     string     `json:"error,omitempty"`
}

// JobShown is a job at length.
type JobShown struct {
	JobRow
	Program  string            `json:"program,omitempty"`
	Serial   string            `json:"serial,omitempty"`
	Model    string            `json:"model,omitempty"`
	Files    []journal.File    `json:"files,omitempty"`
	Findings []finding.Finding `json:"findings,omitempty"`
	Said     []journal.Answer  `json:"said,omitempty"`
	Steps    []JobStep         `json:"steps"`
	// when it is the phone's last and was interrupted
	Again *journal.BrokenJob `json:"broken_off,omitempty"`
}

// ListJobs reads all journals of this home, the last job first; of one phone where one is named.
func ListJobs(e *Env) (*JobList, error) {
	all, err := journal.Jobs(e.Bench.Home)
	if err != nil {
		return nil, err
	}
	l := &JobList{Jobs: []JobRow{}}
	for _, j := range slices.Backward(all) {
		if on := e.Options.On; on == "" || j.Phone == on || j.Serial == on {
			l.Jobs = append(l.Jobs, rowOf(&j))
		}
	}
	runs, err := journal.Runs(e.Bench.Home)
	if err != nil {
		return nil, err
	}
	for _, r := range runs {
		if on := e.Options.On; on == "" || slices.ContainsFunc(r.First().Phones,
			func(p journal.RunPhone) bool {
				return p.Name == on || p.Serial == on
			}) {
			l.Jobs = append(l.Jobs, runRow(r))
		}
	}
	slices.SortStableFunc(l.Jobs, func(a, b JobRow) int { return b.Number - a.Number })
	return l, nil
}

// runRow is a run of a sheet among the jobs.
func runRow(r *journal.Run) JobRow {
	first := r.First()
	row := JobRow{Number: r.Number, Job: filepath.Base(r.Dir), Command: []string{"jarlid", "sheet", "run",
		first.Sheet}, Began: first.At, Outcome: JobNotEnded, Sheet: first.Name}
	for _, p := range first.Phones {
		row.Phones = append(row.Phones, p.Name)
	}
	row.Phone = strings.Join(row.Phones, ", ")
	if last := r.Records[len(r.Records)-1]; last.Event == journal.End {
		row.Ended, row.Outcome = &last.At, JobDone
	}
	var left []string
	for _, p := range r.Broken() {
		last, _ := r.Ended(p.Name)
		if last.Event != journal.PhoneEnd && row.Ended != nil {
			continue
		}
		at := fmt.Sprintf("task %d of %d", max(r.At(p.Name), 1), len(first.Tasks))
		if len(first.Phones) > 1 {
			at = p.Name + " at " + at
		}
		left = append(left, at)
	}
	if len(left) > 0 && row.Outcome == JobDone {
		row.Outcome = JobFailed
	}
	for _, p := range first.Phones { // a finding stopped it there, before anything was done
		if last, whole := r.Ended(p.Name); whole && last.Exit != 0 {
			left = append(left, p.Name+" was left out")
			if row.Outcome == JobDone {
				row.Outcome = JobStopped
			}
		}
	}
	row.Step = strings.Join(left, "; ")
	return row
}

func rowOf(j *journal.Entry) JobRow {
	r := JobRow{Number: j.Number, Job: j.Name(), Phone: j.Phone, Outcome: JobUnreadable}
	if j.Damage != nil {
		r.Error = j.Damage.Error()
	}
	if j.Damage != nil || len(j.Records) == 0 {
		return r
	}
	first := j.Records[0]
	r.Command, r.Began, r.Outcome = first.Command, first.At, JobNotEnded
	if first.Of != nil {
		r.Run, r.Task = first.Of.Run, first.Of.Task
	}
	unseen := ""
	for _, x := range j.Records[1:] {
		switch x.Event {
		case journal.Act:
			r.Step = x.Title
			if r.Step == "" && x.Step >= 1 && x.Step <= len(first.Steps) {
				r.Step = first.Steps[x.Step-1].Title
			}
		case journal.Done:
			if unseen = ""; x.Confirm == journal.NotKnown {
				unseen = x.Title
			}
		case journal.Failed:
			r.Outcome, r.Error = JobFailed, x.Error
		case journal.Stopped:
			r.Outcome = JobStopped
		case journal.Interrupted:
			r.Outcome, r.Step = JobInterrupted, x.Title
		case journal.End:
			at := x.At
			r.Ended = &at
			switch {
			case x.Error == "" && unseen != "":
				r.Outcome, r.Step, r.Error = JobUnseen, unseen, ""
			case x.Error == "":
				r.Outcome, r.Step, r.Error = JobDone, "", ""
			case r.Outcome == JobNotEnded:
				r.Outcome, r.Error = JobFailed, x.Error
			case r.Error == "":
				r.Error = x.Error
			}
		}
	}
	return r
}

// ShowJob gives the job that a word means: its number, or its folder's name.
func ShowJob(e *Env, word string) (*JobShown, error) {
	all, err := journal.Jobs(e.Bench.Home)
	if err != nil {
		return nil, err
	}
	var names []string
	number, nerr := strconv.Atoi(word)
	for i := range all {
		j := &all[i]
		if nerr == nil && number > 0 && j.Number == number || j.Name() == word {
			return shownJob(e, j)
		}
		names = append(names, j.Name())
	}
	if len(all) == 0 {
		return nil, Usage("there is no job yet")
	}
	return nil, Usage("there is no job %s%s; jarlid jobs lists them", word, spell.DidYouMean(word, names))
}

func shownJob(e *Env, j *journal.Entry) (*JobShown, error) {
	s := &JobShown{JobRow: rowOf(j), Serial: j.Serial, Steps: []JobStep{}}
	if s.Outcome == JobUnreadable {
		return s, nil
	}
	first := j.Records[0]
	s.Program, s.Model, s.Files, s.Said = first.Program, first.Model, first.Files, first.Said
	s.Findings = slices.Clone(first.Found)
	for i, x := range first.Steps {
		s.Steps = append(s.Steps, JobStep{Step: i + 1, Title: x.Title, Outcome: "not-begun"})
	}
	at := func(r *journal.Record) *JobStep { // further steps come up on the way
		for r.Step > len(s.Steps) {
			s.Steps = append(s.Steps, JobStep{Step: len(s.Steps) + 1, Outcome: "not-begun"})
		}
		if r.Step < 1 {
			return &JobStep{}
		}
		st := &s.Steps[r.Step-1]
		if st.Title == "" {
			st.Title = r.Title
		}
		return st
	}
	for i := range j.Records[1:] {
		r := &j.Records[1+i]
		if r.Step > len(j.Records)+len(first.Steps) {
			continue // a number that no job counts to
		}
		when := r.At
		st := at(r)
		switch r.Event {
		case journal.Act:
			st.Began, st.Outcome = &when, "not-ended"
		case journal.Done:
			st.Ended, st.Outcome, st.Confirmed, st.Bytes, st.SHA256, st.Answers = &when, "done", r.Confirm,
				r.Bytes, r.SHA256, r.Answers
		case journal.Failed:
			st.Ended, st.Outcome, st.Error, st.Answers = &when, "failed", r.Error, r.Answers
		case journal.Interrupted:
			st.Outcome = "interrupted"
		case journal.Stopped:
			if r.Step > 0 {
				st.Outcome = "stopped"
			}
			s.Findings = append(s.Findings, r.Found...)
		}
	}
	b, err := journal.BrokenOff(e.Bench.Home, journal.Who{Name: j.Phone, Serial: j.Serial})
	if err != nil {
		return nil, err
	}
	if b != nil && b.Job == j.Name() {
		s.Again = b
	}
	return s, nil
}

// Typed is the command as it was typed.
func (r *JobRow) Typed() string { return strings.Join(r.Command, " ") }

// Short is the command for a table: without the program, what only says where the home is, and the
// files' folders.
func (r *JobRow) Short() string {
	var out []string
	for i := 0; i < len(r.Command); i++ {
		w := r.Command[i]
		switch {
		case i == 0 && w == "jarlid", w == "--yes", strings.HasPrefix(w, "--home="):
		case w == "--home":
			i++
		case strings.HasPrefix(w, "/") && strings.Count(w, "/") == 1:
			// a file at the root, or a path on the phone
			out = append(out, w)
		case strings.ContainsAny(w, `/\`) && !strings.HasPrefix(w, "-"):
			out = append(out, w[strings.LastIndexAny(strings.TrimRight(w, `/\`), `/\`)+1:])
		default:
			out = append(out, w)
		}
	}
	return strings.Join(out, " ")
}

// ResumeJob finds the job that is resumed: the one a word means, or the only one that broke
// off; nil when none did.
func ResumeJob(e *Env, word string) (*JobShown, error) {
	if word != "" {
		s, err := ShowJob(e, word)
		if err != nil || s.Again != nil {
			return s, err
		}
		if s.Outcome.Good() {
			return nil, nil
		}
		return nil, Usage("job %s can't be gone on with: another one came behind it on %s, or nothing had "+
			"begun; jarlid jobs lists them", word, s.Phone)
	}
	broken, err := brokenJobs(e)
	if err != nil || len(broken) == 0 {
		return nil, err
	}
	return broken[0], nil
}

// Look reads the phone again: what the journal could not be told any more, it may say.
func (s *JobShown) Look(ctx context.Context, e *Env) {
	if s.Again == nil || s.Again.Kind != "sideload" {
		return
	}
	o := e.Options
	o.On = cmp.Or(o.On, s.Phone)
	j, err := engine.Open(ctx, e.Bench, o)
	if err != nil {
		return // what goes on meets it again, and says it
	}
	defer j.Close()
	if j.Card.Landing() != "" {
		s.Again.Landed()
	}
}

// brokenJobs are the phones' last jobs that was interrupted, but for those of sheets.
func brokenJobs(e *Env) (broken []*JobShown, err error) {
	all, err := journal.Jobs(e.Bench.Home)
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for _, j := range slices.Backward(all) {
		who := j.Serial + "\x00" + j.Phone
		if on := e.Options.On; seen[who] || on != "" && j.Phone != on && j.Serial != on {
			continue
		}
		seen[who] = true
		s, err := shownJob(e, &j)
		if err != nil {
			return nil, err
		}
		if s.Again != nil && s.Run == 0 {
			broken = append(broken, s)
		}
	}
	return broken, nil
}

// Left are the commands that resume a job that was interrupted, without the program's name and what
// was answered then: whoever goes on is asked again.
func (s *JobShown) Left() [][]string {
	list := [][]string{s.Again.Command}
	for _, words := range s.Again.After() {
		list = append(list, append([]string{"jarlid"}, words...))
	}
	var out [][]string
	for _, words := range list {
		var c []string
		for i := 1; i < len(words); i++ {
			switch w := words[i]; {
			case w == "--yes", w == "--json", w == "--dry-run", strings.HasPrefix(w, "--home="):
			case w == "--home":
				i++
			default:
				c = append(c, w)
			}
		}
		if !slices.ContainsFunc(c, func(w string) bool {
			return w == "--on" || strings.HasPrefix(w, "--on=")
		}) {
			c = append(c, "--on", s.Phone)
		}
		out = append(out, c)
	}
	return out
}
