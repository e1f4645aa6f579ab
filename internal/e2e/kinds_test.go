package e2e

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"jarlid/internal/core/image/super"
	"jarlid/internal/demo"
	"jarlid/internal/standin/scenario"
)

// kind is one of the five kinds of phone and what is different about it.
type kind struct {
	name  string
	slots int
	home  string
	tries bool     // its bootloader starts an image without writing it
	modes []string // that it has and that can be seen
	set   []string // what its firmware set needs to be accepted
}

var kinds = []kind{
	{"turnstone", 1, "recovery", true, []string{"bootloader", "recovery", "sideload"}, nil},
	{"sanderling", 1, "lifeboat", false, []string{"bootloader", "recovery", "sideload", "system"}, nil},
	{"dunlin", 2, "recovery", true, []string{"bootloader", "recovery", "sideload", "system"}, nil},
	{"godwit", 2, "boot", true, []string{"bootloader", "recovery", "sideload", "system"},
		[]string{"--accept", "risky-partition=radio"}},
	{"avocet", 2, "vendor_boot", false, []string{"bootloader", "recovery", "sideload", "system", "fastbootd"},
		[]string{"--accept", "risky-partition=radio"}},
}

// kit is the files for one phone, made once.
type kit struct {
	phone    scenario.Phone
	recovery string
	more     demo.More
}

var (
	kitMu sync.Mutex
	kits  = map[string]kit{}
)

func kitOf(t *testing.T, name string, slots int) kit {
	t.Helper()
	kitMu.Lock()
	defer kitMu.Unlock()
	k, ok := kits[name]
	if !ok {
		k.phone = scenario.PhoneOf(name)
		dir := filepath.Join(workdir, "kit-"+name)
		k.more = must(demo.MakeMore(dir, k.phone, slots))
		k.recovery = filepath.Join(dir, "tideline-3.1-"+name+".img")
		if err := os.WriteFile(k.recovery, must(scenario.Recovery(scenario.Tideline, k.phone)),
			0o644); err != nil {
			t.Fatalf("os.WriteFile(k.recovery, ..., 0o644): %v", err)
		}
		kits[name] = k
	}
	return k
}

// stored reads what a partition of a stand-in holds, logical ones out of super.
func (l *lab) stored(phone, partition string) []byte {
	l.Helper()
	dir := filepath.Join(l.dir, phone, "partitions")
	if b, err := os.ReadFile(filepath.Join(dir, partition+".img")); err == nil {
		return b
	}
	f := must(os.Open(filepath.Join(dir, "super.img")))
	defer f.Close()
	size := must(f.Stat()).Size()
	m := must(super.Parse(f, size, 0))
	p := m.Partition(partition)
	if p == nil {
		return nil
	}
	return must(io.ReadAll(must(m.Open(f, size, p))))
}

// travel goes every way between two modes, the phone being in the first one.
func (l *lab) travel(k kind) {
	l.Helper()
	at := k.modes[0]
	to := func(mode string) {
		if k.name == "turnstone" && at == "bootloader" && mode != "bootloader" {
			l.later(k.name, "volume-up+power") // it has no such restart
		}
		said := map[string]string{"system": "is running from slot",
			"recovery": "Tideline Recovery 3.1 is running"}[mode]
		if k.slots == 1 && mode == "system" {
			said = "Wickerlight Stock 9.1"
		}
		if said == "" {
			said = "the phone is in " + mode
		}
		l.want(0, []string{said}, "go", mode, "--wait", "20s")
		at = mode
	}
	for i, a := range k.modes {
		if at != a {
			to(a)
		}
		for _, b := range k.modes[i+1:] {
			to(b)
			to(a)
		}
	}
	to(k.modes[0])
}

