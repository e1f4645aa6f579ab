package lift

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"runtime"
	"sync"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/payload"
	"jarlid/internal/core/image/sparse"
	"jarlid/internal/core/image/wrap"
)

const piece = 1 << 20

// copyTo writes a stream, pieces of zeros as holes, and hashes it on the way,
// on a second core.
func copyTo(ctx context.Context, o Out, r io.Reader, size, limit int64, moved func(int64)) ([]byte, error) {
	if size >= 0 && size < smallItem && size <= limit {
		return copySmall(ctx, o, r, size, moved)
	}
	sum := sha256.New()
	_, plain := o.(Unsummed)
	full, empty := make(chan []byte, 2), make(chan []byte, 4)
	for range 4 {
		empty <- make([]byte, piece)
	}
	var wg sync.WaitGroup
	wg.Go(func() {
		for b := range full {
			if !plain {
				sum.Write(b)
			}
			empty <- b[:piece]
		}
	})
	done := int64(0)
	err := func() error {
		defer close(full)
		for {
			if err := ctx.Err(); err != nil {
				return err
			}
			b := <-empty
			n, err := image.Fill(r, b)
			if done+int64(n) > limit {
				return &TooLargeError{limit}
			}
			if n > 0 {
				if image.IsZero(b[:n]) {
					if err := o.Zero(done, int64(n)); err != nil {
						return err
					}
				} else if _, err := o.WriteAt(b[:n], done); err != nil {
					return err
				}
				done += int64(n)
				moved(done)
				full <- b[:n]
			}
			switch {
			case errors.Is(err, io.EOF) && size >= 0 && done != size:
				return image.Truncated("contents", done, size-done, 0)
			case errors.Is(err, io.EOF):
				return nil
			case err != nil:
				return spoiled(err, done)
			}
		}
	}()
	wg.Wait()
	if err != nil {
		return nil, err
	}
	if plain {
		return nil, o.SetSize(done)
	}
	return sum.Sum(nil), o.SetSize(done)
}

// spoiled is the error of a stream that could not be read on behind n bytes.
func spoiled(err error, n int64) error {
	var said *image.Error // it says by itself what is wrong and where
	if errors.As(err, &said) || image.AboutNoDamage(err) {
		return err
	}
	return &SpoiledError{n, err}
}

// SpoiledError says that a stream could not be read to its end.
type SpoiledError struct {
	At  int64 // bytes that were read of what is inside
	Err error // the decompressor's
}

// Error names the place.
func (e *SpoiledError) Error() string {
	return fmt.Sprintf("the data is damaged or cut short at byte %d: %v", e.At, e.Err)
}

// Unwrap gives the cause.
func (e *SpoiledError) Unwrap() error { return e.Err }

// smallItem is the size under which an item is read at once: an archive may hold many thousand of
// them, and a second core with its buffers costs more than it saves.
const smallItem = 256 << 10

func copySmall(ctx context.Context, o Out, r io.Reader, size int64, moved func(int64)) ([]byte, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	b := make([]byte, size+1) // one more shows that it ends where it says
	n, err := image.Fill(r, b)
	switch {
	case int64(n) > size:
		return nil, &TooLargeError{size}
	case err != nil && !errors.Is(err, io.EOF):
		return nil, spoiled(err, int64(n))
	case int64(n) < size:
		return nil, image.Truncated("contents", int64(n), size-int64(n), 0)
	}
	if _, err := o.WriteAt(b[:n], 0); err != nil {
		return nil, err
	}
	moved(size)
	sum := sha256.Sum256(b[:n])
	return sum[:], o.SetSize(size)
}

// expand writes a sparse image raw: what it leaves alone stays a hole.
func expand(ctx context.Context, v *sparse.View, src io.ReaderAt, o Out, moved func(int64)) error {
	bs := int64(v.BlockSize)
	buf := make([]byte, piece)
	return v.Runs(func(c sparse.Chunk) error {
		off, n := c.Block*bs, c.Blocks*bs
		if c.Type == sparse.ChunkDontCare {
			return nil
		}
		if c.Type == sparse.ChunkFill && c.Fill == 0 {
			return o.Zero(off, n)
		}
		r := io.NewSectionReader(v, off, n)
		if c.Type == sparse.ChunkRaw {
			if ok, err := copyWithin(ctx, o, src, c.Data, off, n, moved); ok || err != nil {
				return err
			}
			r = io.NewSectionReader(src, c.Data, n)
		}
		for at := int64(0); at < n; {
			if err := ctx.Err(); err != nil {
				return err
			}
			p := buf[:min(piece, n-at)]
			if _, err := io.ReadFull(r, p); err != nil {
				return image.Truncated("sparse image", c.Data+at, n-at, 0)
			}
			if _, err := o.WriteAt(p, off+at); err != nil {
				return err
			}
			at += int64(len(p))
			moved(off + at)
		}
		return nil
	})
}

// Copier is an Out that can take bytes straight from some kinds of source, as
// systems do between two files.
type Copier interface {
	// CopyFrom copies n bytes of src from an offset to an offset; ok is false,
	// and nothing done, where it can't.
	CopyFrom(src io.ReaderAt, from, to, n int64) (ok bool, err error)
}

