package erofs

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"errors"
	"io"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz/lzma"
)

// algorithms is how many there are (Z_EROFS_COMPRESSION_MAX), in the order of
// their forms.
const algorithms = formZstd - formLZ4 + 1

// unpackers fill out from the data of one cluster. The data may go on beyond
// out: a file may use the beginning of a cluster alone.
var unpackers = [algorithms]struct {
	name   string
	unpack func(out, src []byte) error
}{
	{"lz4", lz4Block},
	{"lzma", microLZMA},
	{"deflate", func(out, src []byte) error { return fill(out, flate.NewReader(bytes.NewReader(src))) }},
	{"zstd", zstdFrame},
}

// errDamaged says of a block of lz4 or lzma that it breaks the format's rules.
var errDamaged = errors.New("it breaks the rules of its format")

// fill reads out full. What a reader finds wrong after that is not asked for.
func fill(out []byte, r io.Reader) error {
	_, err := io.ReadFull(r, out)
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}

// maxWindow bounds what a zstd frame may ask for: mkfs.erofs takes dictionaries
// of at most 1 MiB, the kernel's reader as much as a cluster.
const maxWindow = 8 << 20

func zstdFrame(out, src []byte) error {
	z, err := zstd.NewReader(bytes.NewReader(src), zstd.WithDecoderConcurrency(1),
		zstd.WithDecoderLowmem(true), zstd.WithDecoderMaxWindow(maxWindow))
	if err != nil {
		return err
	}
	defer z.Close()
	return fill(out, z)
}

// microLZMA extracts an LZMA stream without its header: the first byte, which
// is always zero in such a stream, holds the complement of the properties
// instead (xz 5.4, lzma_microlzma_decoder in lzma/container.h).
func microLZMA(out, src []byte) error {
	const (
		headerSize = 13      // of an .lzma file: properties, dictionary, size
		dictionary = 1 << 12 // at least; a match reaches no further back than out begins
	)
	if len(src) == 0 || ^src[0] >= 9*5*5 {
		return errDamaged
	}
	header := append([]byte{^src[0]}, bytes.Repeat([]byte{0xff}, headerSize-1)...) // -1: no size
	binary.LittleEndian.PutUint32(header[1:], uint32(max(dictionary, len(out))))
	z, err := lzma.NewReader(io.MultiReader(bytes.NewReader(header), bytes.NewReader([]byte{0}),
		bytes.NewReader(src[1:])))
	if err != nil {
		return err
	}
	// The reader extracts as far as it can before it gives anything out, and
	// comes upon the end of the data, which has no marker. A second call gives
	// what it had until then.
	n, err := io.ReadFull(z, out)
	if n < len(out) {
		var more int
		if more, _ = z.Read(out[n:]); n+more == len(out) {
			return nil
		}
	}
	return err
}

func (d *data) unpack(r *run) ([]byte, error) {
	src, err := d.f.read(r.from, r.stored)
	if err != nil {
		return nil, err
	}
	out := make([]byte, r.size)
	switch r.form {
	case formShifted:
		if r.size > int64(len(src)) {
			return nil, d.n.broken("has a plain cluster of %d bytes in %d", r.size, len(src))
		}
		copy(out, src)
		return out, nil
	case formTurned:
		bs := d.f.BlockSize
		if r.size > int64(len(src)) {
			return nil, d.n.broken("has a plain cluster of %d bytes in %d", r.size, len(src))
		}
		for k := range out {
			out[k] = src[(r.start+int64(k))%bs]
		}
		return out, nil
	}
	if d.f.Incompat&featZeroPadding != 0 { // the data ends its cluster, zeros go before
		for len(src) > 0 && src[0] == 0 {
			src = src[1:]
		}
	}
	a := unpackers[r.form-formLZ4]
	if err := a.unpack(out, src); err != nil {
		return nil, d.n.broken("has damaged %s data at byte %d of the image: %v", a.name, r.from, err)
	}
	return out, nil
}

// lz4Block extracts an lz4 block until out is full, as far as the block need
// be read for that (lz4 block format description, 2022).
func lz4Block(out, src []byte) error {
	length := func(n int) (int, bool) {
		if n != 15 {
			return n, true
		}
		for {
			if len(src) == 0 {
				return 0, false
			}
			b := src[0]
			src = src[1:]
			n += int(b)
			if b != 255 {
				return n, n < 1<<30
			}
		}
	}
	at := 0
	for at < len(out) {
		if len(src) == 0 {
			return errDamaged
		}
		token := src[0]
		src = src[1:]
		lit, ok := length(int(token >> 4))
		if !ok || lit > len(src) && len(src) < len(out)-at {
			return errDamaged
		}
		n := copy(out[at:], src[:min(lit, len(src))])
		at += n
		if at == len(out) {
			return nil
		}
		if lit > len(src) {
			return errDamaged
		}
		src = src[lit:]
		if len(src) < 2 {
			return errDamaged
		}
		dist := int(src[0]) | int(src[1])<<8
		src = src[2:]
		n, ok = length(int(token & 15))
		if !ok || dist == 0 || dist > at {
			return errDamaged
		}
		for n += 4; n > 0 && at < len(out); n-- {
			out[at] = out[at-dist]
			at++
		}
	}
	return nil
}
