package spell

import "bytes"

// Unprintable reports whether a letter does something to a terminal or a page beside being shown: control
// characters, and marks that change the direction of the text after them (the Unicode standard, 9, tables 2
// and 5), by which a name can be made to look like another one.
func Unprintable(r rune) bool {
	switch {
	case r < ' ', r == 0x7f, r >= 0x80 && r < 0xa0:
		return true
	case r == 0x61c, r == 0x200e, r == 0x200f, r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069:
		return true
	}
	return false
}

// Printable gives a text whose lines stay, without such letters.
func Printable(b []byte) []byte {
	return bytes.Map(func(r rune) rune {
		if Unprintable(r) && r != '\n' && r != '\t' {
			return ' '
		}
		return r
	}, b)
}
