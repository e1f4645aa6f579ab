package card

import "strings"

// sequences are texts whose beginnings some phones report instead of a serial number.
var sequences = []string{"0123456789abcdef", "1234567890abcdef", "123456789abcdef", "abcdef0123456789"}

// Placeholder reports whether a serial number identifies no phone: it is empty, one letter or digit repeated,
// the letters and digits in their order, or a word for an unknown one.
func Placeholder(serial string) bool {
	s := strings.ToLower(strings.Trim(serial, " \t\x00"))
	switch {
	case s == "", strings.Trim(s, "0") == "", len(s) >= 4 && strings.Trim(s, s[:1]) == "":
		return true
	case s == "unknown" || s == "null" || s == "none" || s == "n/a" || s == "undefined" || s == "no_serial":
		return true
	}
	for _, q := range sequences {
		if len(s) >= 5 && strings.HasPrefix(q, s) {
			return true
		}
	}
	return false
}
