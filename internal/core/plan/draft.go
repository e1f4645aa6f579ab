package plan

import (
	"fmt"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/place"
)

// DraftModel writes a model file from what a phone reports, to be completed by a
// person. marshal writes YAML.
func DraftModel(c *card.Card, home place.Home, marshal func(any) ([]byte, error)) (string, error) {
	name := c.Value(card.FactModel)
	if name == "" {
		name = c.Value(card.FactProduct)
	}
	if name == "" {
		return "", fmt.Errorf("the phone does not say what it is called, so there is nothing to begin a " +
			"model file with")
	}
	put := func(v any) string {
		b, err := marshal(v)
		if err != nil {
			return "# " + err.Error() + "\n"
		}
		return string(b)
	}
	var s strings.Builder
	s.WriteString("# A draft from what the phone told. Lines with # are to be completed or left out.\n")
	s.WriteString(put(map[string]string{"model": strings.ToLower(name)}))
	s.WriteString("# title: Maker and model as people write it\n")
	if p := c.Value(card.FactProduct); p != "" && !strings.EqualFold(p, name) {
		s.WriteString(put(map[string][]string{"aliases": {p}}))
	} else {
		s.WriteString("# aliases: [other names in files and modes]\n")
	}
	s.WriteString("# twins: [models that look the same and are not]\n")
	if slots, known := c.Slots(); known {
		if f := c.Get(card.FactSlots); f.Source == card.Concluded {
			fmt.Fprintf(&s, "# %s\n", f.Why)
		}
		s.WriteString(put(map[string]int{"slots": max(len(slots), 1)}))
	} else {
		s.WriteString("# slots: 1 or 2\n")
	}
	if home.Partition != "" {
		fmt.Fprintf(&s, "# %s\n", home.Why)
		s.WriteString(put(map[string]map[string]string{"recovery": {"partition": home.Partition}}))
	} else {
		s.WriteString("# recovery:\n#   partition: where the recovery lives\n")
	}
	var logical []string
	for _, p := range c.Partitions() {
		if p.Logical && p.Partition().Slot != "b" {
			logical = append(logical, p.Partition().Base)
		}
	}
	if len(logical) > 0 {
		s.WriteString(put(map[string][]string{"logical": logical}))
	}
	if n, ok := c.Number(card.FactGroupMax); ok {
		s.WriteString(put(map[string]string{"group-size": fmt.Sprint(n)}))
	}
	facts := map[string]string{}
	for _, f := range []card.Plain{card.FactCPU, card.FactTreble, card.FactVNDK, card.FactFirstAPI} {
		if v := c.Value(f); v != "" {
			facts[f.ID().String()] = v
		}
	}
	if len(facts) > 0 {
		s.WriteString(put(map[string]any{"facts": facts}))
	}
	s.WriteString("# quirks: [what surprises people, a sentence each]\nhands:\n")
	for _, mode := range []string{"bootloader", "recovery", "system"} {
		fmt.Fprintf(&s, "  %s:\n    do:\n      - Write here what to press to reach %s, a sentence a line.\n",
			mode, mode)
	}
	return s.String(), nil
}
