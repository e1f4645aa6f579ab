package e2e

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"
)

// program builds jarlid once, for the tests that run it as a process.
var program = sync.OnceValues(func() (string, error) {
	path := filepath.Join(workdir, "jarlid")
	if runtime.GOOS == "windows" {
		path += ".exe"
	}
	if out, err := exec.Command("go", "build", "-o", path, "jarlid/cmd/jarlid").CombinedOutput(); err != nil {
		return "", fmt.Errorf("go build: %w\n%s", err, out)
	}
	return path, nil
})

// inProcesses gives a lab on the computer's own network, whose programs are processes.
func inProcesses(t testing.TB) *lab {
	if _, err := program(); err != nil {
		t.Fatalf("program(): %v", err)
	}
	dir := t.TempDir()
	l := &lab{home: filepath.Join(dir, "home"), dir: dir}
	l.T, _ = t.(*testing.T)
	return l
}

// command is jarlid with the lab's home, to be run as a process.
func (l *lab) command(args ...string) *exec.Cmd {
	cmd := exec.Command(must(program()), append(args, "--home", l.home)...)
	cmd.Env = append(os.Environ(), "NO_COLOR=1", "XDG_RUNTIME_DIR="+l.dir)
	return cmd
}

func (l *lab) runProcess(args ...string) (int, string) {
	out, err := l.command(args...).CombinedOutput()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		panic(err)
	}
	if exit != nil {
		return exit.ExitCode(), string(out)
	}
	return 0, string(out)
}

// runningPhone is a stand-in that is a process.
type runningPhone struct {
	cmd  *exec.Cmd
	done chan struct{}
}

// startProcess starts a stand-in as a process and waits until it can be reached.
func (l *lab) startProcess(tb testing.TB, model string, args ...string) *runningPhone {
	tb.Helper()
	at := filepath.Join(l.dir, strings.TrimSuffix(filepath.Base(model), ".yaml"))
	cmd := l.command(append([]string{"standin", "run", model, "--at", at}, args...)...)
	out := must(cmd.StdoutPipe())
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		tb.Fatalf("cmd.Start(): %v", err)
	}
	p := &runningPhone{cmd: cmd, done: make(chan struct{})}
	tb.Cleanup(p.kill)
	ready := make(chan bool, 1)
	var log bytes.Buffer
	go func() {
		defer close(p.done)
		for s := bufio.NewScanner(out); s.Scan(); {
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
			tb.Fatalf("the stand-in did not start:\n%s", log.String())
		}
	case <-time.After(30 * time.Second):
		tb.Fatal("the stand-in did not get ready")
	}
	return p
}

// kill ends a stand-in at once, as a crash would.
func (p *runningPhone) kill() {
	p.cmd.Process.Kill()
	<-p.done
}

// TestUDP runs a whole write over UDP.
func TestUDP(t *testing.T) {
	t.Parallel()
	l := inProcesses(t)
	l.startProcess(t, "dunlin")
	var here struct{ Phones []struct{ Address string } }
	l.result(0, &here, "bench")
	udp := strings.Replace(here.Phones[0].Address, "tcp:", "udp:", 1)
	other := l.other("other")
	other.want(0, []string{"in its bootloader"}, "slot", "--on", udp)
	other.want(0, []string{"recovery_a and recovery_b written"}, "recovery", "install", files.Recovery,
		"--yes", "--on", udp)
	if !bytes.HasPrefix(l.stored("dunlin", "recovery_b"), must(os.ReadFile(files.Recovery))) {
		t.Error("recovery_b does not hold the image")
	}
	other.want(4, []string{"does not answer"}, "slot", "--on", "udp:127.0.0.1:9")
}
