package plan

import (
	"slices"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

// What a step is checked by has to be read where the mode reports it. One reader gets
// what all steps need; a fact that can't be read stays as it is known.

func (base) Needs(*card.Card, *model.Model) []card.ID { return nil }

// Needs: whether the partition is there, and how large; and those of the images a
// recovery needs written before it.
func (w *Write) Needs(_ *card.Card, m *model.Model) []card.ID {
	list := []card.ID{card.FactSize.Of(w.Name()), card.FactSize.Of(card.At("vbmeta", w.Slot))}
	if slices.Contains(place.Shelvable, w.Partition) && !w.Sealed {
		list = append(list, card.FactFlags.Of(card.At("vbmeta", w.Slot)))
	}
	if w.File.HoldsRecovery() {
		for _, base := range m.NeededBefore() {
			list = append(list, card.FactSize.Of(card.At(base, w.Slot)))
		}
	}
	return list
}

// Needs: the sizes of what is written.
func (g *Graft) Needs(c *card.Card, m *model.Model) (list []card.ID) {
	for _, w := range g.Into {
		list = append(list, w.Needs(c, m)...)
	}
	return list
}

// Needs: how full super is.
func (r *MakeRoom) Needs(*card.Card, *model.Model) []card.ID {
	return []card.ID{card.FactSize.Of(r.Name())}
}

// dataNeeds are what is lost with the owner's data.
func dataNeeds() []card.ID {
	return []card.ID{card.FactSize.Of(card.At("userdata", "")), card.FactSize.Of(card.At("metadata", "")),
		card.FactLying.Of("storage")}
}

// Needs: what is in the data.
func (*FormatData) Needs(*card.Card, *model.Model) []card.ID { return dataNeeds() }

// Needs: whether the partition is there; what is in the data.
func (e *Erase) Needs(*card.Card, *model.Model) []card.ID {
	if ownersData(e.Partition) {
		return dataNeeds()
	}
	return []card.ID{card.FactSize.Of(e.Name())}
}

// Needs: what is in the storage, or whether the partition is there.
func (w *WipeArea) Needs(*card.Card, *model.Model) []card.ID {
	if p, whole := w.Partition(); whole {
		return []card.ID{card.FactSize.Of(p)}
	}
	switch w.Area {
	case "storage":
		return []card.ID{card.FactMounted.Of("storage"), card.FactLying.Of("storage")}
	case "caches":
		return []card.ID{card.FactMounted.Of("data"), card.FactSize.Of(card.At("cache", ""))}
	case "apps":
		return []card.ID{card.FactMounted.Of("data")}
	}
	return nil
}

// Needs: whether it may be unlocked, and what is in the data.
func (*Unlock) Needs(*card.Card, *model.Model) []card.ID {
	return append(dataNeeds(), card.FactMayUnlock.ID())
}

// Needs: what is in the data.
func (*Relock) Needs(*card.Card, *model.Model) []card.ID { return dataNeeds() }

// firmwareNeeds are the digests of the manufacturer's firmware on both slots.
func firmwareNeeds(m *model.Model) (list []card.ID) {
	if m == nil {
		return nil
	}
	for _, base := range m.Firmware {
		for _, slot := range []string{"a", "b"} {
			list = append(list, card.FactDigest.Of(card.At(base, slot)))
		}
	}
	return list
}

// Needs: the manufacturer's firmware on both slots.
func (*Activate) Needs(_ *card.Card, m *model.Model) []card.ID { return firmwareNeeds(m) }

// Needs: whose packages the recovery takes; of an add-on the room for it, of a ROM the
// firmware it starts on.
func (s *Sideload) Needs(c *card.Card, m *model.Model) []card.ID {
	list := []card.ID{card.FactTrusts.ID()}
	if s.File.Kind == ident.OTAAB {
		return append(list, firmwareNeeds(m)...)
	}
	return append(list, card.FactRoom.Of(card.At("system", c.Value(card.FactStarted))),
		card.FactRelease.Of(c.Value(card.FactStarted)),
		card.FactTree.Of(card.At("system", c.Value(card.FactStarted))))
}

// Needs are those of sending it.
func (p *InstallFrom) Needs(c *card.Card, m *model.Model) []card.ID {
	return (&Sideload{File: p.File}).Needs(c, m)
}

// Needs: the room there.
func (p *Put) Needs(*card.Card, *model.Model) []card.ID {
	return []card.ID{card.FactMounted.Of(p.To), card.FactFree.Of(p.To)}
}

// Needs: the room there.
func (r *RestoreFiles) Needs(*card.Card, *model.Model) []card.ID {
	return []card.ID{card.FactMounted.Of("storage"), card.FactFree.Of("storage")}
}

// Needs: whether both are there, alike.
func (s *CopySlot) Needs(*card.Card, *model.Model) []card.ID {
	return []card.ID{card.FactSize.Of(s.Source()), card.FactSize.Of(s.Target())}
}

// Needs: which hash trees are enforced.
func (s *Shelve) Needs(*card.Card, *model.Model) (list []card.ID) {
	for _, i := range s.Items {
		list = append(list, card.FactTree.Of(i.Partition))
	}
	return list
}

// Needs gives the facts all steps are checked by.
func (p *Plan) Needs(c *card.Card) []card.ID {
	c = c.Clone()
	var list []card.ID
	for _, s := range p.Steps {
		for _, i := range s.Needs(c, p.Model) {
			if !slices.Contains(list, i) {
				list = append(list, i)
			}
		}
		Apply(s, c)
	}
	return list
}
