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
	start := c
	c = c.Clone()
	var list []finding.Finding
	for _, s := range p.Steps {
		writes := s.Writes(c)
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
		list = Moot(list, recoveries(writes, c))
	}
	for i, f := range list {
		if f.Name == finding.NoBackup {
			list[i] = noBackup(start) // which can still be taken before the first step
		}
	}
	return list
}

// Moot leaves out the findings about a recovery that is replaced, once a later step sets it again: on the
// slot that they name, where they name one.
func Moot(list []finding.Finding, set []card.Partition) []finding.Finding {
	return slices.DeleteFunc(list, func(f finding.Finding) bool {
		return f.Name == finding.RecoveryReplaced && slices.ContainsFunc(set, func(p card.Partition) bool {
			about := card.Part(f.About)
			return about.Base != p.Base || about == p
		})
	})
}

// recoveries gives the partitions of a step that now hold a recovery a job installed; c is the card after it.
func recoveries(writes []card.Partition, c *card.Card) []card.Partition {
	home := place.RecoveryHome(c).Partition
	return slices.DeleteFunc(slices.Clone(writes), func(p card.Partition) bool {
		return p.Base != home || !c.Get(card.FactSet.Of(p)).Known()
	})
}

// SetsRecovery gives the partitions that the plan leaves with a recovery of the person's choice.
func (p *Plan) SetsRecovery(c *card.Card) (set []card.Partition) {
	c = c.Clone()
	for _, s := range p.Steps {
		writes := s.Writes(c)
		Apply(s, c)
		set = append(set, recoveries(writes, c)...)
	}
	return set
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
