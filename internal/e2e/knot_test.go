package e2e

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jarlid/internal/standin/scenario"
)

// TestKnot: the first job on a phone without fastboot: by its manufacturer's loader, and by its keys.
func TestKnot(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		kit := kitOf(t, "knot", 1)
		for _, c := range [][3]string{{"knot", "--fastboot", "write --loader 127.0.0.1:4911"},
			{"dunlin", "--loader", "write --fastboot 127.0.0.1:4911"}} {
			l.want(2, []string{c[2]}, "standin", "run", c[0], "--at", filepath.Join(l.dir, "none"), c[1],
				"127.0.0.1:4911")
		}
		l.standin("knot")
		l.follows = true
		l.want(0, []string{"loader", "WL-KN-0301", "no slots"}, "bench")
		l.want(0, []string{"in its maker's loader", "the partition recovery", "recovery    -       12.0 MiB"},
			"card")
		l.want(3, []string{"stop  not-a-recovery"}, "recovery", "install", kit.more.Package)
		l.want(5, []string{"userdata is not in it: this loader does not give it out", "ITEM   SIZE"},
			"backup", "take", "boot", "userdata", "-o", filepath.Join(l.dir, "kept"))
		l.want(0, []string{"recovery written, read back, it matches", "jarlid go recovery"}, "recovery",
			"install", kit.recovery, "--yes")
		img := must(os.ReadFile(kit.recovery))
		if got := must(os.ReadFile(filepath.Join(l.dir, "knot", "partitions",
			"recovery.img"))); !bytes.HasPrefix(got, img) {
			t.Error("the partition does not hold the image")
		}
		l.want(3, []string{"stop  restart-undoes-recovery", "jarlid go recovery"}, "go", "system")
		l.want(3, []string{"stop  hands-needed", "take the battery out"}, "go", "recovery")
		l.want(3, []string{"stop  command-unknown-to-bootloader", "its maker's loader"}, "go", "bootloader")
		l.want(3, []string{"stop  hands-needed", "volume up and the side key"}, "sideload", kit.more.Package,
			"--yes", "--no-hands")
		l.did("knot", "", []string{"Tideline Recovery 3.1 is running"}, "go", "recovery")
		l.did("knot", "", nil, "wipe", "userdata", "--yes")
		l.did("knot", "", []string{"is installed"}, "sideload", kit.more.Package, "--yes")
		l.did("knot", "", []string{"Saltmarsh OS 4.2", "next  jarlid go loader"}, "go", "system", "--wait",
			"90s", "--yes")
		// From the running system an image's way leads into the loader, by the keys.
		l.did("knot", "", []string{"Loader?", "boot written, read back"}, "flash",
			filepath.Join(filepath.Dir(kit.recovery), "boot.img"), "--yes")
		l.did("knot", "", nil, "go", "recovery", "--yes")
		l.did("knot", "", []string{"the phone is in loader"}, "go", "loader", "--yes")
	})
}

