package e2e

import (
	"bytes"
	"errors"
	"hash/maphash"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"

	"jarlid/internal/core/image/ext4"
)

// brokenTarget is one way a step's target is not what it should be, as the quirks of a stand-in's recovery.
type brokenTarget struct {
	name, quirks string
	data         bool // it is about the data, and not about one partition
	works        bool // a step that mounts it does what it says
}

// brokenTargets break a partition (%) or the data.
var brokenTargets = []brokenTarget{
	{name: "the name is missing", quirks: "nameless: [%]"},
	{name: "the name is a plain file", quirks: "plain: [%]"},
	{name: "the name leads nowhere", quirks: "dangling: [%]"},
	{name: "it is read only", quirks: "read-only: true"},
	{name: "the data is not mounted", quirks: "unmounted: true", data: true, works: true},
	{name: "the data can't be mounted", quirks: "unmounted: true, mount-fails: true", data: true},
	{name: "the data has no name and is not mounted", quirks: "unmounted: true, nameless: [userdata]",
		data: true},
}

// claim is a command that changes a phone through its recovery, and how the disk shows the change.
type claim struct {
	name      string
	partition string // its target; "" for the data
	args      func(l *lab, k kit) []string
	shows     func(l *lab, k kit) bool
}

// sums hashes the files of a folder, by path; there are none without the folder. Files that but reports are
// left out.
func (l *lab) sums(root string, but func(rel string) bool) map[string]uint64 {
	l.Helper()
	sums := map[string]uint64{}
	err := filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) && p == root {
			return nil
		}
		if err != nil || d.IsDir() {
			return err
		}
		rel := must(filepath.Rel(root, p))
		if but == nil || !but(rel) {
			sums[filepath.ToSlash(rel)] = maphash.Bytes(storedSeed, must(os.ReadFile(p)))
		}
		return nil
	})
	if err != nil {
		l.Fatalf("filepath.WalkDir(root, ...): %v", err)
	}
	return sums
}

// disk is what a turnstone holds, partitions and storage.
func (l *lab) disk() map[string]uint64 {
	l.Helper()
	sums := map[string]uint64{}
	for _, dir := range []string{"partitions", "shared"} {
		for rel, sum := range l.sums(filepath.Join(l.dir, "turnstone", dir), nil) {
			sums[path.Join(dir, rel)] = sum
		}
	}
	return sums
}

func claims() []claim {
	other := func(l *lab, k kit) string {
		img := bytes.Clone(l.setImage(k, "boot"))
		return l.file("other-boot.img", append(img, bytes.Repeat([]byte{0x5a}, 4096)...))
	}
	shared := func(l *lab, name string) bool {
		return there(filepath.Join(l.dir, "turnstone", "shared", name))
	}
	return []claim{
		{"write", "boot", func(l *lab, k kit) []string {
			return []string{"flash", other(l, k), "--into", "boot", "--accept", "different-file"}
		}, func(l *lab, k kit) bool {
			return bytes.HasPrefix(l.stored("turnstone", "boot"), must(os.ReadFile(other(l, k))))
		}},
		{"format", "userdata", func(*lab, kit) []string { return []string{"wipe", "userdata"} },
			func(l *lab, _ kit) bool {
				return ext4.IsMagic(l.stored("turnstone", "userdata")) && !shared(l, "pictures/dunlin.jpg")
			}},
		{"wipe system", "system", func(*lab, kit) []string { return []string{"wipe", "system"} },
			func(l *lab, _ kit) bool {
				return !bytes.Contains(l.stored("turnstone", "system"), []byte("ro.build.display.id"))
			}},
		{"wipe caches", "", func(*lab, kit) []string { return []string{"wipe", "caches"} },
			func(l *lab, _ kit) bool { return !there(l.data("dalvik-cache")) }},
		{"wipe apps", "", func(*lab, kit) []string { return []string{"wipe", "apps"} },
			func(l *lab, _ kit) bool {
				return !there(l.data("system/packages.xml")) && shared(l, "pictures/dunlin.jpg")
			}},
		{"wipe storage", "", func(*lab, kit) []string { return []string{"wipe", "storage"} },
			func(l *lab, _ kit) bool { return !shared(l, "pictures/dunlin.jpg") }},
		{"put", "", func(l *lab, k kit) []string { return []string{"put", k.recovery, "--to", "storage"} },
			func(l *lab, k kit) bool { return shared(l, filepath.Base(k.recovery)) }},
		{"keep a partition", "boot", func(l *lab, _ kit) []string {
			return []string{"backup", "take", "boot", "-o", l.dir + "/kept"}
		}, func(l *lab, _ kit) bool {
			kept, err := os.ReadFile(l.dir + "/kept/boot.img")
			return err == nil && bytes.Equal(kept, l.stored("turnstone", "boot"))
		}},
		{"keep the storage", "", func(l *lab, _ kit) []string {
			return []string{"backup", "take", "storage", "-o", l.dir + "/kept"}
		}, func(l *lab, _ kit) bool { return there(l.dir + "/kept/storage/pictures/dunlin.jpg") }},
		{"shelve", "system", func(*lab, kit) []string { return []string{"shelve", "/system/etc/about.txt"} },
			func(l *lab, _ kit) bool {
				return l.stored("turnstone", "system") != nil &&
					there(filepath.Join(l.dir, "turnstone", "partitions", "added", "system"))
			}},
	}
}

// TestNoClaim breaks the target of every kind of step that works through a recovery. None ends with 0 unless
// the disk shows the change, and a step that fails has changed nothing.
func TestNoClaim(t *testing.T) {
	cases := map[string]func(l *lab){}
	for _, c := range claims() {
		for _, b := range brokenTargets {
			if b.data != (c.partition == "") && (c.partition != "userdata" || !b.data) {
				continue
			}
			cases[c.name+", "+b.name] = func(l *lab) { c.against(l, b) }
		}
	}
	some(t, 4, cases)
}

func (c claim) against(l *lab, b brokenTarget) {
	quirks := strings.ReplaceAll(b.quirks, "%", c.partition)
	l.standin(l.modelOf("turnstone", "turnstone", "standin:\n", "standin:\n  quirks: {"+quirks+"}\n"),
		"--mode", "system")
	k := kitOf(l.T, "turnstone", 1)
	l.share("turnstone", "pictures/dunlin.jpg", "a dunlin at low tide")
	l.press("turnstone", "volume-down+power")
	l.untilMode("turnstone", "bootloader")
	l.inRecovery("turnstone", k.recovery)
	before := l.disk()
	code, out := l.run(append(c.args(l, k), "--yes")...)
	after := l.disk()
	switch shown := c.shows(l, k); {
	case code == 0 && strings.Contains(out, "caches wiped, except the compiled code in the data: "):
		// which is so: the partition is there
	case code == 0 && !shown:
		l.Errorf("%s ends with 0, and the disk does not show it:\n%s", c.name, out)
	case code == 0 && !b.works && !strings.Contains(c.name, "keep") && c.partition != "userdata":
		l.Errorf("%s ends with 0 although %s:\n%s", c.name, b.name, out)
	case code != 0 && b.works:
		l.Errorf("%s ends with %d where mounting works:\n%s", c.name, code, out)
	case code != 0 && b.data && c.partition == "" && !strings.Contains(out, "not-mounted"):
		l.Errorf("%s ends without not-mounted:\n%s", c.name, out)
	case code != 0:
		for name, sum := range before {
			if after[name] != sum {
				l.Errorf("%s ends with %d, and %s is another one:\n%s", c.name, code, name, out)
			}
		}
	}
}
