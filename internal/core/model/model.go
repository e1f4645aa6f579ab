// Package model reads model files: what is known about a kind of phone that
// the phone itself can't say, as aliases, where its recovery lives, and the
// hands recipes that bring it into a mode.
package model

import (
	"bytes"
	"embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"

	"jarlid/internal/core/card"
	"jarlid/internal/core/spell"
)

// Recipe tells a person what to do at the phone.
type Recipe struct {
	Do   []string `yaml:"do"`   // the steps, a sentence each
	Wait int      `yaml:"wait"` // seconds until the hint is shown; 0 means 300
	Hint string   `yaml:"hint"` // what to try when nothing happens
}

// Home says where a recovery lives: a partition of its own, "boot" for the
// boot image's ramdisk, "vendor_boot" for a fragment of that image.
type Home struct {
	Partition string `yaml:"partition"`
	// Needs are the partitions whose images a third-party recovery needs to be
	// written before it, in their order.
	Needs []string `yaml:"needs"`
}

// Bootloader is what is known of a bootloader that it does not say itself.
type Bootloader struct {
	// commands of the protocol it does not know: boot, set_active, reboot-recovery ...
	Lacks  []string `yaml:"lacks"`
	Unlock string   `yaml:"unlock"` // the command that unlocks it; empty: "flashing unlock"
	Code   string   `yaml:"code"`   // where the code comes from that the command needs, in words
	Before []string `yaml:"before-unlock"`
	// Enforces says that it starts only what verifies even when it is unlocked.
	Enforces bool `yaml:"enforces"`
}

// Loader is what is known of a manufacturer's own loader, which is instead of fastboot.
type Loader struct {
	// USB are the numbers of its serial line on USB, VENDOR:PRODUCT in hex.
	USB []string `yaml:"usb"`
	// Restores says that the manufacturer's system writes its own recovery back each time it starts.
	Restores bool `yaml:"restores-recovery"`
}

// Base is the version of the manufacturer's firmware a custom system wants.
type Base struct {
	Variable string `yaml:"variable"` // bootloader variable that tells it
	Min      string `yaml:"min"`
	Max      string `yaml:"max"`
	From     string `yaml:"from"` // where to get it, in words
}

// Model is one model file.
type Model struct {
	Name     string   `yaml:"model"`
	Title    string   `yaml:"title"`
	Aliases  []string `yaml:"aliases"`
	Slots    int      `yaml:"slots"`
	Recovery Home     `yaml:"recovery"`
	// Partitions are the sizes of its physical partitions, by their names: "boot@both" where both slots have
	// one of that size, "boot@a" of one slot, "misc" without slots.
	Partitions map[string]string `yaml:"partitions"`
	// Twins are models that look the same and are not.
	Twins      []string   `yaml:"twins"`
	Bootloader Bootloader `yaml:"bootloader"`
	Loader     *Loader    `yaml:"loader"` // nil: it has fastboot
	// Userspace says whether its recoveries have userspace fastboot.
	Userspace *bool    `yaml:"userspace-fastboot"`
	Logical   []string `yaml:"logical"`    // partitions within super
	Group     string   `yaml:"group-size"` // room for the logical partitions of one slot: 6GiB
	// partitions of the manufacturer's firmware that both slots need alike
	Firmware []string `yaml:"firmware"`
	Base     *Base    `yaml:"base"`
	Order    []string `yaml:"order"` // in which the partitions of a firmware set are written
	Risky    []string `yaml:"risky"` // partitions whose loss it does not survive, besides the usual ones
	Ask      []string `yaml:"ask"`   // questions to be answered before the first change
	Quirks   []string `yaml:"quirks"`
	// SerialDiffers says that it reports another serial number in some modes.
	SerialDiffers bool `yaml:"serial-differs"`
	// Facts are facts by name that it does not tell in every mode: cpu.abi, vndk.
	Facts   map[string]string `yaml:"facts"`
	Hands   map[string]Recipe `yaml:"hands"` // by mode, and "format-data", "debugging", "allow-key"
	Standin yaml.Node         `yaml:"standin"`
}

// Hand gives the recipe for what.
func (m *Model) Hand(what string) (Recipe, bool) {
	if m == nil {
		return Recipe{}, false
	}
	r, ok := m.Hands[what]
	return r, ok && len(r.Do) > 0
}

