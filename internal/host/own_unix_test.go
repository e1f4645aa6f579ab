//go:build !windows

package host

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// TestOwnFolder: a folder that others can write to or that is theirs is refused with the command that mends
// it, one that they can read is closed, and a link is not followed where others could have put it.
func TestOwnFolder(t *testing.T) {
	dir := t.TempDir()
	at := func(name string, mode os.FileMode) string {
		path := filepath.Join(dir, name)
		if err := errors.Join(os.Mkdir(path, 0o700), os.Chmod(path, mode)); err != nil {
			t.Fatalf("errors.Join(os.Mkdir(path, 0o700), os.Chmod(path, mode)): %v", err)
		}
		return path
	}
	theirs := at("theirs", 0o700)
	foreign := os.Chown(theirs, 12345, 12345) == nil // root alone can give a folder away
	link := filepath.Join(dir, "link")
	if err := os.Symlink(at("target", 0o700), link); err != nil {
		t.Fatalf("os.Symlink(at('target', 0o700), link): %v", err)
	}
	file := filepath.Join(dir, "file")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatalf("os.WriteFile(%v, 0o600): %v", file, err)
	}
	for _, c := range []struct {
		name, path   string
		closed       bool
		refused, own string // what Private and OwnFolder say; "" for nothing
	}{
		{"mine alone", at("mine", 0o700), false, "", ""},
		{"one that is not there", filepath.Join(dir, "new", "one"), false, "", ""},
		{"open to readers", at("read", 0o755), true, "", ""},
		{"open to writers", at("written", 0o722), false, "chmod -R go-w", "chmod -R go-w"},
		{"of another user", theirs, false, "sudo chown", "sudo chown"},
		{"a link to mine", link, false, "", "is a link"},
		{"a file", file, false, "is no folder", "no folder"},
	} {
		if c.path == theirs && !foreign {
			continue
		}
		closed, err := Private(c.path)
		if closed != c.closed || (err != nil) != (c.refused != "") ||
			err != nil && !strings.Contains(err.Error(), c.refused) {
			t.Errorf("%s: closed %v, %v; want %v, %q", c.name, closed, err, c.closed, c.refused)
		}
		if err := OwnFolder(c.path); (err != nil) != (c.own != "") ||
			err != nil && !strings.Contains(err.Error(), c.own) {
			t.Errorf("%s, where others have folders too: %v, want %q", c.name, err, c.own)
		}
		if st, err := os.Stat(c.path); c.closed && (err != nil || st.Mode().Perm() != 0o700) {
			t.Errorf("%s: it was not closed: %v, %v", c.name, st, err)
		}
	}
}

// TestOpenOwn: a link is not followed and a pipe is not waited for, whatever it is opened for.
func TestOpenOwn(t *testing.T) {
	dir := t.TempDir()
	victim, link, pipe := filepath.Join(dir, "victim"), filepath.Join(dir, "link"), filepath.Join(dir, "pipe")
	if err := errors.Join(os.WriteFile(victim, []byte("mine"), 0o600), os.Symlink(victim, link),
		syscall.Mkfifo(pipe, 0o600)); err != nil {
		t.Fatalf("errors.Join(..., os.Symlink(victim, link), syscall.Mkfifo(pipe, 0o600)): %v", err)
	}
	for _, path := range []string{link, pipe} {
		for _, flag := range []int{os.O_RDONLY, os.O_RDWR | os.O_CREATE, os.O_WRONLY | os.O_CREATE |
			os.O_TRUNC} {
			if f, err := OpenOwn(path, flag, 0o600); err == nil {
				f.Close()
				t.Errorf("%s is opened", path)
			}
		}
		if _, err := Read(path); err == nil {
			t.Errorf("%s is read", path)
		}
	}
	if ok, err := Lock(link).TryLock(); ok || err == nil {
		t.Error("a link is locked")
	}
	if _, err := Lock(pipe).TryLock(); err != nil { // it may be locked, and is not waited for
		t.Logf("a pipe: %v", err)
	}
	if b, err := os.ReadFile(victim); err != nil || string(b) != "mine" {
		t.Errorf("what the link leads to: %q, %v", b, err)
	}
	if f, err := Open(pipe); err == nil { // a person's file: the caller sees what it is
		f.Close()
	}
}
