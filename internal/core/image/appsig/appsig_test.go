package appsig

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jarlid/internal/e2e/witness"
)

func fixture(t testing.TB, name string) []byte {
	t.Helper()
	b, err := os.ReadFile("testdata/" + name)
	if err != nil {
		t.Fatalf("os.ReadFile('testdata/' + name): %v", err)
	}
	return b
}

func verify(b []byte) (*Signature, error) {
	return Verify(context.Background(), bytes.NewReader(b), int64(len(b)), nil)
}

// names are the keys of make.sh by their certificates' SHA-256, as openssl and sha256sum say them.
func names(t testing.TB) map[string]string {
	m := map[string]string{}
	for line := range strings.Lines(string(fixture(t, "expect.txt"))) {
		if f := strings.Fields(line); len(f) == 2 {
			m[f[0]] = f[1]
		}
	}
	return m
}

func shortly(t testing.TB, s *Signature) string {
	name := func(c *x509.Certificate) string {
		sum := sha256.Sum256(c.Raw)
		return names(t)[hex.EncodeToString(sum[:])]
	}
	var out []string
	for _, x := range s.Signers {
		one := string(x.Scheme) + " " + name(x.Cert)
		for _, a := range x.Earlier {
			one += fmt.Sprintf(" <%s", name(a.Cert))
		}
		out = append(out, one)
	}
	return strings.Join(out, ", ")
}

// TestVerify: packages that the platform's signing tool signed, and what somebody did to them.
func TestVerify(t *testing.T) {
	for _, c := range []struct{ file, want string }{
		{"v1.apk", "v1 r"},
		{"v2.apk", "v1 a, v2 a"},
		{"v2-rsa.apk", "v2 r"},
		{"v3.apk", "v2 a, v3 a"},
		{"rotated.apk", "v2 a, v3 b <a <b"},
	} {
		s, err := verify(fixture(t, c.file))
		if err != nil || s.Older != nil {
			t.Errorf("verify(fixture(t, c.file)): %s: %v, %v; unwanted: err != nil || s.Older != nil",
				c.file, err, s)
			continue
		}
		if got := shortly(t, s); got != c.want {
			t.Errorf("%s: %s, want %s", c.file, got, c.want)
		}
	}
	if _, err := verify(fixture(t, "unsigned.apk")); !errors.Is(err, ErrUnsigned) {
		t.Errorf("unsigned: %v", err)
	}
	// Any byte of what is signed: the files, the block, the directory, its end.
	for _, name := range []string{"v2-rsa.apk", "rotated.apk"} {
		b := fixture(t, name)
		l, err := find(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			t.Fatalf("find(bytes.NewReader(b), int64(len(b))): %v", err)
		}
		for _, at := range []int64{0, 30, 200, l.block - 1, l.directory + 12, l.directory + 50} {
			x := bytes.Clone(b)
			x[at] ^= 1
			if s, err := verify(x); err == nil {
				t.Errorf("%s with byte %d changed: %s", name, at, shortly(t, s))
			}
		}
	}
}

// without rewrites a package without one scheme's part of the block; its contents stay as they are.
func without(t testing.TB, b []byte, drop ...uint32) []byte {
	t.Helper()
	l, err := find(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatalf("find(bytes.NewReader(b), int64(len(b))): %v", err)
	}
	for _, id := range drop {
		delete(l.pairs, id)
	}
	return rebuilt(b, l)
}

func rebuilt(b []byte, l *layout) []byte {
	le := binary.LittleEndian
	var pairs []byte
	for id, v := range l.pairs {
		pairs = le.AppendUint64(pairs, uint64(4+len(v)))
		pairs = append(le.AppendUint32(pairs, id), v...)
	}
	out := bytes.Clone(b[:l.block])
	if len(pairs) > 0 {
		n := uint64(len(pairs) + 24)
		out = append(le.AppendUint64(out, n), pairs...)
		out = append(le.AppendUint64(out, n), BlockMagic...)
	}
	at := len(out)
	out = append(out, b[l.directory:]...)
	le.PutUint32(out[at+int(l.end-l.directory)+16:], uint32(at))
	return out
}

// TestStripped: a scheme that was there and is gone is noticed by what the others say.
func TestStripped(t *testing.T) {
	for _, c := range []struct {
		what string
		b    []byte
		no   string
	}{
		{"v3 without v2", without(t, fixture(t, "v3.apk"), idV2), ""},
		{"v2 of one that had v3", without(t, fixture(t, "v3.apk"), idV3), "v3 too"},
		{"v1 of one that had v2", without(t, fixture(t, "v2.apk"), idV2), "v2 or v3 too"},
		{"none left", without(t, fixture(t, "v3.apk"), idV2, idV3), "not signed"},
	} {
		_, err := verify(c.b)
		if c.no == "" && err != nil || c.no != "" && (err == nil || !strings.Contains(err.Error(), c.no)) {
			t.Errorf("%s: %v, want %q", c.what, err, c.no)
		}
	}
}

type key struct {
	*ecdsa.PrivateKey
	cert []byte
}

