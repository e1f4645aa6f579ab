package standin

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image/ext4"
	"jarlid/internal/link/adb"
	"jarlid/internal/standin/disk"
)

// shellService runs a command in the phone's shell: root in a recovery that
// gives one, an ordinary user in the system. Nothing of the computer can be
// reached from it: commands, files and the environment are the handlers' here.
func (p *Phone) shellService(ctx context.Context, mode card.Mode, command string, s *adb.Stream, v2 bool) {
	p.mu.Lock()
	r := p.run
	p.mu.Unlock()
	var stdout, stderr io.Writer = s, s
	if v2 {
		stdout, stderr = shellWriter{s, 1}, shellWriter{s, 2}
	}
	sh := &shell{p: p, r: r, root: mode == card.Recovery}
	code := sh.run(ctx, command, stdout, stderr)
	if v2 {
		_ = adb.ShellPacket(s, 3, []byte{byte(code)})
	}
}

type shellWriter struct {
	w  io.Writer
	id byte
}

func (w shellWriter) Write(b []byte) (int, error) {
	const most = 64 << 10
	for at := 0; at < len(b); at += most {
		if err := adb.ShellPacket(w.w, w.id, b[at:min(at+most, len(b))]); err != nil {
			return at, err
		}
	}
	return len(b), nil
}

type shell struct {
	p    *Phone
	r    *running
	root bool
}

func (sh *shell) run(ctx context.Context, command string, stdout, stderr io.Writer) int {
	prog, err := syntax.NewParser(syntax.Variant(syntax.LangMirBSDKorn)).Parse(strings.NewReader(command), "")
	if err != nil {
		fmt.Fprintln(stderr, "sh:", err)
		return 2
	}
	run, err := interp.New(
		interp.StdIO(nil, stdout, stderr),
		interp.Env(expand.ListEnviron("PATH=/system/bin", "HOME=/", "PWD=/")),
		interp.Dir(rootDir), // never read or written: every file handler is replaced
		interp.OpenHandler(sh.open),
		interp.StatHandler(func(_ context.Context, name string, _ bool) (fs.FileInfo, error) {
			return sh.stat(name)
		}),
		interp.ReadDirHandler2(func(_ context.Context, name string) ([]fs.DirEntry, error) {
			return sh.readDir(name)
		}),
		interp.CallHandler(func(_ context.Context, args []string) ([]string, error) { return args, nil }),
		interp.ExecHandlers(func(interp.ExecHandlerFunc) interp.ExecHandlerFunc { return sh.exec }),
	)
	if err != nil {
		fmt.Fprintln(stderr, "sh:", err)
		return 2
	}
	err = run.Run(ctx, prog)
	var status interp.ExitStatus
	switch {
	case errors.As(err, &status):
		return int(status)
	case err != nil:
		return 1
	}
	return 0
}

const byName = "/dev/block/by-name/"

// open gives the files the shell's redirections and commands see: partitions,
// the recovery's log, the null device.
func (sh *shell) open(_ context.Context, name string, flag int, _ fs.FileMode) (io.ReadWriteCloser, error) {
	name = sh.path(name)
	writes := flag&(os.O_WRONLY|os.O_RDWR) != 0
	switch {
	case name == "/dev/null":
		return null{}, nil
	case name == "/sys/class/power_supply/battery/capacity" && !writes:
		sh.p.mu.Lock()
		defer sh.p.mu.Unlock()
		return readOnly{strings.NewReader(fmt.Sprintln(sh.p.st.Percent))}, nil
	case name == "/tmp/recovery.log" && sh.root && !writes:
		sh.p.mu.Lock()
		defer sh.p.mu.Unlock()
		return readOnly{strings.NewReader(strings.Join(append(slices.Clone(sh.r.log), ""), "\n"))}, nil
	case name == "/tmp/last_install" && sh.root && !writes && sh.r.record != "":
		return readOnly{strings.NewReader(sh.r.record)}, nil
	case sh.p.isDevice(name):
		if !sh.root {
			return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrPermission}
		}
		v, err := openDevice(sh.p, name)
		if err != nil {
			return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
		}
		return v, nil
	case name == "/proc/mounts" && !writes:
		return readOnly{strings.NewReader(sh.mountTable())}, nil
	}
	if local, ok := sh.storage(name); ok && !writes {
		f, err := os.Open(local)
		if err != nil {
			return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
		}
		return f, nil // opened for reading: nothing is written to it
	}
	if _, _, ok := sh.at(name); ok {
		return sh.openMounted(name, writes)
	}
	if !writes && sh.r.vault == nil {
		if b, ok := sh.ramdiskFile(name); ok {
			return readOnly{strings.NewReader(string(b))}, nil
		}
	}
	return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
}

