package fit

import (
	"bytes"
	"encoding/json"
	"errors"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"testing/fstest"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/cpio"
	"jarlid/internal/core/image/filesystem"
	"jarlid/internal/core/image/tree/treetest"
)

func readAll(b []byte) (*Image, error) {
	tree, err := filesystem.Open(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		return nil, err
	}
	return ReadImage("it", tree, int64(len(b)))
}

// TestReadImage: the same facts out of file systems of different features.
func TestReadImage(t *testing.T) {
	names, err := filepath.Glob("testdata/*.xz")
	if err != nil || len(names) != 6 {
		t.Fatalf("filepath.Glob('testdata/*.xz'): got %v, %v", names, err)
	}
	for _, name := range names {
		b := treetest.Unxz(t, name)
		im, err := readAll(b)
		if err != nil {
			t.Errorf("readAll(b): %s: %v; want no error", name, err)
			continue
		}
		want := map[string]any{"name": "it", "size": float64(len(b)), "system_as_root": true,
			"kernel_start": true, "ramdisk_start": true, "build": "Saltmarsh GSI 4.2", "release": "14",
			"security_patch": "2026-05-01",
			"api_level":      34.0,
			"abis":           []any{"arm64-v8a", "armeabi-v7a", "armeabi"},
			"vndk":           []any{"28", "29", "30", "34"},
			"policies":       []any{"28.0", "29.0", "202404"},
			"matrix_levels":  []any{5.0, 7.0},
			"skips":          []any{"/product", "/odm"}}
		var got map[string]any
		if text, err := json.Marshal(im.Facts()); err != nil || json.Unmarshal(text, &got) != nil ||
			!reflect.DeepEqual(got, want) {
			t.Errorf("json.Marshal(im.Facts()): %s: %v", name, got)
		}
		if im.Machine != 183 || !im.Link64 || !im.Link32 || len(im.Manifest.Provides) != 1 ||
			im.Manifest.NDKs[0].Version != "30" {
			t.Errorf("readAll(b): %s: %+v", name, im)
		}
		// Broken: a typed error, or the facts that can still be read; never a panic.
		for _, n := range []int{0, 1000, 2048, 5000, len(b) / 3} {
			if _, err := readAll(b[:n]); err == nil {
				t.Errorf("%s cut to %d bytes is read", name, n)
			}
		}
		bad := bytes.Clone(b)
		clear(bad[1024:2048])
		if _, err := readAll(bad); !errors.Is(err, filesystem.ErrNone) {
			t.Errorf("%s without a super block: %v", name, err)
		}
	}
}

// TestImportedProps: a system states its level in a file that its build.prop imports, as root and as
// a partition.
func TestImportedProps(t *testing.T) {
	for _, root := range []string{"system/", ""} {
		tree := fstest.MapFS{
			root + "build.prop": {Data: []byte("import /system/etc/levels.prop ro.build.version.*\n" +
				"import /vendor/build.prop\n")},
			root +
				"etc/levels.prop": {Data: []byte("ro.build.version.sdk=34\n" +
				"ro.build.version.release=14\nro.x=1\n")},
		}
		im, err := ReadImage("it", tree, 0)
		if err != nil || im.API != 34 || im.Release != "14" {
			t.Errorf("with build.prop in %q: %+v, %v; want level 34, release 14", root, im, err)
		}
	}
}

func TestReadImageBroken(t *testing.T) {
	for name, c := range map[string]struct {
		tree fstest.MapFS
		says string
	}{
		"no system":      {fstest.MapFS{"a": {}}, "no build.prop"},
		"a folder there": {fstest.MapFS{"system/build.prop/x": {}}, "no file"},
		"too large": {fstest.MapFS{"system/build.prop": {Data: make([]byte, filesystem.MaxSmall+1)}},
			"no file"},
		"a broken matrix": {fstest.MapFS{"system/build.prop": {},
			"system/etc/vintf/compatibility_matrix.5.xml": {Data: []byte("<compatibility-matrix")}},
			"compatibility_matrix.5.xml"},
		"a broken part": {fstest.MapFS{"system/build.prop": {}, "system/etc/vintf/manifest/x.xml": {
			Data: []byte("<html/>")}}, "manifest/x.xml"},
		"a hostile matrix": {fstest.MapFS{"system/build.prop": {},
			"system/etc/vintf/compatibility_matrix.5.xml": {Data: []byte(strings.Repeat("<a>", 9999))}},
			"nests deeper"},
	} {
		_, err := ReadImage("it", c.tree, 0)
		var bad *image.Error
		if !errors.As(err, &bad) || !strings.Contains(err.Error(), c.says) {
			t.Errorf("ReadImage('it', c.tree, 0): %s: %v; unwanted: !errors.As(err, &bad) || "+
				"!strings.Contains(err.Error(), c.says)", name, err)
		}
	}
}

