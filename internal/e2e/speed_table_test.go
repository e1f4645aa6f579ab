package e2e

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"jarlid/internal/core/image/payload"
	"jarlid/internal/core/image/wrap"
)

// against runs ours and the general tools' three times in turn and reports the median of the
// ratios. What earlier work left to be written would be charged to whoever comes next.
func against(b *testing.B, l *lab, tools string, args ...string) {
	b.Helper()
	if _, err := exec.LookPath("sh"); err != nil {
		b.Skip("sh is not here")
	}
	out := filepath.Join(l.dir, "out")
	for range b.N {
		var ratios, took []float64
		peak := 0.0
		for range 3 {
			var base time.Duration
			exec.Command("sync").Run()
			base = clock(b, nil, "sh", "-ec", "cd '"+l.dir+"'; "+tools)
			exec.Command("sync").Run()
			t, mib := l.timed(b, "0", args...)
			os.RemoveAll(out)
			ratios, took, peak = append(ratios, t.Seconds()/base.Seconds()), append(took, t.Seconds()),
				max(peak, mib)
		}
		slices.Sort(ratios)
		slices.Sort(took)
		b.ReportMetric(ratios[1], "ratio")
		b.ReportMetric(took[1], "s")
		b.ReportMetric(peak, "peak-MiB")
	}
}

// made writes a file of a unit a number of times.
func made(l *lab, name string, unit []byte, times int) string {
	f := must(os.Create(filepath.Join(l.dir, name)))
	for range times {
		must(f.Write(unit))
	}
	f.Close()
	return f.Name()
}

const tableUnit, tableTimes = 128 << 20, 12 // 1.5 GiB

// BenchmarkPayloadMixed: a partition of raw, bz2 and xz operations, all digests. Against the same
// streams by the general tools, then their digest.
func BenchmarkPayloadMixed(b *testing.B) {
	l := benchLab(b)
	unit := goTree(tableUnit)
	cache := map[[32]byte][]byte{}
	streams := [3]*os.File{}
	for i, n := range []string{"raw", "x.bz2", "x.xz"} {
		streams[i] = must(os.Create(filepath.Join(l.dir, n)))
	}
	n := 0
	pack := func(p []byte) (payload.OpType, []byte, error) {
		kind := n % 3
		n++
		key := sha256.Sum256(append([]byte{byte(kind)}, p...))
		if cache[key] == nil {
			cache[key] = bytes.Clone(p)
			if kind > 0 {
				cmd := exec.Command([]string{"", "bzip2", "xz"}[kind],
					[][]string{nil, {"-c", "-9"}, {"-c", "-T1", "--check=crc32", "-6"}}[kind]...)
				cmd.Stdin = bytes.NewReader(p)
				out, err := cmd.Output()
				if err != nil {
					b.Skip("the tools are not here: ", err)
				}
				cache[key] = out
			}
		}
		_, err := streams[kind].Write(cache[key])
		return []payload.OpType{payload.Replace, payload.ReplaceBZ, payload.ReplaceXZ}[kind], cache[key], err
	}
	f := must(os.Create(filepath.Join(l.dir, "payload.bin")))
	if err := payload.Write(f, 1, []payload.Source{{Name: "system", Data: bytes.Repeat(unit, tableTimes),
		Pack: pack}}); err != nil {
		b.Fatalf("payload.Write(f, 1, ...): %v", err)
	}
	f.Close()
	against(b, l, "xz -dc -T1 x.xz > 1; bzip2 -dc x.bz2 > 2; cp raw 3; sha256sum 1 2 3; rm 1 2 3", "lift",
		f.Name(), "-o", filepath.Join(l.dir, "out"))
}

// BenchmarkPacked: one packed image to raw, its digest included. Against the general tool, then
// sha256sum.
func BenchmarkPacked(b *testing.B) {
	for _, c := range []struct{ name, pack, tools string }{
		{"xz-parallel", "xz -6 -T2 -c", "xz -dc -T1"},
		{"xz-one-block", "xz -6 -T1 -c", "xz -dc -T1"},
		{"gz", "gzip -6 -c", "gzip -dc"},
		{"zst", "zstd -q -c", "zstd -q -dc"},
	} {
		b.Run(c.name, func(b *testing.B) {
			l := benchLab(b)
			raw := made(l, "system.img", goTree(tableUnit*3), 1)
			packed := filepath.Join(l.dir, "system.img."+c.name[:min(len(c.name), 3)])
			if c.name[:2] == "xz" || c.name == "gz" {
				packed = filepath.Join(l.dir, "system.img."+c.name[:2])
			}
			clock(b, nil, "sh", "-c", c.pack+" '"+raw+"' > '"+packed+"'")
			os.Remove(raw)
			against(b, l, c.tools+" '"+packed+"' > 1; sha256sum 1; rm 1", "lift", packed, "-o",
				filepath.Join(l.dir, "out"))
		})
	}
}

// listed puts the digest of a file beside it: without one proof has nothing to compare.
func listed(b *testing.B, path string) {
	clock(b, nil, "sh", "-c", "sha256sum '"+path+"' > '"+path+".sha256'")
}

// BenchmarkProofTable: proof against sha256sum.
func BenchmarkProofTable(b *testing.B) {
	l := benchLab(b)
	img := made(l, "x.img", goTree(tableUnit), tableTimes)
	listed(b, img)
	against(b, l, "sha256sum x.img", "proof", img)
}

// BenchmarkSparseTable: a sparse image to raw without its digest, against cp --sparse=always.
func BenchmarkSparseTable(b *testing.B) {
	l := benchLab(b)
	unit := goTree(tableUnit / 2)
	raw := made(l, "raw.img", append(unit, make([]byte, tableUnit/2)...), tableTimes)
	clock(b, nil, "tar", "-C", l.dir, "-cf", filepath.Join(l.dir, "raw.tar"), "raw.img")
	l.timed(b, "0", "lift", filepath.Join(l.dir, "raw.tar"), "raw.img", "-o", filepath.Join(l.dir, "made"),
		"--sparse")
	against(b, l, "cp --sparse=always "+raw+" copy; rm copy", "lift", filepath.Join(l.dir, "made", "raw.img"),
		"-o", filepath.Join(l.dir, "out"), "--no-digest")
}

// BenchmarkPackXz: an xz ramdisk as a recovery install packs it, against xz -6.
func BenchmarkPackXz(b *testing.B) {
	for _, c := range []struct {
		name string
		data []byte
	}{{"programs", goTree(24 << 20)}, {"noise", noise(12 << 20)}} {
		b.Run(c.name, func(b *testing.B) {
			l := benchLab(b)
			file := l.file("ramdisk", c.data)
			for range b.N {
				base := clock(b, nil, "xz", "-6", "-T1", "-c", file)
				var out bytes.Buffer
				began := time.Now()
				w := must(wrap.NewWriter(wrap.Xz, &out))
				must(w.Write(c.data))
				if err := w.Close(); err != nil {
					b.Fatalf("w.Close(): %v", err)
				}
				b.ReportMetric(base.Seconds()/time.Since(began).Seconds(), "of-its-speed")
				b.ReportMetric(float64(out.Len())/float64(len(c.data)), "packed")
			}
		})
	}
}

// noise is data that nothing packs.
func noise(n int) []byte {
	b := make([]byte, 0, n)
	for i := 0; len(b) < n; i++ {
		s := sha256.Sum256(fmt.Append(nil, i))
		b = append(b, s[:]...)
	}
	return b[:n]
}
