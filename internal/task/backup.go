package task

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/backup"
	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/place"
	"jarlid/internal/core/spell"
	"jarlid/internal/engine"
	"jarlid/internal/files"
	"jarlid/internal/link"
	"jarlid/internal/phone"
	"jarlid/internal/say"
)

// BackupTake reads partitions and the shared storage into a folder. An interrupted one resumes: what is in
// the folder counts only where the phone's own digest of it is the same now.
type BackupTake struct {
	// partitions, with or without a slot, and "storage"; none: the usual ones
	Items  []string `json:"items,omitempty" yaml:"items,omitempty"`
	Output string   `json:"output" yaml:"output"`

	taken *BackupTaken
}

// BackupTaken is what is in the folder.
type BackupTaken struct {
	Items    []backup.Item `json:"items"`
	Without  []string      `json:"without"`
	Skipped  []string      `json:"skipped"` // files of the storage that could not be kept
	Folder   string        `json:"folder"`
	Complete bool          `json:"complete"`
	Phone    string        `json:"-"`
}

// taking is a backup under way.
type taking struct {
	*engine.Job
	out *files.OutputFolder
	m   *backup.Manifest
	all []string // everything there is to take
}

// Name implements Work.
func (*BackupTake) Name() string { return "backup take" }

// notRead is the finding of a mode in which nothing can be read; nil for the others.
func notRead(mode card.Mode) *finding.StopError {
	if mode != card.None && mode != card.Bootloader && mode != card.Sideload {
		return nil
	}
	return finding.Stopped(finding.NotInThisMode, phone.ModeName(mode), "in this mode ("+phone.ModeName(mode)+
		") nothing can be read; a recovery with a root shell reads everything, a started system the shared "+
		"storage",
		"jarlid go recovery")
}

// readRate is what is expected of reading a phone, in bytes per second, our own estimate.
const readRate = 20 << 20

// Foresee tells what it will take. What there is to be read shows itself only then.
func (t *BackupTake) Foresee(a *engine.Ahead) (*engine.Foreseen, error) {
	if t.Output == "" {
		return nil, Usage("say where to: output, the folder to put it into")
	}
	if stop := notRead(a.Card.Mode()); stop != nil {
		return &engine.Foreseen{Findings: stop.Findings}, nil
	}
	f := &engine.Foreseen{Findings: othersRead(t.Output)}
	for _, row := range a.Card.Partitions() {
		if len(t.Items) == 0 && backup.Usual(row.Name, row.Size) || slices.Contains(t.Items, row.Name) ||
			slices.Contains(t.Items, row.Partition().Base) {
			f.Reads += row.Size
		}
	}
	f.Takes = time.Duration(float64(f.Reads) / readRate * float64(time.Second))
	return f, nil
}

// othersRead is the finding of a folder that is there already and open to other users.
func othersRead(dir string) []finding.Finding {
	if !files.Readable(dir) {
		return nil
	}
	return []finding.Finding{finding.Warns(finding.ReadableByOthers, dir,
		dir+", where the backup goes, can be read by other users of this computer",
		"choose a folder that is yours alone")}
}

// Load implements Work: no file is sent.
func (*BackupTake) Load(context.Context, *Env) error { return nil }

// Result gives what is in the folder, with an error too; nil where nothing could be read.
func (t *BackupTake) Result() *BackupTaken { return t.taken }

// run takes it.
func (t *BackupTake) run(ctx context.Context, e *Env) (j *engine.Job, err error) {
	if t.Output == "" {
		return nil, Usage("say where to: -o DIR")
	}
	if j, err = e.Open(ctx); err != nil {
		return nil, err
	}
	mode := j.Card.Mode()
	if !j.Connected() {
		mode = card.None
	}
	if stop := notRead(mode); stop != nil {
		return j, stop
	}
	if err := j.Settle(othersRead(t.Output), "Keep the backup in "+t.Output+"?"); err != nil {
		return j, err
	}
	k := &taking{Job: j}
	if k.out, err = files.OpenFolder(t.Output); err != nil {
		return j, err
	}
	defer func() { err = errors.Join(err, k.out.Close()) }()
	if k.m, err = k.manifest(t.Output); err != nil {
		return j, err
	}
	if err = k.take(ctx, t); k.all == nil {
		return j, err
	}
	if err == nil && k.m.Item(backup.Storage) != nil {
		after := j.Card.Clone()
		after.Learn(card.FactBackedUp, t.Output, card.Journal)
		err = engine.Keep(j.Session, e.Options, t.Name(), j.Card, after, j.Card, nil)
	}
	t.taken = &BackupTaken{Items: OrEmpty(k.m.Items), Without: OrEmpty(k.m.Without), Skipped: []string{},
		Folder: t.Output, Phone: j.Name, Complete: k.m.Complete}
	if s := k.m.Item(backup.Storage); s != nil {
		t.taken.Skipped = OrEmpty(s.Skipped)
	}
	return j, err
}

