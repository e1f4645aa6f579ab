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
	if r.To != r.From && (r.To.Def().ByKeys || r.From.Def().ByKeys && r.To != card.System) {
		return string(r.To)
	}
	word := RestartCommand(r.To)
	if word == "" || !r.From.Def().Fastboot {
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
			return []finding.Finding{finding.Stops(finding.CommandUnknown, string(r.To),
				"this phone has no userspace fastboot ("+
					place.SourceWords(c.Get(card.FactUserspace))+")",
				"its bootloader does everything there is to do over fastboot")}
		}
		return usedUpFinding(c)
	case card.Sideload:
		return r.landsFinding(c)
	case card.System, card.Recovery:
	default:
		return nil
	}
	slot := c.Value(card.FactNext)
	list := usedUpFinding(c)
	if len(list) > 0 {
		return list
	}
	if yes, _ := c.Yes(card.FactTemporary); yes {
		list = append(list, finding.Warns(finding.TemporaryRecovery, "",
			"the recovery that runs was started without being written, and this restart ends it",
			"to keep it: jarlid recovery install FILE"))
	}
	if r.To == card.System {
		list = append(list, slotFinding(c, slot)...)
		list = append(list, foreignFinding(c, slot, finding.Stop)...)
		list = append(list, restoresFinding(c, m)...)
	}
	return list
}

// usedUpFinding: a recovery and userspace fastboot need a slot with tries left, as the system does.
func usedUpFinding(c *card.Card) []finding.Finding {
	slots := place.UsedUp(c)
	if c.Mode() != card.Bootloader || len(slots) == 0 {
		return nil
	}
	return []finding.Finding{finding.Stops(finding.SlotEmpty, slots[0],
		"no slot can start: all have used up their tries, and nothing starts without a slot, a recovery "+
			"neither", "choose one, which gives its tries back: jarlid slot use "+slots[0])}
}

// landsFinding: a restart into sideload mode starts the slot that is next. Where something was
// installed there, its own recovery comes up, and a package goes over the slot that runs now.
func (r *Restart) landsFinding(c *card.Card) []finding.Finding {
	next := c.Landing()
	if next == "" || !r.rom || r.stays(c) {
		return nil // an add-on belongs to where it lands
	}
	started := c.Value(card.FactStarted)
	return []finding.Finding{finding.Stops(finding.SlotNotStarted, next,
		fmt.Sprintf("slot %s starts next, and the recovery runs on slot %s: the restart into "+
			"sideload mode lands on slot %s, in the recovery that lies there, and from there the ROM goes "+
			"over slot %s%s",
			next, started, next, started, place.ByJob(c.Get(card.FactNext), c.Get(card.FactStarted))),
		"to go on with what was installed to slot "+next+
			": jarlid go recovery; to install to it once more: jarlid slot use "+started)}
}

// stays reports whether a recovery is put into sideload mode from its menu: one without a shell, and
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
		return []finding.Finding{finding.Warns(finding.SlotEmpty, "",
			"nobody can tell which slot starts next", "jarlid slot")}
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
	if p, h, ok := place.Emptied(c, slot); ok {
		f.Text = fmt.Sprintf("%s was erased by an earlier job and not written since%s", p, place.ByJob(h))
		return []finding.Finding{f}
	}
	for _, p := range []string{"boot", "system"} {
		h := c.Get(card.FactHolds.Of(card.At(p, slot)))
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
	if state, pending := place.Unmerged(c); r.To == card.System && pending && state != "" {
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
