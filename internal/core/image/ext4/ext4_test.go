package ext4

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
	"testing/fstest"

	"github.com/mikelolasagasti/xz"

	"jarlid/internal/core/image"
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

// TestTree reads the same tree out of images of different features, made by
// mkfs.ext4, and holds every file against what sha256sum said of the tree.
func TestTree(t *testing.T) {
	expect, err := os.ReadFile("testdata/expect.txt")
	if err != nil {
		t.Fatal(err)
	}
	images, _ := filepath.Glob("testdata/*.xz")
	if len(images) < 5 {
		t.Fatalf("%d images, want 5", len(images))
	}
	for _, path := range images {
		t.Run(strings.TrimSuffix(filepath.Base(path), ".ext4.xz"), func(t *testing.T) {
			b := unxz(t, path)
			f, err := New(bytes.NewReader(b), int64(len(b)))
			if err != nil {
				t.Fatal(err)
			}
			n := 0
			for line := range strings.Lines(string(expect)) {
				sum, name, _ := strings.Cut(strings.TrimSpace(line), "  ")
				data, err := fs.ReadFile(f, strings.TrimPrefix(name, "./"))
				got := sha256.Sum256(data)
				if err != nil || hex.EncodeToString(got[:]) != sum {
					t.Errorf("%s: %v, digest %x", name, err, got)
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
			for link, want := range map[string]string{"system/short-link": "tiny", "absolute-link": "deep/er/long", "long-link": "deep/er/long"} {
				a, err1 := fs.ReadFile(f, link)
				b, err2 := fs.ReadFile(f, want)
				if err1 != nil || err2 != nil || !bytes.Equal(a, b) {
					t.Errorf("%s does not lead to %s: %v %v", link, want, err1, err2)
				}
			}
			if _, err := fs.ReadFile(f, "loop-a"); err == nil || !strings.Contains(err.Error(), "loop") {
				t.Errorf("a loop of links: %v", err)
			}
			if to, err := f.ReadLink("loop-a"); to != "loop-b" || err != nil {
				t.Errorf("ReadLink: %q, %v", to, err)
			}
			if _, err := f.Open("../etc/passwd"); !errors.Is(err, fs.ErrInvalid) {
				t.Errorf("a path out of the tree: %v", err)
			}
			// The walk of fstest does not know links in a loop; the part without them.
			sub, err := fs.Sub(f, "system/many")
			if err == nil {
				err = fstest.TestFS(sub, "file-with-a-rather-long-name-number-399")
			}
			if err != nil {
				t.Error(err)
			}
		})
	}
}

func TestDamage(t *testing.T) {
	whole := unxz(t, "testdata/modern.ext4.xz")
	change := func(at int, v byte) []byte {
		b := bytes.Clone(whole)
		b[at] = v
		return b
	}
	for name, b := range map[string][]byte{
		"cut":          whole[:len(whole)/2],
		"block size":   change(SuperblockOffset+24, 200),
		"no magic":     change(SuperblockOffset+56, 0),
		"inode size":   change(SuperblockOffset+88, 3),
		"new features": change(SuperblockOffset+98, 0xff),
		"one byte":     whole[:1], "nothing": nil,
	} {
		_, err := New(bytes.NewReader(b), int64(len(b)))
		var e *image.Error
		if !errors.As(err, &e) {
			t.Errorf("%s: %v is not a format error", name, err)
		}
		if cut := name == "cut" || len(b) < 2; cut != image.IsShort(err) {
			t.Errorf("%s: cut short is %v: %v", name, image.IsShort(err), err)
		}
	}
}

func FuzzRead(f *testing.F) {
	for _, name := range []string{"modern", "blockmap", "inline"} {
		// The first half mebibyte holds the structures; the rest reads as cut.
		f.Add(unxz(f, "testdata/"+name+".ext4.xz")[:512<<10])
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		// Behind the given bytes there are zeros, so that sizes fit.
		r := io.NewSectionReader(padded{b}, 0, 24<<20)
		v, err := New(r, 24<<20)
		if err != nil {
			return
		}
		n := 0
		fs.WalkDir(v, ".", func(p string, d fs.DirEntry, err error) error {
			if n++; n > 300 || err != nil {
				return fs.SkipAll
			}
			if file, err := v.Open(p); err == nil {
				io.CopyN(io.Discard, file, 64<<10)
				file.Close()
			}
			v.Xattrs(p)
			return nil
		})
	})
}

type padded struct{ b []byte }

func (p padded) ReadAt(b []byte, off int64) (int, error) {
	clear(b)
	if off < int64(len(p.b)) {
		copy(b, p.b[off:])
	}
	return len(b), nil
}
