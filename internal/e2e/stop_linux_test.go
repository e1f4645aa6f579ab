package e2e

import (
	"bytes"
	"compress/gzip"
	"fmt"
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
)

// atTerminal is a program on a terminal of its own, as a person has it.
type atTerminal struct {
	cmd    *exec.Cmd
	master *os.File
	mu     sync.Mutex
	out    bytes.Buffer
	ended  chan struct{} // and all that it showed was read
}

// onTerminal starts jarlid on a real pseudo-terminal (pty(7)), whose session and signals are its own.
func (l *lab) onTerminal(args ...string) *atTerminal {
	l.Helper()
	master, slave := pseudoTerminal(l.T)
	tty, err := os.OpenFile(slave, os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		l.Fatalf("os.OpenFile(slave, os.O_RDWR|syscall.O_NOCTTY, 0): %v", err)
	}
	defer tty.Close()
	cooked(l.T, tty)
	p := &atTerminal{cmd: l.command(args...), master: master, ended: make(chan struct{})}
	p.cmd.Stdin, p.cmd.Stdout, p.cmd.Stderr = tty, tty, tty
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	if err := p.cmd.Start(); err != nil {
		l.Fatalf("p.cmd.Start(): %v", err)
	}
	go func() {
		b := make([]byte, 4096)
		for {
			n, err := master.Read(b)
			p.mu.Lock()
			p.out.Write(b[:n])
			p.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	go func() {
		defer close(p.ended)
		p.cmd.Wait()
		for n := -1; n < len(p.text()); time.Sleep(250 * time.Millisecond) { // the rest of what it showed
			n = len(p.text())
		}
	}()
	l.Cleanup(func() { p.cmd.Process.Kill(); <-p.ended })
	return p
}

func (p *atTerminal) text() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.out.String()
}

// cooked makes a terminal's keys signals again, and its lines edited, as at login (termios(3)).
func cooked(t *testing.T, tty *os.File) {
	at, err := unix.IoctlGetTermios(int(tty.Fd()), unix.TCGETS)
	if err == nil {
		at.Iflag, at.Oflag, at.Lflag = unix.ICRNL, unix.OPOST|unix.ONLCR, unix.ISIG|unix.ICANON|unix.ECHO
		at.Cc[unix.VINTR] = 3
		err = unix.IoctlSetTermios(int(tty.Fd()), unix.TCSETS, at)
	}
	if err != nil {
		t.Fatalf("unix.IoctlGetTermios(int(tty.Fd()), unix.TCGETS): %v", err)
	}
}

// until waits for a piece of what is shown.
func (p *atTerminal) until(t *testing.T, piece string) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); !strings.Contains(p.text(), piece); time.Sleep(
		5 * time.Millisecond) {
		select {
		case <-p.ended:
			t.Fatalf("it ended without %q:\n%s", piece, p.text())
		default:
		}
		if time.Now().After(end) {
			t.Fatalf("it does not show %q:\n%s", piece, p.text())
		}
	}
}

// opens waits until the program has one of the files open and has worked on it for a moment: it listens to
// signals by then, however slow this computer is.
func (p *atTerminal) opens(t *testing.T, paths ...string) {
	t.Helper()
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		fds, _ := filepath.Glob(fmt.Sprintf("/proc/%d/fd/*", p.cmd.Process.Pid))
		for _, fd := range fds {
			if to, err := os.Readlink(fd); err == nil && slices.Contains(paths, to) {
				time.Sleep(200 * time.Millisecond)
				return
			}
		}
	}
	t.Fatalf("it does not open any of %v:\n%s", paths, p.text())
}

// slowFile is a compressed file that takes many seconds to decompress: members of zeros, which count as one.
func (l *lab) slowFile(name string) string {
	l.Helper()
	var member bytes.Buffer
	z := gzip.NewWriter(&member)
	z.Write(make([]byte, 64<<20))
	z.Close()
	return l.file(name, bytes.Repeat(member.Bytes(), 600))
}

// soon is the second within which a command ends that is told to, with room for a computer that is busy: what
// is stopped here would go on for much longer. In a bubble's time TestCancelEveryCommand holds the second
// itself.
const soon = 3 * time.Second

