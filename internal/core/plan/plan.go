// Package plan turns a wish, files and a card into steps and findings. It
// computes only; package bench carries the steps out.
package plan

import (
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

// Plan is a job: the steps in their order and everything they are checked by.
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
				to = card.Loader // instead of a bootloader
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

// Check gives the findings of all steps, each checked by the facts as the
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
	return Moot(list, c)
}

// Moot leaves out of findings what later steps mend: a recovery that is replaced, and set again. c is the card
// afterwards.
func Moot(list []finding.Finding, c *card.Card) []finding.Finding {
	home := place.RecoveryHome(c).Partition
	return slices.DeleteFunc(list, func(f finding.Finding) bool {
		if p := card.Part(f.About); p.Base == home {
			return f.Name == finding.RecoveryReplaced && c.Get(card.FactSet.Of(p)).Known()
		}
		return f.Name == finding.RecoveryReplaced && place.RecoverySet(c)
	})
}

// Cost gives what all steps lose and keep together on a phone.
func (p *Plan) Cost(c *card.Card) (all Cost) {
	c = c.Clone()
	for _, s := range p.Steps {
		all.Add(CostOf(s, c))
		Apply(s, c)
	}
	return all
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
	otherSlot(before, c)
	for _, p := range writes { // a recovery that is set mends no start, in whichever partition it lives
		if failed := card.FactFailed.Of(p.Slot); c.Get(card.FactSet.Of(p)).Known() &&
			before.Get(failed).Known() {
			c.Set(failed, before.Get(failed))
		}
	}
	c.Conclude()
}

// otherSlot makes unknown what is kept of the system of one slot, where another slot counts from now on.
func otherSlot(before, after *card.Card) {
	was, is := before.Running(), after.Running()
	if was == is || was == "" || is == "" {
		return
	}
	for _, i := range after.IDs() {
		d, _ := i.Def()
		f := after.Get(i)
		if d.By == "" && f == before.Get(i) && (f.Source == card.Read || f.Source == card.Journal) &&
			(i.LearntFrom(card.At("system", was), was) || i.LearntFrom(card.At("vendor", was), was) ||
				i.LearntFrom(card.At("boot", was), was)) {
			after.Forget(i, "it is known of slot "+was)
		}
	}
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
