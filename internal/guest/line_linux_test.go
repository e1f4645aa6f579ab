package guest

import (
	"bytes"
	"fmt"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"jarlid/internal/link/serial"
)

// TestInLine is the first job on a phone with a loader, over a serial line that the kernel's own driver
// (cdc_acm) makes of a cable: cut, killed, without the right to it, and to its end.
func TestInLine(t *testing.T) {
	d := newDesk(t)
	d.standin("knot")
	recovery, rom := file(t, "knot", "tideline"), file(t, "knot", "saltmarsh")
	want, err := os.ReadFile(recovery)
	if err != nil {
		t.Fatalf("os.ReadFile(recovery): %v", err)
	}
	var lines []serial.Line
	d.until("the driver has its line", func() bool {
		lines, _ = serial.System().List()
		return len(lines) == 1
	})
	line := lines[0]
	if line.USB != "1209:4b4e" || line.Serial != "WL-KN-0301" || line.Socket == "" {
		t.Fatalf("os.ReadFile(recovery): %+v", line)
	}
	d.want(0, []string{"knot", "WL-KN-0301", "loader", "usb:" + line.Socket}, "bench")
	for _, on := range []string{"knot", "WL-KN-0301", "usb:" + line.Socket, "serial:" + line.Path} {
		d.want(0, []string{"in its maker's loader"}, "card", "--on", on)
	}
	stranger := d.other(0)
	stranger.home += "-new" // where nobody has listed it
	stranger.want(0, []string{"WL-KN-0301", "knot", "loader"}, "bench")

	if err := os.Chmod(line.Path, 0o600); err != nil {
		t.Fatalf("os.Chmod(line.Path, 0o600): %v", err)
	}
	d.other(1000).want(3, []string{"stop  no-permission", "bench --rule"}, "card")
	if err := os.Chown(line.Path, 0, 46); err != nil {
		t.Fatalf("os.Chown(line.Path, 0, 46): %v", err)
	}
	if err := os.Chmod(line.Path, 0o660); err != nil {
		t.Fatalf("os.Chmod(line.Path, 0o660): %v", err)
	}
	d.other(1000, 46).want(0, []string{"in its maker's loader"}, "card")

	install := []string{"recovery", "install", recovery, "--yes"}
	// A program that ends in the middle of a message leaves the line usable.
	cmd, out := d.command(install...), new(bytes.Buffer)
	cmd.Stdout, cmd.Stderr = out, out
	if err := cmd.Start(); err != nil {
		t.Fatalf("cmd.Start(): %v", err)
	}
	for end := time.Now().Add(long); !strings.Contains(d.said("knot"), "Receiving recovery"); time.Sleep(
		50 * time.Millisecond) {
		if time.Now().After(end) {
			_ = cmd.Process.Signal(syscall.SIGQUIT)
			_ = cmd.Wait()
			t.Fatalf("it does not write:\n%s", out)
		}
	}
	// Soon: the two cuts below need enough of the file.
	time.Sleep(100 * time.Millisecond)
	_ = cmd.Process.Signal(syscall.SIGKILL)
	_ = cmd.Wait() // it was killed
	d.want(0, []string{"in its maker's loader"}, "card")
	for _, after := range []string{"1000", fmt.Sprint(len(want) / 5)} {
		d.want(0, nil, "standin", "fault", "knot", "drop", "--after", after)
		code, out := d.run(install...)
		d.broken("pulled after "+after, code, out)
		d.back(1)
	}
	d.want(0, []string{"recovery written, read back, it matches"}, install...)
	if !bytes.HasPrefix(d.stored("knot", "recovery"), want) {
		t.Error("recovery does not hold what was written")
	}
	d.want(3, []string{"stop  restart-undoes-recovery"}, "go", "system")
	press := func(keys ...string) { // each as soon as the phone takes it
		for _, key := range keys {
			d.until("it takes "+key, func() bool {
				code, _ := d.run("standin", "press", "knot", key)
				return code == 0
			})
		}
	}
	press("battery-out", "battery-in", "volume-up+side+power")
	d.seen("recovery")
	d.want(0, nil, "wipe", "userdata", "--yes")
	d.want(0, []string{"is installed"}, "sideload", rom, "--then", "stay", "--yes")
	// Back into the loader: the line comes again, under the same name.
	press("battery-out", "battery-in", "volume-down+side+power", "volume-up")
	d.seen("loader")
	d.want(0, nil, "backup", "take", "boot", "-o", d.dir+"/kept")
	if !bytes.HasPrefix(d.stored("knot", "recovery"), want) {
		t.Error("the recovery is gone")
	}
}
