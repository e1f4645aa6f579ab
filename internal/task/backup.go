package task

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
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
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/local"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
	"jarlid/internal/core/spell"
	"jarlid/internal/engine"
	"jarlid/internal/files"
	"jarlid/internal/host"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
	"jarlid/internal/phone"
	"jarlid/internal/say"
)

// BackupTake reads partitions and the shared storage into a folder. What the folder's
// manifest says is there already, and is, is not taken again.
type BackupTake struct {
	Items  []string `json:"items,omitempty" yaml:"items,omitempty"` // partitions, with or without a slot, and "storage"; none: the usual ones
	Output string   `json:"output" yaml:"output"`
}

// BackupTaken is what is in the folder.
type BackupTaken struct {
	Items   []backup.Item `json:"items"`
	Without []string      `json:"without"`
	Folder  string        `json:"folder"`
	Phone   string        `json:"-"`
}

// taking is a backup under way.
type taking struct{ *engine.Job }

// Name is the command's.
func (*BackupTake) Name() string { return "backup take" }

// notRead is the finding of a mode in which nothing can be read; nil for the others.
func notRead(mode card.Mode) *finding.StopError {
	if mode != card.None && mode != card.Bootloader && mode != card.Sideload {
		return nil
	}
	return finding.Stopped(finding.NotInThisMode, phone.ModeName(mode), "in this mode ("+phone.ModeName(mode)+") nothing can be read; a recovery with a root shell reads everything, a started system the shared storage",
		"jarlid go recovery")
}

// readRate is what is expected of reading a phone, in bytes a second, our own estimate.
const readRate = 20 << 20

// Foresee tells what it will take. What there is to be read shows itself only then.
func (t *BackupTake) Foresee(a *engine.Ahead) (*engine.Foreseen, error) {
	if t.Output == "" {
		return nil, usage("say where to: output, the folder to put it into")
	}
	if stop := notRead(a.Card.Mode()); stop != nil {
		return &engine.Foreseen{Findings: stop.Findings}, nil
	}
	f := &engine.Foreseen{}
	for _, row := range a.Card.Partitions() {
		if len(t.Items) == 0 && backup.Usual(row.Name, row.Size) || slices.Contains(t.Items, row.Name) || slices.Contains(t.Items, row.Partition().Base) {
			f.Bytes += row.Size
		}
	}
	f.Takes = time.Duration(float64(f.Bytes) / readRate * float64(time.Second))
	return f, nil
}

// Run takes it. What is in the folder is given with an error too.
func (t *BackupTake) Run(ctx context.Context, e *Env) (*BackupTaken, error) {
	if t.Output == "" {
		return nil, usage("say where to: -o DIR")
	}
	j, err := e.Open(ctx)
	if err != nil {
		return nil, err
	}
	mode := j.Card.Mode()
	if !j.Open() {
		mode = card.None
	}
	if stop := notRead(mode); stop != nil {
		return nil, stop
	}
	m, err := (&taking{j}).take(ctx, t)
	if m == nil {
		return nil, err
	}
	if err == nil && m.Item(backup.Storage) != nil {
		after := j.Card.Clone()
		after.Learn(card.FactBackedUp, t.Output, card.Journal)
		err = engine.Keep(j.Session, e.Options, "backup take", j.Card, after, j.Card)
	}
	return &BackupTaken{Items: orEmpty(m.Items), Without: orEmpty(m.Without), Folder: t.Output, Phone: j.Name}, err
}

