package card

import "testing"

// TestSpellings: the ways real bootloaders write numbers.
func TestSpellings(t *testing.T) {
	for s, want := range map[string]int64{"0x10000000": 1 << 28, " 0X4000": 0x4000, "268435456": 1 << 28, "10000000": 0x10000000,
		"4000000": 0x4000000, "00800000": 0x800000, "1e00000": 0x1e00000, "4096": 4096, "0": 0, "": -1, "none": -1, "-5": -1,
		"0xffffffffffffffffff": -1} {
		n, ok := ParseSize(s)
		if !ok {
			n = -1
		}
		if n != want {
			t.Errorf("size %q is %d, want %d", s, n, want)
		}
	}
	for s, want := range map[string]int64{"4012mV": 4012, "4012": 4012, "4.01 V": 4010, "3987000": 3987, "8.4V": 8400, "4": 4000, "0": -1, "full": -1, "84": -1} {
		n, ok := ParseMillivolts(s)
		if !ok {
			n = -1
		}
		if n != want {
			t.Errorf("voltage %q is %d, want %d", s, n, want)
		}
	}
	for s, want := range map[string]string{"yes": "y", "TRUE": "y", "1": "y", "no": "n", "False": "n", "0": "n", "": "?", "maybe": "?"} {
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
	if c.Value(FactNext) != "a" || c.Get(FactNext).Evidence != Read || c.Get(FactData).Evidence != Journal {
		t.Errorf("%+v", c.Facts())
	}
	clone := c.Clone()
	clone.Forget(FactNext, "")
	if c.Value(FactNext) != "a" {
		t.Error("a clone is not independent")
	}
}