// openMounted opens a file on a mounted file system.
func (sh *shell) openMounted(name string, writes bool) (io.ReadWriteCloser, error) {
	w, rel, err := sh.within(name)
	if err != nil {
		return nil, err
	}
	if writes {
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
		return nil, &fs.PathError{Op: "open", Path: name, Err: errors.New("Is a directory")}
	}
	return mountedFile{f, w}, nil
}

// mountedFile is open for reading, its file system as long.
type mountedFile struct {
	fs.File
	w *disk.View
}

func (mountedFile) Write([]byte) (int, error) { return 0, fs.ErrPermission }

func (f mountedFile) Close() error {
	err := f.File.Close()
	f.w.Close()
	return err
}

// ramdiskFile reads a file of the running recovery out of its own image.
func (sh *shell) ramdiskFile(name string) ([]byte, bool) {
	if sh.r.files == nil {
		return nil, false
	}
	return sh.r.files(strings.TrimPrefix(name, "/"))
}

// rootDir is the shell's working folder, which has to exist on the computer.
var rootDir = filepath.VolumeName(os.TempDir()) + string(filepath.Separator)

// path gives a file's path on the phone.
func (sh *shell) path(name string) string {
	name = filepath.ToSlash(strings.TrimPrefix(name, filepath.VolumeName(name)))
	return path.Clean("/" + name)
}

