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

// TrailingError says that something lies behind the last member of a compressed file that is no
// member: what was unpacked is whole as far as it goes, and may not be all that was meant.
type TrailingError struct {
	Kind  Kind
	After int64 // bytes that were unpacked before it
}

// Error says so.
func (e *TrailingError) Error() string {
	return fmt.Sprintf("behind %d unpacked bytes the file goes on with something that is no %s data: it is damaged there, or two files were joined", e.After, e.Kind)
}

// NewFile unwraps a compressed file to its real end: further members and streams belong to it,
// as files that were packed in parallel or joined have them, and zeros behind the last one are
// padding. What else lies there is a *TrailingError, or the decoder's own error. The caller
// closes the result; that does not close r.
func NewFile(kind Kind, r io.Reader) (io.ReadCloser, error) {
	switch kind {
	case Gzip:
		src := bufio.NewReaderSize(r, 64<<10)
		z, err := gzip.NewReader(src)
		if err != nil {
			return nil, err
		}
		z.Multistream(false)
		return &members{src: src, z: z}, nil
	case Xz:
		z, err := xz.NewReader(bufio.NewReaderSize(r, 64<<10), MaxDictionary)
		if err != nil {
			return nil, err
		}
		return io.NopCloser(z), nil
	}
	return NewReader(kind, r) // the others' decoders go on by themselves
}

// members reads the members of a gzip file one behind the other (RFC 1952, 2.2).
type members struct {
	src *bufio.Reader
	z   *gzip.Reader
	out int64
}

// Read gives the bytes of all members.
func (m *members) Read(b []byte) (int, error) {
	for {
		n, err := m.z.Read(b)
		m.out += int64(n)
		if n > 0 || err == nil {
			if err == io.EOF {
				err = nil
			}
			return n, err
		}
		if err != io.EOF {
			return 0, err
		}
		if err := m.next(); err != nil {
			return 0, err
		}
	}
}

// next goes on with the next member; io.EOF when there is none.
func (m *members) next() error {
	for {
		head, err := m.src.Peek(1)
		if err != nil {
			return err
		}
		if head[0] != 0 {
			break
		}
		if _, err := m.src.Discard(1); err != nil {
			return err
		}
	}
	head, err := m.src.Peek(3)
	if err != nil && err != io.EOF {
		return err
	}
	if Detect(head) != Gzip {
		return &TrailingError{Gzip, m.out}
	}
	if err := m.z.Reset(m.src); err != nil {
		return err
	}
	m.z.Multistream(false)
	return nil
}

// Close ends it.
func (m *members) Close() error { return m.z.Close() }

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
		// Where a stream lies in an image, what follows its first member is not more of it: see
		// NewFile for files.
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
