package wrap

import (
	"bufio"
	"errors"
	"io"
	"math/bits"

	"jarlid/internal/core/image"
)

// deflate64 decompresses the larger form of Deflate, which Windows packs archives over 2 GiB with: a window
// of 64 KiB, a length code for up to 65538 bytes, and two distance codes more (APPNOTE 6.3.10, 4.4.5, method
// 9; all else is as in RFC 1951). No library for it was found.
type deflate64 struct {
	in    *bufio.Reader
	hold  uint32
	count uint // bits in hold

	window  [64 << 10]byte
	at      int    // where the next byte goes in it
	pending []byte // decompressed, in window, not given out yet

	last         bool // the block that is read is the last one
	stored       int  // bytes left of a block that is stored
	lit, dist    huffman
	inBlock      bool // of codes
	length, back int  // of a copy that is under way
	err          error
}

// NewDeflate64 decompresses the larger form of Deflate.
func NewDeflate64(r io.Reader) io.Reader { return &deflate64{in: bufio.NewReaderSize(r, 64<<10)} }

// huffman decodes canonical codes by their lengths (RFC 1951, 3.2.2).
type huffman struct {
	count  [16]int // codes by their length
	symbol []int
	// fast has, by the next bits, the symbol of a short code and, in the lowest four bits, its length; 0
	// where the code is longer.
	fast [1 << fastBits]uint16
}

const fastBits = 9

// base is the value of a length or distance code, and how many bits follow it.
type base struct{ value, extra int }

// The codes' values (RFC 1951, 3.2.5): in the larger form the last length code is 3 with 16 bits more, and
// two distance codes follow.
var (
	lengths64, distances64 = bases64()
	codeOrder              = [19]int{16, 17, 18, 0, 8, 7, 9, 6, 10, 5, 11, 4, 12, 3, 13, 2, 14, 1, 15}
)

func bases64() (l, d []base) {
	for i, v := 0, 3; i < 28; i++ {
		extra := max(0, i/4-1)
		l, v = append(l, base{v, extra}), v+1<<extra
	}
	l = append(l, base{3, 16})
	for i, v := 0, 1; i < 32; i++ {
		extra := max(0, i/2-1)
		d, v = append(d, base{v, extra}), v+1<<extra
	}
	return l, d
}

var errDeflate64 = image.Errorf("compressed data (deflate64)", -1, "it is damaged")

// Read decompresses.
func (d *deflate64) Read(b []byte) (int, error) {
	for len(d.pending) == 0 {
		if d.err != nil {
			return 0, d.err
		}
		from := d.at
		d.err = d.fill()
		d.pending = d.window[from:max(from, d.at)]
		d.at %= len(d.window)
	}
	n := copy(b, d.pending)
	d.pending = d.pending[n:]
	return n, nil
}

// fill decompresses up to the window's end. What is there is good even where it ends with an error.
func (d *deflate64) fill() error {
	for d.at < len(d.window) {
		switch {
		case d.length > 0:
			d.window[d.at] = d.window[(d.at-d.back+len(d.window))%len(d.window)]
			d.at++
			d.length--
		case d.stored > 0 && d.count > 0: // what was read ahead
			b, err := d.take(8)
			if err != nil {
				return err
			}
			d.window[d.at] = byte(b)
			d.at++
			d.stored--
		case d.stored > 0:
			n, err := io.ReadFull(d.in, d.window[d.at:min(len(d.window), d.at+d.stored)])
			d.at, d.stored = d.at+n, d.stored-n
			if err != nil {
				return short(err)
			}
		case d.inBlock:
			if err := d.code(); err != nil {
				return err
			}
		case d.last:
			return io.EOF
		default:
			if err := d.block(); err != nil {
				return err
			}
		}
	}
	return nil
}

func short(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}

// take reads n bits, at most 16.
func (d *deflate64) take(n uint) (int, error) {
	for d.count < n {
		b, err := d.in.ReadByte()
		if err != nil {
			return 0, short(err)
		}
		d.hold |= uint32(b) << d.count
		d.count += 8
	}
	v := int(d.hold & (1<<n - 1))
	d.hold >>= n
	d.count -= n
	return v, nil
}

func (d *deflate64) symbol(h *huffman) (int, error) {
	for d.count < fastBits {
		b, err := d.in.ReadByte()
		if err != nil {
			break // the last codes may be shorter
		}
		d.hold |= uint32(b) << d.count
		d.count += 8
	}
	if e := h.fast[d.hold&(1<<fastBits-1)]; e != 0 && uint(e&15) <= d.count {
		d.hold >>= e & 15
		d.count -= uint(e & 15)
		return int(e >> 4), nil
	}
	code, first, index := 0, 0, 0
	for n := 1; n < len(h.count); n++ {
		bit, err := d.take(1)
		if err != nil {
			return 0, err
		}
		code |= bit
		if k := h.count[n]; code-k < first {
			return h.symbol[index+code-first], nil
		}
		index += h.count[n]
		first = (first + h.count[n]) << 1
		code <<= 1
	}
	return 0, errDeflate64
}

