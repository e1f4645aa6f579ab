package plan

import (
	"slices"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/place"
	"jarlid/internal/core/spell"
)

// Cost is what steps lose and keep together, in words; what one of them changes is not kept by the others.
type Cost struct {
	Lost, Kept []string
	changed    []string
}

// Add puts the cost of further steps into it.
func (t *Cost) Add(o Cost) {
	t.Lost, t.Kept = spell.Once(t.Lost, o.Lost...), spell.Once(t.Kept, o.Kept...)
	t.changed = spell.Once(t.changed, o.changed...)
	t.Kept = slices.DeleteFunc(t.Kept, func(s string) bool { return slices.Contains(t.changed, s) })
}

// KeptWords are the sentences that say what is kept: the parts of the phone in one.
func (t *Cost) KeptWords() (list []string) {
	var parts []string
	for _, s := range t.Kept {
		if s == keptSystem || s == keptRecovery || s == keptBootloader {
			parts = append(parts, s)
		} else {
			list = append(list, s)
		}
	}
	if len(parts) > 0 {
		list = slices.Insert(list, 0, spell.And(parts))
	}
	return list
}

// CostOf gives what a step loses and keeps.
func CostOf(s Step, c *card.Card) Cost {
	lost, kept := s.Cost()
	t := Cost{Lost: lost, Kept: slices.Clone(kept)}
	for _, l := range lost {
		if is := map[string]string{lostApps: keptApps, lostStorage: keptStorage}[l]; is != "" {
			t.changed = append(t.changed, is)
		}
	}
	home := place.RecoveryHome(c).Partition
	for _, p := range s.Writes(c) {
		switch {
		case p.Base == home, p.Base == "recovery":
			t.changed = append(t.changed, keptRecovery)
		case ident.Risky(p.Base):
			t.changed = append(t.changed, keptBootloader)
		}
		if slices.Contains(place.Dynamic, p.Base) || p.Base == "super" || p.Base == "boot" {
			t.changed = append(t.changed, keptSystem)
		}
	}
	if f := s.Installs(); f != nil && f.IsROM() {
		t.changed = append(t.changed, keptSystem)
	}
	return t
}