// TestKnotLine: what goes wrong on a serial line: bytes lost, doubled and changed, messages that do not
// come through, a cable that is pulled in the middle of a write, which goes on where it was.
func TestKnotLine(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		kit := kitOf(t, "knot", 1)
		l.standin("knot")
		for _, kind := range []string{"line-loses", "line-doubles", "line-garbles", "line-silent"} {
			l.want(0, nil, "standin", "fault", "knot", kind, "--for", "2")
			l.want(0, []string{"recovery written, read back, it matches"}, "recovery", "install",
				kit.recovery, "--yes")
		}
		l.fault("knot", "drop", sizeOf(kit.recovery)*3/5)
		l.want(5, nil, "recovery", "install", kit.recovery, "--yes")
		l.want(0, []string{"was interrupted"})
		out := l.want(0, []string{"recovery written, read back, it matches"}, "jobs", "resume", "--yes")
		if log := l.screenOf("knot"); !strings.Contains(log, "Going on at ") {
			t.Errorf("it began anew: %s\n%s", log, out)
		}
		// At each tenth of an image, another image each time; without -whole at four of them.
		boot := must(os.ReadFile(filepath.Join(filepath.Dir(kit.recovery), "boot.img")))
		for tenth := range int64(10) {
			if !*whole && tenth%3 != 0 {
				continue
			}
			boot[len(boot)-1] = byte(tenth)
			img := l.file("boot.img", boot)
			l.fault("knot", "drop", 1000+tenth*int64(len(boot))/10)
			l.want(5, nil, "flash", img, "--yes")
			l.want(0, []string{"boot written, read back, it matches"}, "jobs", "resume", "--yes")
			if got := must(os.ReadFile(filepath.Join(l.dir, "knot", "partitions",
				"boot.img"))); !bytes.HasPrefix(got, boot) {
				t.Errorf("cut at tenth %d: the partition does not hold the image", tenth)
			}
		}
		l.want(0, nil, "standin", "fault", "knot", "refuse")
		l.want(5, []string{"the fault was ordered"}, "recovery", "install", kit.recovery, "--yes")
		// A line that is silent, or breaks, is no end of a wait: it is there before a person has confirmed
		// the loader, and until the phone leaves it by its keys.
		for _, fault := range [][]string{{"line-silent", "--for", "1000"}, {"drop", "--after", "30"}} {
			l.whenAsked("Pull the cable", func() {
				l.want(0, nil, append([]string{"standin", "fault", "knot"}, fault...)...)
				time.Sleep(20 * time.Second)
				l.press("knot", "battery-out", "battery-in", "volume-up+side+power")
			}, "go", "recovery", "--yes")
			l.want(0, nil, "standin", "fault", "knot", "clear")
			l.did("knot", "", []string{"the phone is in loader"}, "go", "loader", "--yes")
		}
		l.want(0, nil, "standin", "fault", "knot", "line-silent", "--for", "1000")
		began, code := time.Now(), 4
		if *cabled {
			code = 3 // the line is there, and silent
		}
		l.want(code, nil, "card")
		if took := time.Since(began); took > time.Minute {
			t.Errorf("it took %v to find that out", took)
		}
		if *cabled {
			l.want(4, []string{"is there, and nothing answers on its line"}, "bench", "--why")
		}
	})
}

