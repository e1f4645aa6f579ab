package act

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"

	"jarlid/internal/core/card"
	"jarlid/internal/core/graft"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/plan"
	"jarlid/internal/files"
	"jarlid/internal/host"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/say"
)

// writeImage sends an image and has the bootloader write it, or the recovery's shell.
func (j *Actor) writeImage(ctx context.Context, s *plan.Write) (Done, error) {
	src, err := j.Verifier.Source(s.File.Path, s.File.Size)
	if err != nil {
		return Done{}, err
	}
	defer src.Close()
	if s.Keep {
		if err := j.keepPrevious(ctx, s.Name()); err != nil {
			return Done{}, err
		}
	}
	hctx, cancel := context.WithCancel(ctx)
	defer cancel()
	sum := j.Sums.Digest(hctx, src)
	d := Done{Bytes: s.File.Size}
	m := say.NewMeter(j.Obs, say.Send, s.Name().String(), s.File.Size)
	if j.HasLoader() {
		d.Answers, err = j.Write(ctx, s.Name().String(), src, s.File.Size, m.Set)
	} else {
		err = j.WritePartition(ctx, s.Name(), src.Reader(), m.Set)
	}
	m.End()
	if err != nil {
		cancel()
		_, _ = sum() // it ends with the context
		return d, err
	}
	if d.SHA256, err = sum(); err != nil {
		return d, err
	}
	if err := src.Sent(d.SHA256); err != nil {
		return d, err
	}
	plan.Apply(s, j.Card)
	j.Card.Learn(card.FactDigest.Of(s.Name()), d.SHA256, card.Journal)
	return d, nil
}

// keepPrevious keeps what is on a partition beside the journal, where this mode gives it
// out and it is no larger than an image with a recovery.
func (j *Actor) keepPrevious(ctx context.Context, p card.Partition) error {
	size, known := j.Card.Number(card.FactSize.Of(p))
	if !j.RootRecovery() && !(j.Fetches() && known) || known && size > graft.MaxImage {
		return nil
	}
	path := journal.PreviousFile(j.Dir, p)
	err := j.SaveTo(ctx, p, path+".new")
	var refused *link.RefusedError
	if errors.As(err, &refused) {
		os.Remove(path + ".new")
		return nil // this one gives nothing out
	}
	if err != nil {
		return err
	}
	j.Out.Kept = append(j.Out.Kept, path)
	return host.Replace(path+".new", path)
}

// readBack compares a written partition with the file, where the phone gives it
// out: userspace fastboot does so for vendor_boot alone, as published.
func (j *Actor) readBack(ctx context.Context, s *plan.Write, _ Done) (string, error) {
	if s.File.Inside > 0 || !j.RootRecovery() && !(j.Fetches() && (s.Partition == "vendor_boot" ||
		j.Mode() == card.Loader) && j.Card.Get(card.FactSize.Of(s.Name())).Known()) {
		return journal.PhoneWord, nil
	}
	f, size, err := files.Open(s.File.Path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	cmp := &comparer{f: f, size: size}
	room, _ := j.Card.Number(card.FactSize.Of(s.Name()))
	m := say.NewMeter(j.Obs, say.Read, s.Name().String(), room)
	err = j.ReadWhole(ctx, s.Name(), cmp, m.Set)
	m.End()
	var refused *link.RefusedError
	switch {
	case errors.As(err, &refused):
		return journal.PhoneWord, nil // this one gives nothing out
	case err != nil:
		return "", err
	case cmp.differs || cmp.at < cmp.size:
		return "", &link.RefusedError{Command: s.Title(),
			Message: "it said yes, and what is read back is something else"}
	}
	return journal.ReadBack, nil
}

// comparer holds what is written to it against a file; what comes behind the
// file's end is what the partition held before.
type comparer struct {
	f        io.ReaderAt
	size, at int64
	differs  bool
}

// Write compares.
func (c *comparer) Write(p []byte) (int, error) {
	if want := min(int64(len(p)), c.size-c.at); want > 0 {
		b := make([]byte, want)
		if _, err := c.f.ReadAt(b, c.at); err != nil && !errors.Is(err, io.EOF) {
			return 0, err
		}
		c.differs = c.differs || !bytes.Equal(b, p[:want])
	}
	c.at += int64(len(p))
	return len(p), nil
}

// sendFile sends a file of the computer, shows how far it is under the given name,
// and gives the digest of what was sent.
func (j *Actor) sendFile(ctx context.Context, from *ident.File, to, label string) (sum string, err error) {
	src, err := j.Verifier.Source(from.Path, from.Size)
	if err != nil {
		return "", err
	}
	defer src.Close()
	hctx, cancel := context.WithCancel(ctx)
	defer cancel()
	made := j.Sums.Digest(hctx, src)
	m := say.NewMeter(j.Obs, say.Send, label, from.Size)
	err = j.Push(ctx, to, 0o100644, src.Info().ModTime(), src.Reader(), m.Set)
	m.End()
	if err == nil {
		sum, err = made()
	}
	if err == nil {
		err = src.Sent(sum)
	}
	return sum, err
}

// graft reads every slot's image, puts the recovery's ramdisk in, and hands back the steps
// that write them.
func (j *Actor) graft(ctx context.Context, s *plan.Graft) (Done, error) {
	d := Done{Confirm: journal.NotKnown, Looked: true}
	dir := filepath.Join(j.Dir, "made")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return d, err
	}
	contents := map[card.Partition]string{}
	for _, w := range s.Into {
		path := filepath.Join(dir, "read-"+w.Name().String()+".img")
		if err := j.SaveTo(ctx, w.Name(), path); err != nil {
			return d, err
		}
		contents[w.Name()] = path
	}
	made, err := files.GraftAll(j.Obs, s.Home, s.File.Path, s.Into, contents, dir, j.Card)
	if err != nil {
		return d, err
	}
	if len(made.Writes) == 0 {
		return d, files.NothingToGraft(s.Home, s.File.Path, j.Card)
	}
	d.Found = made.Found
	for _, w := range made.Writes {
		// The recovery that was started for it writes and reads back; what it has read is
		// what was there before.
		w.Shell, w.Keep = true, false
		path := journal.PreviousFile(j.Dir, w.Name())
		if err := host.Replace(contents[w.Name()], path); err != nil {
			return d, err
		}
		j.Out.Kept = append(j.Out.Kept, path)
		d.Further = append(d.Further, w)
	}
	return d, nil
}
