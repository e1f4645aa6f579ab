package e2e

import (
	"bytes"
	"jarlid/internal/standin/standintest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// bigRecovery makes a recovery of the given size, so that a transfer takes long enough to be
// interrupted.
func bigRecovery(size int) []byte { return must(standintest.LargeRecovery(size)) }

// awaitAct waits until a journal says that the wanted step is under way.
func (l *lab) awaitAct(title string) {
	l.Helper()
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(
		2 * time.Millisecond) {
		for _, records := range l.journals() {
			if len(records) == 0 {
				continue // its first line is still being written
			}
			if last := records[len(records)-1]; last.Event == "act" && strings.Contains(last.Title, title) {
				return
			}
		}
	}
	l.Fatalf("no journal came to the step %q", title)
}

// TestKilled kills the program, or the phone, in the middle of a transfer: the
// journal says what was under way, the next command knows, and the job can be
// repeated to its end. The cable stands still while it happens.
func TestKilled(t *testing.T) {
	t.Parallel()
	recovery := bigRecovery(8 << 20)
	for _, c := range []struct {
		name, step string
		phone      bool
	}{
		{"jarlid while it writes", "write large.img to recovery_b", false},
		{"the phone while it is written", "write large.img to recovery_b", true},
		{"jarlid while it sideloads", "install", false},
		{"the phone while it installs", "install", true},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			l := inProcesses(t)
			model := l.model("big")
			p := l.startProcess(t, model)
			job := []string{"recovery", "install", l.file("large.img", recovery), "--yes"}
			after := int64(len(recovery)) * 3 / 2
			if c.step == "install" {
				l.want(0, nil, "recovery", "install", files.Recovery, "--yes")
				l.want(0, nil, "go", "recovery")
				l.want(0, nil, "wipe", "userdata", "--yes")
				job = []string{"sideload", files.Package, "--yes"}
				after = must(os.Stat(files.Package)).Size() * 3 / 2 // in the second pass, while it is written
			}
			l.fault("dunlin", "stall", after, "--for", "3")
			cmd := l.command(job...)
			var out bytes.Buffer
			cmd.Stdout = &out
			if err := cmd.Start(); err != nil {
				t.Fatalf("cmd.Start(): %v", err)
			}
			l.awaitAct(c.step)
			time.Sleep(300 * time.Millisecond)
			if c.phone {
				p.kill()
			} else {
				cmd.Process.Kill()
			}
			cmd.Wait()
			last := l.lastJournal()
			end := last[len(last)-1]
			if c.phone {
				if code := cmd.ProcessState.ExitCode(); code != 5 {
					t.Fatalf("ended with %d, want 5:\n%s", code, out.String())
				}
				if end.Event != "end" || end.Error == "" || last[len(last)-2].Event != "failed" {
					t.Fatalf("the journal ends with %+v", end)
				}
				l.startProcess(t, model)
			} else if end.Event != "act" || !strings.Contains(end.Title, c.step) {
				t.Fatalf("the journal ends with %+v, want the act under way", end)
			}
			if c.step == "install" {
				// What was half-written is not next, and nothing says it is there.
				if !c.phone { // the recovery notices and goes back to its menu
					l.untilMode("dunlin", "recovery")
					l.want(0, []string{"b      no             no            no"}, "slot")
				}
				l.want(0, []string{"installed: "}, append(job, "--accept", "encrypted-data")...)
				return
			}
			l.want(0, []string{"recovery_a and recovery_b written"}, job...)
			l.want(0, []string{"Large Recovery 1 is running"}, "go", "recovery")
			stored := must(os.ReadFile(filepath.Join(l.dir, "big", "partitions", "recovery_b.img")))
			if !bytes.Equal(stored[:len(recovery)], recovery) {
				t.Error("recovery_b is not what was sent")
			}
		})
	}
}

// TestCtrlC: the first one ends after the write in progress.
func TestCtrlC(t *testing.T) {
	t.Parallel()
	l := inProcesses(t)
	l.startProcess(t, l.model("big"))
	recovery := bigRecovery(8 << 20)
	l.fault("dunlin", "stall", int64(len(recovery))/2, "--for", "2")
	cmd := l.command("recovery", "install", l.file("large.img", recovery), "--yes")
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Start(); err != nil {
		t.Fatalf("cmd.Start(): %v", err)
	}
	l.awaitAct("recovery_a")
	time.Sleep(200 * time.Millisecond)
	if err := cmd.Process.Signal(os.Interrupt); err != nil {
		t.Skip("this system has no interrupt to send: ", err)
	}
	cmd.Wait()
	last := l.lastJournal()
	var events []string
	for _, r := range last {
		events = append(events, string(r.Event))
	}
	if got := strings.Join(events, " "); got != "begin act done interrupted end" {
		t.Errorf("the journal has %q", got)
	}
	if code := cmd.ProcessState.ExitCode(); code != 7 ||
		!strings.Contains(out.String(), "after the write in progress") {
		t.Errorf("ended with %d:\n%s", code, out.String())
	}
}
