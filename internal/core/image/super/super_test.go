package super

import (
	"bytes"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"testing"

	"jarlid/internal/core/image"
	"jarlid/internal/e2e/witness"
)

// sample is a super image of two slots: system_a in two pieces with a run of
// zeros between, vendor_a, and an empty system_b.
func sample(t testing.TB, minor uint16) (img []byte, m *Metadata) {
	t.Helper()
	const mib = 1 << 20
	m = &Metadata{Major: 10, Minor: minor, SlotCount: 2, MetadataMaxSize: 65536,
		Groups:  []Group{{Name: "default"}, {Name: "main_a", MaxSize: 8 * mib}},
		Devices: []Device{{Name: "super", Size: 8 * mib, First: mib, Alignment: 4096}},
		Partitions: []Partition{
			{Name: "system_a", Attributes: AttrReadonly, Group: "main_a", Extents: []Extent{
				{Size: 4096, Offset: mib}, {Size: 8192, Zero: true}, {Size: 4096, Offset: 2 * mib}}},
			{Name: "vendor_a", Group: "main_a", Extents: []Extent{{Size: 512, Offset: 3 * mib}}},
			{Name: "system_b", Group: "default", Extents: []Extent{}}}}
	head, err := Build(m)
	if err != nil {
		t.Fatalf("Build(m): %v", err)
	}
	img = append(head, make([]byte, 8*mib-len(head))...)
	copy(img[mib:], bytes.Repeat([]byte("A"), 4096))
	copy(img[2*mib:], bytes.Repeat([]byte("B"), 4096))
	copy(img[3*mib:], bytes.Repeat([]byte("V"), 512))
	return img, m
}

func TestParse(t *testing.T) {
	for _, minor := range []uint16{0, 1, 2} {
		img, want := sample(t, minor)
		for slot := range 2 {
			m, err := Parse(bytes.NewReader(img), int64(len(img)), slot)
			if err != nil {
				t.Fatalf("Parse(bytes.NewReader(img), int64(len(img)), slot): %v", err)
			}
			want.Slot = slot
			if !reflect.DeepEqual(m, want) {
				t.Errorf("version 10.%d, slot %d: %+v", minor, slot, m)
			}
			// Free by hand: what lies between the three extents, in whole 4096s.
			if free := m.Free(); free != 1044480+1044480+5238784 {
				t.Errorf("%d bytes are free", free)
			}
		}
		// The primary damaged: the backup serves, and says so.
		for _, at := range []int{4096 + 20, 12288 + 100} {
			bad := bytes.Clone(img)
			bad[at] ^= 1
			if m, err := Parse(bytes.NewReader(bad), int64(len(bad)), 0); err != nil || !m.Backup ||
				len(m.Partitions) != 3 {
				t.Errorf("damaged at %d: %+v, %v", at, m, err)
			}
		}
		m, _ := Parse(bytes.NewReader(img), int64(len(img)), 0)
		r, err := m.Open(bytes.NewReader(img), int64(len(img)), m.Partition("system_a"))
		if err != nil {
			t.Fatalf("m.Open(bytes.NewReader(img), int64(len(img)), m.Partition('system_a')): %v", err)
		}
		got, err := io.ReadAll(r)
		if want := string(bytes.Repeat([]byte("A"), 4096)) + string(make([]byte, 8192)) +
			string(bytes.Repeat([]byte("B"), 4096)); err != nil || string(got) != want {
			t.Errorf("system_a has %d bytes, or not the right ones: %v", len(got), err)
		}
		if _, err := m.Open(bytes.NewReader(img), 1<<20, m.Partition("system_a")); !image.IsShort(err) {
			t.Errorf("a cut image: %v", err)
		}
	}
}

// TestOutsideReader has 7-Zip, which knows the format, take out a partition of
// what Build wrote.
func TestOutsideReader(t *testing.T) {
	seven := witness.Tool(t, "7zz")
	img, _ := sample(t, 2)
	dir := t.TempDir()
	path := filepath.Join(dir, "super.img")
	if err := os.WriteFile(path, img, 0o644); err != nil {
		t.Fatalf("os.WriteFile(%v, img, 0o644): %v", path, err)
	}
	out, err := exec.Command(seven, "x", "-y", "-o"+dir, path).CombinedOutput()
	if err != nil {
		t.Skipf("this 7-Zip does not read it: %v\n%s", err, out)
	}
	got, err := os.ReadFile(filepath.Join(dir, "vendor_a.img"))
	if err != nil || string(got) != string(bytes.Repeat([]byte("V"), 512)) {
		list, _ := filepath.Glob(filepath.Join(dir, "*"))
		t.Errorf("7-Zip wrote %v: %v", list, err)
	}
}

func FuzzParse(f *testing.F) {
	img, _ := sample(f, 2)
	f.Add(img[:12288+2*65536])
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := Parse(bytes.NewReader(b), int64(len(b)), 0)
		var e *image.Error
		if err != nil {
			if !errors.As(err, &e) {
				t.Fatalf("%v is not a format error", err)
			}
			return
		}
		for i := range m.Partitions {
			if r, err := m.Open(bytes.NewReader(b), int64(len(b)), &m.Partitions[i]); err == nil {
				io.CopyN(io.Discard, r, 1<<16)
			}
		}
	})
}

// TestExtentsApart: growing one partition's extents leaves the next one's alone.
func TestExtentsApart(t *testing.T) {
	m := &Metadata{SlotCount: 1, MetadataMaxSize: 4096, Devices: []Device{{Name: "super", Size: 1 << 20}},
		Groups: []Group{{Name: "g"}},
		Partitions: []Partition{{Name: "x", Group: "g", Extents: []Extent{{Size: 4096, Offset: 65536}}},
			{Name: "y", Group: "g", Extents: []Extent{{Size: 4096, Offset: 131072}}}}}
	b, err := Build(m)
	if err != nil {
		t.Fatalf("Build(m): %v", err)
	}
	got, err := Parse(bytes.NewReader(b), int64(len(b)), 0)
	if err != nil {
		t.Fatalf("Parse(bytes.NewReader(b), int64(len(b)), 0): %v", err)
	}
	x := got.Partition("x")
	x.Extents = append(x.Extents, Extent{Size: 512, Offset: 4096})
	if y := got.Partition("y").Extents[0]; y.Offset != 131072 || y.Size != 4096 {
		t.Errorf("y became %+v", y)
	}
}
