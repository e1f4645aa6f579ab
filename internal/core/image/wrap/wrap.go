// Package wrap opens compressed streams: it knows gzip, xz, bzip2, zstd and
// both forms of lz4 by their first bytes and gives what is inside as a stream.
//
// The first bytes are published in RFC 1952 (gzip), the xz file format 1.2.1,
// RFC 8878 (zstd), the lz4 frame format 1.6.4 (frame and legacy frame) and the
// bzip2 source's manual ("BZh").
package wrap

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"fmt"
	"io"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/mikelolasagasti/xz"
	"github.com/pierrec/lz4/v4"
)

// Kind is a way of compressing a stream.
type Kind string

// The kinds; None is a stream that is not compressed in a known way.
const (
	None      Kind = ""
	Gzip      Kind = "gz"
	Xz        Kind = "xz"
	Bzip2     Kind = "bz2"
	Zstd      Kind = "zst"
	LZ4       Kind = "lz4"
	LZ4Legacy Kind = "lz4-legacy" // the form Linux kernels read ramdisks in
)

// MaxDictionary is the largest dictionary or window a stream may ask for, in
// bytes: what `xz -9e` uses, and more than any published firmware image needs.
const MaxDictionary = 64 << 20

var magics = []struct {
	kind  Kind
	magic []byte
}{
	{Gzip, []byte{0x1f, 0x8b, 8}},
	{Xz, []byte{0xfd, '7', 'z', 'X', 'Z', 0}},
	{Bzip2, []byte("BZh")},
	{Zstd, []byte{0x28, 0xb5, 0x2f, 0xfd}},
	{LZ4, []byte{0x04, 0x22, 0x4d, 0x18}},
	{LZ4Legacy, []byte{0x02, 0x21, 0x4c, 0x18}},
}

// Detect tells from its first bytes (six are enough) how a stream is compressed.
func Detect(head []byte) Kind {
	for _, m := range magics {
		if bytes.HasPrefix(head, m.magic) {
			return m.kind
		}
	}
	return None
}

// NewReader unwraps one layer of r. The caller closes the result; that does
// not close r. A stream that asks for a dictionary over MaxDictionary is
// refused, so memory stays bounded whatever the stream says.
func NewReader(kind Kind, r io.Reader) (io.ReadCloser, error) {
	switch kind {
	case None:
		return io.NopCloser(r), nil
	case Gzip:
		z, err := gzip.NewReader(r)
		if err != nil {
			return nil, err
		}
		// Ramdisks are padded with zeros to a page; what follows the first
		// member is not more of the stream.
		z.Multistream(false)
		return z, nil
	case Xz:
		z, err := xz.NewReader(bufio.NewReaderSize(r, 64<<10), MaxDictionary)
		if err != nil {
			return nil, err
		}
		z.Multistream(false)
		return io.NopCloser(z), nil
	case Bzip2:
		return io.NopCloser(bzip2.NewReader(bufio.NewReaderSize(r, 64<<10))), nil
	case Zstd:
		z, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(MaxDictionary))
		if err != nil {
			return nil, err
		}
		return z.IOReadCloser(), nil
	case LZ4, LZ4Legacy:
		return io.NopCloser(lz4.NewReader(r)), nil
	}
	return nil, fmt.Errorf("no way to unwrap %q", kind)
}
