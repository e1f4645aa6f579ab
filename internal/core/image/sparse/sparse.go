// Package sparse reads and writes sparse images, version 1.0: a block device's
// contents with the runs that need no bytes left out.
//
// The form is published in the platform's libsparse/sparse_format.h.
package sparse

import (
	"encoding/binary"
	"errors"
	"io"

	"jarlid/internal/core/image"
)

// The constants of sparse_format.h.
const (
	Magic           = 0xed26ff3a
	fileHeaderSize  = 28
	chunkHeaderSize = 12

	ChunkRaw      = 0xcac1
	ChunkFill     = 0xcac2
	ChunkDontCare = 0xcac3
	ChunkCRC32    = 0xcac4
)

const formatName = "sparse image"

// Header is the file header.
type Header struct {
	Major, Minor     uint16
	FileHdr, ChnkHdr uint16 // sizes of the headers in bytes
	BlockSize        uint32 // bytes, a multiple of 4
	Blocks           uint32 // blocks of the extracted image
	Chunks           uint32
	Checksum         uint32 // CRC32 of the extracted image, 0 when not given
}

// Size is the extracted image's size in bytes.
func (h Header) Size() int64 { return int64(h.Blocks) * int64(h.BlockSize) }

// Chunk is one run of blocks.
type Chunk struct {
	Type   uint16
	Block  int64  // first block of the run in the extracted image
	Blocks int64  // its length
	Fill   uint32 // for ChunkFill the little-endian word that is repeated
	Data   int64  // for ChunkRaw where its bytes begin in the file
}

// ParseHeader reads a file header from its first 28 bytes.
func ParseHeader(b []byte) (Header, error) {
	le := binary.LittleEndian
	if len(b) < fileHeaderSize {
		return Header{}, image.Truncated(formatName, 0, fileHeaderSize, int64(len(b)))
	}
	if le.Uint32(b) != Magic {
		return Header{}, image.Errorf(formatName, 0, "does not begin with the magic number %#x",
			uint32(Magic))
	}
	h := Header{Major: le.Uint16(b[4:]), Minor: le.Uint16(b[6:]), FileHdr: le.Uint16(b[8:]),
		ChnkHdr:   le.Uint16(b[10:]),
		BlockSize: le.Uint32(b[12:]),
		Blocks:    le.Uint32(b[16:]),
		Chunks:    le.Uint32(b[20:]),
		Checksum:  le.Uint32(b[24:])}
	switch {
	case h.Major != 1:
		return h, image.Errorf(formatName, 4, "version %d.%d is not known, only 1.x", h.Major, h.Minor)
	case h.FileHdr < fileHeaderSize:
		return h, image.Errorf(formatName, 8, "a file header of %d bytes is too small", h.FileHdr)
	case h.ChnkHdr < chunkHeaderSize:
		return h, image.Errorf(formatName, 10, "a chunk header of %d bytes is too small", h.ChnkHdr)
	case h.BlockSize == 0 || h.BlockSize%4 != 0 || h.BlockSize > 1<<24:
		return h, image.Errorf(formatName, 12, "a block size of %d is not possible", h.BlockSize)
	}
	return h, nil
}

// Reader walks through the chunks of a sparse image.
type Reader struct {
	Header
	r     io.ReaderAt
	size  int64
	off   int64
	next  uint32
	block int64
}

// NewReader reads the file header of the sparse image in r.
func NewReader(r io.ReaderAt, size int64) (*Reader, error) {
	b, err := image.ReadAt(formatName, r, size, 0, min(size, fileHeaderSize))
	if err != nil {
		return nil, err
	}
	h, err := ParseHeader(b)
	if err != nil {
		return nil, err
	}
	return &Reader{Header: h, r: r, size: size, off: int64(h.FileHdr)}, nil
}

// Next gives the next chunk, CRC chunks left out; io.EOF after the last one,
// when the runs have filled the image exactly.
func (s *Reader) Next() (Chunk, error) {
	for {
		if c, err := s.any(); err != nil || c.Type != ChunkCRC32 {
			return c, err
		}
	}
}

// any gives the next chunk, CRC chunks too, whose sum is their Fill.
func (s *Reader) any() (Chunk, error) {
	le := binary.LittleEndian
	if s.next >= s.Chunks {
		if s.block != int64(s.Blocks) {
			return Chunk{}, image.Errorf(formatName, s.off, "the chunks fill %d of %d blocks",
				s.block, s.Blocks)
		}
		return Chunk{}, io.EOF
	}
	at := s.off
	b, err := image.ReadAt(formatName, s.r, s.size, at, int64(s.ChnkHdr))
	if err != nil {
		return Chunk{}, err
	}
	c := Chunk{Type: le.Uint16(b), Block: s.block, Blocks: int64(le.Uint32(b[4:])), Data: at +
		int64(s.ChnkHdr)}
	body := int64(le.Uint32(b[8:])) - int64(s.ChnkHdr)
	want := map[uint16]int64{ChunkRaw: c.Blocks * int64(s.BlockSize), ChunkFill: 4, ChunkDontCare: 0,
		ChunkCRC32: 4}
	need, known := want[c.Type]
	switch {
	case !known:
		return Chunk{}, image.Errorf(formatName, at, "chunk type %#x is not known", c.Type)
	case body != need:
		return Chunk{}, image.Errorf(formatName, at+8, "a chunk of %d bytes where its blocks need %d",
			body, need)
	case need > s.size-c.Data:
		return Chunk{}, image.Truncated(formatName, c.Data, need, s.size-c.Data)
	case c.Type != ChunkCRC32 && c.Blocks > int64(s.Blocks)-s.block:
		return Chunk{}, image.Errorf(formatName, at+4, "the chunks go beyond the image's %d blocks", s.Blocks)
	}
	if c.Type == ChunkFill || c.Type == ChunkCRC32 {
		f, err := image.ReadAt(formatName, s.r, s.size, c.Data, 4)
		if err != nil {
			return Chunk{}, err
		}
		c.Fill = le.Uint32(f)
	}
	s.next++
	s.off = c.Data + need
	if c.Type == ChunkCRC32 {
		c.Blocks = 0
	}
	s.block += c.Blocks
	return c, nil
}

// Chunks reads all chunks of the image in r. The list is as long as the file
// has chunk headers, each of which is at least 12 bytes of the file.
func Chunks(r io.ReaderAt, size int64) (Header, []Chunk, error) {
	s, err := NewReader(r, size)
	if err != nil {
		return Header{}, nil, err
	}
	var list []Chunk
	for {
		c, err := s.Next()
		if errors.Is(err, io.EOF) {
			return s.Header, list, nil
		}
		if err != nil {
			return s.Header, nil, err
		}
		list = append(list, c)
	}
}

func putHeader(b []byte, blockSize, blocks, chunks uint32) {
	le := binary.LittleEndian
	le.PutUint32(b, Magic)
	le.PutUint16(b[4:], 1)
	le.PutUint16(b[8:], fileHeaderSize)
	le.PutUint16(b[10:], chunkHeaderSize)
	le.PutUint32(b[12:], blockSize)
	le.PutUint32(b[16:], blocks)
	le.PutUint32(b[20:], chunks)
}

func putChunk(b []byte, typ uint16, blocks, body uint32) {
	le := binary.LittleEndian
	le.PutUint16(b, typ)
	le.PutUint32(b[4:], blocks)
	le.PutUint32(b[8:], chunkHeaderSize+body)
}
