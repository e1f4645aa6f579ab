package plan

import (
	"jarlid/internal/core/card"
	"jarlid/internal/core/model"
)

// Held is what one slot holds, as far as there is evidence.
type Held struct {
	What     string        `json:"what"` // system, recovery, or a partition
	Value    string        `json:"value"`
	Evidence card.Evidence `json:"evidence"`
}

// Holds gives what is on a slot: its system, its recovery, and what else jobs
// wrote to it.
func Holds(c *card.Card, m *model.Model, slot string) []Held {
	var list []Held
	add := func(what, partition string) {
		if f := c.Get(card.FactHolds + Suffixed(partition, slot)); f.Known() {
			list = append(list, Held{what, f.Value, f.Evidence})
		}
	}
	add("system", "system")
	home := RecoveryHome(c, m).Partition
	if home != "" {
		add("recovery", home)
	}
	for _, p := range usual {
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
