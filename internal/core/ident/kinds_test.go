package ident

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"fmt"
	"io"
	"strings"
	"testing"

	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/cpio"
	"jarlid/internal/core/image/vbmeta"
)

func ramdisk(t *testing.T, props string, names ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := cpio.NewWriter(z)
	for _, n := range names {
		data := "x"
		if strings.HasSuffix(n, "prop.default") {
			data = props
		}
		if err := w.Add(cpio.Header{Name: n, Mode: cpio.TypeFile | 0o644}, []byte(data)); err != nil {
			t.Fatalf("w.Add(..., []byte(data)): %v", err)
		}
	}
	w.Close()
	z.Close()
	return b.Bytes()
}

func archive(names ...string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, n := range names {
		name, data, _ := strings.Cut(n, "=")
		w, _ := z.Create(name)
		io.WriteString(w, data)
	}
	z.Close()
	return b.Bytes()
}

// TestKinds: what files are, by their content, whatever they are called.
func TestKinds(t *testing.T) {
	must := func(b []byte, err error) []byte {
		t.Helper()
		if err != nil {
			t.Fatalf("making a file: %v", err)
		}
		return b
	}
	arm64 := append(make([]byte, 56), "ARMd"+strings.Repeat("\x00", 64)...)
	const props = "ro.product.device=dunlin\nro.build.display.id=Tideline 3.1\n"
	image := func(v uint32, kernel, rd []byte) []byte {
		return must(boot.Build(boot.Image{HeaderVersion: v, PageSize: 4096},
			boot.Parts{Kernel: kernel, Ramdisk: rd}))
	}
	recovery := ramdisk(t, props, "init", "prop.default", "system/bin/recovery")
	both := ramdisk(t, props, "init", "prop.default", "system/bin/recovery", "first_stage_ramdisk/fstab.x")
	meta := must(vbmeta.Build(
		&vbmeta.Image{Descriptors: []vbmeta.Descriptor{{Tag: vbmeta.TagHash, PartitionName: "dtbo",
			ImageSize: 4096, HashAlgorithm: "sha256", Digest: make([]byte, 32)}}}, nil))
	footed := must(vbmeta.AddFooter(bytes.Repeat([]byte("d"), 4096), meta, 65536))
	tree := binary.BigEndian.AppendUint32(nil, 0xd00dfeed)
	tree = append(binary.BigEndian.AppendUint32(tree, 72), make([]byte, 64)...)
	for _, c := range []struct {
		name string // of the file
		b    []byte
		kind Kind
		to   string // partition, and the source for it
		is   string // what is said of it
	}{
		{"a.bin", image(2, arm64, ramdisk(t, props, "init", "prop.default", "fstab.x")), Boot, "boot content",
			"dunlin"},
		{"a.bin", image(2, arm64, recovery), Recovery, "recovery content", "dunlin"},
		{"a.bin", image(2, arm64, both), BootWithRecovery, "boot content", "dunlin"},
		{"recovery.img", image(2, arm64, ramdisk(t, props, "init", "fstab.x")), Boot, "boot content", ""},
		{"a.bin", image(4, nil, ramdisk(t, props, "init")), InitBoot, "init_boot content", ""},
		{"a.bin", image(4, arm64, nil), Boot, "boot content", ""},
		{"a.bin", must(boot.BuildVendor(boot.Vendor{HeaderVersion: 4, PageSize: 4096},
			[]boot.FragmentParts{{Type: boot.FragmentRecovery, Name: "recovery", Data: recovery}},
			[]byte("t"), nil)), VendorBoot, "vendor_boot content", "dunlin"},
		{"a.bin", meta, VBMeta, "vbmeta content", ""},
		{"vbmeta_system.img", meta, VBMeta, "vbmeta_system content", ""},
		{"boot.img", footed, Unknown, "dtbo avb-footer", ""},
		{"a.bin", tree, DTB, "dtb content", ""},
		{"radio.img", bytes.Repeat([]byte{1, 2, 3, 0xff}, 100), Unknown, "radio name", ""},
		{"a.bin", bytes.Repeat([]byte{1, 2, 3, 0xff}, 100), Unknown, "", ""},
		{"boot.img", []byte("<html><body>Please wait</body></html>"), Text, "", ""},
		{"SHA256SUMS", []byte(strings.Repeat("0123456789abcdef", 4) + "  boot.img\n"), Sums, "", ""},
		{"a.zip", archive("android-info.txt=require product=dunlin\n", "boot.img="+
			string(image(2, arm64, ramdisk(t, props, "init", "fstab.x")))), FirmwareSet, "", ""},
		{"a.zip", archive("readme.txt=hello"), Archive, "", ""},
	} {
		f := Identify(bytes.NewReader(c.b), int64(len(c.b)), c.name, Options{})
		to := ""
		if len(f.GoesTo) > 0 {
			to = fmt.Sprintf("%s %s", f.GoesTo[0].Partition, f.GoesTo[0].By)
		}
		if f.Kind != c.kind || to != c.to || c.is != "" && strings.Join(f.Models(), " ") != c.is {
			t.Errorf("%s: %s for %q goes to %q, want %s, %q, %q", c.name, f.Kind, f.Models(), to, c.kind,
				c.is, c.to)
		}
		if f.Words() == "" || f.Damage != "" {
			t.Errorf("%s, %s: %q, damage %q", c.name, c.kind, f.Words(), f.Damage)
		}
	}
	// Wrapped, twice; and every kind cut short says so, or is no more than unknown.
	inner := image(2, arm64, recovery)
	var z bytes.Buffer
	w := gzip.NewWriter(&z)
	w.Write(inner)
	w.Close()
	if f := Identify(bytes.NewReader(z.Bytes()), int64(z.Len()), "x.img.gz", Options{}); f.Kind != Recovery ||
		strings.Join(f.Wrapped, " ") != "gz" || f.Models()[0] != "dunlin" {
		t.Errorf("%+v; unwanted: f.Kind != Recovery || strings.Join(f.Wrapped, ' ') != 'gz' || ...", f)
	}
	if f := Identify(bytes.NewReader(nil), 0, "boot.img", Options{}); f.Kind != Unknown || f.Damage == "" ||
		len(f.GoesTo) > 0 {
		t.Errorf("an empty file: %+v", f)
	}
	for n := 0; n < 8192+len(recovery); n += 977 { // what is behind the ramdisk is padding
		f := Identify(bytes.NewReader(inner[:n]), int64(n), "x.img", Options{})
		if f.Damage == "" && f.Kind != Unknown {
			t.Errorf("cut to %d bytes it is a whole %s", n, f.Kind)
		}
	}
}
