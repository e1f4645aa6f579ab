package task

import (
	"context"
	"errors"
	"path/filepath"
	"slices"

	"jarlid/internal/core/backup"
	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/plan"
	"jarlid/internal/core/spell"
	"jarlid/internal/engine"
	"jarlid/internal/files"
	"jarlid/internal/say"
)

// BackupRestore writes named items of a backup to the phone again.
type BackupRestore struct {
	Items  []string `json:"items" yaml:"items"`
	Output string   `json:"output" yaml:"output"` // the backup's folder

	manifest *backup.Manifest
	items    []*backup.Item
	damaged  map[string][]finding.Finding
	images   map[string]*ident.File
}

// Restored is its outcome.
type Restored struct {
	Written
	Storage bool `json:"storage"` // the shared storage was among the items
}

// Name implements Work.
func (*BackupRestore) Name() string { return "backup restore" }

// Load reads the backup and makes sure that its files are as they were taken.
func (t *BackupRestore) Load(ctx context.Context, e *Env) error {
	if t.Output == "" {
		return Usage("say where the backup is: -o DIR")
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
			return Usage("the backup has no %s%s", w, spell.NoneOf(w, names))
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
		if t.images[i.Name], err = files.Identify(filepath.Join(t.Output, i.File),
			ident.Options{}); err != nil {
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
		return slices.ContainsFunc(t.items, func(i *backup.Item) bool {
			return card.Part(i.Name).Base == base
		})
	}
	for _, s := range d.Steps {
		if w, ok := s.(*plan.Write); ok {
			w.Sealed, w.System = whole("vbmeta"), whole("system")
		}
	}
	d.Findings = append(d.Findings, t.manifest.Check(in.Card, t.items)...)
	return d, nil
}

// Result is its outcome.
func (t *BackupRestore) Result(j *engine.Job) Restored {
	return Restored{Written: written(j), Storage: slices.ContainsFunc(t.items, func(i *backup.Item) bool {
		return i.Name == backup.Storage
	})}
}
