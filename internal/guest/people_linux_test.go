package guest

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"jarlid/internal/link/usb"
)

// node gives the node of the only phone that is plugged in.
func node(t *testing.T) (usb.Device, string) {
	t.Helper()
	list, err := usb.System().List()
	if err != nil {
		t.Fatalf("usb.System().List(): %v", err)
	}
	for _, u := range list {
		if _, ok := u.Phone(); ok {
			return u, fmt.Sprintf("/dev/bus/usb/%03d/%03d", u.Bus, u.Number)
		}
	}
	t.Fatal("no phone is plugged in")
	return usb.Device{}, ""
}

// hold has another program, called flockwatch, hold a phone until the test ends.
func (d *workplace) hold(serial string) {
	d.Helper()
	path := filepath.Join(d.dir, "flockwatch")
	if err := os.Symlink("/init", path); err != nil {
		d.Fatalf("os.Symlink('/init', %v): %v", path, err)
	}
	cmd := exec.Command(path)
	cmd.Env = append(os.Environ(), holding+"="+serial)
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		d.Fatalf("cmd.StdoutPipe(): %v", err)
	}
	d.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	if line, err := bufio.NewReader(out).ReadString('\n'); err != nil || line != "held\n" {
		d.Fatalf("bufio.NewReader(out).ReadString('\\n'): %q, %v; unwanted: err != nil || line != 'held\\n'",
			line, err)
	}
}

// holdOn is that program.
func holdOn() {
	for range 100 {
		list, _ := usb.System().List()
		for _, u := range list {
			i, ok := u.Phone()
			if !ok || u.Serial != os.Getenv(holding) {
				continue
			}
			if _, err := usb.System().Open(context.Background(), u, i); err == nil {
				fmt.Println("held")
				select {}
			}
		}
		time.Sleep(100 * time.Millisecond)
	}
	os.Exit(1)
}

// TestInPeopleRights: an ordinary user is told that the right is missing, and works with the
// group the rule gives; a program that holds the phone is named.
func TestInPeopleRights(t *testing.T) {
	d := newDesk(t)
	d.standin("dunlin")
	_, at := node(t)
	if err := os.Chmod(at, 0o600); err != nil {
		t.Fatalf("os.Chmod(at, 0o600): %v", err)
	}
	plover := d.other(1000)
	plover.want(4, []string{"no-permission", "bench --rule"}, "bench", "--why")
	plover.want(3, []string{"stop  no-permission"}, "slot")
	// What the rule does: the group plugdev and 0660.
	if err := os.Chown(at, 0, 46); err != nil {
		t.Fatalf("os.Chown(at, 0, 46): %v", err)
	}
	if err := os.Chmod(at, 0o660); err != nil {
		t.Fatalf("os.Chmod(at, 0o660): %v", err)
	}
	plover.want(3, []string{"stop  no-permission"}, "slot")
	d.other(1000, 46).want(0, []string{"WL-DU-0007"}, "slot")

	d.hold("WL-DU-0007")
	d.want(3, []string{"stop  held-by-another", "in use by flockwatch, process"}, "slot")
	d.want(4, []string{"dunlin, held", "end flockwatch (process"}, "bench", "--why")
	d.other(1000, 46).want(3, []string{"stop  held-by-another", "a program of another user"}, "slot")
}

