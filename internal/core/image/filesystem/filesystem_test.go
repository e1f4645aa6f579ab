package filesystem

import (
	"bytes"
	"errors"
	"testing"
)

// TestTypes recognises super blocks whose magic numbers are written by hand; a head alone is damaged, or of a
// file system that is not read.
func TestTypes(t *testing.T) {
	head := func(at int, magic ...byte) []byte {
		b := make([]byte, Head)
		copy(b[at:], magic)
		return b
	}
	shared := head(1024+56, 0x53, 0xef)
	shared[1024+24], shared[1024+0x65] = 2, 0x40 // blocks of 4 KiB, RO_COMPAT_SHARED_BLOCKS
	shared[1024+4], shared[1024+32], shared[1024+40] = 64, 64, 64
	for _, c := range []struct {
		name   string
		head   []byte
		want   string
		frozen bool
		read   bool
	}{
		{name: "ext4", head: head(1024+56, 0x53, 0xef), want: "ext4", read: true},
		{name: "ext4 with shared blocks", head: shared, want: "ext4-shared", frozen: true, read: true},
		{name: "EROFS", head: head(1024, 0xe2, 0xe1, 0xf5, 0xe0), want: "erofs", frozen: true, read: true},
		{name: "F2FS", head: head(1024, 0x10, 0x20, 0xf5, 0xf2), want: "f2fs"},
		{name: "squashfs", head: head(0, 'h', 's', 'q', 's'), want: "squashfs", frozen: true},
		{name: "zeros", head: head(0)},
		{name: "short", head: []byte("hs")},
		{name: "nothing"},
	} {
		got := Of(c.head)
		if got.Name != c.want || got.Frozen != c.frozen || (got.Open != nil) != c.read {
			t.Errorf("%s: Of gives %+v, want %s, frozen %v, read %v", c.name, got, c.want, c.frozen, c.read)
		}
		// The row ext4 has the magic number of a superblock alone.
		if certain := Certain(c.head).Name; certain != c.want && c.want != "ext4" || certain == "ext4" {
			t.Errorf("%s: Certain gives %q", c.name, certain)
		}
		if Named(c.want).Title != got.Title {
			t.Errorf("Named(%q) is not what Of gives", c.want)
		}
		_, err := Open(bytes.NewReader(c.head), int64(len(c.head)))
		if err == nil || errors.Is(err, ErrNone) == c.read {
			t.Errorf("%s: Open: %v", c.name, err)
		}
	}
}
