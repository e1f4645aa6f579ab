package disk

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"jarlid/internal/core/image/erofs"
	"jarlid/internal/core/image/ext4"
)

// View is the file system of a partition as a phone that has mounted it sees it:
// the image's own files, and over them what was changed since it was written. The
// changes are beside the partition and are gone when it is written again.
type View struct {
	base     fs.FS  // nil: an empty file system
	dir      string // of the changes
	ReadOnly error  // why it can't be mounted for writing
	Full     bool   // nothing more can be written
	done     func()
}

// gonePrefix marks, in the folder of changes, a file of the image that is gone.
const gonePrefix = ".gone."

// ErrReadOnly is what the kernel says of a file system that can't be written.
var ErrReadOnly = errors.New("Read-only file system")

// Mount opens a partition's file system.
func (st *Disk) Mount(partition string) (*View, error) {
	v, err := st.Open(partition)
	if err != nil {
		return nil, errors.New("No such file or directory")
	}
	w := &View{dir: st.Overlay(partition), done: func() { v.Close() }}
	head := make([]byte, 4096)
	if _, err := v.ReadAt(head, 0); err != nil && err != io.EOF {
		v.Close()
		return nil, errors.New("I/O error")
	}
	if ext4.IsMagic(head) {
		var f *ext4.FS
		if f, err = ext4.New(v, v.Size); err == nil {
			w.base = f
			if f.Super.SharedBlocks() {
				w.ReadOnly = ErrReadOnly
			}
		}
	} else {
		w.ReadOnly = ErrReadOnly
		w.base, err = erofs.New(v, v.Size)
	}
	if err != nil {
		v.Close()
		return nil, errors.New("Invalid argument")
	}
	return w, nil
}

func (w *View) Close() {
	if w.done != nil {
		w.done()
	}
}

// Clean makes a path relative to the partition's root.
func Clean(name string) string {
	if name = strings.Trim(path.Clean("/"+name), "/"); name == "" {
		return "."
	}
	return name
}

func (w *View) local(name string) string { return filepath.Join(w.dir, filepath.FromSlash(name)) }

// gone reports whether a file of the image was taken away, or a folder it is in.
func (w *View) gone(name string) bool {
	for ; name != "."; name = path.Dir(name) {
		if _, err := os.Lstat(w.local(path.Join(path.Dir(name), gonePrefix+path.Base(name)))); err == nil {
			return true
		}
	}
	return false
}

// Stat tells of a file or folder.
func (w *View) Stat(name string) (fs.FileInfo, error) {
	name = Clean(name)
	if st, err := os.Stat(w.local(name)); err == nil && name != "." {
		return st, nil
	}
	if w.base != nil && !w.gone(name) {
		return fs.Stat(w.base, name)
	}
	if name == "." {
		return os.Stat(os.TempDir())
	}
	return nil, &fs.PathError{Op: "stat", Path: name, Err: fs.ErrNotExist}
}

// Open opens a file for reading.
func (w *View) Open(name string) (fs.File, error) {
	name = Clean(name)
	if f, err := os.Open(w.local(name)); err == nil {
		return f, nil
	}
	if w.base != nil && !w.gone(name) {
		return w.base.Open(name)
	}
	return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
}

// List gives the names in a folder, sorted.
func (w *View) List(name string) ([]string, error) {
	name = Clean(name)
	st, err := w.Stat(name)
	if err != nil {
		return nil, err
	}
	if !st.IsDir() {
		return nil, &fs.PathError{Op: "readdir", Path: name, Err: errors.New("Not a directory")}
	}
	var list []string
	if w.base != nil && !w.gone(name) {
		entries, _ := fs.ReadDir(w.base, name)
		for _, e := range entries {
			if !w.gone(path.Join(name, e.Name())) {
				list = append(list, e.Name())
			}
		}
	}
	entries, _ := os.ReadDir(w.local(name))
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), gonePrefix) && !slices.Contains(list, e.Name()) {
			list = append(list, e.Name())
		}
	}
	slices.Sort(list)
	return list, nil
}

// Create makes or overwrites a file.
func (w *View) Create(name string) (*os.File, error) {
	name = Clean(name)
	if err := w.parent(name); err != nil {
		return nil, err
	}
	return os.Create(w.local(name))
}

// parent makes sure that the folder of a new file is there.
func (w *View) parent(name string) error {
	if w.ReadOnly != nil {
		return w.ReadOnly
	}
	if w.Full {
		return errors.New("No space left on device")
	}
	st, err := w.Stat(path.Dir(name))
	if err == nil && !st.IsDir() {
		err = errors.New("Not a directory")
	}
	if err != nil {
		return err
	}
	return os.MkdirAll(filepath.Dir(w.local(name)), 0o755)
}

// Mkdir makes a folder and those above it.
func (w *View) Mkdir(name string) error {
	if w.ReadOnly != nil {
		return w.ReadOnly
	}
	return os.MkdirAll(w.local(Clean(name)), 0o755)
}

// Remove takes a file or folder away with everything in it.
func (w *View) Remove(name string) error {
	name = Clean(name)
	if w.ReadOnly != nil {
		return w.ReadOnly
	}
	if _, err := w.Stat(name); err != nil {
		return err
	}
	if err := os.RemoveAll(w.local(name)); err != nil {
		return err
	}
	if w.base == nil {
		return nil
	}
	if _, err := fs.Stat(w.base, name); err != nil || w.gone(name) {
		return nil // it was no file of the image
	}
	mark := w.local(path.Join(path.Dir(name), gonePrefix+path.Base(name)))
	if err := os.MkdirAll(filepath.Dir(mark), 0o755); err != nil {
		return err
	}
	return os.WriteFile(mark, nil, 0o644)
}

// Rename moves a file or folder.
func (w *View) Rename(from, to string) error {
	from, to = Clean(from), Clean(to)
	if err := w.parent(to); err != nil {
		return err
	}
	if to == from || strings.HasPrefix(to, from+"/") {
		return errors.New("Invalid argument")
	}
	if err := w.copy(from, to); err != nil {
		return err
	}
	return w.Remove(from)
}

func (w *View) copy(from, to string) error {
	st, err := w.Stat(from)
	if err != nil {
		return err
	}
	if st.IsDir() {
		if err := w.Mkdir(to); err != nil {
			return err
		}
		list, err := w.List(from)
		for _, n := range list {
			if err == nil {
				err = w.copy(path.Join(from, n), path.Join(to, n))
			}
		}
		return err
	}
	r, err := w.Open(from)
	if err != nil {
		return err
	}
	defer r.Close()
	f, err := w.Create(to)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, r)
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	return err
}

// Changed reports whether anything in a partition was changed since it was
// written.
func (st *Disk) Changed(partition string) bool {
	entries, err := os.ReadDir(st.Overlay(partition))
	return err == nil && len(entries) > 0
}
