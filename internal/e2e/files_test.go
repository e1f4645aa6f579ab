package e2e

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/andybalholm/brotli"

	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/cpio"
	"jarlid/internal/core/image/payload"
	"jarlid/internal/core/image/sparse"
	"jarlid/internal/core/image/super"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/e2e/witness"
	"jarlid/internal/standin/scenario"
)

type identResult struct {
	Files []struct {
		Kind     string
		Wrapped  []string
		Unwapped int64 `json:"unwrapped_size"`
		Details  map[string]any
		GoesTo   []struct{ Partition, By string } `json:"goes_to"`
		Short    bool                             `json:"cut_short"`
	}
}

// tool runs a general tool with the test's folder as its own, and skips the
// test where the machine does not have it.
func (l *lab) tool(name string, args ...string) (said string) {
	l.Helper()
	cmd := exec.Command(witness.Tool(l, name), args...)
	cmd.Dir = l.dir
	out, err := cmd.CombinedOutput()
	if err != nil {
		l.Fatalf("cmd.CombinedOutput(): %s %v: %v; want no error\n%s", name, args, err, out)
	}
	return string(out)
}

func zipOf(members ...string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i < len(members); i += 2 {
		w := must(z.Create(members[i]))
		must(w.Write([]byte(members[i+1])))
	}
	if err := z.Close(); err != nil {
		panic(err)
	}
	return b.Bytes()
}

func tarOf(members ...string) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for i := 0; i < len(members); i += 2 {
		if err := w.WriteHeader(&tar.Header{Name: members[i], Size: int64(len(members[i+1])),
			Mode: 0o644}); err != nil {
			panic(err)
		}
		must(w.Write([]byte(members[i+1])))
	}
	if err := w.Close(); err != nil {
		panic(err)
	}
	return b.Bytes()
}

func ramdiskOf(members ...string) []byte {
	var b bytes.Buffer
	w := cpio.NewWriter(&b)
	for i := 0; i < len(members); i += 2 {
		if err := w.Add(cpio.Header{Name: members[i], Mode: cpio.TypeFile | 0o644},
			[]byte(members[i+1])); err != nil {
			panic(err)
		}
	}
	if err := w.Close(); err != nil {
		panic(err)
	}
	return b.Bytes()
}

// superOf is a super image of 16 MiB that holds one partition.
func superOf(name string, body []byte) []byte {
	const at = 1 << 20
	head := must(super.Build(&super.Metadata{Major: 10, SlotCount: 2, MetadataMaxSize: 65536,
		Groups:  []super.Group{{Name: "main"}},
		Devices: []super.Device{{Name: "super", Size: 16 << 20, First: at}},
		Partitions: []super.Partition{
			{Name: name, Group: "main", Extents: []super.Extent{{Size: int64(len(body)), Offset: at}}}}}))
	img := make([]byte, 16<<20)
	copy(img, head)
	copy(img[at:], body)
	return img
}

// footed is an image with a hash descriptor and a footer, as a build makes
// them.
func footed(body []byte, partition string) []byte {
	d := vbmeta.Descriptor{Tag: vbmeta.TagHash, PartitionName: partition, ImageSize: uint64(len(body)),
		HashAlgorithm: "sha256", Salt: []byte{1, 2}}
	sum := sha256.Sum256(append([]byte{1, 2}, body...))
	d.Digest = sum[:]
	m := must(vbmeta.Build(&vbmeta.Image{Descriptors: []vbmeta.Descriptor{d}}, nil))
	return must(vbmeta.AddFooter(body, m, int64(len(body))+64<<10))
}

