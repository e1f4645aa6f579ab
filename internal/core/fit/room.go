package fit

import (
	"slices"

	"jarlid/internal/core/card"
	"jarlid/internal/core/place"
)

// Segment is one partition's share of the room a slot has, in bytes. The one without a
// name is free.
type Segment struct {
	Name string
	Size int64
	New  bool // holds the image
}

// Bar is the room a slot has and what takes it.
type Bar struct {
	Total    int64
	Segments []Segment
	Over     int64 // by how much it is too small, in bytes
	Super    bool  // it is the slot's part of super, not a partition
}

// Bars gives the room of the slot that is made ready before and after the image is
// written. known is false when nobody can tell.
func (q *Question) Bars() (before, after Bar, known bool) {
	c := q.Card.Clone()
	derive(c)
	spot := systemPlace(c)
	name := spot.String()
	have, told := c.Number(card.FactSize.Of(spot))
	if !told {
		return before, after, false
	}
	need := q.Image.Size
	if !place.Logical(c, "system") {
		before = Bar{Total: have, Segments: []Segment{{Name: name, Size: have}}}
		after = Bar{Total: have, Segments: []Segment{{Name: name, Size: min(need, have), New: true},
			{Size: max(have-need, 0)}}, Over: max(need-have, 0)}
		return before, after, true
	}
	limit, told := c.Number(card.FactGroupMax)
	if !told {
		return before, after, false
	}
	r := place.RoomFor(c, spot, need)
	before.Total, after.Total = limit, limit
	before.Super, after.Super = true, true
	used := [2]int64{}
	for _, p := range c.Partitions() {
		if logical, _ := c.Yes(card.FactLogical.Of(p.Partition())); !logical || p.Size == 0 ||
			spot.Slot != "" && p.Partition().Slot != spot.Slot {
			continue
		}
		before.Segments = append(before.Segments, Segment{Name: p.Name, Size: p.Size})
		used[0] += p.Size
		if slices.Contains(r.Delete, p.Partition()) {
			continue
		}
		s := Segment{Name: p.Name, Size: p.Size, New: p.Name == name}
		if s.New {
			s.Size = max(s.Size, need)
		}
		after.Segments = append(after.Segments, s)
		used[1] += s.Size
	}
	before.Segments = append(before.Segments, Segment{Size: max(limit-used[0], 0)})
	after.Segments = append(after.Segments, Segment{Size: max(limit-used[1], 0)})
	after.Over = max(used[1]-limit, 0)
	return before, after, true
}
