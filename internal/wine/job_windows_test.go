package wine

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"jarlid/internal/cli"
	"jarlid/internal/demo"
	"jarlid/internal/link/usb"
	"jarlid/internal/standin/scenario"
)

// desk is a phone on a cable, and the real program.
type desk struct {
	*testing.T
	plug      *plug
	home, exe string
	dir       string
}

func newDesk(t *testing.T) *desk {
	exe := os.Getenv("JARLID_EXE")
	if exe == "" {
		t.Skip("scripts/wine-test says where the program is")
	}
	dir := t.TempDir()
	return &desk{t, &plug{}, filepath.Join(dir, "home"), exe, dir}
}

// output is what somebody writes while others look.
type output struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (o *output) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.b.Write(p)
}

func (o *output) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.b.String()
}

// standin runs a phone in this process, on the cable.
func (d *desk) standin(args ...string) {
	d.Helper()
	out, stop, done := &output{}, make(chan struct{}, 2), make(chan int, 1)
	nobody := false
	go func() {
		done <- cli.Run(append([]string{"standin", "run", "dunlin", "--at", filepath.Join(d.dir, "dunlin"),
			"--usb", "--home", d.home}, args...),
			cli.Config{Stdin: strings.NewReader(""), Stdout: out, Stderr: out, Attended: &nobody,
				Interrupts: stop, Plug: d.plug})
	}()
	for range 600 {
		if strings.Contains(out.String(), "its storage is in") {
			d.Cleanup(func() {
				stop <- struct{}{}
				<-done
				if d.Failed() {
					d.Logf("the stand-in:\n%s", out)
				}
			})
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	d.Fatalf("the stand-in did not start:\n%s", out)
}

// want runs the real program, and wants it to end with code and to say texts.
func (d *desk) want(code int, texts []string, args ...string) string {
	d.Helper()
	ctx, cancel := context.WithTimeout(d.Context(), time.Minute)
	defer cancel()
	c := exec.CommandContext(ctx, d.exe, append(args, "--home", d.home)...)
	c.Dir = d.dir
	began := time.Now()
	c.WaitDelay = 10 * time.Second // Wine does not close the pipes of a program that was killed
	told := &output{}
	c.Stdout, c.Stderr = told, told
	err := c.Run()
	out := told.String()
	d.Logf("jarlid %s (%v)\n%s", strings.Join(args, " "), time.Since(began).Round(time.Millisecond), out)
	if c.ProcessState == nil || c.ProcessState.ExitCode() != code {
		d.Fatalf("jarlid %s ended with %v, want %d", strings.Join(args, " "), err, code)
	}
	for _, s := range texts {
		if !strings.Contains(out, s) {
			d.Fatalf("jarlid %s does not say %q", strings.Join(args, " "), s)
		}
	}
	return out
}

// pressing presses what is asked for, each as soon as the phone has it.
func (d *desk) pressing(keys ...string) (stop func()) {
	done := make(chan struct{})
	var all sync.WaitGroup
	all.Go(func() {
		nobody := false
		for _, k := range keys {
			for cli.Run([]string{"standin", "press", "dunlin", k, "--home", d.home},
				cli.Config{Stdin: strings.NewReader(""), Stdout: &output{}, Stderr: &output{},
					Attended: &nobody}) != 0 {
				select {
				case <-done:
					return
				case <-time.After(300 * time.Millisecond):
				}
			}
		}
	})
	return func() { close(done); all.Wait() }
}

// TestFirstJob: the whole first job by the real program, over Windows' own cable.
func TestFirstJob(t *testing.T) {
	d := newDesk(t)
	f, err := demo.MakeFiles(filepath.Join(d.dir, "files"), scenario.PhoneOf("dunlin"))
	if err != nil {
		t.Fatalf("demo.MakeFiles(filepath.Join(d.dir, 'files'), scenario.PhoneOf('dunlin')): %v", err)
	}
	more, err := demo.MakeMore(filepath.Join(d.dir, "files"), scenario.PhoneOf("dunlin"), 2)
	if err != nil {
		t.Fatalf("demo.MakeMore(filepath.Join(d.dir, 'files'), scenario.PhoneOf('dunlin'), 2): %v", err)
	}
	d.want(4, []string{"no phone is here"}, "bench")
	d.standin()
	d.want(0, []string{"dunlin", "WL-DU-0007", "bootloader"}, "bench")
	d.want(0, []string{"is a recovery for dunlin"}, "ident", f.Recovery)
	d.want(0, []string{"matches what it says of itself"}, "proof", f.Package)
	d.want(0, []string{"taken out of"}, "lift", f.Package, "boot", "-o", filepath.Join(d.dir, "out"))
	d.want(0, []string{"system_a"}, "flash", more.Set, "--yes")
	d.want(0, []string{"recovery_a and recovery_b written"}, "recovery", "install", f.Recovery, "--yes")
	d.want(0, []string{"Tideline Recovery 3.1 is running"}, "go", "recovery")
	d.want(0, nil, "backup", "take", "boot@a", "-o", filepath.Join(d.dir, "kept"))
	d.want(0, nil, "backup", "restore", "boot@a", "-o", filepath.Join(d.dir, "kept"), "--yes")
	d.want(0, nil, "fit", more.GSI, "--page", filepath.Join(d.dir, "fit.html"))
	d.want(0, []string{"the data is formatted"}, "wipe", "userdata", "--yes")
	d.want(0, []string{"is installed; slot b starts next"}, "sideload", f.Package, "--yes")
	d.want(0, nil, "go", "system", "--wait", "1s", "--yes")
	// Nobody sits at a terminal here, so the question about this computer's key ends it.
	defer d.pressing("finish welcome", "debugging on")()
	d.want(3, []string{"watching dunlin start", "not-authorised"}, "arrive", "--wait", "90s")
	d.want(0, []string{"sideload"}, "jobs")
}

// TestSheet: a sheet drafted from files and run, over the same cable.
func TestSheet(t *testing.T) {
	d := newDesk(t)
	f, err := demo.MakeFiles(filepath.Join(d.dir, "files"), scenario.PhoneOf("dunlin"))
	if err != nil {
		t.Fatalf("demo.MakeFiles(filepath.Join(d.dir, 'files'), scenario.PhoneOf('dunlin')): %v", err)
	}
	sheet := filepath.Join(d.dir, "files", "evening.yaml")
	d.standin()
	d.want(0, nil, "sheet", "draft", f.Recovery, "-o", sheet)
	d.want(0, nil, "sheet", "check", sheet)
	d.want(0, []string{"tasks done"}, "sheet", "run", sheet, "--yes")
}

// TestNoDriver: a phone that Windows has no driver for is found, and it is said what to choose.
func TestNoDriver(t *testing.T) {
	d := newDesk(t)
	d.plug.undriven = true
	d.standin()
	list, err := usb.System().List()
	if err != nil || len(list) != 1 || !list[0].NoDriver {
		t.Errorf("usb.System().List(): %+v %v; unwanted: err != nil || len(list) != 1 || !list[0].NoDriver",
			list, err)
	}
	d.want(4, []string{"no-driver", "WinUsb Device"}, "bench", "--why")
	d.want(3, []string{"stop  no-driver"}, "card")
}
