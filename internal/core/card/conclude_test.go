package card

import "testing"

// TestConclude: what follows from which facts, how it ranks, and what contradicts itself.
func TestConclude(t *testing.T) {
	size := func(p string) ID { return FactSize.Of(Part(p)) }
	type known struct {
		fact   Which
		value  string
		source Source
	}
	for _, c := range []struct {
		name   string
		known  []known
		fact   Which
		want   string
		source Source
		rests  Source
		why    string
	}{
		{name: "a pair", known: []known{{size("vbmeta_a"), "9", Read}, {size("vbmeta_b"), "9", Read}},
			fact: FactSlots, want: "2", source: Concluded, rests: Read,
			why: "vbmeta_a and vbmeta_b are there"},
		{name: "one of a pair", known: []known{{size("vbmeta_a"), "9", Read}}, fact: FactSlots,
			source: Unknown},
		{name: "no suffix", known: []known{{size("boot"), "9", Read}}, fact: FactSlots, want: "1",
			source: Concluded, rests: Read, why: "boot is there without a slot suffix"},
		{name: "only radio", known: []known{{size("radio"), "9", Read}}, fact: FactSlots, source: Unknown},
		{name: "has-slot", known: []known{{size("boot"), "9", Read},
			{FactSlotted.Of(At("boot", "")), "yes", Read}},
			fact: FactSlots, want: "2", source: Concluded, rests: Read, why: "boot has slots"},
		{name: "booted from a slot", known: []known{{FactStarted, "b", Read}}, fact: FactSlots, want: "2",
			source: Concluded, rests: Read, why: "it booted from slot b"},
		{name: "the phone's own word", known: []known{{size("boot"), "9", Read}, {FactSlots, "2", Read}},
			fact: FactSlots, want: "2", source: Read},
		{name: "over the model file", known: []known{{size("boot"), "9", Read}, {FactSlots, "2", Model}},
			fact: FactSlots, want: "1", source: Concluded, rests: Read,
			why: "boot is there without a slot suffix"},
		{name: "a recovery of 64 bits runs", known: []known{{FactMode, "recovery", Read},
			{FactRecoveryCPU.Of(Part("recovery")), "arm64-v8a", Journal}}, fact: FactCPU, want: "arm64-v8a",
			source: Concluded, rests: Journal, why: "the recovery that runs is made for it"},
		{name: "a recovery of 32 bits runs", known: []known{{FactMode, "recovery", Read},
			{FactRecoveryCPU.Of(Part("recovery")), "armeabi-v7a", Journal}}, fact: FactCPU, source: Unknown},
		{name: "it does not run", known: []known{{FactMode, "bootloader", Read},
			{FactRecoveryCPU.Of(Part("recovery")), "arm64-v8a", Journal}}, fact: FactCPU, source: Unknown},
		{name: "from the model file's own", known: []known{{size("boot"), "9", Model},
			{FactSlots, "2", Model}},
			fact: FactSlots, want: "2", source: Model},
		{name: "the weakest counts", known: []known{{size("boot_a"), "9", Read},
			{size("boot_b"), "9", Journal}},
			fact: FactSlots, want: "2", source: Concluded, rests: Journal,
			why: "boot_a and boot_b are there"},
		{name: "contradictory", known: []known{{size("boot"), "9", Read}, {FactStarted, "a", Read}},
			fact: FactSlots, source: Unknown,
			why: "boot is there without a slot suffix (1), and it booted from slot a (2)"},
		{name: "the stronger of two", known: []known{{size("boot"), "9", Journal}, {FactStarted, "a", Read}},
			fact: FactSlots, want: "2", source: Concluded, rests: Read, why: "it booted from slot a"},
		{name: "super", known: []known{{size("super"), "9", Read}}, fact: FactDynamic, want: "yes",
			source: Concluded, rests: Read, why: "super is there"},
		{name: "a logical partition", known: []known{{size("system_a"), "9", Read},
			{FactLogical.Of(Part("system_a")), "yes", Journal}}, fact: FactDynamic, want: "yes",
			source: Concluded, rests: Journal, why: "system_a is logical"},
		{name: "a recovery of its own over the model file", known: []known{{size("recovery"), "9", Read},
			{FactHome, "lifeboat", Model}}, fact: FactHome, want: "recovery", source: Concluded, rests: Read,
			why: "the phone has a partition of that name"},
		{name: "the model file over what is usual", known: []known{{size("boot_a"), "9", Read},
			{size("boot_b"), "9", Read}, {FactHome, "lifeboat", Model}}, fact: FactHome, want: "lifeboat",
			source: Model},
		{name: "usual with slots", known: []known{{size("boot_a"), "9", Read}, {size("boot_b"), "9", Read}},
			fact: FactHome, want: "boot", source: Concluded, rests: Usual, why: "there is no partition " +
				"recovery, and phones with slots and without it start the recovery from the boot image"},
		{name: "where a job installed one", known: []known{{size("boot_a"), "9", Read},
			{size("boot_b"), "9", Read}, {FactSet.Of(Part("lifeboat_a")), "x.img", Journal}}, fact: FactHome,
			want: "lifeboat", source: Concluded, rests: Usual, why: "a job installed one there"},
		{name: "a processor", known: []known{{FactKernelConf, "CONFIG_A=y\nCONFIG_ARM64=y", Read},
			{FactVendor64, "64", Read}}, fact: FactCPU, want: "arm64-v8a", source: Concluded, rests: Read,
			why: "its kernel has CONFIG_ARM64=y and its vendor programs have 64 bits"},
		{name: "a kernel alone", known: []known{{FactKernelConf, "CONFIG_ARM64=y", Read}}, fact: FactCPU,
			source: Unknown},
	} {
		k := &Card{}
		for _, f := range c.known {
			k.Learn(f.fact, f.value, f.source)
		}
		for range 2 { // a second time changes nothing
			k.Conclude()
			f := k.Get(c.fact)
			if f.Value != c.want || f.Source != c.source || f.Rests != c.rests || f.Why != c.why {
				t.Errorf("%s: got %+v, want %q from %s", c.name, f, c.want, c.source)
			}
		}
	}
}
