package task

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"jarlid/internal/core/backup"
	"jarlid/internal/core/card"
	"jarlid/internal/core/local"
	"jarlid/internal/core/spell"
	"jarlid/internal/engine"
	"jarlid/internal/files"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
	"jarlid/internal/phone"
	"jarlid/internal/say"
)

// takePartition reads one partition into a file of the folder.
func (k *taking) takePartition(ctx context.Context, name string) (backup.Item, error) {
	item := backup.Item{Name: name, File: name + ".img"}
	p := card.Part(name)
	f, err := k.out.Create()
	if err != nil {
		return item, err
	}
	defer f.Drop()
	h := files.Hashed{Out: files.NewOut(f.File), Sum: sha256.New()}
	size, _ := k.Card.Number(card.FactSize.Of(p))
	m := say.NewMeter(k.Obs, say.Read, name, size)
	err = k.ReadWhole(ctx, p, h, m.Set)
	m.End()
	if err == nil && size > 0 && h.Written() != size {
		err = fmt.Errorf("the phone gave %d bytes of %s, which has %d", h.Written(), name, size)
	}
	if err == nil {
		err = h.Finish()
	}
	if err != nil {
		return item, err
	}
	item.Bytes, item.SHA256 = h.Written(), hex.EncodeToString(h.Sum.Sum(nil))
	if k.HasShell() { // what was read is what is there
		there, err := k.DigestOf(ctx, p)
		if err != nil {
			return item, err
		}
		if there != "" && there != item.SHA256 {
			return item, fmt.Errorf("%s: the phone's own digest %s is not that of what arrived", name, there)
		}
	}
	return item, f.Keep(item.File)
}

// storage is the shared storage that is read, file by file.
type storage struct {
	*taking
	sync  *adb.Sync
	at    string                 // where it is on the phone
	known map[string]backup.File // by the path on the phone: what an earlier try has kept
	seen  map[string]bool        // of known, those that were met again
	names *local.Names
	item  backup.Item
	batch []*entry
	bytes int64 // of the batch
}

// entry is one file of the storage.
type entry struct {
	rel  string
	st   adb.FileStat
	file backup.File
	kept bool // it was taken in an earlier try
}

const (
	// batchFiles and batchBytes are how much is read before the phone is asked for digests of it.
	batchFiles = 24
	batchBytes = 256 << 20
	// maxDepth bounds how deep folders of the storage are followed.
	maxDepth = 64
)

// takeStorage reads the shared storage. A file counts as kept where its size is the listed one and, where the
// phone has a tool for it, its digest is the phone's own, now; one that can't be kept is named, and the rest
// goes on.
func (k *taking) takeStorage(ctx context.Context, old *backup.Item) (backup.Item, error) {
	s := &storage{taking: k, item: backup.Item{Name: backup.Storage, File: backup.Storage},
		known: map[string]backup.File{}, seen: map[string]bool{}, names: &local.Names{}}
	at, err := k.Mount(ctx, phone.AreaStorage)
	if err != nil {
		return s.item, err
	}
	s.at = at
	if s.sync, err = k.Sync(ctx); err != nil {
		return s.item, err
	}
	defer func() { s.sync.Close() }()
	if old != nil {
		for _, f := range old.Files {
			s.known[f.Path] = f
			s.names.Taken(f.At()) // what is there keeps its place
		}
	}
	err = s.walk(ctx, "", 0)
	if err == nil {
		err = s.settle(ctx)
	}
	if err == nil && len(s.item.Files)+len(s.item.Skipped) == 0 {
		k.Obs.Say(say.Warn, "no file is in the shared storage: %s was read, and it is on a mounted "+
			"file system", at)
	}
	if err != nil { // what was read so far is known when it resumes, and compared then
		for _, e := range s.batch {
			s.done(e, false)
		}
		for _, f := range s.known {
			if !s.seen[f.Path] {
				s.item.Files, s.item.Bytes = append(s.item.Files, f), s.item.Bytes+f.Bytes
			}
		}
	}
	sum := sha256.New()
	for _, f := range s.item.Files {
		fmt.Fprintf(sum, "%s  %s\n", f.SHA256, f.Path)
	}
	s.item.SHA256 = hex.EncodeToString(sum.Sum(nil))
	return s.item, err
}

// skip names a file or folder that is not in the backup.
func (s *storage) skip(rel, why string) {
	s.Obs.Say(say.Warn, "%q is not in the backup: %s", rel, why)
	s.item.Skipped = append(s.item.Skipped, rel)
}

// ofFile reports whether an error is about one file alone: the phone refuses it, or this computer can't hold
// it under its name.
func ofFile(err error) bool {
	var refused *link.RefusedError
	return errors.As(err, &refused) || files.AboutName(err)
}