// TestIdent tells every kind by its content.
func TestIdent(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		vendor := must(scenario.Images(scenario.Saltmarsh, dunlin))["vendor"]
		rec := must(os.ReadFile(files.Recovery))
		plainBoot := must(scenario.Boot(scenario.Saltmarsh, dunlin))
		vendorBoot := must(boot.BuildVendor(boot.Vendor{HeaderVersion: 4, Cmdline: "x=1"},
			[]boot.FragmentParts{{Type: boot.FragmentPlatform, Data: []byte("p")},
				{Type: boot.FragmentRecovery, Name: "recovery", Data: []byte("r")}}, []byte("dtb"),
			[]byte("k=v\n")))
		initBoot := must(boot.Build(boot.Image{HeaderVersion: 4},
			boot.Parts{Ramdisk: ramdiskOf("init", "x")}))
		var body bytes.Buffer
		if err := payload.Write(&body, 1, []payload.Source{{Name: "boot", Data: plainBoot}}); err != nil {
			t.Fatalf("payload.Write(&body, 1, ...): %v", err)
		}
		dtbo := make([]byte, 64)
		copy(dtbo, "\xd7\xb7\xab\x1e\x00\x00\x00\x40\x00\x00\x00\x20\x00\x00\x00\x20\x00\x00\x00\x01")
		for _, c := range []struct {
			name    string
			body    []byte
			kind    string
			wrapped string
			goes    string // partition/source of the first destination
		}{
			{"twin_v2_final.img", rec, "recovery", "", "recovery/content"},
			{"recovery.img", plainBoot, "boot", "", "boot/content"},
			{"a", footed(plainBoot, "boot"), "boot", "", "boot/avb-footer"},
			{"v", vendorBoot, "vendor-boot", "", "vendor_boot/content"},
			{"i", initBoot, "init-boot", "", "init_boot/content"},
			{"d", dtbo, "dtbo", "", "dtbo/content"},
			{"t", []byte("\xd0\x0d\xfe\xed and more"), "dtb", "", "dtb/content"},
			{"vbmeta_system.img", must(scenario.Images(scenario.Stock, dunlin))["vbmeta"], "vbmeta", "",
				"vbmeta_system/content"},
			{"e", vendor, "ext4", "", "vendor/content"},
			{"f", footed(vendor, "odm"), "ext4", "", "odm/avb-footer"},
			{"s", superOf("vendor_a", vendor), "super", "", "super/content"},
			{"p", body.Bytes(), "payload", "", "boot/content"},
			{"o", must(os.ReadFile(files.Package)), "ota-ab", "", "boot/content"},
			{"b", zipOf("META-INF/com/google/android/updater-script", "x", "system.transfer.list",
				"1\n1\nnew 2,0,1\n", "system.new.dat", "d"), "ota-block", "", "system/content"},
			{"n", zipOf("META-INF/com/google/android/update-binary", "#!x", "system/lib/arm64-v8a/x.so", "x"),
				"addon", "", ""},
			{"k", zipOf("AndroidManifest.xml", "x", "lib/armeabi-v7a/libx.so", "x"), "app", "", ""},
			{"m", zipOf("boot.img", string(plainBoot)), "images", "zip", "boot/content"},
			{"w", zipOf("boot.img", string(plainBoot), "abl.img", "x", "vbmeta.img",
				string(must(scenario.Images(scenario.Stock, dunlin))["vbmeta"]), "system.img", "x"),
				"firmware-set", "zip", ""},
			{"r", tarOf("recovery.img", string(rec)), "images", "tar", "recovery/content"},
			{"z", zipOf("readme", "nothing here"), "archive", "zip", ""},
			{"SHA256SUMS", []byte(strings.Repeat("ab", 32) + "  x.img\n"), "sums", "", ""},
			{"h.img", []byte("<!DOCTYPE html><html>please wait</html>"), "text", "", ""},
			{"modem.img", []byte("\x00\x01\x02\x03 raw firmware"), "unknown", "", "modem/name"},
		} {
			var r identResult
			code := 0
			if c.kind == "app" { // its manifest is none
				code = 6
			}
			l.result(code, &r, "ident", l.file(c.name, c.body))
			f := r.Files[0]
			goes := ""
			if len(f.GoesTo) > 0 {
				goes = f.GoesTo[0].Partition + "/" + f.GoesTo[0].By
			}
			if f.Kind != c.kind || strings.Join(f.Wrapped, " ") != c.wrapped || goes != c.goes || f.Short {
				t.Errorf("%s: kind %s wrapped %v goes to %s cut short %v, want %s %s %s", c.name, f.Kind,
					f.Wrapped, goes, f.Short, c.kind, c.wrapped, c.goes)
			}
		}
		l.want(0, []string{"it is a web page, not an image"}, "ident", filepath.Join(l.dir, "h.img"))
		l.want(0, []string{"risky to write", "abl.img", "looks as if these were missing: vendor"}, "ident",
			filepath.Join(l.dir, "w"))
		l.want(0, []string{"ramdisk fragment: recovery"}, "ident", filepath.Join(l.dir, "v"))
		patched := footed(plainBoot, "boot")
		patched[70] ^= 1 // within its command line
		if out := l.want(0, []string{"warn  altered-file: patched.img is a boot image", "goes to boot"},
			"ident",
			l.file("patched.img", patched)); strings.Contains(out, "good") {
			t.Errorf("an altered file is called good:\n%s", out)
		}
		var gz bytes.Buffer
		z := gzip.NewWriter(&gz)
		must(z.Write(vendor[:64<<10]))
		z.Close()
		for _, deep := range []string{"--deep=false", "--deep"} { // small enough to be read whole either way
			l.want(6, []string{"stop  damaged-file", "ends within it"}, "ident", deep,
				l.file("half.gz", gz.Bytes()[:gz.Len()/2]))
		}
		l.want(0, []string{"I don't know this file"}, "ident", l.file("short", []byte{0}))
		l.want(6, []string{"stop  damaged-file: empty, 0 bytes: the file is empty"}, "ident", l.file("empty",
			nil))
	})
}

