package task

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/describe"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/model"
	"jarlid/internal/engine"
	"jarlid/internal/files"
	"jarlid/internal/host"
	"jarlid/internal/journal"
	"jarlid/internal/phone/wire"
)

// DraftModel works out a model file from phones, saved cards and firmware sets.
type DraftModel struct {
	Words  []string // phones, files of saved cards, sets; none: the phone that is here
	Output string   // "" for the model's name in the working folder
	Slots  int      // how many slots a set's phone has; 0: nobody said
	Over   bool     // a file that is there is replaced
	// Practise adds the part for a phone made of software.
	Practise bool
}

// ModelDrafted is the draft and where it was written.
type ModelDrafted struct {
	File string `json:"file"`
	*describe.Draft
	Text string `json:"text"`
}

// Run reads the sources and works it out; Write writes it. Errors: *describe.OtherModelError,
// describe.ErrNameless, *describe.NoPartitionsError, and the errors of phones and files.
func (t *DraftModel) Run(ctx context.Context, e *Env) (*ModelDrafted, error) {
	if t.Slots < 0 || t.Slots > 2 {
		return nil, Usage("--slots is 1 or 2, not %d", t.Slots)
	}
	words := t.Words
	if len(words) == 0 {
		words = []string{e.Options.On}
	}
	var sources []describe.Known
	for _, w := range words {
		k, err := e.source(ctx, w, t.Slots)
		if err != nil {
			return nil, err
		}
		sources = append(sources, *k)
	}
	d, err := describe.Of(sources)
	if err != nil {
		return nil, err
	}
	if t.Practise {
		if err := d.Practise(sources); err != nil {
			return nil, err
		}
	}
	r := &ModelDrafted{File: t.Output, Draft: d}
	if r.File == "" {
		r.File = journal.SafeName(d.Statements[0].Value) + ".yaml"
	}
	r.Text, err = d.Text()
	return r, err
}

// Write writes the draft.
func (r *ModelDrafted) Write(over bool) error {
	if _, err := os.Lstat(r.File); !over && !errors.Is(err, fs.ErrNotExist) {
		return Usage("%s is there already; name another file with -o, or write over it with --over", r.File)
	}
	return host.WriteWhole(r.File, []byte(r.Text), 0o644)
}

// source reads one source: a firmware set or a saved card where a file of that name is there, otherwise a
// phone. slots is what a person said of a set's phone.
func (e *Env) source(ctx context.Context, word string, slots int) (*describe.Known, error) {
	path := files.Unquote(word)
	st, err := os.Stat(path)
	switch {
	case word == "" || errors.Is(err, fs.ErrNotExist) && !strings.ContainsRune(path, filepath.Separator):
		return e.sourcePhone(ctx, word)
	case err != nil:
		return nil, err
	case !st.IsDir() && strings.EqualFold(filepath.Ext(path), ".json"):
		b, err := files.ReadSmall(path, card.MaxSaved)
		if err != nil {
			return nil, err
		}
		c, _, err := card.Load(b)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		return &describe.Known{From: filepath.Base(path), Card: c}, nil
	}
	return e.sourceSet(ctx, path, slots)
}

// sourcePhone reads a phone; of one that is not here, what jobs know of it.
func (e *Env) sourcePhone(ctx context.Context, word string) (*describe.Known, error) {
	o := e.Options
	o.On = word
	j, err := engine.Open(ctx, e.Bench, o)
	var away *wire.NotHereError
	if errors.As(err, &away) && word != "" {
		p, perr := e.Bench.Unseen(word)
		if perr != nil || p == nil {
			return nil, err
		}
		s := p.NewSession(&card.Card{}, e.Obs())
		if rerr := s.Recall(); rerr != nil || !s.Card.Get(card.FactModel).Known() {
			return nil, errors.Join(err, rerr)
		}
		return &describe.Known{From: p.Name, Card: s.Card}, nil
	}
	if err != nil {
		return nil, err
	}
	e.Later(j.Close)
	return &describe.Known{From: j.Name, Card: j.Card}, nil
}

// sourceSet reads what a firmware set, a folder or an archive of images, states.
func (e *Env) sourceSet(ctx context.Context, path string, slots int) (*describe.Known, error) {
	m, err := e.lookInto(ctx, path)
	if err != nil {
		return nil, err
	}
	set := &describe.Set{Manifest: m.Manifest, Sizes: map[string]int64{}, Slots: slots}
	for _, r := range m.Manifest.Requires {
		if r.Name == "product" && !r.Reject {
			set.Devices = append(set.Devices, r.Values...)
		}
	}
	whole, err := files.Identify(path, ident.Options{MaxMemory: e.MaxMemory})
	if err == nil && len(set.Devices) == 0 {
		set.Devices = whole.Models()
	}
	for _, im := range m.Images {
		p := files.NamedAfter(im)
		if len(im.File.GoesTo) > 0 && im.File.GoesTo[0].By != "name" {
			p = im.File.GoesTo[0].Partition
		}
		if p != "" && !slices.Contains(set.Images, p) {
			set.Images = append(set.Images, p)
		}
		set.Sizes[p] = max(set.Sizes[p], im.File.Size, im.File.Inside)
	}
	if len(set.Images) == 0 || m.Set == "" {
		return nil, fmt.Errorf("%s is no firmware set: it has no images of partitions; name a phone, a "+
			"saved "+
			"card (.json) "+
			"or a set", path)
	}
	return &describe.Known{From: filepath.Base(path), Set: set}, nil
}

