package advice

import (
	"jarlid/internal/core/card"
	"jarlid/internal/core/model"
)

// Suggestion is the likely next command, and why.
type Suggestion struct {
	Words []string // the command and its arguments; in capitals what a person fills in
	Why   string
}

// Suggest works out from the facts what a technician would do next.
func Suggest(c *card.Card, m *model.Model) Suggestion {
	switch c.Mode() {
	case card.Bootloader:
		if unlocked, known := c.Yes(card.FactUnlocked); known && !unlocked {
			return Suggestion{[]string{"unlock"}, "the bootloader is locked"}
		}
		if !recoverySet(c, m) {
			return Suggestion{[]string{"recovery", "install", "FILE"}, "no recovery has been set on this phone yet, as far as the journal knows"}
		}
		return Suggestion{[]string{"go", "recovery"}, "the recovery is set"}
	case card.Fastbootd:
		return Suggestion{[]string{"go", "bootloader"}, "userspace fastboot is running"}
	case card.Recovery:
		started, next := c.Value(card.FactStarted), c.Value(card.FactNext)
		switch {
		case started != "" && next != "" && started != next:
			return Suggestion{[]string{"go", "recovery"}, "something was installed to slot " + next + ", and the phone still runs on slot " + started}
		case installed(c, started):
			return Suggestion{[]string{"go", "system"}, "the system on slot " + started + " was installed and has not been started"}
		case c.Value(card.FactHolds.Of(card.At("system", started))) == card.Nothing:
			return Suggestion{[]string{"sideload", "PACKAGE"}, "there is no system on it"}
		case c.Value(card.FactData) == card.DataEncrypted:
			return Suggestion{[]string{"wipe", "userdata"}, "the data is encrypted by the system that is on the phone"}
		}
		return Suggestion{[]string{"sideload", "PACKAGE"}, "the recovery is ready"}
	case card.Sideload:
		return Suggestion{[]string{"sideload", "PACKAGE"}, "the phone is waiting for a package"}
	case card.System:
		return Suggestion{[]string{"go", "bootloader"}, "the system is running"}
	}
	return Suggestion{}
}

func recoverySet(c *card.Card, m *model.Model) bool {
	for _, slot := range []string{"", "a", "b"} {
		if c.Get(card.FactDigest.Of(card.At(m.RecoveryPartition(), slot))).Known() {
			return true
		}
	}
	return false
}

func installed(c *card.Card, slot string) bool {
	good, known := c.Yes(card.FactGood.Of(slot))
	if slot == "" {
		known = true // without slots nothing says whether it has started
	}
	system := c.Get(card.FactHolds.Of(card.At("system", slot)))
	return system.Evidence == card.Journal && system.Value != card.Nothing && known && !good
}
