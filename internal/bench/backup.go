package bench

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/backup"
	"jarlid/internal/core/card"
	"jarlid/internal/core/image"
	"jarlid/internal/core/plan"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
)

// devices lists the phone's partitions in its recovery with their sizes: the
// names below /dev/block/by-name and the logical ones.
func (j *Job) devices(ctx context.Context) (map[string]int64, error) {
	sizes := map[string]int64{}
	for _, dir := range []string{devicePath, "/dev/block/mapper/"} {
		text, err := shell(ctx, j.Link, "for f in $(ls "+dir+" 2>/dev/null); do echo $f $(blockdev --getsize64 "+dir+"$f 2>/dev/null); done")
		if err != nil {
			return nil, err
		}
		for line := range strings.SplitSeq(text, "\n") {
			var name string
			var n int64
			if _, err := fmt.Sscanf(line, "%s %d", &name, &n); err == nil && n > 0 && !strings.ContainsAny(name, "/'\"$`;&|") {
				sizes[name] = n
				learn(j.Card, card.FactSize+name, fmt.Sprint(n))
				if dir != devicePath {
					learn(j.Card, card.FactLogical+name, "yes")
				}
			}
		}
	}
	return sizes, nil
}

// LearnDevices reads which partitions there are and how large, in a recovery with
// a root shell, and that those asked for are not there when they are not among them;
// elsewhere it does nothing.
func (j *Job) LearnDevices(ctx context.Context, names ...string) error {
	if !rootRecovery(j.Link, j.Card) {
		return nil
	}
	sizes, err := j.devices(ctx)
	for _, n := range names {
		if _, ok := sizes[n]; !ok && err == nil && len(sizes) > 0 {
			learn(j.Card, card.FactSize+n, plan.Nothing)
		}
	}
	return err
}

// BackupWish says what a backup takes.
type BackupWish struct {
	Dir   string
	Words []string // partitions, with or without a slot, and "storage"; none: the usual ones
}

// TakeBackup reads partitions and the shared storage into a folder. What the
// folder's manifest says is there already, and is, is not taken again. It gives the manifest
// as it stands at the end, also with an error.
func (j *Job) TakeBackup(ctx context.Context, wish BackupWish) (*backup.Manifest, error) {
	m, err := j.openBackup(wish.Dir)
	if err != nil {
		return nil, err
	}
	names, all, err := j.backupItems(ctx, wish.Words)
	if err != nil {
		return m, err
	}
	keep := func() error {
		m.Without = slices.DeleteFunc(slices.Clone(all), func(n string) bool { return m.Item(n) != nil })
		b, err := m.Encode()
		if err != nil {
			return err
		}
		return writeWhole(filepath.Join(wish.Dir, backup.Name), b)
	}
	if err := keep(); err != nil {
		return m, err
	}
	for _, name := range names {
		select {
		case <-j.Soft:
			return m, ErrStopped
		default:
		}
		if old := m.Item(name); old != nil && name != backup.Storage && sameFile(ctx, wish.Dir, old) {
			j.Obs.Say(Good, "%s is there already, its digest matches", name)
			continue
		}
		var item backup.Item
		if name == backup.Storage {
			item, err = j.takeStorage(ctx, wish.Dir, m.Item(name))
		} else {
			item, err = j.takePartition(ctx, wish.Dir, name)
		}
		var refused *link.RefusedError
		if errors.As(err, &refused) {
			j.Obs.Say("care", "%s is not in it: %s", name, refused.Message)
			err = keep()
		} else if err == nil || len(item.Files) > 0 {
			m.Put(item)
			if kerr := keep(); err == nil {
				err = kerr
			}
		}
		if err != nil {
			return m, err
		}
	}
	return m, nil
}

