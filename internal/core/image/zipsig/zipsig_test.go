package zipsig

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"jarlid/internal/e2e/witness"
)

// sign makes a zip and has openssl sign it, the signature put into the comment
// by hand.
func sign(t testing.TB, newKey, digest string, extra ...string) []byte {
	t.Helper()
	openssl := witness.Tool(t, "openssl")
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, _ := z.Create("file")
	w.Write([]byte("contents"))
	z.Close()
	dir := t.TempDir()
	run := func(args ...string) {
		if out, err := exec.Command(openssl, args...).CombinedOutput(); err != nil {
			t.Fatalf("openssl %v: %v\n%s", args, err, out)
		}
	}
	in := func(n string) string { return filepath.Join(dir, n) }
	signed := b.Bytes()[:b.Len()-2]
	os.WriteFile(in("signed"), signed, 0o644)
	run(append([]string{"req", "-x509", "-newkey"}, append(strings.Fields(newKey), "-nodes", "-subj",
		"/CN=Saltmarsh release", "-days", "3650", "-keyout", in("key"), "-out", in("cert"))...)...)
	run(append([]string{"cms", "-sign", "-binary", "-noattr", "-md", digest, "-in", in("signed"), "-signer",
		in("cert"), "-inkey", in("key"), "-outform", "DER", "-out", in("sig")}, extra...)...)
	sig, err := os.ReadFile(in("sig"))
	if err != nil {
		t.Fatalf("os.ReadFile(in('sig')): %v", err)
	}
	text := []byte("signed by hand\x00")
	le := binary.LittleEndian
	comment := append(append(text, sig...), le.AppendUint16(nil, uint16(len(sig)+6))...)
	comment = append(comment, 0xff, 0xff)
	comment = le.AppendUint16(comment, uint16(len(comment)+2))
	return append(le.AppendUint16(signed, uint16(len(comment))), comment...)
}

func TestVerify(t *testing.T) {
	for _, c := range []struct{ key, digest string }{
		{"rsa:2048", "sha256"},
		{"rsa:2048", "sha1"},
		{"ec -pkeyopt ec_paramgen_curve:P-256", "sha256"},
	} {
		b := sign(t, c.key, c.digest)
		s, err := Parse(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			t.Fatalf("Parse(bytes.NewReader(b), int64(len(b))): %v: %v; want no error", c, err)
		}
		if s.Signer().Subject.CommonName != "Saltmarsh release" || len(Fingerprint(s.Signer())) != 64 {
			t.Errorf("%v: signed by %v", c, s.Signer().Subject)
		}
		if err := s.Verify(t.Context(), bytes.NewReader(b)); err != nil {
			t.Errorf("s.Verify(bytes.NewReader(b)): %v: %v; want no error", c, err)
		}
		b[40] ^= 1
		if err := s.Verify(t.Context(), bytes.NewReader(b)); !errors.Is(err, ErrMismatch) {
			t.Errorf("%v, a changed byte: %v", c, err)
		}
	}
	var b bytes.Buffer
	zip.NewWriter(&b).Close()
	if _, err := Parse(bytes.NewReader(b.Bytes()), int64(b.Len())); !errors.Is(err, ErrUnsigned) {
		t.Errorf("a plain zip: %v", err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(sign(f, "rsa:2048", "sha256"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if s, err := Parse(bytes.NewReader(b), int64(len(b))); err == nil {
			s.Verify(t.Context(), bytes.NewReader(b))
		}
	})
}
