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
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/andybalholm/brotli"
	"github.com/dsnet/compress/bzip2"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/mikelolasagasti/xz"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz/lzma"

	"jarlid/internal/core/image"
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
	// LZMA is the form from before xz ("The .lzma file format" of the XZ Utils), which older phones have for
	// their ramdisks.
	LZMA Kind = "lzma"
	// Brotli (RFC 7932) has no mark of its own: only a file's name tells.
	Brotli Kind = "br"
)

// maxDictionary is the largest dictionary or window a stream may ask for, in
// bytes: what `xz -9e` uses, and more than any published firmware image needs.
const maxDictionary = 64 << 20

// maxMemory is the largest dictionary or window that a compressed file may ask for when nobody
// allows more, in bytes.
const maxMemory = 256 << 20

// MemoryError says that a file was packed so that extracting it takes more memory than is allowed.
type MemoryError struct {
	Kind        Kind
	Need, Limit int64 // bytes; Need is 0 where the file does not say it at its start
}

// AboutNoDamage marks it as no fault of the file's.
func (e *MemoryError) AboutNoDamage() {}

// Error says how much.
func (e *MemoryError) Error() string {
	if e.Need == 0 {
		return fmt.Sprintf("unwrapping it (%s) takes more memory than the %s that are allowed; "+
			"--max-memory raises that", e.Kind, image.Size(e.Limit))
	}
	return fmt.Sprintf("unwrapping it (%s) takes %s of memory, and %s are allowed; --max-memory %dMiB "+
		"raises that", e.Kind, image.Size(e.Need), image.Size(e.Limit), (e.Need+1<<20-1)>>20)
}

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
	// The usual properties and a dictionary of whole 64 KiB: the Linux kernel's lib/decompress.c knows it so
	// too.
	{LZMA, []byte{0x5d, 0, 0}},
}

// Detect tells from its first bytes (six are enough) how a stream is compressed.
func Detect(head []byte) Kind {
	head, skipped := behindFrames(head)
	if skipped && len(head) == 0 {
		return Zstd
	}
	for _, m := range magics {
		if bytes.HasPrefix(head, m.magic) && (m.kind != LZMA || isLZMA(head)) {
			return m.kind
		}
	}
	return None
}

// behindFrames passes over frames to be skipped, which zstd and lz4 have alike (RFC 8878, 3.1.2; the lz4
// frame format): what follows them says which it is.
func behindFrames(head []byte) (rest []byte, skipped bool) {
	for len(head) >= 8 && binary.LittleEndian.Uint32(head)&^0xf == 0x184d2a50 {
		n := 8 + int64(binary.LittleEndian.Uint32(head[4:]))
		head, skipped = head[min(n, int64(len(head))):], true
	}
	return head, skipped
}

// Checksummed reports whether a compressed file that begins with head states a checksum of what it extracts
// to: always in gzip (RFC 1952, 2.3.1) and bzip2; as its flags have it in xz (the xz file format, 2.1.1.2),
// zstd (RFC 8878, 3.1.1.1.1.6) and lz4 frames (the lz4 frame format, FLG); never in the others.
func Checksummed(kind Kind, head []byte) bool {
	head, _ = behindFrames(head)
	flags := func(at int) byte {
		if at < len(head) {
			return head[at]
		}
		return 0
	}
	switch kind {
	case Gzip, Bzip2:
		return true
	case Xz:
		return flags(7)&0xf != 0
	case Zstd:
		return flags(4)&4 != 0
	case LZ4:
		return flags(4)&(1<<4|1<<2) != 0
	}
	return false
}

// isLZMA reports whether the dictionary's size that follows the properties is one that is written: a power of
// two, or the sum of two that follow each other.
func isLZMA(head []byte) bool {
	if len(head) < 5 {
		return false
	}
	n := binary.LittleEndian.Uint32(head[1:])
	return n > 0 && (n&(n-1) == 0 || n%3 == 0 && (n/3)&(n/3-1) == 0)
}

// TrailingError says that something lies behind the last member of a compressed file that is no
// member: what was extracted is whole as far as it goes, and may not be all that was meant.
type TrailingError struct {
	Kind  Kind
	After int64 // bytes that were extracted before it
}

// Error says so.
func (e *TrailingError) Error() string {
	return fmt.Sprintf("behind %d unwrapped bytes the file goes on with something that is no %s data: it "+
		"is damaged there, or two files were joined", e.After, e.Kind)
}

