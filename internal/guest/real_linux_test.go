package guest

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"jarlid/internal/core/card"
	"jarlid/internal/link/adb"
)

// parts is where the real parts of recoveries are: shells, tools and their libraries.
var parts = filepath.Join(base, "parts")

// realSeed is what one recovery is put together from.
type realSeed struct {
	shell  string // mksh, busybox
	tools  string // toybox, busybox
	byName string // folder with the partitions' names; "" for none
	data   string // ext4, f2fs
	bind   bool   // /sdcard is a bind mount
	off    bool   // the data is not mounted by itself
	old    bool   // ADB without the newer features: no exit codes, one stream, CR LF
	banner bool
	lacks  []string
	kind   realKind
	rate   int // bytes per second of a slow shell; 0: as fast as it is
}

func seedOf(n int) realSeed {
	r := rand.New(rand.NewPCG(uint64(n), 28))
	pick := func(words ...string) string { return words[r.IntN(len(words))] }
	s := realSeed{shell: pick("mksh", "busybox"), tools: pick("toybox", "busybox"),
		data: pick("ext4", "ext4", "f2fs"),
		byName: pick("/dev/block/by-name", "/dev/block/bootdevice/by-name", "/dev/block/platform/wk/by-name",
			""),
		bind: r.IntN(2) == 0, off: r.IntN(3) == 0, old: r.IntN(3) == 0, banner: r.IntN(2) == 0}
	for _, program := range []string{"blockdev", "sha256sum", "readlink", "df", "head", "grep"} {
		if r.IntN(4) == 0 {
			s.lacks = append(s.lacks, program)
		}
	}
	if r.IntN(5) == 0 {
		s.rate = 500 << 10
	}
	s.kind = realKinds[n%len(realKinds)]
	return s
}

// realRecovery is a recovery that is put together from real parts: a folder that becomes its root, a disk
// with a real partition table, and an ADB service that has the real shell run each command.
type realRecovery struct {
	*testing.T
	seed realSeed
	root string
	disk string            // the file with its partitions
	loop string            // loop0
	at   string            // where it listens
	part map[string]string // the kernel's name of each partition's device

	mu       sync.Mutex
	packages bool // it is in sideload mode
	open     []io.Closer
}

// programsOf are those a box of tools is linked for.
var programsOf = []string{"cat", "dd", "df", "grep", "head", "id", "ls", "mkdir", "mv", "readlink", "rm",
	"sha256sum",
	"sync",
	"uname", "umount", "mount", "blockdev", "printf", "true"}

func newReal(t *testing.T, seed realSeed) *realRecovery {
	t.Helper()
	r := &realRecovery{T: t, seed: seed, root: filepath.Join(t.TempDir(), "root"), part: map[string]string{}}
	if os.Getenv(onHost) != "" { // whose kernel may have no device mapper
		_, err := os.Stat("/dev/mapper/control")
		r.seed.kind.logical = r.seed.kind.logical && err == nil
	}
	r.makeDisk()
	r.makeRoot()
	r.mountAll()
	r.serve()
	return r
}

func (r *realRecovery) must(what string, err error) {
	r.Helper()
	if err != nil {
		r.Fatalf("%s: %v", what, err)
	}
}

// tool runs one of the real parts.
func (r *realRecovery) tool(name string, args ...string) string {
	r.Helper()
	cmd := exec.Command(filepath.Join(parts, "bin", name), args...)
	cmd.Env = []string{"PATH=" + parts + "/bin", "LD_LIBRARY_PATH=" + parts + "/lib"}
	out, err := cmd.CombinedOutput()
	if err != nil {
		r.Fatalf("%s %s: %v\n%s", name, strings.Join(args, " "), err, out)
	}
	return string(out)
}

