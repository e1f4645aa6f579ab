package boot

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"testing"

	"jarlid/internal/core/image"
)

// byHand lays an image out by the published structures, without Build: fields
// by their offset, then sections a page each.
func byHand(size int, fields map[int]uint32, sections ...string) []byte {
	b := make([]byte, size)
	copy(b, "ANDROID!")
	for at, v := range fields {
		binary.LittleEndian.PutUint32(b[at:], v)
	}
	for i, s := range sections {
		page := size / (len(sections) + 1)
		copy(b[page*(i+1):], s)
	}
	return b
}

func TestLayout(t *testing.T) {
	os := uint32(14<<25 | 1<<18 | 2<<11 | 26<<4 | 5)
	for _, c := range []struct {
		name     string
		img      []byte
		version  uint32
		sections map[string]string
	}{
		{"v0", byHand(4*2048, map[int]uint32{8: 6, 16: 7, 24: 6, 36: 2048, 44: os}, "KERNEL", "RAMDISK",
			"SECOND"), 0,
			map[string]string{"kernel": "KERNEL", "ramdisk": "RAMDISK", "second": "SECOND"}},
		{"v0 with a device tree size in the version's place",
			byHand(3*2048, map[int]uint32{8: 6, 16: 7, 36: 2048, 40: 0x1a000, 44: os}, "KERNEL", "RAMDISK"),
			0,
			map[string]string{"kernel": "KERNEL", "ramdisk": "RAMDISK"}},
		{"v1", byHand(4*4096, map[int]uint32{8: 6, 16: 7, 36: 4096, 40: 1, 44: os, 1632: 4, 1644: 1648},
			"KERNEL", "RAMDISK", "DTBO"), 1,
			map[string]string{"kernel": "KERNEL", "ramdisk": "RAMDISK", "recovery_dtbo": "DTBO"}},
		{"v2", byHand(4*4096, map[int]uint32{8: 6, 16: 7, 36: 4096, 40: 2, 44: os, 1644: 1660, 1648: 3},
			"KERNEL", "RAMDISK", "DTB"), 2,
			map[string]string{"kernel": "KERNEL", "ramdisk": "RAMDISK", "dtb": "DTB"}},
		{"v3", byHand(3*4096, map[int]uint32{8: 6, 12: 7, 16: os, 20: 1580, 40: 3}, "KERNEL", "RAMDISK"), 3,
			map[string]string{"kernel": "KERNEL", "ramdisk": "RAMDISK"}},
		{"v4", byHand(4*4096, map[int]uint32{8: 6, 12: 7, 16: os, 20: 1584, 40: 4, 1580: 9}, "KERNEL",
			"RAMDISK", "SIGNATURE"), 4,
			map[string]string{"kernel": "KERNEL", "ramdisk": "RAMDISK", "boot_signature": "SIGNATURE"}},
	} {
		m, err := Parse(bytes.NewReader(c.img), int64(len(c.img)))
		if err != nil {
			t.Errorf("Parse(bytes.NewReader(c.img), int64(len(c.img))): %s: %v; want no error", c.name, err)
			continue
		}
		if v, patch := m.OS(); m.HeaderVersion != c.version || v != "14.1.2" || patch != "2026-05" ||
			m.Size != int64(len(c.img)) {
			t.Errorf("%s: version %d, %s, %s, %d bytes", c.name, m.HeaderVersion, v, patch, m.Size)
		}
		if len(m.Sections) != len(c.sections) {
			t.Errorf("%s: sections %v", c.name, m.Sections)
		}
		parts := Parts{}
		for name, want := range c.sections {
			got, err := io.ReadAll(m.Open(bytes.NewReader(c.img), name))
			if err != nil || string(got) != want {
				t.Errorf("%s: %s is %q, %v", c.name, name, got, err)
			}
			*map[string]*[]byte{"kernel": &parts.Kernel, "ramdisk": &parts.Ramdisk, "second": &parts.Second,
				"recovery_dtbo":  &parts.RecoveryDTBO,
				"dtb":            &parts.DTB,
				"boot_signature": &parts.Signature}[name] = got
		}
		// Built again from its parts it has the same layout; id and the place of
		// the recovery's overlay, left out by hand, are what Build fills in.
		again, err := Build(*m, parts)
		if err != nil {
			t.Errorf("Build(*m, parts): %s: %v; want no error", c.name, err)
			continue
		}
		clear(again[min(576, len(again)):608])
		if c.version == 1 || c.version == 2 {
			clear(again[1636:1644])
			clear(again[1652:1660])
		}
		if want := bytes.Clone(c.img); c.version == 0 && binary.LittleEndian.Uint32(want[40:]) == 0 ||
			c.version > 0 && c.version < 3 {
			if !bytes.Equal(again, want) {
				t.Errorf("%s: built again, the bytes differ", c.name)
			}
		}
		for _, n := range []int{0, 1, 100, 1000, len(c.img) / 2} {
			_, err := Parse(bytes.NewReader(c.img[:n]), int64(n))
			if !image.IsShort(err) {
				t.Errorf("%s cut to %d bytes: %v", c.name, n, err)
			}
		}
	}
}