// manifest reads the manifest that is in the folder, or begins a new one.
func (k *taking) manifest(dir string) (*backup.Manifest, error) {
	m := &backup.Manifest{}
	b, err := k.out.Read(backup.Name, files.MaxManifest)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return nil, err
	default:
		if m, err = backup.Parse(b); err != nil {
			return nil, fmt.Errorf("%s: %w", k.out.Path(backup.Name), err)
		}
	}
	if s := k.Card.Value(card.FactSerial); m.Serial != "" && s != "" && s != m.Serial &&
		k.Card.Value(card.FactOtherSerial) != m.Serial {
		return nil, finding.Stopped(finding.OtherPhone, dir,
			fmt.Sprintf("%s holds the backup of another phone, %s; this one is %s", dir, m.Serial, s),
			"take another folder")
	}
	if m.Complete {
		return nil, finding.Stopped(finding.BackupExists, dir,
			fmt.Sprintf("%s holds a finished backup of %s, taken %s", dir, m.Phone,
				m.Taken.Local().Format("2006-01-02 15:04")),
			"name another folder: -o DIR")
	}
	// What is kept is what the phone holds now: that is the moment the backup is of.
	m.Taken, m.Phone, m.Model = time.Now().UTC().Truncate(time.Millisecond), k.Name,
		k.Card.Value(card.FactModel)
	m.Serial, m.Started, m.Next = k.Card.Value(card.FactSerial), k.Card.Value(card.FactStarted),
		k.Card.Value(card.FactNext)
	m.System, m.Recovery = k.Card.Value(card.FactVersion), k.Card.Value(card.FactRecovery)
	return m, nil
}

// keep writes the manifest as it is now.
func (k *taking) keep() error {
	k.m.Without = slices.DeleteFunc(slices.Clone(k.all), func(n string) bool { return k.m.Item(n) != nil })
	b, err := k.m.Encode()
	if err != nil {
		return err
	}
	return k.out.WriteWhole(backup.Name, b)
}

// take reads partitions and the shared storage into a folder. What was named and is not given out is an
// error, after the rest; so is a backup that has nothing in it, and one that files are missing from.
func (k *taking) take(ctx context.Context, t *BackupTake) error {
	names, all, err := k.backupItems(ctx, t.Items)
	if err != nil {
		return err
	}
	if err := files.Room(t.Output, k.expected(names)); err != nil {
		// holes take none, so it may do all the same
		k.Obs.Say(say.Warn, "%v, unless much of it is empty", err)
	}
	k.all = all
	if err := k.keep(); err != nil {
		return err
	}
	var missed *link.RefusedError // of what was named, or of the only things there were
	for _, name := range names {
		select {
		case <-k.Stop:
			return engine.ErrStopped
		default:
		}
		refused, err := k.item(ctx, name)
		if err != nil {
			return err
		}
		if refused != nil {
			k.Obs.Say(say.Warn, "%s is not in it: %s", name, refused.Message)
			missed = refused
		}
	}
	if len(k.m.Items) == 0 && missed == nil {
		return finding.Stopped(finding.NothingThere, k.Name, "there is nothing on it that can be read in "+
			"this mode", "start a recovery with a root shell, which reads everything: jarlid go recovery")
	}
	if missed != nil && (len(t.Items) > 0 || len(k.m.Items) == 0) {
		return missed
	}
	if s := k.m.Item(backup.Storage); s != nil && slices.Contains(names, backup.Storage) &&
		len(s.Skipped) > 0 {
		return &SkippedError{s.Skipped}
	}
	k.m.Complete = true
	return k.keep()
}