// makeDisk makes the disk, its partition table and what is on it.
func (r *realRecovery) makeDisk() {
	r.disk = filepath.Join(r.TempDir(), "disk")
	f, err := os.Create(r.disk)
	r.must("os.Create(disk)", err)
	r.must("Truncate(disk)", f.Truncate(104<<20))
	r.must("Close(disk)", f.Close())
	args := []string{}
	table := r.seed.kind.partitions()
	for i, p := range table {
		args = append(args, "-n", fmt.Sprintf("%d:0:+%dM", i+1, p.mib), "-c",
			fmt.Sprintf("%d:%s", i+1, p.name))
	}
	r.tool("sgdisk", append(args, r.disk)...)
	r.attach()
	r.named(table)
	for name := range r.part {
		if strings.HasPrefix(name, "system") || name == "cache" {
			r.tool("mke2fs", "-F", "-q", "-t", "ext4", r.device(name))
		}
		stock := filepath.Join(base, "files", "stock-"+r.seed.kind.device+"-"+card.Part(name).Base+".img")
		if b, err := os.ReadFile(stock); err == nil {
			r.must("write "+name, os.WriteFile(r.device(name), b, 0))
		}
	}
	r.seen(r.device(r.seed.kind.on("system")), "ext4", func(at string) {
		r.must("os.MkdirAll(etc)", errors.Join(os.MkdirAll(filepath.Join(at, "system", "etc"), 0o755),
			os.MkdirAll(filepath.Join(at, "system", "bin"), 0o755)))
		for name, text := range map[string]string{"system/build.prop": "ro.build.version.release=13\n",
			"system/bin/install-recovery.sh": "#!/system/bin/sh\napplypatch --source EMMC:boot " +
				"--target EMMC:recovery --patch /system/recovery-from-boot.p\n",
			"system/etc/about.txt": "what can be moved aside\n"} {
			r.must("os.WriteFile("+name+")", os.WriteFile(filepath.Join(at, name), []byte(text), 0o644))
		}
	})
	if r.seed.data == "f2fs" {
		r.tool("mkfs.f2fs", "-q", "-f", r.device("userdata"))
	} else {
		r.tool("mke2fs", "-F", "-q", "-t", "ext4", r.device("userdata"))
	}
}

// attach makes a loop device of the disk, with its partitions (loop(4)).
func (r *realRecovery) attach() {
	ctl, err := os.OpenFile("/dev/loop-control", os.O_RDWR, 0)
	r.must("os.OpenFile(/dev/loop-control)", err)
	defer ctl.Close()
	n, err := unix.IoctlRetInt(int(ctl.Fd()), unix.LOOP_CTL_GET_FREE)
	r.must("LOOP_CTL_GET_FREE", err)
	r.loop = fmt.Sprintf("loop%d", n)
	dev := "/dev/" + r.loop
	if _, err := os.Stat(dev); err != nil {
		r.must("Mknod(loop)", unix.Mknod(dev, unix.S_IFBLK|0o600, int(unix.Mkdev(7, uint32(n)))))
	}
	f, err := os.OpenFile(r.disk, os.O_RDWR, 0)
	r.must("os.OpenFile(disk)", err)
	defer f.Close()
	l, err := os.OpenFile(dev, os.O_RDWR, 0)
	r.must("os.OpenFile(loop)", err)
	r.must("LOOP_SET_FD", unix.IoctlSetInt(int(l.Fd()), unix.LOOP_SET_FD, int(f.Fd())))
	r.must("LOOP_SET_STATUS64", unix.IoctlLoopSetStatus64(int(l.Fd()),
		&unix.LoopInfo64{Flags: unix.LO_FLAGS_PARTSCAN}))
	r.Cleanup(func() {
		_ = unix.IoctlSetInt(int(l.Fd()), unix.LOOP_CLR_FD, 0)
		l.Close()
	})
	if partx, err := exec.LookPath("partx"); err == nil {
		// on a kernel that does not read such a table itself
		_ = exec.Command(partx, "-a", dev).Run()
		r.seed.byName, r.seed.data = cmp.Or(r.seed.byName, "/dev/block/by-name"), "ext4"
	}
}

// named waits until the kernel shows the partitions, and has their devices' names; those in super are mapped.
func (r *realRecovery) named(table []realPartition) {
	for i, p := range table {
		r.part[p.name] = fmt.Sprintf("%sp%d", r.loop, i+1)
	}
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		if _, err := os.Stat(r.sys("userdata")); err == nil {
			break
		}
		if time.Now().After(end) {
			if os.Getenv(onHost) != "" {
				r.Skip("this computer's kernel shows no partitions of a loop device")
			}
			r.Fatal("the kernel shows no partitions of the disk")
		}
	}
	if r.seed.kind.logical {
		r.mapSuper()
	}
	for name := range r.part {
		if _, err := os.Stat(r.device(name)); err == nil {
			continue
		}
		r.must("Mknod("+name+")", r.node(r.device(name), name))
	}
}

func (r *realRecovery) kernel(name string) string { return r.part[name] }
func (r *realRecovery) device(name string) string { return "/dev/" + r.kernel(name) }
func (r *realRecovery) sys(name string) string    { return "/sys/class/block/" + r.kernel(name) }

