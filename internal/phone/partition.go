package phone

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"jarlid/internal/core/card"
	"jarlid/internal/core/graft"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/super"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/core/place"
	"jarlid/internal/files"
	"jarlid/internal/link"
	"jarlid/internal/phone/wire"
)

// OpenPartition opens a partition for reading in the mode the phone is in: through
// a recovery's root shell, or what userspace fastboot gives out. Errors:
// ErrNoPartition; *LackError where this mode can't read it.
func (s *Session) OpenPartition(ctx context.Context, p card.Partition) (io.ReaderAt, int64, error) {
	if !s.Fetches() && !s.RootRecovery() {
		return nil, 0, s.Lacks("give out " + p.String() +
			"; a recovery with a root shell reads every partition")
	}
	if s.Fetches() {
		size, known := s.Card.Number(card.FactSize.Of(p))
		if !known {
			return nil, 0, fmt.Errorf("%s: %w", p, wire.ErrNoPartition)
		}
		return &fetched{ctx: ctx, s: s, name: p.String(), size: size}, size, nil
	}
	d, err := s.firstBlock(ctx, p, false, true)
	switch {
	case errors.Is(err, wire.ErrNoPartition):
		return s.openLogical(ctx, p)
	case err != nil:
		return nil, 0, err
	}
	return s.openDevice(ctx, d), d.Size, nil
}

// openLogical opens a logical partition that the recovery has not mapped, by what the
// metadata of super says. While an update waits to be merged that is not the whole truth,
// and the partition counts as one that can't be read.
func (s *Session) openLogical(ctx context.Context, p card.Partition) (io.ReaderAt, int64, error) {
	none := fmt.Errorf("%s: %w", p, wire.ErrNoPartition)
	dev, err := s.blockOf(ctx, card.At("super", ""), false)
	if errors.Is(err, wire.ErrNoPartition) {
		return nil, 0, none
	}
	if err != nil {
		return nil, 0, err
	}
	slot := 0
	if s.Card.Value(card.FactStarted) == "b" {
		slot = 1
	}
	d := s.openDevice(ctx, dev)
	m, err := super.Parse(d, dev.Size, slot)
	if err != nil {
		return nil, 0, err
	}
	part := m.Partition(p.String())
	if part == nil || part.Size() == 0 {
		return nil, 0, none
	}
	if s := s.Card.Value(card.FactSnapshot); s != "" && s != "none" {
		return nil, 0, &link.RefusedError{Command: "read " + p.String(),
			Message: "this recovery has not mapped it, and an update waits to be merged, so super alone " +
				"does not tell what is in it"}
	}
	r, err := m.Open(d, dev.Size, part)
	return r, part.Size(), err
}

// fetched reads a partition through userspace fastboot, a piece at a time.
type fetched struct {
	ctx  context.Context
	s    *Session
	name string
	size int64
}

// ReadAt reads from the partition.
func (f *fetched) ReadAt(p []byte, off int64) (int, error) {
	if off >= f.size {
		return 0, io.EOF
	}
	want := min(int64(len(p)), f.size-off)
	w := &sliceWriter{b: p[:0]}
	n, err := f.s.Fetch(f.ctx, f.name, off, want, f.size, w)
	if err == nil && int(n) < len(p) {
		err = io.EOF
	}
	return int(n), err
}

type sliceWriter struct{ b []byte }

func (w *sliceWriter) Write(p []byte) (int, error) {
	w.b = append(w.b, p...)
	return len(p), nil
}

// ReadVBMeta reads the vbmeta of a partition as it is there: its bytes without
// what follows, what they say, and its footer where it has one. One that holds
// nothing is ErrEmptySlot.
func (s *Session) ReadVBMeta(ctx context.Context, p card.Partition) ([]byte, *vbmeta.Image, *vbmeta.Footer,
	error) {
	r, size, err := s.OpenPartition(ctx, p)
	if err != nil {
		return nil, nil, nil, err
	}
	head := make([]byte, min(size, blockSize))
	if _, err := r.ReadAt(head, 0); err == nil && image.IsZero(head) {
		return nil, nil, nil, fmt.Errorf("%s: %w", p, files.ErrEmptySlot)
	}
	return vbmeta.Bytes(r, size)
}

