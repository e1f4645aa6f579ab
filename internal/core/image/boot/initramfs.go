package boot

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/cpio"
	"jarlid/internal/core/image/wrap"
)

// FormError says that a ramdisk begins with something no reader here knows, a compression for example. It is
// no fault of the file's.
type FormError struct{ Head []byte }

// AboutNoDamage marks it as no fault of the file's.
func (*FormError) AboutNoDamage() {}

// Error says so.
func (*FormError) Error() string {
	return "its ramdisk is packed in a form that is not read here, so what is in it is unknown"
}

// Initramfs reads a ramdisk as the kernel does (unpack_to_rootfs in the Linux kernel's init/initramfs.c):
// archives one after the other, each compressed in its own way or not at all, with zeros between them.
type Initramfs struct {
	// Kinds are how the archives that were read so far are compressed.
	Kinds []wrap.Kind

	in   *bufio.Reader
	z    io.ReadCloser // the archive's stream, nil for one that is not compressed
	last *tail         // of an xz stream, whose reader takes more than it needs
	c    *cpio.Reader
	left int64 // bytes that may still be extracted
}

// NewInitramfs reads from r, at most limit bytes in all.
func NewInitramfs(r io.Reader, limit int64) *Initramfs {
	return &Initramfs{in: bufio.NewReaderSize(r, 64<<10), left: limit}
}

// Next goes to the next member of any of the archives; io.EOF after the last one. Errors: *FormError of a
// ramdisk that begins with no known form, *image.Error.
func (i *Initramfs) Next() (*cpio.Header, error) {
	for {
		if i.c == nil {
			if err := i.begin(); err != nil {
				return nil, err
			}
		}
		h, err := i.c.Next()
		switch {
		case err == nil:
			return h, nil
		case errors.Is(err, io.EOF):
			i.end()
		case len(i.Kinds) > 1 && !i.c.Began():
			return nil, io.EOF // bytes after an archive that are none, where the kernel stops too
		default:
			return nil, err
		}
	}
}

// Read reads the current member's data.
func (i *Initramfs) Read(p []byte) (int, error) { return i.c.Read(p) }

// Close ends the reading.
func (i *Initramfs) Close() error {
	if i.z != nil {
		return i.z.Close()
	}
	return nil
}

// begin finds the next archive.
func (i *Initramfs) begin() error {
	for {
		b, err := i.in.Peek(1)
		if err != nil {
			if len(i.Kinds) == 0 {
				return image.Truncated("ramdisk", 0, 6, 0)
			}
			return io.EOF
		}
		if b[0] != 0 {
			break
		}
		_, _ = i.in.Discard(1) // it was there just now
	}
	head, _ := i.in.Peek(6) // fewer are none of the forms
	kind := wrap.Detect(head)
	first := len(i.Kinds) == 0
	if kind == wrap.None && !bytes.HasPrefix(head, []byte("0707")) {
		if !first {
			return io.EOF
		}
		return &FormError{bytes.Clone(head)}
	}
	i.Kinds = append(i.Kinds, kind)
	if kind == wrap.None {
		i.c = cpio.NewArchive(i.in, i.left)
		return nil
	}
	var src io.Reader = i.in
	if kind == wrap.Xz {
		i.last = &tail{r: i.in}
		src = i.last
	}
	z, err := wrap.NewReader(kind, src)
	if err != nil {
		return &image.Error{Format: "ramdisk", Offset: 0, What: "the compressed data does not begin right",
			Err: err}
	}
	i.z, i.c = z, cpio.NewReader(z, i.left)
	return nil
}

// end leaves an archive; what follows it is next.
func (i *Initramfs) end() {
	i.left -= i.c.Offset()
	if i.z != nil {
		_ = i.z.Close() // it was read to its end
	}
	if i.last != nil {
		i.in = bufio.NewReaderSize(io.MultiReader(bytes.NewReader(i.last.rest()), i.in), 64<<10)
	}
	i.c, i.z, i.last = nil, nil, nil
}

// xzFooter is the length of the end of an xz stream, in bytes (the .xz file format 1.2.1, 2.1.2).
const xzFooter = 12

// tail keeps what was read last, to find where an xz stream ends in it.
type tail struct {
	r    io.Reader
	last []byte // the footer's length of bytes before the last read, and that
}

// Read reads.
func (t *tail) Read(p []byte) (int, error) {
	n, err := t.r.Read(p)
	if n > 0 {
		keep := t.last[max(0, len(t.last)-xzFooter):]
		t.last = append(bytes.Clone(keep), p[:n]...)
	}
	return n, err
}

// rest gives what was read after the stream's footer.
func (t *tail) rest() []byte {
	for end := xzFooter; end <= len(t.last); end++ {
		f := t.last[end-xzFooter : end]
		if f[10] == 'Y' && f[11] == 'Z' && binary.LittleEndian.Uint32(f) == crc32.ChecksumIEEE(f[4:10]) {
			return t.last[end:]
		}
	}
	return nil
}

// Contents writes all archives of a ramdisk to w, extracted, as one that is not compressed. Errors: as
// Initramfs, and of w.
func Contents(w io.Writer, r io.Reader) error {
	i := NewInitramfs(r, MaxRamdisk)
	defer i.Close()
	out := cpio.NewWriter(w)
	for {
		h, err := i.Next()
		if errors.Is(err, io.EOF) {
			return out.Close()
		}
		if err != nil {
			return err
		}
		data, err := io.ReadAll(i)
		if err != nil {
			return err
		}
		if err := out.Add(*h, data); err != nil {
			return err
		}
	}
}
