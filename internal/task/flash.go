package task

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/fit"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/filesystem"
	"jarlid/internal/core/local"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
	"jarlid/internal/core/spell"
	"jarlid/internal/engine"
	"jarlid/internal/files"
	"jarlid/internal/journal"
	"jarlid/internal/say"
)

// Flash writes images, each to where it belongs; a folder or an archive of images as a
// whole set.
type Flash struct {
	Files []string `json:"files" yaml:"files"`
	Into  string   `json:"into,omitempty" yaml:"into,omitempty"`
	// Without and Only choose among the images of a set, by partition or by file name.
	Without []string `json:"without,omitempty" yaml:"without,omitempty"`
	Only    []string `json:"only,omitempty" yaml:"only,omitempty"`

	target place.Target
	paths  []string
	set    *files.Material
	absent error // a word that is no file: it may name a partition of the phone
	// systems are the facts of the generic systems among the images, by their files.
	systems map[*ident.File]*fit.Image
}

// Flashed is its outcome.
type Flashed struct{ Written }

// FlashView is what goes where, shown before the questions.
type FlashView struct{ Placed []place.Placed }

// Name implements Work.
func (*Flash) Name() string { return "flash" }

// Load makes the images ready.
func (t *Flash) Load(ctx context.Context, e *Env) (err error) {
	if t.target, err = place.ParseTarget(t.Into); err != nil {
		return Usage("%v", err)
	}
	if err := t.swapped(nil); err != nil {
		return err
	}
	if t.paths, err = files.Expand(t.Files); err != nil {
		return err
	}
	t.set, err = e.Gather(ctx, false, t.paths...)
	if errors.Is(err, fs.ErrNotExist) {
		t.absent = err
		return nil
	}
	if err == nil && t.target.Partition != "" && !t.target.Numbered() {
		err = t.one(t.target)
	}
	if err == nil {
		err = t.readSystems()
	}
	return err
}

// one finds the image that --into is for: the only one, or the one in an archive or folder
// that belongs there.
func (t *Flash) one(target place.Target) error {
	base := card.Part(target.Partition).Base
	if n := len(t.set.Images); n > 1 && t.set.Set != "" {
		t.set.Images = slices.DeleteFunc(t.set.Images, func(im place.Image) bool {
			return files.NamedAfter(im) != base && !slices.ContainsFunc(im.File.GoesTo,
				func(d ident.Destination) bool {
					return d.Partition == base
				})
		})
		if len(t.set.Images) != 1 {
			return Usage("%s holds %s, and %d of them are for %s; take out the one that is meant: jarlid "+
				"lift %s -o DIR", t.set.Set, spell.Counted(n, "image"), len(t.set.Images), base,
				local.Quote(t.set.Set))
		}
	} else if n > 1 {
		return Usage("--into %s is for one image, and here are %d", t.Into, n)
	}
	t.set.Set, t.set.Left, t.set.Manifest = "", nil, plan.Manifest{}
	return nil
}

// readSystems reads what decides where generic systems run.
func (t *Flash) readSystems() error {
	t.systems = map[*ident.File]*fit.Image{}
	for _, im := range t.set.Images {
		if !im.File.Generic() || im.File.Short ||
			filesystem.Named(string(im.File.Kind)).Open == nil {
			continue
		}
		s, err := files.ReadSystem(cmp.Or(im.Label, filepath.Base(im.File.Path)), im.File.Path)
		var bad *image.Error
		if errors.As(err, &bad) {
			continue // no system at all: the partition it goes to says more
		}
		if err != nil {
			return err
		}
		t.systems[im.File] = s
	}
	return nil
}

// weigh holds generic systems against the phone.
func (t *Flash) weigh(list []place.Placed, in *engine.Input, d *engine.Draft) {
	for _, p := range list {
		s := t.systems[p.File]
		if s == nil || p.Partition != "system" {
			continue
		}
		d.Lacks.Facts = append(d.Lacks.Facts, card.FactVendor.ID())
		v := fit.Judge(fit.Question{Image: s, Card: in.Card, Model: in.Model, Path: t.Files[0]})
		d.Findings = append(d.Findings, v.Findings(t.Files[0])...)
		for _, text := range v.Care() {
			in.Notes.Say(say.Open, "%s", text)
		}
	}
}

