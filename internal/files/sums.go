package files

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"jarlid/internal/core/image/sparse"
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

	at   atomic.Int64 // bytes that were digested
	over atomic.Bool

	mu   sync.Mutex
	cuts map[int64]*cut // the file in parts, by how large they may be
}

// cut is a file cut into parts, for several who send them.
type cut struct {
	c      *sparse.Cutter
	parts  []*sparse.Part
	placed []int64
	err    error
}

// Part gives the nth part (counted from 0) of the file, each of at most limit bytes, and how many
// of the file's bytes are placed with it; io.EOF behind the last. Where a digest is shared so are
// the parts: the file is looked through for them once.
func (s *Source) Part(n int, limit int64) (part *sparse.Part, placed int64, err error) {
	m := s.pace
	if m == nil {
		if s.alone == nil {
			s.alone = &madeSum{}
		}
		m = s.alone
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	k := m.cuts[limit]
	if k == nil {
		k = &cut{}
		if m.cuts == nil {
			m.cuts = map[int64]*cut{}
		}
		m.cuts[limit] = k
		k.c, k.err = sparse.Cut(s.File, s.Size, limit)
	}
	for k.err == nil && len(k.parts) <= n {
		var p *sparse.Part
		if p, k.err = k.c.Next(); k.err == nil {
			k.parts, k.placed = append(k.parts, p), append(k.placed, min(k.c.Placed(), s.Size))
		}
	}
	if n > 0 && m == s.alone {
		k.parts[n-1] = nil // nobody comes back for it
	}
	if len(k.parts) > n {
		return k.parts[n], k.placed[n], nil
	}
	return nil, 0, k.err
}

// glanceEvery is how often it is looked whether a digest has gone on. Whoever makes it wakes
// nobody: those it would wake were run in its place.
const glanceEvery = 2 * time.Millisecond

// reach waits until the digest has come as far, or has ended.
func (m *madeSum) reach(n int64) {
	for m.at.Load() < n && !m.over.Load() {
		time.Sleep(glanceEvery)
	}
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
		return digestOf(ctx, src, src.Size)
	}
	m := s.begin(src.path, src.st)
	src.pace = m
	return func() (string, error) { return m.wait(ctx) }
}

func (s *Sums) begin(path string, st os.FileInfo) *madeSum {
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
		defer m.over.Store(true)
		f, size, err := Open(path)
		if err != nil {
			m.err = err
			return
		}
		defer f.Close()
		if now, err := f.Stat(); err != nil || size != key.size || !now.ModTime().Equal(key.at) {
			m.err = &ChangedError{Path: path, How: "its size or its times are different", Sent: true}
			return
		}
		h := sha256.New()
		r := &counted{r: io.NewSectionReader(f, 0, size), moved: m.at.Store}
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
