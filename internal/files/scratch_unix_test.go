//go:build !windows

package files

import (
	"errors"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"
)

// TestScratchHostile: what others have put into a shared folder for temporary files, a pipe instead of a
// lock, links and folders of theirs, neither holds a program up nor is followed or taken away.
func TestScratchHostile(t *testing.T) {
	parent, victim := t.TempDir(), t.TempDir()
	pipe, theirs := filepath.Join(parent, scratchName+"pipe"), filepath.Join(parent, scratchName+"theirs")
	kept := filepath.Join(victim, "kept")
	if err := errors.Join(os.WriteFile(kept, nil, 0o600),
		os.Symlink(victim, filepath.Join(parent, scratchName+"link")),
		os.Mkdir(pipe, 0o700), syscall.Mkfifo(filepath.Join(pipe, inUse), 0o666),
		os.Mkdir(theirs, 0o777), os.Symlink(kept, filepath.Join(theirs, inUse))); err != nil {
		t.Fatalf("making links and pipes in %s: %v", parent, err)
	}
	old := time.Now().Add(-2 * young)
	for _, path := range []string{pipe, theirs, victim} {
		if err := os.Chtimes(path, old, old); err != nil {
			t.Fatalf("os.Chtimes(%v, old, old): %v", path, err)
		}
	}
	ended := make(chan error, 1)
	go func() {
		_, done, err := Scratch(parent)
		if err == nil {
			done()
		}
		ended <- err
	}()
	select {
	case err := <-ended:
		if err != nil {
			t.Errorf("sweeping %s: %v", parent, err)
		}
	case <-time.After(10 * time.Second):
		t.Fatal("it waits for somebody at the other end of a pipe")
	}
	if _, err := os.Stat(kept); err != nil {
		t.Errorf("a link was followed: %v", err)
	}
}
