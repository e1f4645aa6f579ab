package guest

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"jarlid/internal/link/usb"
)

// TestInSpeed times a flash of 16 MiB against a bare loop that sends the same transfers to the
// same device and digests them, in pairs. Speeds in the guest say nothing about real cables; the
// ratio says what the program adds.
func TestInSpeed(t *testing.T) {
	d := newDesk(t)
	d.standin("dunlin")
	img := file(t, "dunlin", "large-16")
	var ratios []float64
	peak := int64(0)
	for range 3 {
		alone := bareFlash(t, img)
		cmd := d.command("flash", img, "--into", "recovery@a", "--accept", "recovery-on-one-slot", "--yes",
			"--on", "dunlin")
		began := time.Now()
		out, err := cmd.CombinedOutput()
		took := time.Since(began)
		if err != nil {
			t.Fatalf("cmd.CombinedOutput(): %v; want no error\n%s", err, out)
		}
		use, _ := cmd.ProcessState.SysUsage().(*syscall.Rusage)
		peak = max(peak, use.Maxrss>>10)
		ratios = append(ratios, took.Seconds()/alone.Seconds())
		t.Logf("bare %v, flash %v, %d MiB at most", alone.Round(time.Millisecond),
			took.Round(time.Millisecond), use.Maxrss>>10)
	}
	slices.Sort(ratios)
	t.Logf("ratios %.2f, median %.2f", ratios, ratios[1])
	// Wanted is at most 1.25, which docs/performance.md holds to what was measured; on a shared
	// machine only a gross loss is a fault of the program.
	if ratios[1] > 2 {
		t.Errorf("the median is %.2f, at most 2 is wanted", ratios[1])
	}
	if peak > 64 {
		t.Errorf("%d MiB of memory, and at most 64 are wanted", peak)
	}
}

// bareFlash has a process of its own send an image as a bare loop would: the start of a process
// takes its time in the guest, and is no part of what is compared.
func bareFlash(t *testing.T, path string) time.Duration {
	t.Helper()
	cmd := exec.Command("/init")
	cmd.Env = append(os.Environ(), bare+"="+path)
	began := time.Now()
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("the bare loop: %v\n%s", err, out)
	}
	return time.Since(began)
}

// sendBare is that process.
func sendBare(path string) error {
	ctx := context.Background()
	list, err := usb.System().List()
	if err != nil {
		return err
	}
	at := slices.IndexFunc(list, func(u usb.Device) bool { _, ok := u.Phone(); return ok })
	if at < 0 {
		return usb.ErrGone
	}
	i, _ := list[at].Phone()
	p, err := usb.System().Open(ctx, list[at], i)
	if err != nil {
		return err
	}
	defer p.Close()
	answer := make([]byte, p.Packet())
	say := func(cmd, want string) error {
		if cmd != "" {
			if _, err := p.Write(ctx, []byte(cmd)); err != nil {
				return err
			}
		}
		for {
			n, err := p.Read(ctx, answer)
			if err != nil {
				return err
			}
			switch got := string(answer[:n]); {
			case strings.HasPrefix(got, "INFO"):
			case !strings.HasPrefix(got, want):
				return fmt.Errorf("%s is answered by %q", cmd, got)
			default:
				return nil
			}
		}
	}
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	// What the phone is asked before it is sent anything.
	for _, cmd := range []string{"getvar:version", "getvar:is-userspace", "getvar:all"} {
		if err := say(cmd, ""); err != nil {
			return err
		}
	}
	if err := say(fmt.Sprintf("download:%08x", st.Size()), "DATA"); err != nil {
		return err
	}
	sum, buf := sha256.New(), make([]byte, 256<<10)
	for {
		n, err := io.ReadFull(f, buf)
		if n == 0 {
			break
		}
		sum.Write(buf[:n])
		if _, werr := p.Write(ctx, buf[:n]); werr != nil {
			return werr
		}
		if err != nil {
			break
		}
	}
	if err := say("", "OKAY"); err != nil {
		return err
	}
	if err := say("flash:recovery_a", "OKAY"); err != nil {
		return err
	}
	fmt.Printf("%x\n", sum.Sum(nil))
	return nil
}
