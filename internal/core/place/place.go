package place

import (
	"cmp"
	"fmt"
	"slices"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/model"
	"jarlid/internal/core/spell"
)

// Image is one file to be flashed.
type Image struct {
	File  *ident.File
	Label string // how it is called, when it came out of another file
}

// Placed is an image with its destination.
type Placed struct {
	Image
	Partition string
	Slots     []string
	Why       string
	Logical   bool
	Forced    bool
	OneSlot   bool // a person named one of the slots
}

// Sure reports whether the file's contents say where it goes, and not its name or a person.
func (p Placed) Sure() bool {
	return !p.Forced && len(p.File.GoesTo) > 0 && p.File.GoesTo[0].By != "name"
}

// NowhereError says that nobody can tell where a file goes.
type NowhereError struct{ Label, What string }

// Error names the file.
func (e *NowhereError) Error() string {
	return fmt.Sprintf("nobody can tell where %s belongs: it is %s", e.Label, e.What)
}

// Unwrap gives the finding.
func (e *NowhereError) Unwrap() error {
	return finding.Stopped(finding.DestinationUnknown, e.Label, e.Error(), "name the partition with --into")
}

// Of works out where an image goes on this phone. into, when it names a
// partition, overrules; when it names a slot alone, that counts.
func Of(im Image, into Target, c *card.Card, m *model.Model) (Placed, error) {
	home := HomeFor(c, im.File)
	p := Placed{Image: im, Partition: into.Partition, Forced: into.Partition != "", Why: "--into says so"}
	slot := into.Slot
	f := im.File
	label := cmp.Or(im.Label, FileName(f.Path))
	if no := NotContent(f, label); no != nil && (!p.Forced || no[0].Final) {
		return p, &finding.StopError{Findings: no}
	}
	if p.Partition == "" {
		if no := Installed(f, label); no != nil {
			return p, &finding.StopError{Findings: no}
		}
		if len(f.GoesTo) == 0 {
			return p, &NowhereError{label, f.What()}
		}
		d := f.GoesTo[0]
		p.Partition, p.Why = d.Partition, d.Why
		if d.Partition == "recovery" && home.Partition != "" && home.Partition != "recovery" {
			p.Partition, p.Why = home.Partition,
				fmt.Sprintf("it is a recovery, and this phone keeps its recovery in %s: %s", home.Words(),
					home.Why)
		}
	} else if named := card.Part(p.Partition); named.Slot != "" {
		if _, known := c.Number(card.FactSize.Of(named)); known { // the suffix was written by hand
			slot = cmp.Or(slot, named.Slot)
			p.Partition = named.Base
		}
	}
	p.Logical = Logical(c, p.Partition)
	if _, known := c.Slots(); !known && p.Forced && slot == "" {
		// A phone that tells nothing of itself is sent the name as it was given: its bootloader
		// refuses one it does not have, and nothing is harmed by that.
		named := card.Part(into.Partition)
		p.Partition, p.Slots, p.Why = named.Base, []string{named.Slot},
			"--into says so, and the phone tells no partitions"
		return p, nil
	}
	if all, known := c.Slots(); known && len(all) == 0 && slot != "" && slot != "both" {
		return p, noSlot(p.Partition, slot)
	}
	if slotted, known := c.Yes(card.FactSlotted.Of(card.At(p.Partition, ""))); known && !slotted ||
		!HasSlots(c, p.Partition) {
		p.Slots = []string{""}
		return p, nil
	}
	p.OneSlot = slot != "" && slot != "both"
	if all, known := c.Slots(); slot == "" && !(known && len(all) == 0) {
		// A recovery and the manufacturer's firmware belong on both slots, everything else
		// to the slot that is being made ready.
		slot = "booted"
		if f.HoldsRecovery() && p.Partition == home.Partition && home.Form == "own" ||
			m != nil && slices.Contains(m.Firmware, p.Partition) || ident.Risky(p.Partition) {
			slot = "both"
		}
		if slot != "both" && c.Landing() != "" {
			return p, whichSlot(p.Partition, c)
		}
	}
	slots, err := Target{Partition: p.Partition, Slot: slot}.SlotsOf(c)
	p.Slots = slots
	return p, err
}

// HasSlots is false for a partition that is known to be there once only.
func HasSlots(c *card.Card, base string) bool {
	plain, a := sized(c, base)
	return !plain || a
}

// sized reports whether a partition's size is known without a slot, and on slot a.
func sized(c *card.Card, base string) (plain, a bool) {
	_, plain = c.Number(card.FactSize.Of(card.At(base, "")))
	_, a = c.Number(card.FactSize.Of(card.At(base, "a")))
	return plain, a
}

