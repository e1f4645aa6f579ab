package place

import (
	"strings"
	"testing"
)

// TestShelf: which paths can be moved aside, and which scripts put a recovery back.
func TestShelf(t *testing.T) {
	for path, want := range map[string]string{"/vendor/overlay": "vendor overlay", "/system//app/../app/X": "system app/X", "vendor/overlay": "", "/data/app": "",
		"/vendor": "", "/system/build.prop": "", "/system/bin": "", "/product/app/X": "product app/X"} {
		p, rest, err := ParseShelfPath(path)
		if got := strings.TrimSpace(p + " " + rest); got != want || (err == nil) != (want != "") {
			t.Errorf("%s: %q, %v", path, got, err)
		}
	}
	for script, want := range map[string]bool{
		"#!/system/bin/sh\nif ! applypatch --check EMMC:/dev/block/by-name/recovery:12:ab; then\n  applypatch --bonus /system/etc/recovery-resource.dat\nfi\n": true,
		"dd if=/system/etc/recovery.img of=/dev/block/by-name/recovery\n":                                                                                      true,
		"# applypatch recovery, long ago\necho nothing\n":                                                                                                      false,
		"log -t recovery 'all is well'\n":                                                                                                                      false,
	} {
		if Restores(script) != want {
			t.Errorf("%q: %v", script, !want)
		}
	}
}
