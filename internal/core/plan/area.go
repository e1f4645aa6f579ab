package plan

import (
	"fmt"
	"slices"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

// WipeArea erases a part of what is on the phone from its recovery: through the
// recovery's root shell, or by a person in its menu.
type WipeArea struct {
	base
	Area string // caches, apps, storage, system, vendor
	Slot string // of system and vendor, on phones with slots
	// Along says that it goes along with another task, which it never stops.
	Along bool
}

// Partition is the partition that is erased as a whole; whole is false for the
// areas that are in the data.
func (w *WipeArea) Partition() (p card.Partition, whole bool) {
	if w.Area == "system" || w.Area == "vendor" {
		return card.At(w.Area, w.Slot), true
	}
	return card.Partition{}, false
}

// Title says what is done.
func (w *WipeArea) Title() string {
	if p, whole := w.Partition(); whole {
		return "erase " + p.String()
	}
	return "wipe " + areaWords[w.Area]
}

// Estimate implements Step.
func (*WipeArea) Estimate(*card.Card) (int64, time.Duration) {
	return 0, expectStep + expectFormat
}

var areaWords = map[string]string{
	"caches":  "the caches",
	"apps":    "the apps, accounts and settings",
	"storage": "the shared storage",
}

// Modes: the recovery.
func (*WipeArea) Modes() []card.Mode { return []card.Mode{card.Recovery} }

// Writes is the partition, where it is erased whole.
func (w *WipeArea) Writes(*card.Card) []card.Partition {
	if p, whole := w.Partition(); whole {
		return []card.Partition{p}
	}
	return nil
}

// Touches is what can't be known meanwhile.
func (w *WipeArea) Touches(*card.Card) []card.ID {
	switch w.Area {
	case "apps":
		return []card.ID{card.FactData.ID(), card.FactDebugging.ID()}
	case "storage":
		return []card.ID{card.FactStored.Of("storage"), card.FactLying.Of("storage")}
	}
	return nil
}

// Check: the area must be one that can be told from the rest.
func (w *WipeArea) Check(c *card.Card, _ *model.Model, _ model.Set) []finding.Finding {
	var list []finding.Finding
	switch w.Area {
	case "caches":
		if !w.Along {
			list = cachesFinding(c)
		}
	case "apps":
		list = append(apartFinding(c), accountFinding(c)...)
		list = append(list, notMounted(c, "data")...)
	case "storage":
		list = slices.Concat(storageFinding(c), holdsFinding(c), backupFinding(c), notMounted(c, "storage"))
	case "system", "vendor":
		p := card.At(w.Area, w.Slot)
		if inMerge(c, w.Area) {
			list = mergeFinding(c, p.String(), "erasing "+p.String()+" now breaks it")
		}
		list = append(list, absentFinding(c, p)...)
	}
	if root, known := c.Yes(card.FactRoot); known && !root {
		list = append(list, finding.Notes(finding.NoShell, w.Area,
			"the recovery gives no root shell, so it is done by hand in its menu", ""))
	}
	return append(list, batteryFinding(c)...)
}

// Effects: what was there is gone.
func (w *WipeArea) Effects(c *card.Card) {
	switch w.Area {
	case "apps":
		c.Learn(card.FactData, card.DataFormatted, card.Journal)
		c.Learn(card.FactDebugging, "off", card.Journal)
		c.Learn(card.FactAccounts, "0", card.Journal)
	case "storage":
		c.Set(card.FactStored.Of("storage"), card.Fact{})
		c.Set(card.FactLying.Of("storage"), card.Fact{})
	case "system", "vendor":
		c.Learn(card.FactHolds.Of(card.At(w.Area, w.Slot)), card.Nothing, card.Journal)
	}
}

// Cost says what is lost.
func (w *WipeArea) Cost() (lost, kept []string) {
	switch w.Area {
	case "caches":
		return nil, nil // the next start takes longer, and nothing is missed
	case "apps":
		return []string{lostApps,
				"debugging and the permission of this computer: after the next start both are switched on " +
					"at the phone"},
			[]string{keptStorage, keptMemoryCard}
	case "storage":
		return []string{lostStorage}, []string{keptApps, keptMemoryCard}
	}
	return []string{fmt.Sprintf("what is in %s: %s", card.At(w.Area, w.Slot), meaning(w.Area))}, nil
}

// cachesFinding: without a partition for caches they are in the data alone.
func cachesFinding(c *card.Card) []finding.Finding {
	f := c.Get(card.FactMounted.Of("data"))
	if f.Value != card.MountedNo || c.Value(card.FactSize.Of(card.At("cache", ""))) != card.Nothing {
		return nil
	}
	not := place.NotMounted("data")
	not.Text = "there is no cache partition, and " + f.Why
	return []finding.Finding{not}
}

// apartFinding: apps can be erased without the storage only where the data is
// not encrypted, or the keys of the storage go with them.
func apartFinding(c *card.Card) []finding.Finding {
	f := finding.Finding{Name: finding.NotApart, Severity: finding.Stop, About: "apps",
		Remedy: "all of it goes together: jarlid wipe userdata"}
	crypto := c.Value(card.FactCrypto)
	switch data := c.Value(card.FactData); {
	case data == card.DataPlain || data == card.DataFormatted:
		return nil
	case crypto == card.CryptoFile:
		f.Text = "the data is encrypted file by file: the keys of the shared storage lie among the apps' " +
			"data and would go with it"
	case data == card.DataEncrypted:
		f.Text = "the data is encrypted by the system that is on the phone; a recovery can't tell apps " +
			"from storage in it"
	default:
		f.Severity, f.Text = finding.Warn, "nobody can tell in this mode whether the data is encrypted; if "+
			"it is, the shared storage can't be read any more afterwards"
	}
	return []finding.Finding{f}
}

// storageFinding: what can't be read can't be erased by itself.
func storageFinding(c *card.Card) []finding.Finding {
	if c.Value(card.FactData) != card.DataEncrypted {
		return nil
	}
	return []finding.Finding{finding.Stops(finding.StorageUnreadable, "storage",
		"shared storage lies in the data, which is encrypted by the system that is on the phone",
		"erase it from the started system, or with everything else: jarlid wipe userdata")}
}

// wipeInRecovery gives what a wipe of an area means in the recovery.
func wipeInRecovery(area string, t place.Target, c *card.Card) ([]Step, []AreaRow, error) {
	row := AreaRow{Area: area, Erased: true, How: "deleted"}
	switch area {
	case "caches":
		row.Why = "nothing that is missed; the system fills them again"
		return []Step{&WipeArea{Area: area}}, []AreaRow{row}, nil
	case "apps":
		row.Why = "apps, accounts and settings go; shared storage stays"
		return []Step{&WipeArea{Area: area}}, []AreaRow{row}, nil
	case "storage":
		row.Why = "pictures, downloads and files go; apps stay"
		return []Step{&WipeArea{Area: area}}, []AreaRow{row}, nil
	}
	slots, err := wipeSlots(t, c)
	if err != nil {
		return nil, nil, err
	}
	row.How, row.Why = "formatted", meaning(area)
	var steps []Step
	for _, s := range slots {
		w := &WipeArea{Area: area, Slot: s}
		steps, row.Partitions = append(steps, w), append(row.Partitions, card.At(area, s).String())
	}
	return steps, []AreaRow{row}, nil
}