// TestKnotCable: a loader on a cable is one phone, whatever its line is called and whoever has listed it;
// who may not use the line, or finds it taken, is told so; a line that no model file knows is a phone
// only for somebody who says so.
func TestKnotCable(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("knot", "--usb")
		other := l.other("other") // where nobody has listed it
		all := other.here(0)
		if len(all) != 1 || all[0].Name != "WL-KN-0301" || all[0].Mode != "loader" ||
			all[0].Address != "usb:1-1" || all[0].USB == nil || all[0].USB.Product != "4b4e" {
			t.Fatalf("%+v; unwanted: len(all) != 1 || all[0].Name != 'WL-KN-0301' || all[0].Mode != ...", all)
		}
		for _, on := range []string{"WL-KN-0301", "usb:1-1", "serial:/dev/ttyACM11"} {
			if all := other.here(0, "--on", on); len(all) != 1 || all[0].Name != "WL-KN-0301" {
				t.Errorf("--on %s is %+v", on, all)
			}
		}
		other.want(4, nil, "card", "--on", "serial:/dev/ttyACM99")
		other.want(0, []string{"is called wader"}, "bench", "name", "serial:/dev/ttyACM11", "wader")
		// it is there: nothing to do
		l.did("knot", "", []string{"the phone is in loader"}, "go", "loader", "--yes")
		kit := kitOf(t, "knot", 1)
		other.present = true
		other.want(0, []string{"recovery written, read back"}, "recovery", "install", kit.recovery, "--yes",
			"--on", "wader")
		// The line comes again with each mode, and the phone keeps its name.
		l.press("knot", "battery-out", "battery-in", "volume-up+side+power")
		time.Sleep(30 * time.Second)
		other.want(0, []string{"wader"}, "card")
		l.press("knot", "battery-out", "battery-in", "volume-down+side+power", "volume-up")
		time.Sleep(30 * time.Second)
		other.want(0, []string{"wader", "in its maker's loader"}, "card")
		l.want(0, nil, "standin", "fault", "knot", "held")
		time.Sleep(5 * time.Second)
		other.want(3, []string{"stop  held-by-another"}, "card")
		l.want(0, nil, "standin", "fault", "knot", "clear")
		time.Sleep(5 * time.Second)
		l.bus.Denied = []string{"1-1"}
		other.want(3, []string{"stop  no-permission", "bench --rule"}, "card")
		other.want(4, []string{"no-permission"}, "bench", "--why")
	})
	t.Run("unknown", func(t *testing.T) {
		inLab(t, func(t *testing.T, l *lab) {
			text := string(must(os.ReadFile("../core/model/models/knot.yaml")))
			l.standin(l.file("adapter.yaml",
				[]byte(strings.NewReplacer("model: knot", "model: adapter", "1209:4b4e", "1209:0099",
					"kn7001", "ad7001").Replace(text))), "--usb")
			other := l.other("other")
			if all := other.here(4); len(all) != 0 {
				t.Errorf("%+v; unwanted: len(all) != 0", all)
			}
			other.want(4, []string{"loader", "--on usb:1-1"}, "bench", "--why")
			other.want(0, []string{"in its maker's loader"}, "card", "--on", "usb:1-1")
			other.want(0, []string{"in its maker's loader"}, "card", "--on", "serial:/dev/ttyACM11")
			// Without a model file its table tells what there is, and its mode that it has no fastboot.
			other.want(0, []string{"recovery    -       12.0 MiB"}, "card", "--on", "usb:1-1")
			other.want(3, []string{"no fastboot, but its maker's loader", "jarlid flash"}, "go", "bootloader",
				"--on", "usb:1-1")
			other.want(3, []string{"the phone has no partition vendor"}, "wipe", "part:vendor",
				"--on", "usb:1-1")
			l.press("adapter", "battery-out")
			time.Sleep(5 * time.Second)
			other.want(4, nil, "card", "--on", "usb:1-1")
		})
	})
}

// TestKnotLocked: a locked loader takes only its manufacturer's, which is said before anything is sent; what
// it is to check has to be named, and what it checks to be another's is not written.
func TestKnotLocked(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		kit := kitOf(t, "knot", 1)
		l.standin("knot", "--locked")
		boot := filepath.Join(l.dir, "knot", "partitions", "boot.img")
		before := must(os.ReadFile(boot))
		l.want(3, []string{"stop  locked-bootloader", "takes only what its maker signed"}, "recovery",
			"install", kit.recovery, "--yes")
		l.want(3, []string{"stop  locked-bootloader"}, "flash", kit.more.Set, "--yes", "--accept",
			"risky-partition")
		l.want(3, []string{"stop  locked-bootloader"}, "wipe", "part:cache", "--yes")
		foreign := l.file("boot.img", append(must(os.ReadFile(kit.more.Boot)), 1))
		l.want(5, []string{"is not signed by this phone's maker (not-signed)"}, "flash", foreign, "--yes",
			"--accept", "locked-bootloader")
		if !bytes.Equal(before, must(os.ReadFile(boot))) {
			t.Error("it was written")
		}
		l.want(0, []string{"boot, recovery and system written, read back"}, "flash", kit.more.Set, "--yes",
			"--accept", "risky-partition", "--accept", "locked-bootloader")
		l.want(0, []string{"next  jarlid go system"})
		l.want(0, []string{"recovery.img"}, "backup", "take", "recovery", "-o", filepath.Join(l.dir, "kept"))
	})
}

