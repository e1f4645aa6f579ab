package plan

import (
	"slices"

	"jarlid/internal/core/card"
	"jarlid/internal/core/model"
)

// Home is where a phone keeps its recovery.
type Home struct {
	Partition string        `json:"partition"` // that is written to set one; "" when nobody can tell
	Form      string        `json:"form"`      // own, ramdisk (of the boot image), fragment (of vendor_boot)
	Why       string        `json:"why"`
	Evidence  card.Evidence `json:"evidence"`
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
		return Home{Partition: m.Recovery.Partition, Form: formOf(m.Recovery.Partition), Evidence: card.Model, Why: "the model file of " + m.Name + " says so"}
	}
	has := func(base string) bool {
		for _, n := range []string{base, base + "_a"} {
			if _, known := c.Number(card.FactSize + n); known {
				return true
			}
		}
		return false
	}
	switch {
	case has("recovery"):
		return Home{Partition: "recovery", Form: "own", Evidence: card.Read, Why: "the phone has a partition of that name"}
	case !has("boot"):
		return Home{Evidence: card.Unknown, Why: "the phone does not tell its partitions in this mode, and there is no model file for it"}
	case has("vendor_boot") && has("init_boot"):
		return Home{Partition: "vendor_boot", Form: "fragment", Evidence: card.Read, Why: "there is no partition recovery, and phones with init_boot and vendor_boot keep it there"}
	}
	if slots, known := c.Slots(); known && len(slots) > 1 {
		return Home{Partition: "boot", Form: "ramdisk", Evidence: card.Read, Why: "there is no partition recovery, and phones with slots and without it start the recovery from the boot image"}
	}
	return Home{Evidence: card.Unknown, Why: "there is no partition called recovery; on phones with one slot it may have another name, which a model file can give"}
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

// dynamic are the partitions that lie in super on phones that have it ("Dynamic
// partitions" in the platform's documentation).
var dynamic = []string{"system", "system_ext", "product", "vendor", "odm", "system_dlkm", "vendor_dlkm", "odm_dlkm"}

// Logical tells whether a partition lies in super on this phone.
func Logical(c *card.Card, base string) bool {
	for _, n := range []string{base, base + "_a", base + "_b"} {
		if yes, known := c.Yes(card.FactLogical + n); known {
			return yes
		}
	}
	for _, n := range []string{base, base + "_a"} {
		if _, known := c.Number(card.FactSize + n); known {
			return false
		}
	}
	_, super := c.Number(card.FactSize + "super")
	return super && slices.Contains(dynamic, base)
}

// Room is how a logical partition fits into what a slot has.
type Room struct {
	Known  bool     // whether it can be told
	Fits   bool     // as it is, or after what Delete says
	Have   int64    // the partition's size now, in bytes
	Free   int64    // of the slot's group
	Delete []string // logical partitions that would have to go, by full name
	Freed  int64    // by that
}

// spare are the partitions a generic system does without, the first to go first.
var spare = []string{"product", "system_ext", "odm_dlkm", "system_dlkm"}

// RoomFor works out how need bytes fit into a logical partition.
func RoomFor(c *card.Card, base, slot string, need int64) Room {
	name := Suffixed(base, slot)
	have, known := c.Number(card.FactSize + name)
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
	sizes := map[string]int64{}
	for _, p := range c.Partitions() {
		if logical, _ := c.Yes(card.FactLogical + p.Name); !logical || slot != "" && p.Name != Suffixed(baseOf(p.Name), slot) {
			continue
		}
		used += p.Size
		sizes[p.Name] = p.Size
	}
	r.Known, r.Free = true, limit-used
	for _, s := range spare {
		if need-have <= r.Free+r.Freed {
			break
		}
		n := Suffixed(s, slot)
		if sizes[n] > 0 && n != name {
			r.Delete, r.Freed = append(r.Delete, n), r.Freed+sizes[n]
		}
	}
	r.Fits = need-have <= r.Free+r.Freed
	return r
}

func baseOf(name string) string {
	if n := len(name); n > 2 && name[n-2] == '_' && (name[n-1] == 'a' || name[n-1] == 'b') {
		return name[:n-2]
	}
	return name
}
