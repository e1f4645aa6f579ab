package recovery

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/standin/device"
	"jarlid/internal/standin/disk"
)

// tree is the phone's files as a recovery or a system sees them.
type tree struct {
	p    *Runner
	mode card.Mode
	r    *device.Running
	// What the kernel has, once it was asked for: the files of /proc and /sys, and the block devices.
	kernel  map[string]string
	folders map[string][]string
	blocks  []disk.Block
}

// devices are the block devices; they stay the same for as long as a command runs.
func (t *tree) devices() []disk.Block {
	if t.blocks == nil {
		t.blocks = t.p.Store.Blocks()
	}
	return t.blocks
}

// The folders of this computer with the storages and the memory, beside the partitions.
const (
	cardDir    = "card"
	TmpDir     = "tmp"
	RamdiskDir = "ramdisk"
)

// Where a phone's two storages are seen, by the mode.
var (
	SharedPaths = []string{"/sdcard", "/data/media/0", "/storage/emulated/0"}
	CardPaths   = map[card.Mode][]string{card.Recovery: {"/mnt/card"}, card.System: {"/storage/CARD-0001"}}
)

var errNotMounted = errors.New("No such file or directory")

const mediaRoot = "/media/0" // of the shared storage, within the data

// Dir is where a folder of the phone's files is kept on this computer.
func (p *Runner) Dir(name string) string { return filepath.Join(p.Options.Dir, name) }

// mounts gives what is mounted, in its order.
func (t *tree) mounts() (list []device.Mounted) {
	p := t.p
	if t.mode != card.System {
		p.Mu.Lock()
		defer p.Mu.Unlock()
		return slices.Clone(t.r.Mounts)
	}
	shared := device.Mounted{Type: "fuse", Root: "/", Write: true, Local: p.Dir(disk.SharedDir),
		Size: p.Store.Sizes["userdata"]}
	list = []device.Mounted{{At: "/", Type: "rootfs", Root: "/", Local: p.Dir(RamdiskDir)}}
	for _, name := range []string{"system", "vendor", "product"} {
		if _, has := p.Store.Slots[name]; has {
			list = append(list, device.Mounted{At: "/" + name, Partition: p.On(name, t.r.Slot), Type: "ext4",
				Root: map[string]string{"system": "/system"}[name]})
		}
	}
	for _, at := range SharedPaths[1:] {
		m := shared
		m.At = at
		list = append(list, m)
	}
	list = append(list, device.Mounted{At: tmpPath, Type: "ext4", Root: "/", Write: true,
		Local: p.Dir(TmpDir),
		Size:  64 << 20})
	if p.Spec.Card > 0 {
		list = append(list, device.Mounted{At: CardPaths[card.System][0], Type: "vfat", Root: "/",
			Write: true,
			Local: p.Dir(cardDir), Size: int64(p.Spec.Card)})
	}
	return list
}

// real follows the links: the shared storage's, and the ones from partitions' names to devices.
func (t *tree) real(name string) string {
	name = path.Clean("/" + filepath.ToSlash(strings.TrimPrefix(name, filepath.VolumeName(name))))
	if rest, ok := strings.CutPrefix(name, SharedPaths[0]); ok && (rest == "" || rest[0] == '/') &&
		!slices.ContainsFunc(t.mounts(), func(m device.Mounted) bool { return m.At == SharedPaths[0] }) {
		name = map[bool]string{true: SharedPaths[2], false: SharedPaths[1]}[t.mode == card.System] + rest
	}
	if d, ok := t.deviceAt(name); ok {
		return blockDir + d.Kernel
	}
	return name
}

// place finds the file system that a path is on, and its path there.
func (t *tree) place(name string) (m device.Mounted, rel string) {
	name = t.real(name)
	for _, x := range t.mounts() {
		rest, cut := strings.CutPrefix(name, strings.TrimSuffix(x.At, "/"))
		if cut && (rest == "" || rest[0] == '/') && len(x.At) >= len(m.At) {
			m, rel = x, path.Join("/", x.Root, rest)
		}
	}
	return m, rel
}

