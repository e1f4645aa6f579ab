package spell

import (
	"strings"
	"testing"
)

// TestNear: words as people mistype them, and words that mean nothing here.
func TestNear(t *testing.T) {
	names := []string{"userdata", "caches", "apps", "storage", "system", "vendor", "recovery", "recovery-replaced", "encrypted-data"}
	for word, want := range map[string]string{
		"userdta": "userdata", "usredata": "userdata", "cache": "caches", "Systme": "system", "recovery": "recovery recovery-replaced", "encypted-data": "encrypted-data",
		"stor": "storage", "xyzzy": "", "": "", "a": "", "ap": "", "app": "apps",
	} {
		if got := strings.Join(Near(word, names), " "); got != want {
			t.Errorf("%q: %q, want %q", word, got, want)
		}
	}
	if got := DidYouMean("userdta", names); got != "; did you mean userdata?" {
		t.Errorf("%q", got)
	}
	if got := DidYouMean("xyzzy", names); got != "" {
		t.Errorf("%q", got)
	}
}
