package files

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"

	"jarlid/internal/core/finding"
	"jarlid/internal/core/image"
	"jarlid/internal/host"
)

// lockName is the file in an output folder that is locked while a program writes there.
const lockName = ".jarlid-lock"

// OutputFolder is a folder that a person named for what is read from a phone. Only this program writes to it
// while it is open, and nothing is written through a link that leads out of it.
type OutputFolder struct {
	dir  string
	root *os.Root
	lock *flock.Flock
}

// OpenFolder opens a folder for writing; one that is not there is made, for this user alone. Errors: finding
// output-shared where another phone's or another program's output goes there now.
func OpenFolder(dir string) (*OutputFolder, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	f := &OutputFolder{dir: dir, root: root, lock: host.Lock(filepath.Join(dir, lockName))}
	ok, err := f.lock.TryLock()
	if err == nil && !ok {
		err = finding.Stopped(finding.OutputShared, dir, "another phone or another jarlid is writing to "+dir+
			" now", "name another folder, or wait until the other one is done")
	}
	if err != nil {
		root.Close()
		return nil, err
	}
	return f, nil
}

// Readable reports whether other users of the computer can read a folder that is there.
func Readable(dir string) bool { return host.Readable(dir) }

// AboutName reports whether an error is about one file's name or place, and not about the disk.
func AboutName(err error) bool { return host.AboutName(err) }

// Close lets the folder go.
func (f *OutputFolder) Close() error {
	err := f.root.Remove(lockName)
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return errors.Join(err, f.lock.Close(), f.root.Close())
}

// Path is how a person calls a file of the folder.
func (f *OutputFolder) Path(name string) string {
	return filepath.Join(f.dir, filepath.FromSlash(name))
}

// open opens a file of the folder, never waiting for somebody at its other end.
func (f *OutputFolder) open(name string) (*os.File, int64, error) {
	name = filepath.FromSlash(name)
	st, err := f.root.Lstat(name)
	if err == nil && !st.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: f.Path(name), Err: fmt.Errorf("it is %s and no file",
			host.Special(st.Mode()))}
	}
	if err != nil {
		return nil, 0, err
	}
	file, err := f.root.OpenFile(name, os.O_RDONLY|host.NoWait, 0)
	return file, st.Size(), err
}

// Read reads a small file of the folder, of up to limit bytes.
func (f *OutputFolder) Read(name string, limit int64) ([]byte, error) {
	file, size, err := f.open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	if size > limit {
		return nil, fmt.Errorf("%s has %s, and may have %s", f.Path(name), image.Size(size),
			image.Size(limit))
	}
	return io.ReadAll(io.LimitReader(file, limit))
}

// Digest gives the SHA-256 of a file of the folder, in hex, and its size in bytes.
func (f *OutputFolder) Digest(ctx context.Context, name string) (sum string, n int64, err error) {
	file, size, err := f.open(name)
	if err != nil {
		return "", 0, err
	}
	defer file.Close()
	sum, err = digestOf(ctx, file, size)()
	return sum, size, err
}

// FolderFile is a file that is being written. It has a passing name until Keep gives it its own.
type FolderFile struct {
	*os.File
	in   *OutputFolder
	name string
	done bool
}

// Create begins a file.
func (f *OutputFolder) Create() (*FolderFile, error) {
	var b [8]byte
	_, _ = rand.Read(b[:]) // it never fails
	name := ".jarlid-part-" + hex.EncodeToString(b[:])
	file, err := f.root.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	return &FolderFile{File: file, in: f, name: name}, nil
}

// Times sets the time the file was changed.
func (w *FolderFile) Times(at time.Time) error { return w.in.root.Chtimes(w.name, at, at) }

// Keep closes the file and gives it its name, in place of what has it.
func (w *FolderFile) Keep(name string) error {
	w.done = true
	err := w.Close()
	if err == nil {
		err = w.in.root.MkdirAll(filepath.Dir(filepath.FromSlash(name)), 0o700)
	}
	if err == nil {
		err = host.Retry(func() error { return w.in.root.Rename(w.name, filepath.FromSlash(name)) })
	}
	if err != nil {
		err = errors.Join(err, w.in.root.Remove(w.name))
	}
	return err
}

// Drop takes away a file that was not kept.
func (w *FolderFile) Drop() {
	if w.done {
		return
	}
	w.Close()
	_ = w.in.root.Remove(w.name) // what is left has a name nobody takes for a backup's
}

// WriteWhole writes a small file so that it is there whole or not at all.
func (f *OutputFolder) WriteWhole(name string, b []byte) error {
	w, err := f.Create()
	if err != nil {
		return err
	}
	defer w.Drop()
	if _, err := w.Write(b); err != nil {
		return err
	}
	if err := w.Sync(); err != nil {
		return err
	}
	return w.Keep(name)
}
