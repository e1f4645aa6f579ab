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

// BenchmarkLoader writes 256 MiB through a maker's loader over TCP. Metric ratio: what the protocol
// takes, with the digest that begins it and the one at the phone, over the baseline's socket and
// digest. Metric command: the whole of jarlid flash over the same, which reads all of it back besides.
func BenchmarkLoader(b *testing.B) {
	const size = 256 << 20
	l := benchLab(b)
	src := filepath.Join(l.dir, "large.img")
	if err := os.WriteFile(src, bigRecovery(size), 0o644); err != nil {
		b.Fatal(err)
	}
	p := l.startProcess(b, l.modelOf("knot", "bigknot", "{name: recovery, size: 12MiB}", "{name: recovery, size: 257MiB}"))
	defer p.kill()
	at := regexp.MustCompile(`loader:([0-9.]+:\d+)`).FindStringSubmatch(string(must(os.ReadFile(filepath.Join(l.home, "bench.yaml")))))
	if at == nil {
		b.Fatal("no address")
	}
	for range b.N {
		base := baseline(b, src, filepath.Join(l.dir, "copy"))
		start := time.Now()
		f := must(os.Open(src))
		digest := must(loader.Digest(f))
		k := must(loader.Connect(context.Background(), must(net.Dial("tcp", at[1])), "bench"))
		if err := k.Write(context.Background(), "recovery", f, must(f.Stat()).Size(), digest, false, func(int64) {}); err != nil {
			b.Fatal(err)
		}
		took := time.Since(start)
		k.Close()
		f.Close()
		b.ReportMetric(took.Seconds()/base.Seconds(), "ratio")
		all, mib := l.timed(b, "0", "flash", src, "--into", "recovery", "--accept", "wrong-model")
		b.ReportMetric(all.Seconds()/base.Seconds(), "command")
		b.ReportMetric(mib, "peak-MiB")
		b.ReportMetric(size/took.Seconds()/1e6, "MB/s")
	}
}