// take reads partitions and the shared storage into a folder. What was named and is not given out is an
// error, behind the rest; so is a backup that has nothing in it. What the
// folder's manifest says is there already, and is, is not taken again. It gives the manifest
// as it stands at the end, also with an error.
func (j *taking) take(ctx context.Context, t *BackupTake) (*backup.Manifest, error) {
	m, err := j.openBackup(t.Output)
	if err != nil {
		return nil, err
	}
	names, all, err := j.backupItems(ctx, t.Items)
	if err != nil {
		return m, err
	}
	if err := files.Room(t.Output, j.expected(names, m)); err != nil { // holes take none, so it may do all the same
		j.Obs.Say(say.Warn, "%v, unless much of it is empty", err)
	}
	keep := func() error {
		m.Without = slices.DeleteFunc(slices.Clone(all), func(n string) bool { return m.Item(n) != nil })
		b, err := m.Encode()
		if err != nil {
			return err
		}
		return host.WriteWhole(filepath.Join(t.Output, backup.Name), b, 0o644)
	}
	if err := keep(); err != nil {
		return m, err
	}
	var missed *link.RefusedError // of what was named, or of the only things there were
	for _, name := range names {
		select {
		case <-j.Soft:
			return m, engine.ErrStopped
		default:
		}
		if old := m.Item(name); old != nil && name != backup.Storage && files.SameFile(ctx, t.Output, old) {
			j.Obs.Say(say.Good, "%s is there already, its digest matches", name)
			continue
		}
		var item backup.Item
		if name == backup.Storage {
			item, err = j.takeStorage(ctx, t.Output, m.Item(name))
		} else {
			item, err = j.takePartition(ctx, t.Output, name)
		}
		var refused *link.RefusedError
		if errors.As(err, &refused) {
			j.Obs.Say(say.Warn, "%s is not in it: %s", name, refused.Message)
			missed = refused
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
	if missed != nil && (len(t.Items) > 0 || len(m.Items) == 0) {
		return m, missed
	}
	return m, nil
}

// expected is how many bytes of a backup are still to come, as far as it is told.
func (j *taking) expected(names []string, m *backup.Manifest) (sum int64) {
	for _, n := range names {
		if size, known := j.Card.Number(card.FactSize.Of(card.Part(n))); known && m.Item(n) == nil {
			sum += size
		}
	}
	return sum
}

// openBackup reads the manifest that is in the folder, or begins a new one.
func (j *taking) openBackup(dir string) (*backup.Manifest, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	b, err := files.ReadSmall(filepath.Join(dir, backup.Name), files.MaxManifest)
	if errors.Is(err, fs.ErrNotExist) {
		return &backup.Manifest{Taken: time.Now().UTC().Truncate(time.Millisecond), Phone: j.Name, Model: j.Card.Value(card.FactModel), Serial: j.Card.Value(card.FactSerial),
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
		return nil, finding.Stopped(finding.OtherPhone, dir, fmt.Sprintf("%s holds the backup of another phone, %s; this one is %s", dir, m.Serial, s), "take another folder")
	}
	return m, nil
}

// backupItems works out what to take, and everything there is to take.
func (j *taking) backupItems(ctx context.Context, words []string) (names, all []string, err error) {
	sizes := map[string]int64{}
	switch {
	case j.HasLoader():
		for _, row := range j.Card.Partitions() {
			sizes[row.Name] = row.Size
		}
	case j.RootRecovery():
		there, err := j.Devices(ctx)
		if err != nil {
			return nil, nil, err
		}
		for p, n := range there {
			sizes[p.String()] = n
		}
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
			if backup.Usual(name, sizes[name]) && (!j.HasLoader() || j.Mode() == card.Loader || strings.HasPrefix(name, "vendor_boot")) {
				names = append(names, name)
			}
		}
		at := ""
		if j.HasFiles() {
			if at, err = j.StoragePath(ctx, "storage"); err != nil {
				return nil, nil, err
			}
		}
		if at != "" {
			names = append(names, backup.Storage)
		} else {
			j.Obs.Say(say.Note, "the shared storage can't be reached in this mode, so it is left out")
		}
		return names, all, nil
	}
	for _, w := range words {
		if w == backup.Storage {
			names = append(names, w)
			continue
		}
		to, err := place.ParseTarget(w)
		if err != nil {
			return nil, nil, usage("%v", err)
		}
		to = to.On(j.Card)
		var hit []string
		if slots, err := to.SlotsOf(j.Card); err == nil && to.Slot != "" {
			for _, s := range slots {
				hit = append(hit, card.At(to.Partition, s).String())
			}
		} else {
			hit = []string{to.Partition, to.Partition + "_a", to.Partition + "_b"}
		}
		hit = slices.DeleteFunc(hit, func(n string) bool { _, ok := sizes[n]; return !ok })
		if len(hit) == 0 {
			if j.RootRecovery() {
				return nil, nil, finding.Stopped(finding.NoSuchPartition, w, fmt.Sprintf("this phone has no partition %s; it has: %s%s", w, readable(all), spell.DidYouMean(w, all)), "name one of these, or storage")
			}
			return nil, nil, finding.Stopped(finding.NotInThisMode, w, fmt.Sprintf("in this mode no partition %s of this phone can be read; there is: %s%s", w, readable(all), spell.DidYouMean(w, all)), "a recovery with a root shell reads them all: jarlid go recovery")
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

// takePartition reads one partition into a file of the folder.
func (j *taking) takePartition(ctx context.Context, dir, name string) (backup.Item, error) {
	item := backup.Item{Name: name, File: name + ".img"}
	local := filepath.Join(dir, item.File)
	p := card.Part(name)
	f, err := os.Create(local + ".part")
	if err != nil {
		return item, err
	}
	h := files.Hashed{Out: files.NewOut(f), Sum: sha256.New()}
	size, _ := j.Card.Number(card.FactSize.Of(p))
	m := say.NewMeter(j.Obs, say.Read, name, size)
	err = j.ReadWhole(ctx, p, h, m.Set)
	m.End()
	if err == nil && size > 0 && h.Written() != size {
		err = fmt.Errorf("the phone gave %d bytes of %s, which has %d", h.Written(), name, size)
	}
	if err == nil {
		err = h.Finish()
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		os.Remove(local + ".part")
		return item, err
	}
	item.Bytes, item.SHA256 = h.Written(), hex.EncodeToString(h.Sum.Sum(nil))
	if j.HasShell() { // what was read is what is there
		there, err := j.DigestOf(ctx, p)
		if err != nil {
			return item, err
		}
		if there != "" && there != item.SHA256 {
			os.Remove(local + ".part")
			return item, fmt.Errorf("%s: the phone's own digest %s is not that of what arrived", name, there)
		}
	}
	return item, host.Replace(local+".part", local)
}

// takeStorage reads the shared storage, file by file. Files the manifest has and
// that did not change are not read again.
func (j *taking) takeStorage(ctx context.Context, dir string, old *backup.Item) (backup.Item, error) {
	item := backup.Item{Name: backup.Storage, File: backup.Storage}
	at, err := j.StoragePath(ctx, "storage")
	if err != nil {
		return item, err
	}
	if at == "" {
		return item, &link.RefusedError{Command: "read the storage", Message: "it can't be reached in this mode: it lies in the data, which is encrypted"}
	}
	y, err := j.Sync(ctx)
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
	names := &local.Names{}
	for _, f := range known { // what is there keeps its place
		names.Taken(f.At())
	}
	err = j.walkStorage(ctx, y, at, "", 0, func(rel string, st adb.FileStat) error {
		f, ok := known[rel]
		below := f.At()
		if !ok {
			below = names.For(rel)
		}
		local := filepath.Join(dir, backup.Storage, filepath.FromSlash(below))
		if have, err := os.Stat(local); !ok || err != nil || have.Size() != st.Size || f.Bytes != st.Size || !f.Time.Equal(st.MTime.UTC()) {
			var err error
			if f, err = j.takeFile(ctx, y, path.Join(at, rel), local, rel, st); err != nil {
				return err
			}
			if f.Local = ""; below != rel {
				f.Local = below
				j.Obs.Say(say.Note, "%q is kept as %s", rel, below)
			}
		}
		fmt.Fprintf(sum, "%s  %s\n", f.SHA256, f.Path)
		item.Files, item.Bytes = append(item.Files, f), item.Bytes+f.Bytes
		return nil
	})
	item.SHA256 = hex.EncodeToString(sum.Sum(nil))
	return item, err
}

func (j *taking) takeFile(ctx context.Context, y *adb.Sync, from, local, rel string, st adb.FileStat) (backup.File, error) {
	f := backup.File{Path: rel, Time: st.MTime.UTC()}
	if err := os.MkdirAll(filepath.Dir(local), 0o755); err != nil {
		return f, err
	}
	w, err := os.Create(local + ".part")
	if err != nil {
		return f, err
	}
	h := sha256.New()
	m := say.NewMeter(j.Obs, say.Read, rel, st.Size)
	f.Bytes, err = y.Receive(ctx, from, io.MultiWriter(w, h), m.Set)
	m.End()
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
	return f, host.Replace(local+".part", local)
}

// maxDepth bounds how deep folders of the storage are followed.
const maxDepth = 64

// walkStorage calls each for every file below a folder of the phone.
func (j *taking) walkStorage(ctx context.Context, y *adb.Sync, root, rel string, depth int, each func(rel string, st adb.FileStat) error) error {
	list, err := y.List(ctx, path.Join(root, rel))
	if err != nil {
		return err
	}
	slices.SortFunc(list, func(a, b adb.FileStat) int { return strings.Compare(a.Name, b.Name) })
	for _, st := range list {
		name := path.Join(rel, st.Name)
		if !backup.Keepable(name) || strings.Contains(st.Name, "/") || depth > maxDepth {
			j.Obs.Say(say.Warn, "%q is not in it: no computer takes such a name", st.Name)
			continue
		}
		select {
		case <-j.Soft:
			return engine.ErrStopped
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

// BackupRestore writes named items of a backup to the phone again.
type BackupRestore struct {
	Items  []string `json:"items" yaml:"items"`
	Output string   `json:"output" yaml:"output"` // the backup's folder

	manifest *backup.Manifest
	items    []*backup.Item
	damaged  map[string][]finding.Finding
	images   map[string]*ident.File
}

// Restored is what came of it.
type Restored struct {
	Written
	Storage bool `json:"storage"` // the shared storage was among the items
}

// Name is the command's.
func (*BackupRestore) Name() string { return "backup restore" }

// Load reads the backup and makes sure that its files are as they were taken.
func (t *BackupRestore) Load(ctx context.Context, e *Env) error {
	if t.Output == "" {
		return usage("say where the backup is: -o DIR")
	}
	var err error
	if t.manifest, err = files.ReadBackup(t.Output); err != nil {
		return err
	}
	for _, w := range t.Items {
		list := t.manifest.Find(w)
		if len(list) == 0 {
			var names []string
			for _, i := range t.manifest.Items {
				names = append(names, i.Name)
			}
			return usage("the backup has no %s%s", w, spell.NoneOf(w, names))
		}
		t.items = append(t.items, list...)
	}
	t.damaged, t.images = map[string][]finding.Finding{}, map[string]*ident.File{}
	for _, i := range t.items {
		err := files.ProveBackup(ctx, e.Verifier(), t.Output, i)
		var stop *finding.StopError
		if errors.As(err, &stop) {
			t.damaged[i.Name] = stop.Findings
			continue
		}
		if err != nil {
			return err
		}
		e.Obs().Say(say.Good, "%s is as it was taken, %s", i.Name, image.Size(i.Bytes))
		if i.Name == backup.Storage {
			continue
		}
		if t.images[i.Name], err = files.Identify(filepath.Join(t.Output, i.File), ident.Options{}); err != nil {
			return err
		}
	}
	return nil
}

// Prepare makes a step an item.
func (t *BackupRestore) Prepare(in *engine.Input) (*engine.Draft, error) {
	d := &engine.Draft{}
	slots, _ := in.Card.Slots()
	for _, i := range t.items {
		p := card.Part(i.Name)
		if !slices.Contains(slots, p.Slot) {
			p = card.At(i.Name, "")
		}
		switch damaged := t.damaged[i.Name]; {
		case damaged != nil:
			d.Findings = append(d.Findings, damaged...)
		case i.Name == backup.Storage:
			d.Steps = append(d.Steps, &plan.RestoreFiles{Dir: filepath.Join(t.Output, i.File), Item: i})
		default:
			w := plan.Restore(t.images[i.Name], p, i.Name+" of the backup", in.Card, in.Model)
			d.Steps, d.Files = append(d.Steps, w), append(d.Files, record(w.File))
		}
	}
	whole := func(base string) bool {
		return slices.ContainsFunc(t.items, func(i *backup.Item) bool { return card.Part(i.Name).Base == base })
	}
	for _, s := range d.Steps {
		if w, ok := s.(*plan.Write); ok {
			w.Sealed, w.System = whole("vbmeta"), whole("system")
		}
	}
	d.Findings = append(d.Findings, t.manifest.Check(in.Card, t.items)...)
	return d, nil
}

// Result is what came of it.
func (t *BackupRestore) Result(j *engine.Job) Restored {
	return Restored{Written: written(j), Storage: slices.ContainsFunc(t.items, func(i *backup.Item) bool { return i.Name == backup.Storage })}
}
