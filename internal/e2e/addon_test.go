package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jarlid/internal/standin/scenario"
)

// added reports whether an add-on's trace is on a slot's system.
func (l *lab) added(phone, partition, name string) bool {
	_, err := os.Stat(filepath.Join(l.dir, phone, "partitions", "added", partition, "system", "product",
		"app", name, name+".txt"))
	return err == nil
}

// readyForPackages brings a dunlin with a recovery into it, formatted.
func (l *lab) readyForPackages(recovery string) {
	l.Helper()
	l.standin("dunlin")
	l.want(0, nil, "recovery", "install", recovery, "--yes")
	l.want(0, nil, "go", "recovery")
	l.want(0, nil, "wipe", "userdata", "--yes")
}

// TestPackages sends a ROM and two add-ons, named in the wrong order, and looks
// where they landed.
func TestPackages(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.readyForPackages(files.Recovery)
		apps, sheet := l.file("shoreline-14-arm64.zip", must(scenario.Shoreline.Package())),
			l.file("countsheet.zip", must(scenario.Countsheet.Package()))
		var r struct {
			Packages []struct {
				Path, Outcome string
				Slot          string `json:"slot_written"`
			}
		}
		l.want(0, []string{"the ROM first, then the add-ons as given", "then a restart into recovery"},
			"sideload", sheet, apps, files.Package, "--dry-run")
		l.result(0, &r, "sideload", sheet, apps, files.Package, "--yes")
		for i, want := range []string{files.Package, sheet, apps} {
			if p := r.Packages[i]; p.Path != want || p.Outcome != "installed" || p.Slot != "b" {
				t.Errorf("package %d: %+v", i+1, p)
			}
		}
		for _, name := range []string{"ShorelineApps", "Countsheet"} {
			if !l.added("dunlin", "system_b", name) || l.added("dunlin", "system_a", name) {
				t.Errorf("%s is not where it belongs", name)
			}
		}
		l.want(0, []string{"add-ons: countsheet.zip, shoreline-14-arm64.zip"}, "slot")
		defer l.hands("dunlin", "finish welcome", "debugging on", "allow")()
		l.want(0, []string{"Saltmarsh OS 4.2, build SM42.260512, is running from slot b"}, "go", "system",
			"--wait", "30s")
		// Writing the system again takes what was added with it.
		l.want(0, nil, "go", "bootloader")
		l.want(0, nil, "flash",
			l.file("system.img", must(scenario.Images(scenario.Saltmarsh, dunlin))["system"]), "--into",
			"@b", "--yes")
		if l.added("dunlin", "system_b", "Countsheet") {
			t.Error("an add-on outlived its system")
		}
	})
}

// TestKeysOfAFragment: a recovery in vendor_boot has its keys read too.
func TestKeysOfAFragment(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		phone := scenario.PhoneOf("avocet")
		rec := l.file("vendor_boot.img", must(scenario.Recovery(scenario.SaltmarshRecovery, phone)))
		l.want(0, []string{"trusted signer"}, "proof", l.file("own.zip", must(scenario.Countsheet.Package())),
			"--keys-of", rec)
		l.want(6, []string{"signed by nobody you trust"}, "proof",
			l.file("theirs.zip", must(scenario.Shoreline.Package())), "--keys-of", rec)
		bare := l.file("tideline.img", must(scenario.Recovery(scenario.Tideline, phone)))
		l.want(1, []string{"trusts no key that could be read"}, "proof",
			l.file("x.zip", must(scenario.Countsheet.Package())), "--keys-of", bare)
	})
}

