// Package ext4 reads ext4 file systems (and what of ext2 and ext3 is alike),
// read-only, as an fs.FS.
//
// The structures are published in the Linux kernel's
// Documentation/filesystems/ext4.
package ext4

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"strings"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/tree"
)

const (
	formatName = "ext4 file system"

	// SuperblockOffset is where the superblock lies, in bytes.
	SuperblockOffset = 1024
	superblockSize   = 1024
	magic            = 0xef53

	rootInode = 2

	compatSparseSuper2 = 0x200

	incompatMetaBG     = 0x10
	incompat64Bit      = 0x80
	incompatInlineData = 0x8000
	incompatEncrypt    = 0x10000

	// What this reader can deal with among the incompatible features: file
	// types in directories, a journal that needs replay (never on images),
	// meta block groups, extents, 64-bit, MMP, flexible groups, xattr inodes,
	// a checksum seed, large directories, inline data, encryption of single
	// folders, case folding.
	incompatKnown = 0x2 | 0x4 | incompatMetaBG | 0x40 | incompat64Bit | 0x100 | 0x200 | 0x400 |
		0x2000 | 0x4000 | incompatInlineData | incompatEncrypt | 0x20000

	roCompatSparseSuper  = 0x1
	roCompatSharedBlocks = 0x4000
)

// Super is what the superblock tells.
type Super struct {
	Inodes         uint32
	Blocks         uint64
	BlockSize      int64 // bytes
	BlocksPerGroup uint32
	InodesPerGroup uint32
	InodeSize      int64
	FirstBlock     uint32
	DescSize       int64
	FirstMetaBG    uint32
	Compat         uint32
	Incompat       uint32
	ROCompat       uint32
	UUID           [16]byte
	Volume         string // label
	LastMounted    string // where it was mounted last; images carry their mount point here
	FreeBlocks     uint64
	Mounts         uint16 // how often it was mounted since it was made or checked
	Mounted        uint32 // when it was mounted last, in seconds since 1970; 0: never
	backupBGs      [2]uint32
}

// Size is the file system's size in bytes.
func (s *Super) Size() int64 { return int64(s.Blocks) * s.BlockSize }

// Free is the room left in it, in bytes.
func (s *Super) Free() int64 { return int64(s.FreeBlocks) * s.BlockSize }

// Fresh reports whether it was never mounted since it was made.
func (s *Super) Fresh() bool { return s.Mounted == 0 && s.Mounts == 0 }

// SharedBlocks reports whether files share blocks, which makes the file system
// impossible to mount writable.
func (s *Super) SharedBlocks() bool { return s.ROCompat&roCompatSharedBlocks != 0 }

// IsMagic tells from the first 2 KiB of a file whether it may be ext4.
func IsMagic(head []byte) bool {
	return len(head) >= SuperblockOffset+58 && binary.LittleEndian.Uint16(head[SuperblockOffset+56:]) == magic
}

// Start reads the superblock in the first blocks of a file system, which goes on after them; nil when they
// hold none.
func Start(head []byte) *Super {
	s, _ := ParseSuper(bytes.NewReader(head), int64(len(head)))
	return s
}