// ModelChecked is a model file, compared with what is known.
type ModelChecked struct {
	Model string             `json:"model"`
	Lines []describe.Checked `json:"lines"`
	From  []string           `json:"sources"` // the phones it was compared with
}

// CheckModel compares a model file with the phones of that model that are here or that jobs were done on.
func CheckModel(ctx context.Context, e *Env, m *model.Model) (*ModelChecked, error) {
	r := &ModelChecked{Model: m.Name}
	var sources []describe.Known
	add := func(name string, c *card.Card) {
		f := c.Get(card.FactModel)
		product := c.Value(card.FactProduct)
		if slices.Contains(r.From, name) || !(f.Known() && m.Is(f.Value) || product != "" && m.Is(product)) {
			return
		}
		r.From = append(r.From, name)
		sources = append(sources, describe.Known{From: name, Card: c})
	}
	here, _, err := e.Bench.Look(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range here {
		if s.Card != nil {
			add(s.Name, s.Card)
		}
	}
	jobs, err := journal.Jobs(e.Bench.Home)
	if err != nil {
		return nil, err
	}
	done := map[string]bool{}
	for _, j := range jobs {
		if done[j.Phone+"/"+j.Serial] {
			continue
		}
		done[j.Phone+"/"+j.Serial] = true
		c, _, err := journal.Recall(e.Bench.Home, journal.Who{Name: j.Phone, Serial: j.Serial})
		if err != nil {
			return nil, err
		}
		add(j.Phone, c)
	}
	r.Lines = describe.Check(m, sources)
	return r, nil
}

// ModelAdded is a model file that was put into the home.
type ModelAdded struct {
	Models []string `json:"models"`
	Files  []string `json:"files"`
}

// AddModels puts model files into the home: a file, or the files of a folder. All of them are read before one
// is written. An own file of the same model is replaced only where over says so.
func AddModels(e *Env, path string, over bool) (*ModelAdded, error) {
	list, err := modelFiles(path)
	if err != nil {
		return nil, err
	}
	r := &ModelAdded{}
	texts := map[string][]byte{}
	for _, name := range list {
		b, err := files.ReadSmall(name, model.MaxFile)
		if err != nil {
			return nil, err
		}
		m, err := model.Parse(b)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		to := filepath.Join(ModelsDir(e), journal.SafeName(m.Name)+".yaml")
		if err := free(e, m, to, over); err != nil {
			return nil, err
		}
		if texts[to] != nil {
			return nil, Usage("two files of %s are about %s", path, m.Name)
		}
		texts[to] = b
		r.Models, r.Files = append(r.Models, m.Name), append(r.Files, to)
	}
	if e.Options.DryRun {
		return r, nil
	}
	if _, err := host.Private(e.Bench.Home); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(ModelsDir(e), 0o700); err != nil {
		return nil, err
	}
	for _, to := range r.Files {
		if err := host.WriteWhole(to, texts[to], 0o600); err != nil {
			return nil, err
		}
	}
	return r, nil
}

// modelFiles gives a file, or the model files of a folder.
func modelFiles(path string) (list []string, err error) {
	if st, err := os.Stat(path); err != nil || !st.IsDir() {
		return []string{path}, err
	}
	entries, err := os.ReadDir(path)
	for _, x := range entries {
		if strings.HasSuffix(x.Name(), ".yaml") {
			list = append(list, filepath.Join(path, x.Name()))
		}
	}
	if err == nil && len(list) == 0 {
		err = Usage("%s has no model files: their names end in .yaml", path)
	}
	return list, err
}

// free makes sure that a model file takes no other one's place, nor its name or alias.
func free(e *Env, m *model.Model, to string, over bool) error {
	_, err := os.Lstat(to)
	there := !errors.Is(err, fs.ErrNotExist)
	if there && !over {
		return Usage("there is a model file for %s already: %s; jarlid model add --over replaces it", m.Name,
			to)
	}
	for _, other := range e.Bench.Models {
		if strings.EqualFold(other.Name, m.Name) {
			continue
		}
		for _, name := range append([]string{m.Name}, m.Aliases...) {
			if other.Is(name) {
				return Usage("the model file of %s states the name %s, and so does the one of %s: a phone "+
					"that reports "+
					"it could be either", m.Name, name, other.Name)
			}
		}
	}
	return nil
}
