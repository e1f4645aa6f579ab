// Package witness finds the general tools that tests compare with: what they make and what they read comes
// from outside the code under test. .ci/witnesses installs all of them on a Debian machine.
package witness

import (
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
)

// Tools are the tools there are, with the Debian package of each.
var Tools = map[string]string{
	"7z":         "p7zip-full",
	"7zz":        "7zip",
	"brotli":     "brotli",
	"cat":        "coreutils",
	"bash":       "bash",
	"busybox":    "busybox",
	"bzip2":      "bzip2",
	"cpio":       "cpio",
	"file":       "file",
	"gzip":       "gzip",
	"jarsigner":  "openjdk-17-jdk-headless",
	"keytool":    "openjdk-17-jre-headless",
	"lz4":        "lz4",
	"mke2fs":     "e2fsprogs",
	"debugfs":    "e2fsprogs",
	"mksh":       "mksh",
	"mkfs.erofs": "erofs-utils",
	"mkfs.ext4":  "e2fsprogs",
	"mkfs.vfat":  "dosfstools",
	"mksquashfs": "squashfs-tools",
	"openssl":    "openssl",
	"qemu-img":   "qemu-utils",
	"sgdisk":     "gdisk",
	"sh":         "dash",
	"sha256sum":  "coreutils",
	"tar":        "tar",
	"toybox":     "toybox",
	"truncate":   "coreutils", "xorriso": "xorriso", "xz": "xz-utils", "zip": "zip", "zstd": "zstd",
}

// Tool gives the path of a tool. Where it is missing the test is skipped, or fails where JARLID_WITNESSES is
// "required", as in CI.
func Tool(t testing.TB, name string) string {
	t.Helper()
	if Tools[name] == "" {
		t.Fatalf("%s is none of the witnesses; add it to Tools, with its package", name)
	}
	path := find(name)
	switch {
	case path != "":
	case os.Getenv("JARLID_WITNESSES") == "required":
		t.Fatalf("%s is missing, and with it what this test compares with: .ci/witnesses installs it", name)
	default:
		t.Skipf("missing witness: %s", name) // scripts/skipped counts these
	}
	return path
}

// Has is Tool for one case of several: where the tool is missing the case is left out.
func Has(t testing.TB, name string) (path string, ok bool) {
	t.Helper()
	if path = find(name); path == "" && os.Getenv("JARLID_WITNESSES") != "required" {
		t.Logf("missing witness: %s", name)
		return "", false
	}
	return Tool(t, name), true
}

// Packages are the Debian packages of all tools, sorted.
func Packages() (list []string) {
	for _, p := range Tools {
		list = append(list, p)
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// find looks for a program in the folders of PATH and in those of the administrator's programs, which some
// users' PATH lacks.
func find(name string) string {
	if runtime.GOOS == "windows" {
		name += ".exe"
	}
	for _, dir := range append(filepath.SplitList(os.Getenv("PATH")), "/usr/sbin", "/sbin") {
		path := filepath.Join(dir, name)
		st, err := os.Stat(path)
		if err == nil && st.Mode().IsRegular() && (runtime.GOOS == "windows" || st.Mode()&0o111 != 0) &&
			!strings.HasPrefix(path, ".") {
			return path
		}
	}
	return ""
}
