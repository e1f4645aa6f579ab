package plan

import (
	"fmt"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/model"
)

// Erase erases one partition in the bootloader, or a logical one in userspace
// fastboot.
type Erase struct {
	base
	Area            string // what the person called it
	Partition, Slot string
	Logical         bool
}

// Name is the partition as the phone knows it.
func (e *Erase) Name() card.Partition { return card.At(e.Partition, e.Slot) }

// Title says what is done.
func (e *Erase) Title() string { return "erase " + e.Name().String() }

// Estimate implements Step.
func (*Erase) Estimate(*card.Card) (int64, time.Duration) {
	return 0, expectStep + expectFormat
}

// Modes: the bootloader or userspace fastboot.
func (e *Erase) Modes() []card.Mode {
	if e.Logical {
		return []card.Mode{card.Fastbootd}
	}
	return card.ImageModes()
}

// Writes is the partition; erasing the keys of the data is erasing the data.
func (e *Erase) Writes(c *card.Card) []card.Partition {
	if ownersData(e.Partition) {
		return DataPartitions(c)
	}
	return []card.Partition{e.Name()}
}

// Touches is what can't be known meanwhile.
func (e *Erase) Touches(c *card.Card) []card.ID {
	if ownersData(e.Partition) {
		return (&FormatData{}).Touches(c)
	}
	return nil
}

// Check: what is erased must be there, and nothing may need it.
func (e *Erase) Check(c *card.Card, m *model.Model, _ model.Set) []finding.Finding {
	var list []finding.Finding
	switch {
	case ownersData(e.Partition):
		list = dataGoes(c)
	case inMerge(c, e.Partition):
		list = mergeFinding(c, e.Name().String(), "erasing "+e.Name().String()+" now breaks it")
	}
	list = append(list, riskyFinding(e.Partition, "erasing", m)...)
	list = append(list, absentFinding(c, e.Name())...)
	return append(append(list, lockFinding(c)...), batteryFinding(c)...)
}

// Effects: nothing is there any more.
func (e *Erase) Effects(c *card.Card) {
	c.Learn(card.FactHolds.Of(e.Name()), card.Nothing, card.Journal)
	if ownersData(e.Partition) {
		(&FormatData{}).Effects(c)
	}
}

// Cost says what is lost, by the partition.
func (e *Erase) Cost() (lost, kept []string) {
	return []string{fmt.Sprintf("what is in %s: %s", e.Name(), meaning(e.Partition))}, nil
}

// meaning says what erasing a partition does to a phone.
func meaning(partition string) string {
	switch partition {
	case "system", "vendor", "product", "system_ext", "odm":
		return "no system starts from there until one is installed again"
	case "boot", "init_boot", "vendor_boot", "dtbo", "vbmeta", "vbmeta_system":
		return "nothing starts from there until it is written again"
	case "recovery":
		return "there is no recovery until one is written again"
	case "cache":
		return "nothing that is missed; the system fills it again"
	case "userdata", "metadata":
		return "all data of the owner"
	case "misc":
		return "the bootloader's message and the slots' state; the phone begins with slot a"
	}
	if ident.Risky(partition) {
		return "the phone may not start again, nor reach its bootloader"
	}
	return "nobody can tell what the phone does without it"
}

// Unlock opens the bootloader.
type Unlock struct {
	base
	Ask []string
}

// Title says what is done.
func (*Unlock) Title() string { return "unlock the bootloader" }

// ByHand implements Step: the phone asks on its screen.
func (*Unlock) ByHand(*card.Card) string { return "unlock" }

// Estimate implements Step.
func (*Unlock) Estimate(*card.Card) (int64, time.Duration) {
	return 0, expectStep + expectFormat + expectRestart
}

// Modes: the bootloader.
func (*Unlock) Modes() []card.Mode { return []card.Mode{card.Bootloader} }

// Writes: the data, which is erased.
func (*Unlock) Writes(c *card.Card) []card.Partition { return DataPartitions(c) }

// Touches is what can't be known meanwhile.
func (*Unlock) Touches(*card.Card) []card.ID {
	return []card.ID{card.FactUnlocked.ID(), card.FactData.ID(), card.FactDebugging.ID()}
}

// Check: the phone must allow it.
func (u *Unlock) Check(c *card.Card, m *model.Model, _ model.Set) []finding.Finding {
	f := finding.Stops(finding.UnlockNotAllowed, "", "the phone says that unlocking is not allowed",
		"start the system, switch the developer settings on, allow unlocking there, and come back")
	if m != nil && len(m.Bootloader.Before) > 0 {
		f.Remedy = m.Bootloader.Before[0]
	}
	var list []finding.Finding
	yes, known := c.Yes(card.FactMayUnlock)
	switch {
	case !known:
		f.Severity, f.Text = finding.Warn, "the phone does not say whether unlocking is allowed"
		f.Remedy = "if it refuses: " + f.Remedy
		list = append(list, f)
	case !yes:
		list = append(list, f)
	}
	list = append(list, dataGoes(c)...)
	return append(append(list, askFindings(c, m)...), batteryFinding(c)...)
}

// Effects: open, the data empty, debugging off.
func (u *Unlock) Effects(c *card.Card) {
	c.Learn(card.FactUnlocked, "yes", card.Journal)
	(&FormatData{}).Effects(c)
	answered(c, u.Ask)
}

// Cost: everything of the owner's, and what an open bootloader means.
func (*Unlock) Cost() (lost, kept []string) {
	lost, kept = (&FormatData{}).Cost()
	return append(lost, "the maker's promise: the phone warns at each start, and some apps and payments "+
		"refuse to run",
		"verified boot as a protection: whoever holds the phone can put another system on it"), kept
}