// local gives where a file is kept on this computer, the folder of its file system there, and the size of
// that; "" of what is in a partition's image.
func (t *tree) local(name string) (local, root string, size int64) {
	m, rel := t.place(name)
	if m.Partition == "userdata" {
		if rest, ok := strings.CutPrefix(rel, mediaRoot); ok && (rest == "" || rest[0] == '/') {
			root := t.p.Dir(disk.SharedDir)
			return filepath.Join(root, filepath.FromSlash(rest)), root, t.p.Store.Sizes["userdata"]
		}
	}
	if m.Local == "" {
		return "", "", 0
	}
	return filepath.Join(m.Local, filepath.FromSlash(rel)), m.Local, m.Size
}

// view opens the file system of a partition that a file is on.
func (t *tree) view(name string) (w *disk.View, rel string, err error) {
	m, rel := t.place(name)
	if m.Partition == "" {
		return nil, "", &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	if w, err = t.p.Store.Mount(m.Partition); err == nil && !m.Write {
		w.ReadOnly = disk.ErrReadOnly
	}
	if err == nil {
		w.Full = t.p.Faulty("full")
	}
	return w, rel, err
}

// info is the result of a stat.
type info struct {
	name string
	mode fs.FileMode
	size int64
	time time.Time
}

func (i info) Name() string       { return i.name }
func (i info) Size() int64        { return i.size }
func (i info) Mode() fs.FileMode  { return i.mode }
func (i info) ModTime() time.Time { return i.time }
func (i info) IsDir() bool        { return i.mode.IsDir() }
func (i info) Sys() any           { return nil }

// stat describes a file or folder, or a link itself.
func (t *tree) stat(name string, follow bool) (fs.FileInfo, error) {
	clean := path.Clean("/" + filepath.ToSlash(name))
	base := path.Base(clean)
	d, device := t.deviceAt(clean)
	switch {
	case !follow && (clean == SharedPaths[0] && t.real(clean) != clean || device && clean != blockDir+
		d.Kernel):
		return info{name: base, mode: fs.ModeSymlink | 0o777}, nil
	case device:
		return info{name: base, mode: fs.ModeDevice | 0o600}, nil
	case clean == "/dev/null":
		return info{name: base, mode: fs.ModeDevice | fs.ModeCharDevice | 0o666}, nil
	}
	if text, ok := t.text(clean); ok {
		return info{name: base, mode: 0o444, size: int64(len(text))}, nil
	}
	if t.inner(clean) != nil {
		return info{name: base, mode: fs.ModeDir | 0o755}, nil
	}
	if local, root, _ := t.local(clean); local != "" {
		if local == root {
			return info{name: base, mode: fs.ModeDir | 0o770}, os.MkdirAll(root, 0o755)
		}
		st, err := os.Stat(local)
		if err == nil {
			return st, nil
		}
		if b, ok := t.ramdiskFile(clean); ok {
			return info{name: base, mode: 0o644, size: int64(len(b))}, nil
		}
		return nil, &fs.PathError{Op: "stat", Path: name, Err: fs.ErrNotExist}
	}
	if m, rel := t.place(clean); m.Partition == "userdata" && rel == "/media" {
		return info{name: base, mode: fs.ModeDir | 0o770}, nil
	}
	w, rel, err := t.view(clean)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	return w.Stat(rel)
}

// names lists a folder.
func (t *tree) names(name string) (list []string, err error) {
	clean := path.Clean("/" + filepath.ToSlash(name))
	st, err := t.stat(clean, true)
	if err != nil {
		return nil, err
	}
	if !st.IsDir() {
		return nil, errors.New("Not a directory")
	}
	list = t.inner(clean)
	for _, m := range t.mounts() { // the folders that something is mounted on
		if m.At != "/" && path.Dir(m.At) == clean {
			list = append(list, path.Base(m.At))
		}
	}
	m, rel := t.place(clean)
	if local, _, _ := t.local(clean); local != "" {
		entries, _ := os.ReadDir(local)
		for _, e := range entries {
			list = append(list, e.Name())
		}
	} else if m.Partition != "" && (m.Partition != "userdata" || rel != "/media") {
		w, inside, err := t.view(clean)
		if err != nil {
			return nil, err
		}
		defer w.Close()
		more, err := w.List(inside)
		if err != nil {
			return nil, err
		}
		list = append(list, more...)
	}
	if m.Partition == "userdata" && rel == "/" && t.hasShared() {
		list = append(list, "media")
	}
	if m.Partition == "userdata" && rel == "/media" {
		list = append(list, "0")
	}
	sort.Strings(list)
	return slices.Compact(list), nil
}

// hasShared reports whether there is a folder of the shared storage in the data.
func (t *tree) hasShared() bool {
	_, err := os.Stat(t.p.Dir(disk.SharedDir))
	return err == nil
}

// ramdiskFile reads a file of the running recovery out of its image.
func (t *tree) ramdiskFile(name string) ([]byte, bool) {
	if t.r.Files == nil || t.mode == card.System {
		return nil, false
	}
	for _, dir := range []string{"/dev/", "/proc/", "/sys/", "/tmp/"} { // something else is mounted there
		if strings.HasPrefix(name, dir) {
			return nil, false
		}
	}
	return t.r.Files(strings.TrimPrefix(name, "/"))
}

// open opens a file: one that is written is made where it is not there, a missing device's name too.
func (t *tree) open(name string, write bool) (io.ReadWriteCloser, error) {
	clean := path.Clean("/" + filepath.ToSlash(name))
	fail := func(err error) error { return &fs.PathError{Op: "open", Path: name, Err: err} }
	if clean == "/dev/null" {
		return null{}, nil
	}
	if d, ok := t.deviceAt(clean); ok {
		if t.mode == card.System {
			return nil, fail(fs.ErrPermission)
		}
		v, err := t.p.Store.Open(d.Partition)
		if err != nil {
			return nil, fail(fs.ErrNotExist)
		}
		if write && t.p.Quirks().ReadOnly {
			v.Close()
			return nil, fail(fs.ErrPermission)
		}
		return v, nil
	}
	if text, ok := t.text(clean); ok {
		if write {
			return null{}, nil // what is written to a kernel's file does something, or not
		}
		return readOnly{strings.NewReader(text)}, nil
	}
	if local, root, size := t.local(clean); local != "" {
		return t.openLocal(clean, local, root, size, write)
	}
	w, rel, err := t.view(clean)
	if err != nil {
		return nil, err
	}
	if write {
		f, err := w.Create(rel)
		w.Close()
		return f, err
	}
	f, err := w.Open(rel)
	if err != nil {
		w.Close()
		return nil, err
	}
	if st, err := f.Stat(); err == nil && st.IsDir() {
		f.Close()
		w.Close()
		return nil, fail(errors.New("Is a directory"))
	}
	return mountedFile{f, w}, nil
}

func (t *tree) openLocal(name, local, root string, size int64, write bool) (io.ReadWriteCloser, error) {
	fail := func(err error) error { return &fs.PathError{Op: "open", Path: name, Err: err} }
	if !write {
		f, err := os.Open(local)
		if err == nil {
			return f, nil // it is opened for reading: nothing is written to it
		}
		if b, ok := t.ramdiskFile(name); ok {
			return readOnly{strings.NewReader(string(b))}, nil
		}
		return nil, fail(fs.ErrNotExist)
	}
	if m, _ := t.place(name); !m.Write {
		return nil, fail(disk.ErrReadOnly)
	}
	free, err := t.free(root, size)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(local), 0o755); err != nil {
		return nil, err
	}
	f, err := os.Create(local)
	if err != nil {
		return nil, err
	}
	return &limited{f, free}, nil
}

