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
		{"v0", byHand(4*2048, map[int]uint32{8: 6, 16: 7, 24: 6, 36: 2048, 44: os}, "KERNEL", "RAMDISK", "SECOND"), 0,
			map[string]string{"kernel": "KERNEL", "ramdisk": "RAMDISK", "second": "SECOND"}},
		{"v0 with a device tree size in the version's place", byHand(3*2048, map[int]uint32{8: 6, 16: 7, 36: 2048, 40: 0x1a000, 44: os}, "KERNEL", "RAMDISK"), 0,
			map[string]string{"kernel": "KERNEL", "ramdisk": "RAMDISK"}},
		{"v1", byHand(4*4096, map[int]uint32{8: 6, 16: 7, 36: 4096, 40: 1, 44: os, 1632: 4, 1644: 1648}, "KERNEL", "RAMDISK", "DTBO"), 1,
			map[string]string{"kernel": "KERNEL", "ramdisk": "RAMDISK", "recovery_dtbo": "DTBO"}},
		{"v2", byHand(4*4096, map[int]uint32{8: 6, 16: 7, 36: 4096, 40: 2, 44: os, 1644: 1660, 1648: 3}, "KERNEL", "RAMDISK", "DTB"), 2,
			map[string]string{"kernel": "KERNEL", "ramdisk": "RAMDISK", "dtb": "DTB"}},
		{"v3", byHand(3*4096, map[int]uint32{8: 6, 12: 7, 16: os, 20: 1580, 40: 3}, "KERNEL", "RAMDISK"), 3,
			map[string]string{"kernel": "KERNEL", "ramdisk": "RAMDISK"}},
		{"v4", byHand(4*4096, map[int]uint32{8: 6, 12: 7, 16: os, 20: 1584, 40: 4, 1580: 9}, "KERNEL", "RAMDISK", "SIGNATURE"), 4,
			map[string]string{"kernel": "KERNEL", "ramdisk": "RAMDISK", "boot_signature": "SIGNATURE"}},
	} {
		m, err := Parse(bytes.NewReader(c.img), int64(len(c.img)))
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		if v, patch := m.OS(); m.HeaderVersion != c.version || v != "14.1.2" || patch != "2026-05" || m.Size != int64(len(c.img)) {
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
				"recovery_dtbo": &parts.RecoveryDTBO, "dtb": &parts.DTB, "boot_signature": &parts.Signature}[name] = got
		}
		// Built again from its parts it has the same layout; id and the place of
		// the recovery's overlay, left out by hand, are what Build fills in.
		again, err := Build(*m, parts)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		clear(again[min(576, len(again)):608])
		if c.version == 1 || c.version == 2 {
			clear(again[1636:1644])
			clear(again[1652:1660])
		}
		if want := bytes.Clone(c.img); c.version == 0 && binary.LittleEndian.Uint32(want[40:]) == 0 || c.version > 0 && c.version < 3 {
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
	f.Add(byHand(4*4096, map[int]uint32{8: 6, 12: 7, 40: 4, 1580: 9}, "KERNEL", "\x1f\x8b\x08RAMDISK", "SIGNATURE"))
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
