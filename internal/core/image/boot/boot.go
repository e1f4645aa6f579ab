// Package boot reads and writes boot images, header versions 0 to 4: the
// kernel, the ramdisk and what belongs to them, as a bootloader starts them.
//
// The layout is published in the platform's bootimg.h and in "Boot image
// header" of its architecture documentation.
package boot

import (
	"bytes"
	"crypto/sha1"
	"encoding/binary"
	"fmt"
	"io"
	"strings"

	"jarlid/internal/core/image"
)

// Magic starts every boot image (BOOT_MAGIC in bootimg.h).
const Magic = "ANDROID!"

const (
	formatName = "boot image"

	// Header sizes in bytes: the sizes of the packed structures in bootimg.h.
	headerSizeV0 = 1632
	headerSizeV1 = 1648
	headerSizeV2 = 1660
	headerSizeV3 = 1580
	headerSizeV4 = 1584

	pageV3 = 4096 // from version 3 on the page size is fixed
)

// Section is one part of an image: where it lies and how long it is, in bytes.
type Section struct {
	Name         string // "kernel", "ramdisk", "second", "recovery_dtbo", "dtb", "boot_signature"
	Offset, Size int64
}

// Image is a parsed header. Field names follow bootimg.h.
type Image struct {
	HeaderVersion uint32
	HeaderSize    uint32 // from version 1 on as the header states it
	PageSize      uint32
	KernelAddr    uint32
	RamdiskAddr   uint32
	SecondAddr    uint32
	TagsAddr      uint32
	DTBAddr       uint64
	OSVersion     uint32 // packed: version 7+7+7 bits, year-2000 7 bits, month 4 bits
	Name          string
	Cmdline       string // cmdline and, up to version 2, extra_cmdline joined
	ID            [32]byte
	Sections      []Section
	Size          int64 // bytes from the start to the end of the last section, padded to a page
}

// Section gives the named section; one of size 0 when the image has none.
func (m *Image) Section(name string) Section {
	for _, s := range m.Sections {
		if s.Name == name {
			return s
		}
	}
	return Section{Name: name}
}

// Open gives the bytes of the named section.
func (m *Image) Open(r io.ReaderAt, name string) *io.SectionReader {
	s := m.Section(name)
	return io.NewSectionReader(r, s.Offset, s.Size)
}

// OS gives the version of the system the image was built for as "10.0.0", and
// its security patch level as "2026-05"; both empty when the field is 0.
func (m *Image) OS() (version, patch string) {
	v := m.OSVersion
	if v>>11 != 0 {
		version = fmt.Sprintf("%d.%d.%d", v>>25, v>>18&0x7f, v>>11&0x7f)
	}
	if v&0x7ff != 0 {
		patch = fmt.Sprintf("%04d-%02d", 2000+(v>>4&0x7f), v&0xf)
	}
	return version, patch
}

// PackOS packs a version and a patch level the way OSVersion holds them.
func PackOS(major, minor, patch, year, month int) uint32 {
	return uint32(major)<<25 | uint32(minor)<<18 | uint32(patch)<<11 | uint32(year-2000)<<4 | uint32(month)
}

// smallestTree is the least size of a device tree in bytes: its header has 40 of them
// (Devicetree Specification 0.4, 5.2), and one that says anything has far more.
const smallestTree = 512

// Parse reads the header of the image in r, which is size bytes long, and
// checks that every section is within it. An image that ends early gives an
// *image.Error for which image.IsShort is true, together with what was read.
func Parse(r io.ReaderAt, size int64) (*Image, error) {
	h, err := image.ReadAt(formatName, r, size, 0, min(size, pageV3))
	if err != nil {
		return nil, err
	}
	if len(h) < len(Magic) && bytes.HasPrefix([]byte(Magic), h) {
		return nil, image.Truncated(formatName, 0, headerSizeV3, int64(len(h)))
	}
	if !bytes.HasPrefix(h, []byte(Magic)) {
		return nil, image.Errorf(formatName, 0, "does not begin with %q", Magic)
	}
	if len(h) < headerSizeV3 {
		return nil, image.Truncated(formatName, 0, headerSizeV3, int64(len(h)))
	}
	le := binary.LittleEndian
	m := &Image{HeaderVersion: le.Uint32(h[40:])}
	if m.HeaderVersion > 4 && m.HeaderVersion < smallestTree {
		return nil, image.Errorf(formatName, 40, "header version %d is not known; 0 to 4 are",
			m.HeaderVersion)
	}
	if m.HeaderVersion > 4 {
		// Before versions existed some bootloaders kept the size of appended
		// device trees in this field; no such size is a small number.
		m.HeaderVersion = 0
	}
	if m.HeaderVersion >= 3 {
		return m, m.parseV3(h, size)
	}
	return m, m.parseV0(h, size)
}

