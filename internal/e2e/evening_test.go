package e2e

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"jarlid/internal/standin/scenario"
	"jarlid/internal/standin/standintest"
)

// addons gives two add-ons for a phone, signed by who makes the ROM, so that its
// own recovery takes them too.
func (l *lab) addons(p scenario.Phone) (string, string) {
	shore, sheet := scenario.Shoreline, scenario.Countsheet
	shore.ABI, shore.Signer = p.ABI, "saltmarsh"
	return l.file("shoreline.zip", must(shore.Package())), l.file("countsheet.zip", must(sheet.Package()))
}

// firstStart starts the new system, watches it arrive, and puts the observers' apps
// onto it.
func (l *lab) firstStart(name, says string) {
	l.Helper()
	l.want(0, nil, "go", "system", "--wait", "1s", "--yes")
	l.did(name, "", []string{"it is what was installed", says + " is up"}, "arrive", "--wait", "60s")
	log := l.file("fieldlog.apk", must(scenario.FieldLog.Package()))
	tide := l.file("tidetool.apk", must(scenario.TideTool.Package()))
	if scenario.PhoneOf(name).ABI == scenario.TideTool.ABI {
		l.want(0, []string{"installed: fieldlog.apk, tidetool.apk"}, "app", "--yes", log, tide)
	} else {
		l.want(3, []string{"stop  wrong-arch"}, "app", "--yes", log, tide)
		l.want(5, []string{"its programs are for another processor (Failure " +
			"[INSTALL_FAILED_NO_MATCHING_ABIS"}, "app", "--yes", tide, "--accept", "wrong-arch")
		l.want(0, []string{"installed: fieldlog.apk"}, "app", "--yes", log)
	}
	newer := scenario.FieldLog
	newer.MinSDK = 99
	l.want(3, []string{"stop  wrong-system-version"}, "app", "--yes",
		l.file("newer.apk", must(newer.Package())))
	l.want(3, []string{"stop  not-an-app"}, "app", "--yes", l.file("no.txt", []byte("a text\n")))
	l.want(3, []string{"stop  not-an-app", "no phone installs it"}, "app", "--yes",
		l.file("bare.apk", must(scenario.FieldLog.Unsigned())))
	changed := bytes.Clone(must(scenario.FieldLog.Package()))
	changed[40] ^= 1
	l.want(3, []string{"stop  altered-file"}, "app", "--yes", l.file("changed.apk", changed))
	theirs := scenario.FieldLog
	theirs.By = "wickerlight"
	l.want(5, []string{"the same app signed by somebody else is installed"}, "app", "--yes",
		l.file("theirs.apk", must(theirs.Package())))
}

// TestAppInParts: an app in three files is installed in one session, and nothing is sent when they are
// not all of one app.
func TestAppInParts(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("turnstone", "--mode", "system")
		part := func(name string, change func(*scenario.App)) string {
			a := scenario.FieldLog
			change(&a)
			return l.file(name, must(a.Package()))
		}
		whole := part("fieldlog.apk", func(a *scenario.App) { a.Parts = true })
		arm := part("arm.apk", func(a *scenario.App) { a.Part, a.ABI = "config.armeabi_v7a", "armeabi-v7a" })
		german := part("german.apk", func(a *scenario.App) { a.Part = "config.de" })
		older := part("older.apk", func(a *scenario.App) { a.Part, a.Version = "config.fr", 41 })
		theirs := part("theirs.apk", func(a *scenario.App) { a.Part, a.By = "config.fr", "wickerlight" })
		tide := part("tidetool.apk", func(a *scenario.App) { a.Name = scenario.TideTool.Name })
		defer l.hands("turnstone", "allow")()
		for _, c := range []struct {
			files []string
			code  int
			says  []string
		}{
			{[]string{whole}, 3, []string{"stop  not-an-app", "can't be installed without its parts"}},
			{[]string{arm, german}, 3, []string{"stop  not-an-app", "nothing without the app's package"}},
			{[]string{whole, arm, older}, 3, []string{"part of version 41 of the app " +
				"org.saltmarsh.fieldlog"}},
			{[]string{whole, arm, theirs}, 3, []string{"theirs.apk is signed with another key than arm.apk"}},
			{[]string{arm, whole, tide, german}, 0, []string{"installed: fieldlog.apk with 2 parts, " +
				"tidetool.apk"}},
			{[]string{whole, "--accept", "not-an-app"}, 5, []string{"one of its parts is missing (Failure " +
				"[INSTALL_FAILED_MISSING_SPLIT"}},
		} {
			l.want(c.code, c.says, append([]string{"app", "--yes"}, c.files...)...)
		}
		for _, name := range []string{"base", "split_config.armeabi_v7a", "split_config.de"} {
			if !there(l.data("app/" + scenario.FieldLog.Name + "/" + name + ".apk")) {
				t.Errorf("the phone does not have %s of the app in parts", name)
			}
		}
		l.want(0, []string{"the part config.armeabi_v7a of the app org.saltmarsh.fieldlog"}, "ident", arm)
	})
}

