package plan

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/place"
)

// table is a phone with the partitions given as name=size, -name being logical.
func table(mode card.Mode, slots int, parts ...string) *card.Card {
	c := &card.Card{}
	c.Learn(card.FactMode, string(mode), card.Read)
	c.Learn(card.FactSlots, fmt.Sprint(slots), card.Read)
	c.Learn(card.FactUnlocked, "yes", card.Read)
	c.Learn(card.FactPercent, "90", card.Read)
	if slots > 1 {
		c.Learn(card.FactNext, "a", card.Read)
	}
	for _, p := range parts {
		name, size, _ := strings.Cut(strings.TrimPrefix(p, "-"), "=")
		c.Learn(card.FactSize.Of(card.Part(name)), size, card.Read)
		if strings.HasPrefix(p, "-") {
			c.Learn(card.FactLogical.Of(card.Part(name)), "yes", card.Read)
		}
	}
	c.Conclude()
	return c
}

func file(kind ident.Kind, size int64, to ...string) *ident.File {
	f := &ident.File{Path: "x.img", Size: size, Kind: kind, Boot: &boot.Image{},
		Props: map[string]string{"ro.product.device": "dunlin"}}
	for _, t := range to {
		f.GoesTo = append(f.GoesTo, ident.Destination{Partition: t, By: "content", Why: "it says so"})
	}
	return f
}

// TestPlace: where one file goes on different phones.
func TestPlace(t *testing.T) {
	slotted := table("bootloader", 2, "boot_a=99", "boot_b=99", "misc=9", "super=999", "recovery_a=99",
		"recovery_b=99", "radio_a=9", "radio_b=9")
	landed := slotted.Clone() // after an A/B install
	landed.Learn(card.FactStarted, "a", card.Read)
	landed.Learn(card.FactNext, "b", card.Read)
	one := table("bootloader", 1, "boot=99", "recovery=99", "system=99")
	into := func(s string) place.Target {
		to, err := place.ParseTarget(s)
		if err != nil {
			t.Fatalf("place.ParseTarget(s): %v", err)
		}
		return to
	}
	for _, c := range []struct {
		name string
		f    *ident.File
		into string
		c    *card.Card
		want string
	}{
		{"boot goes to the next slot", file(ident.Boot, 9, "boot"), "", slotted, "boot_a"},
		{"both by wish", file(ident.Boot, 9, "boot"), "@both", slotted, "boot_a boot_b"},
		{"the other by wish", file(ident.Boot, 9, "boot"), "@other", slotted, "boot_b"},
		{"the slot it booted from by wish", file(ident.Boot, 9, "boot"), "@booted", landed, "boot_a"},
		{"the slot that boots next by wish", file(ident.Boot, 9, "boot"), "@active", landed, "boot_b"},
		{"by letter where they differ", file(ident.Boot, 9, "boot"), "@b", landed, "boot_b"},
		{"both where they differ", file(ident.Boot, 9, "boot"), "boot@both", landed, "boot_a boot_b"},
		{"the other where they differ", file(ident.Boot, 9, "boot"), "@other", landed, "error"},
		{"by content where they differ", file(ident.Boot, 9, "boot"), "", landed, "error"},
		{"by a partition's name where they differ", file(ident.Boot, 9, "boot"), "boot", landed, "error"},
		{"a logical one where they differ", file(ident.Ext4, 9, "system"), "", landed, "error"},
		{"vbmeta where they differ", file(ident.VBMeta, 9, "vbmeta"), "", landed, "error"},
		{"a recovery where they differ", file(ident.Recovery, 9, "recovery"), "", landed,
			"recovery_a recovery_b"},
		{"radio where they differ", file(ident.Unknown, 9, "radio"), "", landed, "radio_a radio_b"},
		{"without slots where they differ", file(ident.Unknown, 9, "misc"), "", landed, "misc"},
		{"a recovery goes to both", file(ident.Recovery, 9, "recovery"), "", slotted,
			"recovery_a recovery_b"},
		{"radio goes to both", file(ident.Unknown, 9, "radio"), "", slotted, "radio_a radio_b"},
		{"no slots", file(ident.Boot, 9, "boot"), "", one, "boot"},
		{"a partition without slots", file(ident.Unknown, 9, "misc"), "", slotted, "misc"},
		{"a suffix written by hand", file(ident.Boot, 9, "boot"), "boot_b", slotted, "boot_b"},
		{"a logical one", file(ident.Ext4, 9, "system"), "", slotted, "system_a in super"},
		{"the same where there is no super", file(ident.Ext4, 9, "system"), "", one, "system"},
		{"nowhere", file(ident.Unknown, 9), "", one, "error"},
		{"a slot on a phone without", file(ident.Boot, 9, "boot"), "@b", one, "error"},
	} {
		p, err := place.Of(place.Image{File: c.f}, into(c.into), c.c, nil)
		var got []string
		for _, s := range p.Slots {
			got = append(got, card.At(p.Partition, s).String())
		}
		s := strings.Join(got, " ")
		if p.Logical {
			s += " in super"
		}
		if err != nil {
			s = "error"
		}
		if s != c.want {
			t.Errorf("%s: %q (%v), want %q", c.name, s, err, c.want)
		}
	}
}

