package boot

import (
	"bytes"
	"encoding/binary"
	"io"

	"jarlid/internal/core/image"
)

// VendorMagic starts every vendor boot image (VENDOR_BOOT_MAGIC in bootimg.h).
const VendorMagic = "VNDRBOOT"

const (
	vendorFormat       = "vendor boot image"
	vendorHeaderSizeV3 = 2112
	vendorHeaderSizeV4 = 2128
	fragmentEntrySize  = 108 // vendor_ramdisk_table_entry_v4
)

// Fragment types of vendor_ramdisk_table_entry_v4.
const (
	FragmentNone     = 0
	FragmentPlatform = 1
	FragmentRecovery = 2
	FragmentDLKM     = 3 // kernel modules
)

// FragmentTypes are the types in words.
var FragmentTypes = map[uint32]string{FragmentNone: "none", FragmentPlatform: "platform",
	FragmentRecovery: "recovery", FragmentDLKM: "dlkm"}

// Fragment is one ramdisk of a vendor boot image.
type Fragment struct {
	Offset, Size int64 // in the image, in bytes
	Type         uint32
	Name         string
	BoardID      [16]uint32
}

// Vendor is a parsed vendor boot image. Field names follow bootimg.h.
type Vendor struct {
	HeaderVersion uint32
	HeaderSize    uint32
	PageSize      uint32
	KernelAddr    uint32
	RamdiskAddr   uint32
	TagsAddr      uint32
	DTBAddr       uint64
	Name          string
	Cmdline       string
	Sections      []Section // vendor_ramdisk, dtb, vendor_ramdisk_table, bootconfig
	Fragments     []Fragment
	Size          int64
}

// Section gives the named section; one of size 0 when the image has none.
func (m *Vendor) Section(name string) Section {
	for _, s := range m.Sections {
		if s.Name == name {
			return s
		}
	}
	return Section{Name: name}
}

// Recovery gives the fragment that holds the recovery, or nil.
func (m *Vendor) Recovery() *Fragment {
	for i := range m.Fragments {
		if m.Fragments[i].Type == FragmentRecovery {
			return &m.Fragments[i]
		}
	}
	return nil
}

// ParseVendor reads the header and the fragment table of the image in r. As
// with Parse, a cut image gives what was read and an error that says so.
func ParseVendor(r io.ReaderAt, size int64) (*Vendor, error) {
	h, err := image.ReadAt(vendorFormat, r, size, 0, min(size, pageV3))
	if err != nil {
		return nil, err
	}
	if len(h) < len(VendorMagic) && bytes.HasPrefix([]byte(VendorMagic), h) {
		return nil, image.Truncated(vendorFormat, 0, vendorHeaderSizeV3, int64(len(h)))
	}
	if !bytes.HasPrefix(h, []byte(VendorMagic)) {
		return nil, image.Errorf(vendorFormat, 0, "does not begin with %q", VendorMagic)
	}
	if len(h) < vendorHeaderSizeV4 {
		return nil, image.Truncated(vendorFormat, 0, vendorHeaderSizeV4, int64(len(h)))
	}
	le := binary.LittleEndian
	m := &Vendor{HeaderVersion: le.Uint32(h[8:]), PageSize: le.Uint32(h[12:]), KernelAddr: le.Uint32(h[16:]),
		RamdiskAddr: le.Uint32(h[20:]),
		Cmdline:     cstring(h[28:2076]),
		TagsAddr:    le.Uint32(h[2076:]),
		Name:        cstring(h[2080:2096]),
		HeaderSize:  le.Uint32(h[2096:]), DTBAddr: le.Uint64(h[2104:])}
	if m.HeaderVersion != 3 && m.HeaderVersion != 4 {
		return nil, image.Errorf(vendorFormat, 8, "header version %d is not known", m.HeaderVersion)
	}
	if m.PageSize < 2048 || m.PageSize > 1<<20 || m.PageSize&(m.PageSize-1) != 0 {
		return nil, image.Errorf(vendorFormat, 12, "a page size of %d is not possible", m.PageSize)
	}
	sections := []Section{{Name: "vendor_ramdisk", Size: int64(le.Uint32(h[24:]))},
		{Name: "dtb", Size: int64(le.Uint32(h[2100:]))}}
	headerSize := int64(vendorHeaderSizeV3)
	if m.HeaderVersion == 4 {
		headerSize = vendorHeaderSizeV4
		sections = append(sections, Section{Name: "vendor_ramdisk_table", Size: int64(le.Uint32(h[2112:]))},
			Section{Name: "bootconfig", Size: int64(le.Uint32(h[2124:]))})
	}
	off := image.Align(headerSize, int64(m.PageSize))
	for _, s := range sections {
		if s.Size == 0 {
			continue
		}
		s.Offset = off
		if err == nil && (off > size || s.Size > size-off) {
			err = image.Truncated(vendorFormat+", "+s.Name, off, s.Size, size-off)
		}
		m.Sections = append(m.Sections, s)
		off = image.Align(off+s.Size, int64(m.PageSize))
	}
	m.Size = off
	if err != nil {
		return m, err
	}
	if m.HeaderVersion == 3 {
		s := m.Section("vendor_ramdisk")
		m.Fragments = []Fragment{{Offset: s.Offset, Size: s.Size, Type: FragmentPlatform}}
		return m, nil
	}
	return m, m.table(r, size, int64(le.Uint32(h[2116:])), int64(le.Uint32(h[2120:])))
}

