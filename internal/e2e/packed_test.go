package e2e

import (
	"archive/zip"
	"bytes"
	"hash/crc32"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestPacked: what general archivers pack in their other ways is identified, lifted byte for byte and
// verified; a way that is not read is named, and a damaged byte is noticed.
func TestPacked(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		text := bytes.Repeat([]byte("The tide comes in twice a day, and goes out twice.\n"), 2000)
		program := must(os.ReadFile("/bin/sh")) // has calls for the filters
		long := append(append(bytes.Clone(text), make([]byte, 150<<10)...), program...)
		l.file("text", text)
		l.file("program", long)
		path := func(name string) string { return filepath.Join(l.dir, name) }
		// raw makes a zip whose member a general tool packed, in a method that no archiver here writes.
		raw := func(method uint16, tool string, args ...string) []byte {
			packed := []byte(l.tool(tool, append(args, "program")...))
			var b bytes.Buffer
			z := zip.NewWriter(&b)
			w := must(z.CreateRaw(&zip.FileHeader{Name: "program", Method: method,
				CRC32:            crc32.ChecksumIEEE(long),
				CompressedSize64: uint64(len(packed)), UncompressedSize64: uint64(len(long))}))
			must(w.Write(packed))
			if err := z.Close(); err != nil {
				t.Fatalf("z.Close(): %v", err)
			}
			return b.Bytes()
		}
		seven := func(name string, args ...string) func() {
			return func() {
				l.tool("7z", append(append([]string{"a", "-bso0", name}, args...), "text",
					"program")...)
			}
		}
		whole := []string{"text", "program"}
		for _, c := range []struct {
			name  string
			make  func()
			words string   // of ident
			files []string // that lift writes; none: it fails
			says  string   // of lift that fails
			proof int
		}{
			{"bzip2.zip", seven("bzip2.zip", "-mm=BZip2"), "archive", whole, "", 0},
			{"lzma.zip", seven("lzma.zip", "-mm=LZMA"), "archive", whole, "", 0},
			{"deflate64.zip", seven("deflate64.zip", "-mm=Deflate64"), "archive", whole, "", 0},
			{"ppmd.zip", seven("ppmd.zip", "-mm=PPMd"), "archive", nil, "packed with PPMd", 1},
			{"zstd.zip", func() { l.file("zstd.zip", raw(93, "zstd", "-q", "-c")) }, "archive", whole[1:],
				"", 0},
			{"xz.zip", func() { l.file("xz.zip", raw(95, "xz", "-c")) }, "archive", whole[1:], "", 0},
			{"method.zip", func() { l.file("method.zip", raw(77, "xz", "-c")) }, "archive", nil,
				"packed with method 77", 1},
			{"deflate64.7z", seven("deflate64.7z", "-m0=Deflate64"), "archive", whole, "", 0},
			{"arm.7z", seven("arm.7z", "-m0=ARM", "-m1=LZMA2"), "archive", whole, "", 0},
			{"armt.7z", seven("armt.7z", "-m0=ARMT", "-m1=LZMA2"), "archive", whole, "", 0},
			{"arm64.7z", seven("arm64.7z", "-m0=ARM64", "-m1=LZMA2"), "archive", whole, "", 0},
			{"ia64.7z", seven("ia64.7z", "-m0=IA64", "-m1=LZMA2"), "archive", nil, "the filter for IA-64", 1},
			{"old.tar", func() { l.tool("tar", "--format=v7", "-cf", "old.tar", "text", "program") },
				"archive",
				whole, "", 1},
			{"set.tar.br", func() {
				l.tool("tar", "-cf", "set.tar", "text", "program")
				l.tool("brotli", "set.tar")
			}, "archive", whole, "", 1},
			{"skip.zst", func() {
				b := must(os.ReadFile(l.file("frame", []byte("\x53\x2a\x4d\x18\x03\x00\x00\x00abc"))))
				l.file("skip.zst", append(b, l.tool("zstd", "-q", "-c", "program")...))
			}, "nothing", []string{"skip"}, "", 0},
			{"loose.cpio", func() { cpioOf(l, "newc", "loose.cpio") }, "a ramdisk", whole, "", 1},
			{"sums.cpio", func() { cpioOf(l, "crc", "sums.cpio") }, "a ramdisk", whole, "", 1},
			{"loose.cpio.gz", func() {
				cpioOf(l, "newc", "loose.cpio")
				l.tool("gzip", "-kf", "loose.cpio")
			}, "a ramdisk", whole, "", 0},
		} {
			c.make()
			out := path("out-" + c.name)
			l.want(0, nil, "ident", path(c.name))
			if _, said := l.run("ident", path(c.name)); c.words != "nothing" && !strings.Contains(said,
				c.words) {
				t.Errorf("ident says of %s:\n%s", c.name, said)
			}
			if c.files == nil {
				l.want(1, []string{c.says}, "lift", path(c.name), "-o", out)
			} else {
				l.want(0, nil, "lift", path(c.name), "-o", out)
			}
			for _, name := range c.files {
				want := long
				if name == "text" {
					want = text
				}
				if got, err := os.ReadFile(filepath.Join(out, name)); err != nil || !bytes.Equal(got, want) {
					t.Errorf("%s of %s is %d bytes (%v), want %d", name, c.name, len(got), err, len(want))
				}
			}
			l.want(c.proof, nil, "proof", path(c.name))
		}
		for _, name := range []string{"bzip2.zip", "lzma.zip", "deflate64.zip", "zstd.zip", "xz.zip",
			"deflate64.7z",
			"armt.7z", "sums.cpio"} {
			b := must(os.ReadFile(path(name)))
			b[len(b)/3] ^= 0x55
			l.want(6, nil, "proof", l.file("bad-"+name, b))
		}
		l.tool("zip", "-q", "-0", "-s", "64k", "split.zip", "text", "program")
		l.want(0, []string{"one volume of several"}, "ident", path("split.zip"))
		l.want(1, []string{"one volume of several"}, "lift", path("split.zip"), "-o", path("out-split"))
	})
}

// TestLiftEncrypted: of a file system with encrypted files the others are lifted, and it ends with 1.
func TestLiftEncrypted(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.tool("sh", "-c", "mkdir in; for f in a b c; do echo $f > in/$f; done")
		l.tool("mke2fs", "-q", "-t", "ext4", "-O", "encrypt", "-d", "in", "e.img", "2M")
		l.tool("debugfs", "-w", "-R", "set_inode_field b flags 0x80800", "e.img") // EXT4_ENCRYPT_FL, extents
		out := filepath.Join(l.dir, "out")
		l.want(1, []string{"2 of 3 files taken out", "could not be read: b", "is encrypted"}, "lift",
			filepath.Join(l.dir, "e.img"), "/", "-o", out)
		for _, name := range []string{"a", "c"} {
			if got, err := os.ReadFile(filepath.Join(out, name)); err != nil || string(got) != name+"\n" {
				t.Errorf("%s is %q (%v)", name, got, err)
			}
		}
		if _, err := os.Stat(filepath.Join(out, "b")); err == nil {
			t.Error("the encrypted file was written")
		}
	})
}

// cpioOf has cpio pack the two files.
func cpioOf(l *lab, form, name string) {
	l.tool("sh", "-c", "printf 'text\\nprogram\\n' | cpio -o --quiet -H "+form+" > "+name)
}
