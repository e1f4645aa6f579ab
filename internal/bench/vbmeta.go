package bench

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/super"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/core/plan"
	"jarlid/internal/link"
)

// ErrNoPartition says that the phone has no such partition. It is an fs.ErrNotExist.
var ErrNoPartition = fmt.Errorf("the phone has no such partition: %w", fs.ErrNotExist)

// OpenPartition opens a partition for reading in the mode the phone is in: through
// a recovery's root shell, or what userspace fastboot gives out. Errors:
// ErrNoPartition; *UsageError where this mode can't read it.
func (j *Job) OpenPartition(ctx context.Context, name string) (io.ReaderAt, int64, error) {
	user := j.Link != nil && j.Link.Mode == card.Fastbootd
	if !user && !rootRecovery(j.Link, j.Card) {
		return nil, 0, &UsageError{Text: fmt.Sprintf("in this mode (%s) %s can't be read; a recovery with a root shell reads every partition", orMode(j.Card.Mode()), name)}
	}
	if user {
		size, known := j.Card.Number(card.FactSize + name)
		if !known {
			return nil, 0, fmt.Errorf("%s: %w", name, ErrNoPartition)
		}
		return &fetched{ctx: ctx, j: j, name: name, size: size}, size, nil
	}
	for _, logical := range []bool{false, true} {
		d, err := openDevice(ctx, j.Link, device(name, logical))
		if err == nil {
			return d, d.size, nil
		}
		if !errors.Is(err, ErrNoPartition) {
			return nil, 0, err
		}
	}
	return j.openLogical(ctx, name)
}

// openLogical opens a logical partition that the recovery has not mapped, by what the
// metadata of super says. While an update waits to be merged that is not the whole truth,
// and the partition counts as one that can't be read.
func (j *Job) openLogical(ctx context.Context, name string) (io.ReaderAt, int64, error) {
	none := fmt.Errorf("%s: %w", name, ErrNoPartition)
	d, err := openDevice(ctx, j.Link, device("super", false))
	if errors.Is(err, ErrNoPartition) {
		return nil, 0, none
	}
	if err != nil {
		return nil, 0, err
	}
	slot := 0
	if j.Card.Value(card.FactStarted) == "b" {
		slot = 1
	}
	m, err := super.Parse(d, d.size, slot)
	if err != nil {
		return nil, 0, err
	}
	p := m.Partition(name)
	if p == nil || p.Size() == 0 {
		return nil, 0, none
	}
	if s := j.Card.Value(card.FactSnapshot); s != "" && s != "none" {
		return nil, 0, &link.RefusedError{Command: "read " + name, Message: "this recovery has not mapped it, and an update waits to be merged, so super alone does not tell what is in it"}
	}
	r, err := m.Open(d, d.size, p)
	return r, p.Size(), err
}

func orMode(m card.Mode) string {
	if m == card.None {
		return "not known"
	}
	return string(m)
}

// fetched reads a partition through userspace fastboot, a piece at a time.
type fetched struct {
	ctx  context.Context
	j    *Job
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
	n, err := f.j.Link.FB.Fetch(f.ctx, f.name, off, want, f.size, w)
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

// ReadVBMeta reads the vbmeta of a partition as it lies there: its bytes without
// what follows, what they say, and its footer where it has one. One that holds
// nothing is ErrEmptySlot.
func (j *Job) ReadVBMeta(ctx context.Context, name string) ([]byte, *vbmeta.Image, *vbmeta.Footer, error) {
	r, size, err := j.OpenPartition(ctx, name)
	if err != nil {
		return nil, nil, nil, err
	}
	head := make([]byte, min(size, blockSize))
	if _, err := r.ReadAt(head, 0); err == nil && image.IsZero(head) {
		return nil, nil, nil, fmt.Errorf("%s: %w", name, ErrEmptySlot)
	}
	return vbmeta.Bytes(r, size)
}

// Partitions opens the partitions of a slot by their names without its suffix; one
// that is on no slot is opened as it is.
func (j *Job) Partitions(ctx context.Context, slot string) vbmeta.Source {
	return func(name string) (io.ReaderAt, int64, error) {
		r, size, err := j.OpenPartition(ctx, plan.Suffixed(name, slot))
		if errors.Is(err, ErrNoPartition) && slot != "" {
			return j.OpenPartition(ctx, name)
		}
		return r, size, err
	}
}
