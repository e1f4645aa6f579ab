package sparse

import (
	"encoding/binary"
	"io"
	"sort"
)

// View is the extracted image of a sparse file, read in place. What the file
// leaves alone ("don't care") reads as zeros.
type View struct {
	Header
	r      io.ReaderAt
	chunks []Chunk
}

// NewView reads the chunk headers of the sparse image in r.
func NewView(r io.ReaderAt, size int64) (*View, error) {
	h, chunks, err := Chunks(r, size)
	if err != nil {
		return nil, err
	}
	return &View{Header: h, r: r, chunks: chunks}, nil
}

// ReadAt reads like io.ReaderAt.
func (v *View) ReadAt(p []byte, off int64) (int, error) {
	bs := int64(v.BlockSize)
	done := 0
	for done < len(p) {
		at := off + int64(done)
		if at >= v.Size() {
			return done, io.EOF
		}
		i := sort.Search(len(v.chunks), func(i int) bool {
			return (v.chunks[i].Block+v.chunks[i].Blocks)*bs > at
		})
		c := v.chunks[i]
		in := at - c.Block*bs
		q := p[done : done+int(min(int64(len(p)-done), c.Blocks*bs-in))]
		switch c.Type {
		case ChunkRaw:
			if n, err := v.r.ReadAt(q, c.Data+in); n < len(q) {
				return done + n, err
			}
		case ChunkFill:
			var word [4]byte
			binary.LittleEndian.PutUint32(word[:], c.Fill)
			for k := range q {
				q[k] = word[(in+int64(k))&3]
			}
		default:
			clear(q)
		}
		done += len(q)
	}
	return done, nil
}

// Runs calls each for every run of the image in order: raw bytes of the file
// (data is their offset there), one repeated word, or nothing at all.
func (v *View) Runs(each func(c Chunk) error) error {
	for _, c := range v.chunks {
		if err := each(c); err != nil {
			return err
		}
	}
	return nil
}

// Stream gives the extracted image as a stream, reading r from its start on:
// for a sparse image of which only the head can be had.
func Stream(r io.ReaderAt, size int64) io.Reader {
	s, err := NewReader(r, size)
	return &stream{s: s, err: err}
}

type stream struct {
	s   *Reader
	cur io.Reader
	err error
}

// Read reads chunk after chunk.
func (s *stream) Read(p []byte) (int, error) {
	for {
		if s.err != nil {
			return 0, s.err
		}
		if s.cur != nil {
			n, err := s.cur.Read(p)
			if n > 0 {
				return n, nil
			}
			if err != io.EOF {
				s.err = err
				continue
			}
		}
		var c Chunk
		if c, s.err = s.s.Next(); s.err != nil {
			continue
		}
		n := c.Blocks * int64(s.s.BlockSize)
		if c.Type == ChunkRaw {
			s.cur = io.NewSectionReader(s.s.r, c.Data, n)
			continue
		}
		v := &View{Header: s.s.Header, chunks: []Chunk{{Type: c.Type, Blocks: c.Blocks, Fill: c.Fill}}}
		s.cur = io.NewSectionReader(v, 0, n)
	}
}
