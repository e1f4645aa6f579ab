package parttable

import "testing"

// TestTables: what a table may not be.
func TestTables(t *testing.T) {
	for text, good := range map[string]bool{
		"0 boot 100 raw rw\n":         true,
		"":                            true,
		"1 a 5 - - more words\n":      true,
		"0 boot 100 raw\n":            false,
		"0 boot -1 raw rw\n":          false,
		"x boot 1 raw rw\n":           false,
		"0 boot 1 raw rw":             false,
		"0 a 1 - r\n0 b 1 - r\n":      false,
		"0 a 1 - r\n1 a 1 - r\n":      false,
		"0 ../a 1 - r\n":              false,
		"0 a 99999999999999999 - r\n": false,
		"0 a\x1b 1 - r\n":             false,
		"0 \xff 1 - r\n":              false,
	} {
		if _, err := Parse([]byte(text)); (err == nil) != good {
			t.Errorf("Parse([]byte(text)): %q: %v; unwanted: (err == nil) != good", text, err)
		}
	}
}

func FuzzTable(f *testing.F) {
	f.Add([]byte("0 loader 1048576 loader -\n4 recovery 16777216 ext rw\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if list, err := Parse(b); err == nil {
			if again, err := Parse(Encode(list)); err != nil || len(again) != len(list) {
				t.Fatalf("Parse(Encode(list)): %v %v; unwanted: err != nil || len(again) != len(list)",
					again, err)
			}
		}
	})
}