// code reads a literal, a copy, or the block's end.
func (d *deflate64) code() error {
	s, err := d.symbol(&d.lit)
	switch {
	case err != nil:
		return err
	case s < 256:
		d.window[d.at] = byte(s)
		d.at++
		return nil
	case s == 256:
		d.inBlock = false
		return nil
	case s-257 >= len(lengths64):
		return errDeflate64
	}
	l := lengths64[s-257]
	more, err := d.take(uint(l.extra))
	if err != nil {
		return err
	}
	if s, err = d.symbol(&d.dist); err != nil {
		return err
	}
	if s >= len(distances64) {
		return errDeflate64
	}
	back, err := d.take(uint(distances64[s].extra))
	d.length, d.back = l.value+more, distances64[s].value+back
	return err
}

// block reads the head of the next block.
func (d *deflate64) block() error {
	head, err := d.take(3)
	if err != nil {
		return err
	}
	d.last = head&1 != 0
	switch head >> 1 {
	case 0:
		if _, err := d.take(d.count % 8); err != nil {
			return err
		}
		n, err := d.take(16) // whole bytes that were read ahead come first
		if err != nil {
			return err
		}
		inverse, err := d.take(16)
		if err == nil && n != inverse^0xffff {
			err = errDeflate64
		}
		d.stored = n
		return err
	case 1:
		all := make([]int, 288+32)
		for i := range all {
			switch {
			case i >= 288:
				all[i] = 5
			case i >= 280, i < 144:
				all[i] = 8
			case i >= 256:
				all[i] = 7
			default:
				all[i] = 9
			}
		}
		return d.codes(all[:288], all[288:])
	case 2:
		return d.dynamic()
	}
	return errDeflate64
}

// dynamic reads the codes of a block that brings its own (RFC 1951, 3.2.7).
func (d *deflate64) dynamic() error {
	var n [3]int
	for i, bits := range []uint{5, 5, 4} {
		v, err := d.take(bits)
		if err != nil {
			return err
		}
		n[i] = v + []int{257, 1, 4}[i]
	}
	var own [19]int
	for _, at := range codeOrder[:n[2]] {
		var err error
		if own[at], err = d.take(3); err != nil {
			return err
		}
	}
	var h huffman
	if err := h.set(own[:]); err != nil {
		return err
	}
	all := make([]int, 0, 320)
	for len(all) < n[0]+n[1] {
		s, err := d.symbol(&h)
		if err != nil {
			return err
		}
		if s < 16 {
			all = append(all, s)
			continue
		}
		repeat := []struct {
			bits uint
			base int
		}{{2, 3}, {3, 3}, {7, 11}}[s-16]
		value := 0
		if s == 16 {
			if len(all) == 0 {
				return errDeflate64
			}
			value = all[len(all)-1]
		}
		more, err := d.take(repeat.bits)
		if err != nil {
			return err
		}
		for range repeat.base + more {
			all = append(all, value)
		}
	}
	if len(all) > n[0]+n[1] {
		return errDeflate64
	}
	return d.codes(all[:n[0]], all[n[0]:])
}

func (d *deflate64) codes(lit, dist []int) error {
	d.inBlock = true
	return errors.Join(d.lit.set(lit), d.dist.set(dist))
}

// set makes the codes of lengths; more of them than fit are an error.
func (h *huffman) set(lengths []int) error {
	*h = huffman{symbol: make([]int, len(lengths))}
	for _, n := range lengths {
		h.count[n]++
	}
	h.count[0] = 0
	left := 1
	for _, n := range h.count[1:] {
		if left = left<<1 - n; left < 0 {
			return errDeflate64
		}
	}
	var next, code [16]int
	for n := 1; n < 15; n++ {
		next[n+1] = next[n] + h.count[n]
		code[n+1] = (code[n] + h.count[n]) << 1
	}
	for s, n := range lengths {
		if n == 0 {
			continue
		}
		h.symbol[next[n]] = s
		next[n]++
		if n <= fastBits { // codes are stored from their highest bit on
			turned := bits.Reverse16(uint16(code[n])) >> (16 - n)
			for i := int(turned); i < len(h.fast); i += 1 << n {
				h.fast[i] = uint16(s)<<4 | uint16(n)
			}
		}
		code[n]++
	}
	return nil
}
