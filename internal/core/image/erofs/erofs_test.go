package erofs

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

func unxz(t testing.TB, path string) []byte {
	t.Helper()
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	z, err := xz.NewReader(f, 0)
	if err != nil {
		t.Fatal(err)
	}
	b, err := io.ReadAll(z)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// TestTree reads the same tree out of images of different forms, made by
// mkfs.erofs, and holds every file against what sha256sum said of the tree.
func TestTree(t *testing.T) {
	expect, err := os.ReadFile("testdata/expect.txt")
	if err != nil {
		t.Fatal(err)
	}
	images, _ := filepath.Glob("testdata/*.xz")
	if len(images) < 7 {
		t.Fatalf("%d images, want 7", len(images))
	}
	for _, path := range images {
		t.Run(strings.TrimSuffix(filepath.Base(path), ".erofs.xz"), func(t *testing.T) {
			b := unxz(t, path)
			f, err := New(bytes.NewReader(b), int64(len(b)))
			if err != nil {
				t.Fatal(err)
			}
			n := 0
			for line := range strings.Lines(string(expect)) {
				sum, name, _ := strings.Cut(strings.TrimSpace(line), "  ")
				data, err := fs.ReadFile(f, strings.TrimPrefix(name, "./"))
				if got := sha256.Sum256(data); err != nil || hex.EncodeToString(got[:]) != sum {
					t.Errorf("%s: %v, digest %x of %d bytes", name, err, got, len(data))
				}
				n++
			}
			files := 0
			err = fs.WalkDir(f, ".", func(p string, d fs.DirEntry, err error) error {
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
			// Read backwards in pieces it is the same file.
			file, err := f.Open("mixed")
			if err != nil {
				t.Fatal(err)
			}
			whole, _ := fs.ReadFile(f, "mixed")
			r := file.(io.ReaderAt)
			for at := len(whole) - 1000; at > 0; at -= 7919 {
				p := make([]byte, 1000)
				if _, err := r.ReadAt(p, int64(at)); err != nil && err != io.EOF || !bytes.Equal(p, whole[at:at+1000]) {
					t.Fatalf("1000 bytes at %d: %v, or not the right ones", at, err)
				}
			}
			if _, err := New(bytes.NewReader(b[:len(b)/2]), int64(len(b)/2)); !image.IsShort(err) {
				t.Errorf("cut in half: %v", err)
			}
		})
	}
}

// TestLZ4 unpacks a block worked out by hand from the format's description:
// "abc", then five bytes from three back, then "!".
func TestLZ4(t *testing.T) {
	block := []byte("\x31abc\x03\x00\x10!")
	for n, want := range []string{"", "a", "ab", "abc", "abca", "abcab", "abcabc", "abcabca", "abcabcab", "abcabcab!"} {
		out := make([]byte, n)
		if !lz4Block(out, block) || string(out) != want {
			t.Errorf("%d bytes: %q", n, out)
		}
	}
	for _, bad := range []string{"", "\xf0", "\x31abc\x04\x00\x10!", "\x31abc\x00\x00", "\x31ab", "\x31abc\x03"} {
		if lz4Block(make([]byte, 9), []byte(bad)) {
			t.Errorf("%q is taken", bad)
		}
	}
}

func FuzzRead(f *testing.F) {
	for _, name := range []string{"plain", "lz4", "legacy-big", "tails", "chunks"} {
		f.Add(unxz(f, "testdata/"+name+".erofs.xz"))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		v, err := New(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			return
		}
		n := 0
		fs.WalkDir(v, ".", func(p string, d fs.DirEntry, err error) error {
			if n++; n > 200 || err != nil {
				return fs.SkipAll
			}
			if file, err := v.Open(p); err == nil {
				io.CopyN(io.Discard, file, 64<<10)
				file.Close()
			}
			return nil
		})
	})
}
