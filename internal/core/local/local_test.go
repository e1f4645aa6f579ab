package local

import (
	"strings"
	"testing"
)

// TestName: what some system does not take is written so that it can be read back.
func TestName(t *testing.T) {
	for p, want := range map[string]string{
		"boot.img":  "boot.img",
		"a/b c.txt": "a/b c.txt",
		"What?.txt": "What%3F.txt",
		"a:b":       "a%3Ab",
		"aux":       "%61ux",
		"AUX.txt":   "%41UX.txt",
		"auxiliary": "auxiliary",
		"dir./x":    "dir%2E/x",
		"x ":        "x%20",
		"50%":       "50%25",
		`a\b`:       "a%5Cb",
		"com1.log":  "%63om1.log",
		"com10":     "com10",
		"nul ":      "%6Eul%20",
		"grüße.txt": "grüße.txt",
		"a\nb":      "a%0Ab",
		".hidden":   ".hidden",
		"..":        "%2E%2E",
		"x/../y":    "x/%2E%2E/y",
	} {
		got := Name(p)
		if got != want {
			t.Errorf("%q: %q, want %q", p, got, want)
		}
		if back, err := original(got); err != nil || back != p {
			t.Errorf("%q is read back as %q, %v", got, back, err)
		}
	}
}

// TestNames: two files never share a name, on no system.
func TestNames(t *testing.T) {
	var n Names
	for _, c := range [][2]string{
		{"boot.img", "boot.img"},
		{"boot.img", "boot (2).img"},
		{"Boot.IMG", "Boot (3).IMG"},
		{"boot (2).img", "boot (2) (2).img"},
		{"STRASSE", "STRASSE"},
		{"a/x", "a/x"},
		{"A/X", "A/X (2)"},
		{"x.", "x%2E"},
		{"x", "x"},
	} {
		if got := n.For(c[0]); got != c[1] {
			t.Errorf("%q: %q, want %q", c[0], got, c[1])
		}
	}
}

func FuzzName(f *testing.F) {
	f.Add("a:b/aux./x%41")
	f.Fuzz(func(t *testing.T, p string) {
		got := Name(p)
		if back, err := original(got); err != nil || back != p {
			t.Errorf("Original(got): %q: %q, %q, %v; unwanted: err != nil || back != p", p, got, back, err)
		}
		if strings.ContainsAny(got, "<>:\"|?*\\\x00") {
			t.Errorf("%q: %q; unwanted: strings.ContainsAny(got, '<>:\\'|?*\\\\\\x00')", p, got)
		}
		if Name(got) == got && got != p {
			t.Errorf("%q stands for two", got)
		}
	})
}
