package appsig

import (
	"archive/zip"
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/rsa"
	_ "crypto/sha1"   // digests that manifests are made with
	_ "crypto/sha256" //
	_ "crypto/sha512" //
	"crypto/x509"
	"encoding/base64"
	"io"
	"path"
	"slices"
	"strings"

	"github.com/smallstep/pkcs7"
)

const (
	manifestName = "META-INF/MANIFEST.MF"
	maxText      = 32 << 20
	maxSignature = 1 << 20
	// maxJarFiles bounds the signature files of one package.
	maxJarFiles = 16
)

// jar is what scheme v1 says.
type jar struct {
	signers []Signer
	claims  map[int]bool // schemes that the signature files say signed it too
}

// section is one part of a manifest: its text as it stands, and its fields.
type section struct {
	raw    []byte
	fields map[string]string // by the name in lower case
}

// sections reads a manifest (JAR File Specification, "Name-Value pairs and Sections").
func sections(b []byte) (list []section) {
	for len(b) > 0 {
		end := len(b)
		for at := 0; at < len(b); {
			eol := bytes.IndexByte(b[at:], '\n')
			if eol < 0 {
				break
			}
			if len(bytes.TrimRight(b[at:at+eol], "\r")) == 0 {
				end = at + eol + 1
				break
			}
			at += eol + 1
		}
		s := section{raw: b[:end], fields: map[string]string{}}
		text := strings.ReplaceAll(string(s.raw), "\r\n", "\n")
		text = strings.ReplaceAll(text, "\n ", "") // a line that goes on
		for line := range strings.Lines(text) {
			if k, v, ok := strings.Cut(strings.TrimRight(line, "\n"), ": "); ok {
				s.fields[strings.ToLower(k)] = v
			}
		}
		if len(s.fields) > 0 || len(list) == 0 {
			list = append(list, s)
		}
		b = b[end:]
	}
	return list
}

// hashes are the digests of manifests, the strongest first.
var hashes = []struct {
	name string
	hash crypto.Hash
}{
	{"sha-512", crypto.SHA512},
	{"sha-384", crypto.SHA384},
	{"sha-256", crypto.SHA256},
	{"sha1", crypto.SHA1},
	{"sha-1", crypto.SHA1},
}

// stated gives the strongest digest that fields state under a suffix, and its hash; 0 when none.
func stated(fields map[string]string, suffix string) (want []byte, h crypto.Hash) {
	for _, x := range hashes {
		if v, ok := fields[x.name+"-digest"+suffix]; ok {
			want, err := base64.StdEncoding.DecodeString(v)
			if err != nil {
				want = nil
			}
			return want, x.hash
		}
	}
	return nil, 0
}

func sum(h crypto.Hash, b []byte) []byte {
	w := h.New()
	w.Write(b)
	return w.Sum(nil)
}

// inSignature tells of the files that scheme v1 itself is made of.
func inSignature(name string) bool {
	n := strings.ToUpper(name)
	dir, file := path.Split(n)
	if dir != "META-INF/" {
		return false
	}
	switch path.Ext(file) {
	case ".SF", ".RSA", ".DSA", ".EC":
		return true
	}
	return file == "MANIFEST.MF" || strings.HasPrefix(file, "SIG-")
}

// v1 verifies a signed JAR; nil when the package is none.
func (v *verifier) v1() (*jar, error) {
	z, err := zip.NewReader(io.NewSectionReader(v.r, 0, v.size), v.size)
	if err != nil {
		return nil, broken(V1, "the zip's table can't be read")
	}
	byName := map[string]*zip.File{}
	var signatures []string
	for _, f := range z.File {
		if byName[f.Name] != nil {
			return nil, broken(V1, "it holds %q twice", f.Name)
		}
		byName[f.Name] = f
		if strings.EqualFold(path.Ext(f.Name), ".sf") && inSignature(f.Name) {
			signatures = append(signatures, f.Name)
		}
	}
	if len(signatures) == 0 {
		return nil, nil
	}
	if len(signatures) > maxJarFiles {
		return nil, broken(V1, "%d signature files are not possible", len(signatures))
	}
	read := func(name string, limit int64) ([]byte, error) {
		f := byName[name]
		if f == nil {
			return nil, broken(V1, "%s is not there", name)
		}
		r, err := f.Open()
		if err != nil {
			return nil, broken(V1, "%s can't be read", name)
		}
		defer r.Close()
		b, err := io.ReadAll(io.LimitReader(r, limit+1))
		if err != nil || int64(len(b)) > limit {
			return nil, broken(V1, "%s can't be read, or is larger than %d bytes", name, limit)
		}
		return b, nil
	}
	manifest, err := read(manifestName, maxText)
	if err != nil {
		return nil, err
	}
	parts := sections(manifest)
	j := &jar{claims: map[int]bool{}}
	for _, name := range signatures {
		sf, err := read(name, maxText)
		if err != nil {
			return nil, err
		}
		if err := j.signature(strings.TrimSuffix(name, path.Ext(name)), sf, manifest, parts, byName,
			read); err != nil {
			return nil, err
		}
	}
	return j, v.files(z, parts)
}

