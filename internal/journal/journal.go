// Package journal keeps what was done to phones: a folder a job, in it a file of
// records that is only ever appended to and is on the disk before the next act
// begins, and beside it the bytes that were there before.
package journal

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/host"
)

// Form is the version of the form records are written in, the only one that is read.
const Form = 3

// Event is what a record tells.
type Event string

// The events of a job.
const (
	Begin       Event = "begin"
	Act         Event = "act"
	Done        Event = "done"
	Failed      Event = "failed"
	Stopped     Event = "stopped"
	Interrupted Event = "interrupted"
	End         Event = "end"
)

// How an act was confirmed.
const (
	ReadBack  = "read-back"
	PhoneWord = "phone-word"
	NotKnown  = "unknown"
)

// Record is one line of a job's journal.
type Record struct {
	At    time.Time `json:"at"` // for people; the order of jobs is that of their numbers
	Event Event     `json:"event"`

	// Of the begin alone.
	Form    int       `json:"form,omitempty"`
	Program string    `json:"program,omitempty"` // version of the program
	Number  int       `json:"number,omitempty"`
	Command []string  `json:"command,omitempty"`
	Task    *TaskData `json:"task,omitempty"`
	Phone   string    `json:"phone,omitempty"`
	Serial  string    `json:"serial,omitempty"`
	Model   string    `json:"model,omitempty"`
	Of      *Part     `json:"of,omitempty"` // the run of a sheet it belongs to
	Steps   Steps     `json:"steps,omitempty"`
	Files   []File    `json:"files,omitempty"`

	Found   []finding.Finding `json:"findings,omitempty"`
	Step    int               `json:"step,omitempty"` // counted from 1
	Title   string            `json:"title,omitempty"`
	Data    *StepData         `json:"data,omitempty"`    // of an act that was not in the begin
	Touches IDs               `json:"touches,omitempty"` // facts nobody knows until the act is done
	Answers []string          `json:"answers,omitempty"` // the phone's words
	Said    []Answer          `json:"said,omitempty"`    // the person's
	// ReadBack, PhoneWord, NotKnown, or the source in words
	Confirm string `json:"confirmed,omitempty"`
	Bytes   int64  `json:"bytes,omitempty"`
	SHA256  string `json:"sha256,omitempty"`
	Facts   Facts  `json:"facts,omitempty"` // what is so since then
	Error   string `json:"error,omitempty"`
	// Refused says of a step that failed that the phone refused it: the same again ends in the same way.
	Refused bool `json:"refused,omitempty"`
	// Cancelled says, at the end, that a person ended the job.
	Cancelled bool `json:"cancelled,omitempty"`
}

// TaskData is the task a job carries out, as it was asked for.
type TaskData struct {
	Name    string `json:"name"`
	Options any    `json:"options,omitempty"`
}

// Part says which task of which run of a sheet a job is.
type Part struct {
	Run  int `json:"run"`  // its number
	Task int `json:"task"` // counted from 1
}

// StepData is one step as data.
type StepData struct {
	Kind  string `json:"kind"`
	Title string `json:"title"`
	With  any    `json:"with,omitempty"`
}

// Steps are the steps of a job.
type Steps []StepData

// Facts are facts by what they are.
type Facts map[card.ID]card.Fact

// IDs name facts.
type IDs []card.ID

// File is a file a job works with.
type File struct {
	Path string `json:"path"`
	Size int64  `json:"size"` // bytes
}

// Answer is what a person said to a question.
type Answer struct {
	Question string `json:"question"`
	Answer   string `json:"answer"`
}

// Release is the release's version, set by whoever builds one with -ldflags; "" otherwise.
var Release string

// Build is what the program was built from, as its build information says.
type Build struct {
	Version string    // of a release or a module; "from source" else
	Commit  string    // "" where it is not known
	Changed bool      // there were changes that are in no commit
	Time    time.Time // the commit's; zero where it is not known
}

// Built tells what the program was built from.
func Built() Build {
	b := Build{Version: Release}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		b.Version = cmp.Or(b.Version, "unknown")
		return b
	}
	if v := info.Main.Version; b.Version == "" && v != "(devel)" {
		b.Version = v
	}
	b.Version = cmp.Or(b.Version, "from source")
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			b.Commit = s.Value
		case "vcs.time":
			b.Time, _ = time.Parse(time.RFC3339, s.Value) // zero where it can't be read
		case "vcs.modified":
			b.Changed = s.Value == "true"
		}
	}
	return b
}

// Version is that in one line.
func Version() string {
	b := Built()
	v := b.Version
	if len(b.Commit) >= shortCommit {
		v += ", commit " + b.Commit[:shortCommit]
	}
	if b.Changed {
		v += " with changes"
	}
	return v
}

const shortCommit = 12

// Sink is where records go: a file, or what stands for one in a test.
type Sink interface {
	io.WriteCloser
	Sync() error
}

// Writer is a job's open journal. It belongs to one goroutine.
type Writer struct {
	Dir    string // the job's folder
	Number int
	sink   Sink
	err    error // the first one; nothing is written behind it
}

// OpenSink opens the file records go to. Tests put one of their own here through
// Create.
type OpenSink func(path string) (Sink, error)

func openFile(path string) (Sink, error) {
	return host.OpenOwn(path, os.O_WRONLY|os.O_CREATE|os.O_APPEND|os.O_EXCL, 0o600)
}

