package place

import (
	"slices"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/model"
)

// Home is where a phone keeps its recovery.
type Home struct {
	Partition string      `json:"partition"` // that is written to set one; "" when nobody can tell
	Form      string      `json:"form"`      // own, ramdisk (of the boot image), fragment (of vendor_boot)
	Why       string      `json:"why"`
	Source    card.Source `json:"source"`
	Rests     card.Source `json:"rests_on,omitempty"` // as card.Fact
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

// RecoveryHome gives where the recovery lives: what follows from the partitions, what a person or the model
// file says, or what phones of this kind commonly do.
func RecoveryHome(c *card.Card) Home {
	f := c.Get(card.FactHome)
	switch {
	case f.Known() && f.Value != "":
		h := Home{Partition: f.Value, Form: formOf(f.Value), Why: f.Why, Source: f.Source, Rests: f.Rests}
		switch f.Source {
		case card.Model:
			h.Why = "the model file of " + c.Value(card.FactModel) + " says so"
		case card.Said:
			h.Why = "you said so"
		case card.Journal, card.Saved:
			h.Why = SourceWords(f)
		}
		return h
	case f.Why != "":
		return Home{Source: card.Unknown, Why: f.Why}
	case len(c.Partitions()) == 0:
		return Home{Source: card.Unknown, Why: "the phone does not report its partitions in this mode, and " +
			"there is no model file for it"}
	}
	return Home{Source: card.Unknown, Why: "there is no partition called recovery; it may have another " +
		"name, which a model file can give"}
}

// HomeSaid is a home that a person named by its partition.
func HomeSaid(partition string) Home {
	return Home{Partition: partition, Form: formOf(partition), Source: card.Said, Why: "you said so"}
}

// HomeFor is RecoveryHome for a file: where the phone's partitions decide nothing, the form of the recovery
// may. What is concluded of the phone alone is unknown where the recovery was made for another form.
func HomeFor(c *card.Card, f *ident.File) Home {
	h := RecoveryHome(c)
	form, partition := "", ""
	switch {
	case f.Kind == ident.Recovery:
		form = "own"
	case f.Kind == ident.BootWithRecovery:
		form, partition = "ramdisk", "boot"
	case f.Vendor != nil && f.Vendor.Recovery() != nil:
		form, partition = "fragment", "vendor_boot"
	}
	if h.Partition == "" && partition != "" && There(c, partition) {
		return Home{Partition: partition, Form: form, Source: card.Concluded, Rests: card.Usual,
			Why: "there is no partition recovery, and the recovery is made for " + partition}
	}
	return h
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

// ofSystem are the other partitions that systems and their packages write ("Partitions overview" in the
// platform's documentation), and the partitions of the owner's data.
var ofSystem = []string{"boot", "init_boot", "vendor_boot", "vendor_kernel_boot", "recovery", "dtbo", "dtb",
	"super",
	"super_empty", "vbmeta", "vbmeta_system", "vbmeta_vendor", "userdata", "metadata", "cache", "misc"}

// OfSystem reports whether a partition belongs to systems, recoveries or the owner's data, and not to the
// manufacturer's firmware.
func OfSystem(base string) bool {
	return slices.Contains(Dynamic, base) || slices.Contains(ofSystem, base)
}

// Logical reports whether a partition is in super on this phone.
func Logical(c *card.Card, base string) bool {
	for _, slot := range card.EverySlot {
		if yes, known := c.Yes(card.FactLogical.Of(card.At(base, slot))); known {
			return yes
		}
	}
	dynamic, _ := c.Yes(card.FactDynamic)
	return dynamic && !There(c, base) && slices.Contains(Dynamic, base)
}

// There reports whether the phone is known to have a partition, on a slot or without.
func There(c *card.Card, base string) bool {
	_, there := c.There(base)
	return there
}

// QuietRecovery reports whether the recovery of a slot is known to give no shell, and so is never
// seen in its menu. Without a slot's name it has to be so on both.
func QuietRecovery(c *card.Card, slot string) bool {
	home := RecoveryHome(c).Partition
	yes, known := c.Yes(card.FactQuiet.Of(card.At(home, slot)))
	if slot == "" && !known {
		a, _ := c.Yes(card.FactQuiet.Of(card.At(home, "a")))
		b, _ := c.Yes(card.FactQuiet.Of(card.At(home, "b")))
		return a && b
	}
	return yes
}

// RecoverySet reports whether the active slot's recovery was set by a job, and may have a shell.
func RecoverySet(c *card.Card) bool {
	home := RecoveryHome(c).Partition
	slots := card.EverySlot
	if next := c.Value(card.FactNext); next != "" {
		slots = []string{next}
	}
	return slices.ContainsFunc(slots, func(slot string) bool {
		return c.Get(card.FactSet.Of(card.At(home, slot))).Known() && !QuietRecovery(c, slot)
	})
}