// node makes a block device's node by what the kernel says of its number.
func (r *realRecovery) node(path, name string) error {
	b, err := os.ReadFile(r.sys(name) + "/dev")
	if err != nil {
		return err
	}
	var major, minor uint32
	if _, err := fmt.Sscanf(string(b), "%d:%d", &major, &minor); err != nil {
		return err
	}
	return unix.Mknod(path, unix.S_IFBLK|0o600, int(unix.Mkdev(major, minor)))
}

// makeRoot makes the recovery's root folder.
func (r *realRecovery) makeRoot() {
	for _, dir := range []string{"bin", "lib", "lib64", "dev/block", "proc", "sys", "tmp", "data", "cache",
		"system/etc",
		"etc"} {
		r.must("os.MkdirAll("+dir+")", os.MkdirAll(filepath.Join(r.root, dir), 0o755))
	}
	r.must("mount root", unix.Mount("tmpfs", r.root, "tmpfs", 0, "size=64m"))
	r.Cleanup(r.unmountAll)
	for _, dir := range []string{"bin", "lib", "dev/block", "proc", "sys", "tmp", "data", "cache",
		"system/etc", "etc"} {
		r.must("os.MkdirAll("+dir+")", os.MkdirAll(filepath.Join(r.root, dir), 0o755))
	}
	r.must("copy the parts", copyTree(parts, r.root))
	has := strings.Fields(r.tool(r.seed.tools, map[string][]string{"busybox": {"--list"}}[r.seed.tools]...))
	for _, p := range programsOf {
		box := r.seed.tools
		if !slices.Contains(has, p) {
			box = "busybox" // Debian's toybox has fewer programs than recoveries' ones
		}
		r.link(box, p)
	}
	shell := r.seed.shell
	if shell == "busybox" { // which calls its own programs whatever is in the path
		r.must("os.Symlink(sh)", os.Symlink("busybox", filepath.Join(r.root, "bin/sh")))
	} else {
		r.must("os.Symlink(sh)", os.Symlink(shell, filepath.Join(r.root, "bin/sh")))
	}
	for _, p := range r.seed.lacks {
		r.must("os.Remove("+p+")", os.Remove(filepath.Join(r.root, "bin", p)))
	}
	props := "[ro.product.device]: [" + r.seed.kind.device +
		"]\n[ro.serialno]: [WL-REAL]\n[ro.build.display.id]: [A recovery " +
		"of real parts]\n" +
		"[ro.product.cpu.abi]: [armeabi-v7a]\n[ro.boot.verifiedbootstate]: [orange]\n"
	if r.seed.kind.slots {
		props += "[ro.boot.slot_suffix]: [_a]\n"
	}
	script := "#!/bin/sh\nif [ $# = 0 ]; then cat /etc/props; else\nwhile read -r l; do case \"$l\" in " +
		"\"[$1]: \"*) l=${l#*: [}; " +
		"echo \"${l%]}\";; esac; done </etc/props; fi\n"
	fstab := "/dev/block/by-name/userdata /data " + r.seed.data +
		" noatime wait\n/dev/block/by-name/cache /cache ext4 noatime wait\n" +
		"/dev/block/by-name/system /system ext4 ro wait\n"
	for name, text := range map[string]string{
		"etc/props":          props,
		"bin/getprop":        script,
		"etc/recovery.fstab": fstab,
	} {
		r.must("os.WriteFile("+name+")", os.WriteFile(filepath.Join(r.root, name), []byte(text), 0o755))
	}
	r.must("Mknod(null)", unix.Mknod(filepath.Join(r.root, "dev/null"), unix.S_IFCHR|0o666,
		int(unix.Mkdev(1, 3))))
	dir := filepath.Join(r.root, r.seed.byName)
	r.must("os.MkdirAll(by-name)", os.MkdirAll(dir, 0o755))
	for name := range r.part {
		node := "/dev/block/" + r.kernel(name)
		r.must("node of "+name, r.node(filepath.Join(r.root, node), name))
		at := dir
		if strings.HasPrefix(r.kernel(name), "dm-") {
			at = filepath.Join(r.root, "dev/block/mapper")
			r.must("os.MkdirAll(mapper)", os.MkdirAll(at, 0o755))
		}
		if r.seed.byName != "" {
			r.must("os.Symlink("+name+")", os.Symlink(node, filepath.Join(at, name)))
		}
	}
	r.must("mount proc", unix.Mount("proc", filepath.Join(r.root, "proc"), "proc", 0, ""))
	r.must("mount sys", unix.Mount("sysfs", filepath.Join(r.root, "sys"), "sysfs", unix.MS_RDONLY, ""))
	r.must("mount tmp", unix.Mount("tmpfs", filepath.Join(r.root, "tmp"), "tmpfs", 0, ""))
}

