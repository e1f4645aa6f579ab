package card

import "strings"

// Partition is one partition of a phone: its name without a slot's suffix, and
// the slot, "" for one that is there once only.
type Partition struct {
	Base string `json:"base" yaml:"base"`
	Slot string `json:"slot,omitempty" yaml:"slot,omitempty"`
}

// At gives a partition on a slot; slot is "" on phones without slots.
func At(base, slot string) Partition { return Partition{Base: base, Slot: slot} }

// Part reads a partition's name as phones tell it, or people type it: boot_a is boot on slot a. Names
// are kept in small letters, since one manufacturer's table has RECOVERY where another's has recovery, and
// what is known of a partition has to hold for both; how this phone writes it the wire remembers.
func Part(name string) Partition {
	if strings.ContainsAny(name, "ABCDEFGHIJKLMNOPQRSTUVWXYZ") { // few are, and this is asked often
		small := []byte(name)
		for i, c := range small { // letters alone: a name keeps its length, whatever bytes are in it
			if c >= 'A' && c <= 'Z' {
				small[i] = c + 'a' - 'A'
			}
		}
		name = string(small)
	}
	if n := len(name); n > 2 && name[n-2] == '_' && (name[n-1] == 'a' || name[n-1] == 'b') {
		return Partition{Base: name[:n-2], Slot: name[n-1:]}
	}
	return Partition{Base: name}
}

// String gives the name as the phone knows it.
func (p Partition) String() string {
	if p.Slot == "" {
		return p.Base
	}
	return p.Base + "_" + p.Slot
}

// On gives the same partition on another slot.
func (p Partition) On(slot string) Partition { return Partition{Base: p.Base, Slot: slot} }

// Other gives the slot that is not the given one, of two.
func Other(slot string) string {
	switch slot {
	case "a":
		return "b"
	case "b":
		return "a"
	}
	return ""
}