// TestCancel: on a real terminal a Ctrl-C ends every kind of question, of wait and of work on files soon,
// with nothing changed; so does a SIGTERM.
func TestCancel(t *testing.T) {
	t.Parallel()
	l := inProcesses(t)
	l.startProcess(t, "dunlin")
	l.startProcess(t, "turnstone").kill() // it stays listed, and does not answer
	slow := l.slowFile("slow.img.gz")
	big := l.file("big.img", nil)
	if err := os.Truncate(big, 64<<30); err != nil {
		t.Fatalf("os.Truncate(big, 64<<30): %v", err)
	}
	sheet := l.file("evening.yaml",
		[]byte("sheet: 1\nname: evening\nask: [\"is the battery in?\"]\naccept:\n- {finding: battery-low, "+
			"because: it is on its cable}\ntasks:\n- go: recovery\n"))
	plain := l.file("plain.yaml",
		[]byte("sheet: 1\nname: evening\nask: [\"is the battery in?\"]\ntasks:\n- go: recovery\n"))
	l.want(0, nil, "recovery", "install", files.Recovery, "--yes", "--on", "dunlin")
	for _, c := range []struct {
		name  string
		until string // what it shows when it is stopped
		term  bool   // by SIGTERM
		args  []string
	}{
		{"the question before a write", "[y/N]", false, []string{"flash", files.Recovery, "--on", "dunlin"}},
		{"the same, by SIGTERM", "[y/N]", true, []string{"flash", files.Recovery, "--on", "dunlin"}},
		{"a stop that a sheet wants accepted", "Allow it?", false, []string{"sheet", "run", sheet, "--on",
			"dunlin"}},
		{"what a sheet asks", "is the battery in?", false, []string{"sheet", "run", plain, "--on", "dunlin"}},
		{"a choice", "Its number:", false, []string{"arrive", "--wait", "1s", "--on", "turnstone"}},
		{"a person who is awaited", "hand  ", false, []string{"go", "recovery", "--on", "turnstone"}},
		{"a start that is watched", "watching turnstone", false, []string{"arrive", "--wait", "5m", "--on",
			"turnstone"}},
		{"identifying", "", false, []string{"ident", "--deep", slow}},
		{"identifying, by SIGTERM", "", true, []string{"ident", "--deep", slow}},
		{"taking out", "", false, []string{"lift", slow, "-o", l.dir + "/out"}},
		{"verifying", "", false, []string{"proof", big}},
		{"decompressing before a write", "", false, []string{"flash", slow, "--into", "system", "--on",
			"dunlin"}},
		{"hashing before a write", "", false, []string{"put", big, "--to", "storage", "--on", "dunlin"}},
	} {
		p := l.onTerminal(c.args...)
		if c.until == "" {
			p.opens(t, slow, big)
		} else {
			p.until(t, c.until)
		}
		began := time.Now()
		if c.term {
			p.cmd.Process.Signal(syscall.SIGTERM)
		} else if _, err := p.master.Write([]byte{3}); err != nil { // as the keyboard sends it
			t.Fatalf("p.master.Write(...): %v", err)
		}
		select {
		case <-p.ended:
		case <-time.After(5 * time.Second):
			t.Errorf("%s: it goes on:\n%s", c.name, p.text())
			p.cmd.Process.Kill()
			<-p.ended
			continue
		}
		took, code, out := time.Since(began), p.cmd.ProcessState.ExitCode(), p.text()
		if code != 3 || !strings.Contains(out, "cancelled; ") || took > soon ||
			strings.Contains(out, "jobs resume") {
			t.Errorf("%s: it ended with %d after %v:\n%s", c.name, code, took, out)
		}
	}
}

