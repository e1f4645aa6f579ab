// Package plan turns a wish, files and a card into steps and findings. It
// computes only; package bench carries the steps out.
package plan

import (
	"fmt"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/model"
)

// Step is one thing done to a phone.
type Step interface {
	// Title says in a few words what is done.
	Title() string
	// Modes are the modes it can be done in, the preferred one first; none:
	// in any.
	Modes() []card.Mode
	// Check gives the findings from the facts. It is called for all steps
	// before the first one acts, and again just before this one does.
	Check(c *card.Card, m *model.Model, all model.Set) []finding.Finding
	// Effects changes the facts as the step will change the phone.
	Effects(c *card.Card)
	// Touches are the facts nobody can know while the step is under way.
	Touches(c *card.Card) []string
	// Cost says what is lost and what is kept.
	Cost() (lost, kept []string)
}

// Plan is a job: the steps in their order and everything they are judged by.
type Plan struct {
	Steps  []Step
	Model  *model.Model
	Models model.Set
}

// Compile puts the restarts between the steps that they need, seen from the
// mode the phone is in now.
func Compile(c *card.Card, m *model.Model, all model.Set, wish ...Step) *Plan {
	p := &Plan{Model: m, Models: all}
	mode := c.Mode()
	for _, s := range wish {
		if modes := s.Modes(); len(modes) > 0 && !slices.Contains(modes, mode) {
			p.Steps = append(p.Steps, way(mode, modes[0])...)
			mode = modes[0]
		}
		if r, ok := s.(*Restart); ok {
			p.Steps = append(p.Steps, way(mode, r.To)...)
			mode = r.To
			continue
		}
		p.Steps = append(p.Steps, s)
		if e, ok := s.(interface{ Ends() card.Mode }); ok && e.Ends() != card.None {
			mode = e.Ends()
		}
	}
	return p
}

// way gives the restarts from one mode to another: sideload is a mode of the
// recovery, so from the bootloader there are two.
func way(from, to card.Mode) []Step {
	if to == card.Sideload && from != card.Recovery && from != card.Sideload && from != card.None {
		return []Step{&Restart{From: from, To: card.Recovery}, &Restart{From: card.Recovery, To: to}}
	}
	return []Step{&Restart{From: from, To: to}}
}

// Check gives the findings of all steps, each judged by the facts as the
// steps before it will have left them.
func (p *Plan) Check(c *card.Card) []finding.Finding {
	c = c.Clone()
	var list []finding.Finding
	for _, s := range p.Steps {
		for _, f := range s.Check(c, p.Model, p.Models) {
			if !slices.ContainsFunc(list, func(o finding.Finding) bool { return o.Name == f.Name && o.About == f.About }) {
				list = append(list, f)
			}
		}
		s.Effects(c)
	}
	return list
}

// Cost gives what all steps lose and keep together.
func (p *Plan) Cost() (lost, kept []string) {
	for _, s := range p.Steps {
		l, k := s.Cost()
		lost, kept = append(lost, l...), append(kept, k...)
	}
	return lost, kept
}

// base is the parts of a step that most steps leave empty.
type base struct{}

func (base) Modes() []card.Mode { return nil }
func (base) Check(*card.Card, *model.Model, model.Set) []finding.Finding {
	return nil
}
func (base) Effects(*card.Card)          {}
func (base) Touches(*card.Card) []string { return nil }
func (base) Cost() (lost, kept []string) { return nil, nil }

// Suffixed gives a partition's name on a slot, as the bootloader knows it.
func Suffixed(partition, slot string) string {
	if slot == "" {
		return partition
	}
	return partition + "_" + slot
}

// Target is a destination as a person writes it: PARTITION@SLOT.
type Target struct{ Partition, Slot string }

// ParseTarget reads PARTITION, PARTITION@SLOT or @SLOT.
func ParseTarget(s string) (Target, error) {
	p, slot, cut := strings.Cut(s, "@")
	switch slot {
	case "a", "b", "both", "current", "other":
	case "":
		if cut {
			return Target{}, fmt.Errorf("%q names no slot behind the @: a, b, both, current or other", s)
		}
	default:
		return Target{}, fmt.Errorf("%q is not a slot: a, b, both, current or other", slot)
	}
	return Target{Partition: p, Slot: slot}, nil
}