func (m *Image) parseV0(h []byte, size int64) error {
	le := binary.LittleEndian
	need := [...]int64{headerSizeV0, headerSizeV1, headerSizeV2}[m.HeaderVersion]
	if int64(len(h)) < need {
		return image.Truncated(formatName, 0, need, int64(len(h)))
	}
	m.PageSize = le.Uint32(h[36:])
	if m.PageSize < 2048 || m.PageSize > 1<<20 || m.PageSize&(m.PageSize-1) != 0 {
		return image.Errorf(formatName, 36, "a page size of %d is not possible", m.PageSize)
	}
	m.KernelAddr, m.RamdiskAddr, m.SecondAddr, m.TagsAddr =
		le.Uint32(h[12:]), le.Uint32(h[20:]), le.Uint32(h[28:]), le.Uint32(h[32:])
	m.OSVersion = le.Uint32(h[44:])
	m.Name = cstring(h[48:64])
	m.Cmdline = cstring(h[64:576]) + cstring(h[608:1632])
	copy(m.ID[:], h[576:608])
	sizes := []Section{
		{Name: "kernel", Size: int64(le.Uint32(h[8:]))},
		{Name: "ramdisk", Size: int64(le.Uint32(h[16:]))},
		{Name: "second", Size: int64(le.Uint32(h[24:]))},
	}
	if m.HeaderVersion >= 1 {
		m.HeaderSize = le.Uint32(h[1644:])
		sizes = append(sizes, Section{Name: "recovery_dtbo", Size: int64(le.Uint32(h[1632:]))})
	}
	if m.HeaderVersion >= 2 {
		m.DTBAddr = le.Uint64(h[1652:])
		sizes = append(sizes, Section{Name: "dtb", Size: int64(le.Uint32(h[1648:]))})
	}
	return m.place(sizes, size)
}

func (m *Image) parseV3(h []byte, size int64) error {
	le := binary.LittleEndian
	m.PageSize = pageV3
	m.OSVersion = le.Uint32(h[16:])
	m.HeaderSize = le.Uint32(h[20:])
	m.Cmdline = cstring(h[44:1580])
	sizes := []Section{
		{Name: "kernel", Size: int64(le.Uint32(h[8:]))},
		{Name: "ramdisk", Size: int64(le.Uint32(h[12:]))},
	}
	if m.HeaderVersion >= 4 {
		if len(h) < headerSizeV4 {
			return image.Truncated(formatName, 0, headerSizeV4, int64(len(h)))
		}
		sizes = append(sizes, Section{Name: "boot_signature", Size: int64(le.Uint32(h[1580:]))})
	}
	return m.place(sizes, size)
}

// place lays the sections one behind the other, each from a new page on.
func (m *Image) place(sizes []Section, size int64) error {
	page := int64(m.PageSize)
	off := page
	var err error
	for _, s := range sizes {
		if s.Size == 0 {
			continue
		}
		s.Offset = off
		if err == nil && (off > size || s.Size > size-off) {
			err = image.Truncated(formatName+", "+s.Name, off, s.Size, size-off)
		}
		m.Sections = append(m.Sections, s)
		off = image.Align(off+s.Size, page)
	}
	m.Size = off
	return err
}

func cstring(b []byte) string {
	if i := bytes.IndexByte(b, 0); i >= 0 {
		b = b[:i]
	}
	return strings.ToValidUTF8(string(b), "?")
}

// Parts is what Build puts into an image.
type Parts struct {
	Kernel, Ramdisk, Second, RecoveryDTBO, DTB, Signature []byte
}