// Is reports whether name is one of this model's names.
func (m *Model) Is(name string) bool {
	return strings.EqualFold(m.Name, name) || slices.ContainsFunc(m.Aliases, func(a string) bool {
		return strings.EqualFold(a, name)
	})
}

// RecoveryPartition gives the partition the recovery lives in.
func (m *Model) RecoveryPartition() string {
	if m == nil || m.Recovery.Partition == "" {
		return "recovery"
	}
	return m.Recovery.Partition
}

// Learn puts what the model file says into c, as facts of that source.
func (m *Model) Learn(c *card.Card) {
	if m == nil {
		return
	}
	known := &card.Card{}
	known.Learn(card.FactModel, m.Name, card.Model)
	if m.Slots > 0 {
		known.Learn(card.FactSlots, fmt.Sprint(m.Slots), card.Model)
	}
	if m.Recovery.Partition != "" {
		known.Learn(card.FactHome, m.Recovery.Partition, card.Model)
	}
	for name, v := range m.Facts {
		if i, err := card.ParseID(name); err == nil { // Parse made sure of it
			known.Learn(i, v, card.Model)
		}
	}
	if m.Userspace != nil {
		known.Learn(card.FactUserspace, card.YesNo(*m.Userspace), card.Model)
	}
	if n, ok := card.ParseBytes(m.Group); ok {
		known.Learn(card.FactGroupMax, fmt.Sprint(n), card.Model)
	}
	for name, size := range m.Partitions {
		n, _ := card.ParseBytes(size) // Parse made sure of it
		for _, p := range partitionsOf(name) {
			known.Learn(card.FactSize.Of(p), fmt.Sprint(n), card.Model)
		}
	}
	for _, p := range m.Logical {
		known.Learn(card.FactLogical.Of(card.At(p, "")), "yes", card.Model)
	}
	for _, cmd := range m.Bootloader.Lacks {
		known.Learn(card.FactCommand.Of(cmd), "no", card.Model)
	}
	c.Merge(known)
}

// partitionsOf gives the partitions that a name of a model file's table means; none where it is malformed.
func partitionsOf(name string) []card.Partition {
	base, slot, with := strings.Cut(name, "@")
	p := card.Part(base)
	switch {
	case base == "" || strings.ContainsAny(base, "/\\. ") || with && p.Slot != "":
		return nil
	case !with:
		return []card.Partition{p}
	case slot == "both":
		return []card.Partition{p.On("a"), p.On("b")}
	case slot == "a" || slot == "b":
		return []card.Partition{p.On(slot)}
	}
	return nil
}

// MaxFile bounds a model file, in bytes.
const MaxFile = 1 << 20

// Parse reads one model file; fields it does not know are an error, so that a
// typing mistake is not a silent gap.
func Parse(b []byte) (*Model, error) {
	if len(b) > MaxFile {
		return nil, fmt.Errorf("a model file of %d bytes is too large", len(b))
	}
	m := &Model{}
	if err := spell.Strict(bytes.NewReader(b), m); errors.Is(err, io.EOF) {
		return nil, errors.New("model file: it is empty")
	} else if err != nil {
		return nil, fmt.Errorf("model file: %w", err)
	}
	if m.Name == "" {
		return nil, fmt.Errorf("model file: the line \"model: NAME\" is missing")
	}
	if _, ok := card.ParseBytes(m.Group); m.Group != "" && !ok {
		return nil, fmt.Errorf("model file %s: group-size %q is not a size such as 6GiB", m.Name, m.Group)
	}
	for name := range m.Facts {
		if _, err := card.ParseID(name); err != nil {
			return nil, fmt.Errorf("model file %s: %w", m.Name, err)
		}
	}
	for name, size := range m.Partitions {
		if n, ok := card.ParseBytes(size); !ok || n <= 0 || len(partitionsOf(name)) == 0 {
			return nil, fmt.Errorf("model file %s: partitions: %q: %q is not a partition (boot, boot@a, "+
				"boot@both) "+
				"with a size such as 16MiB", m.Name, name, size)
		}
	}
	if err := m.harmless(); err != nil {
		return nil, fmt.Errorf("model file %s: %w", m.Name, err)
	}
	m.Recovery.Partition = card.Part(m.Recovery.Partition).String()
	for _, list := range [][]string{m.Recovery.Needs, m.Logical, m.Firmware, m.Order, m.Risky} {
		for i, name := range list { // in letters of any case, as everywhere
			list[i] = card.Part(name).String()
		}
	}
	return m, nil
}

