// Package filesystem is the table of the file systems a partition may hold: how each is recognised, whether
// its files can be read and changed.
package filesystem

import (
	"encoding/binary"
	"errors"
	"io"
	"io/fs"
	"slices"

	"jarlid/internal/core/image/erofs"
	"jarlid/internal/core/image/ext4"
)

// Head is how many bytes of a partition show which file system it holds.
const Head = 4096

// Type is a file system.
type Type struct {
	Name   string // "ext4-shared" for ext4 whose files share blocks
	Driver string // of the kernel
	Title  string // in a sentence
	Is     func(head []byte) bool
	Open   func(r io.ReaderAt, size int64) (fs.FS, error) // nil where its files are not read
	Frozen bool                                           // its files are never changed in place
}

// types holds what a super block says more narrowly before what it says more widely.
var types = []Type{
	{Name: "ext4-shared", Driver: "ext4", Title: "an ext4 file system with shared blocks", Is: isShared,
		Open: openExt4, Frozen: true},
	{Name: "ext4", Driver: "ext4", Title: "an ext4 file system", Is: ext4.IsMagic, Open: openExt4},
	{Name: "erofs", Driver: "erofs", Title: "an EROFS file system", Is: erofs.IsMagic, Open: openEROFS,
		Frozen: true},
	// Documentation/filesystems/f2fs.rst and squashfs.rst of the kernel.
	{Name: "f2fs", Driver: "f2fs", Title: "an F2FS file system", Is: wordAt(1024, 0xf2f52010)},
	{Name: "squashfs", Driver: "squashfs", Title: "a squashfs file system", Is: wordAt(0, 0x73717368),
		Frozen: true},
}

func isShared(head []byte) bool {
	s := ext4.Start(head)
	return s != nil && s.SharedBlocks()
}

func wordAt(at int, magic uint32) func([]byte) bool {
	return func(h []byte) bool { return len(h) >= at+4 && binary.LittleEndian.Uint32(h[at:]) == magic }
}

func openExt4(r io.ReaderAt, size int64) (fs.FS, error)  { return ext4.New(r, size) }
func openEROFS(r io.ReaderAt, size int64) (fs.FS, error) { return erofs.New(r, size) }

// Of recognises a file system by its first Head bytes; the zero value for none that is known.
func Of(head []byte) Type {
	return find(func(t Type) bool { return t.Is(head) })
}

// Certain is Of where the bytes may be anything: the magic number of ext4 alone has two bytes, which
// encrypted data may hold by chance.
func Certain(head []byte) Type {
	t := Of(head)
	if t.Driver == "ext4" && ext4.Start(head) == nil {
		return Type{}
	}
	return t
}

// Named finds a file system by its name; the zero value for none that is known.
func Named(name string) Type {
	return find(func(t Type) bool { return t.Name == name })
}

func find(is func(Type) bool) Type {
	if i := slices.IndexFunc(types, is); i >= 0 {
		return types[i]
	}
	return Type{}
}

// ErrNone says that an image holds none of the file systems that are read.
var ErrNone = errors.New("it holds no ext4 or EROFS file system")

// Open opens the file system of an image. Errors: ErrNone; *image.Error for a damaged one, or one whose form
// is not read.
func Open(r io.ReaderAt, size int64) (fs.FS, error) {
	head := make([]byte, min(size, Head))
	if _, err := r.ReadAt(head, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	if t := Of(head); t.Open != nil {
		return t.Open(r, size)
	}
	return nil, ErrNone
}
