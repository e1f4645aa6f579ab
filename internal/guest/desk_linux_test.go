package guest

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"jarlid/internal/link/usb"
)

// workplace is a place in the guest where somebody works with the program: a home folder, and phones
// on cables.
type workplace struct {
	*testing.T
	home, dir string
	user      uint32 // 0: root
	groups    []uint32
	running   *running
}

func newDesk(t *testing.T) *workplace {
	t.Helper()
	onlyInside(t)
	dir := t.TempDir()
	d := &workplace{T: t, dir: dir, running: &running{said: map[string]*bytes.Buffer{}},
		home: filepath.Join(dir, "home")}
	if err := os.MkdirAll(d.home, 0o700); err != nil {
		t.Fatalf("os.MkdirAll(d.home, 0o700): %v", err)
	}
	key, err := os.ReadFile(filepath.Join(base, "files", "key.pem"))
	if err == nil {
		err = os.WriteFile(filepath.Join(d.home, "key.pem"), key, 0o600)
	}
	if err != nil {
		t.Fatalf("os.ReadFile('/files/key.pem'): %v", err)
	}
	return d
}

// other is another person at the same phones: an ordinary user with groups.
func (d *workplace) other(user uint32, groups ...uint32) *workplace {
	o := *d
	o.home, o.user, o.groups = filepath.Join(d.dir, fmt.Sprintf("home-%d-%d", user, len(groups))),
		user, groups
	for _, dir := range []string{o.home, filepath.Join(o.home, "run")} {
		if err := errors.Join(os.MkdirAll(dir, 0o755), os.Chown(dir, int(user), int(user))); err != nil {
			d.Fatalf("errors.Join(os.MkdirAll(dir, 0o755), ...): %v", err)
		}
	}
	for at := d.dir; at != "/"; at = filepath.Dir(at) {
		_ = os.Chmod(at, 0o755)
	}
	return &o
}

// stuckAfter is how long a command may take in the guest.
const stuckAfter = 8 * time.Minute

// programs are the stand-ins that run.
func (d *workplace) programs() []*os.Process {
	d.running.mu.Lock()
	defer d.running.mu.Unlock()
	return slices.Clone(d.running.list)
}

type running struct {
	mu   sync.Mutex
	list []*os.Process
	said map[string]*bytes.Buffer // what each stand-in printed
}

// said is what a stand-in printed so far.
func (d *workplace) said(name string) string {
	d.running.mu.Lock()
	defer d.running.mu.Unlock()
	return d.running.said[name].String()
}

func (d *workplace) command(args ...string) *exec.Cmd {
	c := exec.Command(filepath.Join(base, "bin", "jarlid"), append(args, "--home", d.home)...)
	c.Env = append(os.Environ(), "NO_COLOR=1", "XDG_RUNTIME_DIR="+filepath.Join(d.home, "run"),
		"HOME="+d.home, "JARLID_HOME="+d.home)
	if d.user != 0 {
		c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: d.user, Gid: d.user,
			Groups: d.groups}}
	}
	return c
}

func (d *workplace) run(args ...string) (int, string) {
	d.Helper()
	cmd := d.command(args...)
	stuck := time.AfterFunc(stuckAfter, func() {
		_ = cmd.Process.Signal(syscall.SIGQUIT) // what it waits for is in its output then
		for _, p := range d.programs() {
			_ = p.Signal(syscall.SIGQUIT)
		}
	})
	defer stuck.Stop()
	out, err := cmd.CombinedOutput()
	var exit *exec.ExitError
	switch {
	case errors.As(err, &exit):
		return exit.ExitCode(), string(out)
	case err != nil:
		d.Fatalf("cmd.CombinedOutput(): %v", err)
	}
	return 0, string(out)
}

func (d *workplace) want(code int, texts []string, args ...string) string {
	d.Helper()
	began := time.Now()
	got, out := d.run(args...)
	if got != code {
		d.Fatalf("jarlid %s ended with %d, want %d:\n%s", strings.Join(args, " "), got, code, out)
	}
	for _, s := range texts {
		if !strings.Contains(out, s) {
			d.Fatalf("jarlid %s does not say %q:\n%s", strings.Join(args, " "), s, out)
		}
	}
	d.Logf("%6.1f s  jarlid %s", time.Since(began).Seconds(), strings.Join(args, " "))
	return out
}