func (r *realRecovery) link(box, name string) {
	r.must("os.Symlink("+name+")", os.Symlink(box, filepath.Join(r.root, "bin", name)))
}

// mountAll mounts what the recovery mounts by itself.
func (r *realRecovery) mountAll() {
	if r.part["cache"] != "" {
		r.must("mount cache", unix.Mount(r.device("cache"), filepath.Join(r.root, "cache"), "ext4", 0, ""))
	}
	if r.seed.off {
		if !r.seed.bind {
			r.must("os.Symlink(sdcard)", os.Symlink("/data/media/0", filepath.Join(r.root, "sdcard")))
		}
		return
	}
	data := filepath.Join(r.root, "data")
	r.must("mount data", unix.Mount(r.device("userdata"), data, r.seed.data, 0, ""))
	r.must("os.MkdirAll(media)", os.MkdirAll(data+"/media/0", 0o770))
	if !r.seed.bind {
		r.must("os.Symlink(sdcard)", os.Symlink("/data/media/0", filepath.Join(r.root, "sdcard")))
		return
	}
	r.must("os.MkdirAll(sdcard)", os.MkdirAll(filepath.Join(r.root, "sdcard"), 0o755))
	r.must("bind sdcard", unix.Mount(data+"/media/0", filepath.Join(r.root, "sdcard"), "", unix.MS_BIND, ""))
}

// unmountAll unmounts all that is below the root, the last first.
func (r *realRecovery) unmountAll() {
	for range 20 {
		b, _ := os.ReadFile("/proc/self/mounts")
		last := ""
		for line := range strings.Lines(string(b)) {
			if f := strings.Fields(line); len(f) > 1 && strings.HasPrefix(f[1], r.root) {
				last = f[1]
			}
		}
		if last == "" {
			return
		}
		_ = unix.Unmount(last, unix.MNT_DETACH)
	}
}

// serve is the ADB service.
func (r *realRecovery) serve() {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	r.must("net.Listen", err)
	r.at = "adb:" + l.Addr().String()
	ctx, cancel := context.WithCancel(context.Background())
	r.Cleanup(func() { cancel(); l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go r.greet(ctx, c)
		}
	}()
}

// shell has the real shell run a command.
func (r *realRecovery) shell(ctx context.Context, line string, s *adb.Stream, split bool) {
	cmd := exec.CommandContext(ctx, "/bin/sh", "-c", line)
	cmd.Env = []string{"PATH=/bin", "LD_LIBRARY_PATH=/lib", "HOME=/"}
	cmd.Dir, cmd.SysProcAttr = "/", &syscall.SysProcAttr{Chroot: r.root}
	out := &printed{r: r, s: s}
	if split {
		out.id = 1
		cmd.Stderr = &printed{r: r, s: s, id: 2}
	} else {
		out.terminal = true
		cmd.Stderr = out
	}
	cmd.Stdout = out
	if r.seed.banner {
		fmt.Fprintln(out, "Welcome to a recovery of real parts")
		fmt.Fprintln(cmd.Stderr, "WARNING: linker: /bin/sh: unused DT entry: type 0x1d arg 0x1")
	}
	_ = cmd.Run()
	if split && cmd.ProcessState != nil {
		_ = adb.ShellPacket(s, 3, []byte{byte(cmd.ProcessState.ExitCode())})
	}
}

// printed writes what a command prints, as the protocol has it.
type printed struct {
	r        *realRecovery
	s        io.Writer
	id       byte
	terminal bool // CR LF for every LF, as older services have it
}

var oneAtATime sync.Mutex

func (p *printed) Write(b []byte) (int, error) {
	oneAtATime.Lock()
	defer oneAtATime.Unlock()
	if p.r.seed.rate > 0 {
		time.Sleep(time.Duration(len(b)) * time.Second / time.Duration(p.r.seed.rate))
	}
	out := b
	if p.terminal {
		out = bytes.ReplaceAll(b, []byte("\n"), []byte("\r\n"))
	}
	if p.id == 0 {
		_, err := p.s.Write(out)
		return len(b), err
	}
	for at := 0; at < len(out); at += 32 << 10 {
		if err := adb.ShellPacket(p.s, p.id, out[at:min(at+32<<10, len(out))]); err != nil {
			return 0, err
		}
	}
	return len(b), nil
}

// realFiles is the file service over the recovery's root folder: links lead within it (openat2(2)).
type realFiles struct{ r *realRecovery }

