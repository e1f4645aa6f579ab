package shell

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"jarlid/internal/e2e/witness"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
)

// realShell is a shell of this computer with a folder of programs.
type realShell struct {
	argv  []string
	path  string
	split bool
	noise bool // a banner before, a prompt behind, CR LF for every LF
}

func (r *realShell) SplitsStreams() bool { return r.split }

// Shell runs the line as an ADB service does.
func (r *realShell) Shell(ctx context.Context, line string, _ time.Duration) (adb.Output, error) {
	cmd := exec.CommandContext(ctx, r.argv[0], append(slices.Clone(r.argv[1:]), "-c", line)...)
	cmd.Env = []string{"PATH=" + r.path}
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	if !r.split {
		cmd.Stderr = &out
	}
	if r.noise {
		out.WriteString("Welcome to a phone\nWARNING: linker: unused DT entry\n")
	}
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		return adb.Output{}, err
	}
	b := out.Bytes()
	if r.noise {
		b = append(bytes.ReplaceAll(b, []byte("\n"), []byte("\r\n")), "phone:/ # "...)
	}
	return adb.Output{Stdout: b, Stderr: errs.Bytes(), Code: cmd.ProcessState.ExitCode()}, nil
}

// programs are those that the commands call.
var programs = []string{"cat", "dd", "df", "grep", "head", "id", "ls", "mkdir", "mv", "readlink", "rm",
	"sha256sum",
	"sync",
	"uname", "umount", "mount"}

// boxed makes a folder of links to a box of tools.
func boxed(t *testing.T, box string) string {
	dir := t.TempDir()
	for _, p := range programs {
		if err := os.Symlink(box, filepath.Join(dir, p)); err != nil {
			t.Fatalf("os.Symlink(%v): %v", p, err)
		}
	}
	return dir
}

// realShells are the shells and tools that recoveries and systems have.
func realShells(t *testing.T) map[string]*realShell {
	mksh, bash := witness.Tool(t, "mksh"), witness.Tool(t, "bash")
	toybox, busybox := boxed(t, witness.Tool(t, "toybox")), boxed(t, witness.Tool(t, "busybox"))
	return map[string]*realShell{
		"mksh with toybox":       {argv: []string{mksh}, path: toybox},
		"mksh with busybox":      {argv: []string{mksh}, path: busybox},
		"busybox with its own":   {argv: []string{witness.Tool(t, "busybox"), "sh"}, path: busybox},
		"bash with the GNU ones": {argv: []string{bash}, path: "/usr/sbin:/usr/bin:/sbin:/bin"},
	}
}

// TestShells runs the commands in real shells, with streams apart and not, with noise around the answers:
// files with names that need quoting, and what can be asked of any kernel.
func TestShells(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("the shells are those of a Linux machine")
	}
	shells := realShells(t)
	for name, r := range shells {
		for _, split := range []bool{true, false} {
			for _, noise := range []bool{true, false} {
				r := *r
				r.split, r.noise = split, noise
				what := name + map[bool]string{true: ", apart"}[split] +
					map[bool]string{true: ", noisy"}[noise]
				checkShell(t, what, New(&r))
			}
		}
	}
}

