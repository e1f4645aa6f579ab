package plan

import (
	"fmt"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

// Restart brings the phone from one mode into another.
type Restart struct {
	base
	From, To card.Mode

	rom bool // a ROM is sent behind it
}

// Title says what is done.
func (r *Restart) Title() string { return fmt.Sprintf("restart into %s", r.To) }

// Changes implements Step: a restart changes nothing that is on the phone.
func (*Restart) Changes() bool { return false }

// Decides implements Step: what was decided has served its purpose once the phone boots.
func (*Restart) Decides() Decision { return Decision{Ends: true} }

// ByHand implements Step: some modes are entered and left by keys or a menu alone.
func (r *Restart) ByHand(c *card.Card) string {
	if r.From == card.Recovery && r.To == card.Sideload {
		tried, _ := c.Yes(card.FactTemporary) // a restart would end it
		if root, known := c.Yes(card.FactRoot); tried || known && !root {
			return string(r.To)
		}
		return ""
	}
	if r.To == card.Loader && r.From != card.Loader || r.From == card.Loader && r.To != card.Loader &&
		r.To != card.System {
		return string(r.To) // a maker's loader is entered and left by keys
	}
	word := RestartCommand(r.To)
	if word == "" || r.From != card.Bootloader && r.From != card.Fastbootd {
		return ""
	}
	if yes, known := c.Yes(card.FactCommand.Of(word)); known && !yes {
		return string(r.To)
	}
	return ""
}

// Estimate implements Step.
func (r *Restart) Estimate(*card.Card) (int64, time.Duration) {
	if r.To == card.System {
		return 0, expectStart
	}
	return 0, expectRestart
}

// Check warns where nothing is there to start.
func (r *Restart) Check(c *card.Card, m *model.Model, _ model.Set) []finding.Finding {
	if own := place.ImageMode(c, m) == card.Loader; own && (r.To == card.Bootloader ||
		r.To == card.Fastbootd) {
		remedy := "jarlid go loader"
		if c.Mode() == card.Loader {
			remedy = "what it can do it does in the mode it is in: jarlid flash, jarlid recovery install, " +
				"jarlid wipe part:NAME, jarlid backup take"
		}
		return []finding.Finding{{Name: finding.CommandUnknown, Severity: finding.Stop, About: string(r.To),
			Final: true,
			Text:  "this phone has no fastboot, but its maker's loader", Remedy: remedy}}
	} else if !own && r.To == card.Loader {
		return []finding.Finding{{Name: finding.CommandUnknown, Severity: finding.Stop, About: string(r.To),
			Final:  true,
			Text:   "nothing is known of a maker's loader on this phone; its bootloader speaks fastboot",
			Remedy: "jarlid go bootloader"}}
	}
	switch r.To {
	case card.Fastbootd:
		if yes, known := c.Yes(card.FactUserspace); known && !yes {
			return []finding.Finding{{Name: finding.CommandUnknown, Severity: finding.Stop,
				About: string(r.To),
				Text: "this phone has no userspace fastboot (" +
					place.EvidenceWords(c.Get(card.FactUserspace)) + ")",
				Remedy: "its bootloader does everything there is to do over fastboot"}}
		}
		return nil
	case card.Sideload:
		return r.landsFinding(c)
	case card.System, card.Recovery:
	default:
		return nil
	}
	slot := c.Value(card.FactNext)
	var list []finding.Finding
	if yes, _ := c.Yes(card.FactTemporary); yes {
		list = append(list, finding.Finding{Name: finding.TemporaryRecovery, Severity: finding.Warn,
			Text:   "the recovery that runs was started without being written, and this restart ends it",
			Remedy: "to keep it: jarlid recovery install FILE"})
	}
	if r.To == card.System {
		list = append(list, slotFinding(c, slot)...)
		list = append(list, foreignFinding(c, slot, finding.Stop)...)
		list = append(list, restoresFinding(c, m)...)
	}
	return list
}

// landsFinding: a restart into sideload mode starts the slot that is next. Where something was
// installed there, its own recovery comes up, and a package goes over the slot that runs now.
func (r *Restart) landsFinding(c *card.Card) []finding.Finding {
	next := c.Landing()
	if next == "" || !r.rom || r.stays(c) {
		return nil // an add-on belongs to where it lands
	}
	started := c.Value(card.FactStarted)
	return []finding.Finding{{Name: finding.SlotNotStarted, Severity: finding.Stop, About: next,
		Text: fmt.Sprintf("slot %s starts next, and the recovery runs on slot %s: the restart into "+
			"sideload mode lands on slot %s, in the recovery that lies there, and from there the ROM goes "+
			"over slot %s%s",
			next, started, next, started, place.ByJob(c.Get(card.FactNext), c.Get(card.FactStarted))),
		Remedy: "to go on with what was installed to slot " + next +
			": jarlid go recovery; to install to it once more: jarlid slot use " + started}}
}

// stays tells whether a recovery is put into sideload mode from its menu: one without a shell, and
// one that was only tried and would be gone.
func (r *Restart) stays(c *card.Card) bool {
	root, _ := c.Yes(card.FactRoot)
	tried, _ := c.Yes(card.FactTemporary)
	return r.To == card.Sideload && r.From == card.Recovery && (!root || tried)
}

// slotFinding says whether the slot that would start is known to be empty.
func slotFinding(c *card.Card, slot string) []finding.Finding {
	slots, known := c.Slots()
	one := known && len(slots) == 0
	if slot == "" && !one {
		return []finding.Finding{{Name: finding.SlotEmpty, Severity: finding.Warn,
			Text: "nobody can tell which slot starts next", Remedy: "jarlid slot"}}
	}
	f := finding.Finding{Name: finding.SlotEmpty, Severity: finding.Stop, About: slot,
		Remedy: "install a system to it first, or stay on the other slot"}
	if one {
		f.Remedy = "install a system first"
	}
	if yes, known := c.Yes(card.FactBootable.Of(slot)); !one && known && !yes {
		f.Text = fmt.Sprintf("the phone itself says slot %s can't start", slot)
		return []finding.Finding{f}
	}
	for _, p := range []string{"boot", "system"} {
		h := c.Get(card.FactHolds.Of(card.At(p, slot)))
		if h.Evidence == card.Journal && h.Value == card.Nothing {
			f.Text = fmt.Sprintf("%s was erased by an earlier job and not written since%s", card.At(p, slot),
				place.ByJob(h))
			return []finding.Finding{f}
		}
		if h.Why != "" {
			f.Severity = finding.Warn
			f.Text = fmt.Sprintf("%s: %s", card.At(p, slot), h.Why)
			return []finding.Finding{f}
		}
	}
	if _, known := c.Yes(card.FactBootable.Of(slot)); !one && !known &&
		!c.Get(card.FactHolds.Of(card.At("system", slot))).Known() {
		f.Severity = finding.Warn
		f.Text = fmt.Sprintf("nobody can tell whether slot %s holds a system", slot)
		return []finding.Finding{f}
	}
	return nil
}

// Effects changes the mode and, in a start, which slot is running.
func (r *Restart) Effects(c *card.Card) {
	c.Learn(card.FactMode, string(r.To), card.Journal)
	tried, _ := c.Yes(card.FactTemporary)
	switch r.To {
	case card.Bootloader:
		c.Forget(card.FactStarted, "the bootloader does not start from a slot")
	case card.Sideload:
		if r.stays(c) {
			break
		}
		fallthrough
	default:
		if next := c.Get(card.FactNext); next.Known() {
			c.Learn(card.FactStarted, next.Value, card.Journal)
		}
	}
	if tried && r.stays(c) {
		return
	}
	c.Set(card.FactToldStart, card.Fact{})
	if r.To == card.System {
		c.Learn(card.FactToldStart, "yes", card.Journal)
	}
	c.Forget(card.FactRecovery, "not read yet")
	c.Set(card.FactTemporary, card.Fact{})
	if state, pending := merging(c); r.To == card.System && pending && state != "" {
		c.Forget(card.FactSnapshot, "the start of the new system begins the merge")
	}
	if r.To == card.System {
		switch {
		case c.Value(card.FactData) == "":
		case c.Value(card.FactCrypto) == card.CryptoNone:
			c.Learn(card.FactData, card.DataPlain, card.Journal)
		default:
			c.Learn(card.FactData, card.DataEncrypted, card.Journal)
		}
		c.Forget(card.FactAccounts, "the owner may sign in now")
		started(c)
	}
}

func lockFinding(c *card.Card) []finding.Finding {
	unlocked, known := c.Yes(card.FactUnlocked)
	switch {
	case !known:
		return []finding.Finding{{Name: finding.LockedBootloader, Severity: finding.Warn,
			Text:   "the phone does not say whether it is unlocked",
			Remedy: "a locked one will refuse, and nothing is harmed by it"}}
	case !unlocked:
		return []finding.Finding{{Name: finding.LockedBootloader, Severity: finding.Stop,
			Text:   "the bootloader is locked and takes no images",
			Remedy: "unlock it first; that erases all data"}}
	}
	return nil
}

// imageLockFinding is lockFinding of an image: a maker's loader that is locked takes its maker's own.
func imageLockFinding(c *card.Card) []finding.Finding {
	list := lockFinding(c)
	unlocked, known := c.Yes(card.FactUnlocked)
	if verifies, _ := c.Yes(card.FactVerifies); verifies && known && !unlocked {
		list[0].Text = "the loader is locked and takes only what its maker signed"
		list[0].Remedy = "for the maker's own, have the loader judge it: --accept " +
			finding.LockedBootloader + "; anything else wants the phone unlocked, which erases all data"
	}
	return list
}

const (
	// A third of a charge carries a phone through the longest install; below
	// 3.6 V a lithium cell has some tenth of its charge left.
	lowPercent    = 30
	lowMillivolts = 3600
)

func batteryFinding(c *card.Card) []finding.Finding {
	f := finding.Finding{Name: finding.BatteryLow, Severity: finding.Stop,
		Remedy: "charge the phone to a third or more"}
	fresh := c.Get(card.FactCharged).Evidence == card.Read || c.Get(card.FactMillivolts).Evidence == card.Read
	if n, known := c.Number(card.FactPercent); known && (c.Get(card.FactPercent).Evidence == card.Read ||
		!fresh) {
		if n >= lowPercent {
			return nil
		}
		f.Text = fmt.Sprintf("the battery is at %d %%, %d %% are needed%s", n, lowPercent,
			place.ByJob(c.Get(card.FactPercent)))
		return []finding.Finding{f}
	}
	if yes, known := c.Yes(card.FactCharged); known {
		if yes {
			return nil
		}
		f.Text = "the bootloader says that the battery does not suffice"
		return []finding.Finding{f}
	}
	if n, known := c.Number(card.FactMillivolts); known {
		if n >= lowMillivolts {
			return nil
		}
		f.Text = fmt.Sprintf("the battery gives %.2f V, %.2f V are needed", float64(n)/1000,
			float64(lowMillivolts)/1000)
		return []finding.Finding{f}
	}
	f.Severity, f.Text = finding.Warn, "the phone does not tell in this mode how full its battery is"
	return []finding.Finding{f}
}

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

// DataPartitions are the partitions the owner's data lies in.
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
	if c.Mode() == card.Bootloader || c.Mode() == card.Loader {
		list = append(lockFinding(c), list...)
	}
	if root, known := c.Yes(card.FactRoot); c.Mode() == card.Recovery && known && !root {
		list = append(list, finding.Finding{Name: finding.NoShell, Severity: finding.Note, About: "userdata",
			Text: "the recovery gives no root shell, so the data is formatted by hand in its menu"})
	}
	return list
}

