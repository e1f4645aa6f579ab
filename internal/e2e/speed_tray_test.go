package e2e

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"jarlid/internal/cli"
)

// sink is a bootloader that takes everything and keeps nothing: what is sent costs no time at its
// end (fastboot over TCP, the platform's fastboot README: FB01, then messages behind their length
// in eight bytes, big-endian).
type sink struct {
	serial string
	size   int64 // of system_a
	took   int64 // bytes of data

	mu      sync.Mutex
	ready   *sync.Cond
	in, out bytes.Buffer
	left    int64 // of the message that comes in
	data    int64 // of a download, what is still to come
	hello   bool
	closed  bool
}

func newSink(serial string, size int64) *sink {
	s := &sink{serial: serial, size: size}
	s.ready = sync.NewCond(&s.mu)
	return s
}

func (s *sink) say(text string) {
	_ = binary.Write(&s.out, binary.BigEndian, uint64(len(text)))
	s.out.WriteString(text)
	s.ready.Broadcast()
}

// Write takes what the computer sends.
func (s *sink) Write(b []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := len(b)
	for len(b) > 0 {
		switch {
		case !s.hello:
			s.in.Write(b[:min(4-s.in.Len(), len(b))])
			b = b[min(4, len(b)):]
			if s.in.Len() == 4 {
				s.hello = true
				s.in.Reset()
				s.out.WriteString("FB01")
				s.ready.Broadcast()
			}
		case s.left == 0:
			k := min(8-s.in.Len(), len(b))
			s.in.Write(b[:k])
			b = b[k:]
			if s.in.Len() == 8 {
				s.left = int64(binary.BigEndian.Uint64(s.in.Bytes()))
				s.in.Reset()
			}
		case s.data > 0: // dropped
			k := min(s.left, int64(len(b)))
			s.left, s.data, s.took = s.left-k, s.data-k, s.took+k
			b = b[k:]
			if s.data == 0 {
				s.say("OKAY")
			}
		default:
			k := min(s.left, int64(len(b)))
			s.in.Write(b[:k])
			s.left -= k
			b = b[k:]
			if s.left == 0 {
				s.command(s.in.String())
				s.in.Reset()
			}
		}
	}
	return n, nil
}

func (s *sink) command(c string) {
	vars := map[string]string{"version": "0.4", "product": "dunlin", "serialno": s.serial, "unlocked": "yes",
		"secure": "no", "slot-count": "2", "current-slot": "a", "max-download-size": "0x20000000",
		"has-slot:system":         "yes",
		"has-slot:vbmeta":         "yes",
		"is-logical:system_a":     "no",
		"partition-size:system_a": fmt.Sprintf("0x%x", s.size),
		"battery-soc-ok":          "yes",
		"is-userspace":            "no",
		"slot-unbootable:a":       "no",
		"slot-unbootable:b":       "no",
		"slot-successful:a":       "yes",
		"slot-successful:b":       "no",
		"slot-retry-count:a":      "3",
		"slot-retry-count:b":      "3"}
	switch name, arg, _ := strings.Cut(c, ":"); name {
	case "getvar":
		if arg == "all" {
			for k, v := range vars {
				s.say("INFO" + k + ": " + v)
			}
			s.say("OKAY")
			return
		}
		s.say("OKAY" + vars[arg])
	case "download":
		n, _ := strconv.ParseInt(arg, 16, 64)
		s.data = n
		s.say(fmt.Sprintf("DATA%08x", n))
	default:
		s.say("OKAY")
	}
}

func (s *sink) Read(b []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for s.out.Len() == 0 && !s.closed {
		s.ready.Wait()
	}
	if s.out.Len() == 0 {
		return 0, io.EOF
	}
	return s.out.Read(b)
}

func (s *sink) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.closed = true
	s.ready.Broadcast()
	return nil
}

