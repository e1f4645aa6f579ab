package e2e

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jarlid/internal/core/image/payload"
)

// clock runs a general tool and gives its time; the benchmark is skipped where
// the machine does not have it.
func clock(b *testing.B, stdout io.Writer, name string, args ...string) time.Duration {
	b.Helper()
	if _, err := exec.LookPath(name); err != nil {
		b.Skip(name + " is not here")
	}
	cmd := exec.Command(name, args...)
	cmd.Stdout = stdout
	start := time.Now()
	if err := cmd.Run(); err != nil {
		b.Fatalf("cmd.Run(): %v", err)
	}
	return time.Since(start)
}

func report(b *testing.B, took, base time.Duration, mib float64) {
	b.ReportMetric(took.Seconds()/base.Seconds(), "ratio")
	b.ReportMetric(mib, "peak-MiB")
	b.ReportMetric(took.Seconds(), "s")
}

// goTree gives n bytes of the Go installation's own sources and programs: the
// mix of texts and machine code that systems are made of.
func goTree(n int) []byte {
	out := make([]byte, 0, n)
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		panic(err)
	}
	filepath.WalkDir(strings.TrimSpace(string(root)), func(p string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return nil
		}
		if b, err := os.ReadFile(p); err == nil {
			out = append(out, b[:min(len(b), n-len(out))]...)
		}
		if len(out) == n {
			return fs.SkipAll
		}
		return nil
	})
	for len(out) < n {
		out = append(out, out[:min(len(out), n-len(out))]...)
	}
	return out
}

// BenchmarkLiftPayload takes a 1.5 GiB partition made of xz operations out of a
// payload, digests included. Baseline: one xz -dc -T1 of the same streams.
func BenchmarkLiftPayload(b *testing.B) {
	l := benchLab(b)
	unit := goTree(128 << 20)
	packed := map[[32]byte][]byte{}
	streams := must(os.Create(filepath.Join(l.dir, "streams.xz")))
	pack := func(p []byte) (payload.OpType, []byte, error) {
		key := sha256.Sum256(p)
		if packed[key] == nil {
			cmd := exec.Command("xz", "-c", "-T1", "--check=crc32", "-6")
			cmd.Stdin = bytes.NewReader(p)
			out, err := cmd.Output()
			if err != nil {
				b.Skip("xz is not here: ", err)
			}
			packed[key] = out
		}
		_, err := streams.Write(packed[key])
		return payload.ReplaceXZ, packed[key], err
	}
	f := must(os.Create(filepath.Join(l.dir, "payload.bin")))
	if err := payload.Write(f, 1,
		[]payload.Source{{Name: "system", Data: bytes.Repeat(unit, 12), Pack: pack}}); err != nil {
		b.Fatalf("payload.Write(f, 1, ...): %v", err)
	}
	f.Close()
	streams.Close()
	for range b.N {
		base := clock(b, nil, "xz", "-dc", "-T1", streams.Name())
		took, mib := l.timed(b, "0", "lift", f.Name(), "-o", filepath.Join(l.dir, "out"))
		report(b, took, base, mib)
	}
}

// BenchmarkProof hashes 2 GiB. Baseline: sha256sum.
func BenchmarkProof(b *testing.B) {
	l := benchLab(b)
	path := filepath.Join(l.dir, "large.img")
	f := must(os.Create(path))
	must(io.CopyN(f, rand.Reader, 2<<30))
	f.Close()
	listed(b, path)
	for range b.N {
		base := clock(b, nil, "sha256sum", path)
		took, mib := l.timed(b, "0", "proof", path)
		report(b, took, base, mib)
	}
}

// BenchmarkLiftSparse makes a raw image of 1.5 GiB, half of it holes, out of a
// sparse one, without its digest. Baseline: a copy of the raw image by cp, which
// keeps holes.
func BenchmarkLiftSparse(b *testing.B) {
	l := benchLab(b)
	raw := filepath.Join(l.dir, "raw.img")
	f := must(os.Create(raw))
	part := goTree(64 << 20)
	for i := range int64(12) {
		must(f.WriteAt(part, i*128<<20))
	}
	if err := f.Truncate(1536 << 20); err != nil {
		b.Fatalf("f.Truncate(1536 << 20): %v", err)
	}
	f.Close()
	seven := filepath.Join(l.dir, "made")
	// The sparse image is our own: raw in an archive of nothing is lifted sparse.
	tar := filepath.Join(l.dir, "raw.tar")
	clock(b, nil, "tar", "-C", l.dir, "-cf", tar, "raw.img")
	l.timed(b, "0", "lift", tar, "raw.img", "-o", seven, "--sparse")
	for range b.N {
		// What earlier work left to be written would be charged to whoever comes
		// next.
		exec.Command("sync").Run()
		base := clock(b, nil, "cp", "--sparse=auto", raw, filepath.Join(l.dir, "copy"))
		exec.Command("sync").Run()
		took, mib := l.timed(b, "0", "lift", filepath.Join(seven, "raw.img"), "-o",
			filepath.Join(l.dir, "out"), "--no-digest")
		report(b, took, base, mib)
	}
}