// Slotted is true for a partition that is known to be there once for each slot.
func Slotted(c *card.Card, base string) bool {
	if yes, known := c.Yes(card.FactSlotted.Of(card.At(base, ""))); known {
		return yes
	}
	plain, a := sized(c, base)
	return a && !plain
}

// Usual is the order in which partitions are written when nobody says another:
// firmware, what starts, the systems, and what vouches for them last.
var Usual = []string{"bootloader", "radio", "modem", "dtbo", "dtb", "vendor_boot", "init_boot", "boot",
	"recovery", "super",
	"vendor", "odm", "system_ext", "product", "system", "vbmeta_vendor", "vbmeta_system", "vbmeta"}

// Order sorts images in the order they are written: as the set's manifest has
// it, otherwise as the table of a manufacturer's loader has it, otherwise as the model file has it, otherwise
// the usual one. Logical partitions come after all others, since they need another mode.
func Order(list []Placed, manifest []string, c *card.Card, m *model.Model) (sorted []Placed, why string) {
	order, why := manifest, "as the set's manifest has it"
	if table := byTable(list, c); len(order) == 0 && len(table) > 0 {
		order, why = table, "as the table of partitions in the phone's loader has it"
	}
	if len(order) == 0 && m != nil && len(m.Order) > 0 {
		order, why = m.Order, "as the model file has it"
	}
	if len(order) == 0 {
		order, why = Usual, "firmware first, then what starts, then the systems, and last what vouches "+
			"for them"
	}
	rank := func(p Placed) int {
		n := slices.Index(order, p.Partition)
		if n < 0 {
			n = len(order) + slices.Index(Usual, p.Partition)
		}
		if p.Logical {
			n += 1 << 20
		}
		return n
	}
	sorted = slices.Clone(list)
	slices.SortStableFunc(sorted, func(a, b Placed) int { return rank(a) - rank(b) })
	return sorted, why
}

// byTable gives the partitions of a list in the order of a loader's table, where it tells all of them. The
// table is known in other modes too, from the last time.
func byTable(list []Placed, c *card.Card) (order []string) {
	if c == nil {
		return nil
	}
	number := map[string]int64{}
	for _, p := range list {
		n, ok := c.Number(card.FactNumber.Of(card.Part(p.Partition)))
		if !ok {
			return nil
		}
		if _, twice := number[p.Partition]; !twice {
			number[p.Partition], order = n, append(order, p.Partition)
		}
	}
	slices.SortStableFunc(order, func(a, b string) int { return cmp.Compare(number[a], number[b]) })
	return order
}

// Spot is a partition a file would go to on one phone, and whether it can.
type Spot struct {
	Name card.Partition
	Word string // good, warn, stop
	Text string
}

// Spots works out where flash would write an image on the phone c is about, or a package's
// payload would; false for what is no image of one partition.
func Spots(c *card.Card, m *model.Model, f *ident.File) ([]Spot, bool) {
	if f.Package != nil || f.Payload != nil || len(f.GoesTo) != 1 {
		return nil, false
	}
	p, err := Of(Image{File: f}, Target{}, c, m)
	if err != nil {
		return nil, false
	}
	var list []Spot
	for _, s := range p.Slots {
		list = append(list, place(c, card.At(p.Partition, s), f))
	}
	return list, true
}

// OnPhone works out where a file goes on the phone c is about, partition being
// the phone's own name for its destination.
func OnPhone(c *card.Card, partition, slot string, f *ident.File) []Spot {
	if slots, known := c.Slots(); known && len(slots) == 0 {
		slot = ""
	}
	if slotted, known := c.Yes(card.FactSlotted.Of(card.At(partition, ""))); known && !slotted {
		return []Spot{place(c, card.At(partition, ""), f)}
	}
	slots, err := Target{Partition: partition, Slot: slot}.SlotsOf(c)
	if err != nil {
		return []Spot{{Name: card.At(partition, ""), Word: "warn", Text: spell.Error(err)}}
	}
	var list []Spot
	for _, s := range slots {
		list = append(list, place(c, card.At(partition, s), f))
	}
	return list
}

func place(c *card.Card, p card.Partition, f *ident.File) Spot {
	if c.Value(card.FactSize.Of(p)) == card.Nothing {
		return Spot{p, "stop", "this phone has no such partition"}
	}
	n, known := c.Number(card.FactSize.Of(p))
	size := max(f.Size, f.Inside)
	switch {
	case !known:
		return Spot{p, "warn", "the phone does not say in this mode its size"}
	case f.Package == nil && f.Payload == nil && n < size:
		return Spot{p, "stop", fmt.Sprintf("it holds %s, the image has %s", image.Size(n), image.Size(size))}
	}
	return Spot{p, "good", "it holds " + image.Size(n)}
}