// signature verifies one signature file: who signed it, and that it speaks of this manifest.
func (j *jar) signature(stem string, sf, manifest []byte, parts []section, byName map[string]*zip.File,
	read func(string, int64) ([]byte, error)) error {
	block := ""
	for _, ext := range []string{".RSA", ".EC", ".DSA", ".rsa", ".ec", ".dsa"} {
		if byName[stem+ext] != nil {
			block = stem + ext
			break
		}
	}
	if block == "" {
		return broken(V1, "%s.SF has no signature beside it", stem)
	}
	der, err := read(block, maxSignature)
	if err != nil {
		return err
	}
	p, err := pkcs7.Parse(der)
	if err != nil {
		return broken(V1, "%s can't be read as a signature", block)
	}
	p.Content = sf
	cert := p.GetOnlySigner()
	if cert == nil {
		return broken(V1, "%s has no one signer", block)
	}
	if p.Verify() != nil && !bare(p, cert, sf) {
		return broken(V1, "%s does not fit its signature: it was changed after it was signed", stem)
	}
	j.signers = append(j.signers, Signer{Scheme: V1, Cert: cert})
	said := sections(sf)
	if len(said) == 0 {
		return broken(V1, "%s.SF is empty", stem)
	}
	for _, n := range strings.Split(said[0].fields["x-android-apk-signed"], ",") {
		switch strings.TrimSpace(n) {
		case "2":
			j.claims[2] = true
		case "3":
			j.claims[3] = true
		}
	}
	if want, h := stated(said[0].fields, "-manifest"); h != 0 && bytes.Equal(sum(h, manifest), want) {
		return nil
	}
	// The manifest as a whole has changed; then each of its parts has to be as it was.
	named := map[string]section{}
	for _, s := range parts {
		named[s.fields["name"]] = s
	}
	if len(said) < 2 {
		return broken(V1, "%s.SF speaks of another manifest", stem)
	}
	for _, s := range said[1:] {
		want, h := stated(s.fields, "")
		part, ok := named[s.fields["name"]]
		if h == 0 || !ok || !bytes.Equal(sum(h, part.raw), want) {
			return broken(V1, "what the manifest says of %q was changed after it was signed",
				s.fields["name"])
		}
		delete(named, s.fields["name"])
	}
	delete(named, "") // the manifest's own head
	for name := range named {
		return broken(V1, "%q was added to the manifest after it was signed", name)
	}
	return nil
}

// bare verifies a signature without attributes ourselves: the library does not take a key's kind
// for the name of the way of signing, as packages signed by EC keys have it.
func bare(p *pkcs7.PKCS7, cert *x509.Certificate, sf []byte) bool {
	s := p.Signers[0]
	h := map[string]crypto.Hash{
		"1.3.14.3.2.26":          crypto.SHA1,
		"2.16.840.1.101.3.4.2.1": crypto.SHA256,
		"2.16.840.1.101.3.4.2.2": crypto.SHA384,
		"2.16.840.1.101.3.4.2.3": crypto.SHA512,
	}[s.DigestAlgorithm.Algorithm.String()]
	if h == 0 || len(s.AuthenticatedAttributes) > 0 {
		return false
	}
	switch k := cert.PublicKey.(type) {
	case *rsa.PublicKey:
		return rsa.VerifyPKCS1v15(k, h, sum(h, sf), s.EncryptedDigest) == nil
	case *ecdsa.PublicKey:
		return ecdsa.VerifyASN1(k, sum(h, sf), s.EncryptedDigest)
	}
	return false
}

// files holds each file against the manifest.
func (v *verifier) files(z *zip.Reader, parts []section) error {
	named := map[string]section{}
	for _, s := range parts {
		if n := s.fields["name"]; n != "" {
			named[n] = s
		}
	}
	buf := make([]byte, 256<<10)
	for _, f := range z.File {
		if strings.HasSuffix(f.Name, "/") || inSignature(f.Name) {
			continue
		}
		if err := v.ctx.Err(); err != nil {
			return err
		}
		s, ok := named[f.Name]
		if !ok {
			return broken(V1, "%q is not among what was signed: it was put in afterwards", f.Name)
		}
		delete(named, f.Name)
		want, h := stated(s.fields, "")
		if h == 0 {
			return broken(V1, "no digest that is known is stated for %q", f.Name)
		}
		r, err := f.Open()
		if err != nil {
			return broken(V1, "%q can't be read", f.Name)
		}
		w := h.New()
		_, err = io.CopyBuffer(w, r, buf)
		r.Close()
		if err != nil || !bytes.Equal(w.Sum(nil), want) {
			return broken(V1, "%q is not what was signed: it was changed afterwards", f.Name)
		}
	}
	left := []string{}
	for n := range named {
		if !strings.HasSuffix(n, "/") && !inSignature(n) {
			left = append(left, n)
		}
	}
	if len(left) > 0 {
		slices.Sort(left)
		return broken(V1, "%q was signed and is not there any more", left[0])
	}
	return nil
}