// TestTextInto: a file that looks like a text is written where a person names the partition and accepts that,
// and nowhere otherwise; a web page never is.
func TestTextInto(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		text := l.file("cal.img", []byte("gain=7\noffset=3\n"))
		page := l.file("page.img", []byte("<!DOCTYPE html><html><body>Choose a mirror</body></html>\n"))
		accept := []string{"--accept", "wrong-destination=cal.img", "--yes"}
		l.want(3, []string{"stop  wrong-destination", "cal.img is a text"}, "flash", text)
		l.want(3, []string{"stop  wrong-destination"}, append([]string{"flash", text}, accept...)...)
		l.want(3, []string{"stop  wrong-destination", "cal.img is a text"}, "flash", text, "--into", "misc",
			"--yes")
		l.want(3, []string{"is a web page"}, "flash", page, "--into", "misc", "--yes", "--accept",
			"wrong-destination=page.img")
		l.want(0, []string{"misc written"}, append([]string{"flash", text, "--into", "misc"}, accept...)...)
	})
}

// TestWrapped wraps an image with the general tools, also twice, and looks
// through; deep tells what only the whole tells; lift takes the image out.
func TestWrapped(t *testing.T) {
	t.Parallel()
	vendor := must(scenario.Images(scenario.Saltmarsh, dunlin))["vendor"]
	for name, c := range map[string]struct {
		wrapped string
		out     string
		tools   [][]string
	}{
		"gz":  {"gz", "vendor.img.gz", [][]string{{"gzip", "-k", "vendor.img"}}},
		"xz":  {"xz", "vendor.img.xz", [][]string{{"xz", "-k", "vendor.img"}}},
		"bz2": {"bz2", "vendor.img.bz2", [][]string{{"bzip2", "-k", "vendor.img"}}},
		"zst": {"zst", "vendor.img.zst", [][]string{{"zstd", "-q", "-19", "vendor.img"}}},
		"lz4": {"lz4", "vendor.img.lz4", [][]string{{"lz4", "-q", "vendor.img", "vendor.img.lz4"}}},
		"lz4-legacy": {"lz4-legacy", "vendor.img.lz4",
			[][]string{{"lz4", "-q", "-l", "vendor.img", "vendor.img.lz4"}}},
		"7z": {"7z", "vendor.7z", [][]string{{"7zz", "a", "-bso0", "vendor.7z", "vendor.img"}}},
		"tar in xz": {"xz tar", "v.tar.xz", [][]string{{"tar", "cf", "v.tar", "vendor.img"},
			{"xz", "v.tar"}}},
		"xz in 7z": {"7z xz", "vendor.7z", [][]string{{"xz", "-k", "vendor.img"},
			{"7zz", "a", "-bso0", "vendor.7z", "vendor.img.xz"}}},
	} {
		t.Run(name, func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				l.file("vendor.img", vendor)
				for _, tool := range c.tools {
					l.tool(tool[0], tool[1:]...)
				}
				path := filepath.Join(l.dir, c.out)
				var r identResult
				deep := "--deep=false"
				if name == "tar in xz" { // its head alone does not tell what else is in it
					deep = "--deep"
				}
				l.result(0, &r, "ident", deep, path)
				if f := r.Files[0]; strings.Join(f.Wrapped, " ") != c.wrapped || len(f.GoesTo) == 0 ||
					f.GoesTo[0].Partition != "vendor" {
					t.Errorf("%+v; unwanted: strings.Join(f.Wrapped, ' ') != c.wrapped || len(f.GoesTo) "+
						"== 0 ...", f)
				}
				if !strings.Contains(c.wrapped, " ") && name != "7z" {
					l.result(0, &r, "ident", "--deep", path)
					if f := r.Files[0]; f.Unwapped != int64(len(vendor)) || f.Details["device"] != "dunlin" {
						t.Errorf("deep: %+v", f)
					}
				}
				out := filepath.Join(l.dir, "out")
				l.want(0, nil, "lift", path, "-o", out)
				if name == "xz in 7z" { // another wrapping
					next, _ := filepath.Glob(filepath.Join(out, "*"))
					l.want(0, nil, "lift", next[0], "-o", out)
				}
				if got := must(os.ReadFile(filepath.Join(out, "vendor.img"))); !bytes.Equal(got, vendor) {
					t.Error("what was taken out differs")
				}
				// A stream cut short leaves nothing behind.
				b := must(os.ReadFile(path))
				l.want(1, []string{"fail  "}, "lift", l.file("cut-"+c.out, b[:len(b)*2/3]), "-o",
					filepath.Join(l.dir, "cut"))
				if name != "lz4-legacy" { // which has no checksum: nor does one with eight other bytes in it
					l.want(1, []string{"fail  "}, "lift", l.file("cut-"+c.out, garbled(b, len(b)/2)), "-o",
						filepath.Join(l.dir, "cut"))
				}
				if left, _ := filepath.Glob(filepath.Join(l.dir, "cut", "*")); len(left) > 0 {
					t.Errorf("a failed lift left %v", left)
				}
			})
		})
	}
}