// Build writes an image with m's header fields and the given parts. Sections,
// Size, HeaderSize and ID are worked out; PageSize 0 becomes 2048 (4096 from
// version 3 on). It fails when a text does not fit its field or the version
// has no place for a part.
func Build(m Image, p Parts) ([]byte, error) {
	if m.HeaderVersion > 4 {
		return nil, fmt.Errorf("boot image: no header version %d", m.HeaderVersion)
	}
	if m.HeaderVersion >= 3 {
		return buildV3(m, p)
	}
	if m.PageSize == 0 {
		m.PageSize = 2048
	}
	if len(m.Name) > 15 || len(m.Cmdline) > 511+1023 {
		return nil, fmt.Errorf("boot image: the name or command line is too long")
	}
	if m.HeaderVersion < 2 && len(p.DTB) > 0 || m.HeaderVersion < 1 && len(p.RecoveryDTBO) > 0 ||
		len(p.Signature) > 0 {
		return nil, fmt.Errorf("boot image: header version %d has no place for all parts", m.HeaderVersion)
	}
	le := binary.LittleEndian
	h := make([]byte, m.PageSize)
	copy(h, Magic)
	le.PutUint32(h[8:], uint32(len(p.Kernel)))
	le.PutUint32(h[12:], m.KernelAddr)
	le.PutUint32(h[16:], uint32(len(p.Ramdisk)))
	le.PutUint32(h[20:], m.RamdiskAddr)
	le.PutUint32(h[24:], uint32(len(p.Second)))
	le.PutUint32(h[28:], m.SecondAddr)
	le.PutUint32(h[32:], m.TagsAddr)
	le.PutUint32(h[36:], m.PageSize)
	le.PutUint32(h[40:], m.HeaderVersion)
	le.PutUint32(h[44:], m.OSVersion)
	copy(h[48:63], m.Name)
	copy(h[64:575], m.Cmdline[:min(len(m.Cmdline), 511)])
	if len(m.Cmdline) > 511 {
		copy(h[608:1631], m.Cmdline[511:])
	}
	parts := [][]byte{p.Kernel, p.Ramdisk, p.Second}
	if m.HeaderVersion >= 1 {
		parts = append(parts, p.RecoveryDTBO)
		le.PutUint32(h[1632:], uint32(len(p.RecoveryDTBO)))
		le.PutUint32(h[1644:], headerSizeV1)
	}
	if m.HeaderVersion >= 2 {
		parts = append(parts, p.DTB)
		le.PutUint32(h[1644:], headerSizeV2)
		le.PutUint32(h[1648:], uint32(len(p.DTB)))
		le.PutUint64(h[1652:], m.DTBAddr)
	}
	// The id is a digest over each part and its length (the platform's rule).
	sum := sha1.New()
	for _, part := range parts {
		sum.Write(part)
		sum.Write(le.AppendUint32(nil, uint32(len(part))))
	}
	copy(h[576:608], sum.Sum(nil))
	off := int64(m.PageSize)
	if m.HeaderVersion >= 1 && len(p.RecoveryDTBO) > 0 {
		for _, part := range parts[:3] {
			off += image.Align(int64(len(part)), int64(m.PageSize))
		}
		le.PutUint64(h[1636:], uint64(off))
	}
	return join(h, parts, int(m.PageSize)), nil
}

func buildV3(m Image, p Parts) ([]byte, error) {
	if len(m.Cmdline) > 1535 {
		return nil, fmt.Errorf("boot image: the command line is too long")
	}
	if len(p.Second)+len(p.DTB)+len(p.RecoveryDTBO) > 0 || m.HeaderVersion < 4 && len(p.Signature) > 0 {
		return nil, fmt.Errorf("boot image: header version %d has no place for all parts", m.HeaderVersion)
	}
	le := binary.LittleEndian
	h := make([]byte, pageV3)
	copy(h, Magic)
	le.PutUint32(h[8:], uint32(len(p.Kernel)))
	le.PutUint32(h[12:], uint32(len(p.Ramdisk)))
	le.PutUint32(h[16:], m.OSVersion)
	le.PutUint32(h[20:], headerSizeV3)
	le.PutUint32(h[40:], m.HeaderVersion)
	copy(h[44:1579], m.Cmdline)
	parts := [][]byte{p.Kernel, p.Ramdisk}
	if m.HeaderVersion == 4 {
		le.PutUint32(h[20:], headerSizeV4)
		le.PutUint32(h[1580:], uint32(len(p.Signature)))
		parts = append(parts, p.Signature)
	}
	return join(h, parts, pageV3), nil
}

func join(header []byte, parts [][]byte, page int) []byte {
	out := header
	for _, part := range parts {
		out = append(out, part...)
		out = append(out, make([]byte, -len(part)&(page-1))...)
	}
	return out
}
