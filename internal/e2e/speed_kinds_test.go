package e2e

import (
	"io"
	"os"
	"path/filepath"
	"testing"

	"jarlid/internal/core/image/sparse"
	"jarlid/internal/standin/scenario"
)

const large = 3 << 29 // 1.5 GiB

// BenchmarkFlashKinds writes a system of 1.5 GiB, raw and sparse, into a plain
// and into a logical partition. Metric ratio: its time over that of the
// baseline in the same run, which copies and hashes the same file.
func BenchmarkFlashKinds(b *testing.B) {
	dir := b.TempDir()
	raw, packed := filepath.Join(dir, "system.img"), filepath.Join(dir, "system.simg")
	largeSystem(b, raw, packed)
	for _, form := range []struct{ name, path string }{{"raw", raw}, {"sparse", packed}} {
		for _, phone := range []struct {
			name, base string
			change     []string
			mode       string
		}{
			{"plain", "dunlin", []string{"{name: system, size: 64MiB", "{name: system, size: 1600MiB"},
				"bootloader"},
			{"logical", "avocet", []string{"{name: super, size: 48MiB}", "{name: super, size: 2GiB}",
				"group-size: 44MiB,", "group-size: 1900MiB,", "group-size: 44MiB\n", "group-size: 1900MiB\n"},
				"fastbootd"},
		} {
			b.Run(form.name+"-"+phone.name, func(b *testing.B) {
				l := benchLab(b)
				model := l.modelOf(phone.base, "big", phone.change...)
				if err := os.MkdirAll(filepath.Join(l.home, "models"), 0o755); err != nil {
					b.Fatalf("os.MkdirAll(filepath.Join(l.home, 'models'), 0o755): %v", err)
				}
				if err := os.Rename(model, filepath.Join(l.home, "models", "big.yaml")); err != nil {
					b.Fatalf("os.Rename(%v, ...): %v", model, err)
				}
				p := l.startProcess(b, phone.base, "--mode", phone.mode)
				defer p.kill()
				for range b.N {
					base := baseline(b, form.path, filepath.Join(l.dir, "copy"))
					took, mib := l.timed(b, "0", "flash", form.path, "--into", "system@a", "--accept",
						"wrong-model")
					b.ReportMetric(took.Seconds()/base.Seconds(), "ratio")
					b.ReportMetric(mib, "peak-MiB")
					b.ReportMetric(large/took.Seconds()/1e6, "MB/s")
				}
			})
		}
	}
}

// largeSystem makes a real system image with bytes behind it up to the size,
// and the same as a sparse file.
func largeSystem(b *testing.B, raw, packed string) {
	b.Helper()
	f := must(os.Create(raw))
	defer f.Close()
	must(f.Write(must(scenario.System(scenario.Stock, scenario.PhoneOf("dunlin")))))
	piece := bigRecovery(64 << 20)
	for at := int64(0); at < large; at = must(f.Seek(0, io.SeekCurrent)) {
		must(f.Write(piece[:min(int64(len(piece)), large-at)]))
	}
	cut := must(sparse.Cut(f, large, 1<<40))
	part := must(cut.Next())
	out := must(os.Create(packed))
	defer out.Close()
	if err := part.WriteTo(out, f); err != nil {
		b.Fatalf("part.WriteTo(out, f): %v", err)
	}
}
