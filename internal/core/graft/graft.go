// Package graft puts another ramdisk into a boot image or a vendor boot image.
// Everything else stays byte for byte: kernel, header fields, device trees, command
// line, and a verified boot footer, which is moved behind what has grown or shrunk.
//
// The layouts are those of packages boot and vbmeta, published in bootimg.h and
// avb_footer.h.
package graft

import (
	"bytes"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"io"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/vbmeta"
)

// vendorHeader is the size of vendor_boot_img_hdr_v4 in bytes.
const vendorHeader = 2128

// entrySize is the size of vendor_ramdisk_table_entry_v4 in bytes.
const entrySize = 108

// MaxImage is the largest image that is worked on, in bytes: it is held in memory, and
// no boot partition is larger.
const MaxImage = 256 << 20

// TooBigError says that the result does not fit the partition.
type TooBigError struct{ Need, Have int64 }

// Error gives both sizes.
func (e *TooBigError) Error() string {
	return fmt.Sprintf("with this ramdisk the image has %s, the partition has %s", image.Size(e.Need),
		image.Size(e.Have))
}

// body is an image without what lies behind it: padding, or a verified boot footer.
type body struct {
	img    []byte
	pad    int64 // zeros behind it, in bytes
	footer *vbmeta.Footer
	meta   []byte // the vbmeta the footer points to
	whole  int64  // bytes of the file or partition it was read from
}

func read(r io.ReaderAt, size int64) (*body, error) {
	if size > MaxImage {
		return nil, fmt.Errorf("an image of %s is larger than any boot partition", image.Size(size))
	}
	b := &body{whole: size}
	f, ok, err := vbmeta.ParseFooter(r, size)
	if err != nil {
		return nil, err
	}
	if ok {
		b.footer = &f
		if b.meta, err = image.ReadAt("verified boot footer", r, size, f.VBMetaOffset,
			f.VBMetaSize); err != nil {
			return nil, err
		}
		size = min(size, f.OriginalImageSize)
	}
	b.img, err = image.ReadAt("boot image", r, size, 0, size)
	return b, err
}

// cut takes the zeros behind the image of n bytes off: they pad it to its partition.
func (b *body) cut(n int64) {
	if n < int64(len(b.img)) && b.footer == nil && image.IsZero(b.img[n:]) {
		b.pad = int64(len(b.img)) - n
		b.img = b.img[:n]
	}
}

// fill makes the image at least n bytes long.
func (b *body) fill(n int64) {
	if short := n - int64(len(b.img)); short > 0 {
		b.img = append(b.img, make([]byte, short)...)
	}
}

// put gives the finished image: the new body, and behind it the footer as it was, with
// its two places changed. room is the partition's size; 0: not known.
func (b *body) put(img []byte, room int64) ([]byte, error) {
	if room == 0 && b.footer != nil {
		room = b.whole
	}
	if b.footer == nil {
		if room > 0 && int64(len(img)) > room {
			return nil, &TooBigError{int64(len(img)), room}
		}
		if b.pad > 0 && int64(len(img)) < b.whole {
			img = append(img, make([]byte, b.whole-int64(len(img)))...)
		}
		return img, nil
	}
	at := image.Align(int64(len(img)), 4096)
	end := image.Align(at+int64(len(b.meta)), 4096)
	if end+vbmeta.FooterSize > room {
		return nil, &TooBigError{end + vbmeta.FooterSize, room}
	}
	out := make([]byte, room)
	copy(out, img)
	copy(out[at:], b.meta)
	// AvbFooter: magic, version, then original image size, offset and size of the
	// vbmeta.
	f := out[room-vbmeta.FooterSize:]
	be := binary.BigEndian
	copy(f, vbmeta.FooterMagic)
	be.PutUint32(f[4:], b.footer.Major)
	be.PutUint32(f[8:], b.footer.Minor)
	be.PutUint64(f[12:], uint64(len(img)))
	be.PutUint64(f[20:], uint64(at))
	be.PutUint64(f[28:], uint64(len(b.meta)))
	return out, nil
}

// Ramdisk gives a boot image with another ramdisk. room is the size of the partition it
// is for, in bytes; 0 when it is not known. Errors: *image.Error for an image that can't
// be read, *TooBigError.
func Ramdisk(r io.ReaderAt, size int64, ramdisk []byte, room int64) ([]byte, error) {
	b, err := read(r, size)
	if err != nil {
		return nil, err
	}
	m, err := boot.Parse(bytes.NewReader(b.img), int64(len(b.img)))
	if err != nil {
		return nil, err
	}
	return b.without(m.Size, func(b *body) ([]byte, error) { return b.ramdisk(m, ramdisk, room) })
}

// without makes an image and, where it does not fit, makes it again without what lies behind the
// n bytes of the image that is there: a larger one that was in the partition before has left that.
func (b *body) without(n int64, make func(*body) ([]byte, error)) ([]byte, error) {
	b.cut(n)
	out, err := make(b)
	var big *TooBigError
	if errors.As(err, &big) && n > 0 && n < int64(len(b.img)) {
		short := *b
		short.img = b.img[:n]
		if again, err := make(&short); err == nil {
			return again, nil
		}
	}
	return out, err
}

