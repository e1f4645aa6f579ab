package ext4

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"testing"
	"testing/fstest"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/tree/treetest"
)

func open(r io.ReaderAt, size int64) (fs.FS, error) { return New(r, size) }

func TestTree(t *testing.T) {
	treetest.Run(t, 5, open)
	b := treetest.Unxz(t, "testdata/modern.ext4.xz")
	f, err := New(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatal(err)
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
		t.Error(err)
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