// TestLift takes things out of images of every form and compares them with
// what was put in.
func TestLift(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		vendor := must(scenario.Images(scenario.Saltmarsh, dunlin))["vendor"]
		out := filepath.Join(l.dir, "out")
		same := func(name string, want []byte) {
			t.Helper()
			got, err := os.ReadFile(filepath.Join(out, name))
			if err != nil || !bytes.Equal(got, want) {
				t.Errorf("%s has %d bytes, want %d, or they differ: %v", name, len(got), len(want), err)
			}
		}
		var r struct {
			Items []struct {
				Name, SHA256 string
				Size         int64
			}
		}
		l.result(0, &r, "lift", files.Package, "boot", "vendor.img", "-o", out, "--sums")
		same("vendor.img", vendor)
		if sum := sha256.Sum256(vendor); len(r.Items) != 2 ||
			r.Items[1].SHA256 != hex.EncodeToString(sum[:]) {
			t.Errorf("%+v; unwanted: len(r.Items) != 2 || r.Items[1].SHA256 != ...", r)
		}
		l.want(0, []string{"matches SHA256SUMS"}, "proof", filepath.Join(out, "boot.img"), "--against",
			filepath.Join(out, "SHA256SUMS"))
		l.want(1, []string{`there is no "radio" in it`}, "lift", files.Package, "radio", "-o", out)

		img := superOf("vendor_a", vendor)
		path := l.file("super.img", img)
		l.want(0, nil, "lift", path, "-o", out)
		same("vendor_a.img", vendor)
		// Sparse and raw again, zeros as content; 7-Zip reads ours the same.
		l.want(0, nil, "lift", path, "-o", out, "--sparse")
		sp := filepath.Join(out, "vendor_a.img")
		l.want(0, nil, "lift", sp, "-o", out)
		same("vendor_a.raw.img", vendor)
		if seven, ok := witness.Has(t, "7zz"); ok {
			if err := exec.Command(seven, "x", "-y", "-tsparse", "-o"+filepath.Join(l.dir, "seven"),
				sp).Run(); err == nil {
				got, _ := filepath.Glob(filepath.Join(l.dir, "seven", "*"))
				if b := must(os.ReadFile(got[0])); !bytes.Equal(b, vendor) {
					t.Error("7-Zip reads our sparse image differently")
				}
			}
		}
		bad := bytes.Clone(img)
		bad[4096+20] ^= 1
		bad[12288+20] ^= 1
		l.want(0, []string{"the primary metadata is damaged; the backup was read"}, "lift",
			l.file("bad.img", bad), "-o", out)

		var br bytes.Buffer
		w := brotli.NewWriter(&br)
		w.Write(vendor[:8192])
		w.Close()
		blocks := zipOf("system.transfer.list", "4\n2\n0\n0\nerase 2,0,4\nnew 4,0,1,3,4\n",
			"system.new.dat.br", br.String())
		l.want(0, nil, "lift", l.file("block.zip", blocks), "-o", out)
		same("system.img", append(append(bytes.Clone(vendor[:4096]), make([]byte, 8192)...),
			vendor[4096:8192]...))
		inc := zipOf("system.transfer.list", "4\n2\n0\n0\nmove ab 2,0,1 1 2,1,2\n", "system.new.dat", "x")
		l.want(1, []string{"incremental"}, "lift", l.file("inc.zip", inc), "-o", out)

		l.want(0, nil, "lift", files.Recovery, "kernel", "ramdisk", "ramdisk.files/system/etc/recovery.fstab",
			"-o", out)
		witness.Tool(t, "cpio")
		l.tool("sh", "-c", "mkdir rd && cd rd && gzip -dc ../out/ramdisk | cpio -idm --quiet && cmp "+
			"system/etc/recovery.fstab ../out/ramdisk.files/system/etc/recovery.fstab")
		l.want(0, nil, "lift", filepath.Join(l.dir, "out", "vendor.img"), "build.prop", "-o", out)
		l.want(1, []string{"name the files"}, "lift", filepath.Join(l.dir, "out", "vendor.img"), "-o", out)
	})
}

