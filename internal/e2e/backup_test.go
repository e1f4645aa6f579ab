package e2e

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jarlid/internal/core/image/ext4"
)

// TestBackup takes a phone's partitions and storage, with the cable pulled on the
// way, and puts named ones back.
func TestBackup(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		l.inRecovery("dunlin", files.Recovery)
		dir := filepath.Join(l.dir, "kept")
		if out := l.want(3, []string{"stop  no-such-partition: this phone has no partition nosuch; it " +
			"has: boot_a"}, "backup", "take", "nosuch", "-o", dir); strings.Contains(out, "goes on where") {
			t.Errorf("nothing was begun:\n%s", out)
		}
		l.want(0, []string{"not in it: ", ", storage"}, "backup", "take", "boot@a", "vbmeta", "-o",
			filepath.Join(l.dir, "made", "on", "the", "way")) // parents that are missing are made
		l.want(0, nil, "wipe", "userdata", "--yes")
		when := time.Date(2026, 5, 3, 7, 30, 0, 0, time.UTC)
		shared := filepath.Join(l.dir, "dunlin", "shared")
		counts := bytes.Repeat([]byte("dunlin 214, sanderling 31\n"), 4000)
		for name, b := range map[string][]byte{"counts/spring.csv": counts,
			"a photo.jpg": {0xff, 0xd8, 0xff}} {
			path := filepath.Join(shared, filepath.FromSlash(name))
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				t.Fatalf("os.MkdirAll(filepath.Dir(path), 0o755): %v", err)
			}
			if err := os.WriteFile(path, b, 0o644); err != nil {
				t.Fatalf("os.WriteFile(%v, b, 0o644): %v", path, err)
			}
			if err := os.Chtimes(path, when, when); err != nil {
				t.Fatalf("os.Chtimes(%v, when, when): %v", path, err)
			}
		}
		// The cable is pulled at every few hundred acknowledgements until it is whole.
		code, rounds, out := -1, 0, ""
		for after := int64(30000); code != 0; after *= 4 {
			l.fault("dunlin", "drop", after)
			code, out = l.run("backup", "take", "-o", dir, "--json")
			if rounds++; rounds > 9 {
				t.Fatal("it never gets whole")
			}
		}
		l.fault("dunlin", "clear", 0)
		if rounds < 2 {
			t.Error("the cable was never pulled")
		}
		var r struct {
			Items []struct {
				Name, SHA256 string
				Bytes        int64
			}
			Without []string
		}
		lines := strings.Split(strings.TrimSpace(out), "\n")
		if err := json.Unmarshal([]byte(lines[len(lines)-1]), &r); err != nil {
			t.Fatalf("json.Unmarshal([]byte(lines[len(lines)-1]), &r): %v", err)
		}
		l.want(3, []string{"stop  backup-exists", "holds a finished backup of dunlin"}, "backup",
			"take", "-o", dir)
		if len(r.Without) == 0 || len(r.Items) < 6 {
			t.Errorf("%+v; unwanted: len(r.Without) == 0 || len(r.Items) < 6", r)
		}
		for _, i := range r.Items {
			if i.Name == "storage" {
				continue
			}
			got := must(os.ReadFile(filepath.Join(dir, i.Name+".img")))
			if want := l.stored("dunlin", i.Name); !bytes.Equal(got, want) || int64(len(got)) != i.Bytes {
				t.Errorf("%s is not what the phone has", i.Name)
			}
		}
		photo := filepath.Join(dir, "storage", "a photo.jpg")
		if st := must(os.Stat(photo)); !st.ModTime().Equal(when) {
			t.Errorf("the photo's time is %s", st.ModTime())
		}
		// What is damaged is not written, what is of another phone asks.
		boot := l.stored("dunlin", "boot_a")
		image := filepath.Join(dir, "boot_a.img")
		bad := bytes.Clone(boot)
		bad[5000] ^= 1
		if err := os.WriteFile(image, bad, 0o644); err != nil {
			t.Fatalf("os.WriteFile(image, bad, 0o644): %v", err)
		}
		l.want(3, []string{"stop  damaged-file: boot_a.img is damaged: its sha256 is"}, "backup", "restore",
			"boot@a", "-o", dir, "--yes")
		if err := os.WriteFile(image, boot, 0o644); err != nil {
			t.Fatalf("os.WriteFile(image, boot, 0o644): %v", err)
		}
		l.want(2, []string{"the backup has no system"}, "backup", "restore", "system", "-o", dir)
		l.want(0, nil, "wipe", "part:boot@a", "--yes")
		l.want(0, nil, "go", "recovery", "--yes")
		l.want(0, nil, "wipe", "storage", "--yes")
		if there(filepath.Join(shared, "a photo.jpg")) {
			t.Fatal("the storage was not wiped")
		}
		l.want(0, []string{"boot_a written", "the files are back"}, "backup", "restore", "boot@a", "storage",
			"-o", dir, "--yes")
		if !bytes.Equal(l.stored("dunlin", "boot_a"), boot) {
			t.Error("boot_a is not as it was")
		}
		back := filepath.Join(shared, "counts", "spring.csv")
		if got := must(os.ReadFile(back)); !bytes.Equal(got, counts) ||
			!must(os.Stat(back)).ModTime().Equal(when) {
			t.Error("the counts are not as they were")
		}
		// The other slot gets the same, proven by digests.
		l.want(0, []string{"boot is the same on both slots, their digests match"}, "slot", "copy",
			"boot", "--yes")
		if !bytes.Equal(l.stored("dunlin", "boot_b"), boot) {
			t.Error("boot_b is not a copy")
		}
		l.want(3, []string{"stop  no-such-partition"}, "slot", "copy", "nosuch", "--yes")
	})
}

// TestShelveEnforced: what is moved aside on a partition whose hash tree is enforced
// keeps the slot from starting.
func TestShelveEnforced(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		l.inRecovery("dunlin", files.Recovery)
		l.want(2, []string{"is a whole partition"}, "shelve", "/vendor")
		l.want(3, []string{"stop  no-such-file"}, "shelve", "/system/app/none", "--yes", "--accept",
			"verity-would-reject")
		l.want(3, []string{"stop  verity-would-reject"}, "shelve", "/system/etc/about.txt", "--yes")
		l.want(0, []string{"moved aside on system_a"}, "shelve", "/system/etc/about.txt", "--yes", "--accept",
			"verity-would-reject")
		l.want(5, []string{"came up in bootloader instead of system"}, "go", "system", "--wait",
			"20s", "--yes")
		if !ext4.IsMagic(l.stored("dunlin", "system_a")) {
			t.Error("the system is gone")
		}
	})
}
