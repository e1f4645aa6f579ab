package ident

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/wrap"
)

// peek is how many bytes of a compressed stream are extracted to tell what is
// inside: enough for a boot image's ramdisk to begin and for every magic number.
const peek = 1 << 20

func (f *File) wrapped(r io.ReaderAt, size int64) {
	head := make([]byte, min(size, headSize))
	n, _ := r.ReadAt(head, 0)
	kind := wrap.Detect(head[:n])
	f.Wrapped = append(f.Wrapped, string(kind))
	z, err := wrap.NewFile(kind, io.NewSectionReader(r, 0, size), f.opt.MaxMemory)
	if err != nil {
		f.damaged(orClosed("the compressed data ("+string(kind)+") does not begin right", err))
		return
	}
	defer z.Close()
	f.fromStream(z, 0)
}

// brotli decompresses a file whose name says that it is brotli: the form has no magic number.
func (f *File) brotli(r io.ReaderAt, size int64) bool {
	if !strings.EqualFold(path.Ext(f.Path), ".br") || f.depth > 0 || size == 0 {
		return false
	}
	f.Wrapped = append(f.Wrapped, "br")
	f.Notes = append(f.Notes, "only its name says that it is brotli; that form has no magic number")
	if z, err := wrap.NewFile(wrap.Brotli, io.NewSectionReader(r, 0, size), f.opt.MaxMemory); err == nil {
		defer z.Close()
		f.fromStream(z, 0)
	}
	return true
}

// fromStream checks what a stream gives: whole where that was asked for, else
// its head. known is the length, 0 when it is not known. A boot image is always read whole: whether it is a
// recovery only its ramdisk says.
func (f *File) fromStream(z io.Reader, known int64) {
	in := bufio.NewReaderSize(z, 64<<10)
	head, _ := in.Peek(len(boot.VendorMagic))
	if f.opt.Spool != nil && (f.opt.Deep || !f.partial && isBoot(head)) {
		at, size, done, err := f.opt.Spool(in)
		if err != nil {
			f.damaged(orClosed("it cannot be unwrapped to its end", err))
			return
		}
		defer done()
		f.Inside = size
		f.deeper(at, size)
		return
	}
	b := make([]byte, peek)
	n, err := image.Fill(in, b)
	b = b[:n]
	whole := errors.Is(err, io.EOF)
	if err != nil && !whole && !f.partial {
		f.damaged(orClosed("the compressed data is cut short or damaged", err))
	}
	if n == 0 {
		return
	}
	if !whole {
		f.partial = true
	} else {
		f.Inside = int64(n)
	}
	size := max(known, int64(n))
	if f.partial && known == 0 {
		size = 1 << 62 // not known; what follows the head reads as cut
	}
	f.deeper(bytes.NewReader(b), size)
	if f.partial {
		f.Notes = append(f.Notes, "only the head of what is inside was looked at; --deep unwraps it whole")
	}
}

// isBoot tells the images whose kind depends on the ramdisk in them.
func isBoot(head []byte) bool { return prefix(boot.Magic)(head) || prefix(boot.VendorMagic)(head) }

// orClosed puts words before an error, but not before one that is about no damage.
func orClosed(what string, err error) error {
	if image.AboutNoDamage(err) {
		return err
	}
	return fmt.Errorf("%s: %w", what, err)
}
