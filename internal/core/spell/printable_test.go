package spell

import "testing"

// TestPrintable: what moves a cursor or turns a text around is a blank, and all else stays.
func TestPrintable(t *testing.T) {
	for in, want := range map[string]string{
		"bo\x1b[2Jot":                   "bo [2Jot",
		"a\nb\tc":                       "a\nb\tc",
		"gr\u00fc\u00dfe":               "gr\u00fc\u00dfe",
		"\u202egnp.toob":                " gnp.toob",
		"a\u2066b\u2069c\u200ed\u061ce": "a b c d e",
		"\u009b31m\x7f":                 " 31m ", "": "",
	} {
		if got := string(Printable([]byte(in))); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
}
