package e2e

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"jarlid/internal/core/image/payload"
	"jarlid/internal/link/adb"
	"jarlid/internal/standin/scenario"
)

const gib = 1 << 30

// baseline is what verifying, sending and checking cost at least: one sha256sum of a file, and then the
// slower of another one and of a copy over a plain TCP socket into another file.
func baseline(b *testing.B, src, dst string) time.Duration {
	b.Helper()
	start := time.Now()
	l := must(net.Listen("tcp", "127.0.0.1:0"))
	defer l.Close()
	go func() {
		c := must(net.Dial("tcp", l.Addr().String()))
		f := must(os.Open(src))
		// Not *os.File itself: the kernel's own short cut is not what a
		// protocol can use.
		io.CopyBuffer(struct{ io.Writer }{c}, struct{ io.Reader }{f}, make([]byte, 1<<20))
		c.Close()
		f.Close()
	}()
	c := must(l.Accept())
	f := must(os.Create(dst))
	must(io.CopyBuffer(struct{ io.Writer }{f}, struct{ io.Reader }{c}, make([]byte, 1<<20)))
	f.Close()
	c.Close()
	copied := time.Since(start)
	if err := exec.Command("sha256sum", dst).Run(); err != nil {
		b.Skip("sha256sum is not here: ", err)
	}
	summed := time.Since(start) - copied
	os.Remove(dst)
	return summed + max(summed, copied)
}

// timed runs jarlid and gives its time and its peak memory in MiB.
func (l *lab) timed(b *testing.B, codes string, args ...string) (time.Duration, float64) {
	b.Helper()
	cmd := l.command(args...)
	cmd.Args = append(cmd.Args, "--yes")
	var text bytes.Buffer
	cmd.Stdout, cmd.Stderr = &text, &text
	start := time.Now()
	if err := cmd.Start(); err != nil {
		b.Fatalf("cmd.Start(): %v", err)
	}
	mem := watchPeak(cmd.Process.Pid)
	cmd.Wait()
	took, mib := time.Since(start), mem()
	if !strings.Contains(codes, strconv.Itoa(cmd.ProcessState.ExitCode())) {
		b.Fatalf("%v: %v; unwanted: !strings.Contains(codes, ...\n%s", args, cmd.ProcessState, text.String())
	}
	return took, mib
}

func benchLab(b *testing.B) *lab {
	dir := b.TempDir()
	return &lab{T: &testing.T{}, home: filepath.Join(dir, "home"), dir: dir}
}

// BenchmarkFlash sends 1 GiB to the stand-in over fastboot, digest included.
// Metric ratio: its time over that of the baseline in the same run.
func BenchmarkFlash(b *testing.B) {
	l := benchLab(b)
	img := bigRecovery(gib)
	src := filepath.Join(l.dir, "large.img")
	if err := os.WriteFile(src, img, 0o644); err != nil {
		b.Fatalf("os.WriteFile(src, img, 0o644): %v", err)
	}
	img = nil
	p := l.startProcess(b, l.model("big", "{name: recovery, size: 32MiB", "{name: recovery, size: 1100MiB"))
	defer p.kill()
	for range b.N {
		base := baseline(b, src, filepath.Join(l.dir, "copy"))
		took, mib := l.timed(b, "0", "recovery", "install", src, "--into", "@a")
		b.ReportMetric(took.Seconds()/base.Seconds(), "ratio")
		b.ReportMetric(mib, "peak-MiB")
		b.ReportMetric(gib/took.Seconds()/1e6, "MB/s")
	}
}

// BenchmarkSideload serves a package of 1 GiB, once through, to a phone that
// only stores it: the serving itself is measured, not a phone's installing.
func BenchmarkSideload(b *testing.B) {
	l := benchLab(b)
	src := filepath.Join(l.dir, "large.zip")
	if err := os.WriteFile(src, bigPackage(gib), 0o644); err != nil {
		b.Fatalf("os.WriteFile(src, bigPackage(gib), 0o644): %v", err)
	}
	for range b.N {
		base := baseline(b, src, filepath.Join(l.dir, "copy"))
		addr, stop := storingPhone(b, filepath.Join(l.dir, "stored"))
		took, mib := l.timed(b, "01", "sideload", src, "--on", "adb:"+addr, "--then", "stay", "--accept",
			"wrong-model")
		stop()
		b.ReportMetric(took.Seconds()/base.Seconds(), "ratio")
		b.ReportMetric(mib, "peak-MiB")
		b.ReportMetric(gib/took.Seconds()/1e6, "MB/s")
	}
}

func bigPackage(size int) []byte {
	var body bytes.Buffer
	data := bigRecovery(size)
	if err := payload.Write(&body, 1, []payload.Source{{Name: "system", Data: data}}); err != nil {
		panic(err)
	}
	return must(scenario.Zip("ota-type=AB\npre-device=dunlin\n", body.Bytes()))
}

// storingPhone is a phone in sideload mode that reads a package once and
// keeps it; afterwards it answers as a recovery without a shell.
func storingPhone(b *testing.B, path string) (addr string, stop func()) {
	l := must(net.Listen("tcp", "127.0.0.1:0"))
	kind := "sideload"
	go func() {
		for {
			nc, err := l.Accept()
			if err != nil {
				return
			}
			d := &adb.Device{Version: adb.VersionNoSum, MaxPayload: adb.MaxPayload,
				Banner: adb.Banner{Kind: kind}}
			d.Serve = func(service string, s *adb.Stream) bool {
				var size, block int64
				if _, err := fmt.Sscanf(service, "sideload-host:%d:%d", &size, &block); err != nil {
					return false
				}
				go func() {
					s.Accept()
					f := must(os.Create(path))
					buf := make([]byte, block)
					for n := int64(0); n*block < size; n++ {
						fmt.Fprintf(s, "%08d", n)
						p := buf[:min(block, size-n*block)]
						if _, err := io.ReadFull(s, p); err != nil {
							return
						}
						must(f.Write(p))
					}
					f.Close()
					io.WriteString(s, "DONEDONE")
					s.Drain()
					kind = "recovery"
					nc.Close()
				}()
				return true
			}
			go d.Accept(context.Background(), nc)
		}
	}()
	return l.Addr().String(), func() { l.Close() }
}