// openBackup reads the manifest that is in the folder, or begins a new one.
func (j *Job) openBackup(dir string) (*backup.Manifest, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	b, err := os.ReadFile(filepath.Join(dir, backup.Name))
	if errors.Is(err, fs.ErrNotExist) {
		return &backup.Manifest{Taken: now(), Phone: j.Phone.Name, Model: j.Card.Value(card.FactModel), Serial: j.Card.Value(card.FactSerial),
			Started: j.Card.Value(card.FactStarted), Next: j.Card.Value(card.FactNext), System: j.Card.Value(card.FactVersion), Recovery: j.Card.Value(card.FactRecovery)}, nil
	}
	if err != nil {
		return nil, err
	}
	m, err := backup.Parse(b)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", filepath.Join(dir, backup.Name), err)
	}
	if s := j.Card.Value(card.FactSerial); m.Serial != "" && s != "" && s != m.Serial && j.Card.Value(card.FactOtherSerial) != m.Serial {
		return nil, &UsageError{Text: fmt.Sprintf("%s holds the backup of another phone, %s; this one is %s: take another folder", dir, m.Serial, s)}
	}
	return m, nil
}

// backupItems works out what to take, and everything there is to take.
func (j *Job) backupItems(ctx context.Context, words []string) (names, all []string, err error) {
	sizes := map[string]int64{}
	switch {
	case j.Link.FB != nil:
		for fact := range j.Card.Facts() {
			if name, ok := strings.CutPrefix(fact, card.FactSize); ok {
				if n, known := j.Card.Number(fact); known {
					sizes[name] = n
				}
			}
		}
	case rootRecovery(j.Link, j.Card):
		sizes, err = j.devices(ctx)
	}
	if err != nil {
		return nil, nil, err
	}
	for name := range sizes {
		all = append(all, name)
	}
	slices.Sort(all)
	all = append(all, backup.Storage)
	if len(words) == 0 {
		for _, name := range all[:len(all)-1] {
			// Userspace fastboot gives out vendor_boot and nothing else (the platform's
			// fastboot/device/commands.cpp); what is named is asked for all the same.
			if backup.Usual(name, sizes[name]) && (j.Link.FB == nil || strings.HasPrefix(name, "vendor_boot")) {
				names = append(names, name)
			}
		}
		at := ""
		if j.Link.ADB != nil {
			if at, err = storagePath(ctx, j.Link, "storage"); err != nil {
				return nil, nil, err
			}
		}
		if at != "" {
			names = append(names, backup.Storage)
		} else {
			j.Obs.Say("note", "the shared storage can't be reached in this mode, so it is left out")
		}
		return names, all, nil
	}
	for _, w := range words {
		if w == backup.Storage {
			names = append(names, w)
			continue
		}
		t, err := plan.ParseTarget(w)
		if err != nil {
			return nil, nil, &UsageError{Text: err.Error()}
		}
		var hit []string
		if slots, err := t.SlotsOf(j.Card); err == nil && t.Slot != "" {
			for _, s := range slots {
				hit = append(hit, plan.Suffixed(t.Partition, s))
			}
		} else {
			hit = []string{t.Partition, t.Partition + "_a", t.Partition + "_b"}
		}
		hit = slices.DeleteFunc(hit, func(n string) bool { _, ok := sizes[n]; return !ok })
		if len(hit) == 0 {
			return nil, nil, &UsageError{Text: fmt.Sprintf("in this mode no partition %s of this phone can be read; there is: %s", w, readable(all))}
		}
		names = append(names, hit...)
	}
	return names, all, nil
}

func readable(list []string) string {
	if len(list) == 0 {
		return "none (a recovery with a root shell reads them all)"
	}
	return strings.Join(list, ", ")
}

// writeWhole writes a file so that it is there whole or not at all.
func writeWhole(name string, b []byte) error {
	tmp := name + ".new"
	if err := os.WriteFile(tmp, b, 0o644); err != nil {
		return err
	}
	return os.Rename(tmp, name)
}

