package sparse

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"jarlid/internal/core/image"
)

// blockSize is the unit of the images Cut makes, in bytes: what every
// bootloader takes.
const blockSize = 4096

// run is a piece of a part: blocks of raw bytes, of one repeated word, or of
// nothing.
type run struct {
	typ    uint16
	blocks int64
	src    int64 // for raw: where its bytes begin in the source
	fill   uint32
}

// Part is one sparse image that holds a piece of a larger one: sent on its
// own, it writes its piece and leaves everything else on the phone alone.
type Part struct {
	block  uint32 // block size
	blocks uint32 // of the whole image
	runs   []run
	tail   int // bytes missing in the last raw block, filled with zeros
	size   int64
}

// Size is the part's length as a file, in bytes.
func (p *Part) Size() int64 { return p.size }

// Cutter cuts an image into parts that each fit a phone's download buffer. It
// checks the source a part at a time, so memory stays flat and nothing is
// written to disk.
type Cutter struct {
	r      io.ReaderAt
	size   int64
	limit  int64
	block  uint32
	blocks int64
	at     int64  // next block to place
	buf    []byte // blocks of a raw source, checked and not placed yet
	room   []byte // what buf is in

	chunks *Reader // when the source is sparse itself
	rest   *run    // of a chunk that did not fit
}

// Cut cuts the image in r, size bytes of raw or sparse data, into parts of at
// most limit bytes. Zeros in a raw image stay content (FILL 0); "don't care"
// is passed on only where a sparse source says so.
func Cut(r io.ReaderAt, size, limit int64) (*Cutter, error) {
	c := &Cutter{r: r, size: size, limit: limit, block: blockSize}
	head := make([]byte, 4)
	if n, _ := r.ReadAt(head, 0); n == 4 && binary.LittleEndian.Uint32(head) == Magic {
		s, err := NewReader(r, size)
		if err != nil {
			return nil, err
		}
		c.chunks, c.block, c.blocks = s, s.BlockSize, int64(s.Blocks)
	} else {
		c.blocks = image.Align(size, blockSize) / blockSize
	}
	if c.blocks > 1<<32-1 {
		return nil, image.Errorf(formatName, -1, "%d blocks are more than the form can hold", c.blocks)
	}
	if limit < partOverhead+2*int64(c.block) {
		return nil, fmt.Errorf("a download limit of %d bytes is too small to send anything in parts", limit)
	}
	c.room = make([]byte, max(1<<20/int(c.block), 1)*int(c.block))
	return c, nil
}

// partOverhead is what the headers of a part take besides its runs: the file
// header and the two runs of "don't care" around its piece.
const partOverhead = fileHeaderSize + 2*chunkHeaderSize

// Next gives the next part, io.EOF after the last one.
func (c *Cutter) Next() (*Part, error) {
	p := &Part{block: c.block, blocks: uint32(c.blocks), size: partOverhead}
	start := c.at
	for c.at < c.blocks {
		r, err := c.nextRun()
		if err != nil {
			return nil, err
		}
		if fit := p.add(r, c.limit); fit < r.blocks {
			r.blocks -= fit
			r.src += fit * int64(c.block)
			c.rest = &r
			c.at -= r.blocks
			break
		}
	}
	if c.at == start {
		return nil, io.EOF
	}
	if start > 0 {
		p.runs = append([]run{{typ: ChunkDontCare, blocks: start}}, p.runs...)
	}
	if c.at < c.blocks {
		p.runs = append(p.runs, run{typ: ChunkDontCare, blocks: c.blocks - c.at})
	} else if c.chunks == nil {
		p.tail = int(c.blocks*int64(c.block) - c.size)
	}
	p.size = fileHeaderSize
	for _, r := range p.runs {
		p.size += chunkHeaderSize + r.body(p.block)
	}
	return p, nil
}

func (r run) body(block uint32) int64 {
	switch r.typ {
	case ChunkRaw:
		return r.blocks * int64(block)
	case ChunkFill:
		return 4
	}
	return 0
}