// TestEvenings does the whole evening on each phone with slots: format, ROM,
// restart, two add-ons, first boot, apps.
func TestEvenings(t *testing.T) {
	t.Parallel()
	t.Run("dunlin", func(t *testing.T) {
		inLab(t, func(t *testing.T, l *lab) {
			l.standin("dunlin")
			shore, sheet := l.addons(dunlin)
			l.inRecovery("dunlin", files.Recovery)
			l.want(0, nil, "wipe", "userdata", "--yes")
			l.want(0, []string{"slot b starts next"}, "sideload", files.Package, shore, sheet, "--yes")
			l.firstStart("dunlin", "Saltmarsh OS 4.2")
			var r struct {
				Stage, Version, Build, Slot, Matches string
				Patch                                string `json:"security_patch"`
			}
			l.result(0, &r, "arrive")
			if r.Stage != "finished" || r.Version != "Saltmarsh OS 4.2" || r.Build != "SM42.260512" ||
				r.Slot != "b" || r.Matches != "yes" || r.Patch != "2026-05-01" {
				t.Errorf("%+v; unwanted: r.Stage != 'finished' || r.Version != 'Saltmarsh OS 4.2' || ...", r)
			}
		})
	})
	t.Run("godwit, its recovery tried", func(t *testing.T) {
		inLab(t, func(t *testing.T, l *lab) {
			kit := kitOf(t, "godwit", 2)
			l.standin("godwit")
			shore, sheet := l.addons(kit.phone)
			l.want(0, nil, "flash", kit.more.Overlay, "--into", "@both", "--yes")
			l.want(0, nil, "recovery", "try", kit.recovery, "--yes")
			l.want(0, nil, "wipe", "userdata", "--yes")
			// A restart would end it, so it is put into sideload mode from its menu.
			l.did("godwit", "", []string{"written nowhere and would be gone"}, "sideload", kit.more.Package,
				"--then", "stay", "--yes")
			l.want(0, nil, "go", "bootloader", "--yes")
			// the ROM brought the manufacturer's
			l.want(0, nil, "flash", kit.more.Overlay, "--into", "@b", "--yes")
			l.want(0, nil, "recovery", "try", kit.recovery, "--yes")
			l.did("godwit", "", nil, "sideload", shore, sheet, "--yes")
			l.firstStart("godwit", "Saltmarsh OS 4.2")
		})
	})
	t.Run("godwit, its recovery set", func(t *testing.T) {
		inLab(t, func(t *testing.T, l *lab) {
			kit := kitOf(t, "godwit", 2)
			l.standin("godwit")
			shore, sheet := l.addons(kit.phone)
			l.want(0, nil, "flash", kit.more.Overlay, "--into", "@both", "--yes")
			l.want(0, nil, "recovery", "try", kit.recovery, "--yes")
			l.want(0, []string{"boot_a written"}, "recovery", "install", kit.recovery, "--yes")
			l.want(0, nil, "go", "recovery")
			l.want(0, nil, "wipe", "userdata", "--yes")
			bare := l.file("bare.zip", zipOf("META-INF/com/android/metadata", "pre-device=godwit\n",
				"META-INF/com/google/android/updater-script", "", "system.transfer.list", "1\n1\nnew 2,0,1\n",
				"system.new.dat", string(make([]byte, 4096))))
			l.want(3, []string{"stop  nothing-there: bare.zip holds no image of boot"}, "sideload", sheet,
				bare, "--recovery-after", kit.recovery, "--yes")
			// The ROM brings the manufacturer's overlays, which the recovery would stay black over: it
			// goes into the ROM's own boot image, the overlays before it.
			l.want(0, nil, "sideload", kit.more.Package, "--then", "stay", "--yes")
			l.want(0, nil, "go", "bootloader", "--yes")
			l.want(0, nil, "flash", kit.more.Overlay, "--into", "@b", "--yes")
			l.want(0, []string{"boot_b written"}, "recovery", "install", kit.recovery, "--boot",
				kit.more.Package, "--into", "boot@b", "--yes")
			l.want(0, []string{"Tideline Recovery 3.1 is running"}, "go", "recovery", "--yes")
			l.want(0, nil, "sideload", shore, sheet, "--yes")
			rom := must(scenario.Images(scenario.Saltmarsh, kit.phone))["boot"]
			if got := l.stored("godwit", "boot_b"); string(parts(t, got)["kernel"]) != string(
				parts(t, rom)["kernel"]) {
				t.Error("slot b does not have the ROM's kernel")
			}
			l.firstStart("godwit", "Saltmarsh OS 4.2")
		})
	})
	t.Run("avocet, its recovery set again behind the ROM", func(t *testing.T) {
		inLab(t, func(t *testing.T, l *lab) {
			kit := kitOf(t, "avocet", 2)
			l.standin("avocet")
			shore, sheet := l.addons(kit.phone)
			l.inRecovery("avocet", kit.recovery)
			l.want(0, nil, "wipe", "userdata", "--yes")
			l.want(0, []string{"written again behind the ROM",
				"Tideline Recovery 3.1 is still there on slot b"}, "sideload", kit.more.Package, sheet, shore,
				"--recovery-after", kit.recovery, "--yes")
			l.firstStart("avocet", "Saltmarsh OS 4.2")
		})
	})
	for name, slots := range map[string]int{"dunlin": 2, "godwit": 2, "avocet": 2} {
		t.Run(name+", a recovery without a shell", func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				kit := kitOf(t, name, slots)
				pkg := kit.more.Package
				l.standin(name)
				shore, sheet := l.addons(kit.phone)
				l.want(0, nil, "wipe", "userdata", "--yes")
				l.want(0, nil, "recovery", "install",
					l.file("quiet.img", must(scenario.Recovery(scenario.SaltmarshRecovery, kit.phone))),
					"--yes")
				l.want(0, []string{"can't be seen"}, "go", "recovery")
				// The owner says each time what the screen shows.
				l.did(name, "y\n1\ny\n1\n1\n", []string{"What does the phone's screen say?",
					"you said that the phone's screen says so", "are installed"}, "sideload", pkg,
					shore, sheet)
				l.did(name, "", nil, "go", "bootloader")
				l.want(0, []string{"slot b is next"}, "slot")
				if !l.added(name, "system_b", "Countsheet") || !l.added(name, "system_b", "ShorelineApps") {
					t.Error("the add-ons are not on the new slot")
				}
				l.firstStart(name, "Saltmarsh OS 4.2")
			})
		})
	}
}

