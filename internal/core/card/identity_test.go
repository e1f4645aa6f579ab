package card

import "testing"

// TestPlaceholder: numbers that many phones report identify none of them.
func TestPlaceholder(t *testing.T) {
	for serial, want := range map[string]bool{
		"": true, "0": true, "0000000000": true, "FFFFFFFF": true, "????????": true,
		"0123456789ABCDEF": true, "0123456789": true, "1234567890": true, "12345": true, "unknown": true,
		"null":       true,
		"WL-DU-0007": false, "0123": false, "A": false, "1A2B3C": false, "0000000001": false,
		"01234567890": false,
	} {
		if got := Placeholder(serial); got != want {
			t.Errorf("Placeholder(%q) is %v, want %v", serial, got, want)
		}
	}
}