// TestOrder: the manifest before the model file before the usual order, logical
// ones last.
func TestOrder(t *testing.T) {
	var list []place.Placed
	for _, n := range []string{"vbmeta", "system", "boot", "dtbo", "radio", "product"} {
		list = append(list, place.Placed{Partition: n, Logical: n == "system" || n == "product"})
	}
	names := func(manifest []string, model string) string {
		sorted, _ := place.Order(list, manifest, nil, models(t).Find(model))
		var s []string
		for _, p := range sorted {
			s = append(s, p.Partition)
		}
		return strings.Join(s, " ")
	}
	for want, got := range map[string]string{
		"radio dtbo boot vbmeta product system": names(nil, "dunlin"),
		"radio dtbo boot vbmeta system product": names(nil, "godwit"),
		"boot radio vbmeta dtbo system product": names([]string{"boot", "radio", "vbmeta", "dtbo",
			"system"}, "godwit"),
		"radio dtbo boot vbmeta product system\x00": names([]string{}, "") + "\x00",
	} {
		if got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

// TestRoom: groups, what can go, and what can't be told.
func TestRoom(t *testing.T) {
	const mib = 1 << 20
	c := table("fastbootd", 2, "super=99", fmt.Sprintf("-system_a=%d", 12*mib),
		fmt.Sprintf("-product_a=%d", 6*mib), fmt.Sprintf("-system_ext_a=%d", 2*mib),
		fmt.Sprintf("-vendor_a=%d", 4*mib), fmt.Sprintf("-system_b=%d", 90*mib))
	c.Learn(card.FactGroupMax, fmt.Sprint(30*mib), card.Model)
	for _, x := range []struct {
		need    int64
		fits    bool
		deletes string
	}{
		{12 * mib, true, ""},
		{1, true, ""},
		{18 * mib, true, ""},
		{18*mib + 1, true, "product_a"},
		{24 * mib, true, "product_a"},
		{24*mib + 4096, true, "product_a, system_ext_a"},
		{26 * mib, true, "product_a, system_ext_a"},
		{26*mib + 1, false, "product_a, system_ext_a"},
	} {
		r := place.RoomFor(c, card.At("system", "a"), x.need)
		if !r.Known || r.Fits != x.fits || place.Names(r.Delete) != x.deletes || x.need > 12*mib &&
			r.Free != 6*mib {
			t.Errorf("%d bytes: %+v", x.need, r)
		}
	}
	c.Forget(card.FactGroupMax, "")
	if r := place.RoomFor(c, card.At("system", "a"), 13*mib); r.Known {
		t.Errorf("without the group's limit: %+v", r)
	}
	if r := place.RoomFor(c, card.At("system", "a"), 12*mib); !r.Known || !r.Fits {
		t.Errorf("what fits already: %+v", r)
	}
}

// TestManifest reads the platform's two files as its own tools do.
func TestManifest(t *testing.T) {
	var m Manifest
	m.ParseInfo("# a comment=1\nrequire board=dunlin|WL-DU\nrequire version-bootloader=1.4|1.5\r\nreject " +
		"version-baseband=9\nrequire-for-product:godwit version-baseband=1\nrequire " +
		"partition-exists=odm\nnonsense\n")
	m.ParseOrder("version 1\nflash boot\nflash --apply-vbmeta vbmeta\nreboot fastboot\nupdate-super\nflash " +
		"system\nif-wipe erase userdata\n")
	if !slices.Equal(m.Order, []string{"boot", "vbmeta", "system"}) {
		t.Errorf("the order is %v", m.Order)
	}
	c := table("bootloader", 2, "boot_a=9", "odm="+card.Nothing)
	c.Learn(card.FactModel, "dunlin", card.Read)
	for _, x := range []struct {
		values map[string]string
		model  string
		want   string
	}{
		{map[string]string{"version-bootloader": "1.5", "version-baseband": "8"}, "dunlin",
			"stop no-such-partition"},
		{map[string]string{"version-bootloader": "1.3", "version-baseband": "9"}, "dunlin",
			"stop base-version, stop base-version, stop no-such-partition"},
		{nil, "dunlin", "warn base-version, warn base-version, stop no-such-partition"},
		{map[string]string{"version-bootloader": "1.4", "version-baseband": "8"}, "godwit",
			"stop wrong-model, stop no-such-partition"},
	} {
		c.Learn(card.FactModel, x.model, card.Read)
		if got := said(m.Check("set.zip", c, x.values, models(t))); got != x.want {
			t.Errorf("%v on %s: %q, want %q", x.values, x.model, got, x.want)
		}
	}
}

// TestBootloaderFindings: the rules of this layer on known and unknown facts.
func TestBootloaderFindings(t *testing.T) {
	set := models(t)
	full := func(facts ...any) *card.Card {
		c := table("bootloader", 2, "boot_a=999999", "boot_b=999999", "dtbo_a=99999", "vendor_boot_a=999999",
			"super=9999999", "radio_a=99999", "misc=99", "userdata=99")
		c.Learn(card.FactBackedUp, "kept", card.Journal)
		for i := 0; i < len(facts); i += 2 {
			if facts[i+1] == "" {
				c.Forget(facts[i].(card.Which), "an act broke off")
			} else {
				c.Learn(facts[i].(card.Which), facts[i+1].(string), card.Read)
			}
		}
		return c
	}
	godwit := file(ident.BootWithRecovery, 99, "boot")
	godwit.Props = map[string]string{"ro.product.device": "godwit"}
	plain := file(ident.Boot, 99, "boot")
	plain.Props = godwit.Props
	super := &ident.File{Path: "super.img", Size: 9, Kind: ident.Super,
		GoesTo: []ident.Destination{{Partition: "super", By: "content"}}}
	home := place.RecoveryHome(full())
	write := func(f *ident.File, part string, forced bool) Step {
		return &Write{File: f, Partition: part, Slot: "a", Forced: forced, Home: home}
	}
	release := func(f *ident.File, major uint32) *ident.File {
		o := *f
		o.Boot = &boot.Image{OSVersion: major << 25}
		return &o
	}
	for _, c := range []struct {
		name string
		step Step
		card *card.Card
		want string
	}{
		{"a boot image", write(plain, "boot", false), full(card.FactModel, "godwit"),
			"note recovery-replaced"},
		{"a boot image over the recovery that was set", write(plain, "boot", false),
			full(card.FactModel, "godwit", card.FactSet.Of(card.At("boot", "a")), "tideline.img"),
			"warn recovery-replaced"},
		{"of another build than the system", write(release(plain, 10), "boot", false),
			full(card.FactModel, "godwit", card.FactRelease.Of("a"), "14"),
			"note recovery-replaced, warn other-build"},
		{"of the system's own build", write(release(plain, 14), "boot", false),
			full(card.FactModel, "godwit", card.FactRelease.Of("a"), "14"), "note recovery-replaced"},
		{"a recovery without its pre-image", write(godwit, "boot", false), full(card.FactModel, "godwit"),
			"warn pre-image-missing, note recovery-replaced"},
		{"and with it", write(godwit, "boot", false), full(card.FactModel, "godwit",
			card.FactDigest.Of(card.At("dtbo", "a")), "x"), "note recovery-replaced"},
		{"somewhere else", write(plain, "dtbo", true), full(card.FactModel, "godwit"),
			"stop wrong-destination"},
		{"nothing known", write(&ident.File{Path: "radio.img", Size: 9, Kind: ident.Unknown}, "dtbo", true),
			full(card.FactModel, "godwit"), "warn unknown-content"},
		{"an empty file", write(&ident.File{Path: "radio.img", Kind: ident.Unknown}, "dtbo", true),
			full(card.FactModel, "godwit"), "stop wrong-destination"},
		{"an archive", write(file(ident.FirmwareSet, 9), "boot", true), full(card.FactModel, "dunlin"),
			"stop still-wrapped, note recovery-replaced"},
		{"nothing known but a footer",
			write(&ident.File{Path: "x.img", Size: 9, Kind: ident.Unknown,
				GoesTo: []ident.Destination{{Partition: "dtbo", By: "avb-footer", Why: "its footer"}}},
				"dtbo", false), full(card.FactModel, "godwit"), ""},
		{"nothing known but a footer for another",
			write(&ident.File{Path: "x.img", Size: 9, Kind: ident.Unknown,
				GoesTo: []ident.Destination{{Partition: "dtbo", By: "avb-footer", Why: "its footer"}}},
				"boot", true), full(card.FactModel, "godwit"),
			"stop wrong-destination, note recovery-replaced"},
		{"another phone's numbers", write(file(ident.Unknown, 9), "persist", true),
			full(card.FactModel, "godwit", card.FactSize.Of(card.At("persist", "a")), "99"),
			"warn unknown-content, stop risky-partition"},
		{"its numbers erased", &Erase{Partition: "efs"}, full(card.FactSize.Of(card.At("efs", "")), "99"),
			"stop risky-partition"},
		{"risky", write(file(ident.Unknown, 9), "radio", true), full(card.FactModel, "godwit"),
			"warn unknown-content, stop risky-partition"},
		{"super in a merge", &Write{File: super, Partition: "super", Home: home},
			full(card.FactModel, "godwit", card.FactData, card.DataFormatted, card.FactSnapshot, "merging"),
			"stop merge-pending"},
		{"super in perhaps a merge", &Write{File: super, Partition: "super", Home: home},
			full(card.FactModel, "godwit", card.FactData, card.DataFormatted, card.FactSnapshot, ""),
			"warn merge-pending"},
		{"super after a cancelled one", &Write{File: super, Partition: "super", Home: home},
			full(card.FactModel, "godwit", card.FactData, card.DataFormatted, card.FactSnapshot, "cancelled"),
			""},
		{"super over another system's data", &Write{File: super, Partition: "super", Home: home},
			full(card.FactModel, "godwit", card.FactData, card.DataEncrypted), "stop encrypted-data"},
		{"format in a merge", &FormatData{}, full(card.FactSnapshot, "snapshotted", card.FactAccounts, "0"),
			"stop format-after-install"},
		{"format, perhaps in a merge", &FormatData{}, full(card.FactSnapshot, "", card.FactData,
			card.DataFormatted), "warn format-after-install"},
		{"erase metadata in a merge", &Erase{Partition: "metadata"}, full(card.FactSnapshot, "merging",
			card.FactAccounts, "0"), "stop format-after-install"},
		{"format with an account", &FormatData{}, full(card.FactAccounts, "1"), "stop account-lock"},
		{"format, perhaps with one", &FormatData{}, full(), "warn account-lock"},
		{"apps of plain data", &WipeArea{Area: "apps"}, full(card.FactData, card.DataPlain, card.FactAccounts,
			"0"), ""},
		{"apps among encrypted files", &WipeArea{Area: "apps"}, full(card.FactCrypto, card.CryptoFile,
			card.FactAccounts, "0"), "stop apps-not-apart"},
		{"apps in encrypted data", &WipeArea{Area: "apps"}, full(card.FactData, card.DataEncrypted,
			card.FactAccounts, "0"), "stop apps-not-apart"},
		{"apps, nobody knows", &WipeArea{Area: "apps"}, full(card.FactAccounts, "0"), "warn apps-not-apart"},
		{"storage in encrypted data", &WipeArea{Area: "storage"}, full(card.FactData, card.DataEncrypted),
			"stop storage-unreadable"},
		{"storage with a package", &WipeArea{Area: "storage"}, full(card.FactLying.Of("storage"), "rom.zip"),
			"stop storage-holds-package"},
		{"caches by hand", &WipeArea{Area: "caches"}, full(card.FactRoot, "no"), "note no-root-shell"},
		{"system in a merge", &WipeArea{Area: "system", Slot: "b"}, full(card.FactSnapshot, "merging"),
			"stop merge-pending"},
		{"an add-on that does not fit", &Sideload{File: &ident.File{Path: "a.zip", Kind: ident.Addon,
			Adds: 2}}, full(card.FactRoom.Of(card.At("system", "")), "1"), "stop no-room"},
		{"an add-on behind a ROM", &Sideload{File: &ident.File{Path: "a.zip", Kind: ident.Addon, Adds: 2}},
			func() *card.Card {
				c := full()
				c.Forget(card.FactRoom.Of(card.At("system", "")), "later")
				return c
			}(), "note no-room"},
		{"erase what is not there", &Erase{Partition: "cache"}, full(card.FactSize.Of(card.At("cache", "")),
			card.Nothing), "stop no-such-partition"},
		{"try where it can't be", &Try{File: godwit},
			full(card.FactModel, "godwit", card.FactCommand.Of("boot"), "no",
				card.FactDigest.Of(card.At("dtbo", "a")), "x"),
			"stop command-unknown-to-bootloader, note temporary-recovery"},
		{"try a package", &Try{File: rom("godwit", "boot")}, full(card.FactModel, "godwit",
			card.FactDigest.Of(card.At("dtbo", "a")), "x"), "stop not-a-recovery, note temporary-recovery"},
		{"unlock", &Unlock{}, full(card.FactMayUnlock, "yes", card.FactAccounts, "0"), ""},
		{"unlock, and nothing was kept", &Unlock{}, full(card.FactMayUnlock, "yes", card.FactAccounts, "0",
			card.FactBackedUp, ""), "note no-backup"},
		{"unlock over a package in the storage, with an account", &Unlock{},
			full(card.FactMayUnlock, "yes", card.FactAccounts, "1", card.FactLying.Of("storage"), "rom.zip"),
			"stop storage-holds-package, stop account-lock"},
		{"a package that was installed from there", &FormatData{}, full(card.FactAccounts, "0",
			card.FactLying.Of("storage"), "rom.zip", card.FactUsed.Of("storage"), "rom.zip"), ""},
		{"unlock, not allowed", &Unlock{}, full(card.FactMayUnlock, "no", card.FactAccounts, "0"),
			"stop unlock-not-allowed"},
		{"unlock, perhaps", &Unlock{}, full(card.FactAccounts, "0"), "warn unlock-not-allowed"},
		{"the other slot, firmware unknown", &Activate{Slot: "b"}, full(card.FactBootable.Of("b"), "yes"),
			"warn other-slot-firmware-differs"},
		{"the other slot, firmware alike", &Activate{Slot: "b"}, full(card.FactBootable.Of("b"), "yes",
			card.FactDigest.Of(card.At("radio", "a")), "x", card.FactDigest.Of(card.At("radio", "b")), "x"),
			""},
		{"the other slot, another firmware", &Activate{Slot: "b"}, full(card.FactBootable.Of("b"), "yes",
			card.FactDigest.Of(card.At("radio", "a")), "x", card.FactDigest.Of(card.At("radio", "b")), "y"),
			"stop other-slot-firmware-differs"},
		{"a restart out of a tried recovery", &Restart{To: card.Recovery}, full(card.FactTemporary, "yes"),
			"warn temporary-recovery"},
		{"no userspace fastboot", &Restart{To: card.Fastbootd}, full(card.FactUserspace, "no"),
			"stop command-unknown-to-bootloader"},
	} {
		if got := said(c.step.Check(c.card, set.Find("godwit"), set)); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
	pkg := rom("godwit", "system")
	for v, want := range map[string]string{
		"2.1":  "",
		"2.0":  "",
		"1.9":  "stop base-version",
		"2.10": "stop base-version",
		"":     "warn base-version",
	} {
		c := full(card.FactModel, "godwit", card.FactData, card.DataFormatted,
			card.FactDigest.Of(card.At("radio", "a")), "x", card.FactDigest.Of(card.At("radio", "b")), "x",
			card.FactBase, v)
		if got := said((&Sideload{File: pkg}).Check(c, set.Find("godwit"), set)); got != want {
			t.Errorf("base %q: %q, want %q", v, got, want)
		}
	}
}

// TestWipe: areas, their partitions and the slots that must be named.
func TestWipe(t *testing.T) {
	two := table("bootloader", 2, "system_a=9", "system_b=9", "userdata=9", "metadata=9")
	one := table("bootloader", 1, "system=9", "cache=9", "userdata=9")
	one.Learn(card.FactSize.Of(card.At("metadata", "")), card.Nothing, card.Read)
	for _, c := range []struct {
		area string
		c    *card.Card
		want string
	}{
		{"userdata", two, "userdata metadata"},
		{"userdata", one, "userdata"},
		{"caches", one, "cache"},
		{"caches", two, "stop recovery-only"},
		{"system", one, "system"},
		{"system", two, "error"},
		{"system@b", two, "system_b"},
		{"system@both", two, "system_a system_b"},
		{"part:system@other", two, "system_b"},
		{"part:misc", one, "misc"},
		{"storage", two, "stop recovery-only"},
		{"part:", two, "error"},
		{"everything", two, "error"},
	} {
		got := "error"
		if area, to, err := ParseArea(c.area); err == nil {
			if steps, rows, found, err := Wipe(area, to, c.c); err == nil {
				got = strings.Join(rows[0].Partitions, " ")
				if len(found) > 0 {
					got = said(found)
				} else if len(steps) == 0 {
					t.Errorf("%s: no steps", c.area)
				}
			}
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", c.area, got, c.want)
		}
	}
}

func FuzzManifest(f *testing.F) {
	f.Add("require product=a|b\nreject x=1\n", "version 1\nflash --slot-other system system_other.img\n")
	f.Fuzz(func(t *testing.T, info, order string) {
		var m Manifest
		m.ParseInfo(info)
		m.ParseOrder(order)
		m.Check("set", table("bootloader", 2), map[string]string{"x": "1"}, nil)
	})
}

func TestShortBuild(t *testing.T) {
	for s, want := range map[string]string{
		"saltmarsh/dunlin/dunlin:14/SM42.260512/1:user/release-keys": "saltmarsh SM42.260512 (release 14)",
		"Tideline Recovery 3.1": "Tideline Recovery 3.1", "a/b:c": "a/b:c", "x:1/2/3": "x:1/2/3", "": "",
	} {
		if got := place.ShortBuild(s); got != want {
			t.Errorf("%q: %q, want %q", s, got, want)
		}
	}
}

// TestPackages: the order, the restarts between, and series that are broken.
func TestPackages(t *testing.T) {
	pkg := func(name string, k ident.Kind) *ident.File { return &ident.File{Path: "/x/" + name, Kind: k} }
	for _, c := range []struct {
		names, want, found string
	}{
		{"rom.zip", "rom.zip >", ""},
		{"apps.zip rom.zip", "rom.zip > apps.zip", ""},
		{"rom.zip apps.zip sheet.zip", "rom.zip > apps.zip sheet.zip", ""},
		{"block.zip apps.zip", "block.zip apps.zip", ""},
		{"apps.zip", "apps.zip", ""},
		{"patch-1.zip patch-2.zip patch-10.zip", "patch-1.zip patch-2.zip patch-10.zip", ""},
		{"patch-2.zip patch-10.zip patch-9.zip", "patch-2.zip patch-10.zip patch-9.zip", "stop order-broken"},
		{"apps-14-b.zip apps-13-a.zip", "apps-14-b.zip apps-13-a.zip", ""}, // two things, not a series
		{"2_apps.zip 01-fix.zip", "2_apps.zip 01-fix.zip", "stop order-broken"},
		{"01-fix.zip 2_apps.zip 03-more.zip", "01-fix.zip 2_apps.zip 03-more.zip", ""},
		{"2026-apps.zip 12-fix.zip", "2026-apps.zip 12-fix.zip", ""}, // a year is none
		{"3in1.zip 2apps.zip", "3in1.zip 2apps.zip", ""},             // nor what is part of a word
	} {
		var files []*ident.File
		for name := range strings.FieldsSeq(c.names) {
			k := map[string]ident.Kind{"rom.zip": ident.OTAAB, "block.zip": ident.OTABlock}[name]
			if k == "" {
				k = ident.Addon
			}
			files = append(files, pkg(name, k))
		}
		ordered, why, found := Packages(files)
		var got []string
		for _, s := range Install(ordered, true) {
			switch s := s.(type) {
			case *Sideload:
				got = append(got, place.FileName(s.File.Path))
			case *Restart:
				got = append(got, ">")
			}
		}
		if strings.Join(got, " ") != c.want || said(found) != c.found || why == "" {
			t.Errorf("%s: %v, %q; unwanted: strings.Join(got, ' ') != c.want || said(found) != "+
				"c.found || ...", c.names, got, said(found))
		}
	}
}

// TestRecoveryOnce: what is there once is written once, on a phone with slots too.
func TestRecoveryOnce(t *testing.T) {
	f := file(ident.Recovery, 9, "recovery")
	c := table("bootloader", 2, "boot_a=9", "boot_b=9", "rescue=9")
	for into, want := range map[string]string{"rescue": "rescue", "boot": "boot_a boot_b",
		"boot@b": "boot_b"} {
		to, _ := place.ParseTarget(into)
		writes, _, err := RecoveryInstall(f, to, c, nil)
		var names []string
		for _, w := range writes {
			names = append(names, w.Name().String())
		}
		if got := strings.Join(names, " "); err != nil || got != want {
			t.Errorf("into %s: %s, %v", into, got, err)
		}
	}
}

// TestOverTheData: an image that is written where the owner's data or its keys are has the effect of a wipe,
// but that nobody knows what is there then.
func TestOverTheData(t *testing.T) {
	for _, partition := range []string{"userdata", "metadata"} {
		c := table("bootloader", 2, "userdata=9", "metadata=9")
		for f, v := range map[card.Which]string{
			card.FactData:                 card.DataEncrypted,
			card.FactStored.Of("storage"): "rom.zip",
			card.FactAccounts:             "2",
			card.FactDebugging:            "on",
			card.FactSnapshot:             "snapshotted",
		} {
			c.Learn(f, v, card.Journal)
		}
		w := &Write{File: file(ident.Ext4, 9), Partition: partition, Forced: true}
		found := map[string]bool{}
		for _, f := range w.Check(c, nil, nil) {
			found[f.Name] = true
		}
		for _, name := range []string{finding.StorageHolds, finding.AccountLock, finding.NoBackup,
			finding.FormatAfterInstall} {
			if !found[name] {
				t.Errorf("%s: %s is not said", partition, name)
			}
		}
		if lost, _ := w.Cost(); len(lost) < 3 {
			t.Errorf("%s costs %v", partition, lost)
		}
		Apply(w, c)
		for _, f := range []card.Which{card.FactData, card.FactStored.Of("storage"), card.FactAccounts,
			card.FactDebugging} {
			if c.Get(f).Known() {
				t.Errorf("%s: %v is still %+v", partition, f, c.Get(f))
			}
		}
	}
}

// TestPackageThatWipes: a package that says that it erases the data costs that, wants no format before it,
// and leaves nobody knowing what the data is.
func TestPackageThatWipes(t *testing.T) {
	for _, wipes := range []string{"", "its metadata"} {
		c := table("sideload", 1, "system=9", "userdata=9")
		c.Learn(card.FactData, card.DataEncrypted, card.Read)
		c.Learn(card.FactStored.Of("storage"), "other.zip", card.Journal)
		s := &Sideload{File: &ident.File{Path: "rom.zip", Size: 9, Kind: ident.OTABlock, Wipes: wipes,
			GoesTo: []ident.Destination{{Partition: "system"}}}}
		found := map[string]bool{}
		for _, f := range s.Check(c, nil, nil) {
			found[f.Name] = true
		}
		if found[finding.StorageHolds] != (wipes != "") || found[finding.EncryptedData] != (wipes == "") {
			t.Errorf("%q: %v; unwanted: found[finding.StorageHolds] != (wipes != '') || ...", wipes, found)
		}
		if lost, _ := s.Cost(); (len(lost) > 0) != (wipes != "") {
			t.Errorf("%q costs %v", wipes, lost)
		}
		Apply(s, c)
		if c.Get(card.FactData).Known() != (wipes == "") || place.Foreign(c, "") != (wipes == "") ||
			c.Get(card.FactStored.Of("storage")).Known() != (wipes == "") {
			t.Errorf("%q: data %+v, foreign %v", wipes, c.Get(card.FactData), place.Foreign(c, ""))
		}
	}
}

// TestElsewhere: where nobody can tell where a phone keeps its recovery, a person may name a place that
// nothing else is known to have, and no other.
func TestElsewhere(t *testing.T) {
	f := &ident.File{Path: "x.img", Size: 9, Kind: ident.Recovery,
		GoesTo: []ident.Destination{{Partition: "recovery", By: "content"}}}
	for into, stops := range map[string]bool{
		"recovery":      false,
		"RECOVERY":      false,
		"lifeboat":      false,
		"userdata":      true,
		"Cache":         true,
		"boot":          true,
		"misc":          true,
		"vbmeta_system": true,
		"super":         true,
	} {
		to, err := place.ParseTarget(into)
		if err != nil {
			t.Fatalf("place.ParseTarget(into): %v", err)
		}
		writes, _, err := RecoveryInstall(f, to, &card.Card{}, nil)
		if err != nil || len(writes) != 1 {
			t.Fatalf("RecoveryInstall(f, %v, ...): %s: %v, %v; unwanted: err != nil || len(writes) != 1", to,
				into, writes, err)
		}
		stopped := slices.ContainsFunc(writes[0].Check(&card.Card{}, nil, nil), func(x finding.Finding) bool {
			return x.Name == finding.WrongDestination
		})
		if stopped != stops {
			t.Errorf("into %s: stopped is %v", into, stopped)
		}
	}
}
