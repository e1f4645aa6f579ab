package device

import (
	"jarlid/internal/core/image/bcb"
)

// Message changes the bootloader message and nothing else in misc.
func (p *Phone) Message(m bcb.Message) error {
	return p.misc(func(b []byte) error { return m.Put(b) })
}

func (p *Phone) misc(change func([]byte) error) error {
	b, err := p.Store.Head("misc", bcb.Size)
	if err == nil {
		if err = change(b); err == nil {
			err = p.Store.Put("misc", b, 0)
		}
	}
	if err != nil {
		p.Show("misc could not be changed: %v", err)
	}
	return err
}

// Control reads the slot control block. A damaged or erased one is made again,
// slot a first, as bootloaders do.
func (p *Phone) Control() *bcb.Control {
	b, err := p.Store.Head("misc", bcb.Size)
	if err == nil {
		if c, err := bcb.ParseControl(b); err == nil && len(c.Slots) == 2 {
			return c
		}
	}
	full := bcb.Slot{Priority: bcb.MaxPriority, TriesLeft: bcb.MaxTries}
	second := full
	second.Priority--
	return &bcb.Control{Suffix: "_a", Slots: []bcb.Slot{full, second}}
}

// SetControl writes the slot control block.
func (p *Phone) SetControl(c *bcb.Control) error {
	return p.misc(func(b []byte) error { return c.Put(b) })
}

// SlotName is a slot's letter.
func SlotName(i int) string { return string(rune('a' + i)) }

// NextSlot is the slot that would start, -1 when none can.
func (p *Phone) NextSlot() int {
	if p.Model.Slots < 2 {
		return 0
	}
	return p.Control().Next()
}

// On gives a partition's full name on a slot.
func (p *Phone) On(base, slot string) string {
	if p.Store.Slots[base] {
		return base + "_" + slot
	}
	return base
}

// OrElse gives other in place of an empty text.
func OrElse(s, other string) string {
	if s == "" {
		return other
	}
	return s
}