func (b *body) ramdisk(m *boot.Image, ramdisk []byte, room int64) ([]byte, error) {
	page := int64(m.PageSize)
	old := m.Section("ramdisk")
	if old.Size == 0 { // it goes where one would lie: behind the kernel
		k := m.Section("kernel")
		old.Offset = image.Align(max(k.Offset+k.Size, page), page)
	}
	b.fill(old.Offset) // an image may end within the page of its last part
	after := min(image.Align(old.Offset+old.Size, page), int64(len(b.img)))
	out := bytes.Clone(b.img[:old.Offset])
	out = append(out, ramdisk...)
	if tail := b.img[after:]; len(tail) > 0 || int64(len(b.img)) >= m.Size {
		out = append(out, make([]byte, image.Align(int64(len(out)), page)-int64(len(out)))...)
		out = append(out, tail...)
	}
	le := binary.LittleEndian
	if m.HeaderVersion >= 3 {
		le.PutUint32(out[12:], uint32(len(ramdisk)))
		return b.put(out, room)
	}
	le.PutUint32(out[16:], uint32(len(ramdisk)))
	moved := image.Align(int64(len(ramdisk)), page) - image.Align(old.Size, page)
	if off := le.Uint64(out[1636:]); m.HeaderVersion >= 1 && off > uint64(old.Offset) {
		le.PutUint64(out[1636:], uint64(int64(off)+moved)) // recovery_dtbo_offset
	}
	if err := sign(b.img, m, out); err != nil {
		return nil, err
	}
	return b.put(out, room)
}

// sign works out the header's id again, by the digest the old one was made with: SHA-1
// or SHA-256 over each part and its length. An id that neither made stays as it is.
func sign(old []byte, m *boot.Image, out []byte) error {
	names := []string{"kernel", "ramdisk", "second"}
	if m.HeaderVersion >= 1 {
		names = append(names, "recovery_dtbo")
	}
	if m.HeaderVersion >= 2 {
		names = append(names, "dtb")
	}
	id := func(h hash.Hash, img []byte, m *boot.Image) []byte {
		for _, n := range names {
			s := m.Section(n)
			h.Write(img[s.Offset : s.Offset+s.Size])
			h.Write(binary.LittleEndian.AppendUint32(nil, uint32(s.Size)))
		}
		return h.Sum(nil)
	}
	n, err := boot.Parse(bytes.NewReader(out), int64(len(out)))
	if err != nil {
		return err
	}
	for _, make := range []func() hash.Hash{sha1.New, sha256.New} {
		if sum := id(make(), old, m); bytes.HasPrefix(m.ID[:], sum) {
			copy(out[576:608], id(make(), out, n))
			return nil
		}
	}
	return nil
}

// Fragment gives a vendor boot image whose recovery ramdisk is another: the fragment of
// the type recovery is replaced, or added where there is none; in version 3, which holds
// one ramdisk only, that one. An empty ramdisk takes the fragment away.
func Fragment(r io.ReaderAt, size int64, ramdisk []byte, room int64) ([]byte, error) {
	b, err := read(r, size)
	if err != nil {
		return nil, err
	}
	m, err := boot.ParseVendor(bytes.NewReader(b.img), int64(len(b.img)))
	if err != nil {
		return nil, err
	}
	return b.without(m.Size, func(b *body) ([]byte, error) { return b.fragment(m, ramdisk, room) })
}

func (b *body) fragment(m *boot.Vendor, ramdisk []byte, room int64) ([]byte, error) {
	page := int64(m.PageSize)
	part := func(name string) []byte {
		s := m.Section(name)
		return b.img[s.Offset : s.Offset+s.Size]
	}
	first := image.Align(vendorHeader, page) // in version 3 it is 16 bytes shorter, and no page ends there
	b.fill(first)
	out := bytes.Clone(b.img[:first])
	le := binary.LittleEndian
	var all []byte
	table := part("vendor_ramdisk_table")
	switch {
	case m.HeaderVersion == 4:
		// vendor_ramdisk_table_entry_size is checked by the parser where there are entries.
		entry := le.Uint32(b.img[2120:])
		if len(m.Fragments) == 0 {
			entry = entrySize
		}
		all, table = fragments(m, b.img, ramdisk, entry)
		le.PutUint32(out[2112:], uint32(len(table)))
		le.PutUint32(out[2116:], uint32(len(table))/entry)
		le.PutUint32(out[2120:], entry)
	case len(ramdisk) == 0:
		return nil, fmt.Errorf("this vendor boot image holds one ramdisk, which a normal start needs")
	default:
		all = ramdisk
	}
	le.PutUint32(out[24:], uint32(len(all)))
	for _, p := range [][]byte{all, part("dtb"), table, part("bootconfig")} {
		out = append(out, p...)
		out = append(out, make([]byte, image.Align(int64(len(out)), page)-int64(len(out)))...)
	}
	if m.Size < int64(len(b.img)) { // what somebody put behind it stays there
		out = append(out, b.img[m.Size:]...)
	}
	return b.put(out, room)
}

// fragments gives the ramdisks one behind the other, and their table.
func fragments(m *boot.Vendor, img, ramdisk []byte, entry uint32) (all, table []byte) {
	le := binary.LittleEndian
	t := m.Section("vendor_ramdisk_table")
	add := func(e, data []byte) {
		le.PutUint32(e, uint32(len(data)))
		le.PutUint32(e[4:], uint32(len(all)))
		all, table = append(all, data...), append(table, e...)
	}
	there := false
	for i, f := range m.Fragments {
		e := bytes.Clone(img[t.Offset+int64(i)*int64(entry):][:entry])
		data := img[f.Offset : f.Offset+f.Size]
		if f.Type == boot.FragmentRecovery {
			if there = true; len(ramdisk) == 0 {
				continue
			}
			data = ramdisk
		}
		add(e, data)
	}
	if !there && len(ramdisk) > 0 {
		// vendor_ramdisk_table_entry_v4: size, offset, type, name, board id
		e := make([]byte, entry)
		le.PutUint32(e[8:], boot.FragmentRecovery)
		copy(e[12:43], "recovery")
		add(e, ramdisk)
	}
	return all, table
}
