package plan

import (
	"fmt"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/place"
)

// layoutFindings hold what a package writes against the partitions the phone has: one that was made for
// phones with one slot finds nothing by its names on a phone with two, and the reverse.
func layoutFindings(f *ident.File, c *card.Card) []finding.Finding {
	slots, told := c.Slots()
	x := finding.Finding{Name: finding.NoSuchPartition, Severity: finding.Stop, About: place.FileName(f.Path),
		Remedy: "fetch the package made for this very phone; jarlid card shows what it has"}
	if f.Package != nil && f.Package.Payload != nil {
		if !told || len(slots) > 0 {
			return nil // what is lacking there its updater makes, or says
		}
		x.Text = "it is an A/B package, which installs to the slot that does not run, and this phone has " +
			"one slot"
		return []finding.Finding{x}
	}
	var lacking, has []string
	for _, name := range f.Written {
		p := card.Part(name)
		switch {
		case c.Value(card.FactSize.Of(p)) == card.Nothing:
			lacking = append(lacking, name)
		case p.Slot != "" && told && len(slots) == 0:
			lacking, has = append(lacking, name), append(has, p.Base)
		case p.Slot == "" && len(slots) > 0 && place.Slotted(c, p.Base):
			lacking, has = append(lacking, name), append(has, p.On("a").String())
		}
	}
	if len(lacking) == 0 {
		return nil
	}
	x.Text = fmt.Sprintf("it writes %s, which this phone does not have", strings.Join(lacking, ", "))
	if len(has) > 0 {
		x.Text += fmt.Sprintf(" (it has %s): it was made for phones with %s", strings.Join(has, ", "),
			map[bool]string{true: "one slot", false: "two slots"}[len(slots) > 0])
	}
	return []finding.Finding{x}
}
