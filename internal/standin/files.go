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
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/link/adb"
	"jarlid/internal/standin/disk"
)

// Where a phone's two storages are seen, by the mode.
var (
	sharedPaths = []string{"/sdcard", "/data/media/0", "/storage/emulated/0"}
	cardPaths   = map[card.Mode][]string{card.Recovery: {"/mnt/card"}, card.System: {"/storage/CARD-0001"}}
)

// phoneFiles is what the sync service and the shell see of the storages.
type phoneFiles struct {
	p    *Phone
	mode card.Mode
}

var errNotMounted = errors.New("No such file or directory")

// place gives where a file of the phone is on the computer, and the size of
// the storage it is on.
func (f phoneFiles) place(name string) (local, root string, size int64, err error) {
	name = path.Clean("/" + name)
	find := func(mounts []string, dir string, size int64) (string, string, int64, error) {
		for _, m := range mounts {
			if rest, ok := strings.CutPrefix(name, m); ok && (rest == "" || rest[0] == '/') {
				root := filepath.Join(f.p.o.Dir, dir)
				return filepath.Join(root, filepath.FromSlash(rest)), root, size, os.MkdirAll(root, 0o755)
			}
		}
		return "", "", 0, errNotMounted
	}
	if f.p.spec.Card > 0 {
		if l, r, n, err := find(cardPaths[f.mode], cardDir, int64(f.p.spec.Card)); err == nil {
			return l, r, n, nil
		}
	}
	memory := map[card.Mode]string{card.System: tmpPath, card.Recovery: "/tmp"}[f.mode]
	if l, r, n, err := find([]string{memory}, tmpDir, 64<<20); err == nil {
		return l, r, n, nil
	}
	// What the old system encrypted a recovery can't open.
	if f.mode == card.Recovery && f.p.dataState() == "encrypted" {
		return "", "", 0, errNotMounted
	}
	return find(sharedPaths, disk.SharedDir, f.p.store.Sizes["userdata"])
}

// The folders of the storages, beside the partitions.
const (
	cardDir = "card"
	tmpDir  = "tmp"
)

// Stat implements adb.Files.
func (f phoneFiles) Stat(name string) (adb.FileStat, error) {
	if part, ok := f.p.device(name); ok && f.mode == card.Recovery {
		v, err := openDevice(f.p, name)
		if err != nil {
			return adb.FileStat{}, err
		}
		defer v.Close()
		return adb.FileStat{Name: part, Mode: 0o060600, MTime: time.Unix(0, 0)}, nil // a block device
	}
	if rel, ok := f.vendor(name); ok {
		return f.vendorStat(rel)
	}
	local, _, _, err := f.place(name)
	if err != nil {
		return adb.FileStat{}, err
	}
	st, err := os.Stat(local)
	if err != nil {
		return adb.FileStat{}, err
	}
	return fileStat(st), nil
}

func fileStat(st fs.FileInfo) adb.FileStat {
	mode := uint32(0o100660)
	if st.IsDir() {
		mode = 0o040770
	}
	return adb.FileStat{Name: st.Name(), Mode: mode, Size: st.Size(), MTime: st.ModTime()}
}

