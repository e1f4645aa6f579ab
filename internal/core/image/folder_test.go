package image

import (
	"bytes"
	"fmt"
	"slices"
	"testing"
)

func TestSeriesOf(t *testing.T) {
	folder := []string{"super.img_sparsechunk.0", "super.img_sparsechunk.1", "super.img_sparsechunk.10",
		"super.img_sparsechunk.2", "super.img_sparsechunk.3", "boot.img",
		"system.img.1", "system.img.2", "vendor_1.img", "vendor_2.img", "gap.chunk0", "gap.chunk2",
		"rom.zip.5", "late.chunk.2", "one.0", "x.1", "x.01", "product.img_sparsechunk1",
		"product.img_sparsechunk2"}
	for _, c := range []struct{ name, want string }{
		{"super.img_sparsechunk.3", "super.img [super.img_sparsechunk.0 super.img_sparsechunk.1 " +
			"super.img_sparsechunk.2 super.img_sparsechunk.3 super.img_sparsechunk.10] [4 5 6 7 8 9]"},
		{"system.img.1", "system.img [system.img.1 system.img.2] []"},
		{"vendor_2.img", "vendor.img [vendor_1.img vendor_2.img] []"},
		{"gap.chunk2", "gap [gap.chunk0 gap.chunk2] [1]"},
		{"product.img_sparsechunk1", "product.img [product.img_sparsechunk1 product.img_sparsechunk2] []"},
		{"rom.zip.5", ""}, {"late.chunk.2", "late [late.chunk.2] [1]"},
		{"boot.img", ""}, {"one.0", ""}, {"x.1", ""},
	} {
		got := ""
		if s := SeriesOf(c.name, folder); s != nil {
			got = fmt.Sprint(s.Stem, " ", s.Names, " ", s.Missing)
		}
		if got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}

func TestConcat(t *testing.T) {
	c := &Concat{}
	for _, s := range []string{"abc", "", "defg", "h"} {
		c.Add(bytes.NewReader([]byte(s)), int64(len(s)))
	}
	want := []byte("abcdefgh")
	for from := range want {
		for to := from; to <= len(want); to++ {
			b := make([]byte, to-from)
			if n, err := c.ReadAt(b, int64(from)); n != len(b) || err != nil ||
				!slices.Equal(b, want[from:to]) {
				t.Errorf("%d to %d: %q, %v", from, to, b, err)
			}
		}
	}
	if n, err := c.ReadAt(make([]byte, 3), 6); n != 2 || err == nil {
		t.Errorf("beyond the end: %d, %v", n, err)
	}
}
