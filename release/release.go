package main

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"
)

// systems are what archives are made for.
var systems = []string{"linux/amd64", "linux/arm64", "darwin/amd64", "darwin/arm64", "windows/amd64",
	"windows/arm64"}

// release makes one.
type release struct {
	version, out, root, only string

	time time.Time // of the commit: nothing in a release is younger
	work string
	with []file // beside the program: pages, completions, the rule
}

// file is one of an archive or a package.
type file struct {
	name string // with slashes
	data []byte
	mode int64
}

func (r *release) run() (err error) {
	if !regexp.MustCompile(`^\d+\.\d+\.\d+(-[0-9A-Za-z.]+)?$`).MatchString(r.version) {
		return fmt.Errorf("-version is three numbers, such as 1.0.0, not %q", r.version)
	}
	if r.only != "" && !slices.Contains(systems, r.only) {
		return fmt.Errorf("-only is one of %s, not %q", strings.Join(systems, ", "), r.only)
	}
	if r.time, err = r.commitTime(); err != nil {
		return err
	}
	if r.work, err = os.MkdirTemp("", "jarlid-release-"); err != nil {
		return err
	}
	defer os.RemoveAll(r.work)
	if err := r.beside(); err != nil {
		return err
	}
	if err := os.MkdirAll(r.out, 0o755); err != nil {
		return err
	}
	var made []string
	for _, system := range systems {
		if r.only != "" && r.only != system {
			continue
		}
		names, err := r.make(system)
		if err != nil {
			return fmt.Errorf("%s: %w", system, err)
		}
		made = append(made, names...)
	}
	return r.sums(made)
}

// commitTime is when the commit that is checked out was made.
func (r *release) commitTime() (time.Time, error) {
	out, err := exec.Command("git", "-C", r.root, "log", "-1", "--format=%ct").Output()
	if err != nil {
		return time.Time{}, fmt.Errorf("the commit's time can't be read: %w", err)
	}
	n, err := strconv.ParseInt(strings.TrimSpace(string(out)), 10, 64)
	return time.Unix(n, 0).UTC(), err
}

// build builds the program for a system.
func (r *release) build(system string) ([]byte, error) {
	goos, arch, _ := strings.Cut(system, "/")
	out := filepath.Join(r.work, "jarlid-"+goos+"-"+arch)
	c := exec.Command("go", "build", "-trimpath", "-buildvcs=true", "-ldflags",
		"-s -w -X jarlid/internal/journal.Release="+r.version, "-o", out, "./cmd/jarlid")
	c.Dir = r.root
	c.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+goos, "GOARCH="+arch, "GOAMD64=v1", "GOFLAGS=")
	if text, err := c.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("%w\n%s", err, text)
	}
	b, err := os.ReadFile(out)
	if err == nil && goos == "windows" {
		return resources(b, r.version)
	}
	return b, err
}

// beside makes what goes beside the program, by the program itself.
func (r *release) beside() error {
	own := runtime.GOOS + "/" + runtime.GOARCH
	b, err := r.build(own)
	if err != nil {
		return err
	}
	program := filepath.Join(r.work, "own")
	if runtime.GOOS == "windows" {
		program += ".exe"
	}
	if err := os.WriteFile(program, b, 0o755); err != nil {
		return err
	}
	home := filepath.Join(r.work, "home")
	run := func(args ...string) ([]byte, error) {
		c := exec.Command(program, append(args, "--home", home)...)
		out, err := c.Output()
		if err != nil {
			return nil, fmt.Errorf("jarlid %s: %w", strings.Join(args, " "), err)
		}
		return out, nil
	}
	pages := filepath.Join(r.work, "man")
	if _, err := run("man", pages); err != nil {
		return err
	}
	list, err := filepath.Glob(filepath.Join(pages, "*.1"))
	if err != nil || len(list) < 10 {
		return errors.Join(err, fmt.Errorf("only %d manual pages were made", len(list)))
	}
	for _, p := range list {
		b, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		r.with = append(r.with, file{"man/man1/" + filepath.Base(p), b, 0o644})
	}
	for shell, name := range map[string]string{
		"bash":       "jarlid.bash",
		"zsh":        "_jarlid",
		"fish":       "jarlid.fish",
		"powershell": "jarlid.ps1",
	} {
		b, err := run("completion", shell)
		if err != nil {
			return err
		}
		r.with = append(r.with, file{"completions/" + name, b, 0o644})
	}
	rule, err := run("bench", "--rule")
	if err != nil {
		return err
	}
	r.with = append(r.with, file{"60-jarlid.rules", rule, 0o644})
	for _, name := range []string{"LICENSE", "CHANGELOG.md", "README.md", "docs/guide.md", "docs/files.md",
		"docs/fit.md"} {
		b, err := os.ReadFile(filepath.Join(r.root, name))
		if err != nil {
			return err
		}
		r.with = append(r.with, file{name, b, 0o644})
	}
	slices.SortFunc(r.with, func(a, b file) int { return strings.Compare(a.name, b.name) })
	return nil
}

// make makes a system's archive, and the packages where it has some.
func (r *release) make(system string) (names []string, err error) {
	program, err := r.build(system)
	if err != nil {
		return nil, err
	}
	goos, arch, _ := strings.Cut(system, "/")
	top := "jarlid-" + r.version + "-" + goos + "-" + arch
	name := "jarlid"
	if goos == "windows" {
		name += ".exe"
	}
	list := []file{{path.Join(top, name), program, 0o755}}
	for _, f := range r.with {
		if goos != "linux" && f.name == "60-jarlid.rules" || goos == "windows" &&
			strings.HasPrefix(f.name, "man/") {
			continue // what that system has no use for
		}
		list = append(list, file{path.Join(top, f.name), f.data, f.mode})
	}
	var b bytes.Buffer
	if goos == "windows" {
		top += ".zip"
		err = zipped(&b, list, r.time)
	} else {
		top += ".tar.gz"
		err = tarred(&b, list, r.time)
	}
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(filepath.Join(r.out, top), b.Bytes(), 0o644); err != nil {
		return nil, err
	}
	names = []string{top}
	if goos == "linux" {
		more, err := r.packages(arch, program)
		return append(names, more...), err
	}
	return names, nil
}

// sums writes the digests of what was made, as sha256sum reads them.
func (r *release) sums(names []string) error {
	slices.Sort(names)
	var out strings.Builder
	for _, n := range names {
		b, err := os.ReadFile(filepath.Join(r.out, n))
		if err != nil {
			return err
		}
		fmt.Fprintf(&out, "%x  %s\n", sha256.Sum256(b), n)
	}
	return os.WriteFile(filepath.Join(r.out, "SHA256SUMS"), []byte(out.String()), 0o644)
}
