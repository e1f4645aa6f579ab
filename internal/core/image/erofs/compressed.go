package erofs

import (
	"encoding/binary"
	"errors"
	"io"
	"sort"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/tree"
)

// Bits of a compressed file's header (z_erofs_map_header, h_advise).
const (
	adviseCompact2B = 0x1
	adviseBig1      = 0x2
	adviseBig2      = 0x4
	adviseInline    = 0x8
	adviseTurned    = 0x10
	adviseFragment  = 0x20

	// Types of logical clusters.
	clusterPlain = 0
	clusterHead1 = 1
	clusterBody  = 2
	clusterHead2 = 3

	// In a body's distance: this many blocks are stored, instead.
	countBit = 1 << 11
)

// cluster is one logical cluster's entry.
type cluster struct {
	typ    int
	offset int64 // of a head: where in the cluster it begins
	block  uint32
	count  int64 // stored blocks, when this entry says so
}

// clusters reads the index of a compressed file.
func (d *data) clusters() error {
	at := image.Align(d.n.end, 8)
	h, err := d.f.read(at, 8)
	if err != nil {
		return err
	}
	le := binary.LittleEndian
	if h[7]>>7 != 0 { // the whole file is in the packed one
		return d.fragment([]run{{0, d.n.Bytes, int64(le.Uint64(h) &^ (1 << 63)), 0, formPacked}})
	}
	advise := le.Uint16(h[4:])
	for _, a := range []byte{h[6] & 15, h[6] >> 4} {
		if a >= algorithms {
			return d.n.broken("is compressed with algorithm %d, which is not known", a)
		}
	}
	bits := d.f.blockBits + uint(h[7]&7)
	total := (d.n.Bytes + 1<<bits - 1) >> bits
	if total > maxRuns {
		return d.n.broken("has too many clusters")
	}
	x := &index{d: d, bits: bits, big: advise&(adviseBig1|adviseBig2) != 0, total: total}
	list, end, err := x.read(at+8, advise)
	if err != nil {
		return err
	}
	for i := int64(0); i < total; i++ {
		c := list[i]
		if c.typ == clusterBody {
			if c.count > 0 && len(d.runs) > 0 {
				d.runs[len(d.runs)-1].stored = c.count * d.f.BlockSize
			}
			continue
		}
		if i == total-1 && len(d.runs) > 0 && i<<bits+c.offset >= d.n.Bytes {
			break // the entry that closes the list
		}
		r := run{start: i<<bits + c.offset, from: int64(c.block) * d.f.BlockSize, stored: d.f.BlockSize}
		algorithm := h[6] & 15
		if c.typ == clusterHead2 {
			algorithm = h[6] >> 4
		}
		switch {
		case c.typ == clusterPlain && advise&adviseTurned != 0:
			r.form = formTurned
		case c.typ == clusterPlain:
			r.form = formShifted
		default:
			r.form = formLZ4 + int(algorithm)
		}
		if n := len(d.runs); n > 0 {
			if r.start <= d.runs[n-1].start {
				return d.n.broken("has clusters out of order")
			}
			d.runs[n-1].size = r.start - d.runs[n-1].start
		} else if r.start != 0 {
			return d.n.broken("does not begin at its start")
		}
		d.runs = append(d.runs, r)
	}
	n := len(d.runs)
	if n == 0 {
		if d.n.Bytes > 0 {
			return d.n.broken("has no clusters")
		}
		return nil
	}
	last := &d.runs[n-1]
	last.size = d.n.Bytes - last.start
	switch {
	case last.size <= 0:
		return d.n.broken("has a last cluster behind its end")
	case advise&adviseInline != 0:
		last.from, last.stored = end, int64(le.Uint16(h[2:]))
	case advise&adviseFragment != 0:
		off := int64(le.Uint32(h))
		if d.n.layout == compressedFull {
			off |= int64(list[last.start>>bits].block) << 32
		}
		last.from, last.stored, last.form = off, 0, formPacked
		return d.fragment(d.runs)
	}
	for i := range d.runs {
		if d.runs[i].stored > 1<<22 || d.runs[i].size > 1<<27 {
			return d.n.broken("has a cluster of %d bytes for %d, which is not possible", d.runs[i].stored,
				d.runs[i].size)
		}
	}
	return nil
}

// fragment opens the packed file, in which the last run, or all, lies.
func (d *data) fragment(runs []run) error {
	if d.f.PackedNID == 0 || d.n.nid == d.f.PackedNID {
		return d.n.broken("lies in a packed file that is not there")
	}
	n, err := d.f.inode(d.f.PackedNID)
	if err != nil {
		return err
	}
	if d.packed, err = d.f.data(n); err != nil {
		return err
	}
	d.runs = runs
	return nil
}

// index reads the entries of logical clusters.
type index struct {
	d     *data
	bits  uint
	big   bool
	total int64
}