// table reads the vendor ramdisk table.
func (m *Vendor) table(r io.ReaderAt, size, entries, entrySize int64) error {
	t, all := m.Section("vendor_ramdisk_table"), m.Section("vendor_ramdisk")
	if entries == 0 {
		return nil
	}
	if entrySize < fragmentEntrySize || entries > t.Size/entrySize {
		return image.Errorf(vendorFormat, 2116, "a table of %d entries of %d bytes does not fit its %d bytes",
			entries, entrySize, t.Size)
	}
	b, err := image.ReadAt(vendorFormat, r, size, t.Offset, entries*entrySize)
	if err != nil {
		return err
	}
	le := binary.LittleEndian
	for i := range entries {
		e := b[i*entrySize:]
		f := Fragment{Size: int64(le.Uint32(e)), Offset: int64(le.Uint32(e[4:])), Type: le.Uint32(e[8:]),
			Name: cstring(e[12:44])}
		for k := range f.BoardID {
			f.BoardID[k] = le.Uint32(e[44+4*k:])
		}
		if f.Offset > all.Size || f.Size > all.Size-f.Offset {
			return image.Errorf(vendorFormat, t.Offset+i*entrySize,
				"fragment %d lies outside the ramdisks' %d bytes", i, all.Size)
		}
		f.Offset += all.Offset
		m.Fragments = append(m.Fragments, f)
	}
	return nil
}

// FragmentParts is one ramdisk for BuildVendor.
type FragmentParts struct {
	Type    uint32
	Name    string
	BoardID [16]uint32
	Data    []byte
}

// BuildVendor writes a vendor boot image, version 3 (one ramdisk) or 4, with
// m's header fields. Page size 0 becomes 4096.
func BuildVendor(m Vendor, fragments []FragmentParts, dtb, bootconfig []byte) ([]byte, error) {
	if m.PageSize == 0 {
		m.PageSize = pageV3
	}
	if m.HeaderVersion != 3 && m.HeaderVersion != 4 || m.HeaderVersion == 3 && (len(fragments) != 1 ||
		len(bootconfig) > 0) {
		return nil, image.Errorf(vendorFormat, -1, "header version %d can't hold %d ramdisks",
			m.HeaderVersion, len(fragments))
	}
	if len(m.Cmdline) > 2047 || len(m.Name) > 15 {
		return nil, image.Errorf(vendorFormat, -1, "the name or command line is too long")
	}
	le := binary.LittleEndian
	size := vendorHeaderSizeV3
	if m.HeaderVersion == 4 {
		size = vendorHeaderSizeV4
	}
	h := make([]byte, image.Align(int64(size), int64(m.PageSize)))
	var ramdisks, table []byte
	for _, f := range fragments {
		if len(f.Name) > 31 {
			return nil, image.Errorf(vendorFormat, -1, "the fragment's name %q is too long", f.Name)
		}
		e := make([]byte, fragmentEntrySize)
		le.PutUint32(e, uint32(len(f.Data)))
		le.PutUint32(e[4:], uint32(len(ramdisks)))
		le.PutUint32(e[8:], f.Type)
		copy(e[12:44], f.Name)
		for k, v := range f.BoardID {
			le.PutUint32(e[44+4*k:], v)
		}
		table = append(table, e...)
		ramdisks = append(ramdisks, f.Data...)
	}
	copy(h, VendorMagic)
	copy(h[28:], m.Cmdline)
	copy(h[2080:], m.Name)
	for at, v := range map[int]uint32{8: m.HeaderVersion, 12: m.PageSize, 16: m.KernelAddr, 20: m.RamdiskAddr,
		24:   uint32(len(ramdisks)),
		2076: m.TagsAddr, 2096: uint32(size), 2100: uint32(len(dtb))} {
		le.PutUint32(h[at:], v)
	}
	le.PutUint64(h[2104:], m.DTBAddr)
	if m.HeaderVersion == 3 {
		return join(h, [][]byte{ramdisks, dtb}, int(m.PageSize)), nil
	}
	for at, v := range map[int]uint32{
		2112: uint32(len(table)),
		2116: uint32(len(fragments)),
		2120: fragmentEntrySize,
		2124: uint32(len(bootconfig)),
	} {
		le.PutUint32(h[at:], v)
	}
	return join(h, [][]byte{ramdisks, dtb, table, bootconfig}, int(m.PageSize)), nil
}
