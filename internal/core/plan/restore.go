package plan

import (
	"fmt"
	"slices"
	"time"

	"jarlid/internal/core/backup"
	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/image"
	"jarlid/internal/core/model"
	"jarlid/internal/core/spell"
)

// RestoreFiles puts the files of a backup into the shared storage again.
type RestoreFiles struct {
	base
	Dir  string // of the backup's storage, on the computer
	Item *backup.Item
}

// Title says what is done.
func (r *RestoreFiles) Title() string {
	return fmt.Sprintf("put %s back into the shared storage", spell.Counted(len(r.Item.Files), "file"))
}

// Estimate implements Step: all files are sent.
func (r *RestoreFiles) Estimate(*card.Card) (int64, time.Duration) {
	n := int64(0)
	for _, f := range r.Item.Files {
		n += f.Bytes
	}
	return n, expectStep + atRate(n, expectSend)
}

// Modes: a recovery or the system.
func (*RestoreFiles) Modes() []card.Mode { return []card.Mode{card.Recovery, card.System} }

// Check: the storage must be there and have room.
func (r *RestoreFiles) Check(c *card.Card, _ *model.Model, _ model.Set) []finding.Finding {
	free := c.Get(card.FactFree.Of("storage"))
	if free.Known() && free.Value == card.Nothing || !free.Known() &&
		c.Value(card.FactData) == card.DataEncrypted && c.Mode() == card.Recovery {
		return []finding.Finding{finding.Stops(finding.StorageUnreadable, "storage",
			"the shared storage can't be reached in this mode: it lies in the data, which is "+
				"encrypted by the system that is on the phone", "put it back from the started system")}
	}
	if not := notMounted(c, "storage"); not != nil {
		return not
	}
	if n, known := c.Number(card.FactFree.Of("storage")); known && n < r.Item.Bytes {
		return []finding.Finding{finding.Stops(finding.NoRoom, "storage",
			fmt.Sprintf("the files have %s, the storage has %s free", image.Size(r.Item.Bytes),
				image.Size(n)), "make room on it first")}
	}
	return nil
}

// Effects: there is less room.
func (r *RestoreFiles) Effects(c *card.Card) {
	c.Forget(card.FactFree.Of("storage"), "files were put there since it was read")
}

// CopySlot copies one partition from one slot to the other, on the phone itself.
type CopySlot struct {
	base
	Partition, From string
}

// Source and place.Target are the partitions' whole names.
func (s *CopySlot) Source() card.Partition { return card.At(s.Partition, s.From) }

// place.Target is the partition that is written.
func (s *CopySlot) Target() card.Partition { return card.At(s.Partition, card.Other(s.From)) }

// Title says what is done.
func (s *CopySlot) Title() string { return aimed(s) }

// Aim implements Aimed.
func (s *CopySlot) Aim() (does, to string) { return "copy " + s.Source().String(), s.Target().String() }

// Estimate implements Step: the phone copies within itself.
func (s *CopySlot) Estimate(c *card.Card) (int64, time.Duration) {
	n, _ := c.Number(card.FactSize.Of(s.Source()))
	return 0, expectStep + atRate(n, expectSend)
}

// Modes: the recovery.
func (*CopySlot) Modes() []card.Mode { return []card.Mode{card.Recovery} }

// Writes is the partition that is written.
func (s *CopySlot) Writes(*card.Card) []card.Partition { return []card.Partition{s.Target()} }

// Check: both must be there, alike, and free to be written.
func (s *CopySlot) Check(c *card.Card, m *model.Model, _ model.Set) []finding.Finding {
	var list []finding.Finding
	if root, known := c.Yes(card.FactRoot); known && !root {
		return []finding.Finding{{Name: finding.NoShell, Severity: finding.Stop, Final: true,
			Text:   "the recovery gives no root shell, and partitions can only be copied through one",
			Remedy: "write the firmware set to the other slot: jarlid flash SET --into @other"}}
	}
	for _, n := range []card.Partition{s.Source(), s.Target()} {
		list = append(list, absentFinding(c, n)...)
	}
	a, known := c.Number(card.FactSize.Of(s.Source()))
	b, both := c.Number(card.FactSize.Of(s.Target()))
	if known && both && a > b {
		list = append(list, finding.Finding{Name: finding.ImageTooBig, Severity: finding.Stop,
			About: s.Target().String(), Final: true,
			Text: fmt.Sprintf("%s has %s, %s has %s", s.Source(), image.Size(a), s.Target(), image.Size(b))})
	}
	if m == nil || !slices.Contains(m.Firmware, s.Partition) {
		// what the model file names is what the command is for
		list = append(list, riskyFinding(s.Partition, "writing", m)...)
	}
	if inMerge(c, s.Partition) {
		list = append(list, mergeFinding(c, s.Target().String(), "writing "+s.Target().String()+
			" now breaks it")...)
	}
	list = append(list, overData(s, c, s.Target().String(), c.Value(card.FactHolds.Of(s.Source())))...)
	return append(list, batteryFinding(c)...)
}

// Effects: both hold the same.
func (s *CopySlot) Effects(c *card.Card) {
	if f := c.Get(card.FactHolds.Of(s.Source())); f.Known() {
		c.Learn(card.FactHolds.Of(s.Target()), f.Value, card.Journal)
	} else {
		c.Learn(card.FactHolds.Of(s.Target()), "a copy of "+s.Source().String(), card.Journal)
	}
}

// Cost says what is lost.
func (s *CopySlot) Cost() (lost, kept []string) {
	return []string{"what is in " + s.Target().String()}, nil
}
