package wrap

import (
	"errors"
	"io"

	"jarlid/internal/core/image"
)

// thumb undoes the filter for ARM Thumb code: the targets of its calls (a pair of halfwords, BL) were made
// absolute, so that they pack better (the xz file format 1.2.1, 5.3.2, filter 08).
type thumb struct {
	r    io.Reader
	ip   uint32 // the address of what is in buf
	buf  [64 << 10]byte
	n    int // bytes in buf
	done int // those that are given out or can be
	from int
	err  error
}

// NewThumb undoes the filter in r.
func NewThumb(r io.Reader) io.Reader { return &thumb{r: r} }

// Read gives what comes out.
func (t *thumb) Read(b []byte) (int, error) {
	for t.from == t.done {
		if t.err != nil {
			return 0, t.err
		}
		left := copy(t.buf[:], t.buf[t.done:t.n])
		t.from, t.n = 0, left
		n, err := image.Fill(t.r, t.buf[left:])
		t.n += n
		t.done = t.convert()
		t.ip += uint32(t.done)
		switch {
		case errors.Is(err, io.EOF): // the last bytes are no whole call
			t.done, t.err = t.n, io.EOF
		case err != nil:
			t.err = err
		}
	}
	n := copy(b, t.buf[t.from:t.done])
	t.from += n
	return n, nil
}

// convert changes the calls in buf, and says up to where that is done.
func (t *thumb) convert() int {
	i := 0
	for ; i+4 <= t.n; i += 2 {
		b := t.buf[i : i+4]
		if b[1]&0xf8 != 0xf0 || b[3]&0xf8 != 0xf8 {
			continue
		}
		to := uint32(b[1]&7)<<19 | uint32(b[0])<<11 | uint32(b[3]&7)<<8 | uint32(b[2])
		to = (to<<1 - (t.ip + uint32(i) + 4)) >> 1
		b[1], b[0] = 0xf0|byte(to>>19)&7, byte(to>>11)
		b[3], b[2] = 0xf8|byte(to>>8)&7, byte(to)
		i += 2
	}
	return i
}
