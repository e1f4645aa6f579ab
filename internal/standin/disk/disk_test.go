package disk

import (
	"bytes"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"jarlid/internal/e2e/witness"
)

func phone(t *testing.T) *Disk {
	t.Helper()
	d, err := Open(t.TempDir(), []Partition{{Name: "boot", Size: 64 << 10, Slots: true},
		{Name: "misc", Size: 8 << 10}}, []string{"system"}, true)
	if err != nil {
		t.Fatalf("Open(t.TempDir(), ..., ...): %v", err)
	}
	return d
}

// TestDisk: partitions have their size and keep within it, a slot's suffix is part of the
// name, and what is erased reads as zeros.
func TestDisk(t *testing.T) {
	d := phone(t)
	if got := d.Names("boot"); len(got) != 2 || got[0] != "boot_a" || got[1] != "boot_b" ||
		!d.Has("boot_b") || d.Has("boot") || d.Has("system_a") {
		t.Errorf("%v; unwanted: len(got) != 2 || got[0] != 'boot_a' || got[1] != 'boot_b' || ...", got)
	}
	if err := d.Put("boot_a", []byte("tide"), 64<<10-4); err != nil {
		t.Errorf("d.Put('boot_a', []byte('tide'), 64<<10-4): %v", err)
	}
	if err := d.Put("boot_a", []byte("tides"), 64<<10-4); err == nil {
		t.Error("a write beyond the end is taken")
	}
	if b, err := d.Piece("boot_a", 64<<10-4, 100); err != nil || string(b) != "tide" {
		t.Errorf("d.Piece('boot_a', 64<<10-4, 100): %q, %v; unwanted: err != nil || string(b) != 'tide'", b,
			err)
	}
	if b, err := d.Head("boot_b", 4); err != nil || !bytes.Equal(b, make([]byte, 4)) {
		t.Errorf("the other slot: %q, %v", b, err)
	}
	if err := d.Flash("misc", bytes.Repeat([]byte{7}, 9<<10)); err == nil {
		t.Error("an image larger than the partition is taken")
	}
	if err := d.Erase("boot_a"); err != nil {
		t.Fatalf("d.Erase('boot_a'): %v", err)
	}
	v, err := d.Open("boot_a")
	if err != nil {
		t.Fatalf("d.Open('boot_a'): %v", err)
	}
	defer v.Close()
	if b, err := io.ReadAll(v); err != nil || !bytes.Equal(b, make([]byte, 64<<10)) {
		t.Errorf("%d bytes are left, %v", len(b), err)
	}
	if _, err := d.Open("radio"); err == nil {
		t.Error("a partition that is not there opens")
	}
}

// TestSparse: a sparse image of one RAW block, one FILL and one "don't care", as the format's
// header has it. What is not cared for keeps what was there.
func TestSparse(t *testing.T) {
	d := phone(t)
	if err := d.Put("boot_a", bytes.Repeat([]byte{9}, 12<<10), 0); err != nil {
		t.Fatalf("d.Put('boot_a', ..., 0): %v", err)
	}
	img := []byte{0x3a, 0xff, 0x26, 0xed, 1, 0, 0, 0, 28, 0, 12, 0, 0, 16, 0, 0, 3, 0, 0, 0, 3, 0, 0, 0,
		0, 0, 0, 0}
	img = append(append(img, 0xc1, 0xca, 0, 0, 1, 0, 0, 0, 12, 16, 0, 0),
		bytes.Repeat([]byte("tide"), 1024)...)
	img = append(img, 0xc3, 0xca, 0, 0, 1, 0, 0, 0, 12, 0, 0, 0)
	img = append(img, 0xc2, 0xca, 0, 0, 1, 0, 0, 0, 16, 0, 0, 0, 0, 0, 0, 0)
	if err := d.Flash("boot_a", img); err != nil {
		t.Fatalf("d.Flash('boot_a', img): %v", err)
	}
	want := append(append(bytes.Repeat([]byte("tide"), 1024), bytes.Repeat([]byte{9}, 4096)...),
		make([]byte, 4096)...)
	if b, err := d.Head("boot_a", 12<<10); err != nil || !bytes.Equal(b, want) {
		t.Errorf("d.Head('boot_a', 12<<10): %v; unwanted: err != nil || !bytes.Equal(b, want)", err)
	}
}

// TestView: changes in a file system lie over it, and are gone when the partition is written.
func TestView(t *testing.T) {
	tool := witness.Tool(t, "mke2fs")
	d, err := Open(t.TempDir(), []Partition{{Name: "system", Size: 1 << 20}}, nil, false)
	if err != nil {
		t.Fatalf("Open(t.TempDir(), ...): %v", err)
	}
	tree := t.TempDir()
	if err := os.WriteFile(filepath.Join(tree, "build.prop"), []byte("as it was"), 0o644); err != nil {
		t.Fatalf("os.WriteFile(filepath.Join(tree, 'build.prop'), []byte('as it was'), 0o644): %v", err)
	}
	if out, err := exec.Command(tool, "-q", "-F", "-t", "ext4", "-O", "^has_journal", "-d", tree,
		d.Path("system"), "1M").CombinedOutput(); err != nil {
		t.Fatalf("....CombinedOutput(): %v: %s; want no error", err, out)
	}
	image, err := os.ReadFile(d.Path("system"))
	if err != nil {
		t.Fatalf("os.ReadFile(d.Path('system')): %v", err)
	}
	w, err := d.Mount("system")
	if err != nil {
		t.Fatalf("d.Mount('system'): %v", err)
	}
	f, err := w.Create("added.txt")
	if err != nil {
		t.Fatalf("w.Create('added.txt'): %v", err)
	}
	f.Close()
	if err := w.Remove("build.prop"); err != nil {
		t.Fatalf("w.Remove('build.prop'): %v", err)
	}
	if _, err := w.Stat("build.prop"); err == nil {
		t.Error("a file that was removed is there")
	}
	w.Close()
	if !d.Changed("system") {
		t.Error("nothing counts as changed")
	}
	if now, err := os.ReadFile(d.Path("system")); err != nil || !bytes.Equal(now, image) {
		t.Error("the image itself was changed")
	}
	if err := d.Flash("system", image); err != nil {
		t.Fatalf("d.Flash('system', image): %v", err)
	}
	if w, err = d.Mount("system"); err != nil {
		t.Fatalf("d.Mount('system'): %v", err)
	}
	defer w.Close()
	if b, err := fs.ReadFile(w, "build.prop"); err != nil || string(b) != "as it was" {
		t.Errorf("fs.ReadFile(w, 'build.prop'): %q, %v; unwanted: err != nil || string(b) != 'as it was'", b,
			err)
	}
	if _, err := w.Stat("added.txt"); err == nil {
		t.Error("what was added is there behind a write")
	}
}
