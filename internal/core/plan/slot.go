package plan

import (
	"fmt"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

// Activate makes the bootloader start a slot next.
type Activate struct {
	base
	Slot string
}

// Title says what is done.
func (a *Activate) Title() string { return "choose slot " + a.Slot }

// Decides implements Step: two choices of a slot contradict each other, whichever slot it is.
func (*Activate) Decides() Decision { return Decision{What: "chooses a slot"} }

// Estimate implements Step.
func (*Activate) Estimate(*card.Card) (int64, time.Duration) {
	return 0, expectStep
}

// Modes: the bootloader.
func (a *Activate) Modes() []card.Mode { return card.FastbootModes() }

// Check: there must be something to start.
func (a *Activate) Check(c *card.Card, m *model.Model, _ model.Set) []finding.Finding {
	list := append(lockFinding(c), commandFinding(c, "set_active",
		"install to the other slot from a recovery; the install chooses it")...)
	if a.Slot != c.Value(card.FactNext) {
		list = append(list, mergeFinding(c, a.Slot, "choosing another slot now gives the update up and may "+
			"leave neither startable")...)
		list = append(list, firmwareFinding(c, m, a.Slot)...)
		list = append(list, foreignFinding(c, a.Slot, finding.Warn)...)
	}
	return append(list, a.emptyFinding(c)...)
}

// emptyFinding is slotFinding of a slot that is chosen: that its tries are used up is no matter
// where something is on it, since choosing gives them back.
func (a *Activate) emptyFinding(c *card.Card) []finding.Finding {
	h := c.Get(card.FactHolds.Of(card.At("system", a.Slot)))
	bootable, known := c.Yes(card.FactBootable.Of(a.Slot))
	if len(place.UsedUp(c)) > 0 && (!h.Known() || h.Value == card.Nothing) {
		return []finding.Finding{finding.Warns(finding.SlotEmpty, a.Slot,
			fmt.Sprintf("no system is known on "+
				"slot %s, and no slot has tries left; choosing it gives them back, so that a recovery or "+
				"userspace fastboot can start", a.Slot), "install a system before the first boot")}
	}
	if !known || bootable || !h.Known() || h.Value == card.Nothing {
		return slotFinding(c, a.Slot)
	}
	f := finding.Notes(finding.SlotEmpty, a.Slot,
		fmt.Sprintf("slot %s has used up its tries; choosing it gives them back, and it holds %s%s",
			a.Slot, place.ShortBuild(h.Value), place.ByJob(h)), "")
	if how := c.Value(card.FactFailed.Of(a.Slot)); how != "" {
		f.Severity, f.Text = finding.Warn,
			fmt.Sprintf("slot %s holds %s, which did not come up the last time; choosing it gives its "+
				"tries back and nothing else", a.Slot, place.ShortBuild(h.Value))
		f.Remedy = "write a set or an image to it first"
	}
	return []finding.Finding{f}
}

// Effects: the slot is next, its tries full again.
func (a *Activate) Effects(c *card.Card) {
	c.Learn(card.FactNext, a.Slot, card.Journal)
	c.Learn(card.FactBootable.Of(a.Slot), "yes", card.Journal)
	c.Learn(card.FactGood.Of(a.Slot), "no", card.Journal)
	c.Forget(card.FactTries.Of(a.Slot), "choosing a slot resets them")
}
