package place

import (
	"fmt"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
)

// ModelContradictions are the findings about what a phone reports, or what follows from it, and its model
// file states otherwise: its slots and its recovery's partition, which no system on it changes.
func ModelContradictions(c *card.Card, m *model.Model) (list []finding.Finding) {
	if m == nil {
		return nil
	}
	contradicted := func(line string, fact card.Which, agrees bool) {
		f := c.Get(fact)
		if !f.Known() || f.Source == card.Model || f.Rests == card.Usual || agrees {
			return
		}
		why := "the phone reports"
		if f.Source == card.Concluded {
			why = f.Why + ", which means"
		}
		list = append(list, finding.Warns(finding.ModelContradicted, m.Name,
			fmt.Sprintf("model file %s states %s, and %s %s", m.Name, line, why, f.Value),
			"correct the model file; until then the phone's own report is used"))
	}
	slots, known := c.Slots()
	contradicted(fmt.Sprintf("slots: %d", m.Slots), card.FactSlots,
		m.Slots == 0 || !known || max(len(slots), 1) == m.Slots)
	home := m.Recovery.Partition
	contradicted("recovery: "+home, card.FactHome,
		home == "" || strings.EqualFold(home, c.Value(card.FactHome)))
	return list
}
