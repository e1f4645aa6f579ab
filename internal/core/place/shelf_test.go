package place

import (
	"strings"
	"testing"
)

// TestShelf: which paths can be moved aside.
func TestShelf(t *testing.T) {
	for path, want := range map[string]string{"/vendor/overlay": "vendor overlay",
		"/system//app/../app/X": "system app/X", "vendor/overlay": "", "/data/app": "",
		"/vendor": "", "/system/build.prop": "", "/system/bin": "", "/product/app/X": "product app/X"} {
		p, rest, err := ParseShelfPath(path)
		if got := strings.TrimSpace(p + " " + rest); got != want || (err == nil) != (want != "") {
			t.Errorf("ParseShelfPath(%v): %s: %q, %v; unwanted: got != want || (err == nil) != (want != '')",
				path, path, got, err)
		}
	}
}
