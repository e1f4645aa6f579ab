package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// inQuirky brings a phone with these quirks into its third-party recovery.
func (l *lab) inQuirky(model, quirks string) kit {
	l.Helper()
	l.standin(l.modelOf(model, model, "standin:\n", "standin:\n  quirks: {"+quirks+"}\n"))
	k := kitOf(l.T, model, map[string]int{"dunlin": 2, "turnstone": 1}[model])
	l.inRecovery(model, k.recovery)
	return k
}

// TestQuirks: recoveries differ in their shells, tools, names and mounts. What there is another way for works
// as it does elsewhere; what there is none for costs that one fact.
func TestQuirks(t *testing.T) {
	evening := func(l *lab, model string, k kit) { // read, format, put, keep, write
		l.want(0, []string{"in recovery"}, "card")
		l.want(0, []string{"the data is formatted"}, "wipe", "userdata", "--yes")
		l.want(0, nil, "put", k.recovery, "--to", "storage", "--yes")
		if !there(filepath.Join(l.dir, model, "shared", filepath.Base(k.recovery))) {
			l.Errorf("the storage of %s does not hold what was put there", model)
		}
		l.want(0, []string{"storage"}, "backup", "take", "misc", "storage", "-o",
			filepath.Join(l.dir, "kept"))
		if !there(filepath.Join(l.dir, "kept", "storage", filepath.Base(k.recovery))) {
			l.Errorf("the backup of %s does not hold the file in its storage", model)
		}
		l.want(3, []string{"stop  storage-holds-package"}, "wipe", "userdata")
	}
	cases := map[string]func(l *lab){}
	for name, quirks := range map[string]string{
		"none":                              "bind: false",
		"a bind mount":                      "bind: true",
		"a banner and an old id":            "banner: Welcome, old-id: true",
		"an old id and no status":           "old-id: true, no-status: true",
		"a small mke2fs":                    "small-mke2fs: true",
		"no blockdev":                       "lacks: [blockdev]",
		"no blockdev and no sys":            "lacks: [blockdev], no-sys: true",
		"no grep":                           "lacks: [grep], by-name: none",
		"names in bootdevice":               "by-name: bootdevice",
		"names in platform":                 "by-name: platform",
		"names from the kernel alone":       "by-name: none",
		"names from the kernel, no tools":   "by-name: none, lacks: [blockdev, readlink, head]",
		"no sha256sum, df and readlink":     "lacks: [sha256sum, df, readlink]",
		"the data is not mounted by itself": "unmounted: true",
	} {
		for _, model := range []string{"dunlin", "turnstone"} {
			cases[model+", "+name] = func(l *lab) { evening(l, model, l.inQuirky(model, quirks)) }
		}
	}
	some(t, 4, cases)
}

// TestUnknownRoot: a shell whose user is unknown is not "no".
func TestUnknownRoot(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.inQuirky("dunlin", "lacks: [id], no-status: true")
		out := l.want(0, []string{"in recovery"}, "card", "--details")
		if strings.Contains(out, "root shell      no") {
			t.Errorf("the card says that there is no root shell:\n%s", out)
		}
		l.want(3, []string{"whether its shell is root's is unknown"}, "backup", "take", "misc", "-o",
			l.dir+"/kept")
	})
}

// TestGoneFromStorage: a package that was deleted on the phone stops no format.
func TestGoneFromStorage(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.inWiped()
		l.want(0, nil, "put", files.Package, "--to", "storage", "--yes")
		l.want(3, []string{"stop  storage-holds-package"}, "wipe", "userdata", "--yes")
		path := filepath.Join(l.dir, "dunlin", "shared", filepath.Base(files.Package))
		if err := os.Remove(path); err != nil {
			t.Fatalf("os.Remove(%v): %v", path, err)
		}
		l.want(0, []string{"the data is formatted"}, "wipe", "userdata", "--yes")
	})
}

// TestLinksInStorage: a symbolic link in the storage is named as one that is not in the backup.
func TestLinksInStorage(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.inWiped()
		dir := l.share("dunlin", "notes.txt", "low tide")
		if err := os.Symlink("notes.txt", filepath.Join(dir, "latest.txt")); err != nil {
			t.Fatalf("os.Symlink(latest.txt): %v", err)
		}
		l.want(1, []string{`"latest.txt" is not in the backup: it is a symbolic link`,
			"could not be kept: latest.txt"},
			"backup", "take", "storage", "-o", l.dir+"/kept")
	})
}

// TestCheckInRecovery: vbmeta check needs no slot, whether or not the active one is known in the recovery.
func TestCheckInRecovery(t *testing.T) {
	for _, quirks := range []string{"bind: false", "lacks: [bootctl], nameless: [misc]"} {
		t.Run(quirks, func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				l.inQuirky("dunlin", quirks)
				if code, out := l.run("vbmeta", "check"); code != 0 && code != 6 {
					t.Errorf("vbmeta check ends with %d:\n%s", code, out)
				}
			})
		})
	}
}

// TestNoCaches: where there is no cache partition and the data can't be mounted, no caches are wiped, and
// none are said to be.
func TestNoCaches(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		l.inRecovery("dunlin", files.Recovery)
		l.want(3, []string{"stop  not-mounted: there is no cache partition, and the data is not mounted"},
			"wipe",
			"caches", "--yes")
	})
}

// TestEmptyStorage: a backup of a storage without a file says where it looked.
func TestEmptyStorage(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.inWiped()
		l.want(0, []string{"warn  no file is in the shared storage: /sdcard was read"}, "backup", "take",
			"storage", "-o",
			l.dir+"/kept")
	})
}

// TestSlotUnknown: where a recovery does not report which slot it booted, the vendor partition of either slot
// is not a phone without one.
func TestSlotUnknown(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin(l.modelOf("dunlin", "dunlin", "standin:\n",
			"standin:\n  props: {ro.boot.slot_suffix: \"\"}\n"), "--usb")
		l.inRecovery("dunlin", files.Recovery)
		anew := l.other("anew") // whose journal knows no slot either
		anew.want(0, []string{"does not report which slot it booted", "vendor "}, "card")
		for name, a := range anew.fits() {
			if strings.Contains(fmt.Sprint(a), "no separate vendor") {
				t.Errorf("fit of %s: got %+v, want no verdict on vendor", name, a)
			}
		}
	})
}
