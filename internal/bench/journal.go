package bench

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
)

// Record is one line of a job's journal.
type Record struct {
	At      time.Time            `json:"at"`
	Event   string               `json:"event"` // begin, act, done, failed, stopped, interrupted, end
	Command []string             `json:"command,omitempty"`
	Phone   string               `json:"phone,omitempty"`
	Serial  string               `json:"serial,omitempty"`
	Model   string               `json:"model,omitempty"`
	Steps   []string             `json:"steps,omitempty"`
	Files   []FileRecord         `json:"files,omitempty"`
	Found   []finding.Finding    `json:"findings,omitempty"`
	Step    int                  `json:"step,omitempty"` // counted from 1
	Title   string               `json:"title,omitempty"`
	Touches []string             `json:"touches,omitempty"` // facts nobody knows until the act is done
	Answers []string             `json:"answers,omitempty"` // the phone's words
	Confirm string               `json:"confirmed,omitempty"`
	Bytes   int64                `json:"bytes,omitempty"`
	SHA256  string               `json:"sha256,omitempty"`
	Facts   map[string]card.Fact `json:"facts,omitempty"` // what is so since then
	Error   string               `json:"error,omitempty"`
	Exit    *int                 `json:"exit,omitempty"`
}

// FileRecord is a file a job works with.
type FileRecord struct {
	Path string `json:"path"`
	Size int64  `json:"size"`
}

// journal is a job's open journal.
type journal struct {
	dir string
	f   *os.File
}

// newJournal makes a job's folder: jobs/<date>-<phone>-<n>.
func (b *Bench) newJournal(phone string) (*journal, error) {
	jobs := filepath.Join(b.Home, "jobs")
	if err := os.MkdirAll(jobs, 0o700); err != nil {
		return nil, err
	}
	day := time.Now().UTC().Format("2006-01-02")
	for n := 1; n < 100000; n++ {
		dir := filepath.Join(jobs, fmt.Sprintf("%s-%s-%04d", day, safeName(phone), n))
		err := os.Mkdir(dir, 0o700)
		if errors.Is(err, fs.ErrExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		f, err := os.OpenFile(filepath.Join(dir, "journal.jsonl"), os.O_WRONLY|os.O_CREATE|os.O_APPEND|os.O_EXCL, 0o600)
		if err != nil {
			return nil, err
		}
		return &journal{dir: dir, f: f}, nil
	}
	return nil, fmt.Errorf("%s holds too many jobs of one day", jobs)
}

// write appends a record and returns when it is on the disk.
func (j *journal) write(r Record) error {
	r.At = now()
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	if _, err := j.f.Write(append(b, '\n')); err != nil {
		return fmt.Errorf("the journal can't be written, so nothing more is done: %w", err)
	}
	if err := j.f.Sync(); err != nil {
		return fmt.Errorf("the journal can't be written, so nothing more is done: %w", err)
	}
	return nil
}

func (j *journal) close() { j.f.Close() }

// ReadJournal reads a journal. A last line that was cut off by a crash is left
// out.
func ReadJournal(path string) ([]Record, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var list []Record
	s := bufio.NewScanner(f)
	s.Buffer(make([]byte, 64<<10), 16<<20)
	for s.Scan() {
		var r Record
		if err := json.Unmarshal(s.Bytes(), &r); err != nil {
			continue
		}
		list = append(list, r)
	}
	return list, s.Err()
}

// recall gives what the journals know of a phone: every fact as the last job
// left it, unknown where a job ended in the middle of an act.
func (b *Bench) recall(p *Phone, serial string) (*card.Card, error) {
	c := &card.Card{}
	dirs, err := os.ReadDir(filepath.Join(b.Home, "jobs"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	type job struct {
		at      time.Time
		records []Record
	}
	if serial == "" {
		serial = p.Serial
	}
	var jobs []job
	for _, d := range dirs {
		records, err := ReadJournal(filepath.Join(b.Home, "jobs", d.Name(), "journal.jsonl"))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if len(records) == 0 || records[0].Event != "begin" {
			continue
		}
		first := records[0]
		// Two phones may have had the same name; the serial number decides
		// where both are known.
		mine := first.Phone == p.Name
		if serial != "" && first.Serial != "" && (p.model == nil || !p.model.SerialDiffers) {
			mine = first.Serial == serial
		}
		if mine {
			jobs = append(jobs, job{first.At, records})
		}
	}
	sort.SliceStable(jobs, func(i, k int) bool { return jobs[i].at.Before(jobs[k].at) })
	for _, j := range jobs {
		replay(c, j.records)
	}
	return c, nil
}

func replay(c *card.Card, records []Record) {
	var open *Record
	for i, r := range records {
		switch r.Event {
		case "begin":
			for name, f := range r.Facts {
				f.Evidence, f.At = card.Journal, r.At
				c.Set(name, f)
			}
		case "act":
			open = &records[i]
		case "done":
			open = nil
			for name, f := range r.Facts {
				if f.Known() {
					f.Evidence = card.Journal
				}
				f.At = r.At
				c.Set(name, f)
			}
		case "failed":
			forget(c, open, "an act that failed was writing it: "+r.Title)
			open = nil
		}
	}
	if open != nil {
		forget(c, open, "a job broke off while it did this: "+open.Title)
	}
}

func forget(c *card.Card, r *Record, why string) {
	if r == nil {
		return
	}
	for _, name := range r.Touches {
		c.Forget(name, why)
	}
}
