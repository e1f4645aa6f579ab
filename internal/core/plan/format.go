package plan

import (
	"fmt"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

// FormatData formats userdata, and metadata where there is one: in the
// bootloader by erasing, in a recovery by its shell or by hand.
type FormatData struct {
	base
	// Menu says that it is done by hand in the menu of a recovery that can't be seen.
	Menu bool
}

// Title says what is done.
func (*FormatData) Title() string { return "erase all data" }

// Estimate implements Step.
func (*FormatData) Estimate(*card.Card) (int64, time.Duration) {
	return 0, expectStep + expectFormat
}

// Modes: the bootloader or a recovery.
func (f *FormatData) Modes() []card.Mode {
	if f.Menu {
		return []card.Mode{card.Recovery}
	}
	return []card.Mode{card.Bootloader, card.Recovery, card.Loader}
}

// Writes: the data, and its keys where they lie apart.
func (*FormatData) Writes(c *card.Card) []card.Partition { return DataPartitions(c) }

// DataPartitions are the partitions the owner's data is in.
func DataPartitions(c *card.Card) []card.Partition {
	list := []card.Partition{card.At("userdata", "")}
	if f := c.Get(card.FactSize.Of(card.At("metadata", ""))); f.Known() && f.Value != card.Nothing {
		// its keys, where they lie apart
		list = append(list, card.At("metadata", ""))
	}
	return list
}

// Touches is what can't be known meanwhile.
func (*FormatData) Touches(*card.Card) []card.ID {
	return []card.ID{card.FactData.ID(), card.FactDebugging.ID()}
}

// Check: a locked bootloader erases nothing.
func (*FormatData) Check(c *card.Card, _ *model.Model, _ model.Set) []finding.Finding {
	list := append(dataGoes(c), batteryFinding(c)...)
	if c.Mode().Def().Early {
		list = append(lockFinding(c), list...)
	}
	if root, known := c.Yes(card.FactRoot); c.Mode() == card.Recovery && known && !root {
		list = append(list, finding.Notes(finding.NoShell, "userdata",
			"the recovery gives no root shell, so the data is formatted by hand in its menu", ""))
	}
	return list
}

// formatFinding: an update that is not merged lies partly in the data.
func formatFinding(c *card.Card) []finding.Finding {
	state, pending := place.Unmerged(c)
	if !pending && c.Get(card.FactSnapshot).Why != "" {
		return []finding.Finding{finding.Warns(finding.FormatAfterInstall, "userdata",
			"an update was installed, and nobody can tell whether its merge has finished; until then "+
				"part of it lies in the data", "the bootloader tells: jarlid card")}
	}
	if !pending {
		return nil
	}
	return []finding.Finding{finding.Stops(finding.FormatAfterInstall, "userdata",
		fmt.Sprintf("a new system is installed and not merged yet (%s); part of it lies in the "+
			"data, and formatting loses it%s", state, place.ByJob(c.Get(card.FactSnapshot))),
		"start the new system first and let it finish: jarlid go system")}
}

// Effects: the data is empty, debugging off.
func (*FormatData) Effects(c *card.Card) {
	c.Learn(card.FactData, card.DataFormatted, card.Journal)
	c.Learn(card.FactDebugging, "off", card.Journal)
	c.Learn(card.FactAccounts, "0", card.Journal)
	c.Learn(card.FactLock, "no", card.Journal)
	for _, f := range []card.Which{card.FactStored.Of("storage"), card.FactLying.Of("storage"),
		card.FactMounted.Of("storage"), card.FactMounted.Of("data"),
		card.FactUsed.Of("storage"), card.FactBound} {
		c.Set(f, card.Fact{}) // it is known that there is none
	}
	for _, slot := range card.EverySlot {
		c.Set(card.FactForeign.Of(slot), card.Fact{})
	}
	loseUpdate(c)
}

// loseUpdate keeps that an update whose merge is pending went with the data that part of it is in. Once the
// merge has begun the old system is gone too.
func loseUpdate(c *card.Card) {
	next := c.Value(card.FactNext)
	if _, pending := place.Unmerged(c); !pending || next == "" {
		return
	}
	for _, p := range place.Dynamic {
		at := card.At(p, next)
		if place.Logical(c, p) && (p == "system" || c.Get(card.FactHolds.Of(at)).Known()) {
			c.Learn(card.FactHolds.Of(at), card.Nothing, card.Journal)
		}
	}
	c.Learn(card.FactPut.Of(next), "no", card.Journal)
}

// Cost: everything of the owner's.
func (*FormatData) Cost() (lost, kept []string) {
	return []string{lostApps, lostStorage,
			"debugging and the permission of this computer: after the next start both are switched on at " +
				"the phone"},
		[]string{keptSystem, keptRecovery, keptBootloader, keptMemoryCard}
}
