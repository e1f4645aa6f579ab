// Package cpio reads and writes cpio archives in the "new ASCII" form, which
// Linux ramdisks (initramfs) are made of.
//
// The form is published in the Linux kernel's
// Documentation/driver-api/early-userspace/buffer-format.rst.
package cpio

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"

	"jarlid/internal/core/image"
)

const (
	Magic       = "070701" // newc, no checksum
	MagicSum    = "070702" // newc, the check field is a sum of the data bytes
	headerLen   = 110      // 6 bytes of magic and 13 fields of 8 hex digits
	trailerName = "TRAILER!!!"
	maxName     = 4096 // PATH_MAX in Linux; the kernel refuses longer names
	formatName  = "cpio archive"
)

// File types within Mode, as in POSIX <sys/stat.h>.
const (
	TypeMask = 0o170000
	TypeDir  = 0o040000
	TypeFile = 0o100000
	TypeLink = 0o120000
)

// Header is one member's header: the 13 fields of the form and the name.
type Header struct {
	Ino, Mode, UID, GID, NLink, MTime  uint32
	Size                               uint32 // bytes of data
	DevMajor, DevMinor, RMajor, RMinor uint32
	Check                              uint32 // sum of the data bytes in the CRC form, else 0
	Name                               string
	CRC                                bool // the member is in the CRC form
}

// Reader reads a chain of archives: past a trailer and zero padding it goes on
// with the next one, as the kernel does.
type Reader struct {
	r     *bufio.Reader
	off   int64 // bytes taken from r
	left  int64 // data bytes of the current member not read yet
	pad   int64 // padding behind them
	inArc bool  // between a first member and its trailer
	limit int64
	one   bool // a trailer is the end
	began bool // a member's header was read
	// sum adds up the data bytes so far, where the member states in want what they add up to.
	sum, want uint32
	summed    bool
}

// NewReader reads from r. More than limit bytes in all end in an error, so
// that a ramdisk which extracts to gigabytes does not run for ever.
func NewReader(r io.Reader, limit int64) *Reader {
	return &Reader{r: bufio.NewReaderSize(r, 64<<10), limit: limit}
}

// NewArchive reads one archive alone: what follows its trailer stays in r.
func NewArchive(r *bufio.Reader, limit int64) *Reader { return &Reader{r: r, limit: limit, one: true} }

// Offset is how many bytes were read.
func (c *Reader) Offset() int64 { return c.off }

// Began reports whether a member was found at all.
func (c *Reader) Began() bool { return c.began }

// Next goes to the next member. It gives io.EOF only after a trailer and
// nothing but zeros behind it; every other end is an *image.Error.
func (c *Reader) Next() (*Header, error) {
	if c.summed {
		if _, err := io.Copy(io.Discard, struct{ io.Reader }{c}); err != nil {
			return nil, err
		}
	}
	if err := c.skip(c.left + c.pad); err != nil {
		return nil, err
	}
	c.left, c.pad = 0, 0
	for {
		h, err := c.header()
		if err != nil {
			return nil, err
		}
		if h.Name == trailerName {
			c.inArc = false
			if c.one {
				return nil, io.EOF
			}
			continue
		}
		c.inArc = true
		c.left = int64(h.Size)
		c.pad = -c.left & 3
		c.sum, c.want, c.summed = 0, h.Check, h.CRC && h.Mode&TypeMask == TypeFile && h.Size > 0
		return h, nil
	}
}

// Read reads the current member's data.
func (c *Reader) Read(p []byte) (int, error) {
	if c.left == 0 {
		return 0, io.EOF
	}
	p = p[:min(int64(len(p)), c.left)]
	n, err := c.r.Read(p)
	c.off += int64(n)
	c.left -= int64(n)
	if c.summed {
		for _, b := range p[:n] {
			c.sum += uint32(b)
		}
		if c.left == 0 && c.sum != c.want {
			return n, image.Errorf(formatName, c.off, "the bytes of a file add up to %#x, and its header "+
				"says %#x", c.sum, c.want)
		}
	}
	if errors.Is(err, io.EOF) && c.left > 0 {
		return n, image.Truncated(formatName, c.off, c.left, 0)
	}
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return n, err
}

