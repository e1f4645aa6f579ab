package e2e

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jarlid/internal/core/image/bcb"
	"jarlid/internal/core/image/ext4"
	"jarlid/internal/standin/scenario"
)

// data is where a stand-in keeps a file of its unencrypted data.
func (l *lab) data(name string) string {
	return filepath.Join(l.dir, "turnstone", "partitions", "added", "userdata", filepath.FromSlash(name))
}

func there(path string) bool { _, err := os.Stat(path); return err == nil }

// inRecovery brings a phone into a recovery that is set on it.
func (l *lab) inRecovery(name, recovery string) {
	l.Helper()
	if name == "godwit" {
		l.want(0, nil, "flash", kitOf(l.T, name, 2).more.Overlay, "--into", "@both", "--yes")
	}
	l.want(0, nil, "recovery", "install", recovery, "--yes", "--on", name)
	if name == "turnstone" {
		l.later(name, "volume-up+power")
	}
	l.want(0, nil, "go", "recovery", "--on", name)
}

// TestAreas wipes single areas in the recovery of a phone whose data is not
// encrypted: what goes is gone, what stays is there.
func TestAreas(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		kit := kitOf(t, "turnstone", 1)
		l.standin("turnstone", "--mode", "system")
		l.press("turnstone", "sign in")
		l.allowing("turnstone", func() { l.want(0, []string{"plain", "accounts signed in"}, "card") })
		l.want(3, []string{"stop  recovery-only"}, "wipe", "apps")
		l.later("turnstone", "volume-down+power")
		l.want(0, nil, "go", "bootloader")
		l.inRecovery("turnstone", kit.recovery)
		l.want(0, nil, "put", files.Package, "--to", "storage", "--yes", "--accept", "wrong-model",
			"--accept", "no-such-partition")
		l.want(3, []string{"stop  account-lock: 1 account is signed in"}, "wipe", "apps", "--yes")
		shared := filepath.Join(l.dir, "turnstone", "shared", filepath.Base(files.Package))
		if !there(l.data("system/packages.xml")) || !there(l.data("dalvik-cache")) || !there(shared) {
			t.Fatal("the data is not as expected before")
		}
		l.want(0, []string{"caches wiped"}, "wipe", "caches", "--yes")
		if there(l.data("dalvik-cache")) || !there(l.data("system/packages.xml")) {
			t.Error("wiping the caches took too little or too much")
		}
		l.want(0, []string{"keep  shared storage", "apps wiped"}, "wipe", "apps", "--yes", "--accept",
			"account-lock")
		if there(l.data("system/packages.xml")) || there(l.data("app")) || !there(shared) {
			t.Error("wiping the apps took too little or too much")
		}
		l.want(0, []string{"storage wiped"}, "wipe", "storage", "--yes", "--accept", "storage-holds-package")
		if there(shared) {
			t.Error("the package is still there")
		}
		l.want(0, []string{"system is formatted"}, "wipe", "system", "--yes")
		if b := l.stored("turnstone", "system"); !ext4.IsMagic(b) ||
			bytes.Contains(b, []byte("ro.build.display.id")) {
			t.Error("the system is not an empty file system")
		}
		l.want(0, []string{"jarlid sideload PACKAGE"}, "wipe", "caches", "--yes")
		l.want(3, []string{"stop  slot-empty: system was erased"}, "go", "system", "--yes")
	})
}

// TestOwnerLock: what signing in and a lock of the screen mean later on.
func TestOwnerLock(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin", "--mode", "system")
		l.press("dunlin", "lock on")
		l.allowing("dunlin", func() {
			l.want(3, []string{"warn  storage-unreadable: the screen is locked"}, "put", files.Package,
				"--to", "storage")
		})
		l.press("dunlin", "lock off", "sign in")
		l.want(3, []string{"stop  account-lock: 1 account is signed in"}, "wipe", "userdata", "--yes")
		l.want(0, nil, "wipe", "userdata", "--yes", "--accept", "account-lock")
		l.press("dunlin", "start")
		// The manufacturer's system remembers who it belonged to.
		l.until("the phone is in its system", func() bool {
			_, out := l.run("standin", "press", "dunlin", "finish welcome")
			return strings.Contains(out, "wants the account")
		})
	})
}

// TestOrderInMisc: a recovery without the tools formats by an order in misc, whose
// other bytes stay as they are.
func TestOrderInMisc(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		poor := scenario.Tideline
		poor.Traits += "lacks: [mke2fs]\n"
		l.inRecovery("dunlin", l.file("poor.img", must(scenario.Recovery(poor, dunlin))))
		misc := l.stored("dunlin", "misc")
		defer l.hands("dunlin", "finish welcome", "debugging on", "allow")() // the data is new
		l.want(0, []string{"left an order in the bootloader message (--wipe_data)"}, "wipe", "userdata",
			"--yes")
		if after := l.stored("dunlin", "misc"); !bytes.Equal(misc[bcb.MessageSize+64:],
			after[bcb.MessageSize+64:]) {
			t.Error("more of misc was changed than its message and the slots' state")
		}
	})
}