// TestKnotSheet: evenings as sheets, drafted for a phone with a loader. The first keeps the manufacturer's
// system, which can't put its recovery back any more; the second has a set of the manufacturer's own, the
// recovery, a ROM and an add-on, to the first boot.
func TestKnotSheet(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		kit := kitOf(t, "knot", 1)
		l.standin("knot")
		sheet := filepath.Join(l.dir, "files", "evening.yaml")
		evening := func(tasks string, paths ...string) {
			l.want(0, nil, append([]string{"sheet", "draft", "-o", sheet}, paths...)...)
			if text := string(must(os.ReadFile(sheet))); !strings.Contains(text, tasks) {
				t.Errorf("the draft has no %q:\n%s", tasks, text)
			}
			l.want(0, nil, "sheet", "check", sheet)
			l.did("knot", "y\n", []string{"tasks done"}, "sheet", "run", sheet, "--yes")
		}
		evening("recovery hold", l.beside(kit.recovery)...)
		l.did("knot", "", nil, "go", "system", "--wait", "90s", "--yes")
		if got := must(os.ReadFile(filepath.Join(l.dir, "knot", "partitions",
			"recovery.img"))); !bytes.HasPrefix(got, must(os.ReadFile(kit.recovery))) {
			t.Error("the maker's system put its recovery back")
		}
		// From the loader, with the manufacturer's set before it: that one puts its recovery back again.
		l.did("knot", "", []string{"the order: as the table of partitions in the phone's loader has it",
			"boot, recovery and system written, read back"}, "flash", kit.more.Set, "--yes", "--accept",
			"risky-partition")
		if err := os.Remove(sheet); err != nil {
			t.Fatalf("os.Remove(sheet): %v", err)
		}
		addon := l.file("countsheet.zip",
			must(scenario.Addon{Name: "Countsheet", Release: "14", Signer: "saltmarsh"}.Package()))
		evening("arrive", l.beside(kit.recovery, kit.more.Package, addon)...)
		l.want(0, []string{"Saltmarsh OS 4.2"}, "card")
	})
}

// TestKnotTable: a file that holds a table is known for one, is never written by the way, and by its
// name alone; the table that was there is kept.
func TestKnotTable(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("knot")
		table := l.file("knot.table",
			[]byte("0 loader 1048576 loader -\n1 boot 12582912 raw rw\n2 recovery 12582912 raw rw\n3 "+
				"system 25165824 ext4 rw\n4 cache 16777216 ext4 rw\n5 misc 1048576 raw rw\n6 userdata "+
				"67108864 ext4 w\n7 spare 4096 raw rw\n"))
		l.want(0, []string{"a loader's table of partitions", "never written by the way"}, "ident", table)
		l.want(3, []string{"stop  table-would-change", "--accept table-would-change=knot.table"}, "flash",
			table, "--yes")
		l.want(3, []string{"stop  table-would-change"}, "flash", table, "--yes", "--accept",
			"table-would-change=other")
		l.want(0, []string{"previous-table.txt"}, "flash", table, "--yes", "--accept",
			"table-would-change=knot.table")
		l.want(0, []string{"spare"}, "card")
		kept, err := filepath.Glob(filepath.Join(l.home, "jobs", "*", "previous-table.txt"))
		if err != nil || len(kept) != 1 || strings.Contains(string(must(os.ReadFile(kept[0]))), "spare") {
			t.Errorf("filepath.Glob(...): %v %v", kept, err)
		}
		// Within a set it is left, and said.
		kit := kitOf(t, "knot", 1)
		dir := filepath.Join(l.dir, "set")
		if err := os.MkdirAll(dir, 0o755); err != nil {
			t.Fatalf("os.MkdirAll(%v, 0o755): %v", dir, err)
		}
		for name, b := range map[string][]byte{"recovery.img": must(os.ReadFile(kit.recovery)),
			"knot.table": must(os.ReadFile(table))} {
			if err := os.WriteFile(filepath.Join(dir, name), b, 0o644); err != nil {
				t.Fatalf("os.WriteFile(filepath.Join(dir, name), b, 0o644): %v", err)
			}
		}
		l.want(0, []string{"knot.table in the set is no image and is left alone", "recovery written"},
			"flash", dir, "--yes")
		l.standin("dunlin")
		l.want(3, []string{"stop  "}, "flash", table, "--yes", "--on", "dunlin")
	})
}

