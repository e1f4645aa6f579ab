package plan

import (
	"fmt"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
)

// Place is a partition a file would go to on one phone, and whether it can.
type Place struct {
	Name string
	Word string // good, care, stop
	Text string
}

// PlaceOf works out where a file goes on the phone c is about, partition being
// the phone's own name for its destination.
func PlaceOf(c *card.Card, partition, slot string, f *ident.File) []Place {
	if slots, known := c.Slots(); known && len(slots) == 0 {
		slot = ""
	}
	if slotted, known := c.Yes(card.FactSlotted + partition); known && !slotted {
		return []Place{place(c, partition, f)}
	}
	slots, err := Target{Partition: partition, Slot: slot}.SlotsOf(c)
	if err != nil {
		return []Place{{Name: partition, Word: "care", Text: err.Error()}}
	}
	var list []Place
	for _, s := range slots {
		list = append(list, place(c, Suffixed(partition, s), f))
	}
	return list
}

func place(c *card.Card, name string, f *ident.File) Place {
	if c.Value(card.FactSize+name) == Nothing {
		return Place{name, "stop", "this phone has no such partition"}
	}
	n, known := c.Number(card.FactSize + name)
	size := max(f.Size, f.Inside)
	switch {
	case !known:
		return Place{name, "care", "the phone does not say in this mode whether it is there and how large"}
	case f.Package == nil && f.Payload == nil && n < size:
		return Place{name, "stop", fmt.Sprintf("it holds %s, the image has %s", image.Size(n), image.Size(size))}
	}
	return Place{name, "good", "it holds " + image.Size(n)}
}