// ParseSuper reads the superblock alone. A file shorter than its file system
// gives an *image.Error for which image.IsShort is true, together with what
// was read.
func ParseSuper(r io.ReaderAt, size int64) (*Super, error) {
	b, err := image.ReadAt(formatName, r, size, SuperblockOffset, superblockSize)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	if le.Uint16(b[56:]) != magic {
		return nil, image.Errorf(formatName, SuperblockOffset+56, "the magic number %#x is missing", magic)
	}
	s := &Super{Inodes: le.Uint32(b), Blocks: uint64(le.Uint32(b[4:])), FirstBlock: le.Uint32(b[20:]),
		BlocksPerGroup: le.Uint32(b[32:]), InodesPerGroup: le.Uint32(b[40:]), InodeSize: 128, DescSize: 32,
		Compat: le.Uint32(b[92:]), Incompat: le.Uint32(b[96:]), ROCompat: le.Uint32(b[100:]),
		FreeBlocks: uint64(le.Uint32(b[12:])), Mounted: le.Uint32(b[44:]), Mounts: le.Uint16(b[52:]),
		Volume: cstring(b[120:136]), LastMounted: cstring(b[136:200]), FirstMetaBG: le.Uint32(b[260:])}
	copy(s.UUID[:], b[104:120])
	s.backupBGs = [2]uint32{le.Uint32(b[588:]), le.Uint32(b[592:])}
	logSize := le.Uint32(b[24:])
	if logSize > 6 {
		return nil, image.Errorf(formatName, SuperblockOffset+24, "a block size of 2^%d KiB is not possible",
			logSize)
	}
	s.BlockSize = 1024 << logSize
	if le.Uint32(b[76:]) > 0 {
		s.InodeSize = int64(le.Uint16(b[88:]))
	}
	if s.Incompat&incompat64Bit != 0 {
		s.DescSize = int64(le.Uint16(b[254:]))
		s.Blocks |= uint64(le.Uint32(b[336:])) << 32
		s.FreeBlocks |= uint64(le.Uint32(b[344:])) << 32
	}
	switch {
	case s.InodeSize < 128 || s.InodeSize > s.BlockSize || s.InodeSize&(s.InodeSize-1) != 0:
		return nil, image.Errorf(formatName, SuperblockOffset+88, "inodes of %d bytes are not possible",
			s.InodeSize)
	case s.DescSize < 32 || s.DescSize > s.BlockSize || s.DescSize&(s.DescSize-1) != 0:
		return nil, image.Errorf(formatName, SuperblockOffset+254,
			"group descriptors of %d bytes are not possible", s.DescSize)
	case s.BlocksPerGroup == 0 || s.InodesPerGroup == 0:
		return nil, image.Errorf(formatName, SuperblockOffset+32,
			"groups without blocks or inodes are not possible")
	case s.Blocks == 0 || s.Blocks > (1<<62)/uint64(s.BlockSize):
		return nil, image.Errorf(formatName, SuperblockOffset+4, "%d blocks are not possible", s.Blocks)
	}
	if s.Size() > size {
		return s, image.Truncated(formatName, 0, s.Size(), size)
	}
	return s, nil
}

func cstring(b []byte) string {
	s, _, _ := strings.Cut(string(b), "\x00")
	return strings.ToValidUTF8(s, "?")
}

// FS is an opened file system. It implements fs.FS, fs.ReadDirFS, fs.StatFS
// and fs.ReadLinkFS; paths are resolved inside it, absolute links too.
type FS struct {
	tree.FS
	Super
	r    io.ReaderAt
	size int64
}

// New opens the file system in r, which is size bytes long. Features this
// reader does not know are an error that names their bits.
func New(r io.ReaderAt, size int64) (*FS, error) {
	s, err := ParseSuper(r, size)
	if err != nil {
		return nil, err
	}
	if unknown := s.Incompat &^ incompatKnown; unknown != 0 {
		return nil, image.Errorf(formatName, SuperblockOffset+96,
			"uses features this reader does not know (bits %#x)", unknown)
	}
	f := &FS{Super: *s, r: r, size: size}
	f.FS = tree.FS{Source: source{f}}
	root, err := f.inode(rootInode)
	if err != nil {
		return nil, err
	}
	if !root.IsDir() {
		return nil, image.Errorf(formatName, root.at, "the root is not a folder")
	}
	return f, nil
}

func (f *FS) read(off, n int64) ([]byte, error) {
	return image.ReadAt(formatName, f.r, f.size, off, n)
}

func (f *FS) block(n uint64) ([]byte, error) {
	if n >= f.Blocks {
		return nil, image.Errorf(formatName, -1, "block %d lies outside the file system's %d", n, f.Blocks)
	}
	return f.read(int64(n)*f.BlockSize, f.BlockSize)
}