// item takes one item, unless what is there is what the phone holds now.
func (k *taking) item(ctx context.Context, name string) (refused *link.RefusedError, err error) {
	var item backup.Item
	if name == backup.Storage {
		item, err = k.takeStorage(ctx, k.m.Item(name))
	} else {
		old := k.m.Item(name)
		if same, err := k.same(ctx, old); err != nil || same {
			return nil, err
		}
		item, err = k.takePartition(ctx, name)
	}
	if errors.As(err, &refused) {
		return refused, k.keep()
	}
	if err == nil || len(item.Files) > 0 {
		k.m.Put(item)
		err = errors.Join(err, k.keep())
	}
	return nil, err
}

// same reports whether an item in the folder is what its manifest states and what the phone holds now, by the
// phone's own digest. Where the phone has no tool for one the item is taken again.
func (k *taking) same(ctx context.Context, old *backup.Item) (bool, error) {
	if old == nil || !k.HasShell() {
		return false, nil
	}
	sum, n, err := k.out.Digest(ctx, old.File)
	if err != nil || n != old.Bytes || sum != old.SHA256 {
		return false, ctx.Err()
	}
	there, err := k.DigestOf(ctx, card.Part(old.Name))
	if err != nil || there != sum {
		return false, err
	}
	k.Obs.Say(say.Good, "%s is in the folder already, and the phone's own digest is the same", old.Name)
	return true, nil
}

// SkippedError says that files of the storage are not in the backup, which has all otherwise.
type SkippedError struct{ Names []string }

// Error names the first of them.
func (e *SkippedError) Error() string {
	const most = 5
	list := e.Names
	more := ""
	if n := len(list) - most; n > 0 {
		list, more = list[:most], fmt.Sprintf(" and %d more", n)
	}
	return spell.Counted(len(e.Names), "file") + " of the storage could not be kept: " +
		strings.Join(list, ", ") + more + "; everything else is in the backup"
}

// expected is how many bytes of a backup are still to come, as far as that is known.
func (k *taking) expected(names []string) (sum int64) {
	for _, n := range names {
		if size, known := k.Card.Number(card.FactSize.Of(card.Part(n))); known && k.m.Item(n) == nil {
			sum += size
		}
	}
	return sum
}

// usualItems are the partitions to take where nobody named any, and the storage where it is mounted.
func (j *taking) usualItems(ctx context.Context, partitions []string, sizes map[string]int64) (names []string,
	err error) {
	for _, name := range partitions {
		// Userspace fastboot gives out vendor_boot and nothing else (the platform's
		// fastboot/device/commands.cpp); what is named is asked for all the same.
		if backup.Usual(name, sizes[name]) && (!j.HasLoader() || j.Mode() == card.Loader ||
			strings.HasPrefix(name, "vendor_boot")) {
			names = append(names, name)
		}
	}
	if !j.HasFiles() {
		j.Obs.Say(say.Note, "the shared storage can't be reached in this mode, so it is left out")
		return names, nil
	}
	_, err = j.Mount(ctx, phone.AreaStorage)
	var not *phone.NotMountedError
	switch {
	case errors.As(err, &not):
		j.Obs.Say(say.Warn, "%v; it is left out", not)
	case err != nil:
		return nil, err
	default:
		names = append(names, backup.Storage)
	}
	return names, nil
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
		there, err := j.Sizes(ctx)
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
		names, err = j.usualItems(ctx, all[:len(all)-1], sizes)
		return names, all, err
	}
	for _, w := range words {
		if w == backup.Storage {
			names = append(names, w)
			continue
		}
		to, err := place.ParseTarget(w)
		if err != nil {
			return nil, nil, Usage("%v", err)
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
				return nil, nil, finding.Stopped(finding.NoSuchPartition, w,
					fmt.Sprintf("this phone has no partition %s; it has: %s%s", w, readable(all),
						spell.DidYouMean(w, all)), "name one of these, or storage")
			}
			if lack := j.Lacks("give out " + w); lack.Unread {
				return nil, nil, lack
			}
			return nil, nil, finding.Stopped(finding.NotInThisMode, w,
				fmt.Sprintf("in this mode no partition %s of this phone can be read; there is: %s%s", w,
					readable(all), spell.DidYouMean(w, all)),
				"a recovery with a root shell reads them all: jarlid go recovery")
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