// TestAddonFindings: what is wrong with an add-on, and what happens when it is
// sent all the same.
func TestAddonFindings(t *testing.T) {
	t.Parallel()
	rom := func(l *lab) {
		l.readyForPackages(files.Recovery)
		l.want(0, nil, "sideload", files.Package, "--yes")
	}
	keyed := func(l *lab, how string) string {
		k := scenario.SaltmarshRecovery // has a key of its own, and here a shell
		k.Traits = "shell: true\nclosing: honest\nsignature: " + how + "\n"
		k.Props = scenario.Tideline.Props
		return l.file("keyed.img", must(scenario.Recovery(k, dunlin)))
	}
	some(t, 3, map[string]func(l *lab){
		"wrong-arch": func(l *lab) {
			rom(l)
			a := scenario.Shoreline
			a.ABI = "x86"
			f := l.file("shoreline-x86.zip", must(a.Package()))
			l.want(3, []string{"stop  wrong-arch: shoreline-x86.zip holds programs for x86"}, "sideload",
				f, "--yes")
			l.want(0, []string{"installed"}, "sideload", f, "--yes", "--accept", "wrong-arch")
			defer l.hands("dunlin", "finish welcome", "debugging on", "allow")()
			l.want(0, []string{"fell back to slot a"}, "go", "system", "--wait", "30s")
		},
		"wrong-system-version": func(l *lab) {
			rom(l)
			a := scenario.Shoreline
			a.Release = "13"
			f := l.file("shoreline-13.zip", must(a.Package()))
			l.want(3, []string{"stop  wrong-system-version: shoreline-13.zip wants " +
				"ro.build.version.release 13, the system is 14"}, "sideload", f, "--yes")
			l.want(5, []string{"this package is for release 13"}, "sideload", f, "--yes", "--accept",
				"wrong-system-version")
			// In one command with the ROM it is compared with the ROM.
			l.want(3, []string{"stop  wrong-system-version"}, "sideload", files.Package, f, "--yes")
		},
		"wrong-model": func(l *lab) {
			rom(l)
			a := scenario.Countsheet
			a.Device = "godwit"
			f := l.file("countsheet-godwit.zip", must(a.Package()))
			l.want(3, []string{"stop  wrong-model: the file is for godwit"}, "sideload", f, "--yes")
			l.want(5, []string{"this package is for godwit"}, "sideload", f, "--yes", "--accept",
				"wrong-model")
		},
		"order-broken": func(l *lab) {
			rom(l)
			first, second := l.file("patch-1.zip", must(scenario.Countsheet.Package())),
				l.file("patch-2.zip", must(scenario.Countsheet.Package()))
			l.want(3, []string{"stop  order-broken: patch-1.zip comes behind patch-2.zip"}, "sideload",
				second, first, "--yes")
			l.want(0, nil, "sideload", first, second, "--yes")
		},
		"slot-not-started": func(l *lab) {
			l.readyForPackages(files.Recovery)
			l.want(0, nil, "sideload", files.Package, "--yes", "--then", "stay")
			// By its menu the recovery stays on the old slot.
			pressed := l.hands("dunlin", "packages", "from the computer")
			l.until("bench shows sideload", func() bool {
				_, out := l.run("bench")
				return strings.Contains(out, "sideload")
			})
			pressed()
			f := l.file("countsheet.zip", must(scenario.Countsheet.Package()))
			l.want(3, []string{"stop  slot-not-started: slot b starts next and the recovery runs on slot a"},
				"sideload", f, "--yes")
			l.run("sideload", f, "--yes", "--accept", "slot-not-started", "--accept", "wrong-system-version")
			if l.added("dunlin", "system_b", "Countsheet") {
				l.Error("it landed on the new slot all the same")
			}
		},
		"signature-unknown": func(l *lab) {
			l.readyForPackages(keyed(l, "ask"))
			apps := l.file("apps.zip",
				must(scenario.Addon{Name: "ShorelineApps", Signer: "tideline"}.Package()))
			own := l.file("own.zip", must(scenario.Addon{Name: "Countsheet", Signer: "saltmarsh"}.Package()))
			l.want(0, nil, "vbmeta", "loosen", "hashtree", "--yes")
			if out := l.want(0, nil, "sideload", own, "--yes"); strings.Contains(out, "signature-unknown") {
				l.Errorf("its own key is not known: %s", out)
			}
			l.want(3, []string{"warn  signature-unknown: apps.zip is signed by CN=tideline releases"},
				"sideload", apps)
			defer l.hands("dunlin", "yes")()
			l.want(0, []string{"installed"}, "sideload", apps, "--yes")
		},
		"signature-unknown, refused": func(l *lab) {
			l.readyForPackages(keyed(l, "refuse"))
			l.want(0, nil, "vbmeta", "loosen", "hashtree", "--yes")
			bare := l.file("bare.zip", must(scenario.Addon{Name: "Countsheet"}.Package()))
			l.want(3, []string{"warn  signature-unknown: bare.zip is not signed"}, "sideload", bare)
			l.want(5, []string{"signature is not trusted"}, "sideload", bare, "--yes")
			own := must(scenario.Addon{Name: "Countsheet", Signer: "saltmarsh"}.Package())
			own[60] ^= 1 // changed after it was signed
			changed := l.file("changed.zip", own)
			l.want(3, []string{"stop  altered-file: changed.zip is whole, and was changed after it " +
				"was signed"}, "sideload", changed, "--yes")
			l.want(5, []string{"signature"}, "sideload", changed, "--yes", "--accept",
				"altered-file=changed.zip")
		},
	})
}

