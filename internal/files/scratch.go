package files

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"jarlid/internal/core/image"
	"jarlid/internal/host"
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
	for range 20 { // a sweep of another program may have come between
		if dir, err = os.MkdirTemp(parent, scratchName); err != nil {
			return "", nil, err
		}
		lock := host.Lock(filepath.Join(dir, inUse))
		ok, lerr := lock.TryLock()
		if ok {
			_, lerr = os.Stat(dir) // not what a sweep has moved away
		}
		if ok && lerr == nil {
			// what can't be removed goes with the next sweep
			return dir, func() { _ = lock.Close(); _ = os.RemoveAll(dir) }, nil
		}
		_ = lock.Close()
		_ = os.RemoveAll(dir)
		err = lerr
	}
	if err == nil {
		err = errors.New("others remove them")
	}
	return "", nil, fmt.Errorf("no temporary folder can be made in %s: %w", parent, err)
}

// sweep removes the folders of programs that are gone.
func sweep(parent string) {
	list, err := filepath.Glob(filepath.Join(strings.NewReplacer("[", `\[`, "*", `\*`, "?", `\?`).Replace(
		parent), scratchName+"*"))
	if err != nil {
		return
	}
	for _, dir := range list {
		if !host.Mine(dir) {
			continue // of another user, or a link that leads who knows where
		}
		name := filepath.Join(dir, inUse)
		if _, err := os.Lstat(name); err != nil {
			if st, err := os.Lstat(dir); err == nil && time.Since(st.ModTime()) > young {
				_ = os.RemoveAll(dir) // or stays until the next time
			}
			continue
		}
		lock := host.Lock(name)
		if ok, err := lock.TryLock(); err != nil || !ok {
			_ = lock.Close()
			continue // its program runs
		}
		// One that is being made has the file and not yet the lock on it: moved away under the
		// lock, it is missed by whoever makes it, who takes another. Where a folder with an open
		// file in it can't be moved, the one that makes it holds it by that.
		gone := dir + "-gone"
		if os.Rename(dir, gone) != nil {
			_ = lock.Close()
			if os.Rename(dir, gone) != nil {
				continue
			}
		}
		_ = lock.Close()
		_ = os.RemoveAll(gone)
	}
}

// Room reports whether a folder's disk has room for so many bytes; an error that says how much there is.
func Room(dir string, need int64) error {
	if free, ok := freeSpace(dir); ok && need > free {
		return fmt.Errorf("%s has %s free, and %s are needed", dir, image.Size(free), image.Size(need))
	}
	return nil
}
