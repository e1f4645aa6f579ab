package ident

import (
	"io/fs"
	"path"
	"strings"

	"jarlid/internal/core/image/filesystem"
)

// RestoringFolders are where manufacturers have the scripts that put their recovery back, in a system.
var RestoringFolders = []string{"bin", "etc", "xbin", "vendor/bin", "vendor/etc"}

// RestoringMost is how many scripts of one folder are read.
const RestoringMost = 40

// Restores reports whether a script found in a system puts the manufacturer's recovery
// back: it applies a patch to the recovery's partition, or writes it
// (install-recovery.sh as the platform's ota_from_target_files makes it).
func Restores(script string) bool {
	for line := range strings.Lines(script) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "#") || !strings.Contains(line, "recovery") && !strings.Contains(line,
			"RECOVERY") {
			continue
		}
		for _, tool := range []string{"applypatch", "flash_image", "dd of=", "dd if="} {
			if strings.Contains(line, tool) {
				return true
			}
		}
	}
	return false
}

// restoring reports whether a system's or vendor's files hold such a script.
func restoring(tree fs.FS) bool {
	for _, root := range []string{".", "system"} {
		for _, dir := range RestoringFolders {
			names, _ := fs.ReadDir(tree, path.Join(root, dir)) // none there
			read := 0
			for _, n := range names {
				if !strings.HasSuffix(n.Name(), ".sh") || read >= RestoringMost {
					continue
				}
				read++
				if b, err := filesystem.ReadSmall(tree, path.Join(root, dir, n.Name())); err == nil &&
					Restores(string(b)) {
					return true
				}
			}
		}
	}
	return false
}
