package place

import (
	"fmt"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
)

// ModelContradictions are the findings about what a phone reports, or what follows from it, and its model
// file states otherwise: its slots, which no system on it changes.
func ModelContradictions(c *card.Card, m *model.Model) []finding.Finding {
	f := c.Get(card.FactSlots)
	slots, known := c.Slots()
	if m == nil || m.Slots == 0 || !known || f.Source == card.Model || max(len(slots), 1) == m.Slots {
		return nil
	}
	why := "the phone reports"
	if f.Source == card.Concluded {
		why = f.Why + ", which means"
	}
	return []finding.Finding{finding.Warns(finding.ModelContradicted, m.Name,
		fmt.Sprintf("model file %s states slots: %d, and %s %s", m.Name, m.Slots, why, f.Value),
		"correct the model file; until then the phone's own report is used")}
}