// TestVendor lays a vendor boot image of version 4 out by hand: two fragments,
// a device tree, the table, the bootconfig, a page each.
func TestVendor(t *testing.T) {
	le := binary.LittleEndian
	b := make([]byte, 5*4096)
	copy(b, "VNDRBOOT")
	for at, v := range map[int]uint32{
		8:    4,
		12:   4096,
		24:   7,
		2096: 2128,
		2100: 3,
		2112: 216,
		2116: 2,
		2120: 108,
		2124: 4,
	} {
		le.PutUint32(b[at:], v)
	}
	copy(b[28:], "loop=1")
	copy(b[4096:], "FIRSTab")
	copy(b[8192:], "DTB")
	for i, e := range []struct {
		size, off, typ uint32
		name           string
	}{{5, 0, 1, ""}, {2, 5, 2, "recovery"}} {
		p := b[12288+108*i:]
		le.PutUint32(p, e.size)
		le.PutUint32(p[4:], e.off)
		le.PutUint32(p[8:], e.typ)
		copy(p[12:], e.name)
	}
	copy(b[16384:], "k=v\n")
	m, err := ParseVendor(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatalf("ParseVendor(bytes.NewReader(b), int64(len(b))): %v", err)
	}
	r := m.Recovery()
	if m.Cmdline != "loop=1" || len(m.Fragments) != 2 || r == nil || r.Name != "recovery" ||
		string(b[r.Offset:r.Offset+r.Size]) != "ab" || m.Size != int64(len(b)) {
		t.Errorf("ParseVendor(bytes.NewReader(b), int64(len(b))): %+v", m)
	}
	again, err := BuildVendor(*m, []FragmentParts{{Type: FragmentPlatform, Data: []byte("FIRST")},
		{Type: FragmentRecovery, Name: "recovery", Data: []byte("ab")}}, []byte("DTB"), []byte("k=v\n"))
	if err != nil || !bytes.Equal(again, b) {
		t.Errorf("built again, the bytes differ: %v", err)
	}
	for _, n := range []int{0, 5, 2000, 8193, 12300} {
		if _, err := ParseVendor(bytes.NewReader(b[:n]), int64(n)); !image.IsShort(err) {
			t.Errorf("cut to %d bytes: %v", n, err)
		}
	}
	var e *image.Error
	for at, v := range map[int]uint32{2116: 3, 2120: 8, 12288 + 4: 100, 12: 3000, 8: 7} {
		bad := bytes.Clone(b)
		le.PutUint32(bad[at:], v)
		if _, err := ParseVendor(bytes.NewReader(bad), int64(len(bad))); !errors.As(err, &e) {
			t.Errorf("%d at byte %d: %v", v, at, err)
		}
	}
}

func FuzzParseVendor(f *testing.F) {
	b, err := BuildVendor(Vendor{HeaderVersion: 4},
		[]FragmentParts{{Type: FragmentRecovery, Name: "recovery", Data: []byte("ab")}}, []byte("DTB"), nil)
	if err != nil {
		f.Fatalf("BuildVendor(..., ..., []byte('DTB')): %v", err)
	}
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := ParseVendor(bytes.NewReader(b), int64(len(b)))
		var e *image.Error
		if err != nil && !errors.As(err, &e) {
			t.Fatalf("%v is not a format error", err)
		}
		for i := 0; err == nil && i < len(m.Fragments); i++ {
			if f := m.Fragments[i]; f.Offset+f.Size > int64(len(b)) {
				t.Error("a fragment lies outside")
			}
		}
	})
}

func TestHostileSizes(t *testing.T) {
	img := byHand(3*4096, map[int]uint32{8: 0xffffffff, 16: 0xffffffff, 36: 4096, 40: 2, 1648: 0xffffffff})
	if _, err := Parse(bytes.NewReader(img), int64(len(img))); !image.IsShort(err) {
		t.Errorf("sizes beyond the file: %v", err)
	}
	binary.LittleEndian.PutUint32(img[36:], 3000)
	var e *image.Error
	if _, err := Parse(bytes.NewReader(img), int64(len(img))); !errors.As(err, &e) || e.Offset != 36 {
		t.Errorf("a page size of 3000: %v", err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(byHand(4*4096, map[int]uint32{8: 6, 16: 7, 36: 4096, 40: 2, 1648: 3}, "KERNEL", "RAMDISK", "DTB"))
	f.Add(byHand(4*4096, map[int]uint32{8: 6, 12: 7, 40: 4, 1580: 9}, "KERNEL", "\x1f\x8b\x08RAMDISK",
		"SIGNATURE"))
	f.Fuzz(func(t *testing.T, b []byte) {
		r := bytes.NewReader(b)
		m, err := Parse(r, int64(len(b)))
		var e *image.Error
		if err != nil && !errors.As(err, &e) {
			t.Fatalf("%v is not a format error", err)
		}
		if err == nil && m.Section("ramdisk").Size > 0 {
			ReadRamdisk(m.Open(r, "ramdisk"))
		}
	})
}

// FuzzInitramfs reads whatever it is given to its end, and never more than its limit.
func FuzzInitramfs(f *testing.F) {
	for _, seed := range [][]byte{nil, {0, 0, 0x1f, 0x8b, 8}, []byte("070701"), {0x5d, 0, 0, 1, 0, 0xff,
		0xff},
		append(make([]byte, 9), 0xfd, '7', 'z', 'X', 'Z', 0)} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		i := NewInitramfs(bytes.NewReader(b), 1<<20)
		defer i.Close()
		total := int64(0)
		for {
			if _, err := i.Next(); err != nil {
				break
			}
			n, _ := io.Copy(io.Discard, i)
			if total += n; total > 1<<20 {
				t.Fatalf("%d bytes were extracted of at most %d", total, 1<<20)
			}
		}
	})
}
