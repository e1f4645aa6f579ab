package blocklist

import (
	"bytes"
	"errors"
	"strings"
	"testing"

	"jarlid/internal/core/image"
)

type memory []byte

func (m memory) WriteAt(p []byte, off int64) (int, error) { return copy(m[off:], p), nil }
func (m memory) Zero(off, n int64) error                  { clear(m[off : off+n]); return nil }

// TestApply works lists by hand: each block of the data is one letter.
func TestApply(t *testing.T) {
	for _, c := range []struct{ list, data, want string }{
		{"1\n2\nnew 4,0,1,3,4\n", "AB", "A??B"},
		{"2\n3\n0\n0\nerase 2,0,4\nnew 2,1,3\nzero 2,3,4\nnew 2,0,1\n", "ABC", "CAB."},
		{"4\n1\n0\n0\nnew 2,2,3\n\n", "Z", "??Z"},
	} {
		l, err := Parse(strings.NewReader(c.list))
		if err != nil {
			t.Fatalf("Parse(strings.NewReader(c.list)): %v", err)
		}
		block := func(s string) []byte {
			var b []byte
			for _, r := range s {
				b = append(b, bytes.Repeat([]byte{map[bool]byte{true: 0, false: byte(r)}[r == '.']},
					BlockSize)...)
			}
			return b
		}
		m := memory(bytes.Repeat([]byte{'?'}, int(l.Blocks)*BlockSize))
		if err := l.Apply(m, bytes.NewReader(block(c.data))); err != nil || !bytes.Equal(m, block(c.want)) ||
			l.Data != int64(len(c.data))*BlockSize {
			t.Errorf("%q: %v, or the blocks differ", c.list, err)
		}
		if err := l.Apply(m, bytes.NewReader(block(c.data)[1:])); !image.IsShort(err) {
			t.Errorf("%q with a byte less: %v", c.list, err)
		}
	}
}

func TestRefused(t *testing.T) {
	var inc *IncrementalError
	if _, err := Parse(strings.NewReader("4\n1\n1\n1\nmove abc 2,0,1 1 2,1,2\n")); !errors.As(err, &inc) ||
		inc.Line != 5 || inc.Op != "move" {
		t.Errorf("an incremental list: %v", err)
	}
	for _, s := range []string{"", "5\n1\n", "x\n", "1\n", "2\n1\n0\n", "1\n1\nnew 3,0,1\n",
		"1\n1\nnew 2,1,1\n", "1\n1\nnew 2,5,4\n",
		"1\n1\nnew 2,0,99999999999999999999\n", "1\n1\nnew 2,-1,4\n", "1\n1\nrm 2,0,1\n", "1\n1\nnew\n"} {
		var e *image.Error
		if _, err := Parse(strings.NewReader(s)); !errors.As(err, &e) {
			t.Errorf("Parse(strings.NewReader(s)): %q: %v; unwanted: !errors.As(err, &e)", s, err)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("2\n3\n0\n0\nerase 2,0,4\nnew 2,1,3\nzero 2,3,4\nnew 2,0,1\n")
	f.Fuzz(func(t *testing.T, s string) {
		l, err := Parse(strings.NewReader(s))
		if err == nil && l.Blocks < 64 {
			l.Apply(make(memory, l.Blocks*BlockSize), strings.NewReader(s))
		}
	})
}