// sameFile tells whether an item's file is there as the manifest says.
func sameFile(ctx context.Context, dir string, i *backup.Item) bool {
	sum, n, err := FileDigest(ctx, filepath.Join(dir, filepath.FromSlash(i.File)))
	return err == nil && n == i.Bytes && sum == i.SHA256
}

// FileDigest gives the SHA-256 of a file, and how many bytes it has.
func FileDigest(ctx context.Context, name string) (sum string, n int64, err error) {
	f, err := os.Open(name)
	if err != nil {
		return "", 0, err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return "", 0, err
	}
	sum, err = digest(ctx, f, st.Size())()
	return sum, st.Size(), err
}

// holes writes to a new file and leaves runs of zeros out of it.
type holes struct {
	f   *os.File
	sum hash.Hash
	at  int64
}

// Write writes the next bytes.
func (h *holes) Write(p []byte) (int, error) {
	h.sum.Write(p)
	for done := 0; done < len(p); {
		n := min(len(p)-done, blockSize)
		if part := p[done : done+n]; !image.IsZero(part) {
			if _, err := h.f.WriteAt(part, h.at); err != nil {
				return done, err
			}
		}
		h.at += int64(n)
		done += n
	}
	return len(p), nil
}

// takePartition reads one partition into a file of the folder.
func (j *Job) takePartition(ctx context.Context, dir, name string) (backup.Item, error) {
	item := backup.Item{Name: name, File: name + ".img"}
	local := filepath.Join(dir, item.File)
	f, err := os.Create(local + ".part")
	if err != nil {
		return item, err
	}
	h := &holes{f: f, sum: sha256.New()}
	size, _ := j.Card.Number(card.FactSize + name)
	m := newMeter(j.Obs, Recv, name, size)
	if j.Link.FB != nil {
		err = j.fetchWhole(ctx, name, size, h, m)
	} else {
		logical, _ := j.Card.Yes(card.FactLogical + name)
		_, err = j.readDevice(ctx, device(name, logical), h, m.set)
	}
	m.end()
	if err == nil && size > 0 && h.at != size {
		err = fmt.Errorf("the phone gave %d bytes of %s, which has %d", h.at, name, size)
	}
	if err == nil {
		err = f.Truncate(h.at)
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		os.Remove(local + ".part")
		return item, err
	}
	item.Bytes, item.SHA256 = h.at, hex.EncodeToString(h.sum.Sum(nil))
	if j.Link.ADB != nil { // what was read is what is there
		logical, _ := j.Card.Yes(card.FactLogical + name)
		there, err := j.phoneDigest(ctx, device(name, logical))
		if err != nil {
			return item, err
		}
		if there != "" && there != item.SHA256 {
			os.Remove(local + ".part")
			return item, fmt.Errorf("%s: the phone's own digest %s is not that of what arrived", name, there)
		}
	}
	return item, os.Rename(local+".part", local)
}