// TestPieces puts an image together that was cut into sparse pieces by hand:
// each holds one block and leaves the others alone.
func TestPieces(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		for i := range 3 {
			l.file(fmt.Sprintf("system.img_sparsechunk.%d", i), piece(i, 3))
		}
		out := filepath.Join(l.dir, "out")
		l.want(0, []string{"it lies in 3 pieces, which are put together"}, "lift",
			filepath.Join(l.dir, "system.img_sparsechunk.0"), "-o", out)
		want := strings.Repeat("A", 4096) + strings.Repeat("B", 4096) + strings.Repeat("C", 4096)
		got, _ := filepath.Glob(filepath.Join(out, "*"))
		if len(got) != 1 || string(must(os.ReadFile(got[0]))) != want {
			t.Errorf("%v is not the image", got)
		}
		last := filepath.Join(l.dir, "last") // whichever piece is named, it is the whole
		l.want(0, nil, "lift", filepath.Join(l.dir, "system.img_sparsechunk.2"), "-o", last)
		if b := must(os.ReadFile(filepath.Join(last, "system.raw.img"))); string(b) != want {
			t.Error("by its last piece it differs")
		}
	})
}

// TestIdentOn says where files would go on the phone that is here.
func TestIdentOn(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		l.want(0, []string{"good  on dunlin it goes to recovery_a, recovery_b: each holds 32.0 MiB"}, "ident",
			files.Recovery, "--on", "dunlin")
		l.want(0, []string{"stop  on dunlin it goes to vendor_boot_a: this phone has no such partition"},
			"ident", "--on", "dunlin",
			l.file("v", must(boot.BuildVendor(boot.Vendor{HeaderVersion: 3},
				[]boot.FragmentParts{{Data: []byte("p")}}, nil, nil))))
	})
}

