package plan

import (
	"fmt"
	"slices"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/place"
)

// Data belongs to the system that encrypted it. Whatever puts another system where the next
// start finds one, or has another slot started, has the same effect: a system over data it
// can't read. This room holds that rule for all of them.

// replacesSystem gives the slots whose system a partition's new contents replace; none for
// one that holds no system.
func replacesSystem(c *card.Card, p card.Partition) []string {
	switch p.Base {
	case "system":
		return []string{p.Slot}
	case "super":
		if slots, _ := c.Slots(); len(slots) > 0 {
			return slots
		}
		return []string{""}
	}
	return nil
}

// startsNext reports whether the next start takes the system of a slot, as far as it is known.
func startsNext(c *card.Card, slot string) bool {
	next := c.Value(card.FactNext)
	return slot == "" || next == "" || slot == next
}

// sameSystem reports whether a build is the one the data belongs to already.
func sameSystem(c *card.Card, build string) bool {
	for _, slot := range card.EverySlot {
		if !place.Foreign(c, slot) && place.MatchesBuild(c.Value(card.FactHolds.Of(card.At("system", slot))),
			"", build) == "yes" {
			return true
		}
	}
	return false
}

// noteSystems keeps of the systems a step has put on slots, by the partitions it writes, that the
// data belongs to another one.
func noteSystems(writes []card.Partition, before, after *card.Card) {
	data := after.Value(card.FactData)
	// by this step
	gone := !after.Get(card.FactData).Known() && after.Get(card.FactData) != before.Get(card.FactData)
	ours := data != card.DataFormatted && data != card.DataPlain && !gone
	for _, p := range writes {
		for _, slot := range replacesSystem(before, p) {
			now := after.Value(card.FactHolds.Of(card.At("system", slot)))
			if now == card.Nothing {
				continue
			}
			after.Learn(card.FactPut.Of(slot), "yes", card.Journal)
			if ours && !sameSystem(before, now) {
				after.Learn(card.FactForeign.Of(slot), "yes", card.Journal)
			}
		}
	}
}

// overData is newSystemFinding of a step that writes partitions.
func overData(s Step, c *card.Card, about, build string) (list []finding.Finding) {
	for _, p := range s.Writes(c) {
		for _, slot := range replacesSystem(c, p) {
			if startsNext(c, slot) && len(list) == 0 {
				list = newSystemFinding(c, about, build)
			}
		}
	}
	return list
}

// newSystemFinding is about a system that is put where the next start finds it, over the data
// of another.
func newSystemFinding(c *card.Card, about, build string) []finding.Finding {
	if sameSystem(c, build) {
		return nil
	}
	f := finding.Finding{Name: finding.EncryptedData, About: about}
	switch c.Value(card.FactData) {
	case card.DataFormatted:
		return nil
	case card.DataPlain:
		return []finding.Finding{finding.Warns(finding.OldApps, about,
			"the apps and settings of the system that was here are still on the phone; another "+
				"system may not start over them", "jarlid wipe apps caches")}
	case card.DataEncrypted:
		f.Severity, f.Remedy = finding.Stop, wipeRemedy(c)
		f.Text = "the data is encrypted by the system that was here; a new one can't read it and will " +
			"not start" + place.ByJob(c.Get(card.FactData))
	default:
		f.Severity = finding.Warn
		f.Text = "nobody can tell in this mode whether the data is still encrypted by the old system"
	}
	return []finding.Finding{f}
}

// wipeRemedy is the way out of data that a system can't use; none where the wipe itself stops.
func wipeRemedy(c *card.Card) string {
	if _, pending := place.Unmerged(c); pending {
		return ""
	}
	return "jarlid wipe userdata"
}

// foreignFinding is about starting a slot's system over data that another one encrypted.
func foreignFinding(c *card.Card, slot string, severity finding.Severity) []finding.Finding {
	if !place.Foreign(c, slot) {
		return nil
	}
	f := finding.Finding{Name: finding.EncryptedData, Severity: severity, About: "userdata",
		Remedy: wipeRemedy(c)}
	which := "the system that starts is another"
	if slot != "" {
		which = fmt.Sprintf("the system on slot %s is another", slot)
	}
	by := place.ByJob(c.Get(card.FactForeign.Of(slot)), c.Get(card.FactForeign.Of("")), c.Get(card.FactData))
	switch c.Value(card.FactData) {
	case card.DataEncrypted:
		f.Text = fmt.Sprintf("%s than the one that encrypted the data: it can't read it and will not start%s",
			which, by)
	case "":
		f.Severity, f.Remedy = finding.Warn, ""
		f.Text = fmt.Sprintf("%s than the one the data was made by, and nobody can tell in this mode "+
			"whether that is encrypted%s", which, by)
	default:
		return nil
	}
	return []finding.Finding{f}
}

// started keeps that the data belongs to the system that starts now, and to none that is known
// to be another. One that can't use the data does not come up, and it stays whose it was.
func started(c *card.Card) {
	now := c.Running()
	if place.Foreign(c, now) && c.Value(card.FactData) == card.DataEncrypted {
		return
	}
	build := c.Value(card.FactHolds.Of(card.At("system", now)))
	for _, slot := range card.EverySlot {
		if slot == now || slot == "" {
			c.Set(card.FactForeign.Of(slot), card.Fact{})
			continue
		}
		if place.MatchesBuild(c.Value(card.FactHolds.Of(card.At("system", slot))), "", build) == "no" {
			c.Learn(card.FactForeign.Of(slot), "yes", card.Journal)
		}
	}
}

// ownersData reports whether a partition holds the owner's data, or its keys: what takes the place of either
// takes all of it.
func ownersData(partition string) bool { return partition == "userdata" || partition == "metadata" }

// dataReplaced keeps that something else is where the owner's data was, and nobody knows what it is.
func dataReplaced(c *card.Card, by string) {
	(&FormatData{}).Effects(c)
	for _, f := range []card.Which{card.FactData, card.FactDebugging, card.FactAccounts, card.FactLock} {
		c.Set(f, card.Fact{Why: by + " was written over the data"})
	}
}

// dataGoes are the findings of every step that all of the owner's data goes with, whatever it is
// called.
func dataGoes(c *card.Card) []finding.Finding {
	return slices.Concat(formatFinding(c), holdsFinding(c), accountFinding(c), backupFinding(c))
}

// backupFinding: what goes with the shared storage was not kept, as far as it is known.
func backupFinding(c *card.Card) []finding.Finding {
	if c.Value(card.FactData) == card.DataFormatted || c.Get(card.FactBackedUp).Known() {
		return nil
	}
	return []finding.Finding{noBackup(c)}
}

func noBackup(c *card.Card) finding.Finding {
	f := finding.Notes(finding.NoBackup, "userdata", "no backup of this phone's storage is known, and it "+
		"can't be read in this mode", "")
	if storageReadable(c) {
		f.Text, f.Remedy = "no backup of this phone's storage is known",
			"keep it first: jarlid backup take storage -o DIR"
	}
	return f
}

// storageReadable reports whether the shared storage can be read in the mode the phone is in.
func storageReadable(c *card.Card) bool {
	root, _ := c.Yes(card.FactRoot)
	return c.Mode() == card.System || c.Mode() == card.Recovery && root &&
		c.Value(card.FactData) == card.DataPlain
}
