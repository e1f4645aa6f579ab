// Package zipsig reads and verifies the signature over a whole package: a
// PKCS#7 structure in the zip's comment, over everything before it.
//
// The layout is published with the platform's recovery (verifier.cpp): the
// file's last six bytes are the signature's distance from the end, 0xffff, and
// the comment's length, each 16 bits, little-endian.
package zipsig

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/rsa"
	_ "crypto/sha1"   // digests that signatures are made over
	_ "crypto/sha256" //
	"crypto/x509"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"io"

	"crypto/sha256"

	"github.com/smallstep/pkcs7"

	"jarlid/internal/core/image"
)

const (
	formatName = "package signature"
	footerSize = 6
	eocdSize   = 22 // end of central directory without its comment
)

// ErrUnsigned says that a file carries no whole-file signature.
var ErrUnsigned = errors.New("the package carries no signature over the whole file")

// Signature is a whole-file signature.
type Signature struct {
	Signed int64 // bytes from the start of the file that are signed
	Certs  []*x509.Certificate
	Hash   crypto.Hash

	value  []byte
	signer *x509.Certificate
}

// Signer gives the certificate the signature names.
func (s *Signature) Signer() *x509.Certificate { return s.signer }

// Fingerprint is the SHA-256 of a certificate, in hex.
func Fingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return hex.EncodeToString(sum[:])
}

var digests = map[string]crypto.Hash{
	"1.3.14.3.2.26":          crypto.SHA1,
	"2.16.840.1.101.3.4.2.1": crypto.SHA256,
	"2.16.840.1.101.3.4.2.3": crypto.SHA512,
}

// Parse reads the signature of the size bytes of r. ErrUnsigned when there is
// none.
func Parse(r io.ReaderAt, size int64) (*Signature, error) {
	if size < eocdSize+footerSize {
		return nil, ErrUnsigned
	}
	f, err := image.ReadAt(formatName, r, size, size-footerSize, footerSize)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	start, comment := int64(le.Uint16(f)), int64(le.Uint16(f[4:]))
	if f[2] != 0xff || f[3] != 0xff {
		return nil, ErrUnsigned
	}
	if start <= footerSize || start > comment || comment+eocdSize > size {
		return nil, image.Errorf(formatName, size-footerSize,
			"a signature %d bytes from the end does not fit a comment of %d", start, comment)
	}
	eocd, err := image.ReadAt(formatName, r, size, size-comment-eocdSize, eocdSize)
	if err != nil {
		return nil, err
	}
	if string(eocd[:4]) != "PK\x05\x06" || int64(le.Uint16(eocd[20:])) != comment {
		return nil, image.Errorf(formatName, size-comment-eocdSize,
			"the zip's end does not stand where the signature says")
	}
	der, err := image.ReadAt(formatName, r, size, size-start, start-footerSize)
	if err != nil {
		return nil, err
	}
	p, err := pkcs7.Parse(der)
	if err != nil {
		return nil, &image.Error{Format: formatName, Offset: size - start,
			What: "the PKCS#7 structure is damaged", Err: err}
	}
	if len(p.Signers) != 1 {
		return nil, image.Errorf(formatName, size-start, "%d signers where one is expected", len(p.Signers))
	}
	signer := p.Signers[0]
	// Recoveries hash the file and compare; signed attributes between are
	// something they refuse.
	if len(signer.AuthenticatedAttributes) > 0 {
		return nil, image.Errorf(formatName, size-start,
			"the signature is over attributes, which recoveries do not take")
	}
	// Everything but the comment and its length is signed.
	s := &Signature{Signed: size - comment - 2, Certs: p.Certificates,
		Hash: digests[signer.DigestAlgorithm.Algorithm.String()], value: signer.EncryptedDigest}
	if s.Hash == 0 {
		return nil, image.Errorf(formatName, size-start, "digest %s is not known",
			signer.DigestAlgorithm.Algorithm)
	}
	for _, c := range p.Certificates {
		if c.SerialNumber.Cmp(signer.IssuerAndSerialNumber.SerialNumber) == 0 &&
			string(c.RawIssuer) == string(signer.IssuerAndSerialNumber.IssuerName.FullBytes) {
			s.signer = c
		}
	}
	if s.signer == nil {
		return nil, image.Errorf(formatName, size-start, "the signer's certificate is not inside")
	}
	return s, nil
}

// ErrMismatch says that the file is not what was signed.
var ErrMismatch = errors.New("the signature does not fit the file: it was changed after it was signed")

// Verify hashes the signed range and checks the signature with the
// certificate in the package. Whether that one is trusted it does not say.
func (s *Signature) Verify(ctx context.Context, r io.ReaderAt) error {
	h := s.Hash.New()
	src := io.NewSectionReader(r, 0, s.Signed)
	buf := make([]byte, 1<<20)
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		n, err := src.Read(buf)
		h.Write(buf[:n])
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
	}
	if !s.Fits(h.Sum(nil)) {
		return ErrMismatch
	}
	return nil
}

// Fits reports whether the signature is over the digest of the signed range, made with Hash, by the
// certificate in the package.
func (s *Signature) Fits(digest []byte) bool {
	switch k := s.signer.PublicKey.(type) {
	case *rsa.PublicKey:
		return rsa.VerifyPKCS1v15(k, s.Hash, digest, s.value) == nil
	case *ecdsa.PublicKey:
		return ecdsa.VerifyASN1(k, digest, s.value)
	}
	return false
}
