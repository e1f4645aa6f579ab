package sparse

import (
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"

	"jarlid/internal/core/image"
)

// Verify holds the sums a sparse image states against its contents: that of each CRC chunk, which
// is about everything before it, and that of the header, about the whole. Blocks that nobody
// cares for count as zeros, as libsparse has it. An image that states none is as it is. Errors:
// *image.Error.
func Verify(r io.ReaderAt, size int64) error {
	stated, err := States(r, size)
	if err != nil || !stated {
		return err
	}
	s, err := NewReader(r, size)
	if err != nil {
		return err
	}
	sum := crc32.NewIEEE()
	buf := make([]byte, 256<<10)
	for {
		at := s.off
		c, err := s.any()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		switch c.Type {
		case ChunkCRC32:
			if got := sum.Sum32(); got != c.Fill {
				return image.Errorf(formatName, at, "a checksum says %#08x, and what lies before it has "+
					"%#08x: the image is damaged", c.Fill, got)
			}
			continue
		case ChunkRaw:
			if _, err := io.CopyBuffer(onlyWriter{sum},
				io.NewSectionReader(r, c.Data, c.Blocks*int64(s.BlockSize)), buf); err != nil {
				return err
			}
			continue
		}
		word := uint32(0)
		if c.Type == ChunkFill {
			word = c.Fill
		}
		for i := 0; i < len(buf); i += 4 {
			binary.LittleEndian.PutUint32(buf[i:], word)
		}
		for left := c.Blocks * int64(s.BlockSize); left > 0; {
			n := min(left, int64(len(buf)))
			sum.Write(buf[:n])
			left -= n
		}
	}
	if got := sum.Sum32(); s.Checksum != 0 && got != s.Checksum {
		return image.Errorf(formatName, 24, "the header's checksum says %#08x, and the image has %#08x: it "+
			"is damaged", s.Checksum, got)
	}
	return nil
}

// onlyWriter keeps a hash from reading by itself, so that the buffer is used.
type onlyWriter struct{ io.Writer }

// States reports whether a sparse image states any checksum. Errors: *image.Error.
func States(r io.ReaderAt, size int64) (bool, error) {
	s, err := NewReader(r, size)
	if err != nil {
		return false, err
	}
	if s.Checksum != 0 {
		return true, nil
	}
	for {
		c, err := s.any()
		if errors.Is(err, io.EOF) {
			return false, nil
		}
		if err != nil || c.Type == ChunkCRC32 {
			return err == nil, err
		}
	}
}