// TestOneSlotPackages installs a ROM and an add-on on the phones with one slot:
// block lists, plain and brotli, and on the old one the service that takes the whole
// file at once.
func TestOneSlotPackages(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name   string
		packed bool
		addon  scenario.Addon
		says   string
	}{
		{"sanderling", true, scenario.Shoreline, "passes"},
		{"turnstone", false, scenario.Addon{Name: "ShorelineApps", ABI: "armeabi-v7a", Release: "14",
			Signer: "tideline"}, "takes the whole package at once"},
	} {
		t.Run(c.name, func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				kit := kitOf(t, c.name, 1)
				l.standin(c.name)
				rom := l.file("saltmarsh-4.2.zip",
					must(scenario.BlockPackage(scenario.Saltmarsh, kit.phone, c.packed)))
				twin := l.file("other.zip",
					must(scenario.BlockPackage(scenario.Saltmarsh, scenario.PhoneOf("dunlin"), true)))
				addon := l.file("shoreline.zip", must(c.addon.Package()))
				l.want(0, nil, "recovery", "install", kit.recovery, "--yes")
				if c.name == "turnstone" {
					l.later(c.name, "volume-up+power")
				}
				l.want(0, nil, "go", "recovery")
				if c.name == "turnstone" { // its data is not encrypted
					l.want(3, []string{"warn  old-apps"}, "sideload", rom)
				} else {
					l.want(3, []string{"stop  encrypted-data"}, "sideload", rom, "--yes")
				}
				l.want(0, nil, "wipe", "userdata", "--yes")
				l.want(3, []string{"stop  wrong-model"}, "sideload", twin, "--yes")
				l.want(5, []string{"this package is for dunlin"}, "sideload", twin, "--yes", "--accept",
					"wrong-model", "--accept", "no-such-partition")
				out := l.want(0, []string{c.says, "saltmarsh-4.2.zip, shoreline.zip are installed"},
					"sideload",
					addon, rom, "--yes")
				if asks := strings.Contains(out, "the phone asks for the package in "+
					"blocks"); asks != c.packed {
					t.Errorf("that the phone asks for blocks is said: %t, want %t:\n%s", asks, c.packed, out)
				}
				want := must(scenario.Images(scenario.Saltmarsh, kit.phone))
				for _, part := range []string{"system", "boot"} {
					if got := l.stored(c.name, part); string(got[:len(want[part])]) != string(want[part]) {
						t.Errorf("%s does not hold the package's", part)
					}
				}
				if !l.added(c.name, "system", "ShorelineApps") {
					t.Error("the add-on left no trace")
				}
				defer l.hands(c.name, "finish welcome", "debugging on", "allow")()
				l.want(0, []string{"Saltmarsh OS 4.2"}, "go", "system", "--wait", "30s")
			})
		})
	}
}
