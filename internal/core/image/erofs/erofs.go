// Package erofs reads EROFS file systems, read-only, as an fs.FS: files stored
// plain, inline, in chunks, and compressed with lz4 (lz4hc gives the same form)
// in both index forms, with big clusters, inlined tails and fragments. Other
// algorithms are refused by name.
//
// The structures are published in the Linux kernel's fs/erofs/erofs_fs.h and
// Documentation/filesystems/erofs.rst.
package erofs

import (
	"encoding/binary"
	"fmt"
	"io"
	"strings"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/tree"
)

const (
	formatName = "EROFS file system"

	// superOffset is where the superblock lies, in bytes.
	superOffset = 1024
	superSize   = 128
	magic       = 0xe0f5e1e2
	slotSize    = 32 // inodes are counted in slots of this size

	featZeroPadding = 0x1
	featBigCluster  = 0x2 // also: compression configurations
	featChunks      = 0x4
	featDevices     = 0x8 // also: a second compressed form
	featTails       = 0x10
	featFragments   = 0x20 // also: shared compressed data
	featPrefixes    = 0x40
	featKnown       = 0x7f
)

// Super is what the superblock tells.
type Super struct {
	BlockSize    int64
	RootNID      uint64
	Inodes       uint64
	Blocks       uint32
	MetaBlock    uint32
	UUID         [16]byte
	Volume       string
	Incompat     uint32
	PackedNID    uint64
	ExtraDevices uint16
	blockBits    uint
}

// Size is the file system's size in bytes.
func (s *Super) Size() int64 { return int64(s.Blocks) * s.BlockSize }

// ParseSuper reads the superblock alone. A file shorter than its file system
// gives an *image.Error for which image.IsShort is true, together with what
// was read.
func ParseSuper(r io.ReaderAt, size int64) (*Super, error) {
	b, err := image.ReadAt(formatName, r, size, superOffset, superSize)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	if le.Uint32(b) != magic {
		return nil, image.Errorf(formatName, superOffset, "the magic number %#x is missing", uint32(magic))
	}
	s := &Super{blockBits: uint(b[12]), RootNID: uint64(le.Uint16(b[14:])), Inodes: le.Uint64(b[16:]),
		Blocks:       le.Uint32(b[36:]),
		MetaBlock:    le.Uint32(b[40:]),
		Incompat:     le.Uint32(b[80:]),
		ExtraDevices: le.Uint16(b[86:]),
		PackedNID:    le.Uint64(b[96:])}
	copy(s.UUID[:], b[48:64])
	s.Volume, _, _ = strings.Cut(string(b[64:80]), "\x00")
	s.Volume = strings.ToValidUTF8(s.Volume, "?")
	if s.blockBits < 9 || s.blockBits > 16 {
		return nil, image.Errorf(formatName, superOffset+12, "a block size of 2^%d is not possible",
			s.blockBits)
	}
	s.BlockSize = 1 << s.blockBits
	if s.Size() > size {
		return s, image.Truncated(formatName, 0, s.Size(), size)
	}
	return s, nil
}

// FS is an opened file system. It implements fs.FS, fs.ReadDirFS, fs.StatFS and
// fs.ReadLinkFS; paths are resolved inside it, absolute links too.
type FS struct {
	tree.FS
	Super
	r    io.ReaderAt
	size int64
}

// New opens the file system in r, which is size bytes long.
func New(r io.ReaderAt, size int64) (*FS, error) {
	s, err := ParseSuper(r, size)
	if err != nil {
		return nil, err
	}
	if unknown := s.Incompat &^ featKnown; unknown != 0 {
		return nil, image.Errorf(formatName, superOffset+80,
			"uses features this reader does not know (bits %#x)", unknown)
	}
	f := &FS{Super: *s, r: r, size: size}
	f.FS = tree.FS{Source: source{f}}
	root, err := f.inode(s.RootNID)
	if err != nil {
		return nil, err
	}
	if !root.IsDir() {
		return nil, image.Errorf(formatName, root.at, "the root is not a folder")
	}
	return f, nil
}

func (f *FS) read(off, n int64) ([]byte, error) { return image.ReadAt(formatName, f.r, f.size, off, n) }

// Layouts of a file's data (erofs_inode_datalayout).
const (
	flatPlain = iota
	compressedFull
	flatInline
	compressedCompact
	chunkBased
)

type inode struct {
	tree.Meta
	nid    uint64
	at     int64 // offset in the image
	end    int64 // of the inode and its extended attributes
	layout int
	u      uint32 // first block, or the chunks' form
}

