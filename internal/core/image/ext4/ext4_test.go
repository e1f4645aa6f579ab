package ext4

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/tree/treetest"
	"jarlid/internal/e2e/witness"
)

func open(r io.ReaderAt, size int64) (fs.FS, error) { return New(r, size) }

func TestTree(t *testing.T) {
	treetest.Run(t, 5, open)
	b := treetest.Unxz(t, "testdata/modern.ext4.xz")
	f, err := New(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatalf("New(bytes.NewReader(b), int64(len(b))): %v", err)
	}
	// dumpe2fs says: 4880 free blocks of 4096 bytes, never mounted.
	if f.Free() != 4880*4096 || !f.Fresh() {
		t.Errorf("%d bytes free, fresh: %v", f.Free(), f.Fresh())
	}
	head := bytes.Clone(b[:4096])
	head[SuperblockOffset+52] = 1 // s_mnt_count
	if s, err := ParseSuper(bytes.NewReader(head), 4096); s == nil || s.Fresh() || !image.IsShort(err) {
		t.Errorf("mounted once: %+v, %v", s, err)
	}
	// The walk of fstest does not know links in a loop; the part without them.
	sub, err := fs.Sub(f, "system/many")
	if err == nil {
		err = fstest.TestFS(sub, "file-with-a-rather-long-name-number-399")
	}
	if err != nil {
		t.Errorf("fs.Sub(f, 'system/many'): %v", err)
	}
}

// TestFeatures: what mkfs.ext4 makes with each feature that images have is read file by file.
func TestFeatures(t *testing.T) {
	mkfs := witness.Tool(t, "mkfs.ext4")
	dir := t.TempDir()
	tree := filepath.Join(dir, "tree")
	for _, n := range []int{0, 1, 59, 60, 61, 100, 150, 160, 161, 300, 5000, 900_000} {
		if err := errors.Join(os.MkdirAll(filepath.Join(tree, "sub", strconv.Itoa(n%7)), 0o755),
			os.WriteFile(filepath.Join(tree, "sub", strconv.Itoa(n%7), "file-of-"+strconv.Itoa(n)),
				bytes.Repeat([]byte("curlew "), n/7+1)[:n], 0o644)); err != nil {
			t.Fatalf("errors.Join(...): %v", err)
		}
	}
	for _, o := range []string{"-O inline_data -I 256 -b 4096", "-O inline_data -I 512 -b 1024",
		"-O bigalloc -b 4096 -C 65536", "-O bigalloc -b 1024 -C 16384",
		"-O bigalloc,inline_data -b 4096 -C 65536", "-O bigalloc,^64bit -b 1024 -C 8192",
		"-O bigalloc,meta_bg,^resize_inode -b 1024 -C 16384", "-O meta_bg,^resize_inode -b 1024",
		"-t ext2 -b 1024", "-O casefold -b 4096", "-O ea_inode -b 4096", "-O sparse_super2 -b 1024",
		"-O metadata_csum_seed -b 4096"} {
		img := filepath.Join(dir, "a.img")
		os.Remove(img)
		if out, err := exec.Command(mkfs, append(strings.Fields("-q -F "+o), "-d", tree, img,
			"64M")...).CombinedOutput(); err != nil {
			t.Logf("%s: not made here: %s", o, out)
			continue
		}
		r, err := os.Open(img)
		if err != nil {
			t.Fatalf("os.Open(img): %v", err)
		}
		f, err := New(r, 64<<20)
		if err != nil {
			t.Errorf("New(r, 64<<20): %s: %v; want no error", o, err)
			continue
		}
		seen := 0
		err = fs.WalkDir(os.DirFS(tree), ".", func(p string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			seen++
			want, err := os.ReadFile(filepath.Join(tree, p))
			got, rerr := fs.ReadFile(f, p)
			if !bytes.Equal(got, want) || rerr != nil {
				t.Errorf("%s: %s has %d bytes, want %d (%v)", o, p, len(got), len(want), rerr)
			}
			return err
		})
		if err != nil || seen != 12 {
			t.Errorf("%s: %d files, %v", o, seen, err)
		}
		r.Close()
	}
}

func TestDamage(t *testing.T) {
	whole := treetest.Unxz(t, "testdata/modern.ext4.xz")
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
		f.Add(treetest.Unxz(f, "testdata/"+name+".ext4.xz")[:512<<10])
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		// Behind the given bytes there are zeros, so that sizes fit.
		treetest.Fuzz(io.NewSectionReader(padded{b}, 0, 24<<20), 24<<20, open)
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