// Create makes a job's folder, jobs/NUMBER-PHONE below home, and its journal. open is
// nil but for tests.
func Create(home, phone string, open OpenSink) (*Writer, error) {
	jobs := filepath.Join(home, "jobs")
	if err := os.MkdirAll(jobs, 0o700); err != nil {
		return nil, err
	}
	n, err := nextNumber(jobs)
	if err != nil {
		return nil, err
	}
	dir := filepath.Join(jobs, fmt.Sprintf("%06d-%s", n, SafeName(phone)))
	if err := os.Mkdir(dir, 0o700); err != nil {
		return nil, err
	}
	if open == nil {
		open = openFile
	}
	sink, err := open(filepath.Join(dir, fileName))
	if err != nil {
		return nil, err
	}
	return &Writer{Dir: dir, Number: n, sink: sink}, nil
}

const (
	fileName   = "journal.jsonl"
	numberName = "number" // the last number given out
	// lockFor is how long the numbers' lock is waited for: it is held for moments.
	lockFor   = 30 * time.Second
	lockEvery = 20 * time.Millisecond
)

// nextNumber gives the next running number, under a lock. Neither a clock nor a
// folder that was deleted makes it go back.
func nextNumber(jobs string) (int, error) {
	lock := host.Lock(filepath.Join(jobs, "lock"))
	for end := time.Now().Add(lockFor); ; time.Sleep(lockEvery) {
		ok, err := lock.TryLock()
		if err != nil {
			return 0, err
		}
		if ok {
			break
		}
		if time.Now().After(end) {
			return 0, fmt.Errorf("the numbers of the jobs in %s are locked by another jarlid that does "+
				"not end", jobs)
		}
	}
	defer lock.Unlock()
	path := filepath.Join(jobs, numberName)
	last := 0
	b, err := host.Read(path)
	if err == nil {
		last, _ = strconv.Atoi(strings.TrimSpace(string(b))) // the folders tell too
	} else if !errors.Is(err, fs.ErrNotExist) {
		return 0, err
	}
	dirs, err := os.ReadDir(jobs)
	if err != nil {
		return 0, err
	}
	for _, d := range dirs {
		if n, _, ok := splitName(d.Name()); ok {
			last = max(last, n)
		}
	}
	last++
	return last, host.WriteWhole(path, []byte(fmt.Sprintln(last)), 0o600)
}

// splitName takes the name of a job's folder apart. ok is false for what is no job's folder.
func splitName(name string) (number int, phone string, ok bool) {
	first, rest, cut := strings.Cut(name, "-")
	if !cut || len(first) < 6 {
		return 0, "", false
	}
	n, err := strconv.Atoi(first)
	return n, rest, err == nil && n > 0
}

// NumberOf gives the number of a job by its folder; 0 for what is no job's folder.
func NumberOf(dir string) int {
	n, _, _ := splitName(filepath.Base(dir))
	return n
}

// SafeName makes a name that every file system takes.
func SafeName(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9', r == '-', r == '_':
			return r
		case r == '.':
			return '_'
		}
		return '-'
	}, s)
}

// Write appends a record and returns when it is on the disk. Behind a write that
// failed every further one fails.
func (w *Writer) Write(r Record) error {
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

// put appends a line and returns when it is on the disk.
func put(s Sink, dir string, record any) error {
	b, err := json.Marshal(record)
	if err == nil {
		_, err = s.Write(append(b, '\n'))
	}
	if err == nil {
		err = s.Sync()
	}
	if err != nil {
		return &WriteError{Dir: dir, Err: err}
	}
	return nil
}

// Err gives the error of the first write that failed.
func (w *Writer) Err() error { return w.err }

// Close closes the journal.
func (w *Writer) Close() error { return w.sink.Close() }

// WriteError says that a journal can't be kept, so that nothing more is done.
type WriteError struct {
	Dir string
	Err error
}

// Error names the journal.
func (e *WriteError) Error() string {
	return fmt.Sprintf("the journal in %s can't be written, so nothing more is done: %v", e.Dir, e.Err)
}

// Unwrap gives the cause.
func (e *WriteError) Unwrap() error { return e.Err }

// DamagedError is a journal that can't be read.
type DamagedError struct {
	Dir  string
	Line int // counted from 1
	Err  error
}

// Error names the journal and the line.
func (e *DamagedError) Error() string {
	return fmt.Sprintf("%s, line %d, can't be read: %v", filepath.Join(e.Dir, fileName), e.Line, e.Err)
}

// Unwrap gives the cause.
func (e *DamagedError) Unwrap() error { return e.Err }

// maxLine bounds one record, in bytes.
const maxLine = 16 << 20

// readRecords reads the journal in a job's folder. A last line that was cut off while it was
// written is left out; any other that can't be read is a *DamagedError, with the
// records before it.
func readRecords(dir string) ([]Record, error) {
	b, err := host.Read(filepath.Join(dir, fileName))
	var other *host.KindError
	if errors.As(err, &other) {
		return nil, &DamagedError{Dir: dir, Line: 1, Err: other}
	}
	if err != nil {
		return nil, err
	}
	var list []Record
	for n := 1; len(b) > 0; n++ {
		line, rest, whole := bytes.Cut(b, []byte{'\n'})
		b = rest
		var r Record
		switch err := json.Unmarshal(line, &r); {
		case len(line) > maxLine:
			return list, &DamagedError{Dir: dir, Line: n, Err: fmt.Errorf("it has %d bytes", len(line))}
		case err != nil && !whole:
			return list, nil // cut off by a crash
		case err != nil:
			return list, &DamagedError{Dir: dir, Line: n, Err: err}
		case r.Form > Form:
			return list, &DamagedError{Dir: dir, Line: n,
				Err: fmt.Errorf("it was written by a newer jarlid (%s)", r.Program)}
		case r.Event == Begin && r.Form != Form:
			return list, &DamagedError{Dir: dir, Line: n, Err: fmt.Errorf("its form is %d, and %d is wanted",
				r.Form, Form)}
		}
		list = append(list, r)
	}
	return list, nil
}
