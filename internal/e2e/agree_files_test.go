package e2e

import (
	"bytes"
	"crypto/md5"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// changing is a file in a lab that bytes are changed of.
type changing struct {
	name     string
	from, to int  // what a checksum in the file covers, in bytes from its start and end
	lifts    bool // lift takes something out of it
}

// fixtures puts the files that the tests of packages have into the lab: a seeded sample, or all.
func (l *lab) fixtures() (list []changing) {
	list = []changing{
		// AvbVBMetaImageHeader, then the authentication block, whose end nothing covers,
		// then the rest, which the signature covers.
		{"vbmeta/testdata/rsa2048.img", 256 + 320, 0, false}, {"vbmeta/testdata/rsa4096.img", 256 + 576, 0,
			false},
		{"vbmeta/testdata/rsa8192.img", 256 + 1088, 0, false},
		// What comes before the block of signatures ("APK Signature Scheme v2").
		{"appsig/testdata/v2.apk", 0, 8575 - 4096, true}, {"appsig/testdata/v2-rsa.apk", 0, 8391 - 4096,
			true},
		{"appsig/testdata/v3.apk", 0, 8391 - 4096, true}, {"appsig/testdata/rotated.apk", 0, 8391 - 4096,
			true},
		{"kernel/testdata/kernel.gz", 10, 4, true},
	}
	const images = "../core/image/"
	packed := must(filepath.Glob(images + "*/testdata/*.xz"))
	if len(packed) < 20 {
		l.Fatalf("%d packed fixtures in %s", len(packed), images)
	}
	for _, path := range packed {
		list = append(list, changing{strings.TrimPrefix(path, images), 0, 0, true})
	}
	if !*whole {
		list = share(l.T, list, 3)
	}
	for i, c := range list {
		list[i].name = filepath.Base(c.name)
		l.file(list[i].name, must(os.ReadFile(images+c.name)))
	}
	return list
}

// TestChanged changes, cuts and doubles bytes of files at seeded places. What proof calls damaged, ident
// never calls good and lift never ends well; and a change that a checksum of the file covers never passes
// proof.
func TestChanged(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		noise := make([]byte, 40<<10)
		r := seeded(t)
		for i := range noise {
			noise[i] = byte(r.IntN(256)) >> (i / 8000)
		}
		l.file("noise", noise)
		for _, pack := range [][]string{{"gzip", "-nk", "noise"}, {"xz", "-k", "noise"}, {"bzip2", "-k",
			"noise"},
			{"zstd", "-q", "noise"}, {"lz4", "-q", "noise", "noise.lz4"}, {"zip", "-q", "-X", "noise.zip",
				"noise"},
			{"7z", "a", "-bso0", "noise.7z", "noise"}, {"7z", "a", "-bso0", "-tzip", "-mm=Deflate64",
				"large.zip",
				"noise"}, {"tar", "cf", "packed.tar", "noise.gz"}} {
			l.tool(pack[0], pack[1:]...)
		}
		l.file("foot.img", footed(noise, "vendor"))
		packed := must(os.ReadFile(filepath.Join(l.dir, "packed.tar")))
		l.file("line.tar.md5", append(packed, fmt.Appendf(nil, "%x  line.tar\n", md5.Sum(packed))...))
		l.file("set.img.sha256", []byte(strings.Fields(l.tool("sha256sum", "noise"))[0]+"  set.img\n"))
		l.file("set.img", noise)
		cases := []changing{
			{"noise.gz", 10, 4, true}, // its head has none (RFC 1952, 2.3); its own length is the last word
			{"noise.xz", 0, 0, true},
			{"noise.bz2", 10, 10, true},
			{"noise.zst", 6, 0, true},
			{"noise.lz4", 7, 0, true},
			{"noise.zip", 30 + 5, 150, true}, // of a member: after its header and name
			{"noise.7z", 32, 200, true},
			{"large.zip", 30 + 5, 150, true},
			{"packed.tar", 512 + 10, 10240 + 4, true},
			{"line.tar.md5", 0, 60, true},
			{"foot.img", 0, 64 << 10, false},
			{"set.img", 0, 0, false},
		}
		for _, c := range append(cases, l.fixtures()...) {
			body := must(os.ReadFile(filepath.Join(l.dir, c.name)))
			if c.name != "set.img" {
				l.want(0, nil, "proof", filepath.Join(l.dir, c.name))
			}
			folder := must(os.MkdirTemp(l.dir, "changed"))
			path := filepath.Join(folder, c.name)
			if c.name == "set.img" {
				write(l, path+".sha256", must(os.ReadFile(filepath.Join(l.dir, "set.img.sha256"))))
			}
			for n := range 12 {
				at := c.from + r.IntN(max(1, len(body)-c.to-c.from))
				changed, how := slices.Clone(body), ""
				switch n % 3 {
				case 0:
					changed[at] ^= byte(1 + r.IntN(255))
					how = fmt.Sprintf("byte %d changed", at)
				case 1:
					changed, how = changed[:at], fmt.Sprintf("cut at %d", at)
				default:
					k := min(1+r.IntN(64), len(body)-at)
					changed = slices.Insert(changed, at, body[at:at+k]...)
					how = fmt.Sprintf("%d bytes doubled at %d", k, at)
				}
				if bytes.HasPrefix(changed, body) { // nothing covers what comes after the end
					continue
				}
				write(l, path, changed)
				code, said := l.run("proof", path)
				if code == 0 {
					t.Errorf("%s, %s, passes proof:\n%s", c.name, how, said)
				}
				if code != 6 {
					continue
				}
				if code, said := l.run("ident", path); code == 0 && strings.Contains(said, "good ") {
					t.Errorf("ident calls %s, %s, good, and proof damaged:\n%s", c.name, how, said)
				}
				if !c.lifts {
					continue
				}
				if code, said := l.run("lift", path, "-o", filepath.Join(folder, fmt.Sprint(n))); code == 0 {
					t.Errorf("lift ends well with %s, %s, which proof calls damaged:\n%s", c.name, how, said)
				}
			}
		}
	})
}
