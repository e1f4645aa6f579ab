package place

import (
	"fmt"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
)

// ModelContradictions are the findings about facts of the phone itself, which no system on it changes, that
// were read or concluded and that its model file states otherwise.
func ModelContradictions(c *card.Card, m *model.Model) (list []finding.Finding) {
	stated := &card.Card{}
	m.Learn(stated)
	slots := func(v string) string { return strings.Replace(v, "0", "1", 1) } // both mean: no slots
	for _, i := range []card.Plain{card.FactSlots} {
		says, f := stated.Value(i), c.Get(i)
		if says == "" || !f.Known() || f.Evidence == card.Model || slots(says) == slots(f.Value) {
			continue
		}
		d, _ := i.ID().Def()
		why := "the phone reports"
		if f.Evidence == card.Concluded {
			why = f.Why + ", which means"
		}
		list = append(list, finding.Warns(finding.ModelContradicted, m.Name,
			fmt.Sprintf("model file %s states %s: %s, and %s %s", m.Name, d.Label, says, why, f.Value),
			"correct the model file; until then the phone's own report is used"))
	}
	return list
}
