package e2e

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"testing"
	"time"

	"jarlid/internal/link/loader"
)

// BenchmarkLoader writes 256 MiB through a manufacturer's loader over TCP. Metric ratio: what the protocol
// takes, with a digest at both ends, over the baseline's socket and digest; the loader takes
// messages of a mebibyte, the most there is. Metric command: the whole of jarlid flash over the same, which
// reads all of it back besides.
func BenchmarkLoader(b *testing.B) {
	const size = 256 << 20
	l := benchLab(b)
	src := filepath.Join(l.dir, "large.img")
	if err := os.WriteFile(src, bigRecovery(size), 0o644); err != nil {
		b.Fatalf("os.WriteFile(src, bigRecovery(size), 0o644): %v", err)
	}
	p := l.startProcess(b, l.modelOf("knot", "bigknot", "{name: recovery, size: 12MiB}",
		"{name: recovery, size: 257MiB}", "payload: 64KiB", "payload: 1MiB"))
	defer p.kill()
	at := regexp.MustCompile(`loader:([0-9.]+:\d+)`).FindStringSubmatch(
		string(must(os.ReadFile(filepath.Join(l.home, "bench.yaml")))))
	if at == nil {
		b.Fatal("no address")
	}
	var bases, writes, alls time.Duration
	for range b.N {
		base := baseline(b, src, filepath.Join(l.dir, "copy"))
		start := time.Now()
		f := must(os.Open(src))
		k := must(loader.Connect(context.Background(), must(net.Dial("tcp", at[1])), "bench"))
		must(k.Write(context.Background(), "recovery", f, must(f.Stat()).Size(), false, func(int64) {}))
		took := time.Since(start)
		k.Close()
		f.Close()
		all, mib := l.timed(b, "0", "flash", src, "--into", "recovery", "--accept", "wrong-model")
		b.ReportMetric(mib, "peak-MiB")
		bases, writes, alls = bases+base, writes+took, alls+all
	}
	b.ReportMetric(writes.Seconds()/bases.Seconds(), "ratio")
	b.ReportMetric(alls.Seconds()/bases.Seconds(), "command")
	b.ReportMetric(float64(b.N)*size/writes.Seconds()/1e6, "MB/s")
}
