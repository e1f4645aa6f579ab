// Package e2e drives the real program: it builds jarlid once and runs it on
// files in temporary folders against stand-ins that are processes of their own.
package e2e

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"jarlid/internal/bench"
	"jarlid/internal/demo"
	"jarlid/internal/standin/scenario"
)

var (
	program string     // the built jarlid
	files   demo.Files // the scenario's files for dunlin
	workdir string
	dunlin  = scenario.PhoneOf("dunlin")
)

func TestMain(m *testing.M) {
	flag.Parse()
	// Most of their time the tests wait for phones to restart.
	if n := flag.Lookup("test.parallel"); n != nil {
		n.Value.Set(fmt.Sprint(runtime.GOMAXPROCS(0) * 3 / 2))
	}
	os.Exit(setUp(m))
}

func setUp(m *testing.M) int {
	dir, err := os.MkdirTemp("", "jarlid-e2e-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	workdir = dir
	program = filepath.Join(dir, "jarlid")
	if runtime.GOOS == "windows" {
		program += ".exe"
	}
	if out, err := exec.Command("go", "build", "-o", program, "jarlid/cmd/jarlid").CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "go build: %v\n%s", err, out)
		return 1
	}
	if files, err = demo.MakeFiles(filepath.Join(dir, "files"), dunlin); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	return m.Run()
}

// lab is one test's home folder and its stand-ins.
type lab struct {
	*testing.T
	home, dir string
}

func newLab(t *testing.T) *lab {
	t.Parallel()
	dir := t.TempDir()
	return &lab{T: t, home: filepath.Join(dir, "home"), dir: dir}
}

// phone is a running stand-in.
type phone struct {
	cmd  *exec.Cmd
	done chan struct{}
}

// standin starts a stand-in and waits until it can be reached.
func (l *lab) standin(model string, args ...string) *phone {
	l.Helper()
	at := filepath.Join(l.dir, strings.TrimSuffix(filepath.Base(model), ".yaml"))
	cmd := exec.Command(program, append([]string{"standin", "run", model, "--at", at, "--home", l.home}, args...)...)
	out, err := cmd.StdoutPipe()
	if err != nil {
		l.Fatal(err)
	}
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		l.Fatal(err)
	}
	p := &phone{cmd: cmd, done: make(chan struct{})}
	l.Cleanup(p.kill)
	ready := make(chan bool, 1)
	var log bytes.Buffer
	go func() {
		defer close(p.done)
		s := bufio.NewScanner(out)
		for s.Scan() {
			log.WriteString(s.Text() + "\n")
			if strings.Contains(s.Text(), "its storage is in") {
				ready <- true
			}
		}
		cmd.Wait()
		select {
		case ready <- false:
		default:
		}
	}()
	select {
	case ok := <-ready:
		if !ok {
			l.Fatalf("the stand-in did not start:\n%s", log.String())
		}
	case <-time.After(30 * time.Second):
		l.Fatal("the stand-in did not get ready")
	}
	return p
}

// kill ends a stand-in at once, as a crash would.
func (p *phone) kill() {
	p.cmd.Process.Kill()
	<-p.done
}

func (l *lab) command(args ...string) *exec.Cmd {
	cmd := exec.Command(program, append(args, "--home", l.home)...)
	cmd.Env = append(os.Environ(), "NO_COLOR=1")
	return cmd
}

// run runs jarlid and gives its exit code and what it printed.
func (l *lab) run(args ...string) (int, string) {
	l.Helper()
	out, err := l.command(args...).CombinedOutput()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		l.Fatal(err)
	}
	code := 0
	if exit != nil {
		code = exit.ExitCode()
	}
	return code, string(out)
}

// want runs jarlid and fails unless it ends with code and says all texts.
func (l *lab) want(code int, texts []string, args ...string) string {
	l.Helper()
	got, out := l.run(args...)
	if got != code {
		l.Fatalf("jarlid %s ended with %d, want %d:\n%s", strings.Join(args, " "), got, code, out)
	}
	for _, s := range texts {
		if !strings.Contains(out, s) {
			l.Fatalf("jarlid %s does not say %q:\n%s", strings.Join(args, " "), s, out)
		}
	}
	return out
}

