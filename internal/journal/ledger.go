package journal

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"jarlid/internal/host"
)

// ledgerName is the file in a job's folder that holds how far the transfer in progress is.
const ledgerName = "transfer"

// Ledger keeps how many bytes were announced to a phone and how many it has taken. A bootloader
// on a cable does not notice that a program was killed: it goes on waiting for the rest, and
// takes commands for it. It is not flushed to the disk, since it is for what outlives a program
// and not a computer: a phone does not wait through a power cut. A nil Ledger keeps nothing.
type Ledger struct{ f *os.File }

// OpenLedger opens the ledger of a job's folder.
func OpenLedger(dir string) (*Ledger, error) {
	f, err := host.OpenOwn(filepath.Join(dir, ledgerName), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	return &Ledger{f}, nil
}

func ledgerLine(announced, taken int64) []byte {
	return fmt.Appendf(nil, "announced %016x taken %016x\n", announced, taken)
}

// Note notes how many bytes were announced and taken; 0 announced is no transfer.
func (l *Ledger) Note(announced, taken int64) error {
	if l == nil {
		return nil
	}
	_, err := l.f.WriteAt(ledgerLine(announced, taken), 0)
	return err
}

// Close closes it, and removes it when no transfer is open.
func (l *Ledger) Close() error {
	if l == nil {
		return nil
	}
	t, err := readLedger(l.f.Name())
	if cerr := l.f.Close(); err == nil {
		err = cerr
	}
	if err == nil && t.Announced == 0 {
		err = host.Remove(l.f.Name())
	}
	return err
}

// Transfer is one that was interrupted.
type Transfer struct {
	Announced, Taken int64 // bytes
	path             string
}

// Over notes that the phone waits for it no longer.
func (t *Transfer) Over() error { return host.Remove(t.path) }

func readLedger(path string) (Transfer, error) {
	b, err := host.Read(path)
	if errors.Is(err, fs.ErrNotExist) {
		return Transfer{}, nil
	}
	t := Transfer{path: path}
	if err == nil && len(b) > 0 {
		if _, serr := fmt.Sscanf(string(b), "announced %x taken %x", &t.Announced, &t.Taken); serr != nil ||
			t.Announced < 0 || t.Taken < 0 || t.Taken > t.Announced {
			return Transfer{}, nil // cut off while it was begun: nothing was announced yet
		}
	}
	return t, err
}

// Broken gives the last transfer to a phone that was interrupted, if its last job left one.
func Broken(home string, w Who) (Transfer, bool, error) {
	// It is asked at every connection, and nearly always there is none: no journal is read for that.
	if open, err := filepath.Glob(filepath.Join(home, "jobs", "*", ledgerName)); err == nil &&
		len(open) == 0 {
		return Transfer{}, false, nil
	}
	j, err := last(home, w)
	if j == nil || err != nil {
		return Transfer{}, false, err
	}
	t, err := readLedger(filepath.Join(j.Dir, ledgerName))
	return t, t.Announced > 0, err
}

// last gives the last job of a phone, nil for none.
func last(home string, w Who) (*Entry, error) {
	jobs, err := Jobs(home)
	if err != nil {
		return nil, err
	}
	for i := range slices.Backward(jobs) {
		if jobs[i].Of(w) {
			return &jobs[i], nil
		}
	}
	return nil, nil
}
