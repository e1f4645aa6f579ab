package journal

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"jarlid/internal/host"
)

// A run of a sheet has a number of its own and a folder beside those of the jobs it is made of:
// jobs/NUMBER-sheet, with the sheet as it was run and a file of records that is only appended to.
const (
	runEnding   = "sheet"
	runFile     = "run.jsonl"
	sheetFile   = "sheet.yaml"
	maxRunSheet = 1 << 20
)

// The events of a run, beside Begin and End.
const (
	TaskBegin Event = "task-begin"
	TaskEnd   Event = "task-end"
	// what is left of a task that was interrupted, before its first command begins
	TaskRest Event = "task-rest"
	PhoneEnd Event = "phone-end"
	Resumed  Event = "resumed"
	Output   Event = "output" // a phone's output goes to another folder than its task names
)

// The outcomes of a task.
const (
	TaskDone    = "done"
	TaskSkipped = "not-for-this-phone"
	TaskFailed  = "failed"
	TaskStopped = "stopped"
)

// RunRecord is one line of a run.
type RunRecord struct {
	At    time.Time `json:"at"`
	Event Event     `json:"event"`

	// Of the begin alone.
	Form      int               `json:"form,omitempty"`
	Program   string            `json:"program,omitempty"`
	Number    int               `json:"number,omitempty"`
	Name      string            `json:"name,omitempty"`      // of the sheet
	Sheet     string            `json:"sheet,omitempty"`     // its path
	Elsewhere map[string]string `json:"elsewhere,omitempty"` // files that were named on the command line
	Table     string            `json:"table,omitempty"`     // the path of the table
	Tasks     []string          `json:"tasks,omitempty"`     // as they would be typed
	Phones    []RunPhone        `json:"phones,omitempty"`
	Said      []Answer          `json:"said,omitempty"`

	// Of a phone's tasks.
	Phone   string `json:"phone,omitempty"`
	Task    int    `json:"task,omitempty"` // counted from 1
	Mode    string `json:"mode,omitempty"` // the task begins in
	Outcome string `json:"outcome,omitempty"`
	Job     int    `json:"job,omitempty"` // the number of its job
	Exit    int    `json:"exit,omitempty"`
	Error   string `json:"error,omitempty"`
	Folder  string `json:"folder,omitempty"` // that a task names for its output
	To      string `json:"to,omitempty"`     // where that goes in this run
	// Rest are commands as words.
	Rest [][]string `json:"rest,omitempty"`
}

// RunPhone is one phone of a run.
type RunPhone struct {
	Name   string `json:"name"`
	On     string `json:"on"` // what it is found by
	Serial string `json:"serial,omitempty"`
	Model  string `json:"model,omitempty"`
}

// RunWriter is a run's open file. Several phones write to it.
type RunWriter struct {
	Dir    string
	Number int

	mu   sync.Mutex
	sink Sink
	err  error
}

// CreateRun makes a run's folder, with the sheet in it. open is nil but for tests.
func CreateRun(home string, sheet []byte, open OpenSink) (*RunWriter, error) {
	jobs := filepath.Join(home, "jobs")
	if err := os.MkdirAll(jobs, 0o700); err != nil {
		return nil, err
	}
	n, err := nextNumber(jobs)
	if err != nil {
		return nil, err
	}
	dir := filepath.Join(jobs, fmt.Sprintf("%06d-%s", n, runEnding))
	if err := os.Mkdir(dir, 0o700); err != nil {
		return nil, err
	}
	if err := os.WriteFile(filepath.Join(dir, sheetFile), sheet, 0o600); err != nil {
		return nil, err
	}
	return openRun(dir, n, open)
}

// OpenRun opens a run that is resumed.
func OpenRun(r *Run, open OpenSink) (*RunWriter, error) { return openRun(r.Dir, r.Number, open) }

func openRun(dir string, n int, open OpenSink) (*RunWriter, error) {
	if open == nil {
		open = func(path string) (Sink, error) {
			return host.OpenOwn(path, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
		}
	}
	path := filepath.Join(dir, runFile)
	if b, err := host.Read(path); err == nil && len(b) > 0 && b[len(b)-1] != '\n' {
		// The last line was cut off while it was written; what comes now begins a line of its own.
		if err := os.Truncate(path, int64(bytes.LastIndexByte(b, '\n')+1)); err != nil {
			return nil, err
		}
	}
	sink, err := open(path)
	if err != nil {
		return nil, err
	}
	return &RunWriter{Dir: dir, Number: n, sink: sink}, nil
}

// Write appends a record and returns when it is on the disk. Behind a write that failed every
// further one fails.
func (w *RunWriter) Write(r RunRecord) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.err != nil {
		return w.err
	}
	r.At = time.Now().UTC().Truncate(time.Millisecond)
	if r.Event == Begin {
		r.Form, r.Program, r.Number = Form, Version(), w.Number
	}
	w.err = put(w.sink, w.Dir, r)
	return w.err
}

