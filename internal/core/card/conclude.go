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
	// usual: phones with those facts commonly are so, and need not be. Every other source outranks it, and it
	// is asked only where no rule before it concludes anything.
	usual bool
}

// rules are all of them. A fact that the phone reports itself is never replaced by one.
var rules = []rule{
	{fact: FactSlots, from: pairOfSlots},
	{fact: FactSlots, from: withoutSuffix},
	{fact: FactSlots, from: hasSlot},
	{fact: FactSlots, from: startedFromSlot},
	{fact: FactCPU, from: kernelAndPrograms},
	{fact: FactCPU, from: recoveryRuns},
	{fact: FactDynamic, from: inSuper},
	{fact: FactHome, from: partitionRecovery},
	{fact: FactHome, from: recoverySet, usual: true},
	{fact: FactHome, from: besideInitBoot, usual: true},
	{fact: FactHome, from: bootOfSlots, usual: true},
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

// inSuper: the partition super exists for no other purpose ("Dynamic partitions" in the platform's
// documentation); where it is not listed, userspace fastboot (is-logical) or the metadata in it may have
// named one of those in it.
func inSuper(c *Card) (string, []ID, string) {
	if id, there := c.There("super"); there {
		return "yes", []ID{id}, "super is there"
	}
	for _, r := range c.Partitions() {
		if r.Logical {
			return "yes", []ID{FactLogical.Of(r.Partition())}, r.Name + " is logical"
		}
	}
	return "", nil, ""
}

// partitionRecovery: there is a partition of that name ("Partitions overview" in the platform's
// documentation).
func partitionRecovery(c *Card) (string, []ID, string) {
	if id, there := c.There("recovery"); there {
		return "recovery", []ID{id}, "the phone has a partition of that name"
	}
	return "", nil, ""
}

// recoverySet: the partition, without a slot, into which the last job installed a recovery.
func recoverySet(c *Card) (base string, rests []ID, why string) {
	last := -1
	for _, i := range c.IDs() {
		if f := c.Get(i); i.Name == Name(FactSet) && f.Known() && f.Job >= last {
			base, rests, last = Part(i.Key).Base, []ID{i}, f.Job
		}
	}
	return base, rests, "a job installed one there"
}

// besideInitBoot: phones with init_boot and without recovery start it from a ramdisk fragment of vendor_boot
// ("Generic boot partition" in the platform's documentation).
func besideInitBoot(c *Card) (string, []ID, string) {
	initBoot, hasInit := c.There("init_boot")
	vendorBoot, hasVendor := c.There("vendor_boot")
	if !hasInit || !hasVendor {
		return "", nil, ""
	}
	return "vendor_boot", []ID{initBoot, vendorBoot}, "there is no partition recovery, and phones with " +
		"init_boot and vendor_boot keep it there"
}

// bootOfSlots: phones with slots and without recovery start it from the boot image ("Recovery images" in the
// platform's documentation).
func bootOfSlots(c *Card) (string, []ID, string) {
	slots, known := c.Slots()
	boot, hasBoot := c.There("boot")
	if !known || len(slots) < 2 || !hasBoot && len(c.Partitions()) == 0 {
		return "", nil, ""
	}
	rests := []ID{FactSlots.ID()}
	if hasBoot {
		rests = append(rests, boot)
	}
	return "boot", rests, "there is no partition recovery, and phones with slots and without it start the " +
		"recovery from the boot image"
}

// ranks order sources: a conclusion counts as the weakest it rests on.
var ranks = []Source{Unknown, Usual, Model, Journal, Saved, Said, Read}

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
	for list := rules; len(list) > 0; { // fact by fact: later ones rest on earlier ones
		n := slices.IndexFunc(list, func(r rule) bool { return r.fact != list[0].fact })
		if n < 0 {
			n = len(list)
		}
		c.conclude(list[:n])
		list = list[n:]
	}
}

// conclude sets one fact by its rules.
func (c *Card) conclude(of []rule) {
	var found []Fact
	for _, r := range of {
		if r.usual && len(found) > 0 {
			break
		}
		value, rests, why := r.from(c)
		if value == "" {
			continue
		}
		f := Fact{Value: value, Source: Concluded, Why: why, Rests: Read, Mode: c.Mode()}
		for _, i := range rests {
			if p := c.Get(i); p.rank() < f.rank() {
				f.Rests = ranks[p.rank()]
			}
		}
		if r.usual {
			f.Rests = Usual
		}
		switch {
		case len(found) > 0 && found[0].rank() > f.rank():
		case len(found) > 0 && found[0].rank() == f.rank():
			found = append(found, f)
		default:
			found = []Fact{f}
		}
	}
	i := of[0].fact.ID()
	if len(found) == 0 || c.Get(i).rank() >= found[0].rank() {
		return
	}
	c.Set(i, found[0])
	for _, f := range found[1:] {
		if f.Value != found[0].Value {
			c.Forget(i, fmt.Sprintf("%s (%s), and %s (%s)", found[0].Why, found[0].Value, f.Why, f.Value))
			return
		}
	}
}
