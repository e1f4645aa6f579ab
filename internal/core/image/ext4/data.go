package ext4

import (
	"encoding/binary"
	"sort"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/tree"
)

const (
	extentMagic    = 0xf30a
	maxExtentDepth = 5
	maxExtents     = 1 << 20 // in one file: 128 GiB in runs of 128 KiB
	maxUnwritten   = 32768   // longer lengths mark an unwritten run

	directBlocks = 12
)

// extent is a run of a file's blocks; start 0 is a hole.
type extent struct{ logical, count, start uint64 }

// data reads a file's contents.
type data struct {
	f      *FS
	n      *inode
	inline []byte
	runs   []extent
	mapped bool // by the old block map instead of extents
	last   struct {
		at uint64
		b  []byte
	}
}

func (f *FS) data(n *inode) (*data, error) {
	d := &data{f: f, n: n}
	switch {
	case n.flags&flagEncrypt != 0 && n.Mode().IsRegular():
		return nil, &EncryptedError{n.num}
	case n.flags&flagInlineData != 0:
		d.inline = n.body
		attrs, err := f.xattrs(n)
		if err != nil {
			return nil, err
		}
		d.inline = append(d.inline[:len(d.inline):len(d.inline)], attrs["system.data"]...)
		if n.Bytes > int64(len(d.inline)) {
			return nil, unsupported(n, "has less inline data than its size")
		}
	case n.flags&flagExtents != 0:
		if err := d.extents(n.body, -1); err != nil {
			return nil, err
		}
		sort.Slice(d.runs, func(i, j int) bool { return d.runs[i].logical < d.runs[j].logical })
		for i := 1; i < len(d.runs); i++ {
			if d.runs[i-1].logical+d.runs[i-1].count > d.runs[i].logical {
				return nil, unsupported(n, "has extents that overlap")
			}
		}
	default:
		d.mapped = true
	}
	return d, nil
}

// extents reads a node of the extent tree; depth is that of its parent, -1 at
// the root.
func (d *data) extents(b []byte, parent int) error {
	le := binary.LittleEndian
	count, depth := int(le.Uint16(b[2:])), int(le.Uint16(b[6:]))
	if le.Uint16(b) != extentMagic || 12+12*count > len(b) {
		return unsupported(d.n, "has a damaged extent tree")
	}
	if depth > maxExtentDepth || parent >= 0 && depth != parent-1 {
		return unsupported(d.n, "has an extent tree with a loop in it")
	}
	for i := range count {
		e := b[12+12*i:]
		if depth == 0 {
			x := extent{logical: uint64(le.Uint32(e)), count: uint64(le.Uint16(e[4:])),
				start: uint64(le.Uint16(e[6:]))<<32 | uint64(le.Uint32(e[8:]))}
			if x.count > maxUnwritten {
				x.count -= maxUnwritten
				x.start = 0
			} else if x.start > d.f.Blocks || x.count > d.f.Blocks-x.start {
				return unsupported(d.n, "has an extent outside the file system")
			}
			d.runs = append(d.runs, x)
			if len(d.runs) > maxExtents {
				return unsupported(d.n, "has too many extents")
			}
			continue
		}
		child, err := d.f.block(uint64(le.Uint32(e[4:])) | uint64(le.Uint16(e[8:]))<<32)
		if err != nil {
			return err
		}
		if err := d.extents(child, depth); err != nil {
			return err
		}
	}
	return nil
}

// find gives the block on disk (0: a hole) and how many blocks from there on
// lie together.
func (d *data) find(logical uint64) (start, count uint64, err error) {
	if d.mapped {
		start, err = d.mapBlock(logical)
		return start, 1, err
	}
	i := sort.Search(len(d.runs), func(i int) bool { return d.runs[i].logical+d.runs[i].count > logical })
	if i == len(d.runs) {
		return 0, 1 << 32, nil
	}
	x := d.runs[i]
	if x.logical > logical {
		return 0, x.logical - logical, nil
	}
	skip := logical - x.logical
	if x.start == 0 {
		return 0, x.count - skip, nil
	}
	return x.start + skip, x.count - skip, nil
}

// mapBlock follows the direct, indirect, double and triple indirect blocks.
func (d *data) mapBlock(n uint64) (uint64, error) {
	le := binary.LittleEndian
	if n < directBlocks {
		return uint64(le.Uint32(d.n.body[4*n:])), nil
	}
	n -= directBlocks
	per := uint64(d.f.BlockSize / 4)
	span := uint64(1)
	for level := range uint64(3) {
		if n < span*per {
			at := uint64(le.Uint32(d.n.body[4*(directBlocks+level):]))
			for ; at != 0; span /= per {
				if d.last.at != at {
					b, err := d.f.block(at)
					if err != nil {
						return 0, err
					}
					d.last.at, d.last.b = at, b
				}
				at = uint64(le.Uint32(d.last.b[4*(n/span%per):]))
				if span == 1 {
					return at, nil
				}
			}
			return 0, nil
		}
		n -= span * per
		span *= per
	}
	return 0, unsupported(d.n, "is larger than its block map can be")
}

// ReadAt reads like io.ReaderAt; holes and unwritten runs read as zeros.
func (d *data) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 {
		return 0, unsupported(d.n, "is read before its start")
	}
	return tree.ReadAt(p, off, d.n.Bytes, d.readRun)
}

func (d *data) readRun(p []byte, off int64) (int, error) {
	if d.inline != nil {
		return copy(p, d.inline[off:]), nil
	}
	bs := d.f.BlockSize
	start, count, err := d.find(uint64(off / bs))
	if err != nil {
		return 0, err
	}
	in := off % bs
	p = p[:min(int64(len(p)), int64(min(count, 1<<30))*bs-in)]
	if start == 0 {
		clear(p)
		return len(p), nil
	}
	if start >= d.f.Blocks {
		return 0, unsupported(d.n, "has a block outside the file system")
	}
	n, err := d.f.r.ReadAt(p, int64(start)*bs+in)
	if n < len(p) {
		return n, &image.Error{Format: formatName, Offset: int64(start)*bs + in, What: "cannot be read",
			Short: true, Err: err}
	}
	return n, nil
}

// content reads a whole file of at most limit bytes.
func (f *FS) content(n *inode, limit int64) ([]byte, error) {
	if n.Bytes > limit {
		return nil, unsupported(n, "is too large for what it is")
	}
	d, err := f.data(n)
	if err != nil {
		return nil, err
	}
	return tree.Whole(d, n.Bytes)
}