func elf(class, machine byte) []byte {
	b := make([]byte, 64)
	copy(b, "\x7fELF")
	b[4], b[5], b[18] = class, 1, machine
	return b
}

// TestVendor: the facts of vendor partitions of several ages.
func TestVendor(t *testing.T) {
	text := func(s string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(s)} }
	for _, c := range []struct {
		name      string
		tree, odm fstest.MapFS
		want      map[card.Plain]string
	}{
		{"of Android 9", fstest.MapFS{
			"build.prop": text(
				"ro.vndk.version=28\nro.product.first_api_level=26\nro.vendor.product.cpu.abilist=arm64" +
					"-v8a\n"),
			"etc/selinux/plat_sepolicy_vers.txt": text("28.0\n"),
			"bin/hw/health":                      {Data: elf(2, 183)},
		},
			nil,
			map[card.Plain]string{
				card.FactVNDK:      "28",
				card.FactVendorAPI: "28",
				card.FactFirstAPI:  "26",
				card.FactVendor:    "yes",
				card.FactPolicy:    "28.0",
				card.FactOverlays:  "none",
				card.FactVendor64:  "64",
				card.FactCPUs:      "arm64-v8a",
			}},
		{"32-bit programs, an overlay, the old place of the manifest",
			fstest.MapFS{"build.prop": text("ro.vndk.version=27\n"), "bin/hw/health": {Data: elf(1, 40)},
				"overlay/B.apk": text(""), "overlay/A/A.apk": text(""), "overlay/readme.txt": text(""),
				"manifest.xml": text(
					`<manifest version="1.0" type="device" ` +
						`target-level="2"><sepolicy><version>27.0</version></sepolicy></manifest>`)},
			nil,
			map[card.Plain]string{
				card.FactVNDK:      "27",
				card.FactVendorAPI: "27",
				card.FactVendor:    "yes",
				card.FactPolicy:    "27.0",
				card.FactOverlays:  "A,B.apk",
				card.FactVendor64:  "32",
			}},
		{"without a VNDK, of 2024", fstest.MapFS{"build.prop": text("ro.board.api_level=202404\n"),
			"etc/selinux/plat_sepolicy_vers.txt": text("202404.0")}, nil,
			map[card.Plain]string{
				card.FactVNDK:      "none",
				card.FactVendorAPI: "202404",
				card.FactVendor:    "yes",
				card.FactPolicy:    "202404",
				card.FactOverlays:  "none",
			}},
		{"before Treble", fstest.MapFS{"build.prop": text("ro.product.vendor.device=x\n"),
			"bin/thermald": {Data: elf(1, 40)}}, nil,
			map[card.Plain]string{card.FactVendor: "no", card.FactOverlays: "none", card.FactVendor64: "32"}},
		{"odm within vendor, a manifest for a variant",
			fstest.MapFS{"build.prop": text("ro.vndk.version=30\n"), "etc/vintf/manifest_wide.xml": text(
				`<manifest version="2.0" type="device" target-level="5"/>`),
				"odm/etc/vintf/manifest.xml": text(
					`<manifest version="2.0" ` +
						`type="device"><sepolicy><version>30.0</version></sepolicy></manifest>`)},
			nil,
			map[card.Plain]string{
				card.FactVNDK:      "30",
				card.FactVendorAPI: "30",
				card.FactVendor:    "yes",
				card.FactPolicy:    "30.0",
				card.FactOverlays:  "none",
			}},
		{"properties imported from the vendor's and odm's files", fstest.MapFS{
			"build.prop": text("kind=wide\nimport /vendor/${kind}/more.prop\nimport /odm/etc/odm.prop\n" +
				"import /system/lost.prop\n"),
			"wide/more.prop": text("ro.vndk.version=29\nro.product.first_api_level=28\n")},
			fstest.MapFS{"etc/odm.prop": text("ro.vndk.version=30\n"),
				"etc/build.prop": text("ro.product.first_api_level=29\n")},
			map[card.Plain]string{
				card.FactVNDK:      "30",
				card.FactVendorAPI: "30",
				card.FactFirstAPI:  "29",
				card.FactVendor:    "yes",
				card.FactOverlays:  "none",
			}},
		{"odm within vendor, its properties imported", fstest.MapFS{
			"build.prop":         text("import /odm/etc/odm.prop\n"),
			"odm/etc/odm.prop":   text("ro.vndk.version=29\n"),
			"odm/etc/build.prop": text("ro.vndk.version=30\n")}, nil,
			map[card.Plain]string{
				card.FactVNDK:      "30",
				card.FactVendorAPI: "30",
				card.FactVendor:    "yes",
				card.FactOverlays:  "none",
			}},
		{"odm counts over vendor", fstest.MapFS{"build.prop": text("ro.vndk.version=30\n"),
			"etc/vintf/manifest.xml": text(`<manifest version="2.0" type="device" target-level="5"/>`)},
			fstest.MapFS{"etc/vintf/manifest.xml": text(
				`<manifest version="2.0" ` +
					`type="device"><sepolicy><version>30.0</version></sepolicy></manifest>`)},
			map[card.Plain]string{
				card.FactVNDK:      "30",
				card.FactVendorAPI: "30",
				card.FactVendor:    "yes",
				card.FactPolicy:    "30.0",
				card.FactOverlays:  "none",
			}},
	} {
		got := map[card.Plain]string{}
		var odm fstest.MapFS
		err := error(nil)
		learn := func(w card.Which, value string) { got[w.(card.Plain)] = value }
		if odm = c.odm; odm == nil {
			err = Vendor(c.tree, nil, learn)
		} else {
			err = Vendor(c.tree, odm, learn)
		}
		delete(got, card.FactManifest)
		if err != nil || !reflect.DeepEqual(got, c.want) {
			t.Errorf("error(): %s: %v, %v; unwanted: err != nil || !reflect.DeepEqual(got, c.want)",
				c.name, got, err)
		}
	}
}