// holdsFinding: what was put into the storage goes with the data.
func holdsFinding(c *card.Card) []finding.Finding {
	text := ""
	switch put, lying := waiting(c, "storage", c.Value(card.FactStored.Of("storage"))),
		waiting(c, "storage", c.Value(card.FactLying.Of("storage"))); {
	case lying != "": // read just now
		text = lying + " lies in the shared storage, which goes now"
	case put != "":
		text = put + " was put into the shared storage, which goes now" +
			place.ByJob(c.Get(card.FactStored.Of("storage")))
	default:
		return nil
	}
	return []finding.Finding{{Name: finding.StorageHolds, Severity: finding.Stop, About: "userdata",
		Text: text, Remedy: "put it onto a memory card, or put it there again afterwards; or leave the " +
			"storage: jarlid wipe apps"}}
}

// formatFinding: an update that is not merged lies partly in the data.
func formatFinding(c *card.Card) []finding.Finding {
	state, pending := merging(c)
	if !pending && c.Get(card.FactSnapshot).Why != "" {
		return []finding.Finding{{Name: finding.FormatAfterInstall, Severity: finding.Warn, About: "userdata",
			Text: "an update was installed, and nobody can tell whether its merge has finished; until then " +
				"part of it lies in the data", Remedy: "the bootloader tells: jarlid card"}}
	}
	if !pending {
		return nil
	}
	return []finding.Finding{{Name: finding.FormatAfterInstall, Severity: finding.Stop, About: "userdata",
		Text: fmt.Sprintf("a new system is installed and not merged yet (%s); part of it lies in the "+
			"data, and formatting loses it%s", state, place.ByJob(c.Get(card.FactSnapshot))),
		Remedy: "start the new system first and let it finish; or format, and install again afterwards"}}
}

