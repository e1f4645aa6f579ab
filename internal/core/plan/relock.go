package plan

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

// Relock locks the bootloader again.
type Relock struct {
	base
	// Images are the digests of the manufacturer's images that were named and whose chain
	// verifies, by partition without a slot; none: nothing was named.
	Images map[string]string
	Key    string // fingerprint of the key the chain is signed with; "" when it does not verify
	Why    string // why it does not
}

// Title says what is done.
func (*Relock) Title() string { return "lock the bootloader" }

// ByHand implements Step: the phone asks on its screen.
func (*Relock) ByHand(*card.Card) string { return "relock" }

// Estimate implements Step.
func (*Relock) Estimate(*card.Card) (int64, time.Duration) {
	return 0, expectStep + expectFormat + expectRestart
}

// Modes: the bootloader.
func (*Relock) Modes() []card.Mode { return []card.Mode{card.Bootloader} }

// Writes: the data, which is erased.
func (*Relock) Writes(c *card.Card) []card.Partition { return DataPartitions(c) }

// Touches is what can't be known meanwhile.
func (*Relock) Touches(c *card.Card) []card.ID { return (&Unlock{}).Touches(c) }

// Check: it must be known that what is on the phone starts locked; what is not known
// stops, since a phone that is locked over it may never start again.
func (r *Relock) Check(c *card.Card, m *model.Model, _ model.Set) []finding.Finding {
	f := finding.Finding{Name: finding.RelockBricks, Severity: finding.Stop,
		Remedy: "write the maker's whole firmware set first, and name it here: jarlid flash SET, then " +
			"jarlid relock --images SET"}
	switch missing := r.unproven(c, c.Value(card.FactNext)); {
	case len(r.Images) == 0:
		f.Text = "nobody can tell whether what is on the phone starts with the bootloader locked"
	case r.Key == "":
		f.Text = "the images that were named do not verify: " + r.Why
	case len(missing) > 0:
		f.Text = "it is not known that the phone holds what was named; not written by Jar Lid since, or " +
			"another file: " + strings.Join(missing, ", ")
	default:
		f.Severity = finding.Warn
		f.Text = fmt.Sprintf("the phone holds the images that were named, and they verify; it starts "+
			"locked only if it trusts the key %s, which is so where they are the maker's", r.Key)
		f.Remedy = "compare the set's digest with the maker's"
	}
	list := []finding.Finding{f}
	if f.Severity == finding.Warn {
		list = append(list, r.otherSlot(c)...)
		list = append(list, unstartedFinding(c)...)
	}
	return append(append(list, dataGoes(c)...), batteryFinding(c)...)
}

// otherSlot: a locked phone whose first slot fails falls back to the other one.
func (r *Relock) otherSlot(c *card.Card) []finding.Finding {
	other := card.Other(c.Value(card.FactNext))
	if slots, _ := c.Slots(); len(slots) < 2 || other == "" {
		return nil
	}
	missing := r.unproven(c, other)
	if len(missing) == 0 {
		return nil
	}
	return []finding.Finding{finding.Warns(finding.RelockBricks, "slot "+other,
		fmt.Sprintf("slot %s is not known to hold what was named (%s): should slot %s ever fail, "+
			"the locked phone has nothing to fall back to", other, strings.Join(missing, ", "),
			card.Other(other)), "write the set there too: jarlid flash SET --into @"+other)}
}

// unstartedFinding: whether the manufacturer's system starts at all is seen while there is a way back.
func unstartedFinding(c *card.Card) []finding.Finding {
	if yes, _ := c.Yes(card.FactCameUp.Of(c.Value(card.FactNext))); yes {
		return nil
	}
	return []finding.Finding{finding.Warns(finding.RelockBricks, "system",
		"no job has seen the maker's system come up since it was written; once the phone is locked "+
			"there is no way to mend it", "start it once first: jarlid go system, jarlid arrive")}
}

// unproven are the partitions on a slot of which it is not known that they hold what was named.
func (r *Relock) unproven(c *card.Card, slot string) []string {
	var list []string
	for part, sum := range r.Images {
		p := card.At(part, "")
		if place.HasSlots(c, part) {
			p.Slot = slot
		}
		if c.Value(card.FactDigest.Of(p)) != sum {
			list = append(list, p.String())
		}
	}
	slices.Sort(list)
	return list
}

// Effects: shut, the data empty, debugging off.
func (*Relock) Effects(c *card.Card) {
	c.Learn(card.FactUnlocked, "no", card.Journal)
	(&FormatData{}).Effects(c)
}

// Cost: everything of the owner's, again.
func (*Relock) Cost() (lost, kept []string) {
	lost, kept = (&FormatData{}).Cost()
	return append(lost, "the way back: a locked phone takes no images, and opening it again may be refused "+
		"and erases everything once more"), kept
}
