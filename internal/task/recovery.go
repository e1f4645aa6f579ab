package task

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/lift"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
	"jarlid/internal/engine"
	"jarlid/internal/files"
	"jarlid/internal/journal"
	"jarlid/internal/say"
)

// RecoveryInstall writes a recovery where this phone keeps it, on phones with slots to both.
type RecoveryInstall struct {
	File string `json:"file,omitempty" yaml:"file,omitempty"`
	Into string `json:"into,omitempty" yaml:"into,omitempty"` // PARTITION@SLOT
	// the image it goes into, or a ROM package or set with it
	Boot string `json:"boot,omitempty" yaml:"boot,omitempty"`
	// write back what was there before, instead of a file
	Previous bool `json:"previous,omitempty" yaml:"previous,omitempty"`

	target place.Target
	file   *ident.File
	base   *files.Material
}

// RecoveryInstalled is its outcome.
type RecoveryInstalled struct {
	Home place.Home `json:"home"`
	Written
}

// Name implements Work.
func (*RecoveryInstall) Name() string { return "recovery install" }

// Load reads the recovery, and the image it goes into.
func (t *RecoveryInstall) Load(ctx context.Context, e *Env) (err error) {
	if t.Previous != (t.File == "") {
		return Usage("say which recovery: its file, or --previous alone")
	}
	if t.target, err = place.ParseTarget(t.Into); err != nil {
		return Usage("%v", err)
	}
	if t.Previous {
		return nil
	}
	if t.file, err = loadRecovery(ctx, e, t.Name(), t.File); err != nil || t.Boot == "" {
		return err
	}
	t.base, err = e.imagesOf(ctx, files.Unquote(t.Boot))
	return err
}

// loadRecovery makes the one file of a recovery ready.
func loadRecovery(ctx context.Context, e *Env, command, word string) (*ident.File, error) {
	path, err := singleFile(command, word)
	if err != nil {
		return nil, err
	}
	m, err := e.Gather(ctx, true, path)
	if err != nil {
		return nil, err
	}
	if len(m.Images) == 0 {
		return nil, fmt.Errorf("%s: %w", filepath.Base(path), lift.ErrNothing)
	}
	f := m.Images[0].File
	e.Obs().Say(say.Info, "%s is %s, %s", filepath.Base(path), f.Words(), image.Size(f.Content()))
	return f, nil
}

// Prepare works out which of the ways the recovery gets there.
func (t *RecoveryInstall) Prepare(in *engine.Input) (*engine.Draft, error) {
	home := place.RecoveryHome(in.Card)
	if t.file != nil {
		home = place.HomeFor(in.Card, t.file)
	}
	d := &engine.Draft{}
	t.target = t.target.On(in.Card)
	for _, base := range append([]string{t.target.Partition, home.Partition}, in.Model.NeededBefore()...) {
		if base != "" {
			d.Lacks.Facts = append(d.Lacks.Facts, card.FactSize.Of(card.At(base, "")))
		}
	}
	if t.Previous {
		return t.previous(in, d, home)
	}
	d.Files = []journal.File{{Path: t.File, Size: t.file.Size}}
	if t.target.Partition == "" && home.Partition != "" {
		in.Notes.Say(say.Info, "the recovery lives in %s: %s", home.Words(), home.Why)
	}
	writes, found, err := plan.RecoveryInstall(t.file, t.target, in.Card, in.Model)
	if err != nil {
		return nil, err
	}
	d.Findings = found
	given := t.base != nil
	switch {
	case plan.ByTrying(t.file, home, t.target, in.Card, given):
		in.Notes.Say(say.Info, "the way here: start it without writing it, read each slot's %s image, put "+
			"the recovery's ramdisk into it, write it, read it back", home.Partition)
		d.Steps = plan.NewGraft(t.file, home, in.Card, in.Model, writes)
		return d, nil
	case plan.Grafts(t.file, home, t.target, in.Card, given):
		return d, t.graft(in, d, home, writes)
	case given && t.target.Partition != "":
		return nil, finding.Stopped(finding.WrongDestination, t.Boot,
			"--boot names the image whose ramdisk the recovery goes into; "+t.target.Partition+
				" is no such image of this phone", "leave --boot out, and the file is written as it is")
	case given:
		return nil, finding.Stopped(finding.WrongDestination, t.Boot,
			"--boot goes with phones whose recovery lives in a boot or vendor_boot image; here it has "+
				home.Words(), "leave --boot out")
	}
	d.Steps = steps(writes)
	return d, nil
}

func steps(writes []*plan.Write) []plan.Step {
	var list []plan.Step
	for _, w := range writes {
		list = append(list, w)
	}
	return list
}

// graft puts the recovery's ramdisk into the image that was named, or into each slot's own.
func (t *RecoveryInstall) graft(in *engine.Input, d *engine.Draft, home place.Home,
	writes []*plan.Write) error {
	var base string
	if t.base != nil {
		var err error
		if base, err = imageFor(t.base, home.Partition, t.Boot); err != nil {
			return err
		}
		d.Uses = append(d.Uses, usesOf(t.base, base)...)
	}
	return grafted(in, d, home, t.file, base, writes)
}

