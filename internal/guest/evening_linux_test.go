package guest

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// file gives the scenario's file whose name begins so.
func file(t testing.TB, device, begin string) string {
	t.Helper()
	list, _ := filepath.Glob(filepath.Join("/files", device, begin+"*"))
	if len(list) == 0 {
		t.Fatalf("there is no file %s/%s*", device, begin)
	}
	return list[0]
}

// TestInEvening is the whole evening on dunlin over the cable: the recovery, the data, the ROM,
// the first boot.
func TestInEvening(t *testing.T) {
	d := newDesk(t)
	d.standin("dunlin")
	d.want(0, []string{"dunlin", "WL-DU-0007", "usb:", "480 Mbit/s"}, "bench")
	recovery, rom := file(t, "dunlin", "tideline"), file(t, "dunlin", "saltmarsh-4.2-dunlin.zip")
	d.want(3, []string{"stop"}, "recovery", "install", rom)
	d.want(0, []string{"recovery_a and recovery_b written"}, "recovery", "install", recovery, "--yes")
	d.want(0, []string{"Tideline Recovery 3.1 is running"}, "go", "recovery")
	d.want(3, []string{"stop  encrypted-data"}, "sideload", rom)
	d.want(0, nil, "wipe", "userdata", "--yes")
	d.want(0, []string{"slot b starts next"}, "sideload", rom, "--yes")
	d.want(0, []string{"Tideline Recovery 3.1"}, "slot")
	d.want(0, nil, "go", "system", "--wait", "5s", "--yes")
	// Debugging is off: the cable shows its files and nothing else, and that is said.
	for end := time.Now().Add(time.Minute); ; time.Sleep(time.Second) { // it comes up in its own time
		if _, out := d.run("bench", "--why"); strings.Contains(out, "files-only") || time.Now().After(end) {
			break
		}
	}
	out := d.want(4, []string{"files-only", "debugging is off"}, "bench", "--why")
	if !strings.Contains(out, "dunlin, files-only") {
		t.Errorf("it is not said that this is dunlin:\n%s", out)
	}
	for _, key := range []string{"finish welcome", "debugging on"} {
		d.want(0, nil, "standin", "press", "dunlin", key)
	}
	d.seen("not authorised")
	d.want(4, []string{"not-authorised", "fingerprint"}, "bench", "--why")
	want, err := os.ReadFile(recovery)
	if err != nil {
		t.Fatalf("os.ReadFile(recovery): %v", err)
	}
	for _, slot := range []string{"a", "b"} {
		if got := d.stored("dunlin", "recovery_"+slot); !bytes.HasPrefix(got, want) {
			t.Errorf("recovery_%s does not hold what was written", slot)
		}
	}
}

// TestInHomes: a recovery in the boot image and in vendor_boot, a system into logical partitions,
// a backup and its way back.
func TestInHomes(t *testing.T) {
	t.Run("godwit", func(t *testing.T) {
		d := newDesk(t)
		d.standin("godwit")
		recovery := file(t, "godwit", "tideline-3.1")
		d.want(0, nil, "flash", file(t, "godwit", "tideline-dtbo"), "--into", "@both", "--yes")
		d.want(0, nil, "recovery", "try", recovery, "--yes")
		kept := filepath.Join(d.dir, "kept")
		d.want(0, nil, "backup", "take", "boot@a", "-o", kept)
		before := bytes.Clone(d.stored("godwit", "boot_a"))
		d.want(0, []string{"boot_a written"}, "recovery", "install", recovery, "--into", "@a", "--accept",
			"recovery-on-one-slot", "--yes")
		d.want(0, []string{"Tideline Recovery 3.1 is running"}, "go", "recovery")
		if bytes.Equal(before, d.stored("godwit", "boot_a")) {
			t.Error("nothing was written")
		}
		d.want(0, nil, "backup", "restore", "boot@a", "-o", kept, "--yes")
		if !bytes.Equal(before, d.stored("godwit", "boot_a")) {
			t.Error("the backup did not bring back what was there")
		}
	})
	t.Run("avocet", func(t *testing.T) {
		d := newDesk(t)
		d.standin("avocet")
		d.want(0, []string{"vendor_boot"}, "recovery", "install", file(t, "avocet", "tideline-3.1"), "--yes")
		d.want(0, nil, "go", "fastbootd")
		d.want(0, nil, "flash", file(t, "avocet", "saltmarsh-gsi-4.2-arm64.img"), "--into", "system", "--yes")
	})
}