// TestKinds walks every kind of phone the right way: card, try, set, every way
// between two modes, single images, a firmware set, wipe, and a phone that starts.
func TestKinds(t *testing.T) {
	t.Parallel()
	for _, k := range kinds {
		t.Run(k.name, func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				kit := kitOf(t, k.name, k.slots)
				l.standin(k.name)
				var c struct {
					Facts map[string]struct{ Value, Source, Mode string }
					Home  struct{ Partition, Source string } `json:"recovery_home"`
					Table []struct {
						Name    string
						Size    int64
						Logical bool
					} `json:"partitions"`
				}
				saved := filepath.Join(l.dir, "card.json")
				l.result(0, &c, "card", "--save", saved)
				if f := c.Facts["model"]; f.Value != k.name || f.Source != "read" ||
					c.Facts["unlocked"].Value != "yes" || c.Facts["slot.count"].Value != fmt.Sprint(k.slots) {
					t.Errorf("card: %+v", c.Facts)
				}
				if c.Home.Partition != k.home || len(c.Table) < 5 || c.Facts["data"].Source == "read" {
					t.Errorf("home %+v, %d partitions", c.Home, len(c.Table))
				}
				l.want(0, []string{"WHERE IT COULD BE READ", "in a started system"}, "card", "--details")
				l.want(0, []string{"KNOWN FROM", "unknown in this mode"}, "card")
				if k.name == "sanderling" {
					defer func() { l.want(0, []string{"serial in another mode"}, "card") }()
				}
				l.want(0, []string{"on " + k.name + " it goes to " + k.home}, "ident", kit.recovery,
					"--card", saved)

				if kit.more.Overlay != "" && k.name == "godwit" { // its pre-image
					l.want(0, nil, "flash", kit.more.Overlay, "--into", "@both", "--yes")
				}
				if k.tries {
					l.want(0, []string{"written nowhere"}, "recovery", "try", kit.recovery, "--yes")
					l.want(0, []string{"the phone is in bootloader"}, "go", "bootloader")
				} else {
					l.want(3, []string{"command-unknown-to-bootloader", "write it instead"}, "recovery",
						"try", kit.recovery, "--yes")
				}
				l.want(0, []string{"lives in"}, "recovery", "install", kit.recovery, "--yes")
				if k.home == "boot" { // put into the phone's own images; here slot b has none, so whole
					l.want(0, nil, "go", "bootloader")
					l.want(0, nil, "recovery", "install", kit.recovery, "--into", "boot", "--yes")
				}
				want := must(os.ReadFile(kit.recovery))
				for _, name := range onSlots(k.home, k.slots, "both") {
					if !bytes.HasPrefix(l.stored(k.name, name), want) {
						t.Errorf("%s does not hold the recovery", name)
					}
				}
				l.allowing(k.name, func() { l.travel(k) })
				if slices.Contains(k.modes, "fastbootd") {
					l.want(0, nil, "go", "fastbootd")
					l.want(0, []string{"read back, it matches"}, "recovery", "install", kit.recovery, "--yes")
					l.want(0, nil, "go", "bootloader")
				}

				var w struct {
					Writes []struct {
						Partition, Slot, SHA256, Confirmed string
						Bytes                              int64
					}
				}
				l.result(0, &w, "flash", kit.more.Boot, "--yes")
				if w.Writes[0].Partition != "boot" || w.Writes[0].Confirmed == "" || k.slots == 2 &&
					w.Writes[0].Slot != "a" || k.slots == 1 && w.Writes[0].Slot != "" {
					t.Errorf("flash boot.img: %+v", w)
				}
				l.result(0, &w, append([]string{"flash", kit.more.Set, "--yes"}, k.set...)...)
				set := must(scenario.Images(scenario.Stock, kit.phone))
				wrote := map[string]bool{}
				for _, x := range w.Writes {
					wrote[x.Partition] = true
					name := onSlots(x.Partition, k.slots, x.Slot)[0]
					if x.Slot == "" {
						name = x.Partition
					}
					if !bytes.HasPrefix(l.stored(k.name, name), set[x.Partition]) {
						t.Errorf("%s does not hold what the set has for it", name)
					}
				}
				if len(wrote) != len(set) {
					t.Errorf("the set has %d images, %d partitions were written", len(set), len(wrote))
				}
				l.want(0, []string{"AREA", "erased", "stays"}, "wipe", "userdata", "--yes")
				defer l.hands(k.name, "finish welcome", "debugging on", "allow")()
				l.want(0, []string{"Wickerlight Stock 9.1"}, "go", "system", "--wait", "30s")
			})
		})
	}
}

