package recovery

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/link/adb"
	"jarlid/internal/standin/device"
	"jarlid/internal/standin/disk"
)

// phoneFiles is what the sync service sees of the phone's files.
type phoneFiles struct {
	p    *Runner
	mode card.Mode
}

// Files are the phone's files as a mode shows them over ADB.
func (p *Runner) Files(mode card.Mode) adb.Files { return phoneFiles{p, mode} }

// tree gives the files as what runs sees them.
func (f phoneFiles) tree() *tree {
	f.p.Mu.Lock()
	defer f.p.Mu.Unlock()
	r := f.p.Running
	if r == nil {
		r = &device.Running{}
	}
	return &tree{p: f.p, mode: f.mode, r: r}
}

// Stat implements adb.Files.
func (f phoneFiles) Stat(name string) (adb.FileStat, error) {
	if rel, ok := f.vendor(name); ok {
		return f.vendorStat(rel)
	}
	st, err := f.tree().stat(name, true)
	if err != nil {
		return adb.FileStat{}, err
	}
	return fileStat(st), nil
}

func fileStat(st fs.FileInfo) adb.FileStat {
	mode := uint32(0o100660)
	switch {
	case st.IsDir():
		mode = 0o040770
	case st.Mode()&fs.ModeDevice != 0:
		mode = 0o060600
	case st.Mode()&fs.ModeSymlink != 0:
		mode = 0o120777
	}
	return adb.FileStat{Name: st.Name(), Mode: mode, Size: st.Size(), MTime: st.ModTime()}
}

// List implements adb.Files.
func (f phoneFiles) List(name string) ([]adb.FileStat, error) {
	if rel, ok := f.vendor(name); ok {
		return f.vendorList(rel)
	}
	t := f.tree()
	names, err := t.names(name)
	if err != nil {
		return nil, err
	}
	var list []adb.FileStat
	local, _, _ := t.local(name)
	for _, n := range names {
		st, err := t.stat(path.Join(name, n), false)
		if link, lerr := os.Lstat(filepath.Join(local, n)); local != "" && lerr == nil {
			st, err = link, nil // a link in a storage is one
		}
		if err == nil {
			e := fileStat(st)
			e.Name = n
			list = append(list, e)
		}
	}
	if i := slices.IndexFunc(list, func(s adb.FileStat) bool {
		return !s.IsDir()
	}); i >= 0 && f.p.Faulty("listed-twice") {
		twin := list[i]
		twin.Mode = 0o040770
		list = append(list, twin)
	}
	return list, nil
}

// ends is a file that ends before it should.
type ends struct {
	io.Reader
	io.Closer
}

// Open implements adb.Files.
func (f phoneFiles) Open(name string) (io.ReadCloser, error) {
	local, root, _ := f.tree().local(name)
	stored := local != "" && filepath.Base(root) != RamdiskDir
	if stored && f.p.Faulty("file-refused") {
		return nil, errors.New("open failed: Permission denied")
	}
	r, err := f.open(name)
	if err == nil && stored && f.p.Faulty("file-short") {
		return ends{io.LimitReader(r, 6), r}, nil
	}
	return r, err
}

func (f phoneFiles) open(name string) (io.ReadCloser, error) {
	if rel, ok := f.vendor(name); ok {
		return f.vendorOpen(rel)
	}
	if name == "/proc/config.gz" && f.mode == card.System {
		return f.p.kernelConfig()
	}
	return f.tree().open(name, false)
}

// vendor reports whether a file is on the vendor partition of a running system, which
// anybody may read but for its properties and its policy.
func (f phoneFiles) vendor(name string) (rel string, ok bool) {
	rel, ok = strings.CutPrefix(path.Clean("/"+name), "/vendor")
	_, has := f.p.Store.Slots["vendor"]
	return disk.Clean(rel), ok && has && f.mode == card.System && (rel == "" || rel[0] == '/')
}

func secret(rel string) bool {
	return rel == "build.prop" || rel == "etc/selinux" || strings.HasPrefix(rel, "etc/selinux/")
}

func (f phoneFiles) vendorView(rel string) (*disk.View, error) {
	if secret(rel) {
		return nil, fs.ErrPermission
	}
	f.p.Mu.Lock()
	run := f.p.Running
	f.p.Mu.Unlock()
	if run == nil {
		return nil, errNotMounted
	}
	return f.p.Store.Mount(f.p.On("vendor", run.Slot))
}

func (f phoneFiles) vendorStat(rel string) (adb.FileStat, error) {
	w, err := f.vendorView(rel)
	if err != nil {
		return adb.FileStat{}, err
	}
	defer w.Close()
	st, err := w.Stat(rel)
	if err != nil {
		return adb.FileStat{}, err
	}
	return fileStat(st), nil
}

func (f phoneFiles) vendorList(rel string) ([]adb.FileStat, error) {
	w, err := f.vendorView(rel)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	names, err := w.List(rel)
	var list []adb.FileStat
	for _, n := range names {
		if st, serr := w.Stat(path.Join(rel, n)); serr == nil {
			list = append(list, fileStat(st))
		}
	}
	return list, err
}

func (f phoneFiles) vendorOpen(rel string) (io.ReadCloser, error) {
	w, err := f.vendorView(rel)
	if err != nil {
		return nil, err
	}
	file, err := w.Open(rel)
	if err != nil {
		w.Close()
		return nil, errNotMounted
	}
	return mountedFile{file, w}, nil
}

// bytesIn is how many bytes the files in a folder have together; none where there is
// no such folder.
func bytesIn(dir string) (n int64, err error) {
	err = filepath.WalkDir(dir, func(_ string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil || d.IsDir() {
			return err
		}
		st, err := d.Info()
		if err == nil {
			n += st.Size()
		}
		return err
	})
	return n, err
}

// limited refuses what the storage has no room for.
type limited struct {
	f    *os.File
	left int64
}

// Close closes the file.
func (l *limited) Close() error { return l.f.Close() }

// Read gives nothing: it is open for writing.
func (l *limited) Read([]byte) (int, error) { return 0, fs.ErrPermission }

// Write writes as long as there is room.
func (l *limited) Write(p []byte) (int, error) {
	if l.left -= int64(len(p)); l.left < 0 {
		return 0, errors.New("No space left on device")
	}
	return l.f.Write(p)
}

// Create implements adb.Files.
func (f phoneFiles) Create(name string, _ uint32) (io.WriteCloser, func(time.Time) error, error) {
	t := f.tree()
	w, err := t.open(name, true)
	if err != nil {
		return nil, nil, err
	}
	local, _, _ := t.local(name)
	return w, func(at time.Time) error {
		if local == "" {
			return nil
		}
		return os.Chtimes(local, at, at)
	}, nil
}
