package ident

import (
	"testing"
	"testing/fstest"
)

// TestRestores: which scripts put a recovery back, and where in a system or vendor they are found.
func TestRestores(t *testing.T) {
	const patch = "#!/system/bin/sh\nif ! applypatch --check EMMC:/dev/block/by-name/recovery:12:ab; " +
		"then\n  applypatch --bonus /system/etc/recovery-resource.dat\nfi\n"
	for script, want := range map[string]bool{
		patch: true,
		"dd if=/system/etc/recovery.img of=/dev/block/by-name/recovery\n": true,
		"# applypatch recovery, long ago\necho nothing\n":                 false,
		"log -t recovery 'all is well'\n":                                 false,
	} {
		if Restores(script) != want {
			t.Errorf("%q: %v; unwanted: Restores(script) != want", script, !want)
		}
	}
	for path, want := range map[string]bool{"system/bin/install-recovery.sh": true,
		"system/etc/install-recovery.sh": true,
		"vendor/bin/flash_recovery.sh":   true,
		"bin/install-recovery.sh":        true,
		"system/bin/install-recovery":    false, "system/app/x.sh": false} {
		if restoring(fstest.MapFS{path: {Data: []byte(patch)},
			"system/bin/other.sh": {Data: []byte("echo\n")}}) != want {
			t.Errorf("%s: %v; unwanted: restoring(fstest.MapFS{path: {Data: []byte(patch)}, ...", path, !want)
		}
	}
}
