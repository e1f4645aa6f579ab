package sums

import (
	"encoding/hex"
	"strings"
	"testing"
)

// The digests of "abc", as FIPS 180-2 and RFC 1321 print them.
const (
	abc256 = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"
	abc1   = "a9993e364706816aba3e25717850c26c9cd0d89d"
	abcMD5 = "900150983cd24fb0d6963f7d28e17f72"
)

func TestParse(t *testing.T) {
	list := Parse("# made today\n" + abc256 + "  a.img\r\n" + abcMD5 + " *dir/b name.zip\n" +
		"SHA256 (c (1).img) = " + strings.ToUpper(abc256) + "\nSHA1 (d) = " + abc1 + "\n\\" + abc1 +
		"  e\\\\f\n" +
		"SHA1 (wrong) = " + abcMD5 + "\nnot a line\n")
	want := []Sum{
		{"a.img", SHA256, abc256},
		{"dir/b name.zip", MD5, abcMD5},
		{"c (1).img", SHA256, abc256},
		{"d", SHA1, abc1},
		{`e\f`, SHA1, abc1},
	}
	if len(list) != len(want) {
		t.Fatalf("%+v; unwanted: len(list) != len(want)", list)
	}
	for i := range want {
		if list[i] != want[i] {
			t.Errorf("line %d: %+v, want %+v", i, list[i], want[i])
		}
	}
	if got := For(list, "/some/where/b name.zip"); len(got) != 1 || got[0].Algorithm != MD5 {
		t.Errorf("%+v; unwanted: len(got) != 1 || got[0].Algorithm != MD5", got)
	}
	if got := For(Parse(abc1+"\n"), "any"); len(got) != 1 {
		t.Errorf("a digest alone: %+v", got)
	}
	for _, s := range []string{abc256, "SHA-256: " + abc256, "sha256:" + strings.ToUpper(abc256), "ba:78:16" +
		abc256[6:]} {
		if d, ok := ParseDigest(s); !ok || d.Digest != abc256 {
			t.Errorf("%q: %+v; unwanted: !ok || d.Digest != abc256", s, d)
		}
	}
	if _, ok := ParseDigest("deadbeef"); ok {
		t.Error("four bytes are taken for a digest")
	}
	for a, want := range map[Algorithm]string{MD5: abcMD5, SHA1: abc1, SHA256: abc256} {
		h := a.New()
		h.Write([]byte("abc"))
		if got := hex.EncodeToString(h.Sum(nil)); got != want {
			t.Errorf("%s of abc is %s", a, got)
		}
	}
}

// TestForms: the layouts in which openssl, the tools of coreutils and people write digests, of the text
// "abc".
func TestForms(t *testing.T) {
	const abc224 = "23097d223405d8228642a477bda255b32aadbce4bda0b3f7e36c9da7"
	const abc384 = "cb00753f45a35e8bb5a03d699ac65007272c32ab0eded163" +
		"1a8b605a43ff5bed8086072ba1e7cc2358baeca134c825a7"
	for line, want := range map[string]Sum{
		"SHA2-384(rom.zip)= " + abc384:      {"rom.zip", SHA384, abc384},
		"SHA2-256(rom.zip)= " + abc256:      {"rom.zip", SHA256, abc256},
		"SHA256(rom.zip)= " + abc256:        {"rom.zip", SHA256, abc256},
		"MD5(rom.zip)= " + abcMD5:           {"rom.zip", MD5, abcMD5},
		"SHA224 (rom.zip) = " + abc224:      {"rom.zip", SHA224, abc224},
		abc384 + "  rom.zip":                {"rom.zip", SHA384, abc384},
		abc256 + "\trom.zip":                {"rom.zip", SHA256, abc256},
		abc256 + " \t *rom.zip":             {"rom.zip", SHA256, abc256},
		"sha256:" + abc256 + "  rom.zip":    {"rom.zip", SHA256, abc256},
		"sha256:" + strings.ToUpper(abc256): {"", SHA256, abc256},
		"SHA512 (rom.zip) = " + abc256:      {},
		"sha1:" + abc256 + " rom.zip":       {},
	} {
		got := Sum{}
		if list := Parse(line + "\n"); len(list) == 1 {
			got = list[0]
		}
		if got != want {
			t.Errorf("%q is %+v, want %+v", line, got, want)
		}
	}
	for a, want := range map[Algorithm]string{SHA224: abc224, SHA384: abc384} {
		h := a.New()
		h.Write([]byte("abc"))
		if got := hex.EncodeToString(h.Sum(nil)); got != want {
			t.Errorf("%s of abc is %s", a, got)
		}
	}
}

// TestWindows: what that system's shell writes and prints, and its byte order marks.
func TestWindows(t *testing.T) {
	table := "\r\nAlgorithm       Hash                                                                   " +
		"Path\r\n---------       ----                                                                   " +
		"----\r\n" +
		"SHA256          " + strings.ToUpper(abc256) + "       C:\\roms\\the rom.zip\r\nMD5             " +
		strings.ToUpper(abcMD5) + "       C:\\roms\\b.img\r\n"
	list := "\r\nAlgorithm : SHA256\r\nHash      : " + strings.ToUpper(abc256) +
		"\r\nPath      : C:\\roms\\the rom.zip\r\n\r\n"
	lines := abc256 + "  the rom.zip\n" + abc1 + "  b.img\n"
	utf16le := func(s string) string {
		b := []byte{0xff, 0xfe}
		for _, r := range s {
			b = append(b, byte(r), byte(r>>8))
		}
		return string(b)
	}
	for what, c := range map[string]struct {
		text string
		n    int
	}{
		"a table":           {table, 2},
		"a list":            {list, 1},
		"with a mark":       {"\xef\xbb\xbf" + lines, 2},
		"in UTF-16":         {utf16le(lines), 2},
		"a table in UTF-16": {utf16le(table), 2},
	} {
		got := Parse(Text([]byte(c.text)))
		if len(got) != c.n || len(got) > 0 && (got[0].Digest != abc256 || got[0].Algorithm != SHA256) {
			t.Errorf("%s: %+v; unwanted: len(got) != c.n || len(got) > 0 && (got[0].Digest != abc256 || ...",
				what, got)
			continue
		}
		if mine := For(got, "/home/x/the rom.zip"); len(mine) != 1 {
			t.Errorf("%s, of the file: %+v", what, mine)
		}
	}
	if d, ok := ParsePasted(abc256 + "  rom.zip"); !ok || d.Digest != abc256 {
		t.Errorf("a pasted line: %+v", d)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(abc256 + "  a\nSHA1 (d) = " + abc1 + "\n")
	f.Fuzz(func(t *testing.T, s string) { For(Parse(Text([]byte(s))), s) })
}