// Unlocks are the commands that unlock a bootloader: the published one ("Locking and unlocking the
// bootloader" in the platform's documentation), and the one from before it.
var Unlocks = []string{"flashing unlock", "oem unlock"}

// harmless refuses what would reach a phone as a command or as a part of one: a model file may come from
// anybody, and only describes.
func (m *Model) harmless() error {
	if u := m.Bootloader.Unlock; u != "" && !slices.Contains(Unlocks, u) {
		return fmt.Errorf("bootloader: unlock: %q is not one of %s", u, strings.Join(Unlocks, ", "))
	}
	if m.Base != nil && m.Base.Variable != "" && !IsName(m.Base.Variable) {
		return fmt.Errorf("base: variable: %q is not a variable's name", m.Base.Variable)
	}
	for key, list := range map[string][]string{"recovery: partition": {m.Recovery.Partition},
		"recovery: needs": m.Recovery.Needs, "logical": m.Logical, "firmware": m.Firmware, "order": m.Order,
		"risky": m.Risky, "partitions": slices.Collect(maps.Keys(m.Partitions))} {
		for _, name := range list {
			if base, _, _ := strings.Cut(name, "@"); name != "" && !IsName(base) {
				return fmt.Errorf("%s: %q is not a partition's name", key, name)
			}
		}
	}
	return nil
}

// IsName reports whether a text is a name of a partition or a variable: letters, digits and - _ . alone.
func IsName(s string) bool {
	return s != "" && !strings.HasPrefix(s, "-") && strings.IndexFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' ||
			strings.ContainsRune("-_.", r))
	}) < 0
}

//go:embed models/*.yaml
var builtin embed.FS

// Source gives the text of a built-in model file.
func Source(name string) ([]byte, error) { return builtin.ReadFile("models/" + name + ".yaml") }

// Set is the models that are known, the person's own before the built-in ones.
type Set []*Model

// builtins are read once: a program may look at the models at every phone it meets.
var builtins = sync.OnceValues(func() (Set, error) { return read(builtin, "models/*.yaml") })

// Load reads the built-in models and those of dir (nil: none), whose files
// end in .yaml. A damaged own file is an error that names it. The built-in ones are
// the same each time, and nobody changes what a model says.
func Load(dir fs.FS) (set Set, err error) {
	if dir != nil {
		if set, err = read(dir, "*.yaml"); err != nil {
			return nil, err
		}
	}
	more, err := builtins()
	return append(set, more...), err
}

func read(f fs.FS, pattern string) (set Set, err error) {
	names, err := fs.Glob(f, pattern)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		// What is no file may never open, and what is larger is no model file.
		if st, err := fs.Stat(f, name); err != nil || !st.Mode().IsRegular() || st.Size() > MaxFile {
			return nil, fmt.Errorf("%s is no model file: a file of up to %d bytes is wanted", path.Base(name),
				MaxFile)
		}
		b, err := fs.ReadFile(f, name)
		if err != nil {
			return nil, err
		}
		m, err := Parse(b)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path.Base(name), err)
		}
		set = append(set, m)
	}
	return set, nil
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

// Names are what the models are called, in their order.
func (s Set) Names() (names []string) {
	for _, m := range s {
		names = append(names, m.Name)
	}
	return names
}

// Same reports whether two names mean the same model, and whether that can be
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

// HasLoader reports whether the phone has its manufacturer's loader instead of fastboot.
func (m *Model) HasLoader() bool { return m != nil && m.Loader != nil }

// OfLoader gives the model whose manufacturer's loader shows itself on USB by these numbers, VENDOR:PRODUCT
// in hex; nil when none is known for them.
func (s Set) OfLoader(usb string) *Model {
	for _, m := range s {
		if m.HasLoader() && slices.ContainsFunc(m.Loader.USB, func(s string) bool {
			return strings.EqualFold(s, usb)
		}) {
			return m
		}
	}
	return nil
}

// RestoresRecovery reports whether a phone with a loader is known for a system that writes its manufacturer's
// recovery back each time it starts.
func (m *Model) RestoresRecovery() bool { return m.HasLoader() && m.Loader.Restores }

// NeededBefore gives the partitions a third-party recovery needs written first.
func (m *Model) NeededBefore() []string {
	if m == nil {
		return nil
	}
	return m.Recovery.Needs
}

// Questions gives the model file's questions.
func (m *Model) Questions() []string {
	if m == nil {
		return nil
	}
	return m.Ask
}
