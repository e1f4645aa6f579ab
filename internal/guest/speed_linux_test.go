package guest

import (
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"jarlid/internal/link/usb"
)

// TestInSpeed times a flash of 32 MiB against a bare loop that sends the same transfers to the
// same device and digests them, in pairs. Speeds in the guest say nothing about real cables; the
// ratio says what the program adds.
func TestInSpeed(t *testing.T) {
	d := newDesk(t)
	d.standin("dunlin")
	img := file(t, "dunlin", "large-32")
	var ratios []float64
	peak := int64(0)
	for range 5 {
		bare := bareFlash(t, img)
		cmd := d.command("flash", img, "--into", "recovery@a", "--accept", "recovery-on-one-slot", "--yes", "--on", "dunlin")
		began := time.Now()
		out, err := cmd.CombinedOutput()
		took := time.Since(began)
		if err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		use, _ := cmd.ProcessState.SysUsage().(*syscall.Rusage)
		peak = max(peak, use.Maxrss>>10)
		ratios = append(ratios, took.Seconds()/bare.Seconds())
		t.Logf("bare %v, flash %v, %d MiB at most", bare.Round(time.Millisecond), took.Round(time.Millisecond), use.Maxrss>>10)
	}
	slices.Sort(ratios)
	t.Logf("ratios %.2f, median %.2f", ratios, ratios[2])
	if ratios[2] > 1.25 {
		t.Errorf("the median is %.2f, and at most 1.25 is wanted", ratios[2])
	}
	if peak > 64 {
		t.Errorf("%d MiB of memory, and at most 64 are wanted", peak)
	}
}

// bareFlash sends an image as a bare loop would.
func bareFlash(t *testing.T, path string) time.Duration {
	t.Helper()
	began := time.Now()
	u, _ := node(t)
	i, _ := u.Phone()
	p, err := usb.System().Open(t.Context(), u, i)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	answer := make([]byte, p.Packet())
	say := func(cmd, want string) {
		if cmd != "" {
			if _, err := p.Write(t.Context(), []byte(cmd)); err != nil {
				t.Fatal(err)
			}
		}
		n, err := p.Read(t.Context(), answer)
		if err != nil || !strings.HasPrefix(string(answer[:n]), want) {
			t.Fatalf("%s: %q, %v", cmd, answer[:n], err)
		}
	}
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		t.Fatal(err)
	}
	// What the phone is asked before it is sent anything.
	for _, cmd := range []string{"getvar:version", "getvar:is-userspace", "getvar:all"} {
		say(cmd, "")
		for !strings.HasPrefix(string(answer), "OKAY") && !strings.HasPrefix(string(answer), "FAIL") {
			say("", "")
		}
	}
	say(fmt.Sprintf("download:%08x", st.Size()), "DATA")
	sum, buf := sha256.New(), make([]byte, 256<<10)
	for {
		n, err := io.ReadFull(f, buf)
		if n == 0 {
			break
		}
		sum.Write(buf[:n])
		if _, err := p.Write(t.Context(), buf[:n]); err != nil {
			t.Fatal(err)
		}
		if err != nil {
			break
		}
	}
	say("", "OKAY")
	say("flash:recovery_a", "OKAY")
	return time.Since(began)
}