func (sh *shell) stat(name string) (fs.FileInfo, error) {
	name = sh.path(name)
	if local, ok := sh.storage(name); ok {
		return os.Stat(local)
	}
	if _, _, ok := sh.at(name); ok {
		w, rel, err := sh.within(name)
		if err != nil {
			return nil, err
		}
		defer w.Close()
		return w.Stat(rel)
	}
	f, err := sh.open(context.Background(), name, os.O_RDONLY, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if v, ok := f.(*disk.Volume); ok {
		return v.Stat()
	}
	return os.Stat(os.DevNull)
}

type null struct{}

func (null) Read([]byte) (int, error)    { return 0, io.EOF }
func (null) Write(p []byte) (int, error) { return len(p), nil }
func (null) Close() error                { return nil }

type readOnly struct{ io.Reader }

func (readOnly) Write([]byte) (int, error) { return 0, fs.ErrPermission }
func (readOnly) Close() error              { return nil }

// exec runs the programs there are.
func (sh *shell) exec(ctx context.Context, args []string) error {
	io := interp.HandlerCtx(ctx)
	programs := map[string]func(context.Context, interp.HandlerContext, []string) error{
		"getprop": sh.getprop, "id": sh.id, "cat": sh.cat, "dd": sh.dd, "sync": sh.sync, "umount": sh.umount,
		"bootctl":      sh.bootctl,
		"mke2fs":       sh.mke2fs,
		"ls":           sh.ls,
		"sha256sum":    sh.sha256sum,
		"df":           sh.df,
		"rm":           sh.rm,
		"mount":        sh.mount,
		"mkdir":        sh.mkdir,
		"mv":           sh.mv,
		"dumpsys":      sh.dumpsys,
		"locksettings": sh.locksettings,
		"pm":           sh.pm,
		"readlink":     sh.readlink, "blockdev": sh.blockdev, "uname": sh.uname,
	}
	f, ok := programs[args[0]]
	if !ok || slices.Contains(sh.r.traits.Lacks, args[0]) {
		fmt.Fprintf(io.Stderr, "%s: inaccessible or not found\n", args[0])
		return interp.ExitStatus(127)
	}
	if err := f(ctx, io, args[1:]); err != nil {
		var status interp.ExitStatus
		if errors.As(err, &status) {
			return err
		}
		fmt.Fprintf(io.Stderr, "%s: %v\n", args[0], err)
		return interp.ExitStatus(1)
	}
	return nil
}

// sync has nothing to do: partitions are files that are written at once.
func (sh *shell) sync(context.Context, interp.HandlerContext, []string) error { return nil }

// comingUp is how long a started system can be seen before it has finished.
const comingUp = 700 * time.Millisecond

func (sh *shell) getprop(_ context.Context, h interp.HandlerContext, args []string) error {
	if len(args) > 0 {
		if args[0] == "sys.boot_completed" && time.Since(sh.r.since) < comingUp {
			fmt.Fprintln(h.Stdout)
			return nil
		}
		fmt.Fprintln(h.Stdout, sh.r.props[args[0]])
		return nil
	}
	var names []string
	for k := range sh.r.props {
		names = append(names, k)
	}
	sort.Strings(names)
	for _, k := range names {
		fmt.Fprintf(h.Stdout, "[%s]: [%s]\n", k, sh.r.props[k])
	}
	return nil
}

func (sh *shell) id(_ context.Context, h interp.HandlerContext, args []string) error {
	uid, name := 2000, "shell"
	if sh.root {
		uid, name = 0, "root"
	}
	if slices.Contains(args, "-u") {
		fmt.Fprintln(h.Stdout, uid)
		return nil
	}
	fmt.Fprintf(h.Stdout, "uid=%d(%s) gid=%d(%s)\n", uid, name, uid, name)
	return nil
}

func (sh *shell) cat(ctx context.Context, h interp.HandlerContext, args []string) error {
	for _, name := range args {
		f, err := sh.open(ctx, name, os.O_RDONLY, 0)
		if err != nil {
			return err
		}
		_, err = io.Copy(h.Stdout, f)
		f.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

func (sh *shell) ls(_ context.Context, h interp.HandlerContext, args []string) error {
	names, options := operands(args)
	for _, name := range names {
		if strings.TrimSuffix(name, "/")+"/" == byName {
			for _, part := range sh.p.store.All() {
				fmt.Fprintln(h.Stdout, sh.p.spec.outside(part))
			}
			continue
		}
		if path.Clean(name) == "/storage" && !sh.root {
			fmt.Fprintln(h.Stdout, "emulated\nself")
			if sh.p.spec.Card > 0 {
				fmt.Fprintln(h.Stdout, path.Base(cardPaths[card.System][0]))
			}
			continue
		}
		st, err := sh.stat(name)
		if err != nil {
			return fmt.Errorf("%s: No such file or directory", name)
		}
		if !st.IsDir() {
			fmt.Fprintln(h.Stdout, name)
			continue
		}
		list, err := sh.readDir(name)
		if err != nil {
			return err
		}
		if path.Clean(name) == "/data" && sh.root { // which shows the shared storage too
			fmt.Fprintln(h.Stdout, "media")
		}
		for _, e := range list {
			if hidden := strings.HasPrefix(e.Name(), "."); !hidden || strings.Contains(options, "A") ||
				strings.Contains(options, "a") {
				fmt.Fprintln(h.Stdout, e.Name())
			}
		}
	}
	return nil
}

// readDir lists a folder.
func (sh *shell) readDir(name string) ([]fs.DirEntry, error) {
	name = sh.path(name)
	if local, ok := sh.storage(name); ok {
		return os.ReadDir(local)
	}
	w, rel, err := sh.within(name)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	names, err := w.List(rel)
	var list []fs.DirEntry
	for _, n := range names {
		if st, err := w.Stat(path.Join(rel, n)); err == nil {
			list = append(list, named{fs.FileInfoToDirEntry(st), n})
		}
	}
	return list, err
}

// named is an entry under the name it is listed by.
type named struct {
	fs.DirEntry
	name string
}

func (n named) Name() string { return n.name }

// mode is what the shell runs in.
func (sh *shell) mode() card.Mode {
	if sh.root {
		return card.Recovery
	}
	return card.System
}

// storage gives where a file on one of the storages is on the computer.
func (sh *shell) storage(name string) (local string, ok bool) {
	sh.p.mu.Lock()
	for dir := range sh.r.mounts {
		if name == dir || strings.HasPrefix(name, dir+"/") {
			sh.p.mu.Unlock()
			return "", false // something is mounted over it
		}
	}
	sh.p.mu.Unlock()
	local, _, _, err := phoneFiles{sh.p, sh.mode()}.place(name)
	return local, err == nil
}

// df prints the room of a storage as toybox does.
func (sh *shell) df(_ context.Context, h interp.HandlerContext, args []string) error {
	for _, name := range args {
		if strings.HasPrefix(name, "-") {
			continue
		}
		size, free, err := phoneFiles{sh.p, sh.mode()}.free(name)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		fmt.Fprintf(h.Stdout, "Filesystem     1K-blocks   Used Available Use%% Mounted on\n/dev/block/dm-1 "+
			"%d %d %d %d%% %s\n",
			size>>10, (size-free)>>10, free>>10, (size-free)*100/max(size, 1), name)
	}
	return nil
}

func (sh *shell) sha256sum(ctx context.Context, h interp.HandlerContext, args []string) error {
	for _, name := range args {
		f, err := sh.open(ctx, name, os.O_RDONLY, 0)
		if err != nil {
			return err
		}
		sum := sha256.New()
		_, err = io.Copy(sum, f)
		f.Close()
		if err != nil {
			return err
		}
		fmt.Fprintf(h.Stdout, "%x  %s\n", sum.Sum(nil), name)
	}
	return nil
}

// dd copies blocks; it knows if, of, bs, count, skip, seek and conv.
func (sh *shell) dd(ctx context.Context, h interp.HandlerContext, args []string) error {
	n := map[string]int64{"bs": 512, "count": -1, "skip": 0, "seek": 0}
	var from, to string
	for _, a := range args {
		k, v, _ := strings.Cut(a, "=")
		switch k {
		case "if":
			from = v
		case "of":
			to = v
		case "conv", "status":
		default:
			if _, ok := n[k]; !ok {
				return fmt.Errorf("unknown operand %q", a)
			}
			i, err := strconv.ParseInt(v, 10, 64)
			if err != nil || i < 0 || k == "bs" && (i == 0 || i > 1<<26) {
				return fmt.Errorf("bad number %q", a)
			}
			n[k] = i
		}
	}
	var in io.Reader = h.Stdin
	out := h.Stdout
	if from != "" {
		f, err := sh.open(ctx, from, os.O_RDONLY, 0)
		if err != nil {
			return err
		}
		defer f.Close()
		if s, ok := f.(io.Seeker); ok {
			if _, err := s.Seek(n["skip"]*n["bs"], io.SeekStart); err != nil {
				return err
			}
		}
		in = f
	}
	if to != "" {
		f, err := sh.open(ctx, to, os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		defer f.Close()
		out = f
		if v, ok := f.(*disk.Volume); ok {
			out = io.NewOffsetWriter(v, n["seek"]*n["bs"])
		}
	}
	if in == nil {
		return fmt.Errorf("no input")
	}
	if n["count"] >= 0 {
		in = io.LimitReader(in, n["count"]*n["bs"])
	}
	got, err := io.CopyBuffer(struct{ io.Writer }{out}, struct{ io.Reader }{in}, make([]byte, n["bs"]))
	fmt.Fprintf(h.Stderr, "%d bytes copied\n", got)
	return err
}

// bootctl answers as the platform's tool of that name.
func (sh *shell) bootctl(_ context.Context, h interp.HandlerContext, args []string) error {
	if sh.p.model.Slots < 2 || len(args) == 0 {
		return fmt.Errorf("no boot control here")
	}
	c := sh.p.control()
	slot := -1
	if len(args) > 1 {
		slot, _ = strconv.Atoi(args[1])
		if slot < 0 || slot >= len(c.Slots) {
			return fmt.Errorf("no slot %s", args[1])
		}
	}
	status := func(yes bool) error {
		if yes {
			return nil
		}
		return interp.ExitStatus(1)
	}
	switch {
	case args[0] == "get-number-slots":
		fmt.Fprintln(h.Stdout, len(c.Slots))
	case args[0] == "get-current-slot":
		fmt.Fprintln(h.Stdout, int(sh.r.slot[0]-'a'))
	case args[0] == "get-active-boot-slot":
		fmt.Fprintln(h.Stdout, c.Next())
	case args[0] == "is-slot-bootable" && slot >= 0:
		return status(c.Slots[slot].Bootable())
	case args[0] == "is-slot-marked-successful" && slot >= 0:
		return status(c.Slots[slot].Successful)
	default:
		return fmt.Errorf("unknown command %q", args[0])
	}
	return nil
}

// mke2fs formats a partition for real: what it leaves was made by the tool of
// that name.
func (sh *shell) mke2fs(_ context.Context, h interp.HandlerContext, args []string) error {
	if !sh.root {
		return fs.ErrPermission
	}
	name := ""
	for _, a := range args {
		if strings.HasPrefix(a, "/") {
			name, _ = sh.p.device(a)
		}
	}
	if !sh.p.store.Has(name) {
		return fmt.Errorf("no such device")
	}
	if err := sh.p.formatPartition(name); err != nil {
		return err
	}
	b, err := sh.p.store.Head(name, 4096)
	if err == nil && !ext4.IsMagic(b) {
		err = fmt.Errorf("formatting failed")
	}
	return err
}