// TestKnotSet: a manufacturer's archive with its digests inside: compared before the first byte, as packed or
// as extracted, and written in the order of the phone's own table.
func TestKnotSet(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		kit := kitOf(t, "knot", 1)
		l.standin("knot")
		recovery, boot := must(os.ReadFile(kit.recovery)),
			must(os.ReadFile(filepath.Join(filepath.Dir(kit.recovery), "boot.img")))
		packed := must(os.ReadFile(l.zipped(kit.recovery)))
		line := func(b []byte, name string) string { return fmt.Sprintf("%x *%s\n", sha256.Sum256(b), name) }
		set := func(name, list string) string {
			return l.file(name, tarOf("recovery.img.gz", string(packed), "boot.img", string(boot),
				"SHA256SUMS", list))
		}
		for name, list := range map[string]string{
			"unpacked.tar": line(recovery, "recovery.img") + line(boot, "images/boot.img"),
			"packed.tar":   line(packed, "recovery.img.gz") + line(boot, "boot.img"),
		} {
			out := l.want(0, []string{"2 of the set's files compared with the digests it states: they match",
				"the order: as the table of partitions in the phone's loader has it"}, "flash",
				set(name, list), "--yes")
			if !strings.Contains(out, "next  jarlid go recovery") {
				t.Errorf("a recovery from a set is a recovery that was set\n%s", out)
			}
			l.want(3, []string{"stop  restart-undoes-recovery"}, "go", "system")
			if strings.Index(out, "boot written") > strings.Index(out, "recovery written") {
				t.Errorf("%s: the table has boot first\n%s", name, out)
			}
		}
		none := [32]byte{}
		wrong := fmt.Sprintf("%x *boot.img\n", none)
		before := must(os.ReadFile(filepath.Join(l.dir, "knot", "partitions", "boot.img")))
		l.want(3, []string{"stop  damaged-file: boot.img is damaged: its sha256 is", "nothing was changed"},
			"flash", set("bad.tar", line(recovery, "recovery.img")+wrong), "--yes")
		if !bytes.Equal(before, must(os.ReadFile(filepath.Join(l.dir, "knot", "partitions", "boot.img")))) {
			t.Error("the phone was written to")
		}
		l.want(0, []string{"warn", "state system.img, which is not in it"}, "flash",
			set("short.tar", line(boot, "boot.img")+line(boot, "system.img")), "--yes")
		// Beside the file, in both forms, for every command that sends one.
		tar := set("beside.tar", line(boot, "boot.img"))
		l.file("beside.tar.sha256", []byte(wrong[:64]))
		l.want(3, []string{"damaged-file: beside.tar is damaged: its sha256 is", "beside.tar.sha256 states"},
			"flash", tar, "--yes")
		img, rom, app := l.file("r.img", recovery), l.file("rom.zip", must(os.ReadFile(kit.more.Package))),
			l.file("a.apk", []byte("PK"))
		l.file("MD5SUMS", []byte(
			"00000000000000000000000000000000  r.img\n00000000000000000000000000000000  "+
				"rom.zip\n00000000000000000000000000000000  a.apk\n"))
		for _, words := range [][]string{
			{"recovery", "install", img},
			{"flash", img},
			{"sideload", rom},
			{"put", rom, "--to", "storage"},
			{"app", app},
		} {
			l.want(3, []string{"damaged-file: ", "its md5 is", "MD5SUMS states"}, append(words, "--yes")...)
		}
		l.want(0, []string{"its loader shows", "Maker's loader. Nothing is written."}, "card")
	})
}

// screenOf is what a stand-in shows.
func (l *lab) screenOf(name string) string {
	l.Helper()
	var r struct{ Screen []string }
	l.result(0, &r, "standin", "press", name, "charge")
	return strings.Join(r.Screen, "\n")
}
