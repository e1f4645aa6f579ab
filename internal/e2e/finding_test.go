package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jarlid/internal/standin/scenario"
)

func godwitFile(l *lab, name string, b []byte, err error) string {
	l.Helper()
	if err != nil {
		l.Fatalf("making %s: %v", name, err)
	}
	return l.file(name, b)
}

// TestFindings proves each finding on a stand-in: how it is stopped, and what
// a phone does when it is accepted all the same.
func TestFindings(t *testing.T) {
	t.Parallel()
	godwit := scenario.Phone{Device: "godwit", Model: "Wickerlight Godwit", ABI: "arm64-v8a"}
	intoRecovery := func(l *lab) {
		l.want(0, nil, "recovery", "install", files.Recovery, "--yes")
		l.want(0, nil, "go", "recovery")
	}
	some(t, 8, map[string]func(l *lab){
		"locked-bootloader": func(l *lab) {
			l.standin("dunlin", "--locked")
			l.want(3, []string{"stop  locked-bootloader"}, "recovery", "install", files.Recovery, "--yes")
			l.want(5, []string{"not allowed while the device is locked"}, "recovery", "install",
				files.Recovery, "--yes", "--accept", "locked-bootloader")
		},
		"battery-low": func(l *lab) {
			l.standin("dunlin", "--battery", "9")
			l.want(3, []string{"stop  battery-low"}, "recovery", "install", files.Recovery, "--yes")
			l.want(0, []string{"(accepted)"}, "recovery", "install", files.Recovery, "--yes", "--accept",
				"battery-low")
			// In recovery the percentage can be read.
			l.want(0, nil, "go", "recovery")
			l.want(3, []string{"the battery is at 9 %"}, "wipe", "userdata", "--yes")
		},
		"wrong-model": func(l *lab) {
			l.standin("dunlin")
			b, err := scenario.Recovery(scenario.Tideline, godwit)
			twin := godwitFile(l, "twin_v2_final.img", b, err)
			l.want(3, []string{"stop  wrong-model: the file is for godwit, this phone is dunlin"}, "recovery",
				"install", twin, "--yes")
			l.want(3, nil, "recovery", "install", twin, "--yes", "--accept", "wrong-model=other.img")
			l.want(0, nil, "recovery", "install", twin, "--yes", "--accept", "wrong-model=twin_v2_final.img")
			l.want(5, []string{"came up in bootloader instead of recovery"}, "go", "recovery")
			intoRecovery(l)
			l.want(0, nil, "wipe", "userdata", "--yes")
			b, err = scenario.Package(scenario.Saltmarsh, godwit, nil)
			pkg := godwitFile(l, "saltmarsh.zip", b, err)
			l.want(3, []string{"stop  wrong-model"}, "sideload", pkg, "--yes")
			var r struct {
				Packages []struct{ Outcome, By string }
			}
			l.result(5, &r, "sideload", pkg, "--yes", "--accept", "wrong-model")
			if r.Packages[0].Outcome != "refused" || !strings.Contains(r.Packages[0].By,
				"the package is for godwit") {
				l.Errorf("the package for the twin: %+v", r)
			}
		},
		"no-such-partition": func(l *lab) {
			l.standin("dunlin")
			l.want(3, []string{"stop  no-such-partition"}, "recovery", "install", files.Recovery, "--yes",
				"--into", "rescue@both")
			l.want(5, []string{"no such partition"}, "recovery", "install", files.Recovery, "--yes", "--into",
				"rescue@both", "--accept", "no-such-partition", "--accept", "wrong-destination")
		},
		"image-too-big": func(l *lab) {
			l.standin(l.model("small", "{name: recovery, size: 32MiB", "{name: recovery, size: 1MiB"))
			l.want(3, []string{"stop  image-too-big"}, "recovery", "install", files.Recovery, "--yes",
				"--accept", "image-too-big")
		},
		"not-a-recovery": func(l *lab) {
			l.standin("dunlin")
			b, err := scenario.Boot(scenario.Stock, dunlin)
			plain := godwitFile(l, "recovery.img", b, err)
			l.want(3, []string{"stop  not-a-recovery: the file is a boot image"}, "recovery", "install",
				plain, "--yes")
			l.want(0, nil, "recovery", "install", plain, "--yes", "--accept", "not-a-recovery")
			l.want(5, []string{"instead of recovery"}, "go", "recovery")
		},
		"recovery-on-one-slot": func(l *lab) {
			l.standin("dunlin")
			l.want(3, []string{"warn  recovery-on-one-slot"}, "recovery", "install", files.Recovery,
				"--into", "@a")
			l.want(0, nil, "recovery", "install", files.Recovery, "--into", "@a", "--yes")
			l.want(0, nil, "go", "recovery")
			l.want(0, nil, "wipe", "userdata", "--yes")
			l.want(3, []string{"warn  recovery-on-one-slot"}, "sideload", files.Package)
			// The classic loss: installed, and the phone comes up without it.
			l.want(5, []string{"installed: slot b", "instead of recovery"}, "sideload", files.Package,
				"--yes")
		},
		"encrypted-data": func(l *lab) {
			l.standin("dunlin")
			intoRecovery(l)
			l.want(3, []string{"stop  encrypted-data"}, "sideload", files.Package, "--yes")
			l.want(0, []string{"installed"}, "sideload", files.Package, "--yes", "--accept", "encrypted-data")
			l.want(3, []string{"stop  encrypted-data"}, "go", "system", "--yes")
			l.want(5, []string{"came up in recovery instead of system"}, "go", "system", "--yes", "--accept",
				"encrypted-data", "--wait", "20s")
			// And the cure.
			l.want(0, nil, "wipe", "userdata", "--yes")
			defer l.hands("dunlin", "finish welcome", "debugging on", "allow")()
			l.want(0, []string{"Saltmarsh OS 4.2, build SM42.260512, is running from slot b"}, "go", "system",
				"--wait", "30s")
		},
		"encrypted-data unknown": func(l *lab) {
			l.standin("dunlin")
			l.want(0, nil, "recovery", "install", files.Recovery, "--yes")
			l.want(0, nil, "standin", "press", "dunlin", "recovery")
			stop := l.hands("dunlin", "packages", "from the computer")
			l.until("bench shows sideload", func() bool {
				_, out := l.run("bench")
				return strings.Contains(out, "sideload")
			})
			stop()
			l.want(3, []string{"warn  encrypted-data: nobody can tell"}, "sideload", files.Package, "--then",
				"stay")
		},
		"slot-empty": func(l *lab) {
			l.standin("dunlin")
			l.want(3, []string{"stop  slot-empty: the phone itself says slot b can't start"}, "slot", "use",
				"b", "--yes")
			l.want(0, []string{"slot b starts next"}, "slot", "use", "b", "--yes", "--accept", "slot-empty")
			// The phone tries, runs out of tries and falls back.
			defer l.hands("dunlin", "allow")()
			l.want(0, []string{"warn  slot-empty: slot b was to start, and the phone fell back to slot a",
				"Wickerlight Stock 9.1"}, "go", "system", "--yes", "--wait", "20s")
		},
		"recovery-replaced": func(l *lab) {
			l.standin("dunlin")
			intoRecovery(l)
			l.want(0, nil, "wipe", "userdata", "--yes")
			l.want(3, []string{"warn  recovery-replaced"}, "sideload", files.PackageWithRecovery)
			l.want(0, []string{"installed", "can't be seen from here"}, "sideload", files.PackageWithRecovery,
				"--yes")
			stored := must(os.ReadFile(filepath.Join(l.dir, "dunlin", "partitions", "recovery_b.img")))
			if !strings.Contains(string(l.want(0, nil, "ident", l.file("b.img", stored))),
				"Saltmarsh Recovery 4.2") {
				l.Error("the recovery on slot b was not replaced")
			}
		},
		"damaged-file": func(l *lab) {
			l.standin("dunlin")
			img, pkg := must(os.ReadFile(files.Recovery)), must(os.ReadFile(files.Package))
			l.want(3, []string{"stop  damaged-file"}, "recovery", "install",
				l.file("half.img", img[:len(img)/2]), "--yes", "--accept", "damaged-file")
			intoRecovery(l)
			l.want(3, []string{"stop  damaged-file"}, "sideload", l.file("half.zip", pkg[:len(pkg)/2]),
				"--yes", "--accept", "damaged-file")
		},
		"not-authorised": func(l *lab) {
			l.standin("dunlin", "--mode", "system")
			l.want(0, []string{"not authorised"}, "bench")
			stop := l.hands("dunlin", "deny")
			l.want(3, []string{"hand  ", "not-authorised"}, "go", "bootloader")
			stop()
			defer l.hands("dunlin", "allow")()
			l.want(0, []string{"the phone is in bootloader"}, "go", "bootloader")
		},
		"not-authorised, and debugging switched off and on as is said there": func(l *lab) {
			l.standin("dunlin")
			keys := map[string][]string{"Wake the phone": {"debugging off", "debugging on", "allow"}}
			code, out := l.owner("dunlin", "", keys, "go", "system")
			l.check(0, []string{"the phone is asked again", "done  Wickerlight Stock 9.1"}, code, out,
				[]string{"go", "system"})
			// it was read there, and no job installed it
			if out := l.want(0, []string{"no job of Jar Lid installed"}, "arrive"); strings.Contains(out,
				"what was installed") {
				l.Errorf("nothing was installed:\n%s", out)
			}
		},
		"several-phones": func(l *lab) {
			l.standin("dunlin")
			l.standin(l.model("other", "serial: WL-DU-0007", "serial: WL-DU-0008"), "--as", "second")
			l.want(3, []string{"several-phones", "dunlin, second"}, "slot")
			l.want(0, []string{"WL-DU-0008"}, "slot", "--on", "WL-DU-0008")
		},
		"not-a-package": func(l *lab) {
			l.standin("dunlin")
			intoRecovery(l)
			l.want(3, []string{"stop  not-a-package"}, "sideload", files.Recovery, "--yes")
		},
	})
}

