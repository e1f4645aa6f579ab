package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jarlid/internal/standin/scenario"
)

// after has something done before a way.
func (w way) after(first func()) way {
	w.first = first
	return w
}

func w(code int, says string, words ...string) way {
	return way{words: words, code: code, says: says}
}

// mistake is a row of the catalogue.
type mistake struct {
	n    int
	what string
	// ways prepares a phone and gives the ways; they are taken in their order.
	ways func(l *lab) []way
}

// mistakes is the catalogue of the forty mistakes that are made at the bench.
var mistakes = []mistake{
	{1, "the bootloader is still locked", func(l *lab) []way {
		l.standin("dunlin", "--locked")
		kit := kitOf(l.T, "dunlin", 2)
		const s = "stop  locked-bootloader"
		return []way{w(3, s, "flash", kit.more.Boot), w(3, s, "flash", kit.more.Set),
			w(3, s, "recovery", "install", kit.recovery), w(3, s, "recovery", "try", kit.recovery),
			w(3, s, "wipe", "system@a"), w(3, s, "wipe", "userdata"), w(3, s, "slot", "use", "b"),
			l.bySheet(3, s, "run", "  - flash: x\n", kit.more.Boot)}
	}},
	{2, "a file for another model", func(l *lab) []way {
		l.readyForPackages(files.Recovery)
		godwit := scenario.Phone{Device: "godwit", Model: "Wickerlight Godwit", ABI: "arm64-v8a"}
		img := l.file("godwit.img", must(scenario.Recovery(scenario.Tideline, godwit)))
		zip := l.file("godwit.zip", must(scenario.Package(scenario.Saltmarsh, godwit, nil)))
		l.want(0, nil, "backup", "take", "boot@a", "-o", l.dir+"/kept")
		list := filepath.Join(l.dir, "kept", "backup.yaml")
		if _, err := os.Stat(list); err != nil {
			list = must(filepath.Glob(filepath.Join(l.dir, "kept", "*.y*ml")))[0]
		}
		text := strings.Replace(string(must(os.ReadFile(list))), "model: dunlin", "model: godwit", 1)
		if err := os.WriteFile(list, []byte(text), 0o644); err != nil {
			l.Fatalf("os.WriteFile(list, []byte(text), 0o644): %v", err)
		}
		const s = "stop  wrong-model"
		return []way{w(3, s, "recovery", "install", img), w(3, s, "recovery", "try", img),
			w(3, s, "flash", img), w(3, s, "flash", kitOf(l.T, "godwit", 2).more.Set),
			w(3, s, "sideload", zip),
			w(3, s, "put", zip, "--to", "storage"), w(3, s, "backup", "restore", "boot@a", "-o",
				l.dir+"/kept"), w(3, s, "fit", filepath.Join(gsiFolder(), generics["arm64"]), "--vendor",
				kitOf(l.T, "avocet", 2).more.Set), l.bySheet(6, s, "check", "  - recovery install: x\n", img)}
	}},
	{3, "a file for a twin of this model", func(l *lab) []way {
		kit := kitOf(l.T, "godwit", 2)
		l.standin("godwit")
		l.inRecovery("godwit", kit.recovery)
		twin := scenario.PhoneOf("godwit")
		twin.Device = "godwit-pro"
		img := l.file("pro.img", must(scenario.Recovery(scenario.Tideline, twin)))
		zip := l.file("pro.zip", must(scenario.Package(scenario.Saltmarsh, twin, nil)))
		const s = "stop  wrong-variant"
		return []way{w(3, s, "recovery", "install", img, "--into", "boot"), w(3, s, "recovery", "try", img),
			w(3, s, "flash", img), w(3, s, "sideload", zip), w(3, s, "put", zip, "--to", "sd")}
	}},
	{4, "an add-on for another processor", func(l *lab) []way {
		kit := kitOf(l.T, "sanderling", 1)
		l.standin("sanderling")
		l.inRecovery("sanderling", kit.recovery)
		a := scenario.Shoreline
		a.ABI = "x86"
		zip := l.file("x86.zip", must(a.Package()))
		const s = "stop  wrong-arch"
		return []way{w(3, s, "sideload", zip), w(3, s, "put", zip, "--to", "storage"),
			w(0, "extras: x86.zip holds programs for x86", "fit",
				filepath.Join(gsiFolder(), generics["arm64"]), "--with", zip)}
	}},
	{5, "a system of another root style", func(l *lab) []way {
		kit := kitOf(l.T, "dunlin", 2)
		l.standin("dunlin")
		l.inRecovery("dunlin", kit.recovery)
		fixed := filepath.Join(gsiFolder(), generics["fixed"])
		return []way{w(6, "start-style", "fit", fixed), w(3, "stop  will-not-run", "flash", fixed),
			w(3, "start-style", "flash", fixed, "--into", "system")}
	}},
	{6, "a generic system on a phone without Treble", func(l *lab) []way {
		l.standin("turnstone")
		gsi := filepath.Join(gsiFolder(), generics["arm"])
		return []way{w(6, "treble", "fit", gsi),
			w(3, "stop  will-not-run: it will not run on this phone; treble", "flash", gsi),
			w(3, "stop  will-not-run", "flash", gsi, "--into", "system")}
	}},
	{7, "a recovery on one slot only", func(l *lab) []way {
		l.standin("dunlin")
		const s = "warn  recovery-on-one-slot"
		onOne := func() {
			l.want(0, nil, "recovery", "install", files.Recovery, "--into", "@a", "--yes")
			l.want(0, nil, "go", "recovery", "--yes")
		}
		return []way{w(3, s, "recovery", "install", files.Recovery, "--into", "@a"),
			w(3, s, "flash", files.Recovery, "--into", "recovery@a"),
			w(3, s, "flash", files.Recovery, "--into", "@b"),
			w(3, s, "sideload", files.Package, "--accept", "encrypted-data").after(onOne),
			w(3, s, "recovery", "install", files.Recovery, "--into", "recovery@a")}
	}},
	{8, "a partition the phone does not have", func(l *lab) []way {
		l.standin("dunlin")
		l.standin("turnstone")
		const s = "stop  no-such-partition"
		pkg := func(name, partition string) string {
			return l.file(name, zipOf("META-INF/com/google/android/updater-script",
				`package_extract_file("boot.img", "/dev/block/by-name/`+partition+`");`,
				"META-INF/com/android/metadata", "pre-device="+strings.TrimSuffix(name, ".zip")+"\n",
				"system.transfer.list", "1\n1\nnew 2,0,1\n", "system.new.dat", string(make([]byte, 4096))))
		}
		one, two := pkg("dunlin.zip", "boot"), pkg("turnstone.zip", "boot_a")
		const made = "which this phone does not have (it has boot"
		return []way{w(3, made+"_a): it was made for phones with one slot", "sideload", one, "--on",
			"dunlin"), w(3, made+"): it was made for phones with two slots", "sideload", two, "--on",
			"turnstone"),
			w(3, s+": it is an A/B package", "sideload", files.Package, "--on", "turnstone"),
			w(3, made+"_a)", "put", one, "--to", "storage", "--on", "dunlin"),
			w(3, s, "flash", files.Recovery, "--into", "rescue", "--on", "dunlin"),
			w(3, s, "recovery", "install", files.Recovery, "--into", "rescue", "--on", "dunlin"),
			w(3, s, "wipe", "part:rescue", "--on", "dunlin"),
			w(3, s, "wipe", "part:rescue@a", "--on", "dunlin")}
	}},
	{9, "a download that broke off, a page saved as a file", damagedWays},
	{10, "an image that is still packed", func(l *lab) []way {
		l.standin("dunlin")
		kit := kitOf(l.T, "dunlin", 2)
		packed := l.zipped(files.Recovery)
		return []way{w(0, "would write", "flash", packed, "--dry-run"),
			w(0, "would write", "recovery", "install", packed, "--dry-run"),
			w(3, "stop  still-wrapped", "flash", kit.more.Addons[0], "--into", "system"),
			w(3, "stop  not-a-recovery", "recovery", "install", kit.more.Addons[0])}
	}},
	{11, "a file where the partition belongs, or the reverse", func(l *lab) []way {
		l.standin("dunlin")
		const s = "stop  image-as-partition"
		return []way{w(3, s, "flash", "recovery", files.Recovery), w(3, s, "flash", files.Recovery, "--into",
			files.Recovery), w(3, s, "flash", files.Recovery, "boot")}
	}},
	{12, "the package lies on the storage that is erased", func(l *lab) []way {
		l.readyForPackages(files.Recovery)
		l.want(0, nil, "put", files.Package, "--to", "storage", "--yes")
		const s = "stop  storage-holds-package"
		image := l.file("userdata.img", make([]byte, 1<<20))
		wiping := l.file("wiping.zip", wipingPackage())
		return []way{w(0, "it erases all data when it is installed, as its script says", "ident", wiping),
			w(3, s, "sideload", wiping), w(3, s, "put", wiping, "--to", "sd", "--install"),
			w(3, s, "flash", image, "--into", "userdata"), w(3, s, "flash", image),
			w(3, s, "flash", image, "--into", "METADATA"), w(3, s, "wipe", "userdata"),
			w(3, s, "wipe", "storage"), w(3, s, "wipe", "part:userdata"), w(3, s, "relock"),
			l.bySheet(6, s, "check", "  - wipe: [userdata]\n", "")}
	}},
	{13, "another system over encrypted data", func(l *lab) []way {
		kit := kitOf(l.T, "dunlin", 2)
		l.standin("dunlin")
		l.inRecovery("dunlin", kit.recovery)
		l.want(0, nil, "flash", kit.more.GSI, "--into", "system@b", "--yes", "--accept",
			"verity-would-reject", "--accept", "will-not-run")
		l.want(0, nil, "go", "recovery", "--yes")
		const s = "stop  encrypted-data"
		return []way{w(3, s, "sideload", files.Package), w(3, s, "flash", kit.more.GSI, "--into", "system@a"),
			w(3, s, "flash", kit.more.GSI), w(3, "warn  encrypted-data", "slot", "use", "b", "--accept",
				"slot-empty"), l.bySheet(6, s, "check", "  - sideload: x\n", files.Package)}
	}},
	{14, "a start into an empty slot", func(l *lab) []way {
		l.standin("dunlin")
		l.want(0, nil, "wipe", "system@a", "--yes")
		return []way{w(3, "stop  slot-empty", "slot", "use", "b"),
			w(3, "stop  slot-empty: system_a was erased", "go", "system"),
			w(3, "stop  relock-would-brick", "relock")}
	}},
	{15, "an add-on before the phone landed on the new slot", func(l *lab) []way {
		l.readyForPackages(files.Recovery)
		l.want(0, nil, "sideload", files.Package, "--yes", "--then", "stay")
		pressed := l.hands("dunlin", "packages", "from the computer")
		l.until("bench shows sideload", func() bool {
			_, out := l.run("bench")
			return strings.Contains(out, "sideload")
		})
		pressed()
		f := l.file("countsheet.zip", must(scenario.Countsheet.Package()))
		return []way{w(3, "stop  slot-not-started", "sideload", f), w(3, "stop  slot-not-started", "sideload",
			f, "--then", "stay")}
	}},
	{16, "a question about a signature taken for a failure", func(l *lab) []way {
		l.standin("dunlin")
		l.want(0, nil, "recovery", "install",
			l.file("plain.img", must(scenario.Recovery(scenario.SaltmarshRecovery, dunlin))), "--yes")
		f := l.file("apps.zip", must(scenario.Addon{Name: "ShorelineApps", Signer: "tideline"}.Package()))
		return []way{w(3, "warn  signature-unknown", "sideload", f),
			w(0, "answer yes on the phone", "explain", "the signature is unknown, install anyway?"),
			w(0, "yes there", "explain", "signature-unknown")}
	}},
	{17, "a percentage that stands half-way", func(l *lab) []way {
		l.readyForPackages(files.Recovery)
		l.want(0, nil, "wipe", "userdata", "--yes")
		return []way{w(0, "no percentage of it would be true", "sideload", files.Package, "--yes"),
			w(0, "harmless", "explain", "the transfer stopped at 47 %")}
	}},
	{18, "a stock system that puts its recovery back", func(l *lab) []way {
		kit := kitOf(l.T, "turnstone", 1)
		l.standin("turnstone")
		l.want(0, nil, "recovery", "install", kit.recovery, "--yes")
		l.standin("knot")
		knot := kitOf(l.T, "knot", 1)
		// Also when the manufacturer's system was written in the same evening: it puts its recovery back as
		// well.
		l.want(0, []string{"written"}, "flash", knot.more.Set, "--yes", "--on", "knot", "--accept",
			"risky-partition")
		l.want(0, []string{"next  jarlid go recovery"}, "recovery", "install", knot.recovery, "--yes",
			"--on", "knot")
		return []way{w(3, "stop  restart-undoes-recovery", "go", "system", "--on", "knot"),
			w(0, "stock recovery again", "card", "--on", "knot"),
			w(0, "note  recovery-replaced: the system that starts is the one that was here", "go", "system",
				"--dry-run", "--on", "turnstone"), w(0, "the maker's recovery again", "recovery",
				"hold", "--help")}
	}},
	{19, "the recovery is gone after a ROM or a boot image", func(l *lab) []way {
		kit := kitOf(l.T, "avocet", 2)
		l.standin("avocet")
		l.inRecovery("avocet", kit.recovery)
		l.want(0, nil, "wipe", "userdata", "--yes")
		stock := l.file("vendor_boot.img", l.setImage(kit, "vendor_boot"))
		const s = "warn  recovery-replaced"
		l.standin("turnstone")
		script := []string{"META-INF/com/google/android/updater-script",
			`package_extract_file("recovery.img", "/dev/block/by-name/recovery");`,
			"META-INF/com/android/metadata", "pre-device=turnstone\n"}
		addon, rom := l.file("addon.zip", zipOf(script...)),
			l.file("rom.zip", zipOf(append(script, "system.transfer.list", "1\n1\nnew 2,0,1\n",
				"system.new.dat", string(make([]byte, 4096)))...))
		return []way{w(3, s, "sideload", kit.more.Package, "--on", "avocet"),
			w(3, s, "flash", stock, "--on", "avocet"), w(3, s, "flash", kit.more.Set, "--accept",
				"risky-partition", "--on", "avocet"), w(3, s, "flash", stock, "--into", "vendor_boot@a",
				"--on", "avocet"),
			w(3, s, "sideload", addon, "--on", "turnstone"), w(3, s, "sideload", rom, "--on", "turnstone")}
	}},
	{20, "numbered packages out of their order", func(l *lab) []way {
		l.readyForPackages(files.Recovery)
		one, two := l.file("patch-1.zip", must(scenario.Countsheet.Package())),
			l.file("patch-2.zip", must(scenario.Countsheet.Package()))
		second := l.file("02_fix.zip", must(scenario.Countsheet.Package()))
		return []way{w(3, "stop  order-broken", "sideload", two, one), w(3, "warn  order-broken", "sideload",
			second), w(3, "order-broken", "put", two, one, "--to", "storage", "--install")}
	}},
	{21, "a battery that is low", func(l *lab) []way {
		l.standin("dunlin", "--battery", "9")
		kit := kitOf(l.T, "dunlin", 2)
		const s = "stop  battery-low"
		first := []way{w(3, s, "recovery", "install", files.Recovery), w(3, s, "flash", kit.more.Set),
			w(3, s, "wipe", "userdata"), w(3, s, "vbmeta", "loosen", "hashtree", "--from",
				l.file("vbmeta.img", l.setImage(kit, "vbmeta"))), w(3, s, "relock"),
			w(3, s, "sideload", files.Package)}
		return first
	}},
	{22, "a base that is too old", func(l *lab) []way {
		kit := kitOf(l.T, "godwit", 2)
		l.standin("godwit")
		old := l.file("radio.img", scenario.Radio("godwit", "1.8"))
		l.want(0, nil, "flash", old, kit.more.Overlay, "--into", "@both", "--yes", "--accept",
			"risky-partition")
		l.want(0, nil, "recovery", "install", kit.recovery, "--yes")
		l.want(0, nil, "go", "recovery", "--yes")
		return []way{w(3, "stop  base-version", "sideload", kit.more.Package),
			w(3, "stop  base-version", "put", kit.more.Package, "--to", "sd", "--install")}
	}},
	{23, "the phone does not know this computer", func(l *lab) []way {
		l.standin("dunlin", "--mode", "system")
		const s = "not-authorised"
		return []way{w(0, "not authorised", "bench"), w(3, s, "card"), w(3, s, "go", "bootloader"),
			w(3, s, "put", files.Recovery, "--to", "storage"), w(3, s, "app", files.Recovery),
			w(3, s, "backup", "take", "-o", l.dir+"/kept"), w(3, s, "slot"), w(3, s, "flash", files.Recovery)}
	}},
	{24, "no permission on the cable", func(l *lab) []way {
		return onCable(l, func() { l.bus.Denied = []string{"1-1"} }, "no-permission")
	}},
	{25, "another program holds the phone", func(l *lab) []way {
		return onCable(l, func() {
			l.want(0, nil, "standin", "fault", "dunlin", "held")
			time.Sleep(2 * time.Second)
		}, "held-by-another")
	}},
	{26, "a session that is closed in the middle", func(l *lab) []way {
		l.readyForPackages(files.Recovery)
		l.fault("dunlin", "drop", sizeOf(files.Package)*3/10)
		return []way{w(5, "the connection", "sideload", files.Package, "--yes"), w(0, "was interrupted"),
			w(0, "Nothing has to be formatted for it", "explain", "the transfer broke off, connection lost")}
	}},
	{27, "the image a recovery needs was not written before it", func(l *lab) []way {
		kit := kitOf(l.T, "godwit", 2)
		l.standin("godwit")
		const s = "warn  pre-image-missing"
		return []way{w(3, s, "recovery", "install", kit.recovery), w(3, s, "recovery", "try", kit.recovery),
			w(3, s, "flash", kit.recovery)}
	}},
	{28, "accounts left on the phone", func(l *lab) []way {
		l.standin("dunlin", "--mode", "system")
		l.press("dunlin", "sign in")
		l.allowing("dunlin", func() { l.want(0, nil, "go", "bootloader", "--yes") })
		const s = "stop  account-lock"
		return []way{w(3, s, "wipe", "userdata"), w(3, s, "wipe", "part:userdata"), w(3, s, "relock")}
	}},
	{29, "no backup before the data goes", noBackupWays},
	{30, "hash trees enforced over a changed system", func(l *lab) []way {
		kit := kitOf(l.T, "sanderling", 1)
		l.standin("sanderling")
		l.inRecovery("sanderling", kit.recovery)
		l.want(0, nil, "backup", "take", "system", "-o", l.dir+"/kept")
		set := l.file("system.img", l.setImage(kit, "system"))
		f := l.file("countsheet.zip", must(scenario.Addon{Name: "Countsheet", Signer: "tideline"}.Package()))
		const s = "stop  verity-would-reject"
		sheet := l.bySheet(6, s, "check", "  - flash: {files: x, into: system}\n", kit.more.GSI)
		l.want(6, []string{s}, sheet.words...)
		return []way{w(3, s, "flash", kit.more.GSI), w(3, s, "flash", kit.more.GSI, "--into", "system"),
			w(3, s, "shelve", "/vendor/overlay/WickerlightFrame"), w(3, s, "sideload", f),
			w(3, s, "put", f, "--to", "storage", "--install"), w(3, s, "flash", set),
			w(3, s, "shelve", "/system/etc/about.txt"),
			w(3, s, "backup", "restore", "system", "-o", l.dir+"/kept"),
			l.bySheet(6, s, "check", "  - sideload: x\n", f)}
	}},
	{31, "a system too large", func(l *lab) []way {
		l.standin("turnstone")
		gsi := filepath.Join(gsiFolder(), generics["arm64"])
		return []way{w(3, "stop  image-too-big", "flash", gsi), w(6, "room", "fit", gsi)}
	}},
	{32, "an edit where nothing is mounted, or of what is not there", func(l *lab) []way {
		l.standin("dunlin")
		kit := kitOf(l.T, "dunlin", 2)
		list := []way{w(3, "not-in-this-mode", "shelve", "/vendor/overlay"),
			w(3, "not-in-this-mode", "recovery", "hold")}
		for _, x := range list {
			l.want(x.code, []string{x.says}, x.words...)
		}
		l.inRecovery("dunlin", kit.recovery)
		return []way{w(3, "stop  no-such-file", "shelve", "/vendor/overlay/Nothing"),
			w(0, "nothing is moved aside", "unshelve"), w(0, "there is none here", "recovery", "hold")}
	}},
	{33, "the map of partitions changed by the way", func(l *lab) []way {
		l.standin("knot")
		recovery := must(os.ReadFile(kitOf(l.T, "knot", 1).recovery))
		text := "0 loader 1048576 loader -\n1 boot 12582912 raw rw\n2 recovery 12582912 raw rw\n"
		table := l.file("knot.table", []byte(text))
		set := l.file("set.tar", tarOf("recovery.img", string(recovery), "knot.table", text))
		const s = "stop  table-would-change"
		return []way{w(3, s, "flash", table, "--yes"), w(3, s, "flash", table, "--into", "boot", "--yes"),
			w(3, s, "flash", table, "--accept", "table-would-change", "--yes"),
			l.bySheet(3, s, "run", "  - flash: x\n", table), w(3, "not-a-recovery", "recovery", "install",
				table, "--yes"), w(0, "knot.table in the set is no image and is left alone", "flash", set,
				"--yes"), w(0, "boot        -       12.0 MiB", "card")}
	}},
	{34, "restarted into the system before the new recovery was entered", func(l *lab) []way {
		l.standin("knot")
		kit := kitOf(l.T, "knot", 1)
		l.want(0, []string{"next  jarlid go recovery"}, "flash", kit.recovery, "--yes")
		const s = "stop  restart-undoes-recovery"
		return []way{w(3, s, "go", "system"), w(3, s, "go", "system", "--yes"),
			l.bySheet(3, s, "run", "  - go: system\n", ""), w(3, "hands-needed", "sideload", kit.more.Package,
				"--yes", "--no-hands"), w(0, "next  jarlid go recovery")}
	}},
	{35, "a bootloader too old for the command", func(l *lab) []way {
		l.standin("turnstone")
		l.standin("avocet")
		const s = "command-unknown-to-bootloader"
		old := []way{w(3, s, "go", "fastbootd"), w(3, "hands-needed", "go", "recovery"),
			w(3, "no-such-slot", "slot", "use", "a")}
		for i := range old {
			old[i].words = append(old[i].words, "--on", "turnstone")
		}
		return append(old, w(3, "stop  "+s, "recovery", "try", kitOf(l.T, "avocet", 2).recovery,
			"--on", "avocet"))
	}},
	{36, "a recovery that was only tried is expected to stay", func(l *lab) []way {
		l.standin("dunlin")
		l.want(0, []string{"note  temporary-recovery"}, "recovery", "try", files.Recovery, "--yes")
		const s = "warn  temporary-recovery"
		return []way{w(3, s, "go", "recovery"), w(3, s, "go", "system", "--accept", "encrypted-data"),
			w(0, "written nowhere"), w(0, "next  jarlid recovery install FILE")}
	}},
	{37, "a stock update refused by a recovery that is not stock", func(l *lab) []way {
		return []way{w(0, "stock", "explain", "stock-update-needs-stock-recovery"),
			w(0, "older", "explain", "package is older than the current build, downgrade")}
	}},
	{38, "the keys of another model", func(l *lab) []way {
		l.standin("turnstone")
		l.standin("knot")
		return []way{w(3, "volume up and the side key", "go", "recovery", "--on", "knot", "--no-hands"),
			w(3, "let go of power when the picture appears", "go", "recovery", "--on", "turnstone"),
			w(3, "hands-needed", "sideload", kitOf(l.T, "turnstone", 1).more.Package, "--yes", "--on",
				"turnstone")}
	}},
	{39, "the data formatted at the wrong moment", func(l *lab) []way {
		kit := kitOf(l.T, "avocet", 2)
		l.standin("avocet")
		l.inRecovery("avocet", kit.recovery)
		l.want(0, nil, "wipe", "userdata", "--yes")
		l.want(0, nil, "sideload", kit.more.Package, "--yes", "--then", "stay")
		const s = "stop  format-after-install"
		return []way{w(3, s, "wipe", "userdata"), w(3, s, "wipe", "part:metadata"),
			w(3, s, "wipe", "part:userdata"), w(3, s, "relock")}
	}},
	{40, "an update that is not merged", func(l *lab) []way {
		kit := kitOf(l.T, "avocet", 2)
		l.standin("avocet")
		l.inRecovery("avocet", kit.recovery)
		l.want(0, nil, "wipe", "userdata", "--yes")
		l.want(0, nil, "sideload", kit.more.Package, "--yes", "--then", "stay")
		l.want(0, nil, "go", "bootloader", "--yes")
		const s = "stop  merge-pending"
		return []way{w(3, s, "slot", "use", "a"), w(3, s, "wipe", "system@a"),
			w(3, s, "flash", kit.more.GSI, "--into", "system@a"), w(3, s, "wipe", "part:super")}
	}},
	{41, "a damaged package, found only after the data is gone", func(l *lab) []way {
		l.readyForPackages(files.Recovery)
		bad := l.file("x.img", garbled(must(os.ReadFile(files.Package)),
			int(must(os.Stat(files.Package)).Size())/2))
		const s = "stop  damaged-file"
		evening := "- wipe: userdata\n- sideload: x\n"
		return []way{w(3, s, "sideload", bad), w(3, s, "put", bad, "--to", "storage"), w(3, s, "flash", bad),
			l.bySheet(6, s, "check", evening, bad),
			l.bySheet(3, s, "run", evening, bad)}
	}},
	{42, "an old backup taken for a new one", func(l *lab) []way {
		l.readyForPackages(files.Recovery)
		kept := l.dir + "/kept"
		l.want(0, nil, "backup", "take", "boot@a", "-o", kept)
		task := "- backup take: {items: [boot@a], output: kept}\n"
		return []way{w(3, "stop  backup-exists", "backup", "take", "boot@a", "-o", kept),
			w(3, "stop  backup-exists", "backup", "take", "-o", kept),
			l.bySheet(0, "kept-", "run", task, ""), l.bySheet(0, "kept-", "run", task, "")}
	}},
	{43, "two phones, one folder", func(l *lab) []way {
		l.many(2)
		task := "- backup take: {items: [storage], output: kept}\n"
		shared := l.bySheet(6, "output-shared", "check", task, "")
		shared.words = append(shared.words, "--on", "d1,d2")
		run := l.bySheet(3, "output-shared", "run", task, "")
		run.words = append(run.words, "--on", "d1,d2")
		return []way{shared, run}
	}},
	{44, "storage or data that is not mounted", func(l *lab) []way {
		k := l.inQuirky("turnstone", "unmounted: true, mount-fails: true")
		kept := l.dir + "/kept"
		const s = "stop  not-mounted"
		return []way{w(3, s, "wipe", "apps", "--yes"), w(3, s, "wipe", "storage", "--yes"),
			w(3, s, "put", k.recovery, "--to", "storage", "--yes"),
			w(3, s, "put", k.more.Package, "--to", "storage", "--install", "--yes"),
			w(3, s, "backup", "take", "storage", "-o", kept),
			w(0, "; it is left out", "backup", "take", "-o", l.dir+"/kept-usual"),
			w(0, "caches wiped, except the compiled code in the data", "wipe", "caches", "--yes"),
			l.bySheet(3, s, "run", "  - put: {files: x, to: storage}\n", k.recovery)}
	}},
	{45, "a partition whose name is missing, or is no block device", func(l *lab) []way {
		k := l.inQuirky("turnstone", "plain: [recovery], dangling: [system], nameless: [cache]")
		const s = "no-such-partition"
		return []way{w(3, s, "recovery", "install", k.recovery, "--yes"),
			w(3, s, "backup", "take", "recovery", "-o", l.dir+"/kept"), w(3, s, "wipe", "system", "--yes"),
			w(3, "not-mounted", "shelve", "/system/etc/about.txt", "--yes")}
	}},
	{46, "a message in misc sends the phone into its recovery again and again", messageWays},
	{47, "the phone takes the name of the generic system that runs on it", func(l *lab) []way {
		l.standin("dunlin", "--usb")
		known := *l
		l.home, l.keys = l.other("technician").home, &known // where nobody listed the phone
		gsi := l.beside(filepath.Join(gsiFolder(), generics["arm64"]), files.Recovery)
		l.want(0, nil, "recovery", "install", files.Recovery, "--yes")
		l.want(0, nil, "go", "recovery", "--yes")
		l.want(0, nil, "vbmeta", "loosen", "hashtree", "--yes")
		l.did("dunlin", "", nil, "flash", gsi[0], "--into", "system", "--yes", "--accept",
			"verity-would-reject",
			"--accept", "encrypted-data")
		l.did("dunlin", "", nil, "go", "recovery", "--yes")
		l.want(0, nil, "wipe", "userdata", "--yes")
		l.did("dunlin", "", nil, "go", "system", "--yes")
		at := filepath.Join(l.dir, "files", "again.yaml")
		return []way{w(0, "model dunlin", "card"), w(0, "dry run", "recovery", "install", files.Recovery,
			"--dry-run", "--yes"), w(0, "dry run", "flash", files.Recovery, "--into", "recovery", "--dry-run",
			"--yes"),
			w(0, "", "sheet", "draft", gsi[1], "-o", at), w(0, "", "sheet", "check", at, "--yes")}
	}},
	{48, "a piece of a split image is missing", missingPieceWays},
	{49, "advice that leads back to the same state", circleWays},
	{50, "cancelled at a question, and the phone stays locked", func(l *lab) []way {
		l.standin("dunlin")
		l.many(1)
		// Each question is cancelled as it is asked; the phone is free afterwards.
		for _, words := range [][]string{
			{"flash", files.Recovery},
			{"wipe", "userdata"},
			{"recovery", "install", files.Recovery},
		} {
			j := l.begin(true, nothing, nil, append(words, "--on", "dunlin")...)
			l.until(strings.Join(words, " ")+" asks", func() bool {
				return strings.Contains(j.out.String(), "[y/N]")
			})
			j.interrupt <- struct{}{}
			<-j.done
			if j.code != 3 || !strings.Contains(j.out.String(), "cancelled; nothing was changed") {
				l.Errorf("%v ended with %d:\n%s", words, j.code, j.out)
			}
		}
		return []way{w(0, "would write", "flash", files.Recovery, "--dry-run", "--on", "dunlin")}
	}},
}