// TestInPeopleTwo: two phones of one model side by side, each with its own job, at the same time.
func TestInPeopleTwo(t *testing.T) {
	d := newDesk(t)
	model, err := os.ReadFile("/files/twin.yaml")
	if err != nil {
		t.Fatalf("os.ReadFile('/files/twin.yaml'): %v", err)
	}
	twin := d.dir + "/twin.yaml"
	if err := os.WriteFile(twin, model, 0o644); err != nil {
		t.Fatalf("os.WriteFile(twin, %v, 0o644): %v", model, err)
	}
	d.standin("dunlin")
	d.standin(twin, "--as", "twin")
	d.want(3, []string{"several-phones"}, "slot")
	both := func(texts []string, args ...string) {
		var all sync.WaitGroup
		for _, on := range []string{"dunlin", "twin"} {
			all.Go(func() {
				code, out := d.run(append(args, "--on", on)...)
				if code != 0 || !strings.Contains(out, texts[0]) {
					t.Errorf("%s on %s ended with %d:\n%s", strings.Join(args, " "), on, code, out)
				}
			})
		}
		all.Wait()
	}
	both([]string{"recovery_a and recovery_b written"}, "recovery", "install", file(t, "dunlin", "large-1"),
		"--yes")
	// And as one sheet for both.
	sheet := d.dir + "/two.yaml"
	if err := os.WriteFile(sheet,
		[]byte("sheet: 1\nname: two of them\nfiles: {recovery: tideline.img}\ntasks:\n  - recovery "+
			"install: recovery\n  - go: recovery\n  - wipe: userdata\n"), 0o644); err != nil {
		t.Fatalf("os.WriteFile(sheet, ..., 0o644): %v", err)
	}
	d.want(0, []string{"done on all 2 phones", "dunlin: Tideline Recovery 3.1 is running",
		"twin: Tideline Recovery 3.1 is running", "twin: all 3 tasks done", "dunlin: all 3 tasks done"},
		"sheet", "run", sheet, "--on", "dunlin,twin", "--file", "recovery="+file(t, "dunlin", "tideline"),
		"--yes")
}

// TestInPeopleReplug: another socket, a mode that shows itself only when the cable was pulled and
// put back, and a program that was killed in the middle of a transfer.
func TestInPeopleReplug(t *testing.T) {
	d := newDesk(t)
	d.standin("dunlin")
	img := file(t, "dunlin", "large-4")
	port := func() string {
		var r struct {
			Phones []struct{ USB struct{ Port string } }
		}
		d.result(0, &r, "bench")
		return r.Phones[0].USB.Port
	}
	first := port()
	d.want(0, nil, "standin", "fault", "dunlin", "elsewhere", "--after", "3000000")
	code, out := d.run("recovery", "install", img, "--yes")
	d.broken("put into another socket", code, out)
	d.back(1)
	if now := port(); now == first {
		t.Errorf("it is at %s still", now)
	}
	// Killed in the middle of a download: the bootloader waits for the rest.
	cmd := d.command("recovery", "install", img, "--yes")
	if err := cmd.Start(); err != nil {
		t.Fatalf("cmd.Start(): %v", err)
	}
	d.until("the transfer is under way", func() bool {
		list, _ := filepath.Glob(filepath.Join(d.home, "jobs", "*", "transfer"))
		if len(list) == 0 {
			return false
		}
		var announced, taken int64
		b, _ := os.ReadFile(list[len(list)-1])
		_, _ = fmt.Sscanf(string(b), "announced %x taken %x", &announced, &taken)
		return taken > 2<<20
	})
	if err := cmd.Process.Signal(syscall.SIGKILL); err != nil {
		t.Fatalf("cmd.Process.Signal(syscall.SIGKILL): %v", err)
	}
	_ = cmd.Wait()
	d.want(0, []string{"filled up with zeros", "slot a"}, "slot")
	d.want(0, []string{"recovery_a and recovery_b written"}, "recovery", "install", img, "--yes")
	d.want(0, []string{"recovery_a and recovery_b written"}, "recovery", "install",
		file(t, "dunlin", "tideline"), "--yes")
	d.want(0, nil, "go", "recovery")
	d.want(0, nil, "standin", "fault", "dunlin", "replug")
	waiting := d.command("go", "sideload")
	said, err := os.Create(d.dir + "/waiting.txt")
	if err != nil {
		t.Fatalf("os.Create(waiting.txt): %v", err)
	}
	defer func() { _ = said.Close() }()
	waiting.Stdout, waiting.Stderr = said, said
	if err := waiting.Start(); err != nil {
		t.Fatalf("waiting.Start(): %v", err)
	}
	// However slow this machine is: the hint comes first, then the cable moves.
	const hint = "pull the cable and put it back"
	d.until("go sideload says "+hint, func() bool {
		b, _ := os.ReadFile(said.Name())
		return strings.Contains(string(b), hint)
	})
	d.want(0, nil, "standin", "press", "dunlin", "cable-out", "cable-in")
	if err := waiting.Wait(); err != nil {
		b, _ := os.ReadFile(said.Name())
		t.Errorf("waiting.Wait(): %v:\n%s", err, b)
	}
}
