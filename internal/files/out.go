package files

import (
	"bytes"
	"errors"
	"hash"
	"io"
	"os"
	"path/filepath"
	"sync"

	"jarlid/internal/core/image"
	"jarlid/internal/core/lift"
	"jarlid/internal/host"
)

// Out is a file that is being written, of which runs of zeros are left out: they are
// holes in it. It implements lift.Out, and io.Writer for what comes in order.
type Out struct {
	f  *os.File
	mu sync.Mutex
	hi int64 // nothing was written from here on
	at int64 // where Write goes on
}

// NewOut writes to f, which is new.
func NewOut(f *os.File) *Out {
	_ = host.Sparse(f) // a disk without holes keeps zeros
	return &Out{f: f}
}

// WriteAt writes p at off.
func (o *Out) WriteAt(p []byte, off int64) (int, error) {
	n, err := o.f.WriteAt(p, off)
	o.wrote(off + int64(n))
	return n, err
}

func (o *Out) wrote(to int64) {
	o.mu.Lock()
	o.hi = max(o.hi, to)
	o.mu.Unlock()
}

// ReadAt reads what was written.
func (o *Out) ReadAt(p []byte, off int64) (int, error) { return o.f.ReadAt(p, off) }

// SetSize sets the length.
func (o *Out) SetSize(n int64) error { return o.f.Truncate(n) }

// blockSize is the unit in which zeros are looked for, in bytes.
const blockSize = 4096

// Write writes what comes next, its zeros as holes. Finish sets the length.
func (o *Out) Write(p []byte) (int, error) {
	for done := 0; done < len(p); {
		n := min(len(p)-done, blockSize)
		if part := p[done : done+n]; !image.IsZero(part) {
			if _, err := o.WriteAt(part, o.at); err != nil {
				return done, err
			}
		}
		o.at += int64(n)
		done += n
	}
	return len(p), nil
}

// Written gives how many bytes went through Write.
func (o *Out) Written() int64 { return o.at }

// Finish gives the file the length of what went through Write: its end may be a hole.
func (o *Out) Finish() error { return o.f.Truncate(o.at) }

// CopyFrom lets the system copy between two files.
func (o *Out) CopyFrom(src io.ReaderAt, from, to, n int64) (ok bool, err error) {
	f, ok := src.(*os.File)
	if !ok {
		return false, nil
	}
	if _, err := f.Seek(from, io.SeekStart); err != nil {
		return false, err
	}
	if _, err := o.f.Seek(to, io.SeekStart); err != nil {
		return false, err
	}
	got, err := io.CopyN(o.f, f, n)
	o.wrote(to + got)
	return true, err
}

var zeroPiece [256 << 10]byte

// Zero leaves a hole where nothing was written before.
func (o *Out) Zero(off, n int64) error {
	o.mu.Lock()
	hi := o.hi
	o.mu.Unlock()
	buf := make([]byte, min(n, int64(len(zeroPiece))))
	for end := min(off+n, hi); off < end; {
		b := buf[:min(int64(len(buf)), end-off)]
		k, err := o.f.ReadAt(b, off)
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		if !bytes.Equal(b[:k], zeroPiece[:k]) {
			if _, err := o.f.WriteAt(zeroPiece[:len(b)], off); err != nil {
				return err
			}
		}
		off += int64(len(b))
	}
	return nil
}

// Hashed writes to an Out and to a hash.
type Hashed struct {
	*Out
	Sum hash.Hash
}

// Write writes and hashes.
func (h Hashed) Write(p []byte) (int, error) {
	h.Sum.Write(p)
	return h.Out.Write(p)
}

// Spool keeps a stream in a temporary file, so that it can be read at any place, up to
// limit bytes. Errors: *lift.TooLargeError.
func Spool(limit int64) func(io.Reader) (io.ReaderAt, int64, func(), error) {
	return func(r io.Reader) (io.ReaderAt, int64, func(), error) {
		dir, gone, err := Scratch("")
		if err != nil {
			return nil, 0, nil, err
		}
		f, err := os.Create(filepath.Join(dir, "unwrapped"))
		if err != nil {
			gone()
			return nil, 0, nil, err
		}
		done := func() { f.Close(); gone() }
		o := NewOut(f)
		n, err := io.CopyBuffer(struct{ io.Writer }{o}, io.LimitReader(r, limit+1), make([]byte, 1<<20))
		if err == nil && n > limit {
			err = &lift.TooLargeError{Limit: limit}
		}
		if err == nil {
			err = o.Finish()
		}
		if err != nil {
			done()
			return nil, 0, nil, err
		}
		return f, n, done, nil
	}
}
