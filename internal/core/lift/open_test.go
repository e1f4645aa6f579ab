package lift

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"errors"
	"io"
	"strings"
	"testing"

	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/cpio"
	"jarlid/internal/core/image/super"
)

type pair struct{ name, data string }

func zipped(t *testing.T, list ...pair) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, p := range list {
		w, err := z.Create(p.name)
		if err != nil {
			t.Fatalf("z.Create(p.name): %v", err)
		}
		io.WriteString(w, p.data)
	}
	if err := z.Close(); err != nil {
		t.Fatalf("z.Close(): %v", err)
	}
	return b.Bytes()
}

func tarred(t *testing.T, list ...pair) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, p := range list {
		h := &tar.Header{Name: p.name, Size: int64(len(p.data)), Mode: 0o644, Typeflag: tar.TypeReg}
		if p.data == "link" {
			h = &tar.Header{Name: p.name, Linkname: "/etc/passwd", Typeflag: tar.TypeSymlink}
		}
		if err := w.WriteHeader(h); err != nil {
			t.Fatalf("w.WriteHeader(h): %v", err)
		}
		if h.Size > 0 {
			io.WriteString(w, p.data)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatalf("w.Close(): %v", err)
	}
	return b.Bytes()
}

func gz(b []byte) []byte {
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	z.Write(b)
	z.Close()
	return out.Bytes()
}

func ramdisk(t *testing.T, names ...string) []byte {
	t.Helper()
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
	return gz(b.Bytes())
}

// sparse is an image of three blocks by hand (sparse_format.h): raw, filled with "fill",
// and one nobody cares about.
func sparseImage() []byte {
	le := binary.LittleEndian
	b := le.AppendUint32(nil, 0xed26ff3a)
	for _, v := range []uint16{1, 0, 28, 12} {
		b = le.AppendUint16(b, v)
	}
	for _, v := range []uint32{4096, 3, 3, 0} {
		b = le.AppendUint32(b, v)
	}
	chunk := func(kind uint16, data []byte) {
		b = le.AppendUint16(le.AppendUint16(b, kind), 0)
		b = le.AppendUint32(le.AppendUint32(b, 1), uint32(12+len(data)))
		b = append(b, data...)
	}
	chunk(0xcac1, bytes.Repeat([]byte("R"), 4096))
	chunk(0xcac2, []byte("fill"))
	chunk(0xcac3, nil)
	return b
}

