package plan

import (
	"jarlid/internal/core/card"
	"jarlid/internal/core/model"
)

// Suggestion is the likely next command, and why.
type Suggestion struct{ Command, Why string }

// Suggest works out from the facts what a technician would do next.
func Suggest(c *card.Card, m *model.Model) Suggestion {
	switch c.Mode() {
	case card.Bootloader:
		if unlocked, known := c.Yes(card.FactUnlocked); known && !unlocked {
			return Suggestion{"jarlid unlock", "the bootloader is locked"}
		}
		if !recoverySet(c, m) {
			return Suggestion{"jarlid recovery set FILE", "no recovery has been set on this phone yet, as far as the journal knows"}
		}
		return Suggestion{"jarlid go recovery", "the recovery is set"}
	case card.Fastbootd:
		return Suggestion{"jarlid go bootloader", "userspace fastboot is running"}
	case card.Recovery:
		started, next := c.Value(card.FactStarted), c.Value(card.FactNext)
		switch {
		case started != "" && next != "" && started != next:
			return Suggestion{"jarlid go recovery", "something was installed to slot " + next + ", and the phone still runs on slot " + started}
		case installed(c, started):
			return Suggestion{"jarlid go system", "the system on slot " + started + " was installed and has not been started"}
		case c.Value(card.FactHolds+Suffixed("system", started)) == Nothing:
			return Suggestion{"jarlid sideload PACKAGE", "there is no system on it"}
		case c.Value(card.FactData) == card.DataEncrypted:
			return Suggestion{"jarlid wipe userdata", "the data is encrypted by the system that is on the phone"}
		}
		return Suggestion{"jarlid sideload PACKAGE", "the recovery is ready"}
	case card.Sideload:
		return Suggestion{"jarlid sideload PACKAGE", "the phone is waiting for a package"}
	case card.System:
		return Suggestion{"jarlid go bootloader", "the system is running"}
	}
	return Suggestion{}
}

func recoverySet(c *card.Card, m *model.Model) bool {
	for _, slot := range []string{"", "a", "b"} {
		if c.Get(card.FactDigest + Suffixed(m.RecoveryPartition(), slot)).Known() {
			return true
		}
	}
	return false
}

func installed(c *card.Card, slot string) bool {
	good, known := c.Yes(card.FactGood + slot)
	if slot == "" {
		known = true // without slots nothing says whether it has started
	}
	system := c.Get(card.FactHolds + Suffixed("system", slot))
	return system.Evidence == card.Journal && system.Value != Nothing && known && !good
}