func (*sink) LocalAddr() net.Addr              { return &net.TCPAddr{} }
func (*sink) RemoteAddr() net.Addr             { return &net.TCPAddr{} }
func (*sink) SetDeadline(time.Time) error      { return nil }
func (*sink) SetReadDeadline(time.Time) error  { return nil }
func (*sink) SetWriteDeadline(time.Time) error { return nil }

// sinks are dialled by their ports.
type sinks struct {
	mu   sync.Mutex
	size int64
	open []*sink
}

func (n *sinks) DialContext(_ context.Context, _, address string) (net.Conn, error) {
	_, port, err := net.SplitHostPort(address)
	if err != nil || len(port) != 4 {
		return nil, fmt.Errorf("nothing listens at %s", address)
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	s := newSink("S"+port, n.size)
	n.open = append(n.open, s)
	return s, nil
}

// BenchmarkTray flashes one image to eight phones at the same time, which take it without any
// delay, and compares that with what bounds it: the digest of the file, or reading it, whichever is
// slower. The ratio is to be at most 1.1.
func BenchmarkTray(b *testing.B) {
	const size = 1 << 30
	dir := b.TempDir()
	image := filepath.Join(dir, "system.img")
	f := must(os.Create(image))
	r := rand.NewChaCha8([32]byte{})
	must(io.CopyN(f, r, size))
	f.Close()
	sheet := filepath.Join(dir, "tray.yaml")
	if err := os.WriteFile(sheet,
		[]byte("sheet: 1\nname: sinks\nfiles: {image: system.img}\ntasks:\n  - flash: {files: image, into: "+
			"system@a}\n"), 0o644); err != nil {
		b.Fatalf("os.WriteFile(sheet, ..., 0o644): %v", err)
	}
	var list strings.Builder
	list.WriteString("phones:\n")
	for i := range 8 {
		fmt.Fprintf(&list, "  - {name: s%d, model: dunlin, at: [\"tcp:127.0.0.1:900%d\"]}\n", i+1, i+1)
	}
	home := filepath.Join(dir, "home")
	if err := os.MkdirAll(home, 0o755); err != nil {
		b.Fatalf("os.MkdirAll(home, 0o755): %v", err)
	}
	if err := os.WriteFile(filepath.Join(home, "bench.yaml"), []byte(list.String()), 0o600); err != nil {
		b.Fatalf("os.WriteFile(filepath.Join(home, 'bench.yaml'), []byte(list.String()), 0o600): %v", err)
	}
	read := func(w io.Writer) time.Duration {
		f := must(os.Open(image))
		defer f.Close()
		start := time.Now()
		must(io.CopyBuffer(struct{ io.Writer }{w}, struct{ io.Reader }{f}, make([]byte, 1<<20)))
		return time.Since(start)
	}
	for b.Loop() {
		disk := read(io.Discard)
		digest := read(sha256.New())
		net := &sinks{size: 2 << 30}
		var out bytes.Buffer
		attended := false
		start := time.Now()
		code := cli.Run([]string{"sheet", "run", sheet, "--on", "s1,s2,s3,s4,s5,s6,s7,s8", "--yes", "--home",
			home, "--accept", "encrypted-data"}, cli.Config{Stdin: strings.NewReader(""), Stdout: &out,
			Stderr: &out, Attended: &attended,
			Dial: net, Locks: filepath.Join(dir, "locks"), Env: func(string) string { return "" }})
		took := time.Since(start)
		total := int64(0)
		for _, s := range net.open {
			total += s.took
		}
		if code != 0 || total < 8*size {
			b.Fatalf("%d, %d bytes:\n%s", code, total, out.String())
		}
		bound := max(disk, digest)
		b.ReportMetric(took.Seconds()/bound.Seconds(), "ratio")
		b.Logf("disk %v, digest %v, eight phones %v: %.2f", disk.Round(time.Millisecond),
			digest.Round(time.Millisecond), took.Round(time.Millisecond), took.Seconds()/bound.Seconds())
	}
}