// TestOpen: the items of every kind of file, and that each is written as what it is.
func TestOpen(t *testing.T) {
	rd := ramdisk(t, "init", "system/bin/recovery")
	kernel := strings.Repeat("k", 5000)
	bootImage, err := boot.Build(boot.Image{HeaderVersion: 2, PageSize: 4096},
		boot.Parts{Kernel: []byte(kernel), Ramdisk: rd, DTB: []byte("tree")})
	if err != nil {
		t.Fatalf("boot.Build(...): %v", err)
	}
	vendor, err := boot.BuildVendor(boot.Vendor{HeaderVersion: 4, PageSize: 4096},
		[]boot.FragmentParts{{Type: boot.FragmentPlatform, Data: ramdisk(t, "init")},
			{Type: boot.FragmentRecovery, Name: "recovery", Data: rd}}, []byte("tree"), []byte("a=b\n"))
	if err != nil {
		t.Fatalf("boot.BuildVendor(..., ..., []byte('tree'), []byte('a=b\\n')): %v", err)
	}
	const mib = 1 << 20
	head, err := super.Build(&super.Metadata{Major: 10, SlotCount: 2, MetadataMaxSize: 65536,
		Groups:  []super.Group{{Name: "default"}},
		Devices: []super.Device{{Name: "super", Size: 4 * mib, First: mib}},
		Partitions: []super.Partition{{Name: "system_a", Group: "default",
			Extents: []super.Extent{{Size: 4096, Offset: mib}}}, {Name: "system_b", Group: "default"}}})
	if err != nil {
		t.Fatalf("super.Build(...): %v", err)
	}
	whole := append(head, make([]byte, 4*mib-len(head))...)
	copy(whole[mib:], strings.Repeat("S", 4096))
	big := strings.Repeat("x", 9000)
	for _, c := range []struct {
		file string
		b    []byte
		want []pair // in their order; of long ones the start
	}{
		{"set.zip", zipped(t, pair{"a.img", big}, pair{"sub/b.bin", "bee"}),
			[]pair{{"a.img", big}, {"sub/b.bin", "bee"}}},
		{"set.tar", tarred(t, pair{"a.img", big}, pair{"l", "link"}, pair{"b.img", "bee"}),
			[]pair{{"a.img", big}, {"b.img", "bee"}}},
		{"set.tar.gz", gz(tarred(t, pair{"a.img", big})), []pair{{"set.tar", "a.img"}}},
		{"set.tgz", gz(tarred(t, pair{"a.img", big})), []pair{{"set.tar", "a.img"}}},
		{"raw.img.gz", gz([]byte(big)), []pair{{"raw.img", big}}},
		{"odd", gz([]byte(big)), []pair{{"odd.unwrapped", big}}},
		{"boot.img", bootImage, []pair{
			{"kernel", kernel},
			{"ramdisk", string(rd)},
			{"ramdisk.files/init", "of init"},
			{"ramdisk.files/system/bin/recovery", "of system/bin/recovery"},
			{"dtb", "tree"},
		}},
		{"vendor_boot.img", vendor, []pair{{"dtb", "tree"}, {"vendor_ramdisk_table", ""},
			{"bootconfig", "a=b\n"},
			{"ramdisk-0", ""},
			{"ramdisk-0.files/init", "of init"},
			{"ramdisk-recovery", string(rd)},
			{"ramdisk-recovery.files/init", "of init"},
			{"ramdisk-recovery.files/system/bin/recovery", "of system/bin/recovery"}}},
		{"super.img", whole, []pair{{"system_a.img", strings.Repeat("S", 4096)}}},
		{"sparse.img", sparseImage(),
			[]pair{{"sparse.raw.img", strings.Repeat("R", 4096) + strings.Repeat("fill", 1024) +
				strings.Repeat("\x00", 4096)}}},
	} {
		s, err := Open(bytes.NewReader(c.b), int64(len(c.b)), c.file, Options{})
		if err != nil {
			t.Errorf("Open(bytes.NewReader(c.b), int64(len(c.b)), c.file, ...): %s: %v; want no error",
				c.file, err)
			continue
		}
		var names []string
		for _, it := range s.Items {
			names = append(names, it.Name)
		}
		if len(s.Items) != len(c.want) {
			t.Errorf("%s has %q", c.file, names)
			continue
		}
		for i, it := range s.Items {
			m := &memory{}
			if _, err := it.Write(t.Context(), m, func(int64) {}); err != nil {
				t.Errorf("it.Write(m, ...): %s, %s: %v; want no error", c.file, it.Name, err)
			}
			if it.Name != c.want[i].name || !strings.HasPrefix(string(m.b), c.want[i].data) ||
				it.Size >= 0 && int64(len(m.b)) != it.Size {
				t.Errorf("%s: %s of %d bytes, want %s", c.file, it.Name, len(m.b), c.want[i].name)
			}
		}
	}
	// What is named is found by name, base name or pattern; else what there is is said.
	s, err := Open(bytes.NewReader(bootImage), int64(len(bootImage)), "boot.img", Options{})
	if err != nil {
		t.Fatalf("Open(bytes.NewReader(bootImage), int64(len(bootImage)), 'boot.img', ...): %v", err)
	}
	for word, n := range map[string]int{"kernel": 1, "init": 1, "ramdisk.files/*": 1, "k*": 1} {
		if got, err := s.Pick([]string{word}); err != nil || len(got) != n {
			t.Errorf("%s: %d items, %v", word, len(got), err)
		}
	}
	if _, err := s.Pick([]string{"second"}); err == nil || !strings.Contains(err.Error(), "kernel, ramdisk") {
		t.Errorf("s.Pick(...): %v; unwanted: err == nil || !strings.Contains(err.Error(), 'kernel, ramdisk')",
			err)
	}
	if got, err := s.Pick(nil); err != nil || len(got) != 3 { // kernel, ramdisk, dtb: not the files
		t.Errorf("%d items, %v", len(got), err)
	}
}

// TestOpenHostile: names that lead out, bombs, and what there is nothing in.
func TestOpenHostile(t *testing.T) {
	var unsafe *UnsafeNameError
	for name, b := range map[string][]byte{"up.zip": zipped(t, pair{"../x", "1"}),
		"root.tar": tarred(t, pair{"/etc/x", "1"}), "win.zip": zipped(t, pair{`c:\x`, "1"}),
		"boot.img": func() []byte {
			b, _ := boot.Build(boot.Image{PageSize: 2048},
				boot.Parts{Kernel: []byte("k"), Ramdisk: ramdisk(t, "../../x")})
			return b
		}()} {
		if _, err := Open(bytes.NewReader(b), int64(len(b)), name, Options{}); !errors.As(err, &unsafe) {
			t.Errorf("Open(bytes.NewReader(b), int64(len(b)), %v, ...): %s: %v; unwanted: !errors.As(err, "+
				"&unsafe)", name, name, err)
		}
	}
	bomb := gz(make([]byte, 8<<20))
	s, err := Open(bytes.NewReader(bomb), int64(len(bomb)), "bomb.img.gz", Options{MaxSize: 1 << 20})
	if err != nil {
		t.Fatalf("Open(bytes.NewReader(bomb), int64(len(bomb)), 'bomb.img.gz', ...): %v", err)
	}
	var large *TooLargeError
	if _, err := s.Items[0].Write(t.Context(), &memory{}, func(int64) {}); !errors.As(err, &large) ||
		large.Limit != 1<<20 {
		t.Errorf("a bomb: %v", err)
	}
	for name, b := range map[string][]byte{"note.txt": []byte("a text\n"), "empty": nil} {
		if _, err := Open(bytes.NewReader(b), int64(len(b)), name, Options{}); err == nil {
			t.Errorf("%s has something in it", name)
		}
	}
}