// walk takes every file below a folder of the storage.
func (s *storage) walk(ctx context.Context, rel string, depth int) error {
	list, err := s.sync.List(ctx, path.Join(s.at, rel))
	if err != nil && ofFile(err) && rel != "" {
		return s.orSkip(ctx, rel, err)
	}
	if err != nil {
		return err
	}
	slices.SortStableFunc(list, func(a, b adb.FileStat) int { return strings.Compare(a.Name, b.Name) })
	for i, st := range list {
		name := path.Join(rel, st.Name)
		switch {
		case !backup.Keepable(name) || strings.Contains(st.Name, "/"):
			s.skip(name, "no computer takes such a name")
			continue
		case depth > maxDepth:
			s.skip(name, fmt.Sprintf("it is more than %d folders deep", maxDepth))
			continue
		case i > 0 && list[i-1].Name == st.Name:
			s.skip(name, "the phone lists it twice")
			continue
		}
		select {
		case <-s.Stop:
			return engine.ErrStopped
		default:
		}
		switch st.Mode & 0o170000 {
		case 0o040000:
			err = s.walk(ctx, name, depth+1)
		case 0o100000:
			err = s.take(ctx, name, st)
		case 0o120000:
			s.skip(name, "it is a symbolic link")
			continue
		default:
			s.skip(name, "it is neither a file nor a folder")
			continue
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// take reads one file, unless an earlier try has kept one of that size and time; whether that is what the
// phone holds is settled with the batch.
func (s *storage) take(ctx context.Context, rel string, st adb.FileStat) error {
	e := &entry{rel: rel, st: st}
	if f, ok := s.known[rel]; ok {
		e.file, s.seen[rel] = f, true
		sum, n, err := s.out.Digest(ctx, path.Join(backup.Storage, f.At()))
		e.kept = err == nil && n == st.Size && f.Bytes == n && sum == f.SHA256 && f.Time.Equal(st.MTime.UTC())
		if ctx.Err() != nil {
			return ctx.Err()
		}
	} else if local := s.names.For(rel); local != rel {
		e.file.Local = local
		s.Obs.Say(say.Note, "%q is kept as %s", rel, local)
	}
	if !e.kept {
		if err := s.read(ctx, e); err != nil {
			return s.orSkip(ctx, rel, err)
		}
	}
	s.batch, s.bytes = append(s.batch, e), s.bytes+st.Size
	if len(s.batch) >= batchFiles || s.bytes >= batchBytes {
		return s.settle(ctx)
	}
	return nil
}

// orSkip leaves a file out where the error is about it alone. Some phones end the session with their no, so
// that another one is opened.
func (s *storage) orSkip(ctx context.Context, rel string, err error) error {
	if !ofFile(err) {
		return err
	}
	why := spell.Error(err)
	var refused *link.RefusedError
	if errors.As(err, &refused) {
		why = "the phone does not give it out (" + refused.Message + ")"
	}
	s.skip(rel, why)
	s.sync.Close()
	s.sync, err = s.Sync(ctx)
	return err
}

// read reads one file into the folder.
func (s *storage) read(ctx context.Context, e *entry) error {
	w, err := s.out.Create()
	if err != nil {
		return err
	}
	defer w.Drop()
	h := sha256.New()
	m := say.NewMeter(s.Obs, say.Read, e.rel, e.st.Size)
	n, err := s.sync.Receive(ctx, path.Join(s.at, e.rel), io.MultiWriter(w.File, h), m.Set)
	m.End()
	if err != nil {
		return err
	}
	if !arrived(n, e.st.Size) {
		return &link.RefusedError{Command: "read " + e.rel,
			Message: fmt.Sprintf("only %d of its %d bytes arrived", n, e.st.Size)}
	}
	e.file.Path, e.file.Bytes, e.file.Time, e.file.SHA256 = e.rel, n, e.st.MTime.UTC(),
		hex.EncodeToString(h.Sum(nil))
	if err := w.Times(e.st.MTime); err != nil {
		return err
	}
	return w.Keep(filepath.FromSlash(path.Join(backup.Storage, e.file.At())))
}

// arrived reports whether as many bytes came as were listed. The older form of a list counts to 4 GiB and
// begins again (file_sync_protocol.h, sync_stat_v1).
func arrived(n, listed int64) bool { return n == listed || n > 1<<32-1 && n%(1<<32) == listed }

// settle compares the files of a batch with the phone's own digests of them. One that differs is read once
// more: somebody may have written it meanwhile.
func (s *storage) settle(ctx context.Context) error {
	batch := s.batch
	s.batch, s.bytes = nil, 0
	if len(batch) == 0 {
		return nil
	}
	sums, err := s.digests(ctx, batch)
	if err != nil {
		return err
	}
	var again []*entry
	for i, e := range batch {
		if sums[i] == e.file.SHA256 || sums[i] == "" && !e.kept {
			s.done(e, sums[i] != "")
			continue
		}
		e.kept = false
		if err := s.read(ctx, e); err != nil {
			if err := s.orSkip(ctx, e.rel, err); err != nil {
				return err
			}
			continue
		}
		again = append(again, e)
	}
	if sums, err = s.digests(ctx, again); err != nil {
		return err
	}
	for i, e := range again {
		if sums[i] != "" && sums[i] != e.file.SHA256 {
			s.skip(e.rel, "it is written while it is read: the phone's own digest is another one")
			continue
		}
		s.done(e, sums[i] != "")
	}
	return nil
}

// done takes a file up into the manifest.
func (s *storage) done(e *entry, compared bool) {
	e.file.NotCompared = !compared
	s.item.Files, s.item.Bytes = append(s.item.Files, e.file), s.item.Bytes+e.file.Bytes
}

// digests are the phone's own of the files of a batch; "" for each where it has no tool for them.
func (s *storage) digests(ctx context.Context, list []*entry) ([]string, error) {
	if len(list) == 0 || !s.HasShell() {
		return make([]string, len(list)), nil
	}
	var names []string
	for _, e := range list {
		names = append(names, path.Join(s.at, e.rel))
	}
	return s.Shell().Digests(ctx, names)
}