func newKey(t testing.TB, name string) key {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatalf("ecdsa.GenerateKey(elliptic.P256(), rand.Reader): %v", err)
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name},
		NotBefore: time.Unix(0, 0), NotAfter: time.Unix(1<<32, 0)}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &k.PublicKey, k)
	if err != nil {
		t.Fatalf("x509.CreateCertificate(rand.Reader, c, c, &k.PublicKey, k): %v", err)
	}
	return key{k, der}
}

func (k key) sign(data []byte) []byte {
	sum := sha256.Sum256(data)
	sig, err := k.Sign(rand.Reader, sum[:], crypto.SHA256)
	if err != nil {
		panic(err)
	}
	return sig
}

func lp(parts ...[]byte) []byte {
	all := bytes.Join(parts, nil)
	return append(binary.LittleEndian.AppendUint32(nil, uint32(len(all))), all...)
}

func words(n ...uint32) (b []byte) {
	for _, w := range n {
		b = binary.LittleEndian.AppendUint32(b, w)
	}
	return b
}

// signV3 puts a block of scheme v3 or v3.1 together by hand, from its published page.
func signV3(k key, digest []byte, low, high uint32, attributes ...[]byte) []byte {
	data := append(lp(lp(words(0x0201), lp(digest))), lp(lp(k.cert))...)
	data = append(data, words(low, high)...)
	data = append(data, lp(attributes...)...)
	public, _ := x509.MarshalPKIXPublicKey(&k.PublicKey)
	return lp(lp(lp(data), words(low, high), lp(lp(words(0x0201), lp(k.sign(data)))), lp(public)))
}

// handedOn is a proof of rotation put together by hand.
func handedOn(flags []uint32, keys ...key) []byte {
	b := words(1)
	for i, k := range keys {
		alg := uint32(0x0201)
		if i == 0 {
			alg = 0
		}
		data := append(lp(k.cert), words(alg)...)
		sig := []byte{}
		if i > 0 {
			sig = keys[i-1].sign(data)
		}
		next := uint32(0x0201)
		b = append(b, lp(lp(data), words(flags[i], next), lp(sig))...)
	}
	return append(words(attrRotation), b...)
}

// TestRotation: v3 and v3.1 with earlier keys, put together by hand; what of it does not hold.
func TestRotation(t *testing.T) {
	a, b, other := newKey(t, "a"), newKey(t, "b"), newKey(t, "other")
	plain := fixture(t, "unsigned.apk")
	make := func(pairs map[uint32][]byte) []byte {
		l, err := find(bytes.NewReader(plain), int64(len(plain)))
		if err != nil {
			t.Fatalf("find(bytes.NewReader(plain), int64(len(plain))): %v", err)
		}
		l.pairs = pairs
		return rebuilt(plain, l)
	}
	l, err := find(bytes.NewReader(plain), int64(len(plain)))
	if err != nil {
		t.Fatalf("find(bytes.NewReader(plain), int64(len(plain))): %v", err)
	}
	v := &verifier{ctx: context.Background(), r: bytes.NewReader(plain), size: int64(len(plain)), l: l,
		digests: map[crypto.Hash][]byte{}}
	digest, err := v.digest(crypto.SHA256)
	if err != nil {
		t.Fatalf("v.digest(crypto.SHA256): %v", err)
	}
	from33 := words(attrRotationAt, 33)
	line := handedOn([]uint32{7, 7}, a, b)
	broken := bytes.Clone(line)
	broken[len(broken)-5] ^= 1
	old := make(map[uint32][]byte{idV3: signV3(a, digest, 24, 0x7fffffff)})
	for _, c := range []struct {
		what    string
		pairs   map[uint32][]byte
		no      string
		schemes string
		follows bool
	}{
		{"rotated at once", map[uint32][]byte{idV3: signV3(b, digest, 28, 0x7fffffff, lp(line))}, "",
			"[v3]", true},
		{"rotated from 33 on", map[uint32][]byte{idV3: signV3(a, digest, 24, 32, lp(from33)),
			idV31: signV3(b, digest, 33, 0x7fffffff, lp(line))}, "", "[v3 v3.1]", true},
		{"v3.1 is gone", map[uint32][]byte{idV3: signV3(a, digest, 24, 32, lp(from33))},
			"from API level 33 on, and that signature is gone", "", false},
		{"v3.1 alone", map[uint32][]byte{idV31: signV3(b, digest, 33, 0x7fffffff, lp(line))},
			"stands without v3", "", false},
		{"v3.1 from elsewhere", map[uint32][]byte{idV3: signV3(a, digest, 24, 32, lp(from33)),
			idV31: signV3(b, digest, 34, 0x7fffffff, lp(line))}, "scheme v3 says 33", "", false},
		{"nobody handed it on", map[uint32][]byte{idV3: signV3(b, digest, 28, 0x7fffffff, lp(broken))},
			"does not hold", "", false},
		{"keys of others", map[uint32][]byte{idV3: signV3(other, digest, 28, 0x7fffffff, lp(line))},
			"does not end at the signer", "", false},
		{"another digest", map[uint32][]byte{idV3: signV3(a, make(nil)[:32], 24, 0x7fffffff)},
			"not what was signed", "", false},
		{"without the right",
			map[uint32][]byte{idV3: signV3(b, digest, 28, 0x7fffffff, lp(handedOn([]uint32{6, 7}, a, b)))},
			"", "[v3]", false},
		{"another key", map[uint32][]byte{idV3: signV3(other, digest, 28, 0x7fffffff)}, "", "[v3]", false},
	} {
		s, err := verify(make(c.pairs))
		if c.no != "" || err != nil {
			if err == nil || c.no == "" || !strings.Contains(err.Error(), c.no) {
				t.Errorf("%s: %v, want %q", c.what, err, c.no)
			}
			continue
		}
		before, err := verify(old)
		if err != nil {
			t.Fatalf("verify(old): %v", err)
		}
		ok, why := s.Follows(before)
		if fmt.Sprint(s.Schemes) != c.schemes || ok != c.follows || ok == (why != "") {
			t.Errorf("%s: %v, follows %v (%s)", c.what, s.Schemes, ok, why)
		}
		if back, _ := before.Follows(s); back {
			t.Errorf("%s: the old one follows the new one", c.what)
		}
	}
}

