package sparse

import (
	"bytes"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
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

// TestJoin: what an image was cut into is put together again, by our own cutter and by the platform's
// tool where it is there; what is no piece of it is named.
func TestJoin(t *testing.T) {
	want := raw(200)
	var pieces []Piece
	c, err := Cut(bytes.NewReader(want), int64(len(want)), 128<<10)
	if err != nil {
		t.Fatal(err)
	}
	for {
		p, err := c.Next()
		if err != nil {
			break
		}
		var b bytes.Buffer
		if err := p.WriteTo(&b, bytes.NewReader(want)); err != nil {
			t.Fatal(err)
		}
		pieces = append(pieces, Piece{string(rune('a' + len(pieces))), bytes.NewReader(b.Bytes()), int64(b.Len())})
	}
	if len(pieces) < 3 {
		t.Fatalf("only %d pieces", len(pieces))
	}
	sets := map[string][]Piece{"cut here": pieces}
	if _, err := exec.LookPath("img2simg"); err == nil {
		dir := t.TempDir()
		in := filepath.Join(dir, "x.img")
		if err := os.WriteFile(in, want, 0o600); err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command("img2simg", in, in+".s").CombinedOutput(); err != nil {
			t.Fatalf("%s %v", out, err)
		}
		if out, err := exec.Command("simg2simg", in+".s", in+"_c", "131072").CombinedOutput(); err != nil {
			t.Logf("no cutting tool: %s %v", out, err)
		} else {
			list, _ := filepath.Glob(in + "_c.*")
			var other []Piece
			for i := range list {
				b, err := os.ReadFile(in + "_c." + string(rune('0'+i)))
				if err != nil {
					t.Fatal(err)
				}
				other = append(other, Piece{"c", bytes.NewReader(b), int64(len(b))})
			}
			sets["cut by the platform's tool"] = other
		}
	}
	for what, set := range sets {
		v, _, err := Join(set)
		if err != nil {
			t.Fatal(what, err)
		}
		got := make([]byte, len(want))
		if _, err := v.ReadAt(got, 0); err != nil || !bytes.Equal(got, want) {
			t.Errorf("%s: what was put together differs (%v)", what, err)
		}
		var file bytes.Buffer
		if _, err := v.WriteTo(&file); err != nil {
			t.Fatal(err)
		}
		again, err := NewView(bytes.NewReader(file.Bytes()), int64(file.Len()))
		if err != nil {
			t.Fatal(err)
		}
		clear(got)
		if _, err := again.ReadAt(got, 0); err != nil || !bytes.Equal(got, want) {
			t.Errorf("%s: as one sparse image it differs (%v)", what, err)
		}
	}
	twice := append([]Piece{{"again", pieces[1].R, pieces[1].Size}}, pieces...)
	if _, _, err := Join(twice); err == nil || !strings.Contains(err.Error(), "both bring block") {
		t.Errorf("a piece twice: %v", err)
	}
	small := bytes.NewReader(want[:8192])
	k, err := Cut(small, 8192, 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	p, err := k.Next()
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	if err := p.WriteTo(&b, small); err != nil {
		t.Fatal(err)
	}
	if _, _, err := Join(append(pieces, Piece{"other", bytes.NewReader(b.Bytes()), int64(b.Len())})); err == nil || !strings.Contains(err.Error(), "other belongs to an image") {
		t.Errorf("a piece of another image: %v", err)
	}
}