func BenchmarkReadImage(b *testing.B) {
	img := treetest.Unxz(b, "testdata/usual.ext4.xz")
	for b.Loop() {
		if _, err := readAll(img); err != nil {
			b.Fatalf("readAll(img): %v", err)
		}
	}
}

// TestBoot: what boot images tell of the start, the kernel and the keys.
func TestBoot(t *testing.T) {
	kernel := append(bytes.Repeat([]byte{1}, 4096), "Linux version 4.14.190-x (a@b)\x00"...)
	ramdisk := func(names ...string) []byte {
		var b bytes.Buffer
		w := cpio.NewWriter(&b)
		for _, n := range names {
			if err := w.Add(cpio.Header{Name: n, Mode: cpio.TypeFile | 0o644}, []byte("of "+n)); err != nil {
				t.Fatalf("w.Add(..., []byte('of '+n)): %v", err)
			}
		}
		if err := w.Close(); err != nil {
			t.Fatalf("w.Close(): %v", err)
		}
		return b.Bytes()
	}
	const key = "47cb8fab4f069cc683d3fc81c925df53c42482c1d089816da70a8113583bca6a"
	for _, c := range []struct {
		name    string
		cmdline string
		rd      []byte
		generic bool
		stage   string
		keys    int
	}{
		{"a first stage", "", ramdisk("init", "fstab.x"), false, card.StageRamdisk, 0},
		{"a recovery and a first stage", "", ramdisk("init", "system/bin/recovery",
			"first_stage_ramdisk/fstab.x"), false, card.StageRamdisk, 0},
		{"a recovery alone", "", ramdisk("init", "system/bin/recovery"), false, "", 0},
		{"a whole root", "", ramdisk("init", "init.rc", "sepolicy"), false, card.StagePlain, 0},
		{"the kernel passes over it", "console=x skip_initramfs root=/dev/x",
			ramdisk("init", "system/bin/recovery"), false, card.StageKernel, 0},
		{"init_boot has it", "", nil, true, card.StageRamdisk, 0},
		{"nothing", "", nil, false, "", 0},
		{"keys for generic images", "", ramdisk("init", "avb/one.avbpubkey", "avb/two.avbpubkey",
			"avb/readme"), false, card.StageRamdisk, 2},
	} {
		img, err := boot.Build(boot.Image{HeaderVersion: 2, PageSize: 4096, Cmdline: c.cmdline,
			OSVersion: boot.PackOS(10, 0, 0, 2021, 3)}, boot.Parts{Kernel: kernel, Ramdisk: c.rd})
		if err != nil {
			t.Fatalf("boot.Build(...): %v", err)
		}
		got := map[card.Plain]string{}
		if err := Boot(bytes.NewReader(img), int64(len(img)), c.generic, func(w card.Which, value string) {
			got[w.(card.Plain)] = value
		}); err != nil {
			t.Errorf("Boot(bytes.NewReader(img), int64(len(img)), c.generic, ...): %s: %v; want no error",
				c.name, err)
		}
		keys := got[card.FactStageKeys]
		if got[card.FactFirstStage] != c.stage || got[card.FactKernel] != "4.14.190-x" ||
			got[card.FactBound] != "2021-03" || c.keys > 0 && len(strings.Split(keys, ",")) != c.keys ||
			c.keys == 0 && keys != "" && keys != "none" {
			t.Errorf("boot.Build(..., ...): %s: %v", c.name, got)
		}
		// SHA-256 of "of avb/one.avbpubkey", by sha256sum.
		if c.keys > 0 && !strings.Contains(keys, key) {
			t.Errorf("the keys are %s", keys)
		}
	}
}