// grafted makes the steps that write rebuilt images: into the image in a file, or, without
// one, into what the phone holds.
func grafted(in *engine.Input, d *engine.Draft, home place.Home, recovery *ident.File, base string,
	writes []*plan.Write) error {
	contents := map[card.Partition]string{}
	for _, w := range writes {
		p := w.Name()
		if base != "" {
			contents[p] = base
			continue
		}
		d.Lacks.Contents = append(d.Lacks.Contents, p)
		c, had := in.Contents[p]
		switch {
		case !had:
			d.Steps = append(d.Steps, w)
			continue // it is called again when it was read
		case c.Err != nil:
			return finding.Stopped(finding.NotInThisMode, p.String(),
				"the recovery goes into the phone's own "+p.String()+", which can't be read in this mode",
				"start a recovery with a root shell first (jarlid recovery try FILE), or name the image "+
					"with --boot FILE")
		}
		contents[p] = c.Path
	}
	if len(contents) < len(writes) {
		return nil
	}
	d.Uses = append(d.Uses, plan.Sent{File: recovery, Label: place.FileName(recovery.Path)})
	made, err := files.GraftAll(in.Notes, home, recovery.Path, writes, contents, in.Scratch, in.Card)
	if err != nil {
		return err
	}
	if len(made.Writes) == 0 {
		return files.NothingToGraft(home, recovery.Path, in.Card)
	}
	d.Findings = append(d.Findings, made.Found...)
	d.Steps = steps(made.Writes)
	return nil
}

// previous writes back what earlier jobs kept.
func (t *RecoveryInstall) previous(in *engine.Input, d *engine.Draft, home place.Home) (*engine.Draft,
	error) {
	kept, err := in.Previous(home.Partition)
	if err != nil {
		return nil, err
	}
	if len(kept) == 0 {
		return nil, finding.Stopped(finding.NothingKept, home.Partition, "no job kept what was in "+
			home.Words()+" before: it can be read only in a recovery with a root shell",
			"write the maker's image: jarlid flash IMAGE")
	}
	byName := func(a, b card.Partition) int { return cmpNames(a, b) }
	for _, p := range slices.SortedFunc(maps.Keys(kept), byName) {
		f, err := files.Identify(kept[p], ident.Options{})
		if err != nil {
			return nil, err
		}
		in.Notes.Say(say.Info, "%s held %s before", p, f.Words())
		d.Steps = append(d.Steps, plan.Restore(f, p, "what was there before", in.Card, in.Model))
		d.Files = append(d.Files, record(f))
	}
	return d, nil
}

// Result is its outcome.
func (t *RecoveryInstall) Result(j *engine.Job) RecoveryInstalled {
	return RecoveryInstalled{Home: place.RecoveryHome(j.Card), Written: written(j)}
}

// imageFor finds the image of a partition in what was named: that image itself, or a
// ROM package or firmware set it is in.
func imageFor(m *files.Material, partition, named string) (string, error) {
	if len(m.Images) == 1 && m.Set == "" {
		return m.Images[0].File.Path, nil
	}
	if path, ok := files.ByPartition(m)[partition]; ok {
		return path, nil
	}
	return "", finding.Stopped(finding.NothingThere, filepath.Base(named),
		fmt.Sprintf("%s holds no image of %s, which the recovery goes into", filepath.Base(named), partition),
		"name the boot image of the same build: jarlid recovery install FILE --boot IMAGE")
}

// RecoveryTry starts a recovery without writing it.
type RecoveryTry struct {
	File string `json:"file" yaml:"file"`

	file *ident.File
}

// RecoveryTried is its outcome.
type RecoveryTried struct {
	Mode      card.Mode `json:"mode"`
	Temporary bool      `json:"temporary"`
	Seen      bool      `json:"seen"`
	Recovery  *string   `json:"recovery"`
}

// Name implements Work.
func (*RecoveryTry) Name() string { return "recovery try" }

// Load reads the recovery.
func (t *RecoveryTry) Load(ctx context.Context, e *Env) (err error) {
	t.file, err = loadRecovery(ctx, e, t.Name(), t.File)
	return err
}

// Prepare makes the one step.
func (t *RecoveryTry) Prepare(in *engine.Input) (*engine.Draft, error) {
	return &engine.Draft{Steps: []plan.Step{plan.NewTry(t.file, in.Card, in.Model)},
		Files: []journal.File{{Path: t.File, Size: t.file.Size}}}, nil
}

// Result is its outcome.
func (t *RecoveryTry) Result(j *engine.Job) RecoveryTried {
	return RecoveryTried{Mode: card.Recovery, Temporary: true, Seen: j.Connected(),
		Recovery: Known(j.Card, card.FactRecovery)}
}