// TestHostile: nothing is written outside the folder, bombs stop, and what is
// damaged is said in a sentence.
func TestHostile(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		out := filepath.Join(l.dir, "a", "out")
		bootWith := must(boot.Build(boot.Image{HeaderVersion: 2, PageSize: 2048},
			boot.Parts{Kernel: []byte("k"), Ramdisk: ramdiskOf("../../evil", "x")}))
		for name, c := range map[string]struct {
			body []byte
			text string
		}{
			"up.zip":       {zipOf("../evil.img", "x"), "outside the folder"},
			"absolute.zip": {zipOf("/tmp/evil.img", "x"), "outside the folder"},
			"windows.zip":  {zipOf(`..\evil.img`, "x"), "outside the folder"},
			"up.tar":       {tarOf("a/../../evil.img", "x"), "outside the folder"},
			"boot.img":     {bootWith, "outside the folder"},
			"nothing":      {nil, "fail  "},
			"text.img":     {[]byte("<html>no</html>"), "fail  "},
		} {
			l.want(1, []string{c.text}, "lift", l.file(name, c.body), "-o", out)
		}
		l.file("zeros", make([]byte, 64<<20))
		l.tool("xz", "zeros")
		l.want(1, []string{"larger than the limit of 1048576 bytes", "--max-size raises it"}, "lift",
			filepath.Join(l.dir, "zeros.xz"), "-o", out, "--max-size", "1MiB")
		filepath.WalkDir(l.dir, func(p string, d os.DirEntry, err error) error {
			if strings.HasPrefix(d.Name(), "evil") || strings.Contains(d.Name(), "jarlid-part") {
				t.Errorf("%s was written", p)
			}
			return nil
		})
		if _, err := os.Stat("/tmp/evil.img"); err == nil {
			t.Error("an absolute path was written")
		}
	})
}