func (f *realFiles) open(name string, flags uint64, mode uint64) (*os.File, error) {
	root, err := unix.Open(f.r.root, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	defer unix.Close(root)
	fd, err := unix.Openat2(root, name, &unix.OpenHow{Flags: flags | unix.O_CLOEXEC, Mode: mode,
		Resolve: unix.RESOLVE_IN_ROOT})
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	return os.NewFile(uintptr(fd), name), nil
}

// Stat implements adb.Files.
func (f *realFiles) Stat(name string) (adb.FileStat, error) {
	h, err := f.open(name, unix.O_PATH, 0)
	if err != nil {
		return adb.FileStat{}, err
	}
	defer h.Close()
	var st unix.Stat_t
	if err := unix.Fstat(int(h.Fd()), &st); err != nil {
		return adb.FileStat{}, err
	}
	return adb.FileStat{Name: filepath.Base(name), Mode: st.Mode, Size: st.Size,
		MTime: time.Unix(st.Mtim.Sec, 0)}, nil
}

// List implements adb.Files.
func (f *realFiles) List(name string) (list []adb.FileStat, err error) {
	h, err := f.open(name, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	names, err := h.Readdirnames(-1)
	for _, n := range names {
		var st unix.Stat_t
		if err := unix.Fstatat(int(h.Fd()), n, &st, unix.AT_SYMLINK_NOFOLLOW); err == nil {
			list = append(list, adb.FileStat{Name: n, Mode: st.Mode, Size: st.Size,
				MTime: time.Unix(st.Mtim.Sec, 0)})
		}
	}
	return list, err
}

// Open implements adb.Files.
func (f *realFiles) Open(name string) (io.ReadCloser, error) { return f.open(name, unix.O_RDONLY, 0) }

// Create implements adb.Files; the folders above are made, as the service does.
func (f *realFiles) Create(name string, mode uint32) (io.WriteCloser, func(time.Time) error, error) {
	cmd := exec.Command("/bin/sh", "-c", "mkdir -p \"$1\"", "sh", filepath.Dir(name))
	cmd.Env, cmd.SysProcAttr = []string{"PATH=/bin", "LD_LIBRARY_PATH=/lib"},
		&syscall.SysProcAttr{Chroot: f.r.root}
	cmd.Dir = "/"
	_ = cmd.Run() // the open tells
	h, err := f.open(name, unix.O_WRONLY|unix.O_CREAT|unix.O_TRUNC, uint64(mode&0o777))
	if err != nil {
		return nil, nil, err
	}
	return h, func(t time.Time) error {
		h, err := f.open(name, unix.O_RDONLY, 0)
		if err != nil {
			return err
		}
		defer h.Close()
		tv := unix.NsecToTimeval(t.UnixNano())
		return unix.Futimes(int(h.Fd()), []unix.Timeval{tv, tv})
	}, nil
}

// copyTree copies files with their modes.
func copyTree(from, to string) error {
	return filepath.WalkDir(from, func(p string, d fs.DirEntry, err error) error {
		rel, rerr := filepath.Rel(from, p)
		at := filepath.Join(to, rel)
		switch {
		case err != nil || rerr != nil:
			return errors.Join(err, rerr)
		case d.IsDir():
			return os.MkdirAll(at, 0o755)
		}
		b, err := os.ReadFile(p)
		if err == nil {
			err = os.WriteFile(at, b, 0o755)
		}
		return err
	})
}

// seen mounts a device at another place than the recovery does, for a while.
func (r *realRecovery) seen(device, fs string, do func(at string)) {
	r.Helper()
	at := filepath.Join(r.TempDir(), "seen")
	r.must("os.MkdirAll(seen)", os.MkdirAll(at, 0o755))
	r.must("mount seen", unix.Mount(device, at, fs, 0, ""))
	do(at)
	r.must("unmount seen", unix.Unmount(at, 0))
}

// held reads what a partition holds, from outside: through the file with the disk.
func (r *realRecovery) held(name string) []byte {
	unix.Sync()
	f, err := os.Open(r.disk)
	r.must("os.Open(disk)", err)
	defer f.Close()
	var start, size int64
	for file, n := range map[string]*int64{"start": &start, "size": &size} {
		text, err := os.ReadFile(filepath.Join(r.sys(name), file))
		r.must("os.ReadFile("+file+")", err)
		_, err = fmt.Sscan(string(text), n)
		r.must("Sscan("+file+")", err)
	}
	b := make([]byte, size*512)
	_, err = f.ReadAt(b, start*512)
	r.must("ReadAt(disk)", err)
	return b
}