// result runs jarlid with --json, fails unless it ends with code, and decodes
// the last line into v.
func (l *lab) result(code int, v any, args ...string) {
	l.Helper()
	out := l.want(code, nil, append(args, "--json")...)
	lines := strings.Split(strings.TrimSpace(out), "\n")
	for _, line := range lines {
		var e struct{ Event string }
		if err := json.Unmarshal([]byte(line), &e); err != nil || e.Event == "" {
			l.Fatalf("not a JSON line with an event: %q", line)
		}
	}
	if err := json.Unmarshal([]byte(lines[len(lines)-1]), v); err != nil {
		l.Fatalf("the result can't be read: %v\n%s", err, lines[len(lines)-1])
	}
}

// hands presses things at a stand-in, each as soon as it has them, until the
// returned function is called.
func (l *lab) hands(name string, keys ...string) (stop func()) {
	done := make(chan struct{})
	var wg sync.WaitGroup
	wg.Go(func() {
		for _, k := range keys {
			for {
				if err := l.command("standin", "press", name, k).Run(); err == nil {
					break
				}
				select {
				case <-done:
					return
				case <-time.After(50 * time.Millisecond):
				}
			}
		}
	})
	return func() { close(done); wg.Wait() }
}

// press presses things at a stand-in and waits until it has taken each.
func (l *lab) press(name string, keys ...string) {
	l.Helper()
	for _, k := range keys {
		l.until("the phone takes "+k, func() bool { return l.command("standin", "press", name, k).Run() == nil })
	}
}

// until waits for something that may take long on a busy machine.
func (l *lab) until(what string, is func() bool) {
	l.Helper()
	for end := time.Now().Add(time.Minute); !is(); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			l.Fatalf("waited a minute for this: %s", what)
		}
	}
}

// untilMode waits until a phone shows up in a mode.
func (l *lab) untilMode(name, mode string) {
	l.Helper()
	l.until(name+" shows up in "+mode, func() bool {
		var r struct{ Phones []struct{ Name, Mode string } }
		out, _ := l.command("bench", "--json").Output()
		lines := strings.Split(strings.TrimSpace(string(out)), "\n")
		if json.Unmarshal([]byte(lines[len(lines)-1]), &r) != nil {
			return false
		}
		for _, p := range r.Phones {
			if p.Name == name && p.Mode == mode {
				return true
			}
		}
		return false
	})
}

// journals reads all journals of the lab, in order.
func (l *lab) journals() [][]bench.Record {
	l.Helper()
	paths, err := filepath.Glob(filepath.Join(l.home, "jobs", "*", "journal.jsonl"))
	if err != nil {
		l.Fatal(err)
	}
	var all [][]bench.Record
	for _, p := range paths {
		r, err := bench.ReadJournal(p)
		if err != nil {
			l.Fatal(err)
		}
		all = append(all, r)
	}
	return all
}

// model writes a model file with changes to dunlin's and gives its path.
func (l *lab) model(name string, replace ...string) string {
	l.Helper()
	return l.modelOf("dunlin", name, replace...)
}

// modelOf does so with another built-in one. A change that changes nothing is a
// mistake in the test.
func (l *lab) modelOf(base, name string, replace ...string) string {
	l.Helper()
	b, err := os.ReadFile("../core/model/models/" + base + ".yaml")
	if err != nil {
		l.Fatal(err)
	}
	text := string(b)
	for i := 0; i < len(replace); i += 2 {
		if !strings.Contains(text, replace[i]) {
			l.Fatalf("the model file of %s has no %q", base, replace[i])
		}
		text = strings.ReplaceAll(text, replace[i], replace[i+1])
	}
	path := filepath.Join(l.dir, name+".yaml")
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		l.Fatal(err)
	}
	return path
}

// file writes a file and gives its path.
func (l *lab) file(name string, b []byte) string {
	l.Helper()
	path := filepath.Join(l.dir, name)
	if err := os.WriteFile(path, b, 0o644); err != nil {
		l.Fatal(err)
	}
	return path
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}
