package place

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
)

// Target is a destination as a person writes it: PARTITION@SLOT.
type Target struct{ Partition, Slot string }

// SlotWords are the words for slots: booted is the slot the phone booted from or, where nothing runs, the
// one it boots next; active is the one it boots next.
var SlotWords = []string{"a", "b", "both", "booted", "active", "other"}

// ParseTarget reads PARTITION, PARTITION@SLOT or @SLOT, in letters of any case.
func ParseTarget(s string) (Target, error) {
	p, slot, cut := strings.Cut(s, "@")
	slot = strings.ToLower(slot)
	switch {
	case slices.Contains(SlotWords, slot):
	case slot == "" && !cut:
	case slot == "":
		return Target{}, fmt.Errorf("%q names no slot after the @; there is: %s", s, strings.Join(SlotWords,
			", "))
	case slot == "current":
		return Target{}, fmt.Errorf("%q may mean two slots: @booted is the one the phone booted from, "+
			"@active the one it boots next", s)
	default:
		return Target{}, fmt.Errorf("%q is not a slot; there is: %s", slot, strings.Join(SlotWords, ", "))
	}
	return Target{Partition: card.Part(p).String(), Slot: slot}, nil
}

// Numbered reports whether the partition is named by its number, as tables of manufacturers' loaders have
// one.
func (t Target) Numbered() bool {
	_, ok := t.number()
	return ok
}

func (t Target) number() (int64, bool) {
	n, err := strconv.ParseUint(t.Partition, 10, 31)
	return int64(n), err == nil
}

// On gives the target by the name its partition has on this phone, where it was named by its number in
// the table. A name that looks like a number comes first.
func (t Target) On(c *card.Card) Target {
	number, ok := t.number()
	if !ok || There(c, t.Partition) {
		return t
	}
	for _, row := range c.Partitions() {
		if row.Number != nil && *row.Number == number {
			t.Partition = row.Name
			break
		}
	}
	return t
}

// SlotsOf gives the slots a target means on this phone: the empty string alone
// where there are no slots.
func (t Target) SlotsOf(c *card.Card) ([]string, error) {
	all, known := c.Slots()
	if !known {
		return nil, finding.Stopped(finding.SlotNotTold, "", "this phone does not say whether it has slots",
			"name the partition with its suffix, or put the number of slots into its model file")
	}
	if len(all) == 0 {
		if t.Slot != "" && t.Slot != "both" {
			return nil, noSlot(t.Partition, t.Slot)
		}
		return []string{""}, nil
	}
	switch t.Slot {
	case "", "both":
		return all, nil
	case "booted", "active", "other":
		return t.oneSlot(c)
	}
	if !slices.Contains(all, t.Slot) {
		return nil, finding.Stopped(finding.NoSuchSlot, t.Partition, "this phone has no slot "+t.Slot,
			"jarlid slot shows which it has")
	}
	return []string{t.Slot}, nil
}

// oneSlot gives the slot that booted, active or other means.
func (t Target) oneSlot(c *card.Card) ([]string, error) {
	slot, which := c.Running(), "it booted from"
	if t.Slot == "active" {
		slot, which = c.Value(card.FactNext), "it boots next"
	}
	if slot == "" {
		return nil, finding.Stopped(finding.SlotNotTold, t.Partition,
			"this phone does not say which slot "+which, "name the slot: --into @a or --into @b")
	}
	if t.Slot != "other" {
		return []string{slot}, nil
	}
	if c.Landing() != "" {
		return nil, whichSlot(t.Partition, c)
	}
	return []string{card.Other(slot)}, nil
}

// whichSlot is the error of a destination whose slot is not named while the phone boots another one next
// than it booted from.
func whichSlot(partition string, c *card.Card) error {
	what, remedy := "which "+partition+" is meant", ""
	if partition == "" { // the slot alone is asked for
		what, remedy = "which slot is meant", "name the slot: "+c.Running()+" or "+c.Landing()
	}
	return finding.Stopped(finding.NameTheSlot, partition,
		fmt.Sprintf("the phone booted from slot %s and boots slot %s next, so %s is not guessed", c.Running(),
			c.Landing(), what),
		cmp.Or(remedy, fmt.Sprintf("name the slot: %s@%s or %s@%s", partition, c.Running(), partition,
			c.Landing())))
}

// noSlot is the error of a slot that was named on a phone without any.
func noSlot(partition, slot string) error {
	return finding.Stopped(finding.NoSuchSlot, partition,
		fmt.Sprintf("this phone has no slots, so there is no %s@%s", partition, slot), "leave the slot out")
}
