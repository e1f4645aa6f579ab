package e2e

import (
	"bytes"
	"io"
	"os"
	"testing"

	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/cpio"
	"jarlid/internal/standin/scenario"
)

// parts gives the named sections of a boot image as they are in it.
func parts(t *testing.T, img []byte) map[string][]byte {
	t.Helper()
	m := must(boot.Parse(bytes.NewReader(img), int64(len(img))))
	out := map[string][]byte{}
	for _, s := range m.Sections {
		out[s.Name] = img[s.Offset : s.Offset+s.Size]
	}
	return out
}

// TestGraft sets a recovery where it lives among other things: each slot keeps its own
// kernel, and starts the recovery and the system.
func TestGraft(t *testing.T) {
	t.Parallel()
	t.Run("godwit", func(t *testing.T) {
		inLab(t, func(t *testing.T, l *lab) {
			kit := kitOf(t, "godwit", 2)
			l.standin("godwit")
			stock := l.stored("godwit", "boot_a")
			l.want(0, nil, "flash", kit.more.Overlay, "--into", "@both", "--yes")
			// All in one from the bootloader: started, read, rebuilt, written, read back.
			var set struct {
				Home   struct{ Partition, Form string }
				Writes []struct{ Partition, Slot, Confirmed string }
			}
			l.result(0, &set, "recovery", "install", kit.recovery, "--yes")
			if len(set.Writes) != 1 || set.Writes[0].Slot != "a" || set.Writes[0].Confirmed != "read-back" ||
				set.Home.Form != "ramdisk" {
				t.Errorf("%+v; unwanted: len(set.Writes) != 1 || set.Writes[0].Slot != 'a' || ...", set)
			}
			l.want(0, []string{"boot_a held", "boot_a written, read back, it matches"}, "recovery", "install",
				"--previous", "--yes")
			// One whose ramdisk lacks what the phone's own has for a normal start is started, found
			// out when the two are compared, and not written.
			var rd bytes.Buffer
			w := cpio.NewWriter(&rd)
			for _, f := range [][2]string{
				{"init", "#!init"},
				{"prop.default", "ro.product.device=godwit\nro.build.display.id=Tideline Recovery " +
					"3.1\nro.debuggable=1\n"},
				{scenario.TraitsFile, scenario.Tideline.Traits},
				{"system/bin/recovery", "x"},
				{"first_stage_ramdisk/other", "x"},
			} {
				if err := w.Add(cpio.Header{Name: f[0], Mode: cpio.TypeFile | 0o755},
					[]byte(f[1])); err != nil {
					t.Fatalf("w.Add(..., []byte(f[1])): %v", err)
				}
			}
			w.Close()
			bare := must(boot.Build(boot.Image{HeaderVersion: 2, PageSize: 4096},
				boot.Parts{Kernel: parts(t, must(os.ReadFile(kit.recovery)))["kernel"], Ramdisk: rd.Bytes(),
					DTB: []byte("tree")}))
			l.want(0, nil, "go", "bootloader", "--yes")
			l.want(7, []string{"stop  normal-start-at-risk", "fstab.wickerlight"}, "recovery", "install",
				l.file("bare.img", bare), "--yes")
			if !bytes.Equal(l.stored("godwit", "boot_a"), stock) {
				t.Error("it was written all the same")
			}
			if !bytes.Equal(l.stored("godwit", "boot_a"), stock) {
				t.Error("boot_a is not what it was before")
			}
			l.want(0, []string{"boot_a: the recovery's ramdisk is in it, everything else is as it was",
				"boot_b is empty and left alone", "boot_a written, read back"}, "recovery", "install",
				kit.recovery, "--yes")
			want, got := parts(t, stock), parts(t, l.stored("godwit", "boot_a"))
			ramdisk := parts(t, must(os.ReadFile(kit.recovery)))["ramdisk"]
			for name, b := range want {
				if name == "ramdisk" {
					b = ramdisk
				}
				if !bytes.Equal(got[name], b) {
					t.Errorf("%s is not as meant", name)
				}
			}
			l.want(0, []string{"Tideline Recovery 3.1 is running"}, "go", "recovery", "--yes")
			l.did("godwit", "", []string{"Wickerlight Stock 9.1"}, "go", "system", "--yes", "--wait", "30s")
			// A recovery that lacks what the system starts with is named for it.
			l.want(0, nil, "go", "recovery", "--yes")
			own := l.file("own.img",
				must(scenario.Recovery(scenario.Tideline,
					scenario.Phone{Device: "godwit", ABI: "arm64-v8a"})))
			l.want(3, []string{"stop  normal-start-at-risk", "first_stage_ramdisk"}, "recovery", "install",
				own, "--yes")
			l.want(3, []string{"stop  wrong-destination: --boot names the image whose ramdisk"}, "recovery",
				"install", kit.recovery, "--boot", kit.more.Boot, "--into", "dtbo")
			// What was there before is put back.
			l.want(0, []string{"boot_a held", "boot_a written"}, "recovery", "install", "--previous", "--yes")
			if !bytes.Equal(l.stored("godwit", "boot_a"), stock) {
				t.Error("boot_a is not what it was")
			}
			l.want(2, []string{"its file, or --previous"}, "recovery", "install")
			// Into an image that was given, from the bootloader.
			l.want(0, nil, "go", "bootloader")
			// without a shell: written whole
			quiet := must(scenario.Recovery(scenario.SaltmarshRecovery, kit.phone))
			l.want(0, []string{"taken on the phone's word"}, "recovery", "install",
				l.file("quiet.img", quiet), "--yes")
			if !bytes.HasPrefix(l.stored("godwit", "boot_b"), quiet) {
				t.Error("boot_b does not hold the file")
			}
			l.want(0, []string{"boot_a and boot_b written"}, "recovery", "install", kit.recovery, "--boot",
				kit.more.Boot, "--yes")
			l.want(0, []string{"boot_a and boot_b written"}, "recovery", "install", kit.recovery, "--boot",
				kit.more.Set, "--yes")
			if !bytes.Equal(parts(t, l.stored("godwit", "boot_b"))["kernel"], want["kernel"]) {
				t.Error("the kernel is not that of the image that was given")
			}
		})
	})
	t.Run("avocet", func(t *testing.T) {
		inLab(t, func(t *testing.T, l *lab) {
			kit := kitOf(t, "avocet", 2)
			l.standin("avocet")
			before := l.stored("avocet", "vendor_boot_a")
			l.want(0, nil, "go", "fastbootd")
			// The ramdisk alone, into the phone's own vendor_boot, which userspace fastboot gives out.
			img := must(os.ReadFile(kit.recovery))
			v := must(boot.ParseVendor(bytes.NewReader(img), int64(len(img))))
			rd := img[v.Recovery().Offset : v.Recovery().Offset+v.Recovery().Size]
			l.want(0, []string{"vendor_boot_a: the recovery's ramdisk is in it", "vendor_boot_a written"},
				"recovery", "install", l.file("ramdisk.img", rd), "--yes")
			after := l.stored("avocet", "vendor_boot_a")
			fragment := func(img []byte, typ uint32) []byte {
				m := must(boot.ParseVendor(bytes.NewReader(img), int64(len(img))))
				for _, f := range m.Fragments {
					if f.Type == typ {
						return must(io.ReadAll(io.NewSectionReader(bytes.NewReader(img), f.Offset, f.Size)))
					}
				}
				return nil
			}
			unpacked := func(b []byte) *boot.Ramdisk { return must(boot.ReadRamdisk(bytes.NewReader(b))) }
			if !bytes.Equal(fragment(before, boot.FragmentPlatform), fragment(after, boot.FragmentPlatform)) {
				t.Error("the maker's ramdisk is another")
			}
			if got, want := unpacked(fragment(after, boot.FragmentRecovery)),
				unpacked(rd); got.Files != want.Files ||
				got.Props["ro.build.display.id"] != want.Props["ro.build.display.id"] ||
				got.Compression != want.Compression {
				t.Errorf("%+v; unwanted: got.Files != want.Files || got.Props['ro.build.display.id'] != ...",
					got)
			}
			l.want(0, []string{"Tideline Recovery 3.1 is running"}, "go", "recovery", "--yes")
		})
	})
}

