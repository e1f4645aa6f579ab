package card

import (
	"fmt"
	"slices"
	"strings"
)

// rule concludes a fact from others.
type rule struct {
	fact Which
	// from gives the value and the facts it rests on, and says why; "" where they say nothing.
	from func(c *Card) (value string, rests []ID, why string)
}

// rules are all of them. A fact that the phone reports itself is never replaced by one.
var rules = []rule{
	{FactSlots, pairOfSlots},
	{FactSlots, withoutSuffix},
	{FactSlots, hasSlot},
	{FactSlots, startedFromSlot},
	{FactCPU, kernelAndPrograms},
	{FactCPU, recoveryRuns},
}

// pairOfSlots: a partition that is there with both suffixes (the platform's "A/B (seamless) system updates").
func pairOfSlots(c *Card) (string, []ID, string) {
	for _, r := range c.Partitions() {
		p := r.Partition()
		b := FactSize.Of(p.On("b"))
		if _, both := c.Number(b); p.Slot == "a" && both {
			return "2", []ID{FactSize.Of(p), b}, r.Name + " and " + p.On("b").String() + " are there"
		}
	}
	return "", nil, ""
}

// withoutSuffix: boot, system or recovery has one partition. Some bootloaders list such names on phones with
// slots too, and report has-slot for them.
func withoutSuffix(c *Card) (string, []ID, string) {
	if two, _, _ := pairOfSlots(c); two != "" {
		return "", nil, ""
	}
	for _, base := range []string{"boot", "system", "recovery"} {
		p := At(base, "")
		slotted, _ := c.Yes(FactSlotted.Of(p))
		if _, there := c.Number(FactSize.Of(p)); there && !slotted {
			return "1", []ID{FactSize.Of(p)}, base + " is there without a slot suffix"
		}
	}
	return "", nil, ""
}

// hasSlot: the bootloader's variable of that name.
func hasSlot(c *Card) (string, []ID, string) {
	boot := FactSlotted.Of(At("boot", ""))
	switch yes, known := c.Yes(boot); {
	case !known:
		return "", nil, ""
	case yes:
		return "2", []ID{boot}, "boot has slots"
	}
	return "1", []ID{boot}, "boot has no slots"
}

// startedFromSlot: the running system or recovery was booted from a slot (ro.boot.slot_suffix).
func startedFromSlot(c *Card) (string, []ID, string) {
	if s := c.Value(FactStarted); s != "" {
		return "2", []ID{FactStarted.ID()}, "it booted from slot " + s
	}
	return "", nil, ""
}

// kernelAndPrograms: a 64-bit kernel, and vendor programs of that width. Without the latter a phone may run
// 32-bit programs alone (CONFIG_ARM64 and the platform's "32-bit and 64-bit" builds).
func kernelAndPrograms(c *Card) (string, []ID, string) {
	if c.Value(FactVendor64) != "64" {
		return "", nil, ""
	}
	for option, abi := range map[string]string{"CONFIG_ARM64=y": "arm64-v8a", "CONFIG_X86_64=y": "x86_64"} {
		if slices.Contains(strings.Fields(c.Value(FactKernelConf)), option) {
			return abi, []ID{FactKernelConf.ID(), FactVendor64.ID()}, "its kernel has " + option +
				" and its vendor programs have 64 bits"
		}
	}
	return "", nil, ""
}

// recoveryRuns: the phone is in a recovery, and the installed recovery has 64 bits. One of 32 bits also runs
// on a processor that has 64.
func recoveryRuns(c *Card) (string, []ID, string) {
	if m := c.Mode(); m != Recovery && m != Sideload {
		return "", nil, ""
	}
	value, rests := "", []ID(nil)
	for _, i := range c.IDs() {
		v, started := c.Value(i), c.Value(FactStarted)
		if i.Name != Name(FactRecoveryCPU) || v == "" || started != "" && Part(i.Key).Slot != started {
			continue
		}
		if !strings.Contains(v, "64") || value != "" && v != value {
			return "", nil, ""
		}
		value, rests = v, append(rests, i)
	}
	if value == "" {
		return "", nil, ""
	}
	return value, rests, "the recovery that runs is made for it"
}

// ranks order sources: a conclusion counts as the weakest it rests on.
var ranks = []Source{Unknown, Model, Journal, Saved, Said, Read}

func (f Fact) rank() int {
	if f.Source == Concluded {
		return slices.Index(ranks, f.Rests)
	}
	return slices.Index(ranks, f.Source)
}

// Conclude replaces all conclusions by those that follow from the present facts. Conclusions outrank weaker
// sources, such as a model file. Two of one rank that contradict each other make the fact unknown.
func (c *Card) Conclude() {
	for _, i := range c.IDs() {
		if c.facts[i].Source == Concluded {
			delete(c.facts, i)
		}
	}
	found := map[ID][]Fact{}
	for _, r := range rules {
		value, rests, why := r.from(c)
		if value == "" {
			continue
		}
		f := Fact{Value: value, Source: Concluded, Why: why, Rests: Read, Mode: c.Mode()}
		for _, i := range rests {
			if p := c.Get(i); p.rank() < f.rank() {
				f.Rests = p.Source
			}
		}
		i := r.fact.ID()
		switch had := found[i]; {
		case len(had) > 0 && had[0].rank() > f.rank():
		case len(had) > 0 && had[0].rank() == f.rank():
			found[i] = append(had, f)
		default:
			found[i] = []Fact{f}
		}
	}
	for i, list := range found {
		if c.Get(i).rank() >= list[0].rank() {
			continue
		}
		c.Set(i, list[0])
		for _, f := range list[1:] {
			if f.Value != list[0].Value {
				c.Forget(i, fmt.Sprintf("%s (%s), and %s (%s)", list[0].Why, list[0].Value, f.Why, f.Value))
				break
			}
		}
	}
}
