package files

import (
	"context"
	"encoding/hex"
	"fmt"
	"os"
	"sync"
	"time"

	"crypto/sha256"
	"io"
)

// Sums are digests of files that several jobs send: each file is read for it once. A nil *Sums
// makes each digest for itself.
type Sums struct {
	ctx context.Context
	end context.CancelFunc
	wg  sync.WaitGroup

	mu   sync.Mutex
	made map[sumKey]*madeSum
}

// sumKey is a file as it was: one that was changed is another.
type sumKey struct {
	path string
	size int64
	at   time.Time
}

type madeSum struct {
	done chan struct{}
	sum  string
	err  error
}

// NewSums begins a collection. Close ends what is being made.
func NewSums(ctx context.Context) *Sums {
	s := &Sums{made: map[sumKey]*madeSum{}}
	s.ctx, s.end = context.WithCancel(ctx)
	return s
}

// Close ends what is being made.
func (s *Sums) Close() {
	s.end()
	s.wg.Wait()
}

// Digest gives a file's digest, which is made beside the sending; the result waits for it and
// must be called.
func (s *Sums) Digest(ctx context.Context, src *Source) func() (string, error) {
	if s == nil {
		return Digest(ctx, src, src.Size)
	}
	m := s.begin(src.path, src.st, nil)
	return func() (string, error) { return m.wait(ctx) }
}

// Of gives the digest of a file, and how many bytes it has. moved, which may be nil, is told how
// far it is where it has to be made.
func (s *Sums) Of(ctx context.Context, path string, moved func(int64)) (sum string, size int64, err error) {
	st, err := os.Stat(path)
	if err != nil {
		return "", 0, err
	}
	if !st.Mode().IsRegular() {
		return "", 0, fmt.Errorf("%s is no plain file", path)
	}
	sum, err = s.begin(path, st, moved).wait(ctx)
	return sum, st.Size(), err
}

func (s *Sums) begin(path string, st os.FileInfo, moved func(int64)) *madeSum {
	key := sumKey{path, st.Size(), st.ModTime()}
	s.mu.Lock()
	defer s.mu.Unlock()
	m := s.made[key]
	if m != nil {
		return m
	}
	m = &madeSum{done: make(chan struct{})}
	s.made[key] = m
	s.wg.Go(func() {
		defer close(m.done)
		f, size, err := Open(path)
		if err != nil {
			m.err = err
			return
		}
		defer f.Close()
		if now, err := f.Stat(); err != nil || size != key.size || !now.ModTime().Equal(key.at) {
			m.err = fmt.Errorf("%s changed since it was checked", path)
			return
		}
		h := sha256.New()
		var r io.Reader = io.NewSectionReader(f, 0, size)
		if moved != nil {
			r = &counted{r: r, moved: moved}
		}
		m.err = copyUntil(s.ctx, h, r)
		m.sum = hex.EncodeToString(h.Sum(nil))
	})
	return m
}

func (m *madeSum) wait(ctx context.Context) (string, error) {
	select {
	case <-m.done:
		return m.sum, m.err
	case <-ctx.Done():
		return "", ctx.Err()
	}
}

// counted tells how much was read.
type counted struct {
	r     io.Reader
	n     int64
	moved func(int64)
}

func (c *counted) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	c.n += int64(n)
	c.moved(c.n)
	return n, err
}