// result runs jarlid with --json and decodes its last line.
func (d *workplace) result(code int, v any, args ...string) {
	d.Helper()
	out := strings.TrimSpace(d.want(code, nil, append(args, "--json")...))
	if err := json.Unmarshal([]byte(out[strings.LastIndexByte(out, '\n')+1:]), v); err != nil {
		d.Fatalf("json.Unmarshal(..., v): %v; want no error\n%s", err, out)
	}
}

func (d *workplace) exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// standin runs a stand-in on a cable until the test ends.
func (d *workplace) standin(model string, args ...string) {
	d.Helper()
	name := model
	for i, a := range args {
		if a == "--as" {
			name = args[i+1]
		}
	}
	if smaller := "/files/" + model + ".yaml"; d.exists(smaller) {
		model = smaller
	}
	before := phones()
	cmd := d.command(append([]string{"standin", "run", model, "--usb", "--at", filepath.Join(d.dir, name)},
		args...)...)
	out, err := cmd.StdoutPipe()
	if err != nil {
		d.Fatalf("cmd.StdoutPipe(): %v", err)
	}
	cmd.Stderr = cmd.Stdout
	if err := cmd.Start(); err != nil {
		d.Fatalf("cmd.Start(): %v", err)
	}
	d.running.mu.Lock()
	d.running.list = append(d.running.list, cmd.Process)
	log := new(bytes.Buffer)
	d.running.said[name] = log
	d.running.mu.Unlock()
	ready := make(chan bool, 2)
	done := make(chan struct{})
	go func() {
		defer close(done)
		s := bufio.NewScanner(out)
		for s.Scan() {
			d.running.mu.Lock()
			log.WriteString(s.Text() + "\n")
			d.running.mu.Unlock()
			if strings.Contains(s.Text(), "its storage is in") {
				ready <- true
			}
		}
		_, _ = io.Copy(io.Discard, out)
		_ = cmd.Wait()
		ready <- false
	}()
	d.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		select {
		case <-done:
		case <-time.After(long):
			_ = cmd.Process.Kill()
			<-done
		}
		if d.Failed() {
			d.Logf("%s said:\n%s", name, d.said(name))
		}
	})
	select {
	case ok := <-ready:
		if !ok {
			d.Fatalf("the stand-in did not start:\n%s", d.said(name))
		}
	case <-time.After(2 * long):
		d.Fatal("the stand-in did not get ready")
	}
	d.until("the kernel shows "+name, func() bool { return phones() > before })
}

// phones counts the devices that are phones.
func phones() (n int) {
	list, _ := usb.System().List()
	for _, u := range list {
		if _, ok := u.Phone(); ok || u.HasLine() {
			n++
		}
	}
	return n
}

// until waits until something is so.
func (d *workplace) until(what string, is func() bool) {
	d.Helper()
	for end := time.Now().Add(6 * long); time.Now().Before(end); time.Sleep(200 * time.Millisecond) {
		if is() {
			return
		}
	}
	d.Fatalf("it never was so that %s", what)
}

// seen waits until bench shows a phone with a word.
func (d *workplace) seen(word string) {
	d.Helper()
	d.until("bench shows "+word, func() bool { _, out := d.run("bench"); return strings.Contains(out, word) })
}

// journals are the folders of jobs.
func (d *workplace) journals() []string {
	list, _ := filepath.Glob(filepath.Join(d.home, "jobs", "*", "journal.jsonl"))
	return list
}

// stored reads what a partition of a stand-in holds.
func (d *workplace) stored(name, partition string) []byte {
	d.Helper()
	b, err := os.ReadFile(filepath.Join(d.dir, name, "partitions", partition+".img"))
	if err != nil {
		d.Fatalf("os.ReadFile(...): %v", err)
	}
	return b
}
