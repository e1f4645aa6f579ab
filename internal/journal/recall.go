package journal

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"jarlid/internal/core/card"
)

// Who is the phone a journal is asked about.
type Who struct {
	Name   string   // on the bench
	Serial string   // "" when it is not known
	Also   []string // other numbers it is known to report
	// Serials says that it reports another serial number in some modes, so that they
	// tell nothing.
	Serials bool
}

// Entry is one job's journal.
type Entry struct {
	Dir     string
	Number  int // 0 where the folder's name has none
	Phone   string
	Serial  string
	Records []Record
	Damage  *DamagedError // what keeps it from being read
}

// Jobs gives all jobs, by their number. A folder without a journal is passed over.
func Jobs(home string) ([]Entry, error) {
	dir := filepath.Join(home, "jobs")
	dirs, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var jobs []Entry
	for _, d := range dirs {
		if !d.IsDir() {
			continue
		}
		j := Entry{Dir: filepath.Join(dir, d.Name())}
		j.Number, j.Phone, _ = splitName(d.Name())
		j.Records, err = readRecords(j.Dir)
		switch {
		case errors.As(err, &j.Damage):
		case errors.Is(err, fs.ErrNotExist):
			continue
		case err != nil:
			return nil, err
		case len(j.Records) == 0:
			continue // it ended before its first record
		}
		if j.Damage == nil && j.Records[0].Event != Begin {
			j.Damage = &DamagedError{Dir: j.Dir, Line: 1, Err: errors.New("it does not begin with a begin")}
		}
		if len(j.Records) > 0 && j.Records[0].Event == Begin {
			first := j.Records[0]
			j.Phone, j.Serial = first.Phone, first.Serial
		}
		jobs = append(jobs, j)
	}
	slices.SortStableFunc(jobs, func(a, b Entry) int { return cmp.Compare(a.Number, b.Number) })
	return jobs, nil
}

// Of reports whether the job was done to a phone: two may have had the same name, so the
// serial number decides where both are known.
func (j *Entry) Of(w Who) bool {
	if w.Serial != "" && j.Serial != "" && !w.Serials {
		return j.Serial == w.Serial || slices.Contains(w.Also, j.Serial)
	}
	return j.Phone == w.Name || j.Damage != nil && j.Serial == "" && j.Phone == SafeName(w.Name)
}

// Name is how a person finds the job.
func (j *Entry) Name() string { return filepath.Base(j.Dir) }

// Recall gives what the journals know of a phone: every fact as the last job left it,
// unknown where a job ended in the middle of an act. A journal of this phone that can't
// be read makes everything unknown that earlier ones told, and is given.
func Recall(home string, w Who) (*card.Card, []*DamagedError, error) {
	jobs, err := Jobs(home)
	if err != nil {
		return nil, nil, err
	}
	c := &card.Card{}
	var damaged []*DamagedError
	for i := range jobs {
		j := &jobs[i]
		if !j.Of(w) {
			continue
		}
		if j.Damage != nil {
			damaged = append(damaged, j.Damage)
			for _, i := range c.IDs() {
				c.Forget(i, fmt.Sprintf("the journal of job %s can't be read, and what it did is not known",
					j.Name()))
			}
			continue
		}
		j.replay(c)
	}
	return c, damaged, nil
}

// replay puts what a job knows on the card.
func (j *Entry) replay(c *card.Card) {
	var open *Record
	for i, r := range j.Records {
		if r.Event == Begin || r.Event == Done || r.Event == Failed { // a failed step keeps what was refused
			for id, f := range r.Facts {
				if f.Known() {
					f.Source, f.Job = card.Journal, j.Number
				}
				f.At = r.At
				c.Set(id, f)
			}
		}
		switch r.Event {
		case Act:
			open = &j.Records[i]
		case Done:
			open = nil
		case Failed:
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
	for _, i := range r.Touches {
		c.Forget(i, why)
	}
}

// previousName is how bytes that were on a partition before it was written are kept
// beside a journal.
const (
	previousName = "previous-"
	previousEnd  = ".img"
)

// PreviousFile is where a job keeps what was on a partition before.
func PreviousFile(dir string, p card.Partition) string {
	return filepath.Join(dir, previousName+p.String()+previousEnd)
}

// Previous gives the files in which jobs kept what was on the partitions of that base
// before they wrote them, the newest of each.
func Previous(home string, w Who, base string) (map[card.Partition]string, error) {
	jobs, err := Jobs(home)
	if err != nil {
		return nil, err
	}
	out := map[card.Partition]string{}
	for i := range jobs {
		j := &jobs[i]
		if j.Damage != nil && len(j.Records) == 0 || !j.Of(w) {
			continue
		}
		files, err := filepath.Glob(filepath.Join(escape(j.Dir), previousName+"*"+previousEnd))
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			p := card.Part(strings.TrimSuffix(strings.TrimPrefix(filepath.Base(f), previousName),
				previousEnd))
			if p.Base == base {
				out[p] = f
			}
		}
	}
	return out, nil
}

// escape keeps a folder's name from being taken for a pattern.
func escape(dir string) string {
	return strings.NewReplacer(`[`, `[[]`, `*`, `[*]`, `?`, `[?]`).Replace(dir)
}