func (f *FS) inode(nid uint64) (*inode, error) {
	if nid > uint64(f.size)/slotSize {
		return nil, image.Errorf(formatName, -1, "inode %d lies outside", nid)
	}
	at := int64(f.MetaBlock)*f.BlockSize + int64(nid)*slotSize
	b, err := f.read(at, 32)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	format := le.Uint16(b)
	n := &inode{nid: nid, at: at, Meta: tree.Meta{Bits: le.Uint16(b[4:]), Bytes: int64(le.Uint32(b[8:]))},
		layout: int(format >> 1 & 7), u: le.Uint32(b[16:])}
	head := int64(32)
	if format&1 != 0 {
		if b, err = f.read(at, 64); err != nil {
			return nil, err
		}
		head, n.Bytes, n.Seconds = 64, int64(le.Uint64(b[8:])), int64(le.Uint64(b[32:]))
	}
	n.end = at + head
	if x := int64(le.Uint16(b[2:])); x > 0 {
		n.end += 12 + (x-1)*4
	}
	if n.Bytes < 0 || n.layout > chunkBased {
		return nil, image.Errorf(formatName, at, "inode %d has an impossible size or layout", nid)
	}
	return n, nil
}

func (n *inode) broken(what string, args ...any) error {
	return image.Errorf(formatName, n.at, "inode %d %s", n.nid, fmt.Sprintf(what, args...))
}

// run is a piece of a file and where it comes from.
type run struct {
	start, size int64 // in the file
	from        int64 // in the image; -1: a hole
	stored      int64 // bytes in the image; for what is not compressed the same as size
	form        int
}

// The forms of a run.
const (
	formRaw     = iota
	formShifted // whole blocks, stored as they are
	formTurned  // whole blocks, stored turned by the offset in the block
	formPacked  // in the packed file
	formLZ4     // from here on in the order of Z_EROFS_COMPRESSION_*
	formLZMA
	formDeflate
	formZstd
)

// data is an open file's contents.
type data struct {
	f      *FS
	n      *inode
	runs   []run
	packed *data
	last   int // the run that is in cache
	cache  []byte
}

// maxRuns bounds a file's pieces: 16 GiB in clusters of 4 KiB.
const maxRuns = 1 << 22

func (f *FS) data(n *inode) (*data, error) {
	d := &data{f: f, n: n, last: -1}
	var err error
	switch n.layout {
	case flatPlain:
		d.runs = []run{{0, n.Bytes, int64(n.u) * f.BlockSize, n.Bytes, formRaw}}
	case flatInline:
		tail := n.Bytes % f.BlockSize
		head := n.Bytes - tail
		d.runs = []run{{0, head, int64(n.u) * f.BlockSize, head, formRaw}, {head, tail, n.end, tail, formRaw}}
	case chunkBased:
		err = d.chunks()
	default:
		err = d.clusters()
	}
	if err != nil {
		return nil, err
	}
	for _, r := range d.runs {
		if r.size > 0 && r.form != formPacked && r.from >= 0 &&
			(r.from > f.size || r.stored > f.size-r.from) {
			return nil, n.broken("has data outside the file system's %d bytes", f.size)
		}
	}
	return d, nil
}

// chunks reads the map of a file made of chunks (erofs_inode_chunk_index).
func (d *data) chunks() error {
	const indexes = 0x20
	form := d.n.u & 0xffff
	bits := uint(form&0x1f) + d.f.blockBits
	if form&^0x3f != 0 || bits > 40 {
		return d.n.broken("has chunks of form %#x, which is not known", form)
	}
	unit := int64(4)
	if form&indexes != 0 {
		unit = 8
	}
	count := (d.n.Bytes + 1<<bits - 1) >> bits
	if count > maxRuns {
		return d.n.broken("has too many chunks")
	}
	b, err := d.f.read(image.Align(d.n.end, unit), count*unit)
	if err != nil {
		return err
	}
	le := binary.LittleEndian
	for i := range count {
		block := le.Uint32(b[i*unit:])
		if unit == 8 {
			if dev := le.Uint16(b[i*unit+2:]); dev != 0 {
				return d.n.broken("lies on another device, which is not supported")
			}
			block = le.Uint32(b[i*unit+4:])
		}
		r := run{start: i << bits, from: -1}
		r.size = min(int64(1)<<bits, d.n.Bytes-r.start)
		if block != 0xffffffff {
			r.from = int64(block) * d.f.BlockSize
		}
		r.stored = r.size
		d.runs = append(d.runs, r)
	}
	return nil
}

// IsMagic tells from the first 2 KiB of a file whether it may be EROFS.
func IsMagic(head []byte) bool {
	return len(head) >= superOffset+4 && binary.LittleEndian.Uint32(head[superOffset:]) == magic
}
