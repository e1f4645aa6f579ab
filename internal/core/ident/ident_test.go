package ident

import (
	"bytes"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/e2e/witness"
)

// counted counts what is read.
type counted struct {
	r io.ReaderAt
	n int64
}

func (c *counted) ReadAt(p []byte, off int64) (int, error) {
	n, err := c.r.ReadAt(p, off)
	c.n += int64(n)
	return n, err
}

// TestReadsLittle checks a system image of 4 GiB made by mkfs.ext4: less than
// a mebibyte of it is read.
func TestReadsLittle(t *testing.T) {
	dir := t.TempDir()
	if err := os.MkdirAll(filepath.Join(dir, "tree", "system"), 0o755); err != nil {
		t.Fatalf("os.MkdirAll(..., 0o755): %v", err)
	}
	if err := os.WriteFile(filepath.Join(dir, "tree", "system", "build.prop"),
		[]byte("ro.product.device=dunlin\n"), 0o644); err != nil {
		t.Fatalf("os.WriteFile(..., ..., 0o644): %v", err)
	}
	path := filepath.Join(dir, "img")
	if out, err := exec.Command(witness.Tool(t, "mkfs.ext4"), "-q", "-F", "-d", filepath.Join(dir, "tree"),
		path, "4G").CombinedOutput(); err != nil {
		t.Fatalf("mkfs.ext4: %v\n%s", err, out)
	}
	f, err := os.Open(path)
	if err != nil {
		t.Fatalf("os.Open(%v): %v", path, err)
	}
	defer f.Close()
	c := &counted{r: f}
	got := Identify(c, 4<<30, path, Options{})
	if got.Kind != Ext4 || got.Models()[0] != "dunlin" || len(got.GoesTo) == 0 ||
		got.GoesTo[0].Partition != "system" {
		t.Errorf("os.Open(%v): %+v", path, got)
	}
	if c.n > 1<<20 {
		t.Errorf("%d bytes were read", c.n)
	}
}

func FuzzIdentify(f *testing.F) {
	foot, err := vbmeta.AddFooter([]byte("ANDROID!"), []byte("AVB0"), 8192)
	if err != nil {
		f.Fatalf("vbmeta.AddFooter([]byte('ANDROID!'), []byte('AVB0'), 8192): %v", err)
	}
	for _, s := range []string{"ANDROID!", "VNDRBOOT", "AVB0", "CrAU", "\x3a\xff\x26\xed\x01\x00",
		"PK\x03\x04", "7z\xbc\xaf\x27\x1c\x00\x04", "\x1f\x8b\x08", "BZh9",
		"\xd0\x0d\xfe\xed", "<html>", "\xd7\xb7\xab\x1e", string(foot)} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		got := Identify(bytes.NewReader(b), int64(len(b)), "x.img", Options{})
		got.Words()
		got.Lines()
	})
}
