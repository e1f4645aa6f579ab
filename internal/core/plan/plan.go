// Package plan turns a wish, files and a card into steps and findings. It
// computes only; package bench carries the steps out.
package plan

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

// Step is one thing done to a phone.
type Step interface {
	// Title says in a few words what is done.
	Title() string
	// Modes are the modes it can be done in, the preferred one first; none:
	// in any.
	Modes() []card.Mode
	// Needs are the facts it is judged by that have to be read where they can be.
	Needs(c *card.Card, m *model.Model) []card.ID
	// Check gives the findings from the facts. It is called for all steps
	// before the first one acts, and again just before this one does.
	Check(c *card.Card, m *model.Model, all model.Set) []finding.Finding
	// Effects changes the facts as the step will change the phone, beyond what
	// follows from Writes.
	Effects(c *card.Card)
	// Writes are the partitions whose contents the step changes as a whole:
	// everything learnt from them is unknown then, unless Effects knows better.
	Writes(c *card.Card) []card.Partition
	// Touches are further facts nobody can know while the step is under way.
	Touches(c *card.Card) []card.ID
	// Cost says what is lost and what is kept.
	Cost() (lost, kept []string)
	// Sends are the files whose bytes go to the phone. Each is verified before anything acts.
	Sends() []Sent
	// Changes reports whether it changes what is on the phone, so that it is asked for.
	Changes() bool
	// ByHand is the name of the recipe for somebody at the phone, where the step is known beforehand to need
	// one; "" where it needs nobody, or where only trying shows it.
	ByHand(c *card.Card) string
	// Estimate gives how many bytes it sends, and about how long it takes by itself.
	Estimate(c *card.Card) (bytes int64, takes time.Duration)
	// Decides is what it decides that another task of a sheet may decide otherwise.
	Decides() Decision
}

// Decision is what a step decides. Two tasks of a sheet that decide one thing differently, without a boot
// between them, contradict each other.
type Decision struct {
	What string // in words behind "task 3", as "writes boot_a"; "" for nothing
	How  string // equal for equal decisions; "" never is
	Ends bool   // the phone boots: what was decided before can't be undone any more
}

// Sent is a file that a step sends.
type Sent struct {
	File  *ident.File
	Label string // what a person calls it
	// Made says that Jar Lid made it from verified files, or read it from this phone: a footer or signature
	// that belongs to other contents is no news then.
	Made bool
}

// sent is a file that is called by its own name.
func sent(f *ident.File) []Sent { return []Sent{{File: f, Label: place.FileName(f.Path)}} }

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
			to := modes[0]
			if slices.Contains(modes, card.Loader) && place.ImageMode(c, m) == card.Loader {
				to = card.Loader // in the place of a bootloader
			}
			p.Steps = append(p.Steps, way(mode, to)...)
			if r, ok := p.Steps[len(p.Steps)-1].(*Restart); ok {
				send, ok := s.(*Sideload)
				r.rom = ok && send.File.IsROM()
			}
			mode = to
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
func (p *Plan) Check(c *card.Card) []finding.Finding { return p.CheckBut(c, nil) }

// CheckBut does so, and leaves out the steps that skip names, whose effects count all the same: what a
// damaged file says about itself is no finding of its own.
func (p *Plan) CheckBut(c *card.Card, skip func(Step) bool) []finding.Finding {
	c = c.Clone()
	var list []finding.Finding
	for _, s := range p.Steps {
		if skip != nil && skip(s) {
			Apply(s, c)
			continue
		}
		for _, f := range s.Check(c, p.Model, p.Models) {
			if !slices.ContainsFunc(list, func(o finding.Finding) bool {
				return o.Name == f.Name && o.About == f.About
			}) {
				list = append(list, f)
			}
		}
		Apply(s, c)
	}
	return list
}

// Apply changes the facts as a step changes the phone: what was learnt from the
// partitions it writes is unknown, but for what the step knows of them now.
func Apply(s Step, c *card.Card) {
	before := c.Clone()
	writes := s.Writes(c)
	for _, p := range writes {
		c.Written(p, "it was written since: "+s.Title())
	}
	s.Effects(c)
	noteSystems(writes, before, c)
}

// Unsure gives the facts nobody can know while a step is under way.
func Unsure(s Step, c *card.Card) []card.ID {
	list := s.Touches(c)
	for _, p := range s.Writes(c) {
		list = append(append(list, c.LearntFrom(p)...), card.FactHolds.Of(p), card.FactDigest.Of(p))
	}
	slices.SortFunc(list, func(a, b card.ID) int { return strings.Compare(a.String(), b.String()) })
	return slices.Compact(list)
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
func (base) Effects(*card.Card)                 {}
func (base) Writes(*card.Card) []card.Partition { return nil }
func (base) Touches(*card.Card) []card.ID       { return nil }
func (base) Cost() (lost, kept []string)        { return nil, nil }
func (base) Sends() []Sent                      { return nil }
func (base) Changes() bool                      { return true }
func (base) ByHand(*card.Card) string           { return "" }
func (base) Decides() Decision                  { return Decision{} }

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
		text := place.FileName(f.Path) + " does not say for which phone it is"
		if have == "" {
			text = "the phone does not say which model it is, " + place.FileName(f.Path) + " is for " +
				strings.Join(want, " or ")
		}
		if len(want) == 0 && have == "" {
			text = "neither the file nor the phone says which model it is"
		}
		return []finding.Finding{{Name: finding.WrongModel, Severity: finding.Warn,
			About: place.FileName(f.Path), Text: text,
			Remedy: "make sure yourself that the file is for this very phone"}}
	}
	if m != nil {
		for _, w := range want {
			if slices.ContainsFunc(m.Twins, func(t string) bool { return strings.EqualFold(t, w) }) {
				return []finding.Finding{{Name: finding.WrongVariant, Severity: finding.Stop,
					About: place.FileName(f.Path),
					Text: fmt.Sprintf("the file is for %s, a twin of this phone (%s) that is built "+
						"differently inside", w, have), Remedy: "fetch the file made for " + have}}
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
		sev, text = finding.Warn, text+", and no model file says whether that is the same"
	}
	return []finding.Finding{{Name: finding.WrongModel, Severity: sev, About: place.FileName(f.Path),
		Text:   text,
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
	return f.Generic()
}
