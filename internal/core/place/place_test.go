package place

import (
	"strings"
	"testing"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/model"
)

// phone is a card with these facts, read: a which and its value by turns.
func phone(facts ...any) *card.Card {
	c := &card.Card{}
	for i := 0; i < len(facts); i += 2 {
		c.Learn(facts[i].(card.Which), facts[i+1].(string), card.Read)
	}
	c.Conclude()
	return c
}

// sizes are facts of partitions that are there, 1 MiB each.
func sizes(names ...string) []any {
	var list []any
	for _, n := range names {
		list = append(list, card.FactSize.Of(card.Part(n)), "1048576")
	}
	return list
}

func TestParseTarget(t *testing.T) {
	for s, want := range map[string]Target{
		"":              {},
		"boot":          {Partition: "boot"},
		"boot@a":        {"boot", "a"},
		"@both":         {Slot: "both"},
		"boot@other":    {"boot", "other"},
		"boot_a":        {Partition: "boot_a"},
		"RECOVERY@Both": {"recovery", "both"},
		"Boot_A":        {Partition: "boot_a"},
	} {
		if got, err := ParseTarget(s); err != nil || got != want {
			t.Errorf("%q is %+v, %v", s, got, err)
		}
	}
	for _, s := range []string{"boot@", "boot@c", "@", "boot@a@b"} {
		if got, err := ParseTarget(s); err == nil {
			t.Errorf("%q is %+v", s, got)
		}
	}
}

// TestRecoveryHome: a partition recovery first, then the model file, then what phones commonly do; what
// nothing says is unknown, and never guessed.
func TestRecoveryHome(t *testing.T) {
	two, one := []any{card.FactSlots, "2"}, []any{card.FactSlots, "1"}
	for what, c := range map[string]struct {
		facts []any
		model *model.Model
		want  string // partition and form
	}{
		"nothing known":          {nil, nil, " "},
		"a partition of its own": {append(sizes("boot_a", "recovery_a"), two...), nil, "recovery own"},
		"one slot, one recovery": {append(sizes("boot", "recovery"), one...), nil, "recovery own"},
		"slots, and none":        {append(sizes("boot_a", "boot_b"), two...), nil, "boot ramdisk"},
		"init_boot and vendor_boot": {append(sizes("boot_a", "init_boot_a", "vendor_boot_a"), two...), nil,
			"vendor_boot fragment"},
		"vendor_boot alone":  {append(sizes("boot_a", "vendor_boot_a"), two...), nil, "boot ramdisk"},
		"one slot, and none": {append(sizes("boot"), one...), nil, " "},
		"the model file errs": {append(sizes("boot_a", "recovery_a"), two...),
			&model.Model{Name: "x", Recovery: model.Home{Partition: "lifeboat"}}, "recovery own"},
		"the model file knows": {append(sizes("boot_a", "vendor_boot_a", "init_boot_a"), two...),
			&model.Model{Name: "x", Recovery: model.Home{Partition: "lifeboat"}}, "lifeboat own"},
		"the model file says boot": {nil, &model.Model{Name: "x", Recovery: model.Home{Partition: "boot"}},
			"boot ramdisk"},
		"a model file without a say": {append(sizes("boot_a", "recovery_a"), two...), &model.Model{Name: "x"},
			"recovery own"},
	} {
		k := phone(c.facts...)
		c.model.Learn(k)
		k.Conclude()
		h := RecoveryHome(k)
		if got := h.Partition + " " + h.Form; got != c.want {
			t.Errorf("%s: %s, want %s", what, got, c.want)
		}
		if h.Why == "" || h.Partition == "" && h.Source != card.Unknown {
			t.Errorf("%s: %+v; unwanted: h.Why == '' || h.Partition == '' && h.Source != card.Unknown",
				what, h)
		}
	}
}

