package wrap

import (
	"compress/gzip"
	"errors"
	"io"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
)

// ErrNotMade says that streams of a kind can be read and not made.
var ErrNotMade = errors.New("streams of this kind are not made here")

// kernelWindow is the window of the zstd streams that are made, in bytes: the
// kernel's is 128 MiB at most (lib/decompress_unzstd.c).
const kernelWindow = 8 << 20

// NewWriter compresses what is written to it into w, in a form that Linux kernels
// extract. The caller closes the result; that does not close w. Errors: ErrNotMade.
func NewWriter(kind Kind, w io.Writer) (io.WriteCloser, error) {
	switch kind {
	case None:
		return plain{w}, nil
	case Gzip:
		return gzip.NewWriter(w), nil
	case LZ4Legacy:
		z := lz4.NewWriter(w)
		err := z.Apply(lz4.LegacyOption(true), lz4.CompressionLevelOption(lz4.Level9))
		return z, err
	case Xz:
		return newXzWriter(w), nil
	case Zstd:
		return zstd.NewWriter(w, zstd.WithEncoderLevel(zstd.SpeedBestCompression),
			zstd.WithWindowSize(kernelWindow))
	}
	return nil, ErrNotMade
}

type plain struct{ io.Writer }

func (plain) Close() error { return nil }
