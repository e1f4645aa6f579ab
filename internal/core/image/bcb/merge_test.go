package bcb

import (
	"bytes"
	"testing"
)

// TestMerge reads bytes laid out by hand after misc_virtual_ab_message: version,
// magic 0x56740AB0, merge status, source slot.
func TestMerge(t *testing.T) {
	for status, want := range map[byte]string{
		0: "none",
		1: "unknown",
		2: "snapshotted",
		3: "merging",
		4: "cancelled",
	} {
		b := make([]byte, MergeSize)
		copy(b, []byte{2, 0xb0, 0x0a, 0x74, 0x56, status, 1})
		if got, err := ParseMerge(b); got != want || err != nil {
			t.Errorf("status %d: %q, %v", status, got, err)
		}
		again := make([]byte, MergeSize)
		again[40] = 9 // reserved bytes stay
		if err := PutMerge(again, want, 1); err != nil || !bytes.Equal(again[:7], b[:7]) || again[40] != 9 {
			t.Errorf("PutMerge of %s: % x, %v; want the magic number and the reserved byte", want, again[:8],
				err)
		}
	}
	for _, b := range [][]byte{nil, make([]byte, MergeSize), make([]byte, 10),
		append([]byte{2, 0xb0, 0x0a, 0x74, 0x56, 5}, make([]byte, MergeSize)...)} {
		if s, err := ParseMerge(b); err == nil {
			t.Errorf("%d bytes give %q", len(b), s)
		}
	}
	if PutMerge(make([]byte, MergeSize), "done", 0) == nil {
		t.Error("a state of its own was written")
	}
}

func FuzzMerge(f *testing.F) {
	f.Add([]byte{2, 0xb0, 0x0a, 0x74, 0x56, 2, 1})
	f.Fuzz(func(t *testing.T, b []byte) {
		if state, err := ParseMerge(b); err == nil && PutMerge(bytes.Clone(b), state, 0) != nil {
			t.Errorf("%q can be read and not written", state)
		}
	})
}