// fetchWhole reads a partition through userspace fastboot, in the pieces it
// gives out.
func (j *Job) fetchWhole(ctx context.Context, name string, size int64, w io.Writer, m *meter) error {
	piece, known := j.Card.Number(card.FactFetch)
	if !known || piece <= 0 {
		piece = size
	}
	w = &telling{w: w, moved: m.set}
	for off := int64(0); off < size; {
		n, err := j.Link.FB.Fetch(ctx, name, off, min(piece, size-off), size, w)
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

// takeStorage reads the shared storage, file by file. Files the manifest has and
// that did not change are not read again.
func (j *Job) takeStorage(ctx context.Context, dir string, old *backup.Item) (backup.Item, error) {
	item := backup.Item{Name: backup.Storage, File: backup.Storage}
	at, err := storagePath(ctx, j.Link, "storage")
	if err != nil {
		return item, err
	}
	if at == "" {
		return item, &link.RefusedError{Command: "read the storage", Message: "it can't be reached in this mode: it lies in the data, which is encrypted"}
	}
	y, err := j.Link.ADB.Sync(ctx)
	if err != nil {
		return item, err
	}
	defer y.Close()
	known := map[string]backup.File{}
	if old != nil {
		for _, f := range old.Files {
			known[f.Path] = f
		}
	}
	sum := sha256.New()
	err = j.walkStorage(ctx, y, at, "", 0, func(rel string, st adb.FileStat) error {
		local := filepath.Join(dir, backup.Storage, filepath.FromSlash(rel))
		f, ok := known[rel]
		if have, err := os.Stat(local); !ok || err != nil || have.Size() != st.Size || f.Bytes != st.Size || !f.Time.Equal(st.MTime.UTC()) {
			var err error
			if f, err = j.takeFile(ctx, y, path.Join(at, rel), local, rel, st); err != nil {
				return err
			}
		}
		fmt.Fprintf(sum, "%s  %s\n", f.SHA256, f.Path)
		item.Files, item.Bytes = append(item.Files, f), item.Bytes+f.Bytes
		return nil
	})
	item.SHA256 = hex.EncodeToString(sum.Sum(nil))
	return item, err
}

func (j *Job) takeFile(ctx context.Context, y *adb.Sync, from, local, rel string, st adb.FileStat) (backup.File, error) {
	f := backup.File{Path: rel, Time: st.MTime.UTC()}
	if err := os.MkdirAll(filepath.Dir(local), 0o755); err != nil {
		return f, err
	}
	w, err := os.Create(local + ".part")
	if err != nil {
		return f, err
	}
	h := sha256.New()
	m := newMeter(j.Obs, Recv, rel, st.Size)
	f.Bytes, err = y.Receive(ctx, from, io.MultiWriter(w, h), m.set)
	m.end()
	if cerr := w.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		os.Remove(local + ".part")
		return f, err
	}
	f.SHA256 = hex.EncodeToString(h.Sum(nil))
	if err := os.Chtimes(local+".part", st.MTime, st.MTime); err != nil {
		return f, err
	}
	return f, os.Rename(local+".part", local)
}

// maxDepth bounds how deep folders of the storage are followed.
const maxDepth = 64

// walkStorage calls each for every file below a folder of the phone.
func (j *Job) walkStorage(ctx context.Context, y *adb.Sync, root, rel string, depth int, each func(rel string, st adb.FileStat) error) error {
	list, err := y.List(ctx, path.Join(root, rel))
	if err != nil {
		return err
	}
	slices.SortFunc(list, func(a, b adb.FileStat) int { return strings.Compare(a.Name, b.Name) })
	for _, st := range list {
		name := path.Join(rel, st.Name)
		if !backup.Keepable(name) || strings.Contains(st.Name, "/") || depth > maxDepth {
			j.Obs.Say("care", "%q is not in it: no computer takes such a name", st.Name)
			continue
		}
		select {
		case <-j.Soft:
			return ErrStopped
		default:
		}
		switch st.Mode & 0o170000 {
		case 0o040000:
			err = j.walkStorage(ctx, y, root, name, depth+1, each)
		case 0o100000:
			err = each(name, st)
		default:
			continue
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// ReadBackup reads the manifest of a folder.
func ReadBackup(dir string) (*backup.Manifest, error) {
	b, err := os.ReadFile(filepath.Join(dir, backup.Name))
	if err != nil {
		return nil, err
	}
	m, err := backup.Parse(b)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", filepath.Join(dir, backup.Name), err)
	}
	return m, nil
}

// ProveBackup gives the first of an item's files that is not as the manifest says.
func ProveBackup(ctx context.Context, dir string, i *backup.Item) error {
	check := func(name, sum string, bytes int64) error {
		have, n, err := FileDigest(ctx, filepath.Join(dir, filepath.FromSlash(name)))
		switch {
		case err != nil:
			return err
		case n != bytes:
			return fmt.Errorf("%s has %d bytes, the manifest says %d", name, n, bytes)
		case have != sum:
			return fmt.Errorf("%s has the digest %s, the manifest says %s", name, have, sum)
		}
		return nil
	}
	if i.Name != backup.Storage {
		return check(i.File, i.SHA256, i.Bytes)
	}
	for _, f := range i.Files {
		if err := check(path.Join(i.File, f.Path), f.SHA256, f.Bytes); err != nil {
			return err
		}
	}
	return nil
}

// restoreFiles sends the files of a backup to the shared storage, with their times.
func (j *Job) restoreFiles(ctx context.Context, s *plan.RestoreFiles) (Record, error) {
	rec := Record{Confirm: ReadBack}
	at, err := storagePath(ctx, j.Link, "storage")
	if err == nil && at == "" {
		err = &link.RefusedError{Command: s.Title(), Message: "the storage is not there"}
	}
	if err != nil {
		return rec, err
	}
	m := newMeter(j.Obs, Send, "the shared storage", s.Item.Bytes)
	defer m.end()
	done := int64(0)
	for _, f := range s.Item.Files {
		if err := j.restoreFile(ctx, filepath.Join(s.Dir, filepath.FromSlash(f.Path)), path.Join(at, f.Path), f.Time, func(n int64) { m.set(done + n) }); err != nil {
			return rec, err
		}
		there, err := j.phoneDigest(ctx, path.Join(at, f.Path))
		switch {
		case err != nil:
			return rec, err
		case there == "":
			rec.Confirm = PhoneWord
		case there != f.SHA256:
			return rec, &link.RefusedError{Command: s.Title(), Message: f.Path + " arrived with another digest"}
		}
		done += f.Bytes
	}
	rec.Bytes = done
	s.Effects(j.Card)
	return rec, nil
}

func (j *Job) restoreFile(ctx context.Context, local, to string, when time.Time, moved func(int64)) error {
	f, err := os.Open(local)
	if err != nil {
		return err
	}
	defer f.Close()
	return j.push(ctx, to, 0o100660, when, f, moved)
}

// copySlot copies a partition on the phone and compares the digests of both.
func (j *Job) copySlot(ctx context.Context, s *plan.CopySlot) (Record, error) {
	rec := Record{Confirm: ReadBack}
	logical, _ := j.Card.Yes(card.FactLogical + s.Source())
	from, to := device(s.Source(), logical), device(s.Target(), logical)
	j.Obs.Say(Wait, "the phone copies %s to %s", s.Source(), s.Target())
	if err := j.inShell(ctx, fmt.Sprintf("dd if=%s of=%s bs=1048576 conv=notrunc && sync", from, to), s.Title()); err != nil {
		return rec, err
	}
	size, _ := j.Card.Number(card.FactSize + s.Source())
	rec.Bytes = size
	a, err := j.phoneDigest(ctx, from)
	if err != nil {
		return rec, err
	}
	b := ""
	if room, _ := j.Card.Number(card.FactSize + s.Target()); room == size || size == 0 { // of a larger one the digest says nothing
		if b, err = j.phoneDigest(ctx, to); err != nil {
			return rec, err
		}
	}
	switch {
	case a == "" || b == "":
		rec.Confirm = PhoneWord
	case a != b:
		return rec, &link.RefusedError{Command: s.Title(), Message: fmt.Sprintf("read back, %s has the digest %s and %s has %s", s.Source(), a, s.Target(), b)}
	}
	rec.SHA256 = a
	s.Effects(j.Card)
	if a != "" {
		learn(j.Card, card.FactDigest+s.Source(), a)
		j.Card.Learn(card.FactDigest+s.Target(), a, card.Journal)
	}
	j.Writes = append(j.Writes, WriteResult{Partition: s.Partition, Slot: card.Other(s.From), Bytes: size, SHA256: a, Confirmed: rec.Confirm})
	return rec, nil
}
