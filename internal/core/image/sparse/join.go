package sparse

import (
	"encoding/binary"
	"io"
	"slices"

	"jarlid/internal/core/image"
)

// Piece is one of several sparse images that together are one, as manufacturers cut large images.
type Piece struct {
	Name string
	R    io.ReaderAt
	Size int64 // bytes
}

// Join makes one view of pieces. Each must state the same image, and no block may be brought by
// two of them; what none brings is left alone. src is what the view's chunks are in. Errors:
// *image.Error that names the piece.
func Join(pieces []Piece) (v *View, src *image.Concat, err error) {
	all := &image.Concat{}
	type owned struct {
		Chunk
		piece int
	}
	var brought []owned
	v = &View{r: all}
	for i, p := range pieces {
		one, err := NewView(p.R, p.Size)
		if err != nil {
			return nil, nil, &image.Error{Format: formatName, Offset: -1, What: p.Name,
				Short: image.IsShort(err), Err: err}
		}
		if i == 0 {
			v.Header = one.Header
		} else if one.Blocks != v.Blocks || one.BlockSize != v.BlockSize {
			return nil, nil, image.Errorf(formatName, 12,
				"%s belongs to an image of %d bytes, %s to one of %d: they are no pieces of one", p.Name,
				one.Size(), pieces[0].Name, v.Size())
		}
		at := all.Add(p.R, p.Size)
		for _, c := range one.chunks {
			if c.Type != ChunkDontCare {
				if c.Type == ChunkRaw {
					c.Data += at
				}
				brought = append(brought, owned{c, i})
			}
		}
	}
	slices.SortStableFunc(brought, func(a, b owned) int { return int(min(max(a.Block-b.Block, -1), 1)) })
	next, by := int64(0), 0
	gap := func(to int64) {
		if to > next {
			v.chunks = append(v.chunks, Chunk{Type: ChunkDontCare, Block: next, Blocks: to - next})
		}
	}
	for _, c := range brought {
		if c.Blocks == 0 {
			continue
		}
		if c.Block < next {
			return nil, nil, image.Errorf(formatName, -1,
				"%s and %s both bring block %d: they are no pieces of one image", pieces[by].Name,
				pieces[c.piece].Name, c.Block)
		}
		gap(c.Block)
		v.chunks = append(v.chunks, c.Chunk)
		next, by = c.Block+c.Blocks, c.piece
	}
	gap(int64(v.Blocks))
	v.Chunks, v.Checksum = uint32(len(v.chunks)), 0 // each piece states its own sum
	return v, all, nil
}

// WriteTo writes the view as a sparse image of its own.
func (v *View) WriteTo(w io.Writer) (int64, error) {
	le := binary.LittleEndian
	h := make([]byte, fileHeaderSize)
	le.PutUint32(h, Magic)
	le.PutUint16(h[4:], 1)
	le.PutUint16(h[8:], fileHeaderSize)
	le.PutUint16(h[10:], chunkHeaderSize)
	le.PutUint32(h[12:], v.BlockSize)
	le.PutUint32(h[16:], v.Blocks)
	le.PutUint32(h[20:], uint32(len(v.chunks)))
	n, err := w.Write(h)
	done := int64(n)
	buf := make([]byte, 1<<20)
	for _, c := range v.chunks {
		if err != nil {
			break
		}
		b := make([]byte, chunkHeaderSize, chunkHeaderSize+4)
		body := int64(0)
		switch c.Type {
		case ChunkRaw:
			body = c.Blocks * int64(v.BlockSize)
		case ChunkFill:
			body = 4
			b = le.AppendUint32(b, c.Fill)
		}
		if body > 1<<32-1-chunkHeaderSize {
			return done, image.Errorf(formatName, c.Data, "a run of %d bytes is longer than the form can say",
				body)
		}
		le.PutUint16(b, c.Type)
		le.PutUint32(b[4:], uint32(c.Blocks))
		le.PutUint32(b[8:], uint32(chunkHeaderSize+body))
		n, err = w.Write(b)
		done += int64(n)
		if err == nil && c.Type == ChunkRaw {
			var k int64
			k, err = io.CopyBuffer(onlyWriter{w}, onlyReader{io.NewSectionReader(v.r, c.Data, body)}, buf)
			done += k
			if err == nil && k < body {
				err = image.Truncated(formatName, c.Data, body, k)
			}
		}
	}
	return done, err
}

type onlyReader struct{ io.Reader }
