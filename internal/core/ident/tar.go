package ident

import (
	"archive/tar"
	"errors"
	"io"
	"strconv"
	"strings"

	"jarlid/internal/core/image"
)

// TarMember is a member of a tar archive.
type TarMember struct {
	Name string
	Size int64 // bytes, holes included
	// File says that it is a file with contents: regular ones, sparse ones among them.
	File bool
	Kind string                        // of what is no file, in words: "a link"
	At   *io.SectionReader             // its bytes, where they are stored as they are; nil for a sparse one
	Open func() (io.ReadCloser, error) // reads its contents, holes as zeros
}

// isOldTar recognises a tar header without the mark "ustar", as tar wrote it before POSIX.1-1988, by its
// checksum: six octal digits, of all bytes with blanks in their place.
func isOldTar(h []byte) bool {
	if len(h) < 512 || h[0] == 0 || h[0] == '/' {
		return false
	}
	stated, err := strconv.ParseUint(strings.Trim(string(h[148:156]), " \x00"), 8, 32)
	if err != nil {
		return false
	}
	sum := uint64(8 * ' ')
	for i, b := range h[:512] {
		if i < 148 || i >= 156 {
			sum += uint64(b)
		}
	}
	return sum == stated
}

// tarKinds are members without contents ("Basic Tar Format" in the manual of GNU tar; ustar in POSIX.1-2001,
// pax).
var tarKinds = map[byte]string{tar.TypeSymlink: "a link", tar.TypeLink: "a link", tar.TypeChar: "a device",
	tar.TypeBlock: "a device", tar.TypeFifo: "a pipe"}

// EachTarMember calls do for each member but folders, in their order, until it returns an error. Errors:
// *image.Error of an archive that is damaged or ends within a member.
func EachTarMember(r io.ReaderAt, size int64, do func(TarMember) error) error {
	src := io.NewSectionReader(r, 0, size)
	t := tar.NewReader(src)
	for n := 0; ; n++ {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return &image.Error{Format: "tar archive", Offset: -1,
				What:  "it ends within a member or is damaged",
				Short: errors.Is(err, io.ErrUnexpectedEOF), Err: err}
		}
		m := TarMember{Name: h.Name, Size: h.Size}
		switch sparse := isSparse(h); {
		case h.Typeflag == tar.TypeDir:
			continue
		case sparse:
			m.File, m.Open = true, tarReader(r, size, n)
		case h.Typeflag == tar.TypeReg || h.Typeflag == tar.TypeCont:
			at, err := src.Seek(0, io.SeekCurrent)
			if err != nil {
				return err
			}
			m.File, m.At = true, io.NewSectionReader(r, at, h.Size)
			m.Open = func() (io.ReadCloser, error) {
				return io.NopCloser(io.NewSectionReader(r, at, h.Size)),
					nil
			}
		default:
			if m.Kind = tarKinds[h.Typeflag]; m.Kind == "" {
				m.Kind = "of an unknown kind"
			}
		}
		if err := do(m); err != nil {
			return err
		}
	}
}

// isSparse reports whether a member is stored without its holes: in the form of GNU tar before 1.14, or in
// one of three with extended headers ("Storing Sparse Files" in the manual of GNU tar).
func isSparse(h *tar.Header) bool {
	for name := range h.PAXRecords {
		if strings.HasPrefix(name, "GNU.sparse.") {
			return true
		}
	}
	return h.Typeflag == tar.TypeGNUSparse
}

// tarReader opens member n by reading the headers before it again: where the pieces of a sparse one are is
// known to the reader alone.
func tarReader(r io.ReaderAt, size int64, n int) func() (io.ReadCloser, error) {
	return func() (io.ReadCloser, error) {
		t := tar.NewReader(io.NewSectionReader(r, 0, size))
		for range n + 1 {
			if _, err := t.Next(); err != nil {
				return nil, err
			}
		}
		return io.NopCloser(t), nil
	}
}
