package e2e

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"jarlid/internal/core/image/ext4"
	"jarlid/internal/standin/scenario"
)

// BenchmarkFit checks a generic system of 3 GiB, made by mkfs.ext4 of the demo's files with
// bulk beside them. Wanted: under a second, in under 64 MiB.
func BenchmarkFit(b *testing.B) {
	l := benchLab(b)
	small := must(scenario.System(scenario.GSI, scenario.Phone{}))
	tree := filepath.Join(l.dir, "tree")
	src := must(ext4.New(bytes.NewReader(small), int64(len(small))))
	for _, name := range []string{"system/bin", "system/apex", "system/etc/vintf",
		"system/etc/selinux/mapping"} {
		if err := os.CopyFS(filepath.Join(tree, name), must(fs.Sub(src, name))); err != nil {
			b.Fatalf("os.CopyFS(filepath.Join(tree, name), must(fs.Sub(src, name))): %v", err)
		}
	}
	if err := os.WriteFile(filepath.Join(tree, "system/build.prop"),
		must(fs.ReadFile(src, "system/build.prop")), 0o644); err != nil {
		b.Fatalf("os.WriteFile(..., ..., 0o644): %v", err)
	}
	part := goTree(64 << 20)
	for i := range 40 {
		if err := os.WriteFile(filepath.Join(tree, fmt.Sprintf("bulk%d", i)), part, 0o644); err != nil {
			b.Fatalf("os.WriteFile(..., part, 0o644): %v", err)
		}
	}
	img := filepath.Join(l.dir, "gsi.img")
	if out, err := exec.Command("mkfs.ext4", "-q", "-F", "-O", "^has_journal", "-d", tree, img,
		"3G").CombinedOutput(); err != nil {
		b.Fatalf("....CombinedOutput(): %v: %s; want no error", err, out)
	}
	vendor := l.file("vendor.img",
		must(scenario.Images(scenario.Stock, scenario.PhoneOf("avocet")))["vendor"])
	for range b.N {
		took, mib := l.timed(b, "6", "fit", img, "--vendor", vendor)
		b.ReportMetric(took.Seconds(), "s")
		b.ReportMetric(mib, "peak-MiB")
	}
}