// free gives the free bytes of a storage that is kept in a folder.
func (t *tree) free(root string, size int64) (int64, error) {
	if t.p.Faulty("full") {
		return 0, nil
	}
	taken, err := bytesIn(root)
	return max(size-taken, 0), err
}

// remove takes a file or folder away; of a storage itself, what is on it.
func (t *tree) remove(name string) error {
	if local, root, _ := t.local(name); local != "" {
		if err := os.RemoveAll(local); err != nil || local != root {
			return err
		}
		return os.MkdirAll(root, 0o755)
	}
	w, rel, err := t.view(name)
	if err != nil {
		return err
	}
	defer w.Close()
	return w.Remove(rel)
}

// mkdir makes a folder and those above it.
func (t *tree) mkdir(name string) error {
	if local, _, _ := t.local(name); local != "" {
		return os.MkdirAll(local, 0o755)
	}
	w, rel, err := t.view(name)
	if err != nil {
		return err
	}
	defer w.Close()
	return w.Mkdir(rel)
}

// mountTables are /proc/self/mountinfo and /proc/mounts.
func (t *tree) mountTables() (info, plain string) {
	for i, m := range t.mounts() {
		how := map[bool]string{true: "rw", false: "ro"}[m.Write]
		source, number := m.Type, fmt.Sprintf("0:%d", i+1)
		if m.Partition != "" {
			for _, d := range t.devices() {
				if d.Partition == m.Partition {
					source, number = blockDir+d.Kernel, d.Number
				}
			}
		} else if m.Type == "vfat" {
			source, number = "/dev/block/mmcblk1p1", "179:1"
		}
		root := path.Join("/", m.Root)
		info += fmt.Sprintf("%d 1 %s %s %s %s,relatime - %s %s %s\n", i+2, number, root, m.At, how, m.Type,
			source, how)
		plain += fmt.Sprintf("%s %s %s %s,relatime 0 0\n", source, m.At, m.Type, how)
	}
	return info, plain
}

