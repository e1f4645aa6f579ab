// Package treetest is the conformance test that every file system reader runs:
// the same tree is read out of images of different features, made by general
// tools, and compared with what sha256sum said of the tree.
package treetest

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/mikelolasagasti/xz"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/tree"
)

// Unxz extracts a fixture.
func Unxz(t testing.TB, path string) []byte {
	t.Helper()
	f, err := os.Open(path)
	if err != nil {
		t.Fatalf("os.Open(%v): %v", path, err)
	}
	defer f.Close()
	z, err := xz.NewReader(f, 0)
	if err != nil {
		t.Fatalf("xz.NewReader(f, 0): %v", err)
	}
	b, err := io.ReadAll(z)
	if err != nil {
		t.Fatalf("io.ReadAll(z): %v", err)
	}
	return b
}

// Run reads every testdata/*.xz, at least least of them. testdata/expect.txt
// has the digests; the tree has the links absolute-link, to deep/er/long, and
// loop-a and loop-b, to each other.
func Run(t *testing.T, least int, open func(r io.ReaderAt, size int64) (fs.FS, error)) {
	expect, err := os.ReadFile("testdata/expect.txt")
	if err != nil {
		t.Fatalf("os.ReadFile('testdata/expect.txt'): %v", err)
	}
	images, _ := filepath.Glob("testdata/*.xz")
	if len(images) < least {
		t.Fatalf("%d images, want %d", len(images), least)
	}
	for _, path := range images {
		name, _, _ := strings.Cut(filepath.Base(path), ".")
		t.Run(name, func(t *testing.T) {
			b := Unxz(t, path)
			f, err := open(bytes.NewReader(b), int64(len(b)))
			if err != nil {
				t.Fatalf("open(bytes.NewReader(b), int64(len(b))): %v", err)
			}
			checkFile(t, f, string(expect))
			if _, err := open(bytes.NewReader(b[:len(b)/2]), int64(len(b)/2)); !image.IsShort(err) {
				t.Errorf("cut in half: %v", err)
			}
		})
	}
}

func checkFile(t *testing.T, f fs.FS, expect string) {
	n, longest, size := 0, "", 0
	for line := range strings.Lines(expect) {
		sum, name, _ := strings.Cut(strings.TrimSpace(line), "  ./")
		data, err := fs.ReadFile(f, name)
		if got := sha256.Sum256(data); err != nil || hex.EncodeToString(got[:]) != sum {
			t.Errorf("%s: %v, digest %x of %d bytes", name, err, got, len(data))
		}
		if n++; len(data) > size {
			longest, size = name, len(data)
		}
	}
	files := 0
	err := fs.WalkDir(f, ".", func(p string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			files++
		}
		return err
	})
	if err != nil || files != n {
		t.Errorf("the walk found %d files, want %d: %v", files, n, err)
	}
	a, err1 := fs.ReadFile(f, "absolute-link")
	want, err2 := fs.ReadFile(f, "deep/er/long")
	if err1 != nil || err2 != nil || !bytes.Equal(a, want) {
		t.Errorf("absolute-link: %v %v", err1, err2)
	}
	if _, err := fs.ReadFile(f, "loop-a"); !errors.Is(err, tree.ErrLoop) {
		t.Errorf("a loop of links: %v", err)
	}
	if to, err := fs.ReadLink(f, "loop-a"); to != "loop-b" || err != nil {
		t.Errorf("ReadLink: %q, %v", to, err)
	}
	if _, err := f.Open("../etc/passwd"); !errors.Is(err, fs.ErrInvalid) {
		t.Errorf("a path out of the tree: %v", err)
	}
	// Read backwards in pieces a file is the same.
	whole, _ := fs.ReadFile(f, longest)
	file, err := f.Open(longest)
	if err != nil {
		t.Fatalf("f.Open(longest): %v", err)
	}
	r := file.(io.ReaderAt)
	for at := len(whole) - 1000; at > 0; at -= 7919 + len(whole)/64 {
		p := make([]byte, 1000)
		if _, err := r.ReadAt(p, int64(at)); err != nil && err != io.EOF ||
			!bytes.Equal(p, whole[at:at+1000]) {
			t.Fatalf("%s: 1000 bytes at %d: %v, or not the right ones", longest, at, err)
		}
	}
}

// Fuzz opens images of any bytes and reads what can be read, within bounds.
func Fuzz(b io.ReaderAt, size int64, open func(r io.ReaderAt, size int64) (fs.FS, error)) {
	v, err := open(b, size)
	if err != nil {
		return
	}
	n := 0
	_ = fs.WalkDir(v, ".", func(p string, d fs.DirEntry, err error) error {
		if n++; n > 300 || err != nil {
			return fs.SkipAll
		}
		if file, err := v.Open(p); err == nil {
			_, _ = io.CopyN(io.Discard, file, 64<<10)
			file.Close()
		}
		if x, ok := v.(interface {
			Xattrs(string) (map[string][]byte, error)
		}); ok {
			_, _ = x.Xattrs(p)
		}
		return nil
	})
}
