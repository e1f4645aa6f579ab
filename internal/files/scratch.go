package files

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"jarlid/internal/core/image"
)

const (
	scratchName = "jarlid-scratch-"
	inUse       = ".in-use" // locked by the program whose folder it is
	// young is how old a folder without that file is at least before it is one of a program that
	// ended while it made it.
	young = 24 * time.Hour
)

// Scratch makes a temporary folder in parent, "" for the computer's own place for those. done takes
// it away. What programs that were killed have left there goes first.
func Scratch(parent string) (dir string, done func(), err error) {
	if parent == "" {
		parent = os.TempDir()
	} else if err := os.MkdirAll(parent, 0o700); err != nil {
		return "", nil, err
	}
	sweep(parent)
	for range 3 { // a sweep of another program may have come between
		if dir, err = os.MkdirTemp(parent, scratchName); err != nil {
			return "", nil, err
		}
		lock := flock.New(filepath.Join(dir, inUse))
		if ok, lerr := lock.TryLock(); lerr == nil && ok {
			return dir, func() { _ = lock.Close(); _ = os.RemoveAll(dir) }, nil // what can't be removed goes with the next sweep
		}
		_ = lock.Close()
	}
	return "", nil, errors.New("no temporary folder can be made in " + parent)
}

// sweep removes the folders of programs that are gone.
func sweep(parent string) {
	list, err := filepath.Glob(filepath.Join(strings.NewReplacer("[", `\[`, "*", `\*`, "?", `\?`).Replace(parent), scratchName+"*"))
	if err != nil {
		return
	}
	for _, dir := range list {
		name := filepath.Join(dir, inUse)
		if _, err := os.Stat(name); err != nil {
			if st, err := os.Stat(dir); err == nil && time.Since(st.ModTime()) > young {
				_ = os.RemoveAll(dir) // or stays until the next time
			}
			continue
		}
		lock := flock.New(name)
		if ok, err := lock.TryLock(); err != nil || !ok {
			_ = lock.Close()
			continue // its program runs
		}
		_ = lock.Close()
		_ = os.RemoveAll(dir)
	}
}

// Room tells whether a folder's disk has room for so many bytes; an error that says how much there is.
func Room(dir string, need int64) error {
	if free, ok := freeSpace(dir); ok && need > free {
		return fmt.Errorf("%s has %s free, and %s are needed", dir, image.Size(free), image.Size(need))
	}
	return nil
}
