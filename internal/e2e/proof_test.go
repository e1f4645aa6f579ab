package e2e

import (
	"bytes"
	"crypto/md5"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"jarlid/internal/core/image/boot"
	"jarlid/internal/standin/scenario"
)

// TestProof: every verdict.
func TestProof(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		vendor := must(scenario.Images(scenario.Saltmarsh, dunlin))["vendor"]
		sum := sha256.Sum256(vendor)
		digest := hex.EncodeToString(sum[:])
		path := l.file("vendor.img", vendor)
		var r struct {
			Files []struct {
				SHA256, Verdict, Against string
				Checks                   []struct{ What, Verdict string }
			}
		}
		verdict := func(code int, want string, args ...string) {
			t.Helper()
			l.result(code, &r, append([]string{"proof"}, args...)...)
			if f := r.Files[0]; f.Verdict != want {
				t.Errorf("%v: %+v, want %s", args, f, want)
			}
		}
		verdict(1, "unchecked", path)
		if r.Files[0].SHA256 != digest {
			t.Errorf("the digest is %s", r.Files[0].SHA256)
		}
		verdict(0, "match", path, "--against", "SHA256: "+strings.ToUpper(digest))
		verdict(6, "mismatch", path, "--against", strings.Repeat("00", 32))
		verdict(0, "match", path, "--against",
			l.file("gnu", fmt.Appendf(nil, "%s *vendor.img\n%s  other\n", digest, strings.Repeat("0", 64))))
		verdict(0, "match", path, "--against",
			l.file("bsd", fmt.Appendf(nil, "MD5 (dir/vendor.img) = %x\n", md5.Sum(vendor))))
		verdict(6, "not-listed", path, "--against", l.file("others", fmt.Appendf(nil, "%x  other\n",
			sha256.Sum256(nil))))
		l.file("vendor.img.sha256", []byte(digest+"\n"))
		verdict(0, "match", path)
		l.file("vendor.img.sha256", []byte(strings.Repeat("0", 64)+"  vendor.img\n"))
		verdict(6, "mismatch", path)
		l.want(2, []string{"neither a file of digests nor a digest"}, "proof", path, "--against", "abc")

		tarred := tarOf("vendor.img", string(vendor))
		line := fmt.Sprintf("%x  all.tar\n", md5.Sum(tarred))
		verdict(0, "match", l.file("all.tar.md5", append(bytes.Clone(tarred), line...)))
		tarred[1000] ^= 1
		verdict(6, "mismatch", l.file("bad.tar.md5", append(tarred, line...)))

		foot := footed(vendor, "vendor")
		verdict(0, "match", l.file("foot.img", foot))
		foot[5000] ^= 1
		verdict(6, "mismatch", l.file("footbad.img", foot))
		verdict(0, "match", files.Package)
		pkg := must(os.ReadFile(files.Package))
		pkg[len(pkg)/2] ^= 1
		verdict(6, "mismatch", l.file("bad.zip", pkg))
		l.want(6, []string{"payload properties", "does not match; do not use it"}, "proof",
			filepath.Join(l.dir, "bad.zip"))
	})
}