// onCable plugs a phone in that something keeps this computer from.
func onCable(l *lab, block func(), says string) []way {
	l.standin("dunlin", "--usb")
	block()
	return []way{w(3, says, "slot"), w(3, says, "flash", files.Recovery),
		w(3, says, "recovery", "install", files.Recovery), w(3, says, "go", "recovery"),
		w(3, says, "wipe", "userdata"), w(3, says, "card"), w(3, says, "sideload", files.Package)}
}

// TestMistakes makes each of the forty mistakes by the shortest way and by every other one that
// leads to the same effect. Without -whole a seeded sample of them is taken.
func TestMistakes(t *testing.T) {
	t.Parallel()
	rows := mistakes
	for i, m := range rows[1:] {
		if m.n <= rows[i].n {
			t.Fatalf("row %d comes after row %d", m.n, rows[i].n)
		}
	}
	if len(rows) != 50 {
		t.Fatalf("there are %d mistakes", len(rows))
	}
	pick := make([]int, len(rows))
	for i := range pick {
		pick[i] = i
	}
	if !*whole && !*cabled {
		pick = share(t, pick, 6)
	}
	for _, i := range pick {
		m := rows[i]
		t.Run(fmt.Sprintf("%02d %s", m.n, m.what), func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				for _, x := range m.ways(l) {
					if x.first != nil {
						x.first()
					}
					code, out := l.run(x.words...)
					if code != x.code || !strings.Contains(out, x.says) {
						t.Errorf("jarlid %s ended with %d, want %d and %q:\n%s", strings.Join(x.words, " "),
							code, x.code, x.says, out)
					}
				}
				time.Sleep(time.Second)
			})
		})
	}
}