// Effects: the data is empty, debugging off.
func (*FormatData) Effects(c *card.Card) {
	c.Learn(card.FactData, card.DataFormatted, card.Journal)
	c.Learn(card.FactDebugging, "off", card.Journal)
	c.Learn(card.FactAccounts, "0", card.Journal)
	c.Learn(card.FactLock, "no", card.Journal)
	for _, f := range []card.Which{card.FactStored.Of("storage"), card.FactLying.Of("storage"),
		card.FactUsed.Of("storage"), card.FactBound} {
		c.Set(f, card.Fact{}) // it is known that there is none
	}
	for _, slot := range everySlot {
		c.Set(card.FactForeign.Of(slot), card.Fact{})
	}
}

// Cost: everything of the owner's.
func (*FormatData) Cost() (lost, kept []string) {
	return []string{"all apps, accounts and settings",
			"everything in shared storage: pictures, downloads, files, a package lying there",
			"debugging and the permission of this computer; both are given again after the next start"},
		[]string{"the system, the recovery and the bootloader", "a memory card"}
}

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
func (a *Activate) Modes() []card.Mode { return []card.Mode{card.Bootloader, card.Fastbootd} }

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
	if !known || bootable || !h.Known() || h.Value == card.Nothing {
		return slotFinding(c, a.Slot)
	}
	f := finding.Finding{Name: finding.SlotEmpty, Severity: finding.Note, About: a.Slot,
		Text: fmt.Sprintf("slot %s has used up its tries; choosing it gives them back, and it holds %s%s",
			a.Slot, place.ShortBuild(h.Value), place.ByJob(h))}
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

// RestartCommand is the word under which it is kept that a bootloader lacks a restart;
// "" for the plain one, which all have.
func RestartCommand(to card.Mode) string {
	switch to {
	case card.Bootloader, card.Recovery:
		return "reboot-" + string(to)
	case card.Fastbootd:
		return "reboot-fastboot"
	}
	return ""
}
