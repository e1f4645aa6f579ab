package place

import (
	"strings"

	"jarlid/internal/core/card"
)

// Room is how a logical partition fits into what a slot has.
type Room struct {
	Known  bool             // whether it can be told
	Fits   bool             // as it is, or after what Delete says
	Have   int64            // the partition's size now, in bytes
	Free   int64            // of the slot's group
	Delete []card.Partition // logical partitions that would have to go
	Freed  int64            // by that
}

// spare are the partitions a generic system does without, the first to go first.
var spare = []string{"product", "system_ext", "odm_dlkm", "system_dlkm"}

// RoomFor works out how need bytes fit into a logical partition.
func RoomFor(c *card.Card, p card.Partition, need int64) Room {
	have, known := c.Number(card.FactSize.Of(p))
	r := Room{Have: have}
	const unit = 4096 // sizes in super are rounded up to blocks
	need = (need + unit - 1) / unit * unit
	if known && need <= have {
		r.Known, r.Fits = true, true
		return r
	}
	limit, told := c.Number(card.FactGroupMax)
	if !known || !told {
		return r
	}
	used := int64(0)
	sizes := map[card.Partition]int64{}
	for _, row := range c.Partitions() {
		o := row.Partition()
		if logical, _ := c.Yes(card.FactLogical.Of(o)); !logical || p.Slot != "" && o.Slot != p.Slot {
			continue
		}
		used += row.Size
		sizes[o] = row.Size
	}
	r.Known, r.Free = true, limit-used
	for _, s := range spare {
		if need-have <= r.Free+r.Freed {
			break
		}
		if o := card.At(s, p.Slot); sizes[o] > 0 && o != p {
			r.Delete, r.Freed = append(r.Delete, o), r.Freed+sizes[o]
		}
	}
	r.Fits = need-have <= r.Free+r.Freed
	return r
}

// Names writes partitions one behind the other.
func Names(list []card.Partition) string {
	var names []string
	for _, p := range list {
		names = append(names, p.String())
	}
	return strings.Join(names, ", ")
}