// SlotsOf gives the slots a target means on this phone: the empty string alone
// where there are no slots.
func (t Target) SlotsOf(c *card.Card) ([]string, error) {
	all, known := c.Slots()
	if !known {
		return nil, fmt.Errorf("this phone does not say whether it has slots; name the partition with its suffix, or put the number of slots into its model file")
	}
	if len(all) == 0 {
		if t.Slot != "" && t.Slot != "both" {
			return nil, fmt.Errorf("this phone has no slots, so there is no %s@%s", t.Partition, t.Slot)
		}
		return []string{""}, nil
	}
	// "current" is the slot that is running; in the bootloader, where none
	// is, it is the one that would start.
	current := c.Value(card.FactStarted)
	if current == "" {
		current = c.Value(card.FactNext)
	}
	switch t.Slot {
	case "", "both":
		return all, nil
	case "current", "other":
		if current == "" {
			return nil, fmt.Errorf("this phone does not say which slot is current; name a or b")
		}
		if t.Slot == "other" {
			return []string{card.Other(current)}, nil
		}
		return []string{current}, nil
	}
	if !slices.Contains(all, t.Slot) {
		return nil, fmt.Errorf("this phone has no slot %s", t.Slot)
	}
	return []string{t.Slot}, nil
}

// modelFinding holds a file against the phone's model.
func modelFinding(f *ident.File, c *card.Card, m *model.Model, all model.Set) []finding.Finding {
	want := f.Models()
	have := c.Value(card.FactModel)
	if have == "" {
		have = c.Value(card.FactProduct)
	}
	if len(want) == 0 && anyPhone(f) {
		return nil
	}
	if len(want) == 0 || have == "" {
		text := fileName(f.Path) + " does not say for which phone it is"
		if have == "" {
			text = "the phone does not say which model it is, " + fileName(f.Path) + " is for " + strings.Join(want, " or ")
		}
		if len(want) == 0 && have == "" {
			text = "neither the file nor the phone says which model it is"
		}
		return []finding.Finding{{Name: finding.WrongModel, Severity: finding.Care, About: fileName(f.Path), Text: text,
			Remedy: "make sure yourself that the file is for this very phone"}}
	}
	if m != nil {
		for _, w := range want {
			if slices.ContainsFunc(m.Twins, func(t string) bool { return strings.EqualFold(t, w) }) {
				return []finding.Finding{{Name: finding.WrongVariant, Severity: finding.Stop, About: fileName(f.Path),
					Text: fmt.Sprintf("the file is for %s, a twin of this phone (%s) that is built differently inside", w, have), Remedy: "fetch the file made for " + have}}
			}
		}
	}
	doubt := false
	for _, w := range want {
		same, known := all.Same(w, have)
		if same {
			return nil
		}
		doubt = doubt || !known
	}
	text := fmt.Sprintf("the file is for %s, this phone is %s", strings.Join(want, " or "), have)
	sev := finding.Stop
	if doubt {
		// Neither name is in a model file: it may be another spelling.
		sev, text = finding.Care, text+", and no model file says whether that is the same"
	}
	return []finding.Finding{{Name: finding.WrongModel, Severity: sev, About: fileName(f.Path), Text: text,
		Remedy: "fetch the file made for " + have}}
}

// anyPhone tells of images that never say for which phone they are, so that
// their silence means nothing.
func anyPhone(f *ident.File) bool {
	switch f.Kind {
	case ident.VBMeta, ident.DTBO, ident.DTB, ident.Super, ident.F2FS, ident.VendorKernelBoot:
		return true
	}
	// A kernel alone, as on phones with init_boot, is generic too.
	if f.Kind == ident.Boot && f.Boot != nil && f.Boot.Section("ramdisk").Size == 0 {
		return true
	}
	return strings.HasPrefix(ident.DeviceOf(f.Props), "generic")
}

// CutShort is the finding about a file that ends too early.
func CutShort(f *ident.File) []finding.Finding {
	if !f.Short {
		return nil
	}
	return []finding.Finding{{Name: finding.DownloadCutShort, Severity: finding.Stop, About: fileName(f.Path), Final: true,
		Text: f.Damage, Remedy: "fetch the file again and compare its size or digest"}}
}

// fileName is how a finding names a file: its last element.
func fileName(p string) string {
	if i := strings.LastIndexAny(p, `/\`); i >= 0 {
		return p[i+1:]
	}
	return p
}
