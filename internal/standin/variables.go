package standin

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"jarlid/internal/core/image/super"
)

type superMeta = super.Metadata

func (b *bootloader) variables() []string {
	p := b.p
	names := []string{"version", "product", "serialno", "unlocked", "secure", "max-download-size",
		"is-userspace"}
	for v := range p.spec.Battery.Variables {
		names = append(names, v)
	}
	for v := range p.spec.Variables {
		names = append(names, v)
	}
	if p.spec.Userspace {
		names = append(names, "snapshot-update-status", "super-partition-name")
	}
	if p.spec.SlotVariables && p.model.Slots > 1 {
		names = append(names, "slot-count", "current-slot")
		for _, s := range []string{"a", "b"} {
			names = append(names, "slot-successful:"+s, "slot-unbootable:"+s, "slot-retry-count:"+s)
		}
		for base := range p.store.Slots {
			if !p.logical(base) || b.user {
				names = append(names, "has-slot:"+base)
			}
		}
	}
	for _, name := range p.store.All() {
		switch {
		case p.store.Has(name):
			names = append(names, "partition-size:"+name, "partition-type:"+name)
		case b.user:
			names = append(names, "partition-size:"+name)
		}
		if b.user {
			names = append(names, "is-logical:"+name)
		}
	}
	names = slices.DeleteFunc(names, b.missing)
	sort.Strings(names)
	return names
}

// ofPartitions are the variables whose argument is a partition.
var ofPartitions = []string{"partition-size", "partition-type", "has-slot", "is-logical"}

// missing tells of a variable this bootloader does not have.
func (b *bootloader) missing(name string) bool {
	name, _, _ = strings.Cut(name, ":")
	return !b.user && slices.Contains(b.p.spec.Missing, name)
}

func (b *bootloader) yesNo(yes bool) string {
	if yes {
		return b.p.spec.Spelling.Yes
	}
	return b.p.spec.Spelling.No
}

// size writes a size as this bootloader does.
func (b *bootloader) size(n int64) string {
	switch b.p.spec.Spelling.Size {
	case "hex":
		return fmt.Sprintf("%x", n)
	case "decimal":
		return fmt.Sprint(n)
	}
	return fmt.Sprintf("0x%x", n)
}

// variable answers getvar; every value is worked out from the phone's state.
func (b *bootloader) variable(name string) (string, bool) {
	p := b.p
	if b.missing(name) {
		return "", false
	}
	name, arg, _ := strings.Cut(name, ":")
	if what, ok := p.spec.Battery.Variables[name]; ok {
		return b.battery(what), true
	}
	if v, ok := p.spec.Variables[name]; ok {
		if v == "$radio" {
			return p.radio(slotName(int(p.store.Slot.Load())))
		}
		return v, true
	}
	switch name {
	case "version":
		return "0.4", true
	case "product":
		return p.spec.Product, true
	case "serialno":
		return p.st.Serial, true
	case "unlocked":
		return b.yesNo(p.unlocked()), true
	case "secure":
		return b.yesNo(!p.unlocked()), true
	case "is-userspace":
		return b.yesNo(b.user), p.spec.Userspace || p.spec.SlotVariables
	case "max-download-size":
		return b.size(int64(p.spec.MaxDownload)), true
	case "partition-size":
		return b.partitionSize(arg)
	case "partition-type":
		t, ok := p.store.Kinds[arg]
		return orElse(t, "raw"), ok
	}
	if p.spec.Userspace {
		switch name {
		case "snapshot-update-status":
			p.mu.Lock()
			defer p.mu.Unlock()
			return orElse(p.st.Snapshot, snapNone), true
		case "super-partition-name":
			return "super", true
		case "is-logical":
			m, err := p.store.Super()
			return b.yesNo(err == nil && m.Partition(arg) != nil), b.user
		}
	}
	if p.spec.SlotVariables && p.model.Slots > 1 {
		return b.slotVariable(name, arg)
	}
	return "", false
}

func (b *bootloader) partitionSize(name string) (string, bool) {
	if n, ok := b.p.store.Sizes[name]; ok {
		if b.p.faulty("lie-size") {
			n *= 2
		}
		return b.size(n), true
	}
	if m, err := b.p.store.Super(); err == nil && b.user {
		if part := m.Partition(name); part != nil {
			return b.size(part.Size()), true
		}
	}
	return "", false
}

func (b *bootloader) slotVariable(name, arg string) (string, bool) {
	c := b.p.control()
	switch name {
	case "slot-count":
		return fmt.Sprint(len(c.Slots)), true
	case "current-slot":
		if b.user {
			return slotName(int(b.p.store.Slot.Load())), true
		}
		if i := c.Next(); i >= 0 {
			return slotName(i), true
		}
		return "", true
	case "has-slot":
		slotted, ok := b.p.store.Slots[arg]
		return b.yesNo(slotted), ok && (b.user || !b.p.logical(arg))
	}
	if arg != "a" && arg != "b" {
		return "", false
	}
	s := c.Slots[arg[0]-'a']
	switch name {
	case "slot-successful":
		return b.yesNo(s.Successful), true
	case "slot-unbootable":
		return b.yesNo(!s.Bootable()), true
	case "slot-retry-count":
		return fmt.Sprint(s.TriesLeft), true
	}
	return "", false
}

func (b *bootloader) battery(what string) string {
	b.p.mu.Lock()
	percent := b.p.st.Percent
	b.p.mu.Unlock()
	switch what {
	case "millivolts":
		// A straight line from 3.3 V empty to full comes near enough.
		return fmt.Sprintf("%dmV", 3300+percent*(b.p.spec.Battery.FullMV-3300)/100)
	case "verdict":
		return b.yesNo(percent >= 15)
	}
	return fmt.Sprint(percent)
}