// TestSignedJar: scheme v1 as the Java tool makes it, and what was done to it afterwards.
func TestSignedJar(t *testing.T) {
	dir := t.TempDir()
	run := func(name string, args ...string) {
		t.Helper()
		// A Java program that ends at once needs neither its best compiler nor a parallel collector.
		c := exec.Command(witness.Tool(t, name), append(args, "-J-XX:TieredStopAtLevel=1",
			"-J-XX:+UseSerialGC")...)
		c.Dir = dir
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("c.CombinedOutput(): %s: %v; want no error\n%s", name, err, out)
		}
	}
	for _, alg := range []string{"RSA", "EC"} {
		store := alg + ".p12"
		run("keytool", "-genkeypair", "-keystore", store, "-storepass", "secret", "-alias", "k", "-keyalg",
			alg, "-dname", "CN=jar "+alg)
		if err := os.WriteFile(filepath.Join(dir, "x.jar"), fixture(t, "unsigned.apk"), 0o600); err != nil {
			t.Fatalf("os.WriteFile(filepath.Join(dir, 'x.jar'), fixture(t, 'unsigned.apk'), 0o600): %v", err)
		}
		run("jarsigner", "-keystore", store, "-storepass", "secret", "x.jar", "k")
		b, err := os.ReadFile(filepath.Join(dir, "x.jar"))
		if err != nil {
			t.Fatalf("os.ReadFile(filepath.Join(dir, 'x.jar')): %v", err)
		}
		s, err := verify(b)
		if err != nil || len(s.Signers) != 1 || s.Signers[0].Cert.Subject.CommonName != "jar "+alg {
			t.Errorf("verify(b): %s: %v, %v", alg, s, err)
		}
		for what, change := range map[string]func(name string, body []byte) (string, []byte){
			"changed afterwards": func(n string, b []byte) (string, []byte) {
				if n == "classes.dex" {
					b = append(b, 1)
				}
				return n, b
			},
			"put in afterwards": func(n string, b []byte) (string, []byte) {
				if n == "res/a.txt" {
					n = "res/b.txt"
				}
				return n, b
			},
			"changed after it was signed": func(n string, b []byte) (string, []byte) {
				if strings.HasSuffix(n, "MANIFEST.MF") {
					b = bytes.Replace(b, []byte("Name: classes.dex"), []byte("Name: classes.dxe"), 1)
				}
				return n, b
			},
		} {
			_, err := verify(repacked(t, b, change))
			if err == nil || !strings.Contains(err.Error(), "afterwards") && !strings.Contains(err.Error(),
				"after it was signed") {
				t.Errorf("verify(repacked(t, b, change)): %s, %s: %v", alg, what, err)
			}
		}
	}
}

func repacked(t *testing.T, b []byte, change func(string, []byte) (string, []byte)) []byte {
	t.Helper()
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatalf("zip.NewReader(bytes.NewReader(b), int64(len(b))): %v", err)
	}
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			t.Fatalf("f.Open(): %v", err)
		}
		var body bytes.Buffer
		if _, err := body.ReadFrom(r); err != nil {
			t.Fatalf("body.ReadFrom(r): %v", err)
		}
		name, data := change(f.Name, body.Bytes())
		x, err := w.Create(name)
		if err != nil {
			t.Fatalf("w.Create(%v): %v", name, err)
		}
		if _, err := x.Write(data); err != nil {
			t.Fatalf("x.Write(data): %v", err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatalf("w.Close(): %v", err)
	}
	return out.Bytes()
}

// FuzzVerify: no package makes it panic or take memory.
func FuzzVerify(f *testing.F) {
	for _, n := range []string{"v1.apk", "v2.apk", "v2-rsa.apk", "v3.apk", "rotated.apk", "unsigned.apk"} {
		f.Add(fixture(f, n))
	}
	f.Fuzz(func(t *testing.T, b []byte) { _, _ = verify(b) })
}