// NewFile extracts a compressed file to its real end: further members and streams belong to it,
// as files that were packed in parallel or joined have them, and zeros behind the last one are
// padding. What else is there is a *TrailingError, or the decoder's own error. memory bounds
// what a dictionary or window may take, in bytes, 0 for MaxMemory; over it the reading ends with a
// *MemoryError. The caller closes the result; that does not close r.
func NewFile(kind Kind, r io.Reader, memory int64) (io.ReadCloser, error) {
	if memory <= 0 {
		memory = maxMemory
	}
	over := &MemoryError{Kind: kind, Limit: memory}
	src := &source{r: r}
	in := bufio.NewReaderSize(src, 64<<10)
	var z io.ReadCloser
	var err error
	switch kind {
	case Gzip:
		var one *gzip.Reader
		if one, err = gzip.NewReader(in); err == nil {
			one.Multistream(false)
			z = &members{src: in, z: one}
		}
	case Xz:
		var all *xz.Reader
		all, err = xz.NewReader(in, uint32(min(memory, 1<<32-1)))
		z = io.NopCloser(all)
	case Zstd:
		var h zstd.Header
		if head, _ := in.Peek(zstd.HeaderMaxSize); h.Decode(head) == nil && h.WindowSize > uint64(memory) {
			over.Need = int64(min(h.WindowSize, 1<<62))
			return nil, over
		}
		var all *zstd.Decoder
		if all, err = zstd.NewReader(in, zstd.WithDecoderConcurrency(1),
			zstd.WithDecoderMaxWindow(uint64(memory))); err == nil {
			z = all.IOReadCloser()
		}
	case Brotli:
		z = io.NopCloser(brotli.NewReader(in))
	default:
		z, err = NewReader(kind, in) // the others' decoders go on by themselves
	}
	f := &file{kind: kind, src: src, in: in, z: z, over: over}
	if err != nil {
		return nil, f.said(err)
	}
	return f, nil
}

// file is a compressed file that is being extracted. It gives what the decoders say one form.
type file struct {
	kind Kind
	src  *source
	in   *bufio.Reader
	z    io.ReadCloser
	over *MemoryError
	out  int64
}

// Read extracts.
func (f *file) Read(b []byte) (int, error) {
	n, err := f.z.Read(b)
	f.out += int64(n)
	if errors.Is(err, io.EOF) && f.kind == Brotli {
		if _, more := f.in.Peek(1); more == nil { // the form has no members: what is there is none of it
			err = &TrailingError{Brotli, f.out}
		}
	}
	return n, f.said(err)
}

// Close ends it.
func (f *file) Close() error { return f.z.Close() }

// said gives a decoder's error our words. What kept the file itself from being read stays as it is.
func (f *file) said(err error) error {
	var trailing *TrailingError
	switch {
	case err == nil, errors.Is(err, io.EOF), errors.As(err, &trailing):
		return err
	case f.src.err != nil:
		return f.src.err
	case errors.Is(err, zstd.ErrWindowSizeExceeded), errors.Is(err, xz.ErrMemlimit):
		return f.over
	case err.Error() == "brotli: excessive input": // the library has no name for it
		return &TrailingError{Brotli, f.out}
	case f.src.ended && f.in.Buffered() == 0 && (errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.Is(err, xz.ErrBuf) || f.kind == Brotli):
		return &image.Error{Format: "compressed data (" + string(f.kind) + ")", Offset: -1, Short: true,
			What: fmt.Sprintf("it is cut short: the file ends within it, behind %d unwrapped bytes", f.out)}
	}
	return &image.Error{Format: "compressed data (" + string(f.kind) + ")", Offset: -1,
		What: fmt.Sprintf("it is damaged behind %d unwrapped bytes", f.out)}
}

// source remembers how reading the file ended.
type source struct {
	r     io.Reader
	ended bool
	err   error
}

// Read reads.
func (s *source) Read(b []byte) (int, error) {
	n, err := s.r.Read(b)
	switch {
	case errors.Is(err, io.EOF):
		s.ended = true
	case err != nil:
		s.err = err
	}
	return n, err
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

// next begins the next member; io.EOF when there is none.
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

// NewReader extracts one layer of r. The caller closes the result; that does
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
		// Where a stream is in an image, what follows its first member is not more of it: see
		// NewFile for files.
		z.Multistream(false)
		return z, nil
	case Xz:
		z, err := xz.NewReader(bufio.NewReaderSize(r, 64<<10), maxDictionary)
		if err != nil {
			return nil, err
		}
		z.Multistream(false)
		return io.NopCloser(z), nil
	case Bzip2:
		// A third faster than the standard library's, as fast as the general tool.
		z, err := bzip2.NewReader(bufio.NewReaderSize(r, 64<<10), nil)
		if err != nil {
			return nil, err
		}
		return z, nil
	case Zstd:
		z, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxDictionary))
		if err != nil {
			return nil, err
		}
		return z.IOReadCloser(), nil
	case LZMA:
		z, err := lzma.ReaderConfig{DictCap: maxDictionary}.NewReader(r)
		if err != nil {
			return nil, err
		}
		return io.NopCloser(z), nil
	case LZ4, LZ4Legacy:
		return io.NopCloser(lz4.NewReader(r)), nil
	}
	return nil, fmt.Errorf("no way to unwrap %q", kind)
}
