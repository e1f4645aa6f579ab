package sparse

import (
	"bytes"
	"math/rand/v2"
	"strings"
	"testing"
)

// raw is an image with data, runs of one word, and zeros.
func raw(blocks int) []byte {
	r := rand.New(rand.NewPCG(1, 2))
	b := make([]byte, blocks*4096)
	for i := range blocks {
		p := b[i*4096:][:4096]
		switch i % 5 {
		case 0, 1:
			for k := range p {
				p[k] = byte(r.Uint32())
			}
		case 2:
			copy(p, bytes.Repeat([]byte{1, 2, 3, 4}, 1024))
		}
	}
	return b
}

// TestJoin: what an image was cut into is put together again, and as one sparse image too; what is no piece
// of it is named.
func TestJoin(t *testing.T) {
	want := raw(200)
	var pieces []Piece
	c, err := Cut(bytes.NewReader(want), int64(len(want)), 128<<10)
	if err != nil {
		t.Fatalf("Cut(bytes.NewReader(want), int64(len(want)), 128<<10): %v", err)
	}
	for {
		p, err := c.Next()
		if err != nil {
			break
		}
		var b bytes.Buffer
		if err := p.WriteTo(&b, bytes.NewReader(want)); err != nil {
			t.Fatalf("p.WriteTo(&b, bytes.NewReader(want)): %v", err)
		}
		pieces = append(pieces, Piece{string(rune('a' + len(pieces))), bytes.NewReader(b.Bytes()),
			int64(b.Len())})
	}
	if len(pieces) < 3 {
		t.Fatalf("only %d pieces", len(pieces))
	}
	v, _, err := Join(pieces)
	if err != nil {
		t.Fatalf("Join(pieces): %v", err)
	}
	got := make([]byte, len(want))
	if _, err := v.ReadAt(got, 0); err != nil || !bytes.Equal(got, want) {
		t.Errorf("what was put together differs (%v)", err)
	}
	var file bytes.Buffer
	if _, err := v.WriteTo(&file); err != nil {
		t.Fatalf("v.WriteTo(&file): %v", err)
	}
	again, err := NewView(bytes.NewReader(file.Bytes()), int64(file.Len()))
	if err != nil {
		t.Fatalf("NewView(bytes.NewReader(file.Bytes()), int64(file.Len())): %v", err)
	}
	clear(got)
	if _, err := again.ReadAt(got, 0); err != nil || !bytes.Equal(got, want) {
		t.Errorf("as one sparse image it differs (%v)", err)
	}
	twice := append([]Piece{{"again", pieces[1].R, pieces[1].Size}}, pieces...)
	if _, _, err := Join(twice); err == nil || !strings.Contains(err.Error(), "both bring block") {
		t.Errorf("a piece twice: %v", err)
	}
	small := bytes.NewReader(want[:8192])
	k, err := Cut(small, 8192, 1<<20)
	if err != nil {
		t.Fatalf("Cut(small, 8192, 1<<20): %v", err)
	}
	p, err := k.Next()
	if err != nil {
		t.Fatalf("k.Next(): %v", err)
	}
	var b bytes.Buffer
	if err := p.WriteTo(&b, small); err != nil {
		t.Fatalf("p.WriteTo(&b, small): %v", err)
	}
	if _, _, err := Join(append(pieces, Piece{"other", bytes.NewReader(b.Bytes()), int64(b.Len())})); err ==
		nil || !strings.Contains(err.Error(), "other belongs to an image") {
		t.Errorf("a piece of another image: %v", err)
	}
}
