package standin

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"jarlid/internal/standin/disk"
)

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
		if rest, cut := strings.CutPrefix(name, dir); cut && (rest == "" || rest[0] == '/') &&
			len(dir) > len(best) {
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
			if _, has := p.store.Slots[name]; has {
				all["/"+name] = mounted{Partition: p.on(name, r.slot), Type: "ext4",
					Sub: map[string]string{"system": "system"}[name]}
			}
		}
		return all
	}
	if p.store.Has("cache") {
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

// within opens the file system a file is on.
func (sh *shell) within(name string) (w *disk.View, rel string, err error) {
	m, rel, ok := sh.at(name)
	if !ok {
		return nil, "", &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	if w, err = sh.p.store.Mount(m.Partition); err == nil && !m.Write {
		w.ReadOnly = disk.ErrReadOnly
	}
	if err == nil {
		w.Full = sh.p.faulty("full")
	}
	return w, rel, err
}

// change does something to a file on a mounted file system.
func (sh *shell) change(name string, do func(w *disk.View, rel string) error) error {
	w, rel, err := sh.within(name)
	if err == nil {
		err = do(w, rel)
		w.Close()
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