const (
	blockDir  = "/dev/block/"
	byName    = "/dev/block/by-name/"
	mappedDir = "/dev/block/mapper/"
)

// nameDirs are where recoveries have the partitions by their names, as quirks call them.
var nameDirs = map[string]string{"": byName, "bootdevice": "/dev/block/bootdevice/by-name/",
	"platform": "/dev/block/platform/wickerlight/by-name/", "none": ""}

// nameless reports whether a partition has no name that a recovery shows.
func (p *Runner) nameless(name string) bool {
	return slices.Contains(p.Quirks().Nameless, name) || slices.Contains(p.Quirks().Plain, name)
}

// PlainNames makes the plain files that quirks have in place of devices' names.
func (p *Runner) PlainNames() error {
	dir := filepath.Join(p.Dir(RamdiskDir), filepath.FromSlash(nameDirs[p.Quirks().ByName]))
	for _, name := range p.Quirks().Plain {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(dir, p.Spec.Outside(name)), make([]byte, 4096),
			0o600); err != nil {
			return err
		}
	}
	return nil
}

// dangling reports whether a partition's name leads nowhere.
func (p *Runner) dangling(name string) bool { return slices.Contains(p.Quirks().Dangling, name) }

// deviceAt gives the device that a path is, by one of its names.
func (t *tree) deviceAt(name string) (disk.Block, bool) {
	p := t.p
	if !strings.HasPrefix(name, blockDir) {
		return disk.Block{}, false
	}
	dir, base := path.Split(name)
	named := nameDirs[p.Quirks().ByName]
	for _, d := range t.devices() {
		switch {
		case dir == blockDir && base == d.Kernel, dir == mappedDir && d.Mapped &&
			p.Spec.Inside(base) == d.Partition:
			return d, true
		case dir == named && !d.Mapped && p.Spec.Inside(base) == d.Partition && !p.nameless(d.Partition) &&
			!p.dangling(d.Partition):
			return d, true
		}
	}
	return disk.Block{}, false
}