// add puts as much of r into the part as the limit lets and tells how many
// blocks that were.
func (p *Part) add(r run, limit int64) int64 {
	if n := len(p.runs); n > 0 {
		last := &p.runs[n-1]
		joins := last.typ == r.typ && last.fill == r.fill && (r.typ != ChunkRaw ||
			last.src+last.blocks*int64(p.block) == r.src)
		if joins {
			if r.typ == ChunkRaw {
				r.blocks = min(r.blocks, (limit-p.size)/int64(p.block))
				p.size += r.blocks * int64(p.block)
			}
			last.blocks += r.blocks
			return r.blocks
		}
	}
	room := limit - p.size - chunkHeaderSize
	if r.typ == ChunkRaw {
		r.blocks = min(r.blocks, room/int64(p.block))
	}
	if room < r.body(p.block) || r.blocks <= 0 {
		return 0
	}
	p.size += chunkHeaderSize + r.body(p.block)
	p.runs = append(p.runs, r)
	return r.blocks
}

// nextRun takes the next run off the source.
func (c *Cutter) nextRun() (run, error) {
	if c.rest != nil {
		r := *c.rest
		c.rest = nil
		c.at += r.blocks
		return r, nil
	}
	if c.chunks != nil {
		ch, err := c.chunks.Next()
		if errors.Is(err, io.EOF) {
			err = image.Errorf(formatName, -1, "the chunks end before the image does")
		}
		if err != nil {
			return run{}, err
		}
		c.at += ch.Blocks
		return run{typ: ch.Type, blocks: ch.Blocks, src: ch.Data, fill: ch.Fill}, nil
	}
	if len(c.buf) == 0 {
		off := c.at * int64(c.block)
		n := int(min(int64(len(c.room)), c.size-off))
		if got, err := c.r.ReadAt(c.room[:n], off); got < n {
			return run{}, &image.Error{Format: "image", Offset: off + int64(got),
				What: "cannot be read to its end", Short: true, Err: err}
		}
		full := int(image.Align(int64(n), int64(c.block)))
		clear(c.room[n:full])
		c.buf = c.room[:full]
	}
	block := int(c.block)
	zero := image.IsZero(c.buf[:block])
	n := block
	for n < len(c.buf) && image.IsZero(c.buf[n:n+block]) == zero {
		n += block
	}
	r := run{typ: ChunkFill, blocks: int64(n / block)}
	if !zero {
		r.typ, r.src = ChunkRaw, c.at*int64(c.block)
	}
	c.buf = c.buf[n:]
	c.at += r.blocks
	return r, nil
}

// WriteTo writes the part as a sparse image; src is the source it was cut from.
// The order of reads is ascending, each byte once.
func (p *Part) WriteTo(w io.Writer, src io.ReaderAt) error {
	h := make([]byte, fileHeaderSize)
	putHeader(h, p.block, p.blocks, uint32(len(p.runs)))
	if _, err := w.Write(h); err != nil {
		return err
	}
	for i, r := range p.runs {
		b := make([]byte, chunkHeaderSize, chunkHeaderSize+4)
		putChunk(b, r.typ, uint32(r.blocks), uint32(r.body(p.block)))
		if r.typ == ChunkFill {
			b = binary.LittleEndian.AppendUint32(b, r.fill)
		}
		if _, err := w.Write(b); err != nil {
			return err
		}
		if r.typ != ChunkRaw {
			continue
		}
		n := r.blocks * int64(p.block)
		pad := 0
		if p.tail > 0 && i == len(p.runs)-1 {
			pad = p.tail
		}
		if _, err := io.Copy(w, io.NewSectionReader(src, r.src, n-int64(pad))); err != nil {
			return err
		}
		if _, err := w.Write(image.Zeros[:pad]); err != nil {
			return err
		}
	}
	return nil
}

// Placed is how many bytes of the whole image the parts given so far cover.
func (c *Cutter) Placed() int64 { return c.at * int64(c.block) }