// List implements adb.Files.
func (f phoneFiles) List(name string) ([]adb.FileStat, error) {
	if rel, ok := f.vendor(name); ok {
		return f.vendorList(rel)
	}
	local, _, _, err := f.place(name)
	if err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(local)
	if err != nil {
		return nil, err
	}
	var list []adb.FileStat
	for _, e := range entries {
		if st, err := e.Info(); err == nil {
			list = append(list, fileStat(st))
		}
	}
	if i := slices.IndexFunc(list, func(s adb.FileStat) bool {
		return !s.IsDir()
	}); i >= 0 && f.p.faulty("listed-twice") {
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
	_, _, _, err := f.place(name)
	stored := err == nil
	if stored && f.p.faulty("file-refused") {
		return nil, errors.New("open failed: Permission denied")
	}
	r, err := f.open(name)
	if err == nil && stored && f.p.faulty("file-short") {
		return ends{io.LimitReader(r, 6), r}, nil
	}
	return r, err
}

func (f phoneFiles) open(name string) (io.ReadCloser, error) {
	if f.p.isDevice(name) && f.mode == card.Recovery {
		return openDevice(f.p, name)
	}
	if rel, ok := f.vendor(name); ok {
		return f.vendorOpen(rel)
	}
	if name == "/proc/config.gz" && f.mode == card.System {
		return f.p.kernelConfig()
	}
	local, _, _, err := f.place(name)
	if err != nil {
		return nil, err
	}
	return os.Open(local)
}

// vendor reports whether a file is on the vendor partition of a running system, which
// anybody may read but for its properties and its policy.
func (f phoneFiles) vendor(name string) (rel string, ok bool) {
	rel, ok = strings.CutPrefix(path.Clean("/"+name), "/vendor")
	_, has := f.p.store.Slots["vendor"]
	return disk.Clean(rel), ok && has && f.mode == card.System && (rel == "" || rel[0] == '/')
}

func secret(rel string) bool {
	return rel == "build.prop" || rel == "etc/selinux" || strings.HasPrefix(rel, "etc/selinux/")
}

func (f phoneFiles) vendorView(rel string) (*disk.View, error) {
	if secret(rel) {
		return nil, fs.ErrPermission
	}
	f.p.mu.Lock()
	run := f.p.run
	f.p.mu.Unlock()
	if run == nil {
		return nil, errNotMounted
	}
	return f.p.store.Mount(f.p.on("vendor", run.slot))
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

// free gives the size and the free bytes of the storage a file is on.
func (f phoneFiles) free(name string) (size, free int64, err error) {
	_, root, size, err := f.place(name)
	if err != nil || f.p.faulty("full") {
		return size, 0, err
	}
	taken, err := bytesIn(root)
	return size, max(size-taken, 0), err
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

// Write writes as long as there is room.
func (l *limited) Write(p []byte) (int, error) {
	if l.left -= int64(len(p)); l.left < 0 {
		return 0, errors.New("No space left on device")
	}
	return l.f.Write(p)
}

// Create implements adb.Files.
func (f phoneFiles) Create(name string, _ uint32) (io.WriteCloser, func(time.Time) error, error) {
	local, _, _, err := f.place(name)
	if err != nil {
		return nil, nil, err
	}
	_, free, err := f.free(name)
	if err != nil {
		return nil, nil, err
	}
	if err := os.MkdirAll(filepath.Dir(local), 0o755); err != nil {
		return nil, nil, err
	}
	w, err := os.Create(local)
	if err != nil {
		return nil, nil, err
	}
	return &limited{w, free}, func(t time.Time) error { return os.Chtimes(local, t, t) }, nil
}

// Remove takes a file or folder away; of a storage itself, what is on it.
func (f phoneFiles) Remove(name string) error {
	local, root, _, err := f.place(name)
	if err != nil {
		return err
	}
	if err := os.RemoveAll(local); err != nil || local != root {
		return err
	}
	return os.MkdirAll(root, 0o755)
}

// newestPackage gives the package that was put to a storage last.
func (p *Phone) newestPackage(mount string) (string, error) {
	f := phoneFiles{p, card.Recovery}
	list, err := f.List(mount)
	if err != nil {
		return "", fmt.Errorf("that storage is not there")
	}
	best := adb.FileStat{}
	for _, e := range list {
		if strings.HasSuffix(strings.ToLower(e.Name), ".zip") &&
			(best.Name == "" || e.MTime.After(best.MTime)) {
			best = e
		}
	}
	if best.Name == "" {
		return "", fmt.Errorf("there is no package on it")
	}
	local, _, _, err := f.place(path.Join(mount, best.Name))
	return local, err
}