// TestNamesThatCollide: of files whose names some computer takes for one, or can't hold, none is
// lost, and each is said.
func TestNamesThatCollide(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		var packed bytes.Buffer
		z := zip.NewWriter(&packed)
		names := []string{"boot.img", "boot.img", "Boot.img", "aux.img", "What?.img", "a:b.img", "end./x.img",
			"deep/boot.img"}
		for i, n := range names {
			must(must(z.Create(n)).Write(fmt.Appendf(nil, "contents %d", i)))
		}
		z.Close()
		f := l.file("many.zip", packed.Bytes())
		out := l.want(0, []string{"is written as boot (2).img", "is written as Boot (3).img",
			"is written as %61ux.img", "8 taken out"}, "lift", f, "-o", l.dir+"/out", "--sums")
		have := map[string]bool{}
		for _, row := range strings.Split(out, "\n") {
			if strings.HasPrefix(row, "good  ") {
				path, _, _ := strings.Cut(strings.TrimPrefix(row, "good  "), ", ")
				have[string(must(os.ReadFile(path)))] = true
			}
		}
		if len(have) != len(names) {
			t.Errorf("%d of %d files are there:\n%s", len(have), len(names), out)
		}
		l.want(0, nil, "proof", l.dir+"/out/boot (2).img", "--against", l.dir+"/out/SHA256SUMS")
		l.standin("dunlin")
		l.want(3, []string{"stop  two-of-one-name: many.zip holds two files called boot.img"}, "flash", f)

		// A storage of the phone with such names, there and back.
		l.inRecovery("dunlin", files.Recovery)
		l.want(0, nil, "wipe", "userdata", "--yes")
		shared := filepath.Join(l.dir, "dunlin", "shared")
		if err := os.MkdirAll(shared, 0o755); err != nil {
			t.Fatalf("os.MkdirAll(shared, 0o755): %v", err)
		}
		for i, n := range []string{"Boot.txt", "boot.txt", "What?.txt", "a:b.txt", `back\slash`, "aux"} {
			if err := os.WriteFile(filepath.Join(shared, n), fmt.Appendf(nil, "note %d", i),
				0o644); err != nil {
				t.Fatalf("os.WriteFile(filepath.Join(shared, n), fmt.Appendf(nil, 'note %%d', i), 0o644): %v",
					err)
			}
		}
		kept := l.dir + "/kept"
		l.want(0, []string{"is kept as"}, "backup", "take", "storage", "-o", kept)
		// what is there stays there
		l.want(3, []string{"stop  backup-exists"}, "backup", "take", "storage", "-o", kept)
		if n := len(must(os.ReadDir(filepath.Join(kept, "storage")))); n != 6 {
			t.Errorf("%d files are kept", n)
		}
		l.want(0, nil, "wipe", "storage", "--yes", "--accept", "apps-not-apart")
		l.want(0, nil, "backup", "restore", "storage", "-o", kept, "--yes")
		for i, n := range []string{"Boot.txt", "boot.txt", "What?.txt", "a:b.txt", `back\slash`, "aux"} {
			if b, err := os.ReadFile(filepath.Join(shared, n)); err != nil ||
				string(b) != fmt.Sprintf("note %d", i) {
				t.Errorf("%s came back as %q, %v", n, b, err)
			}
		}
	})
}

// TestFlashPieces: an image in sparse pieces is flashed as one, whichever piece is named; a piece
// that is missing stops it before the first byte.
func TestFlashPieces(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		vendor := must(scenario.Images(scenario.Stock, dunlin))["vendor"]
		c := must(sparse.Cut(bytes.NewReader(vendor), int64(len(vendor)), 64<<10))
		var names []string
		for {
			p, err := c.Next()
			if err != nil {
				break
			}
			var b bytes.Buffer
			if err := p.WriteTo(&b, bytes.NewReader(vendor)); err != nil {
				t.Fatalf("p.WriteTo(&b, bytes.NewReader(vendor)): %v", err)
			}
			names = append(names, l.file(fmt.Sprintf("vendor.img_sparsechunk.%d", len(names)), b.Bytes()))
		}
		if len(names) < 3 {
			t.Fatalf("%d pieces", len(names))
		}
		l.want(0, []string{"vendor.img", "vendor_a"}, "flash", names[1], names[0], "--yes")
		if got := l.stored("dunlin", "vendor_a"); !bytes.HasPrefix(got, vendor) {
			t.Error("vendor_a does not hold the image")
		}
		if err := os.Rename(names[1], names[1]+".gone"); err != nil {
			t.Fatalf("os.Rename(names[1], names[1]+'.gone'): %v", err)
		}
		l.want(3, []string{"stop  damaged-file", "number 1 is not there"}, "flash", names[0], "--yes")
		l.want(3, []string{"stop  still-wrapped", "protected with a password"}, "flash",
			l.file("set.zip", sealed()), "--yes")
	})
}

// sealed is a zip whose one member is protected: bit 0 of its flags (APPNOTE.TXT, 4.4.4).
func sealed() []byte {
	b := zipOf("boot.img", strings.Repeat("x", 100))
	for _, mark := range []string{"PK\x03\x04", "PK\x01\x02"} {
		i := bytes.Index(b, []byte(mark))
		b[i+6+2*strings.Count(mark, "\x01")] |= 1
	}
	return b
}
