package ident

import (
	"fmt"
	"io"

	"github.com/bodgit/sevenzip"

	"jarlid/internal/core/image/wrap"
)

// The methods of 7z archives that the library lacks, by their numbers ("7zFormat.txt" and "Methods.txt" of
// the 7z format's description): two that are read, and those that are named.
func init() {
	for id, read := range map[string]func(io.Reader) io.Reader{
		"\x04\x01\x09": wrap.NewDeflate64, "\x03\x03\x07\x01": wrap.NewThumb, "\x08": wrap.NewThumb} {
		sevenzip.RegisterDecompressor([]byte(id), func(_ []byte, _ uint64, in []io.ReadCloser) (io.ReadCloser,
			error) {
			if len(in) != 1 {
				return nil, fmt.Errorf("a coder has %d streams", len(in))
			}
			return struct {
				io.Reader
				io.Closer
			}{read(in[0]), in[0]}, nil
		})
	}
	for id, name := range map[string]string{"\x03\x03\x04\x01": "the filter for IA-64",
		"\x06": "the filter for IA-64", "\x0b": "the filter for RISC-V",
		"\x02\x03\x02": "the filter swap2", "\x02\x03\x04": "the filter swap4", "\x04\xf7\x11\x05": "LZ5",
		"\x04\xf7\x11\x06": "Lizard", "\x04\x02\x01": "NSIS"} {
		sevenzip.RegisterDecompressor([]byte(id), func([]byte, uint64, []io.ReadCloser) (io.ReadCloser,
			error) {
			return nil, &wrap.MethodError{Archive: "7z", Method: name}
		})
	}
}
