package wrap

import (
	"bytes"
	"io"
	"os/exec"
	"testing"

	"jarlid/internal/e2e/witness"
)

// TestXzBlocks: each block of what xz packs in parallel and joined extracts alone, and all of them
// are the whole; what does not end as a file does is left to be read from its start.
func TestXzBlocks(t *testing.T) {
	xz := witness.Tool(t, "xz")
	want := bytes.Join(pieces(), nil)
	pack := func(b []byte, args ...string) []byte {
		c := exec.Command(xz, append(args, "-c")...)
		c.Stdin = bytes.NewReader(b)
		out, err := c.Output()
		if err != nil {
			t.Fatalf("c.Output(): %v", err)
		}
		return out
	}
	many := pack(want, "-T2", "--block-size=20000")
	joined := append(append(pack(want[:1000], "--check=crc32"), make([]byte, 8)...),
		pack(want[1000:], "--block-size=50000", "--check=sha256")...)
	for _, c := range []struct {
		what   string
		file   []byte
		blocks int
	}{
		{"one block", pack(want), 1},
		{"packed in parallel", many, 9},
		{"joined", joined, 5},
		{"with padding", append(bytes.Clone(many), 0, 0, 0, 0), 9},
		{"cut", many[:len(many)-4], 0},
		{"with something behind", append(bytes.Clone(many), "more"...), 0},
		{"nothing", nil, 0},
		{"zeros", make([]byte, 64), 0},
	} {
		list, ok := XzBlocks(bytes.NewReader(c.file), int64(len(c.file)))
		if len(list) != c.blocks || ok != (c.blocks > 0) {
			t.Errorf("%s: %d blocks, %v; want %d", c.what, len(list), ok, c.blocks)
			continue
		}
		if !ok {
			continue
		}
		got := make([]byte, len(want))
		for i := len(list) - 1; i >= 0; i-- {
			z, err := list[i].Open(0)
			if err != nil {
				t.Fatalf("list[i].Open(0): %v", err)
			}
			b, err := io.ReadAll(z)
			if err != nil || int64(len(b)) != list[i].Size {
				t.Fatalf("%s, block %d: %d bytes, want %d: %v", c.what, i, len(b), list[i].Size, err)
			}
			copy(got[list[i].At:], b)
		}
		if !bytes.Equal(got, want) {
			t.Errorf("%s: what comes out differs", c.what)
		}
	}
	broken := bytes.Clone(many)
	broken[len(many)/2] ^= 0x55
	list, _ := XzBlocks(bytes.NewReader(broken), int64(len(broken)))
	bad := 0
	for _, b := range list {
		z, err := b.Open(0)
		if err == nil {
			_, err = io.Copy(io.Discard, z)
		}
		if err != nil {
			bad++
		}
	}
	if bad != 1 {
		t.Errorf("%d blocks of %d are damaged, want 1", bad, len(list))
	}
}

// TestXzWriter: what is packed in several blocks is one stream, which xz extracts and takes for whole.
func TestXzWriter(t *testing.T) {
	xz := witness.Tool(t, "xz")
	for _, n := range []int{0, 1, xzBlock, xzBlock + 1, 2*xzBlock + 12345} {
		want := bytes.Repeat([]byte("godwit and dunlin "), n/18+1)[:n]
		var b bytes.Buffer
		w, err := NewWriter(Xz, &b)
		if err != nil {
			t.Fatalf("NewWriter(Xz, &b): %v", err)
		}
		for at := 0; at < n; at += 1 << 20 {
			if _, err := w.Write(want[at:min(n, at+1<<20)]); err != nil {
				t.Fatalf("w.Write(want[at:min(n, at+1<<20)]): %v", err)
			}
		}
		if err := w.Close(); err != nil {
			t.Fatalf("w.Close(): %v", err)
		}
		c := exec.Command(xz, "-dc", "--single-stream")
		c.Stdin = bytes.NewReader(b.Bytes())
		got, err := c.Output()
		if err != nil || !bytes.Equal(got, want) {
			t.Errorf("%d bytes: %d come back (%v)", n, len(got), err)
		}
		list, _ := XzBlocks(bytes.NewReader(b.Bytes()), int64(b.Len()))
		if len(list) != (n+xzBlock-1)/xzBlock {
			t.Errorf("%d bytes: %d blocks", n, len(list))
		}
	}
}

// FuzzXzBlocks: no file makes it panic or take memory.
func FuzzXzBlocks(f *testing.F) {
	f.Add(
		[]byte("\xfd7zXZ\x00\x00\x01i\"\xde6\x00\x00\x00\x00\x1c\xdfD!\x90B\x99\r\x01\x00\x00\x00\x00\x01YZ"))
	f.Fuzz(func(t *testing.T, b []byte) {
		list, _ := XzBlocks(bytes.NewReader(b), int64(len(b)))
		for _, x := range list[:min(len(list), 4)] {
			if z, err := x.Open(1 << 20); err == nil {
				_, _ = io.CopyN(io.Discard, z, 1<<16)
			}
		}
	})
}