// Close closes it.
func (w *RunWriter) Close() error { return w.sink.Close() }

// Run is one run of a sheet.
type Run struct {
	Dir     string
	Number  int
	Records []RunRecord
}

// First is the begin.
func (r *Run) First() RunRecord { return r.Records[0] }

// Text is the sheet as it was run.
func (r *Run) Text() ([]byte, error) {
	b, err := host.Read(filepath.Join(r.Dir, sheetFile))
	if err == nil && len(b) > maxRunSheet {
		err = fmt.Errorf("%s has %d bytes", filepath.Join(r.Dir, sheetFile), len(b))
	}
	return b, err
}

// stoppedExit is the exit code of what a finding stopped before anything was done.
const stoppedExit = 3

// Ended reports whether the run came to its end on a phone, and how its last task there ended. One
// that a finding stopped before anything was done did not break off.
func (r *Run) Ended(phone string) (last RunRecord, whole bool) {
	for _, x := range r.Records {
		if x.Phone != phone {
			continue
		}
		last = x
		whole = x.Event == PhoneEnd && (x.Exit == 0 || x.Exit == stoppedExit)
	}
	return last, whole
}

// At is the task a phone was at last, counted from 1; 0 before the first one.
func (r *Run) At(phone string) (task int) {
	for _, x := range r.Records {
		if x.Phone == phone && x.Task > 0 {
			task = x.Task
		}
	}
	return task
}

// BrokenRuns are the runs that must be resumed: those with a phone that no later run was
// about. A run that nothing was done in did not break off.
func BrokenRuns(home string) (list []*Run, err error) {
	runs, err := Runs(home)
	if err != nil {
		return nil, err
	}
	later := map[string]bool{}
	for _, r := range slices.Backward(runs) {
		if slices.ContainsFunc(r.Broken(), func(p RunPhone) bool {
			return !later[p.Name] && !later[p.Serial]
		}) {
			list = append(list, r)
		}
		for _, p := range r.First().Phones {
			later[p.Name] = true
			if p.Serial != "" {
				later[p.Serial] = true
			}
		}
	}
	slices.Reverse(list)
	return list, nil
}

// Broken are the phones on which the run did not come to its end.
func (r *Run) Broken() (list []RunPhone) {
	for _, p := range r.First().Phones {
		if _, whole := r.Ended(p.Name); !whole {
			list = append(list, p)
		}
	}
	return list
}

// Runs gives all runs of sheets, in their order. One that can't be read is passed over: the jobs
// of its phones tell what was done.
func Runs(home string) ([]*Run, error) {
	dir := filepath.Join(home, "jobs")
	dirs, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var runs []*Run
	for _, d := range dirs {
		n, _, ok := splitName(d.Name())
		if !ok || !d.IsDir() {
			continue
		}
		b, err := host.Read(filepath.Join(dir, d.Name(), runFile))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		r := &Run{Dir: filepath.Join(dir, d.Name()), Number: n}
		for line := range bytes.Lines(b) {
			var x RunRecord
			if json.Unmarshal(line, &x) != nil || x.Form > Form {
				break
			}
			r.Records = append(r.Records, x)
		}
		if len(r.Records) > 0 && r.Records[0].Event == Begin {
			runs = append(runs, r)
		}
	}
	slices.SortFunc(runs, func(a, b *Run) int { return a.Number - b.Number })
	return runs, nil
}

// Run is the number of the run a job belongs to; 0 for none.
func (j *Entry) Run() int {
	if len(j.Records) == 0 || j.Records[0].Of == nil {
		return 0
	}
	return j.Records[0].Of.Run
}

// Part reports whether a job belongs to a task of a run.
func (j *Entry) Part(run, task int) bool {
	return run > 0 && j.Run() == run && j.Records[0].Of.Task == task
}

// LastPart gives the last job of a phone that belongs to a task of a run; nil for none.
func LastPart(jobs []Entry, run, task int, w Who) (last *Entry) {
	for i := range jobs {
		if jobs[i].Part(run, task) && jobs[i].Of(w) {
			last = &jobs[i]
		}
	}
	return last
}

// OK reports whether a job came to its end without an error.
func (j *Entry) OK() bool {
	if j.Damage != nil || len(j.Records) == 0 {
		return false
	}
	end := j.Records[len(j.Records)-1]
	return end.Event == End && end.Error == ""
}