// TestRecoveriesThatSayLittle: a closing word alone never makes a package
// installed, and its lack never makes it failed.
func TestRecoveriesThatSayLittle(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, traits, pkg, outcome string
		exit                       int
	}{
		{"says done whatever happens", "shell: true\nclosing: always-done\n", "twin", "failed", 5},
		{"drops the link", "shell: true\nclosing: mute\n", "right", "installed", 0},
		{"drops the link and shows nothing", "shell: false\nclosing: mute\n", "right", "unknown", 1},
	} {
		t.Run(c.name, func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				l.standin("dunlin")
				kind := scenario.Tideline
				kind.Traits = c.traits
				if strings.Contains(c.traits, "shell: false") {
					kind.Props = strings.Replace(kind.Props, "ro.debuggable=1", "ro.debuggable=0", 1)
				}
				l.want(0, nil, "recovery", "install", l.file("r.img", must(scenario.Recovery(kind, dunlin))),
					"--yes")
				l.want(0, nil, "standin", "press", "dunlin", "recovery")
				pressed := l.hands("dunlin", "erase", "all data", "packages", "from the computer")
				l.until("bench shows sideload", func() bool {
					_, out := l.run("bench")
					return strings.Contains(out, "sideload")
				})
				pressed()
				pkg := files.Package
				if c.pkg == "twin" {
					pkg = l.file("twin.zip",
						must(scenario.Package(scenario.Saltmarsh,
							scenario.Phone{Device: "godwit", ABI: "arm64-v8a"}, nil)))
				}
				var r struct{ Packages []struct{ Outcome string } }
				l.result(c.exit, &r, "sideload", pkg, "--yes", "--accept", "wrong-model", "--then", "stay")
				if r.Packages[0].Outcome != c.outcome {
					t.Errorf("the outcome is %q, want %q", r.Packages[0].Outcome, c.outcome)
				}
				if c.outcome == "unknown" { // and the way to find out works
					l.press("dunlin", "volume-down+power")
					l.untilMode("dunlin", "bootloader")
					l.want(0, []string{"slot b is next"}, "slot", "--json")
				}
			})
		})
	}
}
