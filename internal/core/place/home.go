package place

import (
	"slices"

	"jarlid/internal/core/card"
	"jarlid/internal/core/model"
)

// Home is where a phone keeps its recovery.
type Home struct {
	Partition string      `json:"partition"` // that is written to set one; "" when nobody can tell
	Form      string      `json:"form"`      // own, ramdisk (of the boot image), fragment (of vendor_boot)
	Why       string      `json:"why"`
	Source    card.Source `json:"source"`
}

// Words says what the home is.
func (h Home) Words() string {
	switch h.Form {
	case "ramdisk":
		return "the ramdisk of the boot image"
	case "fragment":
		return "a ramdisk fragment of vendor_boot"
	case "own":
		return "the partition " + h.Partition
	}
	return "nobody can tell"
}

// RecoveryHome works out where the recovery lives: from the model file, else
// from the partitions the phone has.
func RecoveryHome(c *card.Card, m *model.Model) Home {
	if m != nil && m.Recovery.Partition != "" {
		return Home{Partition: m.Recovery.Partition, Form: formOf(m.Recovery.Partition), Source: card.Model,
			Why: "the model file of " + m.Name + " says so"}
	}
	has := func(base string) bool {
		return There(c, base)
	}
	switch {
	case has("recovery"):
		return Home{Partition: "recovery", Form: "own", Source: card.Read,
			Why: "the phone has a partition of that name"}
	case !has("boot") && len(c.Partitions()) == 0:
		return Home{Source: card.Unknown, Why: "the phone does not tell its partitions in this mode, and " +
			"there is no model file for it"}
	case has("vendor_boot") && has("init_boot"):
		return Home{Partition: "vendor_boot", Form: "fragment", Source: card.Read,
			Why: "there is no partition recovery, and phones with init_boot and vendor_boot keep it there"}
	}
	if slots, known := c.Slots(); known && len(slots) > 1 {
		return Home{Partition: "boot", Form: "ramdisk", Source: card.Read,
			Why: "there is no partition recovery, and phones with slots and without it start the recovery " +
				"from the boot image"}
	}
	return Home{Source: card.Unknown, Why: "there is no partition called recovery; it may have another " +
		"name, which a model file can give"}
}

// ImageMode is the mode this phone takes images in, by command: its bootloader, or its manufacturer's loader
// where it has one. Without a model file that is known from the loader, once it was met.
func ImageMode(c *card.Card, m *model.Model) card.Mode {
	if m.HasLoader() || m == nil && (c.Mode() == card.Loader || slices.ContainsFunc(c.Partitions(),
		func(r card.TableRow) bool {
			return r.Number != nil
		})) {
		return card.Loader
	}
	return card.Bootloader
}

func formOf(partition string) string {
	switch partition {
	case "boot":
		return "ramdisk"
	case "vendor_boot":
		return "fragment"
	}
	return "own"
}

// Dynamic are the partitions that are in super on phones that have it ("Dynamic
// partitions" in the platform's documentation).
var Dynamic = []string{"system", "system_ext", "product", "vendor", "odm", "system_dlkm", "vendor_dlkm",
	"odm_dlkm"}

// Logical reports whether a partition is in super on this phone.
func Logical(c *card.Card, base string) bool {
	for _, slot := range []string{"", "a", "b"} {
		if yes, known := c.Yes(card.FactLogical.Of(card.At(base, slot))); known {
			return yes
		}
	}
	return !There(c, base) && There(c, "super") && slices.Contains(Dynamic, base)
}

// There reports whether the phone is known to have a partition, on a slot or without.
func There(c *card.Card, base string) bool {
	for _, slot := range []string{"", "a"} {
		if _, known := c.Number(card.FactSize.Of(card.At(base, slot))); known {
			return true
		}
	}
	return false
}

// QuietRecovery reports whether the recovery of a slot is known to give no shell, and so is never
// seen in its menu. Without a slot's name it has to be so on both.
func QuietRecovery(c *card.Card, m *model.Model, slot string) bool {
	home := RecoveryHome(c, m).Partition
	yes, known := c.Yes(card.FactQuiet.Of(card.At(home, slot)))
	if slot == "" && !known {
		a, _ := c.Yes(card.FactQuiet.Of(card.At(home, "a")))
		b, _ := c.Yes(card.FactQuiet.Of(card.At(home, "b")))
		return a && b
	}
	return yes
}
