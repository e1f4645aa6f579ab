package spell

import (
	"strings"
	"testing"
)

// TestNear: words as people mistype them, and words that mean nothing here.
func TestNear(t *testing.T) {
	names := []string{"userdata", "caches", "apps", "storage", "system", "vendor", "recovery",
		"recovery-replaced", "encrypted-data"}
	for word, want := range map[string]string{
		"userdta":       "userdata",
		"usredata":      "userdata",
		"cache":         "caches",
		"Systme":        "system",
		"recovery":      "recovery recovery-replaced",
		"encypted-data": "encrypted-data",
		"stor":          "storage", "xyzzy": "", "": "", "a": "", "ap": "", "app": "apps",
	} {
		if got := strings.Join(Near(word, names), " "); got != want {
			t.Errorf("%q: %q, want %q", word, got, want)
		}
	}
	if got := DidYouMean("userdta", names); got != "; did you mean userdata?" {
		t.Errorf("%q; unwanted: got != '; did you mean userdata?'", got)
	}
	if got := DidYouMean("xyzzy", names); got != "" {
		t.Errorf("%q; unwanted: got != ''", got)
	}
}

// TestCounted: one thing is never spoken of as several.
func TestCounted(t *testing.T) {
	for got, want := range map[string]string{
		Counted(0, "file"): "0 files", Counted(1, "file"): "1 file", Counted(int64(2), "byte"): "2 bytes",
		SomeOf(1, 1, "file", "does not match", "do not match"): "the file does not match",
		SomeOf(1, 3, "file", "does not match", "do not match"): "1 of 3 files do not match",
	} {
		if got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

func TestAnd(t *testing.T) {
	for want, list := range map[string][]string{"": nil, "a": {"a"}, "a and b": {"a", "b"},
		"a, b and c": {"a", "b", "c"}} {
		if got := And(list); got != want {
			t.Errorf("And(%q) is %q, want %q", list, got, want)
		}
	}
}
