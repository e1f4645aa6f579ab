package erofs

import (
	"bytes"
	"io"
	"io/fs"
	"testing"

	"jarlid/internal/core/image/tree/treetest"
)

func open(r io.ReaderAt, size int64) (fs.FS, error) { return New(r, size) }

func TestTree(t *testing.T) { treetest.Run(t, 18, open) }

// TestLZ4 extracts a block worked out by hand from the format's description:
// "abc", then five bytes from three back, then "!".
func TestLZ4(t *testing.T) {
	block := []byte("\x31abc\x03\x00\x10!")
	for n, want := range []string{"", "a", "ab", "abc", "abca", "abcab", "abcabc", "abcabca", "abcabcab",
		"abcabcab!"} {
		out := make([]byte, n)
		if err := lz4Block(out, block); err != nil || string(out) != want {
			t.Errorf("%d bytes: %q, %v", n, out, err)
		}
	}
	for _, bad := range []string{"", "\xf0", "\x31abc\x04\x00\x10!", "\x31abc\x00\x00", "\x31ab",
		"\x31abc\x03"} {
		if lz4Block(make([]byte, 9), []byte(bad)) == nil {
			t.Errorf("%q is taken", bad)
		}
	}
}

func FuzzRead(f *testing.F) {
	for _, name := range []string{"plain", "lz4", "legacy-big", "tails", "chunks", "lzma-big",
		"deflate-fragments", "zstd-dedupe", "two"} {
		f.Add(treetest.Unxz(f, "testdata/"+name+".erofs.xz"))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		treetest.Fuzz(bytes.NewReader(b), int64(len(b)), open)
	})
}
