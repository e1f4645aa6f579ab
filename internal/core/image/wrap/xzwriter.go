package wrap

import (
	"bytes"
	"errors"
	"io"
	"runtime"

	"jarlid/internal/core/image"

	"github.com/ulikunitz/xz"
)

// xzBlock is how much is packed in one block of the xz streams that are made, in bytes: each by a
// core of its own. The dictionary is no larger.
const xzBlock = 4 << 20

// xzWriter packs blocks on all cores into one stream. Kernels extract streams of several blocks, and
// no second stream (lib/xz/xz_dec_stream.c).
type xzWriter struct {
	w       io.Writer
	buf     []byte
	pending []chan packed
	index   []byte
	count   uint64
	err     error
}

type packed struct {
	block    []byte // with its padding
	unpadded int64
	size     int
	err      error
}

// xzFlags are a stream's flags: CRC32, which is the only sum every kernel checks.
var xzFlags = [2]byte{0, 1}

func newXzWriter(w io.Writer) *xzWriter {
	z := &xzWriter{w: w, buf: make([]byte, 0, xzBlock)}
	_, z.err = w.Write(xzHead(xzFlags))
	return z
}

// Write takes what is to be packed.
func (z *xzWriter) Write(b []byte) (n int, err error) {
	for len(b) > 0 && z.err == nil {
		k := min(len(b), xzBlock-len(z.buf))
		z.buf = append(z.buf, b[:k]...)
		b, n = b[k:], n+k
		if len(z.buf) == xzBlock {
			z.start()
		}
	}
	return n, z.err
}

// start has a block packed, and writes those before it that are done.
func (z *xzWriter) start() {
	ch := make(chan packed, 1)
	data := z.buf
	z.buf = make([]byte, 0, xzBlock)
	z.pending = append(z.pending, ch)
	go func() { ch <- pack(data) }()
	for len(z.pending) >= runtime.GOMAXPROCS(0) {
		z.finish()
	}
}

// finish writes the block that was begun first.
func (z *xzWriter) finish() {
	p := <-z.pending[0]
	z.pending = z.pending[1:]
	if z.err = errors.Join(z.err, p.err); z.err != nil {
		return
	}
	z.index = xzRecord(z.index, p.unpadded, int64(p.size))
	z.count++
	_, z.err = z.w.Write(p.block)
}

// pack makes a stream of one block with the library and takes the block out of it.
func pack(data []byte) packed {
	var b bytes.Buffer
	w, err := xz.WriterConfig{CheckSum: xz.CRC32, DictCap: xzBlock, BlockSize: int64(len(data)) +
		1}.NewWriter(&b)
	if err == nil {
		_, err = w.Write(data)
		err = errors.Join(err, w.Close())
	}
	if err != nil {
		return packed{err: err}
	}
	list, ok := XzBlocks(bytes.NewReader(b.Bytes()), int64(b.Len()))
	if !ok || len(list) != 1 || list[0].Size != int64(len(data)) {
		return packed{err: errors.New("the xz library did not make one block of one")}
	}
	padded := image.Align(list[0].unpadded, 4)
	return packed{block: b.Bytes()[list[0].from : list[0].from+padded], unpadded: list[0].unpadded,
		size: len(data)}
}

// Close packs what is left and ends the stream.
func (z *xzWriter) Close() error {
	if len(z.buf) > 0 && z.err == nil {
		z.start()
	}
	for len(z.pending) > 0 {
		z.finish()
	}
	if z.err != nil {
		return z.err
	}
	_, z.err = z.w.Write(xzTail(xzFlags, z.count, z.index))
	return z.err
}