// TestTurnstoneEvening: an old phone, its stock script held, areas wiped with the
// package kept on the card, ROM from the card and an add-on.
func TestTurnstoneEvening(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		kit := kitOf(t, "turnstone", 1)
		l.standin("turnstone")
		shore, _ := l.addons(kit.phone)
		l.inRecovery("turnstone", kit.recovery)
		l.want(0, []string{"/system/bin/install-recovery.sh on system puts the maker's recovery back",
			"moved aside"}, "recovery", "hold", "--yes")
		// It is held: the stock system starts and leaves the recovery alone.
		before := l.stored("turnstone", "recovery")
		l.did("turnstone", "", []string{"Wickerlight Stock 9.1"}, "go", "system", "--yes", "--wait", "30s")
		l.want(0, nil, "go", "bootloader")
		if string(before) != string(l.stored("turnstone", "recovery")) {
			t.Error("the stock system put its recovery back all the same")
		}
		l.later("turnstone", "volume-up+power")
		l.want(0, []string{"Tideline Recovery 3.1 is running"}, "go", "recovery")
		l.want(0, []string{"there is none here"}, "recovery", "hold")
		l.want(0, nil, "put", kit.more.Package, "--to", "sd", "--yes")
		l.want(0, []string{"system is formatted"}, "wipe", "apps", "caches", "system", "--yes")
		l.did("turnstone", "", []string{"The file to choose is saltmarsh-4.2-turnstone.zip",
			"installed: saltmarsh-4.2-turnstone.zip"}, "put", kit.more.Package, "--to", "sd", "--install",
			"--yes")
		l.did("turnstone", "", []string{"is installed"}, "sideload", shore, "--yes")
		l.firstStart("turnstone", "Saltmarsh OS 4.2")
	})
}

