package verify

import (
	"context"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
	"sync"
	"sync/atomic"

	"jarlid/internal/core/image/sums"
)

// Tap is the digest of one range of a file that is read as a whole.
type Tap struct {
	From, To int64 // bytes from the start of the file
	Hash     hash.Hash

	sum []byte
}

// Sum is the digest, once the file was read.
func (t *Tap) Sum() []byte { return t.sum }

// Hex is the digest in hex.
func (t *Tap) Hex() string { return hex.EncodeToString(t.sum) }

// feed is one goroutine's work on the pieces of a file.
type feed struct {
	ch   chan piece
	taps []*Tap // of one algorithm, which begin at the same byte: one state serves all
}

type piece struct {
	b    []byte
	off  int64
	left *atomic.Int32 // feeds that have not taken it yet
}

// write digests a piece once, and gives each tap its digest where its range ends.
func (f *feed) write(b []byte, off int64) {
	h := f.taps[0].Hash
	at, end := max(f.taps[0].From, off), off+int64(len(b))
	for _, t := range f.taps { // in the order of their ends
		if t.sum != nil || t.To > end || t.To < at {
			continue
		}
		h.Write(b[at-off : t.To-off])
		at, t.sum = t.To, h.Sum(nil)
	}
	if last := f.taps[len(f.taps)-1].To; at < min(end, last) {
		h.Write(b[at-off : min(end, last)-off])
	}
}

// pieceSize is how much is read at a time, in bytes; pieces is how many are in memory.
const (
	pieceSize = 1 << 20
	pieces    = 6
)

// Digests reads the size bytes of r once, in order, and gives their digests in hex. Each of taps has its
// own afterwards. moved, which may be nil, is called with the bytes read so far.
func Digests(ctx context.Context, r io.ReaderAt, size int64, need map[sums.Algorithm]bool, moved func(int64),
	taps ...*Tap) (map[sums.Algorithm]string, error) {
	whole := map[sums.Algorithm]*Tap{}
	for a := range need {
		whole[a] = &Tap{To: size, Hash: a.New()}
		taps = append(taps, whole[a])
	}
	feeds := feedsOf(taps)
	empty := make(chan []byte, pieces)
	for range pieces {
		empty <- make([]byte, pieceSize)
	}
	var wg sync.WaitGroup
	for _, f := range feeds {
		wg.Go(func() {
			for p := range f.ch {
				f.write(p.b, p.off)
				if p.left.Add(-1) == 0 {
					empty <- p.b[:pieceSize]
				}
			}
		})
	}
	err := func() error {
		for at := int64(0); at < size; {
			if err := ctx.Err(); err != nil {
				return err
			}
			b := (<-empty)[:min(pieceSize, size-at)]
			if n, err := r.ReadAt(b, at); n < len(b) {
				return fmt.Errorf("it cannot be read at byte %d: %w", at+int64(n), err)
			}
			left := &atomic.Int32{}
			left.Store(int32(len(feeds)))
			for _, f := range feeds {
				f.ch <- piece{b, at, left}
			}
			at += int64(len(b))
			if moved != nil {
				moved(at)
			}
		}
		return nil
	}()
	for _, f := range feeds {
		close(f.ch)
	}
	wg.Wait()
	out := map[sums.Algorithm]string{}
	for _, t := range taps {
		if t.sum == nil { // an empty range
			t.sum = t.Hash.Sum(nil)
		}
	}
	for a, t := range whole {
		out[a] = t.Hex()
	}
	return out, err
}

// feedsOf puts taps of one algorithm that begin at the same byte together, the one that ends first before
// the others: the digest of a signed range costs nothing beside that of the whole file.
func feedsOf(taps []*Tap) (list []*feed) {
next:
	for _, t := range taps {
		for _, f := range list {
			if first := f.taps[0]; first.From == t.From && sameHash(first.Hash, t.Hash) {
				i := 0
				for i < len(f.taps) && f.taps[i].To <= t.To {
					i++
				}
				f.taps = append(f.taps[:i:i], append([]*Tap{t}, f.taps[i:]...)...)
				continue next
			}
		}
		list = append(list, &feed{ch: make(chan piece, pieces), taps: []*Tap{t}})
	}
	return list
}

// sameHash reports whether two states are of one algorithm; both are new.
func sameHash(a, b hash.Hash) bool { return string(a.Sum(nil)) == string(b.Sum(nil)) }
