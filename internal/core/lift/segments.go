package lift

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"slices"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/payload"
)

// segment is a run of bytes of a partition that one operation of a payload brings.
type segment struct {
	from, to int64 // bytes
	op       int
}

// segmentsOf gives what of each operation is left in the end, in the order of the partition: of two that
// write one block the later one counts. overlap says that there are such. Operations of published payloads go
// up; nothing in the format says that they do (update_engine's update_metadata.proto).
func segmentsOf(p *payload.Payload, part *payload.Partition) (list []segment, overlap bool) {
	var taken []segment // in their order, without gaps between neighbours that touch
	for i := len(part.Ops) - 1; i >= 0; i-- {
		for _, e := range part.Ops[i].Dst {
			from, to := int64(e.Start*p.BlockSize), int64((e.Start+e.Blocks)*p.BlockSize)
			free := without(segment{from, to, i}, taken)
			overlap = overlap || len(free) != 1 || free[0].from != from || free[0].to != to
			list = append(list, free...)
			taken = with(taken, segment{from: from, to: to})
		}
	}
	slices.SortFunc(list, func(a, b segment) int { return int(min(max(a.from-b.from, -1), 1)) })
	return merged(list, part), overlap
}

// merged puts neighbours together that one operation writes in their order.
func merged(list []segment, part *payload.Partition) (out []segment) {
	for _, s := range list {
		if n := len(out) - 1; n >= 0 && out[n].op == s.op && out[n].to == s.from && slices.IsSortedFunc(
			part.Ops[s.op].Dst, func(a, b payload.Extent) int { return cmp.Compare(a.Start, b.Start) }) {
			out[n].to = s.to
			continue
		}
		out = append(out, s)
	}
	return out
}

// without gives the pieces of s that none of taken covers.
func without(s segment, taken []segment) (free []segment) {
	at := s.from
	first, _ := slices.BinarySearchFunc(taken, s.from, func(t segment, from int64) int {
		return int(min(max(t.to-from, -1), 1))
	})
	for _, t := range taken[first:] {
		if t.from >= s.to {
			break
		}
		if t.from > at {
			free = append(free, segment{at, t.from, s.op})
		}
		at = max(at, t.to)
	}
	if at < s.to {
		free = append(free, segment{at, s.to, s.op})
	}
	return free
}

// with adds a run to runs that are in order, and joins it with those it touches.
func with(taken []segment, s segment) []segment {
	cmp := func(t segment, at int64) int { return int(min(max(t.to-at, -1), 1)) }
	first, _ := slices.BinarySearchFunc(taken, s.from, cmp)
	last := first
	for last < len(taken) && taken[last].from <= s.to {
		s.from, s.to = min(s.from, taken[last].from), max(s.to, taken[last].to)
		last++
	}
	return slices.Replace(taken, first, last, s)
}

// endsOf gives, for each operation, how far the partition is complete once it and all before it are done; nil
// where operations do not go up without gaps.
func endsOf(part *payload.Partition, segments []segment) (list []int64) {
	at := int64(0)
	for i, s := range segments {
		if i >= len(part.Ops) || s.op != i || s.from != at {
			return nil
		}
		at = s.to
		list = append(list, at)
	}
	if len(list) != len(part.Ops) {
		return nil
	}
	return list
}

// serially writes a partition whose operations write some blocks twice, one after the other.
func serially(ctx context.Context, p *payload.Payload, part *payload.Partition, r io.ReaderAt, o Out,
	moved func(int64)) ([]byte, error) {
	if err := o.SetSize(int64(part.Size)); err != nil {
		return nil, err
	}
	for i := range part.Ops {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if err := p.Apply(r, part, &part.Ops[i], o); err != nil {
			return nil, err
		}
	}
	return Digest(ctx, p, part, r, moved)
}

// Digest is the SHA-256 of a partition as the payload's operations make it,
// and an error when an operation's data or the whole has another digest than
// the manifest says. Nothing is written.
func Digest(ctx context.Context, p *payload.Payload, part *payload.Partition, r io.ReaderAt,
	moved func(int64)) ([]byte, error) {
	segments, _ := segmentsOf(p, part)
	const often = 4 // an operation in so many pieces is extracted as often
	if len(segments) > often*(len(part.Ops)+1) {
		return nil, &ScatteredError{part.Name}
	}
	sum := sha256.New()
	h := &hashOut{h: sum}
	used := map[int]bool{}
	for _, s := range segments {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if err := h.Zero(h.at, s.from-h.at); err != nil {
			return nil, err
		}
		if err := p.Apply(r, part, &part.Ops[s.op], &window{h, s}); err != nil {
			return nil, err
		}
		if h.at != s.to {
			return nil, &ScatteredError{part.Name}
		}
		used[s.op] = true
		moved(h.at)
	}
	for i := range part.Ops { // the data of those that nothing is left of has a digest too
		if !used[i] {
			if err := p.Apply(r, part, &part.Ops[i], &window{h, segment{}}); err != nil {
				return nil, err
			}
		}
	}
	if err := h.Zero(h.at, int64(part.Size)-h.at); err != nil {
		return nil, err
	}
	digest := sum.Sum(nil)
	if len(part.Hash) > 0 && !bytes.Equal(digest, part.Hash) {
		return digest, &DigestError{Name: part.Name, Got: digest, Want: part.Hash}
	}
	return digest, nil
}

// ScatteredError says that a partition's operations write its blocks in an order in which its digest can't be
// made on the way. It is no fault of the payload's.
type ScatteredError struct{ Partition string }

// AboutNoDamage marks it as no fault of the payload's.
func (*ScatteredError) AboutNoDamage() {}

// Error names the partition.
func (e *ScatteredError) Error() string {
	return e.Partition + " is written in pieces that are too scattered to be checked without extracting it"
}

// window passes on what of an operation is in a segment.
type window struct {
	h *hashOut
	s segment
}

// WriteAt takes bytes at their place in the partition.
func (w *window) WriteAt(p []byte, off int64) (int, error) {
	from, to := max(off, w.s.from), min(off+int64(len(p)), w.s.to)
	if from < to {
		if _, err := w.h.WriteAt(p[from-off:to-off], from); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}

// Zero takes zeros.
func (w *window) Zero(off, n int64) error {
	from, to := max(off, w.s.from), min(off+n, w.s.to)
	if from >= to {
		return nil
	}
	return w.h.Zero(from, to-from)
}

// hashOut takes what is written in order and keeps only its digest.
type hashOut struct {
	h  io.Writer
	at int64
}

func (w *hashOut) WriteAt(p []byte, off int64) (int, error) {
	if off != w.at {
		return 0, fmt.Errorf("written out of order")
	}
	w.at += int64(len(p))
	return w.h.Write(p)
}

func (w *hashOut) Zero(off, n int64) error {
	for n > 0 {
		k, err := w.WriteAt(image.Zeros[:min(n, int64(len(image.Zeros)))], off)
		if err != nil {
			return err
		}
		off, n = off+int64(k), n-int64(k)
	}
	return nil
}