// TestOf: where a file goes, and on which slots, unless somebody says so.
func TestOf(t *testing.T) {
	ab := phone(append(sizes("boot_a", "boot_b", "recovery_a", "recovery_b", "radio_a", "radio_b", "misc"),
		card.FactSlots, "2", card.FactNext, "b")...)
	one := phone(append(sizes("boot", "lifeboat"), card.FactSlots, "1")...)
	recovery := &ident.File{Path: "r.img", Kind: ident.Recovery,
		GoesTo: []ident.Destination{{Partition: "recovery", Why: "its contents"}}}
	to := func(p string) *ident.File {
		return &ident.File{Path: p + ".img", Kind: ident.Boot,
			GoesTo: []ident.Destination{{Partition: p, Why: "its contents"}}}
	}
	wader := &model.Model{Name: "x", Recovery: model.Home{Partition: "lifeboat"}, Firmware: []string{"radio"}}
	for what, c := range map[string]struct {
		file  *ident.File
		into  string
		on    *card.Card
		model *model.Model
		want  string
	}{
		"a recovery goes to both":              {recovery, "", ab, nil, "recovery_a recovery_b"},
		"a recovery of one slot":               {recovery, "@a", ab, nil, "recovery_a"},
		"a boot image goes to the next":        {to("boot"), "", ab, nil, "boot_b"},
		"and to the other, if told":            {to("boot"), "@other", ab, nil, "boot_a"},
		"the maker's firmware goes to both":    {to("radio"), "", ab, wader, "radio_a radio_b"},
		"a suffix written by hand":             {to("boot"), "boot_a", ab, nil, "boot_a"},
		"what is there once":                   {to("misc"), "", ab, nil, "misc"},
		"one slot":                             {to("boot"), "", one, nil, "boot"},
		"one slot, a recovery of another name": {recovery, "", one, wader, "lifeboat"},
		"overruled":                            {recovery, "boot@both", ab, nil, "boot_a boot_b"},
	} {
		into, err := ParseTarget(c.into)
		if err != nil {
			t.Fatalf("ParseTarget(c.into): %v", err)
		}
		on := c.on.Clone()
		c.model.Learn(on)
		on.Conclude()
		p, err := Of(Image{File: c.file}, into, on, c.model)
		var names []string
		for _, s := range p.Slots {
			names = append(names, card.At(p.Partition, s).String())
		}
		if got := strings.Join(names, " "); err != nil || got != c.want || p.Why == "" {
			t.Errorf("%s: %q (%s), %v; want %q", what, got, p.Why, err, c.want)
		}
	}
	if _, err := Of(Image{File: &ident.File{Path: "x.bin", Kind: ident.Unknown}}, Target{}, ab,
		nil); err == nil || !strings.Contains(err.Error(), "x.bin") {
		t.Errorf("a file nobody knows: %v", err)
	}
	if _, err := Of(Image{File: to("boot")}, Target{Slot: "b"}, one, nil); err == nil {
		t.Error("a phone with one slot has a slot b")
	}
}

// TestRoomFor: what fits as it is, what fits once others go, and what never does.
func TestRoomFor(t *testing.T) {
	const mib = 1 << 20
	super := func(group string) *card.Card {
		var facts []any
		for n, size := range map[string]string{
			"system_a":  "10485760",
			"product_a": "4194304",
			"vendor_a":  "2097152",
		} {
			facts = append(facts, card.FactSize.Of(card.Part(n)), size, card.FactLogical.Of(card.Part(n)),
				"yes")
		}
		if group != "" {
			facts = append(facts, card.FactGroupMax, group)
		}
		return phone(facts...)
	}
	for _, c := range []struct {
		group       string
		need        int64
		known, fits bool
		goes        string
	}{
		{"", 10 * mib, true, true, ""}, // no larger than what is there
		{"", 10*mib + 1, false, false, ""},
		{"20971520", 14 * mib, true, true, ""},
		{"20971520", 14*mib + 1, true, true, "product_a"}, // rounded up to a block
		{"20971520", 18 * mib, true, true, "product_a"},
		{"20971520", 18*mib + 1, true, false, "product_a"},
	} {
		r := RoomFor(super(c.group), card.At("system", "a"), c.need)
		if r.Known != c.known || r.Fits != c.fits || Names(r.Delete) != c.goes {
			t.Errorf("%d bytes in a group of %q: %+v", c.need, c.group, r)
		}
	}
}

