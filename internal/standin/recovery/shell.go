// Package recovery is what a stand-in's recoveries and systems do: their shell, files, menu and
// installs.
package recovery

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

// ShellService runs a command in the phone's shell: root in a recovery that
// gives one, an ordinary user in the system. Nothing of the computer can be
// reached from it: commands, files and the environment are the handlers' here.
func (p *Runner) ShellService(ctx context.Context, mode card.Mode, command string, s *adb.Stream, v2 bool) {
	p.Mu.Lock()
	r := p.Running
	p.Mu.Unlock()
	var stdout, stderr io.Writer = s, s
	if v2 {
		stdout, stderr = shellWriter{s, 1}, shellWriter{s, 2}
	}
	sh := &shell{&tree{p: p, mode: mode, r: r}, mode == card.Recovery}
	if banner := p.Quirks().Banner; banner != "" && sh.root {
		fmt.Fprintln(stdout, banner)
		fmt.Fprintln(stderr, "WARNING: linker: /sbin/sh: unused DT entry: type 0x1d arg 0x1234")
	}
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
	*tree
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
		interp.OpenHandler(func(_ context.Context, name string, flag int, _ fs.FileMode) (io.ReadWriteCloser,
			error) {
			return sh.open(name, flag&(os.O_WRONLY|os.O_RDWR) != 0)
		}),
		interp.StatHandler(func(_ context.Context, name string, follow bool) (fs.FileInfo, error) {
			return sh.stat(name, follow)
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

// rootDir is the shell's working folder, which has to exist on the computer.
var rootDir = filepath.VolumeName(os.TempDir()) + string(filepath.Separator)

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
		"readlink":     sh.readlink, "blockdev": sh.blockdev, "uname": sh.uname, "head": sh.head,
		"grep": sh.grep,
	}
	f, ok := programs[args[0]]
	if !ok || slices.Contains(sh.r.Traits.Lacks, args[0]) || slices.Contains(sh.p.Quirks().Lacks, args[0]) {
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
		if args[0] == "sys.boot_completed" && time.Since(sh.r.Since) < comingUp {
			fmt.Fprintln(h.Stdout)
			return nil
		}
		fmt.Fprintln(h.Stdout, sh.r.Props[args[0]])
		return nil
	}
	var names []string
	for k := range sh.r.Props {
		names = append(names, k)
	}
	sort.Strings(names)
	for _, k := range names {
		fmt.Fprintf(h.Stdout, "[%s]: [%s]\n", k, sh.r.Props[k])
	}
	return nil
}

func (sh *shell) id(_ context.Context, h interp.HandlerContext, args []string) error {
	uid, name := 2000, "shell"
	if sh.root {
		uid, name = 0, "root"
	}
	if slices.Contains(args, "-u") {
		if sh.p.Quirks().OldID {
			return fmt.Errorf("unknown option -u")
		}
		fmt.Fprintln(h.Stdout, uid)
		return nil
	}
	fmt.Fprintf(h.Stdout, "uid=%d(%s) gid=%d(%s)\n", uid, name, uid, name)
	return nil
}

func (sh *shell) cat(_ context.Context, h interp.HandlerContext, args []string) error {
	for _, name := range args {
		f, err := sh.open(name, false)
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

// head knows head -c NUMBER FILE.
func (sh *shell) head(_ context.Context, h interp.HandlerContext, args []string) error {
	if len(args) != 3 || args[0] != "-c" {
		return errors.New("usage: head -c NUMBER FILE")
	}
	n, err := strconv.ParseInt(args[1], 10, 64)
	if err != nil {
		return err
	}
	f, err := sh.open(args[2], false)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = io.Copy(h.Stdout, io.LimitReader(f, n))
	return err
}

// grep knows a pattern that is . or plain text, and files, whose names it prints.
func (sh *shell) grep(_ context.Context, h interp.HandlerContext, args []string) error {
	if len(args) < 2 || strings.HasPrefix(args[0], "-") {
		return errors.New("Needs 1 argument")
	}
	found := false
	for _, name := range args[1:] {
		f, err := sh.open(name, false)
		if err != nil {
			fmt.Fprintf(h.Stderr, "grep: %s: No such file or directory\n", name)
			continue
		}
		b, err := io.ReadAll(f)
		f.Close()
		if err != nil {
			return err
		}
		for line := range strings.Lines(string(b)) {
			if line = strings.TrimSuffix(line, "\n"); line != "" &&
				(args[0] == "." || strings.Contains(line, args[0])) {
				found = true
				fmt.Fprintf(h.Stdout, "%s:%s\n", name, line)
			}
		}
	}
	if !found {
		return interp.ExitStatus(1)
	}
	return nil
}

// ls knows -A, -a, and -lL for folders of devices.
func (sh *shell) ls(_ context.Context, h interp.HandlerContext, args []string) error {
	dirs, options := operands(args)
	for _, dir := range dirs {
		st, err := sh.stat(dir, true)
		if err != nil {
			return fmt.Errorf("%s: No such file or directory", dir)
		}
		names, at := []string{dir}, ""
		if st.IsDir() {
			if names, err = sh.names(dir); err != nil {
				return err
			}
			at = dir
		}
		for _, name := range names {
			hidden := at != "" && strings.HasPrefix(name, ".") && !strings.ContainsAny(options, "Aa")
			if line, ok := sh.listed(path.Join(at, name), name, strings.Contains(options, "l")); ok &&
				!hidden {
				fmt.Fprintln(h.Stdout, line)
			}
		}
	}
	return nil
}

// listed is a line of ls, or of ls -lL.
func (sh *shell) listed(name, as string, long bool) (string, bool) {
	if !long {
		return as, true
	}
	if d, ok := sh.deviceAt(path.Clean(name)); ok {
		major, minor, _ := strings.Cut(d.Number, ":")
		return fmt.Sprintf("brw------- 1 root root %s, %3s 2009-01-01 00:00 %s", major, minor, as), true
	}
	st, err := sh.stat(name, true)
	if err != nil {
		return "", false // a link that leads nowhere
	}
	kind := map[bool]string{true: "drwxr-xr-x", false: "-rw-r--r--"}[st.IsDir()]
	return fmt.Sprintf("%s 1 root root %d 2009-01-01 00:00 %s", kind, st.Size(), as), true
}

// readDir lists a folder.
func (sh *shell) readDir(name string) (list []fs.DirEntry, err error) {
	names, err := sh.names(name)
	for _, n := range names {
		if st, err := sh.stat(path.Join(name, n), true); err == nil {
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

// df prints the room of a storage as toybox does.
func (sh *shell) df(_ context.Context, h interp.HandlerContext, args []string) error {
	for _, name := range args {
		if strings.HasPrefix(name, "-") {
			continue
		}
		local, root, size := sh.local(name)
		if m, _ := sh.place(name); m.Partition == "userdata" {
			root, size = sh.p.Dir(disk.SharedDir), sh.p.Store.Sizes["userdata"]
		} else if local == "" {
			return fmt.Errorf("%s: No such file or directory", name)
		}
		free, err := sh.free(root, size)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		fmt.Fprintf(h.Stdout, "Filesystem     1K-blocks   Used Available Use%% Mounted on\n/dev/block/dm-1 "+
			"%d %d %d %d%% %s\n",
			size>>10, (size-free)>>10, free>>10, (size-free)*100/max(size, 1), name)
	}
	return nil
}

func (sh *shell) sha256sum(_ context.Context, h interp.HandlerContext, args []string) error {
	for _, name := range args {
		f, err := sh.open(name, false)
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
func (sh *shell) dd(_ context.Context, h interp.HandlerContext, args []string) error {
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
		f, err := sh.open(from, false)
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
		f, err := sh.open(to, true)
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
	if sh.p.Model.Slots < 2 || len(args) == 0 {
		return fmt.Errorf("no boot control here")
	}
	c := sh.p.Control()
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
		fmt.Fprintln(h.Stdout, int(sh.r.Slot[0]-'a'))
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

// mke2fs formats a partition for real: what it leaves was made by the tool of that name. The small one of a
// box of tools knows no -t.
func (sh *shell) mke2fs(_ context.Context, h interp.HandlerContext, args []string) error {
	if !sh.root {
		return fs.ErrPermission
	}
	if sh.p.Quirks().SmallMke2fs && slices.ContainsFunc(args, func(a string) bool {
		return a == "-t" || a == "-q"
	}) {
		fmt.Fprintln(h.Stderr, "mke2fs: invalid option -- 't'\nA box of tools, multi-call binary.\n\n"+
			"Usage: mke2fs [-Fn] [-b BLK_SIZE] BLOCKDEV [KBYTES]")
		return interp.ExitStatus(1)
	}
	d, ok := sh.deviceAt(path.Clean(args[len(args)-1]))
	if !ok {
		return fmt.Errorf("no such device")
	}
	for _, m := range sh.mounts() {
		if m.Partition == d.Partition {
			return fmt.Errorf("%s is mounted; will not make a filesystem here!", args[len(args)-1])
		}
	}
	switch {
	case slices.Contains(args, "-n"):
		return nil
	case sh.p.Quirks().ReadOnly:
		return fmt.Errorf("%s: Read-only file system", args[len(args)-1])
	}
	if err := sh.p.FormatPartition(d.Partition); err != nil {
		return err
	}
	b, err := sh.p.Store.Head(d.Partition, 4096)
	if err == nil && !ext4.IsMagic(b) {
		err = fmt.Errorf("formatting failed")
	}
	return err
}