// TestSanderlingEvening: a base ROM and its first boot, a generic system written
// whole, numbered extras in their order, and a loop that ends when the manufacturer's overlay is
// moved aside.
func TestSanderlingEvening(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		kit := kitOf(t, "sanderling", 1)
		l.standin("sanderling")
		l.inRecovery("sanderling", kit.recovery)
		l.want(3, []string{"stop  verity-would-reject"}, "shelve", "/vendor/overlay/WickerlightFrame",
			"--yes")
		l.want(0, nil, "wipe", "userdata", "--yes")
		l.want(0, nil, "sideload", kit.more.Package, "--yes")
		l.firstStart("sanderling", "Saltmarsh OS 4.2")
		l.want(0, nil, "go", "bootloader")
		l.want(3, []string{"stop  encrypted-data"}, "flash", kit.more.GSI, "--into", "system", "--yes")
		l.want(0, nil, "wipe", "userdata", "--yes")
		l.want(0, nil, "flash", kit.more.GSI, "--into", "system", "--yes")
		l.want(0, nil, "go", "recovery")
		var extras []string
		for _, name := range []string{"extra-1", "extra-2", "extra-3"} {
			extras = append(extras,
				l.file(name+".zip", must(scenario.Addon{Name: name, Release: "14",
					Signer: "saltmarsh"}.Package())))
		}
		l.want(3, []string{"stop  order-broken"}, "sideload", extras[1], extras[0], extras[2], "--yes")
		l.want(0, []string{"are installed"}, append([]string{"sideload", "--yes"}, extras...)...)
		l.want(0, nil, "go", "system", "--wait", "1s", "--yes")
		code, out := l.owner("sanderling", "3\n", standintest.Owner, "arrive", "--wait", "5s")
		if code != 6 || !strings.Contains(out, "jarlid shelve /vendor/overlay") ||
			!strings.Contains(out, "again and again") {
			t.Fatalf("a loop ended with %d:\n%s", code, out)
		}
		l.did("sanderling", "", nil, "go", "recovery", "--yes")
		var moved struct{ Moved []struct{ From, To string } }
		l.result(0, &moved, "shelve", "/vendor/overlay/WickerlightFrame", "--yes")
		if len(moved.Moved) != 1 || moved.Moved[0].From != "/overlay/WickerlightFrame" {
			t.Errorf("%+v; unwanted: len(moved.Moved) != 1 || moved.Moved[0].From != ...", moved)
		}
		l.want(0, []string{"/vendor/overlay/WickerlightFrame is moved aside already",
			"nothing is to be moved"}, "shelve", "/vendor/overlay//WickerlightFrame/", "--yes")
		l.want(0, nil, "go", "system", "--wait", "1s", "--yes")
		l.did("sanderling", "", []string{"Saltmarsh GSI 4.2 is up"}, "arrive", "--wait", "60s")
		// And back: the overlay is there again, and the loop with it.
		l.want(0, nil, "go", "recovery")
		l.want(0, []string{"/vendor/overlay/WickerlightFrame is back"}, "unshelve", "--yes")
		l.want(0, []string{"/vendor/overlay/WickerlightFrame is in its place already"}, "unshelve",
			"/vendor/overlay/WickerlightFrame", "--yes")
		l.want(0, nil, "go", "system", "--wait", "1s", "--yes")
		if code, _ := l.run("arrive", "--wait", "5s"); code == 0 {
			t.Error("it starts with the overlay")
		}
	})
}

// TestCapitals: phones that spell their partitions BOOT and RECOVERY are the same phones, in every mode: the
// same evening by hand leaves them byte for byte alike, and what a name decides is decided. In a loader's
// table a number will do.
func TestCapitals(t *testing.T) {
	t.Parallel()
	capitals := map[string][]string{
		"turnstone": {"spelling: {", "spelling: {names: capitals, "},
		"avocet":    {"spelling: {", "spelling: {names: capitals, "},
		"knot":      {"  start: loader", "  start: loader\n  spelling: {names: capitals}"},
	}
	all := evenings()
	all["knot"] = evening{phone: "knot", slots: 1, files: func(l *lab, k kit) []string {
		return []string{k.recovery, k.more.Package}
	},
		hand: func(k kit, f []string) [][]string {
			return [][]string{
				{"recovery", "install", f[0]},
				{"wipe", "part:Cache"},
				{"flash", f[0], "--into", "2"},
				{"go", "recovery"},
				{"wipe", "userdata"},
				{"sideload", f[1]},
				{"go", "system", "--wait", "90s"},
			}
		}}
	for _, name := range []string{"knot", "turnstone, a system", "avocet, a generic system",
		"avocet, back to stock"} {
		e := all[name]
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var holds [2]map[string]uint64
			t.Run("both", func(t *testing.T) {
				for i, model := range []func(l *lab) string{func(*lab) string {
					return e.phone
				}, func(l *lab) string { return l.modelOf(e.phone, e.phone, capitals[e.phone]...) }} {
					t.Run(fmt.Sprint(i), func(t *testing.T) {
						inLab(t, func(t *testing.T, l *lab) {
							k := kitOf(t, e.phone, e.slots)
							l.standin(model(l))
							l.want(3, []string{"stop  no-such-partition", "did you mean boot?"}, "flash",
								k.recovery, "--into", "BOOTT", "--accept", "wrong-destination")
							for _, words := range e.hand(k, l.beside(e.files(l, k)...)) {
								l.did(e.phone, "", nil, append(words, "--yes")...)
							}
							holds[i] = l.holds(e.phone)
						})
					})
				}
			})
			for p, sum := range holds[0] {
				if holds[1][p] != sum {
					t.Errorf("%s is another one", p)
				}
			}
			if len(holds[0]) != len(holds[1]) || len(holds[0]) == 0 {
				t.Errorf("%d files and %d", len(holds[0]), len(holds[1]))
			}
		})
	}
}