// TestHostileHome: a pipe instead of a journal, of the list of phones or of a sheet neither holds a
// command up nor passes for one; a home that others can write to is refused, also by its name.
func TestHostileHome(t *testing.T) {
	t.Parallel()
	l := inProcesses(t)
	job := l.home + "/jobs/000001-dunlin"
	for _, name := range []string{job + "/journal.jsonl", l.home + "/bench.yaml", l.dir + "/pipe.yaml"} {
		if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
			t.Fatalf("os.MkdirAll(filepath.Dir(name), 0o700): %v", err)
		}
		if err := syscall.Mkfifo(name, 0o600); err != nil {
			t.Fatalf("syscall.Mkfifo(%v, 0o600): %v", name, err)
		}
	}
	for _, args := range [][]string{
		{"jobs"},
		{"jobs", "show", "1"},
		{"bench"},
		{"sheet", "check", l.dir + "/pipe.yaml"},
		{"ident", l.dir + "/pipe.yaml"},
		{"flash", l.dir + "/pipe.yaml"},
	} {
		cmd := l.command(args...)
		began := time.Now()
		timer := time.AfterFunc(10*time.Second, func() { cmd.Process.Kill() })
		out, _ := cmd.CombinedOutput()
		timer.Stop()
		if time.Since(began) > 8*time.Second {
			t.Errorf("%v waits for somebody at the other end of a pipe:\n%s", args, out)
		}
	}
	if err := os.Chmod(l.home, 0o777); err != nil {
		t.Fatalf("os.Chmod(l.home, 0o777): %v", err)
	}
	l.want(1, []string{"can be written by other users", "chmod -R go-w"}, "bench")
	if err := os.Chmod(l.home, 0o755); err != nil {
		t.Fatalf("os.Chmod(l.home, 0o755): %v", err)
	}
	os.Remove(l.home + "/bench.yaml")
	if out := l.want(0, []string{"it is closed to them now"}, "jobs"); strings.Count(out,
		"closed to them") != 1 {
		t.Errorf("%s; unwanted: strings.Count(out, 'closed to them') != 1", out)
	}
	if out := l.want(0, nil, "jobs"); strings.Contains(out, "closed to them") {
		t.Errorf("it is said again: %s", out)
	}
}

// TestCancelTransfer: on a terminal the first Ctrl-C waits for the write in progress and says so, the second
// ends the program within a second.
func TestCancelTransfer(t *testing.T) {
	t.Parallel()
	l := inProcesses(t)
	l.startProcess(t, "dunlin")
	l.fault("dunlin", "stall", sizeOf(files.Recovery)/2, "--for", "60")
	p := l.onTerminal("flash", files.Recovery, "--yes")
	l.awaitAct("recovery")
	time.Sleep(200 * time.Millisecond)
	p.master.Write([]byte{3})
	p.until(t, "stopping after the write in progress")
	began := time.Now()
	p.master.Write([]byte{3})
	<-p.ended
	if took, code := time.Since(began), p.cmd.ProcessState.ExitCode(); code != 7 || took > soon ||
		!strings.Contains(p.text(), "stopped by Ctrl-C") {
		t.Errorf("it ended with %d after %v:\n%s", code, took, p.text())
	}
}

// TestCancelEarly: a program that is stopped as soon as it runs ends with its result.
func TestCancelEarly(t *testing.T) {
	t.Parallel()
	l := inProcesses(t)
	slow := l.slowFile("slow.img.gz")
	for _, ms := range []time.Duration{20, 38, 60} {
		cmd := l.command("proof", slow, "--json")
		var out bytes.Buffer
		cmd.Stdout = &out
		if err := cmd.Start(); err != nil {
			t.Fatalf("cmd.Start(): %v", err)
		}
		time.Sleep(ms * time.Millisecond)
		cmd.Process.Signal(os.Interrupt)
		cmd.Wait()
		if cmd.ProcessState.Exited() && !strings.Contains(out.String(), `"event":"result"`) {
			t.Errorf("stopped after %d ms it ended with %d and no result: %s", ms,
				cmd.ProcessState.ExitCode(), out.String())
		}
	}
}

// TestCancelBlockedJSON: a program that hangs in a transfer ends at the second Ctrl-C within a second, with
// its journal whole and the result as JSON.
func TestCancelBlockedJSON(t *testing.T) {
	t.Parallel()
	l := inProcesses(t)
	l.startProcess(t, "dunlin")
	l.fault("dunlin", "stall", sizeOf(files.Recovery)/2, "--for", "60")
	cmd := l.command("flash", files.Recovery, "--yes", "--json")
	var out bytes.Buffer
	cmd.Stdout = &out
	if err := cmd.Start(); err != nil {
		t.Fatalf("cmd.Start(): %v", err)
	}
	l.awaitAct("recovery")
	time.Sleep(200 * time.Millisecond)
	cmd.Process.Signal(os.Interrupt)
	time.Sleep(300 * time.Millisecond)
	began := time.Now()
	cmd.Process.Signal(syscall.SIGTERM)
	cmd.Wait()
	took, code := time.Since(began), cmd.ProcessState.ExitCode()
	if code != 7 || took > soon || !strings.Contains(out.String(), `"event":"result","ok":false,"exit":7`) {
		t.Errorf("it ended with %d after %v:\n%s", code, took, out.String())
	}
	if last := l.lastJournal(); len(last) < 2 || last[1].Event != "act" {
		t.Errorf("the journal: %+v", last)
	}
}
