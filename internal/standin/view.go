package standin

import (
	"errors"
	"fmt"
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

// view is the file system of a partition as a phone that has mounted it sees it:
// the image's own files, and over them what was changed since it was written. The
// changes lie beside the partition and are gone when it is written again.
type view struct {
	base fs.FS  // nil: an empty file system
	dir  string // of the changes
	ro   error  // why it can't be mounted for writing
	full bool
	done func()
}

// gonePrefix marks, in the folder of changes, a file of the image that is gone.
const gonePrefix = ".gone."

// errReadOnly is what the kernel says of a file system that can't be written.
var errReadOnly = errors.New("Read-only file system")

// mount opens a partition's file system.
func (st *storage) mount(partition string) (*view, error) {
	v, err := st.open(partition)
	if err != nil {
		return nil, errors.New("No such file or directory")
	}
	w := &view{dir: st.overlay(partition), done: func() { v.Close() }}
	head := make([]byte, 4096)
	if _, err := v.ReadAt(head, 0); err != nil && err != io.EOF {
		v.Close()
		return nil, errors.New("I/O error")
	}
	if ext4.IsMagic(head) {
		var f *ext4.FS
		if f, err = ext4.New(v, v.size); err == nil {
			w.base = f
			if f.Super.SharedBlocks() {
				w.ro = errReadOnly
			}
		}
	} else {
		w.ro = errReadOnly
		w.base, err = erofs.New(v, v.size)
	}
	if err != nil {
		v.Close()
		return nil, errors.New("Invalid argument")
	}
	return w, nil
}

func (w *view) close() {
	if w.done != nil {
		w.done()
	}
}

// clean makes a path relative to the partition's root.
func clean(name string) string {
	if name = strings.Trim(path.Clean("/"+name), "/"); name == "" {
		return "."
	}
	return name
}

func (w *view) local(name string) string { return filepath.Join(w.dir, filepath.FromSlash(name)) }

// gone tells whether a file of the image was taken away, or a folder it is in.
func (w *view) gone(name string) bool {
	for ; name != "."; name = path.Dir(name) {
		if _, err := os.Lstat(w.local(path.Join(path.Dir(name), gonePrefix+path.Base(name)))); err == nil {
			return true
		}
	}
	return false
}

// Stat tells of a file or folder.
func (w *view) Stat(name string) (fs.FileInfo, error) {
	name = clean(name)
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
func (w *view) Open(name string) (fs.File, error) {
	name = clean(name)
	if f, err := os.Open(w.local(name)); err == nil {
		return f, nil
	}
	if w.base != nil && !w.gone(name) {
		return w.base.Open(name)
	}
	return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
}

// List gives the names in a folder, sorted.
func (w *view) List(name string) ([]string, error) {
	name = clean(name)
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
func (w *view) Create(name string) (*os.File, error) {
	name = clean(name)
	if err := w.parent(name); err != nil {
		return nil, err
	}
	return os.Create(w.local(name))
}

// parent makes sure that the folder of a new file is there.
func (w *view) parent(name string) error {
	if w.ro != nil {
		return w.ro
	}
	if w.full {
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
func (w *view) Mkdir(name string) error {
	if w.ro != nil {
		return w.ro
	}
	return os.MkdirAll(w.local(clean(name)), 0o755)
}

// Remove takes a file or folder away with everything in it.
func (w *view) Remove(name string) error {
	name = clean(name)
	if w.ro != nil {
		return w.ro
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
func (w *view) Rename(from, to string) error {
	from, to = clean(from), clean(to)
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

func (w *view) copy(from, to string) error {
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

// changed tells whether anything in a partition was changed since it was
// written.
func (st *storage) changed(partition string) bool {
	entries, err := os.ReadDir(st.overlay(partition))
	return err == nil && len(entries) > 0
}

// mounted is a partition somewhere in the tree of files.
type mounted struct {
	Partition, Type string
	Sub             string // the folder of it that is seen
	Write           bool
}

// at finds what is mounted where a file lies, and the file's path in it.
func (sh *shell) at(name string) (m mounted, rel string, ok bool) {
	best := ""
	for dir, x := range sh.mounts() {
		if rest, cut := strings.CutPrefix(name, dir); cut && (rest == "" || rest[0] == '/') && len(dir) > len(best) {
			best, m, rel, ok = dir, x, path.Join(x.Sub, rest), true
		}
	}
	return m, rel, ok
}

// mounts gives what is mounted: what the recovery or system mounts by itself,
// and what was mounted since.
func (sh *shell) mounts() map[string]mounted {
	p, r := sh.p, sh.r
	all := map[string]mounted{}
	if !sh.root {
		for _, name := range []string{"system", "vendor", "product"} {
			if _, has := p.store.slots[name]; has {
				all["/"+name] = mounted{Partition: p.on(name, r.slot), Type: "ext4", Sub: map[string]string{"system": "system"}[name]}
			}
		}
		return all
	}
	if p.store.has("cache") {
		all["/cache"] = mounted{Partition: "cache", Type: "ext4", Write: true}
	}
	if s := p.dataState(); s == dataPlain || s == "formatted" {
		all["/data"] = mounted{Partition: "userdata", Type: "ext4", Write: true}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for dir, m := range r.mounts {
		all[dir] = m
	}
	return all
}

// within opens the file system a file lies on.
func (sh *shell) within(name string) (w *view, rel string, m mounted, err error) {
	m, rel, ok := sh.at(name)
	if !ok {
		return nil, "", m, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	if w, err = sh.p.store.mount(m.Partition); err == nil && !m.Write {
		w.ro = errReadOnly
	}
	if err == nil {
		w.full = sh.p.faulty("full")
	}
	return w, rel, m, err
}

// change does something to a file on a mounted file system.
func (sh *shell) change(name string, do func(w *view, rel string) error) error {
	w, rel, _, err := sh.within(name)
	if err == nil {
		err = do(w, rel)
		w.close()
	}
	if err != nil {
		var pe *fs.PathError
		if errors.As(err, &pe) {
			err = pe.Err
		}
		if errors.Is(err, fs.ErrNotExist) {
			err = errors.New("No such file or directory")
		}
		return fmt.Errorf("%s: %w", name, err)
	}
	return nil
}
