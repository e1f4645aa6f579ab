package wrap

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"

	"github.com/dsnet/compress/bzip2"
	"github.com/klauspost/compress/zstd"
	"github.com/mikelolasagasti/xz"
	"github.com/ulikunitz/xz/lzma"

	"jarlid/internal/core/image"
)

// MethodError says that a member of an archive is packed in a way that is not decompressed here.
type MethodError struct {
	Archive string // zip, 7z
	Method  string // its name, or its number
}

// AboutNoDamage marks it as no fault of the file's.
func (e *MethodError) AboutNoDamage() {}

// Error names the method.
func (e *MethodError) Error() string {
	return fmt.Sprintf("it is packed with %s, which Jar Lid does not read in a %s; pack it again with a "+
		"general archiver, or take the files out with one", e.Method, e.Archive)
}

// zipMethods are the ways of packing a zip's member beyond stored and deflated (APPNOTE 6.3.10, 4.4.5).
// memory bounds a dictionary or window, size is what comes out, in bytes.
var zipMethods = map[uint16]func(r io.Reader, size int64, memory uint64) (io.ReadCloser, error){
	9: func(r io.Reader, _ int64, _ uint64) (io.ReadCloser, error) {
		return io.NopCloser(NewDeflate64(r)), nil
	},
	12: func(r io.Reader, _ int64, _ uint64) (io.ReadCloser, error) {
		return bzip2.NewReader(r, nil)
	},
	14: zipLZMA, 20: zipZstd, 93: zipZstd,
	95: func(r io.Reader, _ int64, memory uint64) (io.ReadCloser, error) {
		z, err := xz.NewReader(r, uint32(min(memory, 1<<32-1)))
		if err != nil {
			return nil, err
		}
		return io.NopCloser(z), nil
	},
}

// zipNames are methods that are known and not read.
var zipNames = map[uint16]string{1: "shrink", 2: "reduce", 3: "reduce", 4: "reduce", 5: "reduce",
	6: "implode", 10: "DCL implode", 16: "CMPSC", 18: "TERSE", 19: "LZ77", 94: "MP3", 96: "JPEG",
	97: "WavPack", 98: "PPMd"}

func zipZstd(r io.Reader, _ int64, memory uint64) (io.ReadCloser, error) {
	z, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(memory))
	if err != nil {
		return nil, err
	}
	return z.IOReadCloser(), nil
}

// zipLZMA reads a version, the length of the properties, the properties and the raw stream (APPNOTE 6.3.10,
// 5.8.8); the decoder takes them with the size, as an .lzma file has it.
func zipLZMA(r io.Reader, size int64, memory uint64) (io.ReadCloser, error) {
	head := make([]byte, 4+5)
	if _, err := io.ReadFull(r, head); err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	if n := le.Uint16(head[2:]); n != 5 {
		return nil, image.Errorf("zip archive", -1, "a member packed with lzma has properties of %d bytes", n)
	}
	if dictionary := le.Uint32(head[5:]); uint64(dictionary) > memory {
		return nil, &MemoryError{Kind: LZMA, Need: int64(dictionary), Limit: int64(memory)}
	}
	file := le.AppendUint64(head[4:9:9], uint64(size))
	z, err := lzma.ReaderConfig{DictCap: int(min(memory, 1<<31-1))}.NewReader(
		io.MultiReader(bytes.NewReader(file), r))
	if err != nil {
		return nil, err
	}
	return io.NopCloser(z), nil
}

// NewZipMember decompresses the raw bytes of a zip's member to size bytes, in a method that archive/zip does
// not know. memory bounds what a dictionary or window may take, in bytes, 0 for the usual limit. Errors:
// *MethodError, *MemoryError, and what the decoders give.
func NewZipMember(method uint16, r io.Reader, size, memory int64) (io.ReadCloser, error) {
	if memory <= 0 {
		memory = maxMemory
	}
	open, ok := zipMethods[method]
	if !ok {
		name := zipNames[method]
		if name == "" {
			name = fmt.Sprintf("method %d", method)
		}
		return nil, &MethodError{"zip", name}
	}
	return open(r, size, uint64(memory))
}