// swapped finds a file where the partition belongs, or the reverse. Without a card only
// the usual partitions are known.
func (t *Flash) swapped(c *card.Card) error {
	known := func(name string) bool {
		if c == nil {
			return false
		}
		_, ok := c.Number(card.FactSize.Of(card.Part(name)))
		return ok
	}
	for i, s := range t.Files {
		if !files.IsPartitionName(s, known) {
			continue
		}
		remedy := "the file comes first: jarlid flash FILE"
		if rest := append(append([]string(nil), t.Files[:i]...), t.Files[i+1:]...); len(rest) > 0 {
			remedy = fmt.Sprintf("jarlid flash %s --into %s", rest[0], s)
		}
		return finding.Stopped(finding.ImageAsPartition, s,
			fmt.Sprintf("%q is a partition of the phone, and no file of that name is here", s), remedy)
	}
	part, _, _ := strings.Cut(t.Into, "@")
	if part != "" && !known(part) && (files.IsFile(part) || strings.ContainsAny(part, `/\`) ||
		strings.HasSuffix(part, ".img")) {
		return finding.Stopped(finding.ImageAsPartition, part,
			fmt.Sprintf("--into wants a partition, and %q is a file", part), "jarlid flash "+part)
	}
	return nil
}

// Prepare works out where every image goes, and in which order.
func (t *Flash) Prepare(in *engine.Input) (*engine.Draft, error) {
	if err := t.swapped(in.Card); err != nil {
		return nil, err
	}
	if t.absent != nil {
		return nil, t.absent
	}
	d := &engine.Draft{}
	if len(t.set.Images) == 1 && t.set.Images[0].File.Kind == ident.LoaderTable {
		d.Files = []journal.File{{Path: t.set.Images[0].File.Path, Size: t.set.Images[0].File.Size}}
		d.Steps = []plan.Step{&plan.WriteTable{File: t.set.Images[0].File}}
		return d, nil
	}
	for _, p := range t.paths {
		if st, err := os.Stat(p); err == nil {
			d.Files = append(d.Files, journal.File{Path: p, Size: st.Size()})
		}
	}
	list, err := t.place(in, d)
	if err != nil {
		return nil, err
	}
	if list, err = t.choose(list, in); err != nil {
		return nil, err
	}
	for _, name := range t.set.Left {
		in.Notes.Say(say.Note, "%s in the set is no image and is left alone", name)
	}
	list, why := place.Order(list, t.set.Manifest.Order, in.Card, in.Model)
	if t.set.Set != "" {
		in.Notes.Say(say.Info, "%s is a set of %s; the order: %s", filepath.Base(t.set.Set),
			spell.Counted(len(list), "image"), why)
		for _, r := range t.set.Manifest.Requires {
			d.Lacks.Variables = append(d.Lacks.Variables, r.Name)
		}
		d.Findings = append(d.Findings, t.set.Manifest.Check(filepath.Base(t.set.Set), in.Card, in.Variables,
			in.Models)...)
	}
	if len(list)+len(d.Findings) == 0 {
		return nil, fmt.Errorf("there is nothing in it to write; jarlid ident %s tells what it is",
			t.Files[0])
	}
	t.weigh(list, in, d)
	d.Steps = plan.Flash(list, in.Card, in.Model)
	if len(list) > 0 {
		d.View = FlashView{list}
	}
	return d, nil
}

// choose leaves out what --without names, or all that --only does not.
func (t *Flash) choose(list []place.Placed, in *engine.Input) ([]place.Placed, error) {
	is := func(p place.Placed, word string) bool {
		return word == p.Partition || word == cmp.Or(p.Label, filepath.Base(p.File.Path))
	}
	var names []string
	for _, p := range list {
		names = append(names, p.Partition)
	}
	for _, word := range append(slices.Clone(t.Without), t.Only...) {
		if !slices.ContainsFunc(list, func(p place.Placed) bool { return is(p, word) }) {
			return nil, Usage("nothing here is called %q%s", word, spell.NoneOf(word, names))
		}
	}
	named := func(words []string, p place.Placed) bool {
		return slices.ContainsFunc(words, func(word string) bool { return is(p, word) })
	}
	return slices.DeleteFunc(list, func(p place.Placed) bool {
		out := named(t.Without, p) || len(t.Only) > 0 && !named(t.Only, p)
		if out {
			in.Notes.Say(say.Note, "%s is left out, as you said", p.Partition)
		}
		return out
	}), nil
}

func (t *Flash) place(in *engine.Input, d *engine.Draft) ([]place.Placed, error) {
	var list []place.Placed
	home := place.RecoveryHome(in.Card).Partition
	target := t.target.On(in.Card)
	if target != t.target { // Load could not know which of several images that is
		if err := t.one(target); err != nil {
			return nil, err
		}
	}
	for _, im := range t.set.Images {
		bases := append([]string{home, target.Partition}, in.Model.NeededBefore()...)
		for _, g := range im.File.GoesTo {
			bases = append(bases, g.Partition)
		}
		for _, base := range bases {
			if base != "" {
				d.Lacks.Facts = append(d.Lacks.Facts, card.FactSize.Of(card.At(base, "")))
			}
		}
		p, err := place.Of(im, target, in.Card, in.Model)
		var nowhere *place.NowhereError
		switch {
		case errors.As(err, &nowhere) && t.set.Set != "":
			in.Notes.Say(say.Note, "%s is left alone: %s", nowhere.Label, nowhere.What)
			continue
		case err != nil:
			return nil, err
		}
		list = append(list, p)
	}
	return list, nil
}

// Result is its outcome.
func (t *Flash) Result(j *engine.Job) Flashed { return Flashed{written(j)} }

// cmpNames orders partitions by their names.
func cmpNames(a, b card.Partition) int { return cmp.Compare(a.String(), b.String()) }
