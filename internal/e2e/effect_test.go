package e2e

import (
	"archive/zip"
	"bytes"
	"strings"
	"testing"

	"jarlid/internal/standin/scenario"
)

// TestSameChecks: a mistake is stopped by its effect, by whatever way it is made.
func TestSameChecks(t *testing.T) {
	t.Parallel()
	addons := func(l *lab, names ...string) (list []string) {
		for _, n := range names {
			list = append(list, l.file(n+".zip",
				must(scenario.Addon{Name: "Countsheet", Signer: "tideline"}.Package())))
		}
		return list
	}
	some(t, 4, map[string]func(l *lab){
		"another system over encrypted data": func(l *lab) {
			kit := kitOf(l.T, "dunlin", 2)
			l.standin("dunlin", "--mode", "system")
			// the system says that its data is encrypted
			l.allowing("dunlin", func() { l.want(0, nil, "go", "bootloader", "--yes") })
			loose := []string{"--yes", "--accept", "verity-would-reject"}
			l.want(3, []string{"stop  encrypted-data"}, append([]string{"flash", kit.more.GSI}, loose...)...)
			l.want(3, []string{"stop  encrypted-data"},
				append([]string{"flash", kit.more.GSI, "--into", "system"}, loose...)...)
			// The manufacturer's own set over its own data is no other system.
			if out := l.want(0, nil, "flash", kit.more.Set, "--dry-run", "--accept",
				"risky-partition"); strings.Contains(out, "encrypted-data") {
				l.Errorf("the very system that made the data:\n%s", out)
			}
			// On the other slot it harms nothing until that slot is to start.
			out := l.want(0, nil, append([]string{"flash", kit.more.GSI, "--into", "system@b"}, loose...)...)
			if strings.Contains(out, "encrypted-data") {
				l.Errorf("the other slot:\n%s", out)
			}
			l.want(3, []string{"warn  encrypted-data: the system on slot b is another"}, "slot", "use", "b",
				"--accept", "slot-empty")
			l.want(0, []string{"next  jarlid wipe userdata"}, "slot", "use", "b", "--yes", "--accept",
				"slot-empty")
			l.want(3, []string{"stop  encrypted-data", "job"}, "go", "system", "--yes", "--accept",
				"slot-empty")
			l.want(0, []string{"next  jarlid wipe userdata"})
			l.want(0, nil, "wipe", "userdata", "--yes")
			if _, out := l.run("go", "system", "--dry-run", "--accept", "slot-empty"); strings.Contains(out,
				"encrypted-data") {
				l.Errorf("after the wipe:\n%s", out)
			}
		},
		"another system out of a backup": func(l *lab) {
			l.standin("dunlin")
			l.inRecovery("dunlin", files.Recovery)
			l.want(0, nil, "backup", "take", "system@a", "-o", l.dir+"/kept")
			l.want(0, nil, "wipe", "userdata", "--yes")
			l.want(0, nil, "sideload", files.Package, "--yes", "--then", "stay")
			l.firstStart("dunlin", "Saltmarsh OS 4.2")
			l.want(0, nil, "go", "bootloader", "--yes")
			l.want(0, nil, "slot", "use", "a", "--yes", "--accept", "encrypted-data")
			l.want(3, []string{"encrypted-data"}, "backup", "restore", "system@a", "-o", l.dir+"/kept",
				"--yes")
		},
		"the recovery is replaced": func(l *lab) {
			kit := kitOf(l.T, "godwit", 2)
			l.standin("godwit")
			l.inRecovery("godwit", kit.recovery)
			l.want(0, nil, "recovery", "install", kit.recovery, "--yes")
			boot := l.file("boot.img", l.setImage(kit, "boot"))
			out := l.want(3, []string{"warn  recovery-replaced: boot_a holds the recovery that was " +
				"set there"}, "flash", boot)
			if strings.Contains(out, "boot_b") {
				l.Errorf("a plain boot image goes to both slots:\n%s", out)
			}
			l.want(3, []string{"warn  recovery-replaced: boot_a"}, "flash", kit.more.Set)
			out = l.want(0, []string{"boot is left out, as you said"}, "flash", kit.more.Set, "--without",
				"boot", "--dry-run", "--accept", "risky-partition", "--accept", "encrypted-data")
			if strings.Contains(out, "recovery-replaced") {
				l.Errorf("it is left out:\n%s", out)
			}
			l.want(2, []string{`nothing here is called "bot"`}, "flash", kit.more.Set, "--without", "bot")
		},
		"a page in place of the file": func(l *lab) {
			l.standin("dunlin")
			for _, f := range []string{l.file("page.img", []byte("<!DOCTYPE html>\n<html></html>")),
				l.file("page.zip", []byte("<html><body>sign in</body></html>")),
				l.file("recovery.img", []byte("<html></html>"))} {
				for _, words := range [][]string{
					{"flash", f},
					{"flash", f, "--into", "boot"},
					{"recovery", "install", f},
					{"recovery", "try", f},
					{"sideload", f},
					{"put", f, "--to", "sd"},
					{"app", f},
					{"fit", f},
				} {
					out := l.want(3, []string{"web page"}, append(words, "--yes")...)
					if strings.Contains(out, "--into") {
						l.Errorf("%v: %s; unwanted: strings.Contains(out, '--into')", words, out)
					}
				}
			}
		},
		"one image of an archive": func(l *lab) {
			kit := kitOf(l.T, "dunlin", 2)
			l.standin("dunlin")
			var packed bytes.Buffer
			z := zip.NewWriter(&packed)
			must(must(z.Create("boot.img")).Write(l.setImage(kit, "boot")))
			must(must(z.Create("readme.txt")).Write([]byte("a boot image\n")))
			z.Close()
			f := l.file("boot.zip", packed.Bytes())
			l.want(0, []string{"boot_a written"}, "flash", f, "--into", "boot@a", "--yes")
		},
		"an add-on without a system": func(l *lab) {
			l.readyForPackages(files.Recovery)
			l.want(0, nil, "wipe", "system@a", "--yes")
			f := addons(l, "countsheet")
			l.want(3, []string{"stop  nothing-to-add-to: system_a was erased"}, "sideload", f[0], "--yes")
			l.want(3, []string{"stop  nothing-to-add-to"}, "put", f[0], "--to", "sd", "--install", "--yes")
		},
		"an add-on and the release that is there": func(l *lab) {
			l.readyForPackages(files.Recovery)
			// Nobody told the release in this job: the recovery reads it out of the system.
			old := l.file("old.zip",
				must(scenario.Addon{Name: "Countsheet", Release: "14", Signer: "tideline"}.Package()))
			l.want(3, []string{"stop  wrong-system-version: old.zip wants ro.build.version.release 14, the " +
				"system is 10"}, "sideload", old, "--yes")
			l.want(0, nil, "go", "bootloader", "--yes")
			l.want(0, nil, "flash", kitOf(l.T, "dunlin", 2).more.GSI, "--yes", "--accept",
				"verity-would-reject", "--accept", "will-not-run")
			l.want(0, nil, "go", "recovery", "--yes")
			if out := l.want(0, nil, "sideload", old, "--dry-run", "--accept",
				"verity-would-reject"); strings.Contains(out, "wrong-system-version") {
				l.Errorf("the image that was just written is of release 14:\n%s", out)
			}
			a := scenario.Shoreline
			a.ABI = "x86"
			l.want(3, []string{"stop  wrong-arch"}, "put", l.file("x86.zip", must(a.Package())), "--to",
				"sd", "--yes")
		},
		"three add-ons are one question": func(l *lab) {
			k := scenario.SaltmarshRecovery
			k.Traits = "shell: true\nclosing: honest\nsignature: ask\n"
			k.Props = scenario.Tideline.Props
			l.readyForPackages(l.file("keyed.img", must(scenario.Recovery(k, dunlin))))
			l.want(0, nil, "go", "bootloader", "--yes")
			defer l.hands("dunlin", "yes", "yes", "yes")()
			code, out := l.owner("dunlin", "y\ny\ny\ny\n", nil,
				append([]string{"sideload"}, addons(l, "fix", "apps", "more")...)...)
			if code != 0 || strings.Count(out, "asks  ") > 1 {
				l.Errorf("ended with %d, %d questions:\n%s", code, strings.Count(out, "asks  "), out)
			}
		},
		"a signature the recovery asks about": func(l *lab) {
			l.standin("dunlin")
			l.want(0, nil, "recovery", "install",
				l.file("plain.img", must(scenario.Recovery(scenario.SaltmarshRecovery, dunlin))), "--yes")
			l.want(3, []string{"warn  signature-unknown: countsheet.zip is signed by CN=tideline releases"},
				"sideload", addons(l, "countsheet")[0])
		},
		"the second of a series": func(l *lab) {
			l.readyForPackages(files.Recovery)
			l.want(0, nil, "vbmeta", "loosen", "hashtree", "--yes")
			f := addons(l, "01-base", "02_apps", "part1", "part2", "shoreline-14", "2.1-countsheet")
			for i, warned := range []bool{false, true, false, true, false, false} {
				if out := l.want(0, nil, "sideload", f[i], "--dry-run"); strings.Contains(out,
					"order-broken") != warned {
					l.Errorf("%s:; unwanted: strings.Contains(out, 'order-broken') != warned\n%s", f[i], out)
				}
			}
			l.want(0, nil, "sideload", f[0], "--yes")
			if out := l.want(0, nil, "sideload", f[1], "--dry-run"); strings.Contains(out, "order-broken") {
				l.Errorf("behind the first:\n%s", out)
			}
		},
		"images that are not there": func(l *lab) {
			kit := kitOf(l.T, "dunlin", 2)
			l.want(0, nil, "lift", kit.more.Set, "-o", l.dir+"/set")
			top := l.dir + "/set/vbmeta.img"
			l.want(0, []string{"an unlocked phone starts it"}, "vbmeta", "check", top, "--images",
				l.dir+"/set")
			only := l.file("set/boot.img", l.setImage(kit, "boot"))
			out := l.want(1, []string{"nobody can tell", "missing"}, "vbmeta", "check", top, "--images", only)
			if strings.Contains(out, "does not start it") {
				l.Errorf("missing is not wrong:\n%s", out)
			}
		},
	})
}