// TestUnlockKinds opens every kind of phone with the command it knows.
func TestUnlockKinds(t *testing.T) {
	t.Parallel()
	for _, k := range kinds {
		t.Run(k.name, func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				l.standin(k.name, "--locked")
				kit := kitOf(t, k.name, k.slots)
				l.want(3, []string{"stop  locked-bootloader"}, "flash", kit.more.Boot, "--yes")
				l.want(5, []string{"not allowed while the device is locked"}, "flash", kit.more.Boot, "--yes",
					"--accept", "locked-bootloader")
				defer l.hands(k.name, "yes")()
				l.want(0, []string{"lose  ", "the bootloader is open, read back"}, "unlock", "--yes")
				l.want(0, []string{"boot"}, "flash", kit.more.Boot, "--yes")
			})
		})
	}
}

func onSlots(base string, slots int, slot string) []string {
	switch {
	case slots == 1:
		return []string{base}
	case slot == "both":
		return []string{base + "_a", base + "_b"}
	}
	return []string{base + "_" + slot}
}

// allowing answers the phone's question about this computer's key while f runs.
func (l *lab) allowing(phone string, f func()) {
	stop := l.hands(phone, "allow")
	defer stop()
	f()
}

// TestKindsDoneWrong does on each kind of phone what goes wrong there: the named
// finding, and when it is accepted what the phone really does.
func TestKindsDoneWrong(t *testing.T) {
	t.Parallel()
	junk := func(l *lab, name string, n int) string {
		return l.file(name, bytes.Repeat([]byte("\x01\x02\x03\xff"), n/4))
	}
	old := func(l *lab) string { return l.file("radio.img", scenario.Radio("godwit", "1.8")) }
	// install brings a recovery and a package onto a phone with slots.
	ready := func(l *lab, name string) kit {
		kit := kitOf(l.T, name, 2)
		l.standin(name)
		if name == "godwit" {
			l.want(0, nil, "flash", kit.more.Overlay, "--into", "@both", "--yes")
		}
		l.want(0, nil, "recovery", "install", kit.recovery, "--yes")
		l.want(0, nil, "go", "recovery")
		l.want(0, nil, "wipe", "userdata", "--yes")
		return kit
	}
	toBootloader := func(l *lab, name string) {
		l.press(name, "volume-down+power")
		l.untilMode(name, "bootloader")
	}
	some(t, 8, map[string]func(l *lab){
		"wrong-destination": func(l *lab) {
			kit := kitOf(l.T, "sanderling", 1)
			l.standin("sanderling")
			l.want(3, []string{"stop  wrong-destination: it belongs to boot"}, "flash", kit.more.Boot,
				"--into", "lifeboat", "--yes")
			for _, into := range []string{"boot", "cache", "userdata", "MISC"} {
				// by the command for recoveries as by the other
				l.want(3, []string{"stop  wrong-destination: it belongs to lifeboat"}, "recovery", "install",
					kit.recovery, "--into", into, "--yes")
				l.want(3, []string{"stop  wrong-destination: it belongs to lifeboat"}, "flash", kit.recovery,
					"--into", into, "--yes")
			}
			l.want(0, nil, "flash", kit.more.Boot, "--into", "lifeboat", "--yes", "--accept",
				"wrong-destination")
			l.want(5, []string{"instead of recovery"}, "go", "recovery")
			page := l.file("boot.img",
				[]byte("<html><body>Please wait, your download starts soon</body></html>"))
			l.want(3, []string{"stop  wrong-destination: boot.img is a web page"}, "flash", page, "--into",
				"boot", "--yes")
		},
		"wrong-destination, another form of recovery": func(l *lab) {
			l.standin("godwit")
			own := l.file("r.img",
				must(scenario.Recovery(scenario.Tideline,
					scenario.Phone{Device: "godwit", ABI: "arm64-v8a"})))
			l.want(3, []string{"stop  wrong-destination: it is a recovery for a partition of its own; this " +
				"phone keeps its recovery in the ramdisk of the boot image"},
				"flash", own, "--yes")
			l.want(0, nil, "flash", own, "--yes", "--accept", "wrong-destination", "--accept",
				"pre-image-missing")
			l.want(5, []string{"came up in bootloader instead of system"}, "go", "system", "--wait",
				"20s", "--yes")
		},
		"unknown-content": func(l *lab) {
			l.standin("dunlin")
			f := junk(l, "vendor.img", 1<<20)
			l.want(3, []string{"warn  unknown-content", "not-confirmed"}, "flash", f)
			l.want(0, []string{"vendor_a written"}, "flash", f, "--yes")
			// dm-verity enforces on an unlocked phone too; slot b is empty.
			l.want(5, []string{"came up in bootloader instead of system"}, "go", "system", "--wait", "20s")
			l.want(0, []string{"no"}, "slot")
		},
		"still-wrapped": func(l *lab) {
			kit := kitOf(l.T, "turnstone", 1)
			l.standin("turnstone")
			// Of a set one image is taken; a package is not an image, however it is named.
			l.want(0, []string{"boot written"}, "flash", kit.more.Set, "--into", "boot", "--yes")
			l.want(2, []string{"0 of them are for radio"}, "flash", kit.more.Set, "--into", "radio", "--yes")
			addon := l.file("extra.img",
				must(scenario.Addon{Name: "extra", Release: "14", Signer: "saltmarsh"}.Package()))
			l.want(3, []string{"stop  still-wrapped: it is an add-on package"}, "flash", addon, "--into",
				"system", "--yes")
			l.want(0, nil, "flash", addon, "--into", "system", "--yes", "--accept", "still-wrapped")
			// its picture, again and again
			l.want(0, []string{"can't be seen"}, "go", "system", "--wait", "3s", "--yes")
			l.atPhone = true
			// behind the looks
			time.AfterFunc(5*time.Second, func() { l.pressed("turnstone", "volume-down+power") })
			l.want(0, []string{"does not answer", "the phone is in bootloader"}, "go", "bootloader")
		},
		"image-as-partition": func(l *lab) {
			kit := kitOf(l.T, "sanderling", 1)
			l.standin("sanderling")
			l.want(3, []string{"stop  image-as-partition", "--into lifeboat"}, "flash", "lifeboat",
				kit.recovery)
			l.want(3, []string{"stop  image-as-partition"}, "flash", kit.recovery, "--into", kit.recovery)
		},
		"unlock-not-allowed": func(l *lab) {
			p := l.standin("avocet", "--locked", "--mode", "system")
			l.want(0, nil, "standin", "press", "avocet", "unlocking off")
			toBootloader(l, "avocet")
			l.want(3, []string{"stop  locked-bootloader"}, "recovery", "install",
				kitOf(l.T, "avocet", 2).recovery, "--yes")
			l.want(3, []string{"stop  unlock-not-allowed", "allow unlocking"}, "unlock", "--yes")
			l.want(3, []string{"stop  hands-needed: to unlock the bootloader", `Choose "Yes"`}, "unlock",
				"--yes", "--accept", "unlock-not-allowed")
			l.atPhone = true
			l.want(5, []string{"not allowed"}, "unlock", "--yes", "--accept", "unlock-not-allowed")
			l.press("avocet", "start", "unlocking on")
			toBootloader(l, "avocet")
			before := l.stored("avocet", "userdata")
			defer l.hands("avocet", "yes")()
			starts := strings.Count(p.job.out.String(), "mode: bootloader")
			l.want(0, []string{"lose  ", "hand  ", "the bootloader is open, read back",
				"debugging is off again"}, "unlock", "--yes")
			if strings.Count(p.job.out.String(), "mode: bootloader") == starts {
				l.Error("it said that it is open, and had its restart still before it")
			}
			if bytes.Equal(before, l.stored("avocet", "userdata")) {
				l.Error("the data is still there")
			}
			l.want(0, []string{"open already"}, "unlock")
		},
		"format-after-install": func(l *lab) {
			kit := ready(l, "avocet")
			l.want(0, nil, "sideload", kit.more.Package, "--yes", "--then", "stay")
			l.want(3, []string{"stop  format-after-install"}, "wipe", "userdata", "--yes")
			l.want(0, nil, "wipe", "userdata", "--yes", "--accept", "format-after-install")
			// The new slot lies partly in the data: it is lost, and the old one starts.
			l.want(3, []string{"stop  slot-empty: system_b was erased"}, "go", "system", "--wait", "6s",
				"--yes")
			l.want(0, nil, "go", "system", "--wait", "6s", "--yes", "--accept", "slot-empty")
			toBootloader(l, "avocet")
			l.want(0, []string{"slot a is next"}, "slot")
		},
		"merge-pending": func(l *lab) {
			kit := ready(l, "avocet")
			l.want(0, nil, "sideload", kit.more.Package, "--yes", "--then", "stay")
			l.want(0, nil, "go", "bootloader")
			l.want(3, []string{"stop  merge-pending"}, "slot", "use", "a", "--yes")
			l.want(3, []string{"stop  merge-pending"}, "wipe", "system@a", "--yes")
			l.want(0, nil, "wipe", "part:super", "--yes", "--accept", "merge-pending")
			l.want(5, []string{"came up in bootloader instead of system"}, "go", "system", "--wait",
				"20s", "--yes")
		},
		"merge done rightly": func(l *lab) {
			kit := ready(l, "avocet")
			l.want(0, []string{"warn  recovery-replaced"}, "sideload", kit.more.Package, "--yes",
				"--then", "stay")
			l.want(0, []string{"snapshotted"}, "card")
			stop := l.hands("avocet", "finish welcome", "debugging on", "allow")
			l.want(0, []string{"Saltmarsh OS 4.2, build SM42.260512, is running from slot b"}, "go", "system",
				"--wait", "30s")
			stop()
			state := filepath.Join(l.dir, "avocet", "state.json")
			l.until("the merge ends", func() bool {
				return strings.Contains(string(must(os.ReadFile(state))), `"snapshot": "none"`)
			})
			l.want(0, nil, "go", "bootloader")
			var c struct {
				Facts map[string]struct{ Value string }
			}
			l.result(0, &c, "card")
			if v := c.Facts["snapshot.status"].Value; v != "none" {
				l.Errorf("after the merge the state is %q", v)
			}
			l.want(0, nil, "wipe", "userdata", "--yes")
		},
		"pre-image-missing": func(l *lab) {
			kit := kitOf(l.T, "godwit", 2)
			l.standin("godwit")
			l.want(3, []string{"warn  pre-image-missing"}, "recovery", "install", kit.recovery)
			// it can't be started, so nothing is written
			l.want(5, nil, "recovery", "install", kit.recovery, "--yes")
			l.want(0, nil, "recovery", "install", kit.recovery, "--into", "boot", "--yes")
			l.want(5, []string{"instead of recovery"}, "go", "recovery")
			l.want(0, nil, "flash", kit.more.Overlay, "--into", "@both", "--yes")
			out := l.want(0, nil, "recovery", "install", kit.recovery, "--yes")
			if strings.Contains(out, "pre-image") {
				l.Error("it is named again after it was written")
			}
			l.want(0, []string{"Tideline Recovery 3.1 is running"}, "go", "recovery")
		},
		"risky-partition": func(l *lab) {
			l.standin("godwit")
			f := junk(l, "radio.img", 1<<20)
			l.want(3, []string{"stop  risky-partition"}, "flash", f, "--yes")
			l.want(3, []string{"stop  risky-partition"}, "flash", f, "--yes", "--accept",
				"risky-partition=modem")
			l.want(0, []string{"radio_a and radio_b written"}, "flash", f, "--yes", "--accept",
				"risky-partition=radio")
			l.want(5, []string{"came up in bootloader instead of system"}, "go", "system", "--wait", "20s")
		},
		"not-enough-room-in-super": func(l *lab) {
			small := l.modelOf("avocet", "small", "group-size: 44MiB\nfirmware",
				"group-size: 38MiB\nfirmware", "group-size: 44MiB, partitions",
				"group-size: 38MiB, partitions")
			if err := os.MkdirAll(filepath.Join(l.home, "models"), 0o755); err != nil {
				l.Fatalf("os.MkdirAll(filepath.Join(l.home, 'models'), 0o755): %v", err)
			}
			if err := os.WriteFile(filepath.Join(l.home, "models", "avocet.yaml"), must(os.ReadFile(small)),
				0o644); err != nil {
				l.Fatalf("os.WriteFile(..., must(os.ReadFile(small)), 0o644): %v", err)
			}
			l.standin("avocet")
			gsi := kitOf(l.T, "avocet", 2).more.GSI
			l.want(3, []string{"warn  not-enough-room-in-super: nobody can tell in this mode how full " +
				"super is"}, "flash", gsi)
			l.want(0, nil, "go", "fastbootd")
			l.want(3, []string{"stop  not-enough-room-in-super"}, "flash", gsi, "--yes")
			l.want(5, []string{"not enough space"}, "flash", gsi, "--yes", "--accept",
				"not-enough-room-in-super")
		},
		"room is made": func(l *lab) {
			l.standin("avocet")
			gsi := kitOf(l.T, "avocet", 2).more.GSI
			l.want(0, nil, "go", "fastbootd")
			l.want(3, []string{"so these go: product_a"}, "flash", gsi)
			l.want(0, []string{"taking away product_a"}, "flash", gsi, "--yes")
			if want := must(scenario.System(scenario.GSI, scenario.PhoneOf("avocet"))); !bytes.Equal(
				l.stored("avocet", "system_a"), want) {
				l.Error("system_a does not hold the generic system")
			}
			// Its hash tree is still enforced: the slot does not start.
			l.want(5, []string{"instead of system"}, "go", "system", "--wait", "20s", "--yes")
		},
		"command-unknown-to-bootloader": func(l *lab) {
			kit := kitOf(l.T, "avocet", 2)
			l.standin("avocet")
			l.want(5, []string{"unknown command"}, "recovery", "try", kit.recovery, "--yes", "--accept",
				"command-unknown-to-bootloader", "--accept", "not-a-recovery")
			l.standin("turnstone")
			l.want(3, []string{"command-unknown-to-bootloader"}, "go", "fastbootd", "--on", "turnstone")
		},
		"wrong-variant": func(l *lab) {
			l.standin("godwit")
			twin := scenario.PhoneOf("godwit")
			twin.Device = "godwit-pro"
			f := l.file("tideline.img", must(scenario.Recovery(scenario.Tideline, twin)))
			l.want(3, []string{"stop  wrong-variant: the file is for godwit-pro, a twin"}, "recovery",
				"install", f, "--yes")
			l.want(5, []string{"instead of recovery"}, "recovery", "install", f, "--yes", "--accept",
				"wrong-variant")
		},
		"other-slot-firmware-differs": func(l *lab) {
			kit := kitOf(l.T, "godwit", 2)
			l.standin("godwit")
			l.want(0, nil, "flash", old(l), "--into", "radio@b", "--yes", "--accept", "risky-partition")
			l.want(3, []string{"warn  other-slot-firmware-differs: nobody can tell"}, "slot", "use", "b")
			l.want(0, nil, "flash", kit.more.Overlay, "--into", "@both", "--yes")
			l.want(0, nil, "recovery", "install", kit.recovery, "--yes")
			l.want(0, nil, "go", "recovery")
			l.want(0, nil, "wipe", "userdata", "--yes")
			l.want(3, []string{"stop  other-slot-firmware-differs: radio on slot b is not what slot a has"},
				"sideload", kit.more.Package, "--yes")
			l.want(0, nil, "sideload", kit.more.Package, "--yes", "--accept", "other-slot-firmware-differs",
				"--then", "stay")
			// It restarts over and over until its tries are used up.
			defer l.hands("godwit", "finish welcome", "debugging on", "allow")()
			l.want(0, []string{"fell back to slot a"}, "go", "system", "--wait", "30s")
		},
		"base-version": func(l *lab) {
			kit := kitOf(l.T, "godwit", 2)
			l.standin("godwit")
			l.want(0, nil, "flash", old(l), kit.more.Overlay, "--into", "@both", "--yes", "--accept",
				"risky-partition")
			l.want(0, nil, "recovery", "install", kit.recovery, "--yes")
			l.want(0, nil, "go", "recovery")
			l.want(0, nil, "wipe", "userdata", "--yes")
			l.want(3, []string{"stop  base-version: version-baseband is 1.8: too old"}, "sideload",
				kit.more.Package, "--yes")
			l.want(0, nil, "sideload", kit.more.Package, "--yes", "--accept", "base-version", "--then",
				"stay")
			defer l.hands("godwit", "finish welcome", "debugging on", "allow")()
			l.want(0, []string{"fell back to slot a"}, "go", "system", "--wait", "30s")
		},
		"base-version, of a set": func(l *lab) {
			kit := kitOf(l.T, "godwit", 2)
			l.standin(l.modelOf("godwit", "older", `version-bootloader: "1.4"`, `version-bootloader: "1.1"`))
			l.want(3, []string{"stop  base-version: the set demands version-bootloader 1.4 or 1.5, the " +
				"phone has 1.1"}, "flash", kit.more.Set, "--yes", "--accept", "risky-partition")
			l.want(3, []string{"stop  wrong-model: the set is for avocet, this phone is godwit"}, "flash",
				kitOf(l.T, "avocet", 2).more.Set, "--yes")
		},
		"temporary-recovery": func(l *lab) {
			l.standin("dunlin")
			l.want(0, []string{"note  temporary-recovery"}, "recovery", "try", files.Recovery, "--yes")
			l.want(3, []string{"warn  temporary-recovery"}, "go", "recovery")
			// What is written is another one, and it can't be seen.
			l.want(0, []string{"can't be seen from here"}, "go", "recovery", "--yes")
		},
		"recovery-only": func(l *lab) {
			l.standin("avocet")
			l.want(3, []string{"stop  recovery-only"}, "wipe", "caches", "--yes", "--accept", "recovery-only")
			l.want(3, []string{"say which: system@a"}, "wipe", "system")
			l.standin("turnstone")
			l.want(0, []string{"caches is erased"}, "wipe", "caches", "--yes", "--on", "turnstone")
			if b := l.stored("turnstone", "cache"); strings.Trim(string(b), "\x00") != "" {
				l.Error("cache was not erased")
			}
		},
		"asked-first": func(l *lab) {
			kit := kitOf(l.T, "sanderling", 1)
			l.standin("sanderling")
			l.want(3, []string{"warn  asked-first: Was the stock system started once"}, "recovery", "install",
				kit.recovery)
			l.want(0, nil, "recovery", "install", kit.recovery, "--yes")
			if out := l.want(0, nil, "recovery", "install", kit.recovery, "--yes"); strings.Contains(out,
				"asked-first") {
				l.Error("it is asked again")
			}
		},
		"not-as-signed": func(l *lab) {
			l.standin("dunlin")
			l.want(0, []string{"note  not-as-signed"}, "recovery", "install", files.Recovery, "--yes")
			other := l.file("boot.img", must(scenario.Images(scenario.Saltmarsh, dunlin))["boot"])
			if out := l.want(0, nil, "flash", other, files.Recovery, "--yes"); strings.Count(out,
				"not-as-signed") != 1 {
				l.Errorf("it is told once a phone:\n%s", out)
			}
			strict := l.modelOf("dunlin", "strict", "title: Wickerlight Dunlin",
				"title: Wickerlight Dunlin\nbootloader: {enforces: true}", "  serial: WL-DU-0007",
				"  serial: WL-DU-0009\n  enforces: true", "model: dunlin", "model: strict",
				"aliases: [WL-DU, wl_dunlin]", "aliases: [dunlin]")
			if err := os.MkdirAll(filepath.Join(l.home, "models"), 0o755); err != nil {
				l.Fatalf("os.MkdirAll(filepath.Join(l.home, 'models'), 0o755): %v", err)
			}
			if err := os.WriteFile(filepath.Join(l.home, "models", "strict.yaml"), must(os.ReadFile(strict)),
				0o644); err != nil {
				l.Fatalf("os.WriteFile(..., must(os.ReadFile(strict)), 0o644): %v", err)
			}
			l.standin(strict)
			l.want(3, []string{"stop  not-as-signed", "enforces verified boot although it is unlocked"},
				"recovery", "install", files.Recovery, "--yes", "--on", "strict")
			l.want(0, nil, "recovery", "install", files.Recovery, "--yes", "--on", "strict", "--accept",
				"not-as-signed")
			l.want(5, []string{"instead of recovery"}, "go", "recovery", "--on", "strict")
		},
		"the stock recovery comes back": func(l *lab) {
			kit := kitOf(l.T, "turnstone", 1)
			l.standin("turnstone")
			l.want(0, nil, "recovery", "install", kit.recovery, "--yes")
			l.allowing("turnstone", func() {
				l.want(0, []string{"Wickerlight Stock"}, "go", "system", "--wait", "20s")
			})
			if bytes.HasPrefix(l.stored("turnstone", "recovery"), must(os.ReadFile(kit.recovery))) {
				l.Error("the system left the recovery alone")
			}
		},
		"locked really locks": func(l *lab) {
			l.standin("avocet", "--locked")
			boot := filepath.Join(l.dir, "avocet", "partitions", "boot_a.img")
			f := must(os.OpenFile(boot, os.O_RDWR, 0))
			if _, err := f.WriteAt([]byte{1}, 256<<10); err != nil { // one byte of the kernel
				l.Fatalf("f.WriteAt(..., 256<<10): %v", err)
			}
			f.Close()
			l.want(5, []string{"came up in bootloader instead of system"}, "go", "system", "--wait", "20s")
		},
	})
}

