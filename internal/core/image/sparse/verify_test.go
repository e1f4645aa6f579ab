package sparse

import (
	"bytes"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"testing"

	"jarlid/internal/core/image"
)

// TestVerify: the sums an image states are those of its extracted bytes, laid out by hand.
func TestVerify(t *testing.T) {
	const block = 4096
	raw := bytes.Repeat([]byte("raw!"), block/4)
	unwrapped := append(append(bytes.Clone(raw), bytes.Repeat([]byte{1, 2, 3, 4}, block/4)...),
		make([]byte, block)...)
	make := func(first, whole uint32) []byte {
		le := binary.LittleEndian
		b := le.AppendUint32(nil, Magic)
		b = le.AppendUint16(le.AppendUint16(b, 1), 0)
		b = le.AppendUint16(le.AppendUint16(b, fileHeaderSize), chunkHeaderSize)
		for _, n := range []uint32{block, 3, 4, whole} {
			b = le.AppendUint32(b, n)
		}
		chunk := func(typ uint16, blocks uint32, body []byte) {
			b = le.AppendUint16(le.AppendUint16(b, typ), 0)
			b = append(le.AppendUint32(le.AppendUint32(b, blocks), uint32(chunkHeaderSize+len(body))),
				body...)
		}
		chunk(ChunkRaw, 1, raw)
		chunk(ChunkCRC32, 0, le.AppendUint32(nil, first))
		chunk(ChunkFill, 1, []byte{1, 2, 3, 4})
		chunk(ChunkDontCare, 1, nil)
		return b
	}
	first, whole := crc32.ChecksumIEEE(raw), crc32.ChecksumIEEE(unwrapped)
	for what, c := range map[string]struct {
		b    []byte
		good bool
	}{
		"as it is":             {make(first, whole), true},
		"without the header's": {make(first, 0), true},
		"another chunk's sum":  {make(first+1, whole), false},
		"another header's":     {make(first, whole+1), false},
		"a byte that was turned": {func() []byte {
			b := make(first, whole)
			b[fileHeaderSize+chunkHeaderSize+100] ^= 1
			return b
		}(), false},
	} {
		err := Verify(bytes.NewReader(c.b), int64(len(c.b)))
		var bad *image.Error
		if c.good != (err == nil) || err != nil && !errors.As(err, &bad) {
			t.Errorf("Verify(bytes.NewReader(c.b), int64(len(c.b))): %s: %v; unwanted: c.good != (err == "+
				"nil) || err != nil && !errors.As(err, &bad)", what, err)
		}
		// What is extracted is the same with and without the sums.
		v, err := NewView(bytes.NewReader(c.b), int64(len(c.b)))
		if err != nil || v.Size() != int64(len(unwrapped)) {
			t.Errorf("NewView(bytes.NewReader(c.b), int64(len(c.b))): %s: %v; unwanted: err != nil || "+
				"v.Size() != int64(len(unwrapped))", what, err)
		}
	}
}
