// Package host is what this computer's system does in its own way: files that others have open,
// holes, who may read a file, the window the program is shown in, and the shell a command is typed
// in. It knows no phone.
package host

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

const (
	// patience is how long it is tried again where another program has a file open. On Windows that
	// refuses to rename, to delete and to read, for the moment another one reads or a scanner looks.
	patience = 2 * time.Second
	again    = 10 * time.Millisecond
)

// Retry does something until it does not fail for the moment, or patience is over.
func Retry(do func() error) error {
	end := time.Now().Add(patience)
	for wait := again; ; wait = min(2*wait, 20*again) {
		err := do()
		if err == nil || !passing(err) || time.Now().After(end) {
			return err
		}
		time.Sleep(wait)
	}
}

// Open opens a file that a person named for reading, tried again where another program has it open alone.
// A named pipe does not hold it up.
func Open(name string) (f *os.File, err error) {
	err = Retry(func() error {
		f, err = os.OpenFile(name, os.O_RDONLY|NoWait, 0)
		return err
	})
	return f, err
}

// Replace is os.Rename, tried again where another program has one of the two open. What is there
// may be marked as read-only: the mark is taken off first. Errors are *fs.PathError with the name to.
func Replace(from, to string) error {
	cleared := false
	err := Retry(func() error {
		err := os.Rename(from, to)
		if err != nil && !cleared && errors.Is(err, fs.ErrPermission) {
			cleared = true
			if writable(to) {
				err = os.Rename(from, to)
			}
		}
		return err
	})
	var moved *os.LinkError
	if errors.As(err, &moved) {
		return &fs.PathError{Op: moved.Op, Path: to, Err: moved.Err}
	}
	return err
}

// Remove is os.Remove, tried again in the same way.
func Remove(name string) error { return Retry(func() error { return os.Remove(name) }) }

// WriteWhole writes a file so that it is there whole or not at all. What it writes meanwhile has a
// name nobody can have put a link at; errors are *fs.PathError with the name that was asked for.
func WriteWhole(name string, b []byte, mode fs.FileMode) error {
	err := writeWhole(name, b, mode)
	var file *fs.PathError
	if errors.As(err, &file) {
		return &fs.PathError{Op: "write", Path: name, Err: file.Err}
	}
	return err
}

func writeWhole(name string, b []byte, mode fs.FileMode) (err error) {
	f, err := os.CreateTemp(filepath.Dir(name), filepath.Base(name)+".new-")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, ignoreMissing(Remove(f.Name())))
		}
	}()
	_, err = f.Write(b)
	if err == nil && mode&0o077 == 0 {
		err = OwnerOnly(f.Name())
	}
	err = errors.Join(err, f.Chmod(mode), f.Close())
	if err != nil {
		return err
	}
	return Replace(f.Name(), name)
}

func ignoreMissing(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}