// text gives a file of the kernel or of the recovery itself.
func (t *tree) text(name string) (string, bool) {
	p := t.p
	switch name {
	case "/sys/class/power_supply/battery/capacity":
		p.Mu.Lock()
		defer p.Mu.Unlock()
		return fmt.Sprintln(p.State.Percent), true
	case "/tmp/recovery.log":
		p.Mu.Lock()
		defer p.Mu.Unlock()
		return strings.Join(append(slices.Clone(t.r.Log), ""), "\n"), t.mode != card.System
	case "/tmp/last_install":
		p.Mu.Lock()
		defer p.Mu.Unlock()
		return t.r.Record, t.mode != card.System && t.r.Record != ""
	case "/proc/mounts", "/proc/self/mountinfo":
		info, plain := t.mountTables()
		return map[bool]string{true: plain, false: info}[name == "/proc/mounts"], true
	case "/proc/self/status":
		uid := map[bool]int{true: 2000, false: 0}[t.mode == card.System]
		return fmt.Sprintf("Name:\tsh\nUid:\t%d\t%d\t%d\t%d\n", uid, uid, uid, uid), !p.Quirks().NoStatus
	case "/proc/sys/vm/drop_caches":
		return "0\n", true
	}
	if !strings.HasPrefix(name, "/sys/class/block/") && name != "/proc/partitions" {
		return "", false
	}
	if t.kernel == nil {
		t.kernel = t.kernelFiles()
	}
	text, ok := t.kernel[name]
	return text, ok && (t.mode != card.System || name == "/proc/partitions")
}

// kernelFiles are the files of /sys/class/block, and /proc/partitions.
func (t *tree) kernelFiles() map[string]string {
	p := t.p
	files := map[string]string{}
	table := "major minor  #blocks  name\n\n"
	for _, d := range t.devices() {
		major, minor, _ := strings.Cut(d.Number, ":")
		table += fmt.Sprintf("%4s %8s %10d %s\n", major, minor, d.Size>>10, d.Kernel)
		if p.Quirks().NoSys {
			continue
		}
		dir := "/sys/class/block/" + d.Kernel + "/"
		files[dir+"dev"] = d.Number + "\n"
		files[dir+"size"] = fmt.Sprintln(d.Size / 512)
		files[dir+"uevent"] = fmt.Sprintf("MAJOR=%s\nMINOR=%s\nDEVNAME=%s\n", major, minor, d.Kernel)
		if d.Mapped {
			files[dir+"dm/name"] = p.Spec.Outside(d.Partition) + "\n"
		} else if !p.nameless(d.Partition) && !p.dangling(d.Partition) {
			files[dir+"uevent"] += "PARTNAME=" + p.Spec.Outside(d.Partition) + "\n"
		}
	}
	files["/proc/partitions"] = table
	return files
}

// inner lists a folder of the kernel's; nil where it is none.
func (t *tree) inner(dir string) (list []string) {
	if t.mode == card.System {
		if dir == "/storage" {
			return []string{"emulated", "self"}
		}
		return nil
	}
	if t.folders == nil {
		t.folders = t.kernelFolders()
	}
	return t.folders[dir]
}

// kernelFolders are the folders of the kernel's files and of the block devices, with the names in them.
func (t *tree) kernelFolders() map[string][]string {
	p := t.p
	t.text("/proc/partitions")
	paths := slices.Collect(maps.Keys(t.kernel))
	named := nameDirs[p.Quirks().ByName]
	for _, d := range t.devices() {
		paths = append(paths, blockDir+d.Kernel)
		switch {
		case d.Mapped:
			paths = append(paths, mappedDir+p.Spec.Outside(d.Partition))
		case named != "" && !p.nameless(d.Partition):
			paths = append(paths, named+p.Spec.Outside(d.Partition))
		}
	}
	folders := map[string][]string{}
	for _, name := range paths {
		for name != "/" {
			dir := path.Dir(name)
			if slices.Contains(folders[dir], path.Base(name)) {
				break
			}
			folders[dir] = append(folders[dir], path.Base(name))
			name = dir
		}
	}
	for _, names := range folders {
		slices.Sort(names)
	}
	return folders
}
