package card

import "testing"

// TestSpellings: the ways real bootloaders write numbers.
func TestSpellings(t *testing.T) {
	for s, want := range map[string]int64{"0x10000000": 1 << 28, " 0X4000": 0x4000, "268435456": 1 << 28,
		"10000000":             0x10000000,
		"4000000":              0x4000000,
		"00800000":             0x800000,
		"1e00000":              0x1e00000,
		"4096":                 4096,
		"16M":                  16 << 20,
		"16384K":               16 << 20,
		"1 MiB":                1 << 20,
		"2GB":                  2 << 30,
		"1ab":                  0x1ab,
		"0":                    0,
		"":                     -1,
		"none":                 -1,
		"-5":                   -1,
		"0xffffffffffffffffff": -1} {
		n, ok := ParseSize(s)
		if !ok {
			n = -1
		}
		if n != want {
			t.Errorf("size %q is %d, want %d", s, n, want)
		}
	}
	for s, want := range map[string]int64{
		"4012mV":  4012,
		"4012":    4012,
		"4.01 V":  4010,
		"3987000": 3987,
		"8.4V":    8400,
		"4":       4000,
		"0":       -1,
		"full":    -1,
		"84":      -1,
	} {
		n, ok := ParseMillivolts(s)
		if !ok {
			n = -1
		}
		if n != want {
			t.Errorf("voltage %q is %d, want %d", s, n, want)
		}
	}
	for s, want := range map[string]string{
		"yes":   "y",
		"TRUE":  "y",
		"1":     "y",
		"no":    "n",
		"False": "n",
		"0":     "n",
		"":      "?",
		"maybe": "?",
	} {
		yes, ok := ParseYes(s)
		got := map[[2]bool]string{{true, true}: "y", {false, true}: "n"}[[2]bool{yes, ok}]
		if got == "" {
			got = "?"
		}
		if got != want {
			t.Errorf("%q means %s, want %s", s, got, want)
		}
	}
}

// TestMerge: what is known stays, what is unknown is learnt.
func TestMerge(t *testing.T) {
	var c, o Card
	c.Learn(FactNext, "a", Read)
	c.Forget(FactData, "not read")
	o.Learn(FactNext, "b", Journal)
	o.Learn(FactData, DataFormatted, Journal)
	c.Merge(&o)
	if c.Value(FactNext) != "a" || c.Get(FactNext).Source != Read || c.Get(FactData).Source != Journal {
		t.Errorf("%+v; unwanted: c.Value(FactNext) != 'a' || c.Get(FactNext).Source != Read || ...",
			c.Facts())
	}
	clone := c.Clone()
	clone.Forget(FactNext, "")
	if c.Value(FactNext) != "a" {
		t.Error("a clone is not independent")
	}
}

func TestCompareVersions(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{
		{"1.2", "1.2", 0},
		{"1.2", "1.10", -1},
		{"2", "2.0", 0},
		{"2.0.0", "2", 0},
		{"2.1", "2", 1},
		{"2", "2.0.1", -1},
		{"A-1.9", "A-1.10", -1}, {"G.01", "G.1", 0}, {"alpha", "beta", -1}, {"", "", 0}, {"", "1", -1},
	} {
		if got := CompareVersions(c.a, c.b); got != c.want || CompareVersions(c.b, c.a) != -c.want {
			t.Errorf("%q and %q: %d, want %d", c.a, c.b, got, c.want)
		}
	}
}

func TestParseBytes(t *testing.T) {
	for s, want := range map[string]int64{
		"4096":     4096,
		"64MiB":    64 << 20,
		"1.5GiB":   3 << 29,
		"6 GB":     6e9,
		" 2k ":     2048,
		"0":        0,
		"-1":       -1,
		"GiB":      -1,
		"":         -1,
		"1e300GiB": -1,
		"NaN":      -1,
		"ten":      -1,
	} {
		if n, ok := ParseBytes(s); ok != (want >= 0) || ok && n != want {
			t.Errorf("%q: %d, %v; unwanted: ok != (want >= 0) || ok && n != want", s, n, ok)
		}
	}
}

// TestSave: a saved card knows what it knew, as saved; unknown stays unknown.
func TestSave(t *testing.T) {
	c := &Card{}
	c.Set(FactMode, Fact{Value: "bootloader", Source: Read})
	c.Learn(FactUnlocked, "yes", Read)
	c.Learn(FactSize.Of(At("boot", "a")), "4096", Model)
	c.Forget(FactData, "nobody looked")
	b, err := c.Save("desk")
	if err != nil {
		t.Fatalf("c.Save('desk'): %v", err)
	}
	got, name, err := Load(b)
	if err != nil || name != "desk" || got.Value(FactUnlocked) != "yes" ||
		got.Get(FactUnlocked).Source != Saved ||
		got.Get(FactSize.Of(At("boot", "a"))).Source != Saved || got.Get(FactData).Known() ||
		got.Get(FactData).Why != "nobody looked" {
		t.Errorf("Load(b): %v, %q, %v", got, name, err)
	}
	if p := got.Partitions(); len(p) != 1 || p[0].Name != "boot_a" || p[0].Size != 4096 {
		t.Errorf("Load(b): %+v; unwanted: len(p) != 1 || p[0].Name != 'boot_a' || p[0].Size != 4096", p)
	}
	for _, s := range []string{"", "{}", `{"form":"jarlid card 9"}`, "[1]",
		`{"form":"jarlid card 2","facts":{}}`, `{"form":"jarlid card 3","facts":[]}`} {
		if _, _, err := Load([]byte(s)); err == nil {
			t.Errorf("%q was taken for a card", s)
		}
	}
}

// TestSheet: every fact of the sheet is there, known or not, and says where it
// could be read.
func TestSheet(t *testing.T) {
	c := &Card{}
	c.Learn(FactSlots, "1", Model)
	for _, r := range c.Sheet() {
		if r.Label == "" || !r.Fact.Known() && r.Where == "" {
			t.Errorf("%+v; unwanted: r.Label == '' || !r.Fact.Known() && r.Where == ''", r)
		}
		if r.ID == FactNext.ID() {
			t.Error("a phone without slots has a next one")
		}
	}
}

func FuzzLoad(f *testing.F) {
	f.Add([]byte(`{"form":"jarlid card 3","facts":{"mode":{"value":"recovery","source":"read"},` +
		`"partition.size:x":{"value":"9","source":"read"}}}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		if c, _, err := Load(b); err == nil {
			c.Sheet()
			c.Partitions()
		}
	})
}