func (c *Reader) header() (*Header, error) {
	var b [headerLen]byte
	if err := c.zeros(); err != nil {
		return nil, err
	}
	start := c.off
	n, err := io.ReadFull(c.r, b[:])
	c.off += int64(n)
	if err != nil {
		return nil, c.fail(err, headerLen)
	}
	h := &Header{}
	switch string(b[:6]) {
	case Magic:
	case MagicSum:
		h.CRC = true
	default:
		return nil, image.Errorf(formatName, start, "no member header here (found %q)", b[:6])
	}
	var nameSize uint32
	fields := []*uint32{&h.Ino, &h.Mode, &h.UID, &h.GID, &h.NLink, &h.MTime, &h.Size,
		&h.DevMajor, &h.DevMinor, &h.RMajor, &h.RMinor, &nameSize, &h.Check}
	for i, f := range fields {
		at := 6 + 8*i
		v, err := strconv.ParseUint(string(b[at:at+8]), 16, 32)
		if err != nil {
			return nil, image.Errorf(formatName, start+int64(at), "%q is not a hex number", b[at:at+8])
		}
		*f = uint32(v)
	}
	if nameSize < 1 || nameSize > maxName {
		return nil, image.Errorf(formatName, start+94, "a name of %d bytes is not possible", nameSize)
	}
	if c.limit > 0 && c.off+int64(nameSize)+int64(h.Size) > c.limit {
		return nil, image.Errorf(formatName, start, "more than %d bytes are inside", c.limit)
	}
	// The name is padded so that header and name together fill 4-byte words.
	name := make([]byte, int64(nameSize)+(-(headerLen+int64(nameSize))&3))
	n, err = io.ReadFull(c.r, name)
	c.off += int64(n)
	if err != nil {
		return nil, c.fail(err, int64(len(name)))
	}
	name = name[:nameSize]
	if name[nameSize-1] != 0 {
		return nil, image.Errorf(formatName, start+headerLen, "the name has no closing zero")
	}
	h.Name, c.began = string(name[:nameSize-1]), true
	return h, nil
}

// zeros passes over those that may be between archives, to the word or the page.
func (c *Reader) zeros() error {
	for {
		b, err := c.r.Peek(1)
		if err == nil && b[0] == 0 {
			b, _ = c.r.Peek(c.r.Buffered()) // these are there
		}
		if err != nil {
			if errors.Is(err, io.EOF) && !c.inArc {
				return io.EOF
			}
			return c.fail(err, headerLen)
		}
		n := len(b) - len(bytes.TrimLeft(b, "\x00"))
		switch {
		case n == 0:
			return nil
		case c.inArc:
			return image.Errorf(formatName, c.off, "a zero byte where the next member's header belongs")
		case c.limit > 0 && c.off+int64(n) > c.limit:
			return image.Errorf(formatName, c.off, "more than %d bytes are inside", c.limit)
		}
		_, _ = c.r.Discard(n) // they are buffered
		c.off += int64(n)
	}
}

func (c *Reader) skip(n int64) error {
	got, err := io.CopyN(io.Discard, c.r, n)
	c.off += got
	if err != nil {
		return c.fail(err, n-got)
	}
	return nil
}

func (c *Reader) fail(err error, want int64) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return image.Truncated(formatName, c.off, want, 0)
	}
	return &image.Error{Format: formatName, Offset: c.off, What: "cannot be read", Err: err}
}

// Writer writes one archive in the newc form.
type Writer struct {
	w   io.Writer
	off int64
	ino uint32
}

// NewWriter writes to w; Close ends the archive and leaves w open.
func NewWriter(w io.Writer) *Writer { return &Writer{w: w} }

// Add writes one member. Size is taken from data; an Ino of 0 is numbered.
func (c *Writer) Add(h Header, data []byte) error {
	if int64(len(data)) > 1<<32-1 {
		return image.Errorf(formatName, c.off, "%s is too large for the form", h.Name)
	}
	if h.Ino == 0 {
		c.ino++
		h.Ino = c.ino
	}
	if h.NLink == 0 {
		h.NLink = 1
	}
	magic := Magic
	if h.CRC {
		magic = MagicSum
	}
	s := fmt.Sprintf("%s%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%s\x00", magic,
		h.Ino, h.Mode, h.UID, h.GID, h.NLink, h.MTime, len(data),
		h.DevMajor, h.DevMinor, h.RMajor, h.RMinor, len(h.Name)+1, h.Check, h.Name)
	if err := c.put([]byte(s)); err != nil {
		return err
	}
	return c.put(data)
}

// Close writes the trailer.
func (c *Writer) Close() error {
	return c.Add(Header{Name: trailerName, Ino: 1<<32 - 1}, nil)
}

func (c *Writer) put(b []byte) error {
	pad := -(c.off + int64(len(b))) & 3
	n, err := c.w.Write(append(b[:len(b):len(b)], make([]byte, pad)...))
	c.off += int64(n)
	return err
}