func copyWithin(ctx context.Context, o Out, src io.ReaderAt, from, to, n int64, moved func(int64)) (ok bool,
	err error) {
	c, ok := o.(Copier)
	if !ok {
		return false, nil
	}
	const step = 64 << 20
	for at := int64(0); at < n; at += step {
		if err := ctx.Err(); err != nil {
			return true, err
		}
		if ok, err := c.CopyFrom(src, from+at, to+at, min(step, n-at)); !ok || err != nil {
			return ok, err
		}
		moved(to + at)
	}
	return true, nil
}

// copyInOrder writes an item of size bytes in n parts, on all cores, and makes its digest behind them
// as far as they have come. ends are where the item is whole once a part and all before it are done,
// in bytes; nil where that can't be told: the digest is made from the finished file then. write
// tells how many bytes it has written.
func copyInOrder(ctx context.Context, o Out, size int64, n int, ends []int64,
	write func(ctx context.Context, i int, wrote func(int64)) error, moved func(int64)) ([]byte, error) {
	if err := o.SetSize(size); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	ready := make([]chan struct{}, n)
	for i := range ready {
		ready[i] = make(chan struct{})
	}
	jobs := make(chan int)
	var workers, hasher sync.WaitGroup
	var mu sync.Mutex
	var done int64
	wrote := func(k int64) {
		mu.Lock()
		done += k
		at := done
		mu.Unlock()
		moved(min(at, size))
	}
	for range min(n, runtime.GOMAXPROCS(0)) {
		workers.Go(func() {
			for i := range jobs {
				if err := write(ctx, i, wrote); err != nil {
					cancel(err)
					continue
				}
				close(ready[i])
			}
		})
	}
	sum := sha256.New()
	hasher.Go(func() {
		at := int64(0)
		buf := make([]byte, piece)
		upTo := func(end int64) bool {
			for at < end {
				if ctx.Err() != nil {
					return false
				}
				b := buf[:min(piece, end-at)]
				if n, err := o.ReadAt(b, at); n < len(b) {
					cancel(fmt.Errorf("what was written can't be read back at byte %d: %w", at+int64(n), err))
					return false
				}
				sum.Write(b)
				at += int64(len(b))
			}
			return true
		}
		for i := range ready {
			select {
			case <-ready[i]:
			case <-ctx.Done():
				return
			}
			if ends != nil && !upTo(min(ends[i], size)) {
				return
			}
		}
		upTo(size)
	})
feed:
	for i := range n {
		select {
		case jobs <- i:
		case <-ctx.Done():
			break feed
		}
	}
	close(jobs)
	workers.Wait()
	hasher.Wait()
	if err := context.Cause(ctx); err != nil {
		return nil, err
	}
	return sum.Sum(nil), nil
}

// partition writes one partition of a payload. The digest is made on the way where the operations
// go up, as they do in full payloads.
func partition(ctx context.Context, p *payload.Payload, part *payload.Partition, r io.ReaderAt, o Out,
	moved func(int64)) ([]byte, error) {
	segments, overlap := segmentsOf(p, part)
	if overlap { // of two operations that write one block the later one counts
		return serially(ctx, p, part, r, o, moved)
	}
	digest, err := copyInOrder(ctx, o, int64(part.Size), len(part.Ops), endsOf(part, segments),
		func(_ context.Context, i int, wrote func(int64)) error {
			op := &part.Ops[i]
			if err := p.Apply(r, part, op, o); err != nil {
				return err
			}
			for _, e := range op.Dst {
				wrote(int64(e.Blocks * p.BlockSize))
			}
			return nil
		}, moved)
	if err != nil {
		return nil, err
	}
	if len(part.Hash) > 0 && !bytes.Equal(digest, part.Hash) {
		return nil, &DigestError{Name: part.Name, Got: digest, Want: part.Hash}
	}
	return digest, nil
}

// blocks writes what an xz file that was packed in parallel extracts to.
func blocks(ctx context.Context, list []wrap.XzBlock, o Out, limit, memory int64, moved func(int64)) ([]byte,
	error) {
	last := list[len(list)-1]
	size := last.At + last.Size
	if size > limit {
		return nil, &TooLargeError{limit}
	}
	ends := make([]int64, len(list))
	for i, b := range list {
		ends[i] = b.At + b.Size
	}
	return copyInOrder(ctx, o, size, len(list), ends,
		func(ctx context.Context, i int, wrote func(int64)) error {
			z, err := list[i].Open(memory)
			if err != nil {
				return err
			}
			defer z.Close()
			at, buf := list[i].At, make([]byte, piece)
			for {
				if err := ctx.Err(); err != nil {
					return err
				}
				n, err := image.Fill(z, buf)
				if n > 0 && at+int64(n) > ends[i] {
					return image.Errorf("compressed data (xz)", -1,
						"a block unwraps to more than its index says")
				}
				if n > 0 {
					if image.IsZero(buf[:n]) {
						err = errors.Join(o.Zero(at, int64(n)), err)
					} else if _, werr := o.WriteAt(buf[:n], at); werr != nil {
						return werr
					}
					at += int64(n)
					wrote(int64(n))
				}
				switch {
				case errors.Is(err, io.EOF) && at < ends[i]:
					return image.Errorf("compressed data (xz)", -1,
						"a block unwraps to less than its index says")
				case errors.Is(err, io.EOF):
					return nil
				case err != nil:
					return err
				}
			}
		}, moved)
}

// DigestError says that what came out is not what the file says it holds.
type DigestError struct {
	Name      string
	Got, Want []byte
}

// Error gives both digests.
func (e *DigestError) Error() string {
	return fmt.Sprintf("%s has the SHA-256 %x, the file says %x: it is damaged", e.Name, e.Got, e.Want)
}
