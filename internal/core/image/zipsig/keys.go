package zipsig

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"io"
	"strings"
)

// KeysFile is where a recovery keeps the certificates it trusts, in its
// ramdisk.
const KeysFile = "system/etc/security/otacerts.zip"

// KeyFingerprint is the SHA-256 of a certificate's public key, in hex: what a
// recovery compares.
func KeyFingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
	return hex.EncodeToString(sum[:])
}

// Trusted gives the fingerprints of the keys in a recovery's ramdisk, of which the files named in
// KeysFiles were kept, as a list with commas; "none" for one that has none or whose keys can't be read.
func Trusted(kept map[string][]byte) string {
	keys, _, err := KeysOf(kept)
	if err != nil || len(keys) == 0 {
		return "none"
	}
	var list []string
	for _, k := range keys {
		list = append(list, KeyFingerprint(k))
	}
	return strings.Join(list, ",")
}

// ParseKeys reads the certificates in the zip a recovery keeps them in.
func ParseKeys(b []byte) ([]*x509.Certificate, error) {
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		return nil, err
	}
	var out []*x509.Certificate
	for _, f := range z.File {
		rc, err := f.Open()
		if err != nil {
			return nil, err
		}
		b, err := io.ReadAll(io.LimitReader(rc, 1<<20))
		rc.Close()
		if err != nil {
			return nil, err
		}
		certs, err := ParseCerts(b)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Name, err)
		}
		out = append(out, certs...)
	}
	return out, nil
}

// ParseCerts reads certificates in PEM, or one in DER.
func ParseCerts(b []byte) ([]*x509.Certificate, error) {
	var certs []*x509.Certificate
	for rest := b; ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, err
		}
		certs = append(certs, c)
	}
	if len(certs) > 0 {
		return certs, nil
	}
	c, err := x509.ParseCertificate(b)
	if err != nil {
		return nil, fmt.Errorf("it is no certificate (PEM or DER): %w", err)
	}
	return []*x509.Certificate{c}, nil
}
