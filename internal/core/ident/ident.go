// Package ident says what a file is: by its content first, by its name last.
package ident

import (
	"errors"
	"io"
)

const (
	// headSize is how much of a file's head is checked to tell its kind:
	// super images say what they are behind 12 KiB.
	headSize = 16 << 10
	// maxDepth is how many wrappings are taken off: a sparse image in an xz in
	// a zip in a 7z is three.
	maxDepth = 6
)

// Identify checks the file in r. What can't be read of it is said in Damage, and in
// Failed what is no fault of the file's.
func Identify(r io.ReaderAt, size int64, path string, o Options) *File {
	f := newFile(path, size, o)
	f.look(r, size)
	f.byName()
	return f
}

func newFile(path string, size int64, o Options) *File {
	return &File{Path: path, Size: size, Kind: Unknown, Wrapped: []string{}, Details: map[string]any{},
		GoesTo: []Destination{}, opt: o}
}

// look tells what the size bytes of r are and reads what matters of them.
func (f *File) look(r io.ReaderAt, size int64) {
	head := make([]byte, min(size, headSize))
	n, err := r.ReadAt(head, 0)
	head = head[:n]
	if f.Head == nil {
		f.Head = head
	}
	if err != nil && !errors.Is(err, io.EOF) && !f.partial {
		f.damaged(err)
		return
	}
	if f.blockList(r, size) || f.volume(r, size, head) {
		return
	}
	for _, s := range sniffers {
		if s.is(head) {
			s.read(f, r, size)
			return
		}
	}
	if f.iso(r, size) {
		return
	}
	if f.brotli(r, size) {
		return
	}
	f.text(r, size, head)
	if f.Kind == Unknown {
		f.footer(r, size) // firmware nobody knows may say where it belongs
	}
}

// byName adds what a file's name says where its content says nothing.
func (f *File) byName() {
	if len(f.GoesTo) > 0 || f.Damage != "" || f.Size == 0 {
		return
	}
	switch f.Kind {
	case Text, Sums, LoaderTable, Ramdisk, Archive, App, Addon, Images, FirmwareSet, OTAAB, OTABlock, Payload,
		BlockList, ISO, Qcow2, Disk, Kernel:
		return
	}
	if p := partitionByName(f.Whole()); p != "" {
		f.goes(p, "both", "name", "only the file's name says so, which is weak")
	}
}
