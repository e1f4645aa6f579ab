package plan

import (
	"slices"
	"strings"
	"testing"

	"jarlid/internal/core/backup"
	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/apk"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

// withFacts gives a copy of a card withFacts facts changed by the pairs behind; "" makes one unknown.
func withFacts(c *card.Card, facts ...any) *card.Card {
	c = c.Clone()
	for i := 0; i < len(facts); i += 2 {
		if facts[i+1] == "" {
			c.Forget(facts[i].(card.Which), "")
		} else {
			c.Learn(facts[i].(card.Which), facts[i+1].(string), card.Read)
		}
	}
	c.Conclude()
	return c
}

// TestStepRules: what each step finds on a phone, the same rule on a fact that is good, bad
// and not known.
func TestStepRules(t *testing.T) {
	inRecovery := phone(card.FactMode, "recovery", card.FactRoot, "yes", card.FactStarted, "a",
		card.FactAccounts, "0", card.FactFree.Of("storage"), "1000", card.FactFree.Of("sd"), card.Nothing)
	inSystem := phone(card.FactMode, "system", card.FactCPUs, "arm64-v8a,armeabi-v7a", card.FactAPI, "33",
		card.FactFree.Of("storage"), "1000")
	app := func(a apk.App) *ident.File {
		return &ident.File{Path: "log.apk", Size: 10, Kind: ident.App, App: &a, ABIs: a.ABIs}
	}
	pkg := &ident.File{Path: "rom.zip", Size: 500, Kind: ident.Addon}
	large := &ident.File{Path: "rom.zip", Size: 5000, Kind: ident.Addon}
	proven := &Relock{Images: map[string]string{"boot": "11", "misc": "22"}, Key: "k"}
	overlay := place.Item{Path: "/vendor/overlay/X", Partition: card.At("vendor", "a"), Inside: "overlay/X"}
	gone, twice := overlay, overlay
	gone.Missing, twice.There = true, true
	files := &RestoreFiles{Item: &backup.Item{Name: backup.Storage, Bytes: 500}}
	for _, c := range []struct {
		name string
		step Step
		card *card.Card
		want string
	}{
		{"an app", &InstallApp{File: app(apk.App{Name: "log", MinSDK: 30, ABIs: []string{"arm64-v8a"}})},
			inSystem, ""},
		{"an app for another processor", &InstallApp{File: app(apk.App{Name: "log", ABIs: []string{"x86"}})},
			inSystem, "stop wrong-arch"},
		{"an app for a newer system", &InstallApp{File: app(apk.App{Name: "log", MinSDK: 34})}, inSystem,
			"stop wrong-system-version"},
		{"an app, the system's level not known", &InstallApp{File: app(apk.App{Name: "log", MinSDK: 34})},
			withFacts(inSystem, card.FactAPI, ""), "warn wrong-system-version"},
		{"a part of an app", &InstallApp{File: app(apk.App{Name: "log", Split: "de"})}, inSystem,
			"stop not-an-app"},
		{"an app with a part for the processor", &InstallApp{File: app(apk.App{Name: "log", Parts: true}),
			Parts: []*ident.File{app(apk.App{Name: "log", Split: "arm", ABIs: []string{"arm64-v8a"}})}},
			inSystem, ""},
		{"an app with a part for another processor", &InstallApp{File: app(apk.App{Name: "log", Parts: true}),
			Parts: []*ident.File{app(apk.App{Name: "log", Split: "x86", ABIs: []string{"x86"}})}}, inSystem,
			"stop wrong-arch"},
		{"an app that needs parts", &InstallApp{File: app(apk.App{Name: "log", Parts: true})}, inSystem,
			"stop not-an-app"},
		{"a part of another version", &InstallApp{File: app(apk.App{Name: "log", Version: 2}),
			Parts: []*ident.File{app(apk.App{Name: "log", Version: 1, Split: "de"})}}, inSystem,
			"stop not-an-app"},
		{"a part twice", &InstallApp{File: app(apk.App{Name: "log"}), Parts: []*ident.File{
			app(apk.App{Name: "log", Split: "de"}), app(apk.App{Name: "log", Split: "de"})}}, inSystem,
			"stop not-an-app"},
		{"no app", &InstallApp{File: pkg}, inSystem, "stop not-an-app"},

		{"a file that fits the storage", &Put{File: pkg, To: "storage"}, inRecovery, ""},
		{"one that does not", &Put{File: large, To: "storage"}, inRecovery, "stop no-room"},
		{"a storage nobody measured", &Put{File: pkg, To: "storage"},
			withFacts(inRecovery, card.FactFree.Of("storage"), ""), "warn no-room"},
		{"no memory card", &Put{File: pkg, To: "sd"}, inRecovery, "stop storage-unreadable"},
		{"behind a locked screen", &Put{File: pkg, To: "storage"}, withFacts(inSystem, card.FactLock, "yes",
			card.FactCrypto, card.CryptoFile), "warn storage-unreadable"},
		{"behind a locked screen, not encrypted", &Put{File: pkg, To: "storage"},
			withFacts(inSystem, card.FactLock, "yes", card.FactCrypto, card.CryptoNone), ""},

		{"files of a backup", files, inRecovery, ""},
		{"no room for them", files, withFacts(inRecovery, card.FactFree.Of("storage"), "499"),
			"stop no-room"},
		{"into an encrypted storage", files, withFacts(inRecovery, card.FactFree.Of("storage"), "",
			card.FactData,
			card.DataEncrypted), "stop storage-unreadable"},

		{"aside, trees off", &Shelve{Items: []place.Item{overlay}},
			withFacts(inRecovery, card.FactTree.Of(card.At("vendor", "a")), "off"), ""},
		{"aside, no trees at all", &Shelve{Items: []place.Item{overlay}},
			withFacts(inRecovery, card.FactTree.Of(card.At("vendor", "a")), "none"), ""},
		{"aside, trees enforced", &Shelve{Items: []place.Item{overlay}},
			withFacts(inRecovery, card.FactTree.Of(card.At("vendor", "a")), "enforced"),
			"stop verity-would-reject"},
		{"aside, nobody knows", &Shelve{Items: []place.Item{overlay}}, inRecovery,
			"warn verity-would-reject"},
		{"aside, a file system that is never written", &Shelve{Items: []place.Item{overlay}},
			withFacts(inRecovery, card.FactFS.Of(card.At("vendor", "a")), "erofs",
				card.FactTree.Of(card.At("vendor", "a")), "off"), "stop read-only-partition"},
		{"aside, not there", &Shelve{Items: []place.Item{gone}},
			withFacts(inRecovery, card.FactTree.Of(card.At("vendor", "a")), "off"), "stop no-such-file"},
		{"aside, and in its place as well", &Shelve{Items: []place.Item{twice}},
			withFacts(inRecovery, card.FactTree.Of(card.At("vendor", "a")), "off"), "stop no-such-file"},
		{"aside, no shell", &Shelve{Items: []place.Item{overlay}}, withFacts(inRecovery, card.FactRoot, "no"),
			"stop no-root-shell"},

		{"caches", &WipeArea{Area: "caches"}, inRecovery, ""},
		{"by hand", &WipeArea{Area: "caches"}, withFacts(inRecovery, card.FactRoot, "no"),
			"note no-root-shell"},
		{"apps, not encrypted", &WipeArea{Area: "apps"}, withFacts(inRecovery, card.FactData, card.DataPlain),
			""},
		{"apps, encrypted by file", &WipeArea{Area: "apps"}, withFacts(inRecovery, card.FactData,
			card.DataEncrypted, card.FactCrypto, card.CryptoFile), "stop apps-not-apart"},
		{"apps, encrypted", &WipeArea{Area: "apps"}, withFacts(inRecovery, card.FactData, card.DataEncrypted),
			"stop apps-not-apart"},
		{"apps, nobody knows", &WipeArea{Area: "apps"}, withFacts(inRecovery, card.FactData, ""),
			"warn apps-not-apart"},
		{"apps, somebody signed in", &WipeArea{Area: "apps"}, withFacts(inRecovery, card.FactData,
			card.DataPlain,
			card.FactAccounts, "2"), "stop account-lock"},
		{"apps, accounts not known", &WipeArea{Area: "apps"}, withFacts(inRecovery, card.FactData,
			card.DataPlain,
			card.FactAccounts, ""), "warn account-lock"},
		{"storage, encrypted", &WipeArea{Area: "storage"},
			withFacts(inRecovery, card.FactData, card.DataEncrypted),
			"stop storage-unreadable, note no-backup"},
		{"storage with a package in it", &WipeArea{Area: "storage"},
			withFacts(inRecovery, card.FactStored.Of("storage"), "rom.zip"), "stop storage-holds-package"},
		{"a system", &WipeArea{Area: "system", Slot: "b"}, inRecovery, ""},
		{"a vendor that is not there", &WipeArea{Area: "vendor", Slot: "b"},
			withFacts(inRecovery, card.FactSize.Of(card.At("vendor", "b")), card.Nothing),
			"stop no-such-partition"},
		{"a system while an update waits", &WipeArea{Area: "system", Slot: "b"},
			withFacts(inRecovery, card.FactSnapshot, "snapshotted",
				card.FactLogical.Of(card.At("system", "")),
				"yes"), "stop merge-pending"},

		{"erase a partition", &Erase{Partition: "cache"}, phone(), ""},
		{"erase what is not there", &Erase{Partition: "cache"}, phone(card.FactSize.Of(card.At("cache", "")),
			card.Nothing), "stop no-such-partition"},
		{"erase the radio", &Erase{Partition: "radio", Slot: "a"}, phone(), "stop risky-partition"},
		{"erase on a locked phone", &Erase{Partition: "cache"}, phone(card.FactUnlocked, "no"),
			"stop locked-bootloader"},
		{"erase the data, somebody signed in", &Erase{Partition: "userdata"}, phone(card.FactAccounts, "1"),
			"stop account-lock"},

		{"unlock", &Unlock{}, phone(card.FactMayUnlock, "yes", card.FactAccounts, "0"), ""},
		{"unlock, forbidden", &Unlock{}, phone(card.FactMayUnlock, "no"), "stop unlock-not-allowed"},
		{"unlock, nobody knows", &Unlock{}, phone(card.FactMayUnlock, ""), "warn unlock-not-allowed"},

		{"lock over nothing known", &Relock{}, phone(card.FactAccounts, "0"), "stop relock-would-brick"},
		{"lock over what does not verify", &Relock{Images: proven.Images, Why: "boot"},
			phone(card.FactAccounts, "0"), "stop relock-would-brick"},
		{"lock over what was not written", proven,
			phone(card.FactAccounts, "0", card.FactSize.Of(card.At("misc", "")), "9",
				card.FactDigest.Of(card.At("boot", "a")), "11"), "stop relock-would-brick"},
		{"lock over another image", proven,
			phone(card.FactAccounts, "0", card.FactSize.Of(card.At("misc", "")), "9",
				card.FactDigest.Of(card.At("boot", "a")), "12", card.FactDigest.Of(card.At("misc", "")),
				"22"), "stop relock-would-brick"},
		{"lock over the maker's", proven, phone(card.FactAccounts, "0", card.FactSize.Of(card.At("misc", "")),
			"9", card.FactDigest.Of(card.At("boot", "a")), "11", card.FactDigest.Of(card.At("misc", "")),
			"22", card.FactDigest.Of(card.At("boot", "b")), "11", card.FactCameUp.Of("a"), "yes"),
			"warn relock-would-brick"},
		{"with another system on the other slot, and none seen", proven,
			phone(card.FactAccounts, "0", card.FactSize.Of(card.At("misc", "")), "9",
				card.FactDigest.Of(card.At("boot", "a")), "11", card.FactDigest.Of(card.At("misc", "")),
				"22"), "warn relock-would-brick, warn relock-would-brick, warn relock-would-brick"},

		{"copy the radio over", &CopySlot{Partition: "radio", From: "a"}, inRecovery, "stop risky-partition"},
		{"copy to a smaller one", &CopySlot{Partition: "dtbo", From: "a"},
			withFacts(inRecovery, card.FactSize.Of(card.At("dtbo", "a")), "9",
				card.FactSize.Of(card.At("dtbo", "b")), "8"), "stop image-too-big"},
		{"copy what is not there", &CopySlot{Partition: "dtbo", From: "a"},
			withFacts(inRecovery, card.FactSize.Of(card.At("dtbo", "b")), card.Nothing),
			"stop no-such-partition"},
		{"copy without a shell", &CopySlot{Partition: "dtbo", From: "a"},
			withFacts(inRecovery, card.FactRoot, "no"), "stop no-root-shell"},
		{"copy", &CopySlot{Partition: "dtbo", From: "a"}, inRecovery, ""},

		{"graft without a shell", &Graft{File: recovery("dunlin")},
			withFacts(inRecovery, card.FactRoot, "no"),
			"stop no-root-shell"},
		{"graft", &Graft{File: recovery("dunlin")}, inRecovery, ""},
		{"room in super that nobody knows", &MakeRoom{Partition: "system", Slot: "a", Need: 9}, phone(),
			"warn not-enough-room-in-super"},
	} {
		if got := said(c.step.Check(c.card, models(t).Find("dunlin"), models(t))); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
		if c.step.Title() == "" || len(c.step.Modes()) == 0 {
			t.Errorf("%s has no title or mode", c.name)
		}
	}
}

// TestLanding: a restart into sideload mode changes which slot a ROM goes to, where something was
// installed to the other one; an add-on goes to where it lands, and a recovery that is put there
// from its menu stays where it is.
func TestLanding(t *testing.T) {
	ab, addon := rom("dunlin", "system"), &ident.File{Path: "x.zip", Kind: ident.Addon}
	here := phone(card.FactMode, "recovery", card.FactRoot, "yes", card.FactStarted, "a", card.FactNext, "b")
	for _, c := range []struct {
		name string
		file *ident.File
		card *card.Card
		want bool
	}{
		{"a ROM", ab, here, true},
		{"the same slot", ab, withFacts(here, card.FactNext, "a"), false},
		{"nobody knows", ab, withFacts(here, card.FactStarted, ""), false},
		{"an add-on", addon, here, false},
		{"from its menu", ab, withFacts(here, card.FactRoot, "no"), false},
		{"one that was only tried", ab, withFacts(here, card.FactTemporary, "yes"), false},
		{"in sideload mode", ab, withFacts(here, card.FactMode, "sideload"), false},
	} {
		got := slices.ContainsFunc(Compile(c.card, models(t).Find("dunlin"), models(t),
			&Sideload{File: c.file}).Check(c.card), func(f finding.Finding) bool {
			return f.Name == finding.SlotNotStarted && strings.Contains(f.Text, "lands on slot b") &&
				strings.HasSuffix(f.Remedy, "jarlid slot use a")
		})
		if got != c.want {
			t.Errorf("%s: %v; unwanted: got != c.want", c.name, got)
		}
	}
}

// TestStepEffects: what is known after a step.
func TestStepEffects(t *testing.T) {
	x := place.Item{Path: "/vendor/overlay/X", Partition: card.At("vendor", "a")}
	y := place.Item{Path: "/vendor/overlay/Y", Partition: card.At("vendor", "a")}
	own := place.Home{Partition: "boot", Form: "ramdisk"}
	rebuilt := &Write{File: &ident.File{Path: "r.img", Kind: ident.BootWithRecovery,
		Props: map[string]string{"ro.debuggable": "1", "ro.build.display.id": "Tideline"},
		Boot:  &boot.Image{}},
		Partition: "boot",
		Slot:      "a",
		Home:      own}
	for _, c := range []struct {
		name  string
		steps []Step
		card  *card.Card
		fact  card.Which
		want  string
	}{
		{"aside", []Step{&Shelve{Items: []place.Item{x, y}}}, phone(),
			card.FactShelved.Of(card.At("vendor", "a")), "/vendor/overlay/X, /vendor/overlay/Y"},
		{"aside and one back", []Step{&Shelve{Items: []place.Item{x, y}}, &Shelve{Items: []place.Item{x},
			Back: true}}, phone(), card.FactShelved.Of(card.At("vendor", "a")), "/vendor/overlay/Y"},
		{"aside and all back", []Step{&Shelve{Items: []place.Item{x}}, &Shelve{Items: []place.Item{x},
			Back: true}}, phone(), card.FactShelved.Of(card.At("vendor", "a")), ""},
		{"a file put there", []Step{&Put{File: &ident.File{Path: "/x/a.zip"}, To: "sd"},
			&Put{File: &ident.File{Path: "/x/b.zip"}, To: "sd"}}, phone(), card.FactStored.Of("sd"),
			"a.zip, b.zip"},
		{"the storage wiped", []Step{&Put{File: &ident.File{Path: "a.zip"}, To: "storage"},
			&WipeArea{Area: "storage"}}, phone(), card.FactStored.Of("storage"), ""},
		{"apps wiped", []Step{&WipeArea{Area: "apps"}}, phone(card.FactDebugging, "on"), card.FactDebugging,
			"off"},
		{"a system erased", []Step{&WipeArea{Area: "system", Slot: "b"}}, phone(),
			card.FactHolds.Of(card.At("system", "b")), card.Nothing},
		{"the data erased", []Step{&Erase{Partition: "userdata"}}, phone(card.FactData, card.DataEncrypted),
			card.FactData, card.DataFormatted},
		{"its digest with it", []Step{&Erase{Partition: "boot", Slot: "a"}},
			phone(card.FactDigest.Of(card.At("boot", "a")), "11"), card.FactDigest.Of(card.At("boot", "a")),
			""},
		{"opened", []Step{&Unlock{}}, phone(card.FactUnlocked, "no"), card.FactUnlocked, "yes"},
		{"shut", []Step{&Relock{}}, phone(), card.FactUnlocked, "no"},
		{"copied", []Step{&CopySlot{Partition: "radio", From: "a"}},
			phone(card.FactHolds.Of(card.At("radio", "a")), "2.1"), card.FactHolds.Of(card.At("radio", "b")),
			"2.1"},
		{"copied, nobody knows what", []Step{&CopySlot{Partition: "radio", From: "b"}}, phone(),
			card.FactHolds.Of(card.At("radio", "a")), "a copy of radio_b"},
		{"a recovery that was tried and then written stays", []Step{&Graft{Into: []*Write{rebuilt}}},
			phone(card.FactTemporary, "yes"), card.FactTemporary, "no"},
		{"one written to the slot that is not next does not", []Step{&Graft{Into: []*Write{rebuilt}}},
			phone(card.FactTemporary, "yes", card.FactNext, "b"), card.FactTemporary, "yes"},
		{"what it is", []Step{&Graft{Into: []*Write{rebuilt}}}, phone(),
			card.FactHolds.Of(card.At("boot", "a")), "Tideline"},
	} {
		after := c.card.Clone()
		for _, s := range c.steps {
			Apply(s, after)
		}
		if got := after.Value(c.fact); got != c.want {
			t.Errorf("%s: %s is %q, want %q", c.name, c.fact.ID(), got, c.want)
		}
	}
}

// TestRecoverySetWays: which of the ways a recovery is set by.
func TestRecoverySetWays(t *testing.T) {
	f := func(kind ident.Kind, shell string) *ident.File {
		return &ident.File{Kind: kind, Boot: &boot.Image{}, Props: map[string]string{"ro.debuggable": shell}}
	}
	vendor := &ident.File{Kind: ident.VendorBoot, Vendor: &boot.Vendor{}}
	ramdisk, fragment, own := place.Home{Partition: "boot", Form: "ramdisk"},
		place.Home{Partition: "vendor_boot", Form: "fragment"}, place.Home{Partition: "recovery", Form: "own"}
	loader, shell := phone(), phone(card.FactMode, "recovery", card.FactRoot, "yes")
	for _, c := range []struct {
		name  string
		f     *ident.File
		home  place.Home
		into  string
		c     *card.Card
		given bool
		want  string // try, graft, whole
	}{
		{"a partition of its own", f(ident.Recovery, "1"), own, "", loader, false, "whole"},
		{"the same from the recovery", f(ident.Recovery, "1"), own, "", shell, false, "whole"},
		{"a boot image, in the bootloader", f(ident.BootWithRecovery, "1"), ramdisk, "", loader,
			false, "try"},
		{"one without a shell", f(ident.BootWithRecovery, "0"), ramdisk, "", loader, false, "whole"},
		{"a bootloader that starts nothing", f(ident.BootWithRecovery, "1"), ramdisk, "",
			withFacts(loader, card.FactCommand.Of("boot"), "no"), false, "whole"},
		{"whole by wish", f(ident.BootWithRecovery, "1"), ramdisk, "boot", loader, false, "whole"},
		{"into an image that was given", f(ident.BootWithRecovery, "1"), ramdisk, "", loader, true, "graft"},
		{"from the recovery", f(ident.BootWithRecovery, "1"), ramdisk, "", shell, false, "graft"},
		{"a recovery's ramdisk, from the recovery", f(ident.Unknown, "1"), ramdisk, "", shell,
			false, "graft"},
		{"vendor_boot whole", vendor, fragment, "", loader, false, "whole"},
		{"a bare ramdisk for vendor_boot", f(ident.Unknown, ""), fragment, "", shell, false, "graft"},
	} {
		to := place.Target{Partition: c.into}
		got := "whole"
		switch {
		case ByTrying(c.f, c.home, to, c.c, c.given):
			got = "try"
		case Grafts(c.f, c.home, to, c.c, c.given):
			got = "graft"
		}
		if got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
	steps := NewGraft(f(ident.BootWithRecovery, "1"), ramdisk, loader, nil,
		[]*Write{{Partition: "boot", Slot: "a"}, {Partition: "boot", Slot: "b"}})
	if g, ok := steps[1].(*Graft); len(steps) != 2 || !ok || len(g.Into) != 2 ||
		!strings.Contains(g.Title(), "boot_a and boot_b") || len(Unsure(g, loader)) != 0 {
		t.Errorf("%v; unwanted: len(steps) != 2 || !ok || len(g.Into) != 2 || ...", steps)
	}
	for _, c := range []struct {
		w    *Write
		card *card.Card
		want bool
	}{
		{&Write{File: f(ident.Boot, ""), Partition: "boot"}, shell, true},
		{&Write{File: f(ident.Boot, ""), Partition: "boot"}, loader, false},
		{&Write{File: f(ident.Boot, ""), Partition: "boot"}, withFacts(shell, card.FactRoot, "no"), false},
		{&Write{File: f(ident.Ext4, ""), Partition: "system", Logical: true}, shell, false},
		{&Write{File: &ident.File{Inside: 9}, Partition: "vendor"}, shell, false},
	} {
		if got := here(c.card, c.w).Shell; got != c.want {
			t.Errorf("%s is written through the shell: %v", c.w.Partition, got)
		}
	}
}

// TestWords: what is on a slot, a refused app, and a build are put into words.
func TestWords(t *testing.T) {
	var none *model.Model
	if got := place.Holds(withFacts(phone(), card.FactHolds.Of(card.At("system", "a")), "Saltmarsh",
		card.FactHolds.Of(card.At("radio", "a")), "2.1", card.FactAddons.Of("a"), "Shoreline"), none,
		"a"); len(got) != 3 || got[0].Value != "Saltmarsh" || got[1].What != "add-ons" ||
		got[2].What != "radio" {
		t.Errorf("the slot holds %+v", got)
	}
	for text, want := range map[string]string{
		"Failure [INSTALL_FAILED_OLDER_SDK: x]": "it wants a newer system (",
		"":                                      "no reason",
		"odd":                                   `"odd"`,
	} {
		if got := AppRefusal(text); !strings.Contains(got, want) {
			t.Errorf("%q is %q", text, got)
		}
	}
	for build, want := range map[string]string{
		"saltmarsh/dunlin/dunlin:14/SM42/1:user/release-keys": "saltmarsh SM42 (release 14)",
		"Tideline 3.1": "Tideline 3.1",
		"a:b":          "a:b",
	} {
		if got := place.ShortBuild(build); got != want {
			t.Errorf("%q is %q", build, got)
		}
	}
}
