package sparse

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"io"
	"math/rand/v2"
	"reflect"
	"testing"

	"jarlid/internal/core/image"
)

// handMade is an image of six 4-byte blocks put together by hand from
// sparse_format.h: two raw blocks, one filled with 0x11223344, a checksum
// chunk, two left alone, one filled with zeros.
var handMade = unhex(
	"3aff26ed" + "01000000" + "1c000c00" + "04000000" + "06000000" + "05000000" + "00000000" +
		"c1ca0000" + "02000000" + "14000000" + "4142434445464748" +
		"c2ca0000" + "01000000" + "10000000" + "44332211" +
		"c4ca0000" + "00000000" + "10000000" + "deadbeef" +
		"c3ca0000" + "02000000" + "0c000000" +
		"c2ca0000" + "01000000" + "10000000" + "00000000")

func unhex(s string) []byte {
	b, err := hex.DecodeString(s)
	if err != nil {
		panic(err)
	}
	return b
}

func TestChunks(t *testing.T) {
	h, list, err := Chunks(bytes.NewReader(handMade), int64(len(handMade)))
	want := []Chunk{
		{ChunkRaw, 0, 2, 0, 40},
		{ChunkFill, 2, 1, 0x11223344, 60},
		{ChunkDontCare, 3, 2, 0, 92},
		{ChunkFill, 5, 1, 0, 104},
	}
	if err != nil || h.Size() != 24 || !reflect.DeepEqual(list, want) {
		t.Fatalf("Chunks(bytes.NewReader(handMade), int64(len(handMade))): %+v, %v; unwanted: err != nil "+
			"|| h.Size() != 24 || !reflect.DeepEqual(list, want)", list, err)
	}
	for n := range handMade {
		if _, _, err := Chunks(bytes.NewReader(handMade[:n]), int64(n)); !image.IsShort(err) {
			t.Errorf("cut to %d bytes: %v", n, err)
		}
	}
	for at, v := range map[int]uint32{4: 2, 12: 3, 16: 5, 20: 4, 28: 0xcac9, 32: 0xffffffff, 36: 7} {
		bad := bytes.Clone(handMade)
		binary.LittleEndian.PutUint32(bad[at:], v)
		_, _, err := Chunks(bytes.NewReader(bad), int64(len(bad)))
		var e *image.Error
		if !errors.As(err, &e) {
			t.Errorf("%#x at byte %d: %v", v, at, err)
		}
	}
}

// expand applies an image to old, block by block, as a phone does.
func expand(t *testing.T, b, old []byte) {
	t.Helper()
	le := binary.LittleEndian
	bs, at := int(le.Uint32(b[12:])), 28
	out := 0
	for range le.Uint32(b[20:]) {
		typ, n := le.Uint16(b[at:]), int(le.Uint32(b[at+4:]))*bs
		body := b[at+12 : at+int(le.Uint32(b[at+8:]))]
		switch typ {
		case 0xcac1:
			copy(old[out:out+n], body)
		case 0xcac2:
			copy(old[out:out+n], bytes.Repeat(body, n/4))
		}
		at += int(le.Uint32(b[at+8:]))
		out += n
	}
	if out != int(le.Uint32(b[16:]))*bs || at != len(b) {
		t.Fatalf("the part covers %d bytes and ends at %d of %d", out, at, len(b))
	}
}

func cutAll(t *testing.T, src []byte, limit int64) (parts [][]byte) {
	t.Helper()
	c, err := Cut(bytes.NewReader(src), int64(len(src)), limit)
	if err != nil {
		t.Fatalf("Cut(bytes.NewReader(src), int64(len(src)), limit): %v", err)
	}
	for {
		p, err := c.Next()
		if errors.Is(err, io.EOF) {
			return parts
		}
		if err != nil {
			t.Fatalf("c.Next(): %v", err)
		}
		var b bytes.Buffer
		if err := p.WriteTo(&b, bytes.NewReader(src)); err != nil {
			t.Fatalf("p.WriteTo(&b, bytes.NewReader(src)): %v", err)
		}
		if int64(b.Len()) != p.Size() || p.Size() > limit {
			t.Fatalf("a part of %d bytes says it has %d, the limit is %d", b.Len(), p.Size(), limit)
		}
		parts = append(parts, b.Bytes())
	}
}

// TestCut cuts images of all sorts and puts them together again on a phone
// full of old bytes: zeros in the source overwrite them.
func TestCut(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for i := range 60 {
		src := make([]byte, 1+r.IntN(5<<20))
		for at := 0; at < len(src); {
			n := min(1+r.IntN(300000), len(src)-at)
			if r.IntN(2) == 0 {
				for k := range n {
					src[at+k] = byte(r.Uint32())
				}
			}
			at += n
		}
		limit := int64(12288 + r.IntN(2<<20))
		got := bytes.Repeat([]byte{0xee}, len(src)+4096)
		for _, p := range cutAll(t, src, limit) {
			expand(t, p, got)
		}
		if !bytes.Equal(got[:len(src)], src) {
			t.Fatalf("image %d of %d bytes, cut at %d: put together it differs", i, len(src), limit)
		}
	}
}

// TestCutSparse: "don't care" of the source stays, the old bytes with it.
func TestCutSparse(t *testing.T) {
	old := []byte("oldoldoldoldoldoldoldold")
	parts := cutAll(t, handMade, 28+3*12+2*4)
	if len(parts) < 2 {
		t.Fatalf("%d parts", len(parts))
	}
	for _, p := range parts {
		expand(t, p, old)
	}
	if want := "ABCDEFGH\x44\x33\x22\x11oldoldol\x00\x00\x00\x00"; string(old) != want {
		t.Errorf("%q, want %q", old, want)
	}
}

func FuzzChunks(f *testing.F) {
	f.Add(handMade)
	f.Fuzz(func(t *testing.T, b []byte) {
		h, list, err := Chunks(bytes.NewReader(b), int64(len(b)))
		var e *image.Error
		if err != nil && !errors.As(err, &e) {
			t.Fatalf("%v is not a format error", err)
		}
		var blocks int64
		for _, c := range list {
			blocks += c.Blocks
		}
		if err == nil && blocks != int64(h.Blocks) {
			t.Errorf("%d blocks in chunks, %d in the header", blocks, h.Blocks)
		}
	})
}