// hasSuper reports whether a group begins with a copy of the superblock.
func (f *FS) hasSuper(group uint64) bool {
	switch {
	case group == 0:
		return true
	case f.Compat&compatSparseSuper2 != 0:
		return group == uint64(f.backupBGs[0]) || group == uint64(f.backupBGs[1])
	case group == 1 || f.ROCompat&roCompatSparseSuper == 0:
		return true
	}
	for _, base := range []uint64{3, 5, 7} {
		n := base
		for n < group {
			n *= base
		}
		if n == group {
			return true
		}
	}
	return false
}

// inodeTable gives the first block of a group's inode table.
func (f *FS) inodeTable(group uint64) (uint64, error) {
	perBlock := uint64(f.BlockSize / f.DescSize)
	descBlock := group / perBlock
	var at uint64
	if f.Incompat&incompatMetaBG == 0 || descBlock < uint64(f.FirstMetaBG) {
		// Behind the block that holds the superblock: with bigalloc and blocks of 1 KiB the first data
		// block is 0 all the same.
		at = uint64(SuperblockOffset/f.BlockSize) + 1 + descBlock
	} else {
		first := descBlock * perBlock
		at = uint64(f.FirstBlock) + first*uint64(f.BlocksPerGroup)
		if f.hasSuper(first) {
			at++
		}
		if f.BlockSize == SuperblockOffset && descBlock == 0 && f.FirstBlock == 0 {
			at++ // the block before the superblock counts (fs/ext4/super.c, descriptor_loc)
		}
	}
	if at >= f.Blocks {
		return 0, image.Errorf(formatName, -1, "the descriptor of group %d lies outside", group)
	}
	d, err := f.read(int64(at)*f.BlockSize+int64(group%perBlock)*f.DescSize, f.DescSize)
	if err != nil {
		return 0, err
	}
	le := binary.LittleEndian
	table := uint64(le.Uint32(d[8:]))
	if f.DescSize >= 64 {
		table |= uint64(le.Uint32(d[0x28:])) << 32
	}
	return table, nil
}

const (
	flagEncrypt    = 0x800
	flagExtents    = 0x80000
	flagInlineData = 0x10000000
)

// inode is one inode's parts that are used here.
type inode struct {
	tree.Meta
	num      uint32
	at       int64 // offset in the image
	uid, gid uint32
	flags    uint32
	blocks   uint64 // in units of 512 bytes, or of blocks
	acl      uint64 // the block of extended attributes
	body     []byte // the 60 bytes of block map, extent root or inline data
	extra    []byte // what follows the fixed fields: extended attributes
}

func (f *FS) inode(num uint32) (*inode, error) {
	if num == 0 || num > f.Inodes {
		return nil, image.Errorf(formatName, -1, "inode %d is not one of the %d there are", num, f.Inodes)
	}
	group := uint64(num-1) / uint64(f.InodesPerGroup)
	table, err := f.inodeTable(group)
	if err != nil {
		return nil, err
	}
	if table >= f.Blocks {
		return nil, image.Errorf(formatName, -1, "the inode table of group %d lies outside", group)
	}
	at := int64(table)*f.BlockSize + int64(uint64(num-1)%uint64(f.InodesPerGroup))*f.InodeSize
	b, err := f.read(at, f.InodeSize)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	n := &inode{num: num, at: at,
		Meta: tree.Meta{Bits: le.Uint16(b), Seconds: int64(int32(le.Uint32(b[16:]))),
			Bytes: int64(uint64(le.Uint32(b[4:])) | uint64(le.Uint32(b[108:]))<<32)},
		uid:    uint32(le.Uint16(b[2:])) | uint32(le.Uint16(b[120:]))<<16,
		gid:    uint32(le.Uint16(b[24:])) | uint32(le.Uint16(b[122:]))<<16,
		blocks: uint64(le.Uint32(b[28:])),
		flags:  le.Uint32(b[32:]),
		acl:    uint64(le.Uint32(b[104:])) | uint64(le.Uint16(b[118:]))<<32,
		body:   b[40:100]}
	if f.InodeSize > 128 {
		if extra := int64(le.Uint16(b[128:])); extra >= 4 && 128+extra <= f.InodeSize {
			n.extra = b[128+extra:]
		}
	}
	if n.Bits == 0 {
		return nil, image.Errorf(formatName, at, "inode %d is not in use", num)
	}
	if n.Bytes < 0 {
		return nil, image.Errorf(formatName, at+4, "inode %d has an impossible size", num)
	}
	return n, nil
}

