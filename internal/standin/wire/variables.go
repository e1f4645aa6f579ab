package wire

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"jarlid/internal/standin/device"
)

func (b *bootloader) variables() []string {
	p := b.p
	names := []string{"version", "product", "serialno", "unlocked", "secure", "max-download-size",
		"is-userspace"}
	for v := range p.Spec.Battery.Variables {
		names = append(names, v)
	}
	for v := range p.Spec.Variables {
		names = append(names, v)
	}
	if p.Spec.Userspace {
		names = append(names, "snapshot-update-status", "super-partition-name")
	}
	if p.Spec.SlotVariables && p.Model.Slots > 1 {
		names = append(names, "slot-count", "current-slot")
		for _, s := range []string{"a", "b"} {
			names = append(names, "slot-successful:"+s, "slot-unbootable:"+s, "slot-retry-count:"+s)
		}
		for base := range p.Store.Slots {
			if !p.Logical(base) || b.user {
				names = append(names, "has-slot:"+base)
			}
		}
	}
	for _, name := range p.Store.All() {
		switch {
		case p.Store.Has(name):
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
	return !b.user && slices.Contains(b.p.Spec.Missing, name)
}

func (b *bootloader) yesNo(yes bool) string {
	if yes {
		return b.p.Spec.Spelling.Yes
	}
	return b.p.Spec.Spelling.No
}

// size writes a size as this bootloader does.
func (b *bootloader) size(n int64) string {
	switch b.p.Spec.Spelling.Size {
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
	if what, ok := p.Spec.Battery.Variables[name]; ok {
		return b.battery(what), true
	}
	if v, ok := p.Spec.Variables[name]; ok {
		if v == "$radio" {
			return p.Radio(device.SlotName(int(p.Store.Slot.Load())))
		}
		return v, true
	}
	switch name {
	case "version":
		return "0.4", true
	case "product":
		return p.Spec.Product, true
	case "serialno":
		return p.State.Serial, true
	case "unlocked":
		return b.yesNo(p.Unlocked()), true
	case "secure":
		return b.yesNo(!p.Unlocked()), true
	case "is-userspace":
		return b.yesNo(b.user), p.Spec.Userspace || p.Spec.SlotVariables
	case "max-download-size":
		return b.size(int64(p.Spec.MaxDownload)), true
	case "partition-size":
		return b.partitionSize(arg)
	case "partition-type":
		t, ok := p.Store.Kinds[arg]
		return device.OrElse(t, "raw"), ok
	}
	if p.Spec.Userspace {
		switch name {
		case "snapshot-update-status":
			p.Mu.Lock()
			defer p.Mu.Unlock()
			return device.OrElse(p.State.Snapshot, device.SnapNone), true
		case "super-partition-name":
			return "super", true
		case "is-logical":
			m, err := p.Store.Super()
			return b.yesNo(err == nil && m.Partition(arg) != nil), b.user
		}
	}
	if p.Spec.SlotVariables && p.Model.Slots > 1 {
		return b.slotVariable(name, arg)
	}
	return "", false
}

func (b *bootloader) partitionSize(name string) (string, bool) {
	if n, ok := b.p.Store.Sizes[name]; ok {
		if b.p.Faulty("lie-size") {
			n *= 2
		}
		return b.size(n), true
	}
	if m, err := b.p.Store.Super(); err == nil && b.user {
		if part := m.Partition(name); part != nil {
			return b.size(part.Size()), true
		}
	}
	return "", false
}

func (b *bootloader) slotVariable(name, arg string) (string, bool) {
	c := b.p.Control()
	switch name {
	case "slot-count":
		return fmt.Sprint(len(c.Slots)), true
	case "current-slot":
		if b.user {
			return device.SlotName(int(b.p.Store.Slot.Load())), true
		}
		if i := c.Next(); i >= 0 {
			return device.SlotName(i), true
		}
		return "", true
	case "has-slot":
		slotted, ok := b.p.Store.Slots[arg]
		return b.yesNo(slotted), ok && (b.user || !b.p.Logical(arg))
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
	b.p.Mu.Lock()
	percent := b.p.State.Percent
	b.p.Mu.Unlock()
	switch what {
	case "millivolts":
		// A straight line from 3.3 V empty to full comes near enough.
		return fmt.Sprintf("%dmV", 3300+percent*(b.p.Spec.Battery.FullMV-3300)/100)
	case "verdict":
		return b.yesNo(percent >= 15)
	}
	return fmt.Sprint(percent)
}
