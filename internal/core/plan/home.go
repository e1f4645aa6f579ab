package plan

import (
	"fmt"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

// homeFindings: an image that is written where the phone keeps its recovery replaces it,
// whatever else the image is.
func (w *Write) homeFindings(c *card.Card) []finding.Finding {
	if w.Recovery || w.Home.Partition == "" || w.Partition != w.Home.Partition {
		return nil
	}
	if w.OneSlot && w.Home.Form == "own" && w.File.HoldsRecovery() &&
		!c.Get(card.FactSet.Of(w.Name().On(card.Other(w.Slot)))).Known() {
		return []finding.Finding{finding.Warns(finding.RecoveryOnOneSlot, w.Slot,
			fmt.Sprintf("the recovery goes to slot %s only; after a ROM install the phone starts "+
				"from the other one, without it", w.Slot), "leave the slot out, then it goes to both")}
	}
	f := finding.Finding{Name: finding.RecoveryReplaced, Severity: finding.Warn, About: w.Name().String()}
	set := c.Get(card.FactSet.Of(w.Name()))
	switch {
	case set.Known():
		f.Text = fmt.Sprintf("%s holds the recovery that was set there, %s, and this is written over it%s",
			w.Name(), set.Value, place.ByJob(set))
		f.Remedy = "leave it out (--without " + w.Partition +
			"), or set yours again behind it: jarlid recovery install FILE"
	case w.Home.Form != "own":
		f.Severity = finding.Note
		f.Text = fmt.Sprintf("this phone keeps its recovery in %s, so the image's own recovery takes the "+
			"place of the one that is there", w.Home.Words())
	default:
		return nil
	}
	return []finding.Finding{f}
}

// buildFinding: a boot image of another release than the system on its slot. Both state theirs:
// the image in its header, where it has one that is not for every system alike.
func (w *Write) buildFinding(c *card.Card) []finding.Finding {
	if w.Recovery || w.System || w.File.Boot == nil || w.Partition != "boot" {
		return nil
	}
	if generic, _ := c.Yes(card.FactGeneric.Of(w.Slot)); generic {
		return nil // it runs on the manufacturer's
	}
	have := c.Get(card.FactRelease.Of(w.Slot))
	version, _ := w.File.Boot.OS()
	is, _, _ := strings.Cut(version, ".")
	major, _, _ := strings.Cut(have.Value, ".")
	if is == "" || is == "0" || !have.Known() || is == major {
		return nil
	}
	return []finding.Finding{finding.Warns(finding.OtherBuild, w.Name().String(),
		fmt.Sprintf("it belongs to a system of release %s, and the one there is of release %s%s", is,
			have.Value, place.ByJob(have)), "take it out of the package that was installed: jarlid lift "+
			"PACKAGE boot -o DIR")}
}

// restoresFinding: the manufacturer's systems of phones without slots may write the manufacturer's recovery
// back at each start (install-recovery.sh, as the platform's releasetools make it).
func restoresFinding(c *card.Card, m *model.Model) []finding.Finding {
	slots, known := c.Slots()
	home := card.At(place.RecoveryHome(c).Partition, "")
	put, _ := c.Yes(card.FactPut.Of(""))
	set := c.Get(card.FactSet.Of(home))
	restores := false // what was put there may be the manufacturer's again
	for _, base := range []string{"system", "vendor"} {
		yes, _ := c.Yes(card.FactRestores.Of(card.At(base, "")))
		restores = restores || yes
	}
	if !known || len(slots) > 0 || put && !restores || !set.Known() {
		return nil
	}
	for _, base := range place.Shelvable {
		if strings.Contains(c.Value(card.FactShelved.Of(card.At(base, ""))), "recovery") {
			return nil // it was moved aside
		}
	}
	if c.Mode() == card.Loader && (restores || m.RestoresRecovery()) {
		return []finding.Finding{finding.Stops(finding.RestartUndoes, home.String(),
			"the maker's system writes its own recovery back when it starts, over "+set.Value+
				place.ByJob(set), "by the keys, straight into the recovery: jarlid go recovery")}
	}
	why := "the system that starts is the one that was here; makers' systems may write their own recovery " +
		"back at each start, over "
	if restores {
		why = "the system that starts puts the maker's recovery back each time, over "
	}
	return []finding.Finding{finding.Notes(finding.RecoveryReplaced, home.String(), why+set.Value,
		"in the recovery, before that start: jarlid recovery hold")}
}