// TestArch: programs for a processor the phone has pass, others stop, and where it does not
// tell it is asked.
func TestArch(t *testing.T) {
	for _, c := range []struct {
		abis []string
		cpus string
		want finding.Severity
	}{
		{nil, "arm64-v8a", ""},
		{[]string{"arm64-v8a"}, "arm64-v8a,armeabi-v7a", ""},
		{[]string{"armeabi-v7a"}, "arm64-v8a, armeabi-v7a", ""},
		{[]string{"x86_64", "arm64-v8a"}, "arm64-v8a", ""},
		{[]string{"x86_64"}, "arm64-v8a", finding.Stop},
		{[]string{"arm64-v8a"}, "armeabi-v7a", finding.Stop},
		{[]string{"arm64-v8a"}, "", finding.Warn},
	} {
		got := finding.Severity("")
		for _, f := range Arch(&ident.File{Path: "a.zip", ABIs: c.abis}, phone(card.FactCPUs, c.cpus)) {
			got = f.Severity
		}
		if got != c.want {
			t.Errorf("%v on %q: %q, want %q", c.abis, c.cpus, got, c.want)
		}
	}
}

// TestByJob: a fact out of a journal names its job; what was read needs no such word.
func TestByJob(t *testing.T) {
	for want, f := range map[string]card.Fact{
		"":                                 {Value: "x", Source: card.Read, Job: 3},
		" (so says the journal of job 12)": {Value: "x", Source: card.Journal, Job: 12},
		" (so says an earlier journal)":    {Value: "x", Source: card.Journal},
	} {
		if got := ByJob(f); got != want {
			t.Errorf("%+v: %q, want %q", f, got, want)
		}
	}
	if got := ByJob(card.Fact{Source: card.Read}, card.Fact{Source: card.Journal,
		Job: 2}); !strings.Contains(got, "job 2") {
		t.Errorf("of several: %q", got)
	}
}

func TestFileName(t *testing.T) {
	for s, want := range map[string]string{"/tmp/x/a.img": "a.img", `C:\files\a.img`: "a.img",
		"a.img": "a.img"} {
		if got := FileName(s); got != want {
			t.Errorf("%q is called %s, want %s", s, got, want)
		}
	}
}

// TestPhoneThatTellsNothing: an exact name is sent as it is, since a bootloader refuses what it
// lacks; a slot can't be meant, and nothing is guessed.
func TestPhoneThatTellsNothing(t *testing.T) {
	f := &ident.File{Path: "x.img", Size: 9, Kind: ident.Boot,
		GoesTo: []ident.Destination{{Partition: "boot", By: "content"}}}
	for into, want := range map[string]string{"boot": "boot ", "recovery": "recovery ", "boot_a": "boot a"} {
		to, err := ParseTarget(into)
		if err != nil {
			t.Fatalf("ParseTarget(into): %v", err)
		}
		p, err := Of(Image{File: f}, to, phone(card.FactUnlocked, "yes", card.FactProduct, "brick"), nil)
		if err != nil || len(p.Slots) != 1 || p.Partition+" "+p.Slots[0] != want {
			t.Errorf("--into %s: %+v, %v", into, p, err)
		}
	}
	for _, into := range []string{"", "@a", "boot@both"} {
		to, err := ParseTarget(into)
		if err != nil {
			t.Fatalf("ParseTarget(into): %v", err)
		}
		if p, err := Of(Image{File: f}, to, phone(card.FactUnlocked, "yes"), nil); err == nil {
			t.Errorf("--into %q is %+v", into, p)
		}
	}
}
