package card

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
)

// TestTable: every fact is declared once, whole names alone tell facts apart, and
// what earlier forms called them is found again.
func TestTable(t *testing.T) {
	seen := map[Name]bool{}
	for _, d := range Defs {
		if d.Name == "" || seen[d.Name] || strings.Contains(string(d.Name), ":") || d.Kind == "" {
			t.Errorf("%+v; unwanted: d.Name == '' || seen[d.Name] || ...", d)
		}
		seen[d.Name] = true
		key := map[Keyed]string{BySlots: "a", ByPartitions: "system_a", ByWords: "storage"}[d.By]
		i := ID{d.Name, key}
		if got, err := ParseID(i.String()); err != nil || got != i {
			t.Errorf("%s is read as %v, %v", i, got, err)
		}
		for _, o := range Defs {
			// What is learnt from a partition's contents has to be told from other facts
			// whose names begin alike.
			if o.Name != d.Name && i == (ID{o.Name, key}) {
				t.Errorf("%s and %s are one", d.Name, o.Name)
			}
		}
	}
	for _, bad := range []string{"", "hashtree", "partition.size", "slot.next:a", "partition", "data.:x"} {
		if i, err := ParseID(bad); err == nil {
			t.Errorf("%q is read as %v", bad, i)
		}
	}
	b, err := json.Marshal(map[ID]Fact{FactSize.Of(At("boot", "a")): {Value: "1"}})
	var back map[ID]Fact
	if err != nil || json.Unmarshal(b, &back) != nil || back[FactSize.Of(Part("boot_a"))].Value != "1" {
		t.Errorf("json.Marshal(...): %s, %v: %v", b, err, back)
	}
}

// TestWritten: what is forgotten when a partition is written, and what is not.
func TestWritten(t *testing.T) {
	all := []Which{FactDigest.Of(At("system", "a")), FactDigest.Of(At("system", "b")),
		FactTreeRoot.Of(At("system", "a")), FactTreeRoot.Of(At("system", "b")),
		FactFlags.Of(At("vbmeta", "a")),
		FactVersion, FactVNDK, FactAddons.Of("a"), FactAddons.Of("b"), FactStored.Of("storage"),
		FactStored.Of("sd"), FactNext, FactSize.Of(At("system", "a")), FactUnlocked}
	for _, c := range []struct{ written, running, forgotten string }{
		{"system_a", "a", "addons:a digest:system_a system.version"},
		{"system_b", "a", "addons:b digest:system_b"},
		{"vbmeta_a", "a", "tree.root:system_a vbmeta.flags:vbmeta_a"},
		{"vbmeta_system_b", "a", "tree.root:system_b"},
		{"vbmeta", "", "tree.root:system_a tree.root:system_b"},
		{"vendor_a", "a", "vndk"},
		{"vendor_b", "a", ""},
		{"vendor_b", "", "vndk"},
		{"userdata", "a", "stored:storage"},
		{"boot_a", "a", ""},
	} {
		card := &Card{}
		for _, w := range all {
			card.Learn(w, "x", Journal)
		}
		card.Set(FactStarted, Fact{Value: c.running, Source: Read})
		card.Set(FactNext, Fact{Value: c.running, Source: Read})
		if c.running == "" {
			card.Set(FactStarted, Fact{})
			card.Set(FactNext, Fact{})
		}
		before := card.Clone()
		card.Written(Part(c.written), "why")
		var gone []string
		for _, i := range card.IDs() {
			if before.Get(i).Known() && !card.Get(i).Known() {
				gone = append(gone, i.String())
			}
		}
		if got := strings.Join(gone, " "); got != c.forgotten {
			t.Errorf("%s, running %q: %q, want %q", c.written, c.running, got, c.forgotten)
		}
	}
}

// TestSameAs: digests that are known, pending and unknown.
func TestSameAs(t *testing.T) {
	known := func(v string) Fact { return Fact{Value: v, Source: Journal} }
	pending := func(v string) Fact { return Fact{Value: v, Source: Journal, Pending: true} }
	for _, c := range []struct {
		a, b        Fact
		same, known bool
	}{
		{known("1"), known("1"), true, true},
		{known("1"), known("2"), false, true},
		{known("1"), Fact{}, false, false},
		{Fact{}, Fact{}, false, false},
		{pending("x.img"), pending("x.img"), true, true},
		{pending("x.img"), pending("y.img"), false, false},
		{pending("1"), known("1"), false, false},
	} {
		if same, known := c.a.SameAs(c.b); same != c.same || known != c.known {
			t.Errorf("%+v and %+v: %v, %v", c.a, c.b, same, known)
		}
	}
	var card Card
	card.Set(FactDigest.Of(At("boot", "a")), pending("x.img"))
	if card.Value(FactDigest.Of(At("boot", "a"))) != "" {
		t.Error("a pending digest has a value")
	}
}

// TestModes: each mode has a row of words of its own, and the groups that facts are read in are in the
// table's order, since the first of several modes is the one that is preferred.
func TestModes(t *testing.T) {
	words := map[string]bool{}
	for _, m := range []Mode{Bootloader, Fastbootd, Recovery, Sideload, System, Loader} {
		d := m.Def()
		if d.Mode != m || d.Words == "" || words[d.Words] || !slices.Contains(Modes, m) {
			t.Errorf("the row of %s is %+v; want one of its own", m, d)
		}
		words[d.Words] = true
	}
	if len(words) != len(Modes) {
		t.Errorf("the table has %d modes, want the %d above: a new one belongs into this test", len(Modes),
			len(words))
	}
	if got := None.Def(); got != (ModeDef{Words: "not seen"}) {
		t.Errorf("the row of no mode is %+v; want one that can do nothing", got)
	}
	for name, c := range map[string]struct{ got, want []Mode }{
		"take images":    {ImageModes(), []Mode{Bootloader, Fastbootd, Loader}},
		"speak fastboot": {FastbootModes(), []Mode{Bootloader, Fastbootd}},
		"report facts":   {most, []Mode{Bootloader, Fastbootd, Recovery, System, Loader}},
	} {
		if !slices.Equal(c.got, c.want) {
			t.Errorf("the modes that %s are %v, want %v", name, c.got, c.want)
		}
	}
}