// TestRecoverySetEverywhere: on every kind of phone the recovery that is set runs, and
// does so again after a ROM that brought another one.
func TestRecoverySetEverywhere(t *testing.T) {
	t.Parallel()
	for _, k := range kinds {
		t.Run(k.name, func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				kit := kitOf(t, k.name, k.slots)
				l.standin(k.name)
				set := func(slots string) {
					if k.name == "godwit" { // the pre-image, which a ROM replaces too
						l.want(0, nil, "flash", kit.more.Overlay, "--into", slots, "--yes")
					}
					l.did(k.name, "", []string{"written, "}, "recovery", "install", kit.recovery, "--yes")
					l.did(k.name, "", []string{"Tideline Recovery 3.1 is running"}, "go", "recovery", "--yes")
				}
				set("@both")
				// From the running recovery, through its shell: no restart, and read back.
				l.want(0, []string{"read back, it matches"}, "recovery", "install", kit.recovery, "--yes")
				l.want(0, nil, "wipe", "userdata", "--yes")
				pkg := kit.more.Package
				if k.slots == 1 {
					l.did(k.name, "", nil, "sideload", pkg, "--yes")
				} else {
					l.did(k.name, "", nil, "sideload", pkg, "--then", "stay", "--yes")
				}
				l.did(k.name, "", nil, "go", "bootloader", "--yes")
				set("@both")
				l.did(k.name, "", []string{"Saltmarsh OS 4.2"}, "go", "system", "--yes", "--wait", "60s")
			})
		})
	}
}
