// Package model reads model files: what is known about a kind of phone that
// the phone itself can't say, as aliases, where its recovery lives, and the
// hands recipes that bring it into a mode.
package model

import (
	"embed"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"jarlid/internal/core/card"
)

// Recipe tells a person what to do at the phone.
type Recipe struct {
	Do   []string `yaml:"do"`   // the steps, a sentence each
	Wait int      `yaml:"wait"` // seconds until the hint is shown; 0 means 300
	Hint string   `yaml:"hint"` // what to try when nothing happens
}

// Home says where a recovery lives.
type Home struct {
	Partition string `yaml:"partition"`
}

// Model is one model file.
type Model struct {
	Name     string            `yaml:"model"`
	Title    string            `yaml:"title"`
	Aliases  []string          `yaml:"aliases"`
	Slots    int               `yaml:"slots"`
	Recovery Home              `yaml:"recovery"`
	Hands    map[string]Recipe `yaml:"hands"` // by mode, and "format-data", "debugging", "allow-key"
	Standin  yaml.Node         `yaml:"standin"`
}

// Hand gives the recipe for what.
func (m *Model) Hand(what string) (Recipe, bool) {
	if m == nil {
		return Recipe{}, false
	}
	r, ok := m.Hands[what]
	return r, ok && len(r.Do) > 0
}

// Is tells whether name is one of this model's names.
func (m *Model) Is(name string) bool {
	return strings.EqualFold(m.Name, name) || slices.ContainsFunc(m.Aliases, func(a string) bool { return strings.EqualFold(a, name) })
}

// RecoveryPartition gives the partition the recovery lives in.
func (m *Model) RecoveryPartition() string {
	if m == nil || m.Recovery.Partition == "" {
		return "recovery"
	}
	return m.Recovery.Partition
}

// Learn puts what the model file says into c, as facts of that evidence.
func (m *Model) Learn(c *card.Card) {
	if m == nil {
		return
	}
	known := &card.Card{}
	known.Learn(card.FactModel, m.Name, card.Model)
	if m.Slots > 0 {
		known.Learn(card.FactSlots, fmt.Sprint(m.Slots), card.Model)
	}
	c.Merge(known)
}

const maxFile = 1 << 20

// Parse reads one model file; fields it does not know are an error, so that a
// typing mistake is not a silent gap.
func Parse(b []byte) (*Model, error) {
	if len(b) > maxFile {
		return nil, fmt.Errorf("a model file of %d bytes is too large", len(b))
	}
	d := yaml.NewDecoder(strings.NewReader(string(b)))
	d.KnownFields(true)
	m := &Model{}
	if err := d.Decode(m); err != nil {
		return nil, fmt.Errorf("model file: %w", err)
	}
	if m.Name == "" {
		return nil, fmt.Errorf("model file: the line \"model: NAME\" is missing")
	}
	return m, nil
}

//go:embed models/*.yaml
var builtin embed.FS

// Set is the models that are known, the person's own before the built-in ones.
type Set []*Model

// Load reads the built-in models and those of dir (nil: none), whose files
// end in .yaml. A damaged own file is an error that names it.
func Load(dir fs.FS) (Set, error) {
	var set Set
	read := func(f fs.FS, pattern string) error {
		names, err := fs.Glob(f, pattern)
		if err != nil {
			return err
		}
		for _, name := range names {
			b, err := fs.ReadFile(f, name)
			if err != nil {
				return err
			}
			m, err := Parse(b)
			if err != nil {
				return fmt.Errorf("%s: %w", path.Base(name), err)
			}
			set = append(set, m)
		}
		return nil
	}
	if dir != nil {
		if err := read(dir, "*.yaml"); err != nil {
			return nil, err
		}
	}
	return set, read(builtin, "models/*.yaml")
}

// Find gives the model one of whose names is name, or nil.
func (s Set) Find(name string) *Model {
	if name == "" {
		return nil
	}
	for _, m := range s {
		if m.Is(name) {
			return m
		}
	}
	return nil
}

// Same tells whether two names mean the same model, and whether that can be
// told: an unknown name is unknown, not wrong.
func (s Set) Same(a, b string) (same, known bool) {
	if strings.EqualFold(a, b) {
		return true, true
	}
	ma, mb := s.Find(a), s.Find(b)
	if ma == nil && mb == nil {
		return false, false
	}
	return ma != nil && mb != nil && ma.Name == mb.Name, true
}