// read gives all entries and where the index ends.
func (x *index) read(at int64, advise uint16) (list []cluster, end int64, err error) {
	if x.d.n.layout == compressedFull {
		return x.full(at + 8) // behind the header there is a gap from an older form
	}
	// The compact form: entries of 4 bytes up to a multiple of 32, of 2 as far
	// as they fill packs of 16, then of 4 again.
	first := (32 - at%32) / 4 & 7
	twos := int64(0)
	if advise&adviseCompact2B != 0 && first < x.total {
		twos = (x.total - first) &^ 15
	}
	list = make([]cluster, 0, x.total)
	for _, part := range []struct {
		entries int64
		shift   uint
	}{{min(first, x.total), 2}, {twos, 1}, {x.total - min(first, x.total) - twos, 2}} {
		for done := int64(0); done < part.entries; {
			got, next, err := x.pack(at, part.shift, part.entries-done)
			if err != nil {
				return nil, 0, err
			}
			list = append(list, got...)
			done += int64(len(got))
			at += int64(len(got)) << part.shift
			end = next
		}
	}
	return list, end, nil
}

func (x *index) full(at int64) (list []cluster, end int64, err error) {
	b, err := x.d.f.read(at, x.total*8)
	if err != nil {
		return nil, 0, err
	}
	le := binary.LittleEndian
	for i := range x.total {
		e := b[i*8:]
		c := cluster{typ: int(le.Uint16(e) & 3), offset: int64(le.Uint16(e[2:]))}
		if c.typ == clusterBody {
			if delta := int64(le.Uint16(e[4:])); delta&countBit != 0 {
				c.count = delta &^ countBit
			}
		} else {
			c.block = le.Uint32(e[4:])
			if c.offset >= 1<<x.bits {
				return nil, 0, x.d.n.broken("has a cluster that begins behind itself")
			}
		}
		list = append(list, c)
	}
	return list, at + x.total*8, nil
}

// pack decodes the entries of the pack at is in, from at on, at most most
// of them. A pack is some entries of equal bits and, last, the block they are
// counted from.
func (x *index) pack(at int64, shift uint, most int64) (list []cluster, next int64, err error) {
	count := int64(2)
	if shift == 1 {
		count = 16
	}
	if shift == 2 && x.bits > 14 || shift == 1 && x.bits > 12 {
		return nil, 0, x.d.n.broken("has clusters too large for its index form")
	}
	size := count << shift
	base := at &^ (size - 1)
	b, err := x.d.f.read(base, size)
	if err != nil {
		return nil, 0, err
	}
	le := binary.LittleEndian
	low := max(x.bits, 12)
	width := int((size-4)*8) / int(count)
	entry := func(i int) (typ int, v int64) {
		at := i * width
		w := le.Uint32(append(append([]byte(nil), b[at/8:min(len(b), at/8+4)]...), 0, 0, 0)[:4]) >> (at & 7)
		return int(w >> low & 3), int64(w & (1<<low - 1))
	}
	for i := int(at-base) >> shift; i < int(count) && int64(len(list)) < most; i++ {
		typ, v := entry(i)
		c := cluster{typ: typ}
		if typ == clusterBody {
			if v&countBit != 0 {
				c.count = v &^ countBit
			}
			list = append(list, c)
			continue
		}
		c.offset = v
		if v >= 1<<x.bits {
			return nil, 0, x.d.n.broken("has a cluster that begins behind itself")
		}
		n, ok := x.before(i, entry)
		if !ok {
			return nil, 0, x.d.n.broken("has a damaged index")
		}
		c.block = le.Uint32(b[size-4:]) + n
		list = append(list, c)
	}
	return list, base + size, nil
}

// before counts the stored blocks of a pack up to its entry i.
func (x *index) before(i int, entry func(int) (int, int64)) (n uint32, ok bool) {
	if !x.big {
		n = 1
		for i > 0 {
			i--
			typ, v := entry(i)
			if typ == clusterBody {
				i -= int(v)
			}
			if i >= 0 {
				n++
			}
		}
		return n, true
	}
	for i > 0 {
		i--
		typ, v := entry(i)
		if typ != clusterBody {
			n++
			continue
		}
		if v&countBit != 0 {
			i--
			n += uint32(v &^ countBit)
			continue
		}
		if v <= 1 {
			return 0, false
		}
		i -= int(v) - 2
	}
	return n, true
}

// ReadAt reads like io.ReaderAt. It is not for concurrent use: the last
// cluster is kept.
func (d *data) ReadAt(p []byte, off int64) (int, error) {
	return tree.ReadAt(p, off, d.n.Bytes, func(p []byte, at int64) (int, error) {
		i := sort.Search(len(d.runs), func(i int) bool { return d.runs[i].start+d.runs[i].size > at })
		if i == len(d.runs) {
			return 0, d.n.broken("has no data at byte %d", at)
		}
		r := &d.runs[i]
		return d.readRun(i, p[:min(int64(len(p)), r.start+r.size-at)], at-r.start)
	})
}

func (d *data) readRun(i int, p []byte, in int64) (int, error) {
	r := &d.runs[i]
	switch r.form {
	case formRaw:
		if r.from < 0 {
			clear(p)
			return len(p), nil
		}
		n, err := d.f.r.ReadAt(p, r.from+in)
		if n == len(p) {
			err = nil
		}
		return n, err
	case formPacked:
		n, err := d.packed.ReadAt(p, r.from+in)
		if n == len(p) {
			err = nil
		} else if errors.Is(err, io.EOF) {
			err = d.n.broken("goes beyond the packed file")
		}
		return n, err
	}
	if d.last != i {
		b, err := d.unpack(r)
		if err != nil {
			return 0, err
		}
		d.last, d.cache = i, b
	}
	return copy(p, d.cache[in:]), nil
}
