// Package kernel reads of a Linux kernel image what it says of itself: its version, and
// the configuration it was built with when it carries that (CONFIG_IKCONFIG).
package kernel

import (
	"bytes"
	"compress/gzip"
	"errors"
	"io"
	"strings"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/wrap"
)

const formatName = "kernel"

// maxSize is how far a kernel is extracted, in bytes; those of phones have some 50 MiB.
const maxSize = 192 << 20

const (
	// The banner every kernel holds (init/version.c: linux_banner).
	banner = "Linux version "
	// What stands before the compressed configuration (kernel/configs.c).
	configMark = "IKCFG_ST"
	maxConfig  = 4 << 20
)

// Info is what was found.
type Info struct {
	Version string // 4.14.190-gabcdef; "" when there is no banner
	Config  string // lines CONFIG_X=y; "" when it carries none
}

// Read reads a kernel, compressed or not, or one that extracts itself. One without a
// banner is an *image.Error.
func Read(r io.ReaderAt, size int64) (*Info, error) {
	open := func() (io.Reader, error) { return io.NewSectionReader(r, 0, size), nil }
	head := make([]byte, min(size, 16))
	if _, err := r.ReadAt(head, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	if kind := wrap.Detect(head); kind != wrap.None {
		return find(func() (io.Reader, error) {
			return wrap.NewReader(kind, io.NewSectionReader(r, 0, size))
		})
	}
	i, err := find(open)
	if err == nil {
		return i, nil
	}
	// One that extracts itself has the real one inside, behind a short program.
	const near = 1 << 20
	b, rerr := image.ReadAt(formatName, r, size, 0, min(size, near))
	if rerr != nil {
		return nil, rerr
	}
	for _, m := range []struct {
		kind  wrap.Kind
		magic string
	}{{wrap.Gzip, "\x1f\x8b\x08\x00"}, {wrap.LZ4Legacy, "\x02\x21\x4c\x18"}, {wrap.Xz, "\xfd7zXZ\x00"}} {
		if at := bytes.Index(b, []byte(m.magic)); at > 0 {
			inner, ierr := find(func() (io.Reader, error) {
				return wrap.NewReader(m.kind, io.NewSectionReader(r, int64(at), size-int64(at)))
			})
			if ierr == nil {
				return inner, nil
			}
		}
	}
	return nil, err
}

func find(open func() (io.Reader, error)) (*Info, error) {
	r, err := open()
	if err != nil {
		return nil, image.Errorf(formatName, 0, "the compressed data does not begin right: %v", err)
	}
	i := &Info{}
	if after, err := seek(r, banner); err != nil {
		return nil, err
	} else if after != nil {
		b := make([]byte, 128)
		n, _ := io.ReadFull(after, b)
		i.Version, _, _ = strings.Cut(string(b[:n]), " ")
	}
	if i.Version == "" || i.Version[0] < '0' || i.Version[0] > '9' {
		return nil, image.Errorf(formatName, -1, "there is no banner in it, so it is none, or packed in a "+
			"form that is not known")
	}
	if r, err = open(); err != nil {
		return nil, err
	}
	after, err := seek(r, configMark)
	if err != nil || after == nil {
		return i, err
	}
	i.Config, _ = ReadConfig(after) // the mark is in the code that looks for it, too
	return i, nil
}

// ReadConfig reads a configuration as a kernel keeps it and as /proc/config.gz gives it,
// compressed: its lines CONFIG_X=y.
func ReadConfig(r io.Reader) (string, error) {
	z, err := gzip.NewReader(r)
	if err != nil {
		return "", image.Errorf("kernel configuration", 0, "it does not begin as compressed data: %v", err)
	}
	z.Multistream(false)
	text, err := io.ReadAll(io.LimitReader(z, maxConfig))
	if err != nil {
		return "", image.Errorf("kernel configuration", -1, "%v", err)
	}
	var lines []string
	for line := range strings.Lines(string(text)) {
		if line = strings.TrimSpace(line); strings.HasPrefix(line, "CONFIG_") {
			lines = append(lines, line)
		}
	}
	return strings.Join(lines, "\n"), nil
}

// seek reads until a mark and gives what follows; nil when it is not there.
func seek(r io.Reader, mark string) (io.Reader, error) {
	buf := make([]byte, 0, 1<<20)
	for total := int64(0); total < maxSize; {
		n, err := io.ReadFull(r, buf[len(buf):cap(buf)])
		buf, total = buf[:len(buf)+n], total+int64(n)
		for from := 0; ; {
			at := bytes.Index(buf[from:], []byte(mark))
			if at < 0 {
				break
			}
			rest := buf[from+at+len(mark):]
			// A banner is followed by a number; elsewhere the words are part of a format.
			if mark != banner || len(rest) == 0 || rest[0] >= '0' && rest[0] <= '9' {
				return io.MultiReader(bytes.NewReader(bytes.Clone(rest)), r), nil
			}
			from += at + len(mark)
		}
		if err != nil {
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				return nil, nil
			}
			return nil, image.Errorf(formatName, total, "%v", err)
		}
		keep := len(mark) - 1
		copy(buf[:keep], buf[len(buf)-keep:])
		buf = buf[:keep]
	}
	return nil, nil
}