// Partitions opens the partitions of a slot by their names without its suffix; one
// that is on no slot is opened as it is. Without a slot's name on a phone with slots, one that has a suffix
// is refused: which of the two is meant is unknown, and it is not missing.
func (s *Session) Partitions(ctx context.Context, slot string) vbmeta.Source {
	return func(name string) (io.ReaderAt, int64, error) {
		r, size, err := s.OpenPartition(ctx, card.At(name, slot))
		if errors.Is(err, wire.ErrNoPartition) && slot != "" {
			return s.OpenPartition(ctx, card.At(name, ""))
		}
		if errors.Is(err, wire.ErrNoPartition) && place.There(s.Card, name) {
			return nil, 0, &link.RefusedError{Command: "read " + name,
				Message: "the phone does not report which slot it booted, so which " + name +
					" it uses is unknown"}
		}
		return r, size, err
	}
}

// readVBMeta reads what the vbmeta images of a slot enforce, in a recovery with a root
// shell. What can't be read there stays as it is known.
func (s *Session) readVBMeta(ctx context.Context, slot string) error {
	if !s.RootRecovery() {
		return nil
	}
	open := s.Partitions(ctx, slot)
	for _, name := range []string{"vbmeta", "vbmeta_system", "vbmeta_vendor"} {
		r, size, err := open(name)
		var lost *link.LostError
		switch {
		case errors.As(err, &lost):
			return err
		case err != nil:
			continue // there is none, or it is not given out
		}
		m, _, err := vbmeta.Open(r, size)
		if err != nil {
			if errors.As(err, &lost) {
				return err
			}
			continue
		}
		place.LearnVBMeta(m, card.At(name, slot), s.learn)
	}
	return nil
}

// readTrees reads which hash trees the slot that runs has enforced.
func (s *Session) readTrees(ctx context.Context) error {
	if !s.RootRecovery() {
		return nil
	}
	enforced, off, missing, err := vbmeta.Trees(s.Partitions(ctx, s.Card.Value(card.FactStarted)), "vbmeta")
	none := errors.Is(err, wire.ErrNoPartition) // no verified boot of this kind
	if !none && (err != nil || len(missing) > 0 && !off) {
		return nil // it can't be told
	}
	state := func(name string) string {
		switch {
		case off:
			return "off"
		case slices.Contains(enforced, name):
			return "enforced"
		}
		return "none"
	}
	for _, name := range place.Shelvable {
		s.learn(card.FactTree.Of(card.At(name, s.Card.Value(card.FactStarted))), state(name))
	}
	return nil
}

// FetchWhole reads a partition through userspace fastboot, in the pieces it
// gives out.
func (s *Session) FetchWhole(ctx context.Context, p card.Partition, size int64, w io.Writer,
	moved func(int64)) error {
	piece, known := s.Card.Number(card.FactFetch)
	if !known || piece <= 0 {
		piece = size
	}
	w = &telling{w: w, moved: moved}
	for off := int64(0); off < size; {
		n, err := s.Fetch(ctx, p.String(), off, min(piece, size-off), size, w)
		if err != nil {
			return err
		}
		off += n
	}
	return nil
}

// telling tells how many bytes went through it.
type telling struct {
	w     io.Writer
	n     int64
	moved func(int64)
}

func (t *telling) Write(p []byte) (int, error) {
	n, err := t.w.Write(p)
	t.n += int64(n)
	t.moved(t.n)
	return n, err
}

// limitedBuffer takes no more than an image may have.
type limitedBuffer struct{ b *bytes.Buffer }

func (l *limitedBuffer) Write(p []byte) (int, error) {
	if l.b.Len()+len(p) > graft.MaxImage {
		return 0, fmt.Errorf("it is larger than any boot partition")
	}
	return l.b.Write(p)
}

// ReadWhole sends what a partition holds to w, in the way this mode has; moved is told
// how many bytes there are. Errors: *LackError.
func (s *Session) ReadWhole(ctx context.Context, p card.Partition, w io.Writer, moved func(int64)) error {
	if s.Fetches() {
		size, _ := s.Card.Number(card.FactSize.Of(p))
		return s.FetchWhole(ctx, p, size, w, moved)
	}
	if !s.RootRecovery() {
		return s.Lacks("give out " + p.String() + "; a recovery with a root shell reads every partition")
	}
	dev, err := s.Block(ctx, p)
	if err != nil {
		return err
	}
	return s.readDevice(ctx, dev, w, moved)
}
