package bench

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image/sparse"
	"jarlid/internal/core/plan"
)

// source is a file that is being sent, with its digest made on the way.
type source struct {
	f    *os.File
	st   os.FileInfo
	path string
}

func openSource(path string, size int64) (*source, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	st, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, err
	}
	if st.Size() != size {
		f.Close()
		return nil, fmt.Errorf("%s changed since it was checked: it has %d bytes now, not %d", path, st.Size(), size)
	}
	return &source{f: f, st: st, path: path}, nil
}

// reader reads the file from its start.
func (s *source) reader() io.Reader { return io.NewSectionReader(s.f, 0, s.st.Size()) }

// unchanged tells whether the file is still the one that was opened.
func (s *source) unchanged() error {
	st, err := os.Stat(s.path)
	if err != nil {
		return err
	}
	if st.Size() != s.st.Size() || !st.ModTime().Equal(s.st.ModTime()) {
		return fmt.Errorf("%s changed while it was sent", s.path)
	}
	return nil
}

// digest hashes a whole file on a goroutine of its own, beside the sending;
// the file is in the system's cache for one of the two.
func digest(ctx context.Context, f io.ReaderAt, size int64) func() (string, error) {
	type result struct {
		sum string
		err error
	}
	ch := make(chan result, 1)
	go func() {
		h := sha256.New()
		err := copyUntil(ctx, h, io.NewSectionReader(f, 0, size))
		ch <- result{hex.EncodeToString(h.Sum(nil)), err}
	}()
	return func() (string, error) {
		r := <-ch
		return r.sum, r.err
	}
}

func copyUntil(ctx context.Context, h hash.Hash, r io.Reader) error {
	buf := make([]byte, 1<<20)
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		n, err := r.Read(buf)
		h.Write(buf[:n])
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// writeImage sends an image and has the bootloader write it, or the recovery's shell.
func (j *Job) writeImage(ctx context.Context, s *plan.Write) (Record, error) {
	src, err := openSource(s.File.Path, s.File.Size)
	if err != nil {
		return Record{}, err
	}
	defer src.f.Close()
	if s.Previous != nil {
		if err := writeWhole(filepath.Join(j.Dir, "previous-"+s.Name()+".img"), s.Previous); err != nil {
			return Record{}, err
		}
	}
	hctx, cancel := context.WithCancel(ctx)
	defer cancel()
	sum := digest(hctx, src.f, s.File.Size)
	rec := Record{Bytes: s.File.Size}
	m := newMeter(j.Obs, Send, s.Name(), s.File.Size)
	if j.Link.Mode == card.Recovery {
		err = j.writeDevice(ctx, device(s.Name(), false), 0, src.reader(), m.set)
	} else {
		rec.Answers, err = j.send(ctx, s.Name(), src.f, s.File.Size, m)
	}
	m.end()
	if err != nil {
		cancel()
		sum()
		return rec, err
	}
	if rec.SHA256, err = sum(); err != nil {
		return rec, err
	}
	if err := src.unchanged(); err != nil {
		return rec, err
	}
	s.Effects(j.Card)
	j.Card.Learn(card.FactDigest+s.Name(), rec.SHA256, card.Journal)
	if rec.Confirm, err = j.readBack(ctx, s, src.f); err != nil {
		return rec, err
	}
	j.Writes = append(j.Writes, WriteResult{Partition: s.Partition, Slot: s.Slot, Bytes: s.File.Size, SHA256: rec.SHA256, Confirmed: rec.Confirm})
	return rec, nil
}

// send sends size bytes of r, in sparse parts when they are more than the
// phone takes at once.
func (j *Job) send(ctx context.Context, partition string, r io.ReaderAt, size int64, m *meter) (answers []string, err error) {
	write := func() error {
		a, err := j.Link.FB.Flash(ctx, partition)
		answers = append(answers, append(a.Lines, a.Text)...)
		return err
	}
	limit, known := j.Card.Number(card.FactDownload)
	if !known || limit <= 0 || size <= limit {
		if err := j.Link.FB.Download(ctx, size, io.NewSectionReader(r, 0, size), m.set); err != nil {
			return answers, err
		}
		return answers, write()
	}
	cut, err := sparse.Cut(r, size, limit)
	if err != nil {
		return answers, err
	}
	for {
		part, err := cut.Next()
		if errors.Is(err, io.EOF) {
			return answers, nil
		}
		if err != nil {
			return answers, err
		}
		if err := j.sendPart(ctx, part, r, m, cut); err != nil {
			return answers, err
		}
		if err := write(); err != nil {
			return answers, err
		}
	}
}

func (j *Job) sendPart(ctx context.Context, part *sparse.Part, r io.ReaderAt, m *meter, cut *sparse.Cutter) error {
	pr, pw := io.Pipe()
	go func() { pw.CloseWithError(part.WriteTo(pw, r)) }()
	defer pr.Close()
	from := m.p.Done
	to := min(cut.Placed(), m.p.Total)
	return j.Link.FB.Download(ctx, part.Size(), pr, func(n int64) {
		m.set(from + int64(float64(to-from)*float64(n)/float64(part.Size())))
	})
}
