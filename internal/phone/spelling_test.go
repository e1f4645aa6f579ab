package phone

import (
	"strings"
	"testing"

	"jarlid/internal/core/card"
)

// TestSpelling: what is sent is spelt as the phone has it; of two that differ in their case alone the one
// in small letters is meant, in whichever order they are told.
func TestSpelling(t *testing.T) {
	for names, want := range map[string]map[string]string{
		"": {"boot_a": "boot_a"},
		"BOOT_a BOOT_b MISC": {
			"boot":   "BOOT",
			"boot_a": "BOOT_a",
			"boot_b": "BOOT_b",
			"misc":   "MISC",
			"misc_a": "MISC_a",
			"other":  "other",
		},
		"Boot":                {"boot": "Boot", "boot_b": "Boot_b"},
		"LOGO logo":           {"logo": "logo"},
		"logo LOGO":           {"logo": "logo"},
		"Logo LOGO":           {"logo": "LOGO"},
		"LOGO Logo":           {"logo": "LOGO"},
		"\xff\xfe_a \u0130_b": {"\xff\xfe": "\xff\xfe", "\u0130": "\u0130"},
	} {
		s := &Session{}
		for name := range strings.FieldsSeq(names) {
			s.told(name)
		}
		for small, as := range want {
			if got := s.Spelling(card.Part(small)); got != as {
				t.Errorf("of %q, %s is spelt %q, not %q", names, small, got, as)
			}
		}
	}
}

func FuzzSpelling(f *testing.F) {
	f.Add("BOOT_a", "boot")
	f.Fuzz(func(t *testing.T, told, asked string) {
		s := &Session{}
		p, ok := s.told(told)
		if got := s.Spelling(p); !ok || got != told {
			t.Errorf("%q is spelt %q", told, got)
		}
		if got := s.Spelling(card.Part(asked)); !strings.EqualFold(got, card.Part(asked).String()) &&
			card.Part(got) != card.Part(asked) {
			t.Errorf("%q is asked for as %q", asked, got)
		}
	})
}