func checkShell(t *testing.T, name string, s *Shell) {
	t.Helper()
	ctx := t.Context()
	fail := func(what string, got any, err error) {
		t.Helper()
		t.Errorf("%s: %s gives %q, %v", name, what, got, err)
	}
	if n, err := s.User(ctx); err != nil || n != os.Getuid() {
		fail("user", n, err)
	}
	dir := filepath.Join(t.TempDir(), "a folder that's quoted")
	text := filepath.Join(dir, "it's $HOME; a \"text\"")
	if err := s.WriteText(ctx, text, "line 1\nline 2 %s\\n"); err != nil {
		fail("write-text", "", err)
	}
	want, _ := os.ReadFile(text)
	if b, ok, err := s.File(ctx, text); err != nil || !ok || !bytes.Equal(b, want) ||
		!strings.Contains(string(b), `2 %s\n`) {
		fail("file", b, err)
	}
	if _, ok, err := s.File(ctx, dir+"/nothing"); ok || err != nil {
		fail("file, of none", ok, err)
	}
	if b, ok, err := s.Start(ctx, text); err != nil || !ok || !bytes.HasPrefix(b, []byte("line 1")) {
		fail("start", b, err)
	}
	_ = os.Symlink("nowhere", filepath.Join(dir, "dangling"))
	_ = os.WriteFile(filepath.Join(dir, ".hidden"), nil, 0o600)
	for _, c := range []struct {
		path string
		is   bool
	}{{text, true}, {dir, true}, {dir + "/dangling", true}, {dir + "/nothing", false}} {
		if is, err := s.Exists(ctx, c.path); err != nil || is != c.is {
			fail("exists "+c.path, is, err)
		}
	}
	if names, is, err := s.Folder(ctx, dir); err != nil || !is || len(names) != 3 ||
		!slices.Contains(names, ".hidden") {
		fail("folder", names, err)
	}
	if _, is, err := s.Folder(ctx, text); is || err != nil {
		fail("folder, of a file", is, err)
	}
	if to, err := s.Real(ctx, "/proc/self/fd/../../../tmp/."); err != nil || to != "/tmp" {
		fail("link", to, err)
	}
	sums, err := s.Digests(ctx, []string{text, dir + "/nothing", "/dev/null"})
	// FIPS 180-2, of no bytes
	const empty = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"
	if err != nil || len(sums) != 3 || len(sums[0]) != 64 || sums[1] != "" || sums[2] != empty {
		fail("digest", sums, err)
	}
	if n, known, err := s.Free(ctx, dir); err != nil || !known || n <= 0 {
		fail("free", n, err)
	}
	list, err := s.Mounts(ctx)
	if m, ok := list.Under("/proc/self"); err != nil || !ok || m.Type != "proc" {
		fail("mounts", m, err)
	}
	a, err := s.ask(ctx, blocks)
	_, serr := os.Stat("/sys/class/block/loop0/size")
	if err != nil || a.code != 0 || strings.Contains(a.errs, "syntax") || serr == nil &&
		!strings.Contains(string(a.out), "/loop0/dev:7:0\n") {
		fail("blocks", a.errs+string(a.out), err)
	}
	if release, err := s.Kernel(ctx); err != nil || !strings.Contains(release, ".") {
		fail("kernel", release, err)
	}
	moved := filepath.Join(dir, "new", "place")
	if err := s.Move(ctx, text, moved); err != nil {
		fail("move", "", err)
	}
	if _, err := os.Stat(moved); err != nil {
		fail("move", "", err)
	}
	var refused *link.RefusedError
	if err := s.Move(ctx, text, moved); !errors.As(err, &refused) || refused.Message == "" {
		fail("move, of none", "", err)
	}
	if err := s.Remove(ctx, dir); err != nil {
		fail("remove", "", err)
	}
	if _, err := os.Stat(dir); err == nil {
		fail("remove", "the folder is there", nil)
	}
	checkTargets(t, name, s)
}

// checkTargets: what is no block device, or another one, is neither read nor written.
func checkTargets(t *testing.T, name string, s *Shell) {
	t.Helper()
	plain := filepath.Join(t.TempDir(), "recovery")
	_ = os.WriteFile(plain, []byte("what is there"), 0o600)
	piece := filepath.Join(t.TempDir(), "piece")
	_ = os.WriteFile(piece, []byte("what would be written"), 0o600)
	for what, path := range map[string]string{
		"a plain file":       plain,
		"nothing":            plain + "-no",
		"a character device": "/dev/null",
	} {
		d := Device{Path: path, Number: "7:0", Size: 4096}
		var refused *link.RefusedError
		if err := s.Write(t.Context(), piece, d, 0); !errors.As(err, &refused) ||
			!strings.Contains(refused.Message, "no block device") {
			t.Errorf("%s: %s was written: %v", name, what, err)
		}
		if b, err := s.ReadBlock(t.Context(), d, 4096, 0); b != nil || err != nil {
			t.Errorf("%s: %s was read: %q, %v", name, what, b, err)
		}
		if _, err := s.Format(t.Context(), d, "ext4"); err == nil {
			t.Errorf("%s: %s was formatted", name, what)
		}
		if err := s.Mount(t.Context(), d, filepath.Join(t.TempDir(), "at"), "ext4", "ro"); err == nil {
			t.Errorf("%s: %s was mounted", name, what)
		}
	}
	if b, _ := os.ReadFile(plain); string(b) != "what is there" {
		t.Errorf("%s: the plain file holds %q", name, b)
	}
	if _, err := os.Stat(plain + "-no"); err == nil {
		t.Errorf("%s: a file was made where nothing was", name)
	}
	if _, err := os.Stat("/dev/loop0"); err != nil {
		return
	}
	loop := Device{Path: "/dev/loop0", Number: "7:0"}
	if err := s.Same(t.Context(), loop); err != nil {
		t.Errorf("%s: a block device is not known: %v", name, err)
	}
	loop.Number = "7:1"
	if err := s.Same(t.Context(), loop); err == nil {
		t.Errorf("%s: another block device is taken for it", name)
	}
}
