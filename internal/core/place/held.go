package place

import (
	"fmt"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image/bcb"
	"jarlid/internal/core/model"
)

// Held is what one slot holds, as far as there is source.
type Held struct {
	What   string      `json:"what"` // system, recovery, or a partition
	Value  string      `json:"value"`
	Source card.Source `json:"source"`
}

// Holds gives what is on a slot: its system, its recovery, and what else jobs
// wrote to it.
func Holds(c *card.Card, m *model.Model, slot string) []Held {
	var list []Held
	add := func(what, partition string) {
		if f := c.Get(card.FactHolds.Of(card.At(partition, slot))); f.Known() {
			list = append(list, Held{what, f.Value, f.Source})
		}
	}
	add("system", "system")
	home := RecoveryHome(c).Partition
	if home != "" {
		add("recovery", home)
	}
	if f := c.Get(card.FactAddons.Of(slot)); f.Known() {
		list = append(list, Held{"add-ons", f.Value, f.Source})
	}
	for _, p := range Usual {
		if p != "system" && p != home {
			add(p, p)
		}
	}
	return list
}

// NextInstall gives the slot the next A/B package will be installed to, empty
// when nobody can tell: the one that is not running. From the bootloader the
// recovery starts from the slot that is next.
func NextInstall(c *card.Card) string {
	from := c.Value(card.FactStarted)
	if from == "" {
		from = c.Value(card.FactNext)
	}
	return card.Other(from)
}

// ShortBuild gives a build's fingerprint as people speak of it: brand, build
// and release. Other names stay as they are.
func ShortBuild(s string) string {
	// brand/product/device:release/id/incremental:type/keys ("build fingerprint"
	// in the platform's compatibility definition)
	head, tail, ok := strings.Cut(s, ":")
	brand, _, slash := strings.Cut(head, "/")
	f := strings.Split(tail, "/")
	if !ok || !slash || len(f) < 3 {
		return s
	}
	return fmt.Sprintf("%s %s (release %s)", brand, f[1], f[0])
}

// PutSystem gives the system that a job put on a slot; "" for one that was only read there.
func PutSystem(c *card.Card, slot string) string {
	if put, _ := c.Yes(card.FactPut.Of(slot)); !put {
		return ""
	}
	return c.Value(card.FactHolds.Of(card.At("system", slot)))
}

// MatchesBuild reports whether a running build is the one that was installed, by
// its fingerprint or name.
func MatchesBuild(installed, version, build string) string {
	if installed == "" || installed == card.Nothing || build == "" && version == "" {
		return "unknown"
	}
	for _, s := range []string{build, version} {
		if s != "" && (strings.Contains(installed, s) || strings.Contains(s, installed)) {
			return "yes"
		}
	}
	return "no"
}

// Foreign reports whether the data is known to belong to another system than the one on a slot,
// "" on a phone without slots.
func Foreign(c *card.Card, slot string) bool {
	yes, _ := c.Yes(card.FactForeign.Of(slot))
	if !yes && slot == c.Value(card.FactNext) { // journals of earlier forms mean the slot that is next
		yes, _ = c.Yes(card.FactForeign.Of(""))
	}
	return yes
}

// HalfWritten reports whether what a partition holds on any slot is unknown since a job was interrupted while
// it wrote there.
func HalfWritten(c *card.Card, base string) bool {
	for _, slot := range card.EverySlot {
		if f := c.Get(card.FactHolds.Of(card.At(base, slot))); !f.Known() && f.Why != "" {
			return true
		}
	}
	return false
}

// UsedUp gives the slots, when the phone reports that none of them can start.
func UsedUp(c *card.Card) []string {
	slots, _ := c.Slots()
	for _, s := range slots {
		if yes, known := c.Yes(card.FactBootable.Of(s)); !known || yes {
			return nil
		}
	}
	return slots
}

// Emptied gives a partition that the system on a slot needs and a job erased; ok is false for none.
func Emptied(c *card.Card, slot string) (p card.Partition, holds card.Fact, ok bool) {
	for _, base := range []string{"boot", "system", "vendor", "init_boot", "vendor_boot"} {
		p = card.At(base, slot)
		if holds = c.Get(card.FactHolds.Of(p)); holds.Source == card.Journal && holds.Value == card.Nothing {
			return p, holds, true
		}
	}
	return card.Partition{}, card.Fact{}, false
}

// Unmerged gives the state of an update whose merge is pending; ok is false where none is known. None is
// pending once a job has erased it, though the phone still reports one.
func Unmerged(c *card.Card) (state string, ok bool) {
	state = c.Value(card.FactSnapshot)
	for _, slot := range card.EverySlot {
		put, known := c.Yes(card.FactPut.Of(slot))
		if known && !put && c.Value(card.FactHolds.Of(card.At("system", slot))) == card.Nothing {
			return state, false
		}
	}
	return state, state != "" && state != bcb.MergeNone && state != bcb.MergeCancelled
}

// LeftInMisc gives what a system that gave up left in misc for its recovery; "" for nothing.
func LeftInMisc(c *card.Card) string {
	if left := c.Value(card.FactReason); left != "none" {
		return left
	}
	return ""
}

// GaveUp is LeftInMisc as long as the data that the system could not use is there.
func GaveUp(c *card.Card) string {
	if c.Value(card.FactData) == card.DataFormatted {
		return ""
	}
	return LeftInMisc(c)
}

// OverForeign reports whether the next start would be that of a system over data which another
// one encrypted.
func OverForeign(c *card.Card) bool {
	return c.Value(card.FactData) == card.DataEncrypted && Foreign(c, c.Value(card.FactNext))
}