// Xattrs gives the extended attributes of the file at name by their full
// names ("security.selinux").
func (f *FS) Xattrs(name string) (map[string][]byte, error) {
	n, err := f.Find(name, false)
	if err != nil {
		return nil, err
	}
	return f.xattrs(n.(*inode))
}

const (
	xattrMagic = 0xea020000
	maxXattr   = 64 << 10
)

var xattrPrefixes = map[byte]string{1: "user.", 2: "system.posix_acl_access", 3: "system.posix_acl_default",
	4: "trusted.", 6: "security.", 7: "system.", 8: "system.richacl"}

func (f *FS) xattrs(n *inode) (map[string][]byte, error) {
	all := map[string][]byte{}
	le := binary.LittleEndian
	if len(n.extra) >= 4 && le.Uint32(n.extra) == xattrMagic {
		// In the inode, values are counted from the first entry.
		if err := f.xattrList(n.extra[4:], n.extra[4:], all); err != nil {
			return nil, err
		}
	}
	if n.acl != 0 {
		b, err := f.block(n.acl)
		if err != nil {
			return nil, err
		}
		if le.Uint32(b) != xattrMagic {
			return nil, image.Errorf(formatName, int64(n.acl)*f.BlockSize,
				"no extended attributes where inode %d has them", n.num)
		}
		// In a block of their own, values are counted from the block's start.
		if err := f.xattrList(b[32:], b, all); err != nil {
			return nil, err
		}
	}
	return all, nil
}

func (f *FS) xattrList(entries, values []byte, all map[string][]byte) error {
	le := binary.LittleEndian
	for len(entries) >= 16 && le.Uint32(entries) != 0 {
		nameLen, index := int(entries[0]), entries[1]
		off, inum, size := int(le.Uint16(entries[2:])), le.Uint32(entries[4:]), int64(le.Uint32(entries[8:]))
		if 16+nameLen > len(entries) {
			return image.Errorf(formatName, -1, "an extended attribute's name goes beyond its place")
		}
		name := xattrPrefixes[index] + string(entries[16:16+nameLen])
		var value []byte
		if inum != 0 {
			vn, err := f.inode(inum)
			if err != nil {
				return err
			}
			if value, err = f.content(vn, maxXattr); err != nil {
				return err
			}
		} else {
			if size > int64(len(values)) || off > len(values)-int(size) {
				return image.Errorf(formatName, -1, "the value of %s goes beyond its place", name)
			}
			value = values[off : off+int(size)]
		}
		all[name] = value
		next := (16 + nameLen + 3) &^ 3
		if next > len(entries) {
			break
		}
		entries = entries[next:]
	}
	return nil
}

// EncryptedError says that a file's contents are encrypted, with a key that the phone has.
type EncryptedError struct{ Inode uint32 }

// AboutNoDamage marks it as no fault of the file system's.
func (*EncryptedError) AboutNoDamage() {}

// Error names the inode.
func (e *EncryptedError) Error() string {
	return fmt.Sprintf("%s: inode %d is encrypted, with a key that only the phone has", formatName, e.Inode)
}

// unsupported says what of a file can't be read here.
func unsupported(n *inode, what string) error {
	return &image.Error{Format: formatName, Offset: n.at, What: fmt.Sprintf("inode %d %s", n.num, what)}
}