// TestProofOf: what general tools packed is compared with the checksums that it states, and with lists; no
// file is called good that was not compared.
func TestProofOf(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		path := func(name string) string { return filepath.Join(l.dir, name) }
		cut := func(from, to string, n int) {
			b := must(os.ReadFile(path(from)))
			l.file(to, b[:len(b)-n])
		}
		l.file("text", bytes.Repeat([]byte("The tide is out.\n"), 9000))
		l.file("other", bytes.Repeat([]byte{0, 7}, 999))
		for _, pack := range [][]string{{"gzip", "-k", "text"}, {"xz", "-k", "text"},
			{"xz", "-k", "--check=none", "-c", "other"}, {"zstd", "-q", "text"}, {"zstd", "-q", "--no-check",
				"text", "-o", "bare.zst"}, {"lz4", "-q", "text", "text.lz4"}, {"lz4", "-q", "-l", "text",
				"legacy.lz4"}, {"bzip2", "-k", "text"}, {"7z", "a", "-bso0", "set.7z", "text", "other"},
			{"zip", "-q", "set.zip", "text", "other"}, {"tar", "cf", "plain.tar", "text"},
			{"tar", "cf", "packed.tar", "text.gz", "other"}} {
			out := l.tool(pack[0], pack[1:]...)
			if slices.Contains(pack, "-c") {
				l.file("none.xz", []byte(out))
			}
		}
		cut("text.gz", "cut.gz", 9)
		cut("text.xz", "cut.xz", 40)
		cut("legacy.lz4", "cut.lz4", 40)
		broken := must(os.ReadFile(path("set.zip")))
		i := bytes.Index(broken, []byte("text"))
		broken[i+60] ^= 0xff // within its compressed data
		l.file("broken.zip", broken)
		in := must(os.ReadFile(path("packed.tar")))
		in[512+40] ^= 0xff // within text.gz, after the tar's header of 512 bytes
		l.file("broken.tar", in)
		sum := func(name string) string { return strings.Fields(l.tool("sha256sum", name))[0] }
		l.file("LIST", fmt.Appendf(nil, "%s  text\n%s  text.gz\n", sum("text"), sum("text.gz")))
		l.file("GAP", fmt.Appendf(nil, "%s  text\n%s  gone.img\n", sum("text"), sum("other")))
		l.file("one.sha256", []byte(sum("text")))
		l.file("one", must(os.ReadFile(path("text"))))
		for _, c := range []struct {
			args []string
			code int
			says []string
		}{
			{[]string{"text.gz"}, 0, []string{"good  checksum of the compressed stream"}},
			{[]string{"text.xz"}, 0, []string{"good  checksum of the compressed stream"}},
			{[]string{"text.zst"}, 0, []string{"good  checksum of the compressed stream"}},
			{[]string{"text.lz4"}, 0, []string{"good  checksum of the compressed stream"}},
			{[]string{"text.bz2"}, 0, []string{"good  checksum of the compressed stream"}},
			{[]string{"set.zip"}, 0, []string{"good  checksums of its members"}},
			{[]string{"set.7z"}, 0, []string{"good  checksums of its members"}},
			{[]string{"packed.tar"}, 0, []string{"good  checksums of its members, 1 of 2"}},
			{[]string{"none.xz"}, 1, []string{"its compression (xz) has no checksum here",
				"nothing to verify it with"}},
			{[]string{"bare.zst"}, 1, []string{"its compression (zst) has no checksum here"}},
			{[]string{"legacy.lz4"}, 1, []string{"its compression (lz4-legacy) has no checksum here"}},
			{[]string{"plain.tar"}, 1, []string{"nothing to verify it with"}},
			{[]string{"cut.gz"}, 6, []string{"cut short", "does not match; do not use it"}},
			{[]string{"cut.xz"}, 6, []string{"cut short"}},
			{[]string{"cut.lz4"}, 6, []string{"cut.lz4: does not match"}},
			{[]string{"broken.zip"}, 6, []string{"text", "does not match; do not use it"}},
			{[]string{"broken.tar"}, 6, []string{"its member text.gz is damaged"}},
			{[]string{"LIST"}, 0, []string{"text: matches LIST", "text.gz: matches LIST"}},
			{[]string{"GAP"}, 6, []string{"text: matches GAP", "gone.img: GAP lists it, and it is not there",
				"1 of 2 files are missing"}},
			{[]string{"one.sha256"}, 0, []string{"one: matches one.sha256"}},
			{[]string{"one", "--against", "LIST"}, 0, []string{"one: matches LIST, listed as text"}},
			{[]string{"other", "--against", "LIST"}, 6, []string{"other: no digest is listed for it",
				"the file is not listed"}},
			{[]string{"other", "text.gz"}, 1, []string{"1 of 2 files have nothing to verify them with"}},
		} {
			args := []string{"proof"}
			for _, a := range c.args {
				if !strings.HasPrefix(a, "-") {
					a = path(a)
				}
				args = append(args, a)
			}
			l.want(c.code, c.says, args...)
		}
	})
}

// TestSigner has openssl sign a package, and asks whether the signer is one a
// technician, or a recovery, trusts.
func TestSigner(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		for _, who := range []string{"ours", "theirs"} {
			l.tool("openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-subj", "/CN="+who, "-days",
				"3650", "-keyout", who+".key", "-out", who+".pem")
		}
		pkg := must(os.ReadFile(files.Package))
		// The scenario's own signature is taken off: it is the zip's comment, whose
		// length is in the last two bytes and before it.
		signed := pkg[:len(pkg)-int(binary.LittleEndian.Uint16(pkg[len(pkg)-2:]))-2]
		unsigned := l.file("unsigned.zip", append(bytes.Clone(signed), 0, 0))
		l.file("signed", signed)
		l.tool("openssl", "cms", "-sign", "-binary", "-noattr", "-md", "sha256", "-in", "signed", "-signer",
			"ours.pem", "-inkey", "ours.key", "-outform", "DER", "-out", "sig")
		le := binary.LittleEndian
		comment := must(os.ReadFile(filepath.Join(l.dir, "sig")))
		comment = append(le.AppendUint16(comment, uint16(len(comment)+6)), 0xff, 0xff)
		comment = le.AppendUint16(comment, uint16(len(comment)+2))
		path := l.file("signed.zip", append(le.AppendUint16(bytes.Clone(signed), uint16(len(comment))),
			comment...))
		certs := string(zipOf("release.x509.pem",
			string(must(os.ReadFile(filepath.Join(l.dir, "ours.pem"))))))
		rec := l.file("rec.img", must(boot.Build(boot.Image{HeaderVersion: 2, PageSize: 2048},
			boot.Parts{Kernel: []byte("k"), Ramdisk: ramdiskOf("system/bin/recovery", "x",
				"system/etc/security/otacerts.zip", certs)})))
		l.want(0, []string{"signed by CN=ours", "was not asked"}, "proof", path)
		l.want(0, []string{"good", "trusted signer"}, "proof", path, "--signer",
			filepath.Join(l.dir, "ours.pem"))
		l.want(0, []string{"good", "trusted signer"}, "proof", path, "--keys-of", rec)
		l.want(6, []string{"signed by nobody you trust"}, "proof", path, "--signer",
			filepath.Join(l.dir, "theirs.pem"))
		l.want(6, []string{"carries no signature"}, "proof", unsigned, "--signer",
			filepath.Join(l.dir, "ours.pem"))
		l.want(0, []string{"signed by: CN=ours"}, "ident", path)
	})
}