// TestCards: a saved card stands for the phone where facts suffice, and
// nothing is done on it.
func TestCards(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		kit := kitOf(t, "avocet", 2)
		p := l.standin("avocet", "--mode", "fastbootd")
		saved, draft := filepath.Join(l.dir, "card.json"), filepath.Join(l.dir, "new.yaml")
		l.want(0, []string{"logical, in super", "the card is kept"}, "card", "--save", saved)
		l.want(0, []string{"slots", "18 lines"}, "model", "draft", "-o", draft)
		l.want(2, []string{"is there already"}, "model", "draft", "-o", draft)
		p.kill()
		alone := l.other("alone")
		alone.want(0, []string{"saved"}, "card", "--card", saved)
		alone.want(0, []string{"so these go: product_a", "nothing was changed"}, "flash", kit.more.GSI,
			"--card", saved)
		alone.want(0, []string{"nothing was changed", "step 1 would"}, "recovery", "install", kit.recovery,
			"--card", saved)
		alone.want(2, []string{"no saved card"}, "card", "--card", kit.recovery)
		// The draft is a model file that can be read, and is taken once it has its place.
		if err := os.MkdirAll(filepath.Join(alone.home, "models"), 0o755); err != nil {
			t.Fatalf("os.MkdirAll(..., 0o755): %v", err)
		}
		text := must(os.ReadFile(draft))
		if err := os.WriteFile(filepath.Join(alone.home, "models", "new.yaml"), text, 0o644); err != nil {
			t.Fatalf("os.WriteFile(..., text, 0o644): %v", err)
		}
		alone.want(0, []string{"a ramdisk fragment of vendor_boot   the saved card"}, "card", "--card", saved)
		for _, s := range []string{"model: avocet", "slots: 2", "partition: vendor_boot",
			"logical: [product, system, vendor]"} {
			if !strings.Contains(string(text), s) {
				t.Errorf("the draft lacks %q:\n%s", s, text)
			}
		}
	})
}
