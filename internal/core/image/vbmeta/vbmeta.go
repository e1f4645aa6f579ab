// Package vbmeta reads, verifies and writes vbmeta images: what verified boot
// believes of a phone's partitions.
//
// The structures and rules are published with the platform's libavb:
// avb_vbmeta_image.h, avb_footer.h, avb_crypto.h and the descriptors' headers.
package vbmeta

import (
	"bytes"
	"crypto"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io"
	"math/big"
	"strings"

	"jarlid/internal/core/image"
)

// Magic starts a vbmeta image, FooterMagic the footer at a partition's end.
const (
	Magic       = "AVB0"
	FooterMagic = "AVBf"
)

const (
	formatName   = "vbmeta image"
	footerFormat = "verified boot footer"

	// headerSize and FooterSize are the structures' sizes in bytes.
	headerSize = 256
	FooterSize = 64

	// maxSize bounds an image: VBMETA_MAX_SIZE in libavb is 64 KiB for the
	// whole; images with many chained keys come near it.
	maxSize = 1 << 20
)

// Flags of the header (AvbVBMetaImageFlags); they count only in the top image.
const (
	FlagHashtreeDisabled     = 1
	FlagVerificationDisabled = 2
)

// Algorithm is a signature's kind (AvbAlgorithmType).
type Algorithm struct {
	Name string
	Hash crypto.Hash // 0: unsigned
	Bits int
}

// Algorithms by their number.
var Algorithms = map[uint32]Algorithm{
	0: {"NONE", 0, 0},
	1: {"SHA256_RSA2048", crypto.SHA256, 2048},
	2: {"SHA256_RSA4096", crypto.SHA256, 4096},
	3: {"SHA256_RSA8192", crypto.SHA256, 8192},
	4: {"SHA512_RSA2048", crypto.SHA512, 2048},
	5: {"SHA512_RSA4096", crypto.SHA512, 4096},
	6: {"SHA512_RSA8192", crypto.SHA512, 8192},
}

// Image is a parsed vbmeta image. Field names follow AvbVBMetaImageHeader.
type Image struct {
	RequiredMajor, RequiredMinor uint32
	AlgorithmType                uint32
	RollbackIndex                uint64
	Flags                        uint32
	RollbackIndexLocation        uint32
	ReleaseString                string
	PublicKey                    []byte // as it is in the image
	PublicKeyMetadata            []byte
	Descriptors                  []Descriptor
	Size                         int64 // header and both blocks, in bytes

	header, auth, aux []byte
	digest, signature []byte
}

// Parse reads the vbmeta image at the start of r, of which size bytes are there.
func Parse(r io.ReaderAt, size int64) (*Image, error) {
	h, err := image.ReadAt(formatName, r, size, 0, headerSize)
	if err != nil {
		return nil, err
	}
	if string(h[:4]) != Magic {
		return nil, image.Errorf(formatName, 0, "does not begin with %q", Magic)
	}
	be := binary.BigEndian
	m := &Image{header: h, RequiredMajor: be.Uint32(h[4:]), RequiredMinor: be.Uint32(h[8:]),
		AlgorithmType:         be.Uint32(h[28:]),
		RollbackIndex:         be.Uint64(h[112:]),
		Flags:                 be.Uint32(h[120:]),
		RollbackIndexLocation: be.Uint32(h[124:]),
		ReleaseString:         cstring(h[128:176])}
	if m.RequiredMajor != 1 {
		return nil, image.Errorf(formatName, 4, "needs version %d.%d of verified boot, only 1.x is known",
			m.RequiredMajor, m.RequiredMinor)
	}
	authSize, auxSize := be.Uint64(h[12:]), be.Uint64(h[20:])
	if authSize > maxSize || auxSize > maxSize || authSize%64 != 0 || auxSize%64 != 0 {
		return nil, image.Errorf(formatName, 12, "blocks of %d and %d bytes are not possible",
			authSize, auxSize)
	}
	if m.auth, err = image.ReadAt(formatName, r, size, headerSize, int64(authSize)); err != nil {
		return nil, err
	}
	if m.aux, err = image.ReadAt(formatName, r, size, headerSize+int64(authSize),
		int64(auxSize)); err != nil {
		return nil, err
	}
	m.Size = headerSize + int64(authSize+auxSize)
	for _, f := range []struct {
		at    int
		block []byte
		into  *[]byte
	}{
		{32, m.auth, &m.digest},
		{48, m.auth, &m.signature},
		{64, m.aux, &m.PublicKey},
		{80, m.aux, &m.PublicKeyMetadata},
	} {
		off, n := be.Uint64(h[f.at:]), be.Uint64(h[f.at+8:])
		if off > uint64(len(f.block)) || n > uint64(len(f.block))-off {
			return nil, image.Errorf(formatName, int64(f.at), "%d bytes at %d go beyond their block of %d", n,
				off, len(f.block))
		}
		*f.into = f.block[off : off+n]
	}
	off, n := be.Uint64(h[96:]), be.Uint64(h[104:])
	if off > auxSize || n > auxSize-off {
		return nil, image.Errorf(formatName, 96, "%d bytes of descriptors at %d go beyond their block of %d",
			n, off, auxSize)
	}
	m.Descriptors, err = parseDescriptors(m.aux[off:off+n], headerSize+int64(authSize+off))
	return m, err
}

func cstring(b []byte) string {
	s, _, _ := strings.Cut(string(b), "\x00")
	return strings.ToValidUTF8(s, "?")
}

// Footer says where in a partition the vbmeta of its image lies.
type Footer struct {
	Major, Minor      uint32
	OriginalImageSize int64 // bytes
	VBMetaOffset      int64
	VBMetaSize        int64
}

// ParseFooter reads the footer at the end of the size bytes of r. ok is false,
// without an error, when there is none.
func ParseFooter(r io.ReaderAt, size int64) (f Footer, ok bool, err error) {
	if size < FooterSize {
		return f, false, nil
	}
	at := size - FooterSize
	b, err := image.ReadAt(footerFormat, r, size, at, FooterSize)
	if err != nil || string(b[:4]) != FooterMagic {
		return f, false, err
	}
	be := binary.BigEndian
	f = Footer{Major: be.Uint32(b[4:]), Minor: be.Uint32(b[8:])}
	orig, off, n := be.Uint64(b[12:]), be.Uint64(b[20:]), be.Uint64(b[28:])
	if f.Major != 1 {
		return f, false, image.Errorf(footerFormat, at+4, "version %d.%d is not known", f.Major, f.Minor)
	}
	if orig > uint64(at) || off > uint64(at) || n > uint64(at)-off || n > maxSize || orig > off {
		return f, false, image.Errorf(footerFormat, at+12,
			"an image of %d bytes with %d bytes of vbmeta at %d does not fit the file's %d", orig,
			n, off, size)
	}
	f.OriginalImageSize, f.VBMetaOffset, f.VBMetaSize = int64(orig), int64(off), int64(n)
	return f, true, nil
}

// Open reads the vbmeta of a file: the file itself, or the one its footer
// points to. footer is nil for the former.
func Open(r io.ReaderAt, size int64) (m *Image, footer *Footer, err error) {
	f, ok, err := ParseFooter(r, size)
	if err != nil {
		return nil, nil, err
	}
	if !ok {
		m, err = Parse(r, size)
		return m, nil, err
	}
	m, err = Parse(io.NewSectionReader(r, f.VBMetaOffset, f.VBMetaSize), f.VBMetaSize)
	return m, &f, err
}

// Key gives the public key; nil for an unsigned image. A damaged one is an
// *image.Error.
func (m *Image) Key() (*rsa.PublicKey, error) {
	if len(m.PublicKey) == 0 {
		return nil, nil
	}
	return parseKey(m.PublicKey)
}

// parseKey reads an AvbRSAPublicKeyHeader and the key behind it.
func parseKey(b []byte) (*rsa.PublicKey, error) {
	be := binary.BigEndian
	if len(b) < 8 {
		return nil, image.Truncated("verified boot key", 0, 8, int64(len(b)))
	}
	bits := be.Uint32(b)
	if bits != 2048 && bits != 4096 && bits != 8192 || len(b) < 8+2*int(bits/8) {
		return nil, image.Errorf("verified boot key", 0, "a key of %d bits in %d bytes is not possible",
			bits, len(b))
	}
	return &rsa.PublicKey{N: new(big.Int).SetBytes(b[8 : 8+bits/8]), E: 65537}, nil
}

// EncodeKey writes a public key the way images hold it.
func EncodeKey(k *rsa.PublicKey) []byte {
	bits := k.N.BitLen()
	r32 := new(big.Int).Lsh(big.NewInt(1), 32)
	inv := new(big.Int).ModInverse(new(big.Int).Mod(k.N, r32), r32)
	inv.Sub(r32, inv)
	rr := new(big.Int).Lsh(big.NewInt(1), uint(2*bits))
	rr.Mod(rr, k.N)
	be := binary.BigEndian
	b := be.AppendUint32(nil, uint32(bits))
	b = be.AppendUint32(b, uint32(inv.Uint64()))
	b = append(b, k.N.FillBytes(make([]byte, bits/8))...)
	return append(b, rr.FillBytes(make([]byte, bits/8))...)
}

// Fingerprint is the SHA-256 of a public key as images hold it, in hex.
func Fingerprint(key []byte) string {
	sum := sha256.Sum256(key)
	return hex.EncodeToString(sum[:])
}

// SignatureError says that an image is not what was signed.
type SignatureError struct{ What string }

// Error says in which way.
func (e *SignatureError) Error() string { return "vbmeta signature: " + e.What }

// Verify checks digest and signature with the image's own key. It does not say
// whether anyone trusts that key. An unsigned image passes.
func (m *Image) Verify() error {
	a, ok := Algorithms[m.AlgorithmType]
	if !ok {
		return &SignatureError{fmt.Sprintf("algorithm %d is not known", m.AlgorithmType)}
	}
	if a.Hash == 0 {
		return nil
	}
	h := a.Hash.New()
	h.Write(m.header)
	h.Write(m.aux)
	sum := h.Sum(nil)
	if !bytes.Equal(sum, m.digest) {
		return &SignatureError{"the digest does not match the contents"}
	}
	key, err := m.Key()
	if err != nil {
		return err
	}
	if key == nil || key.N.BitLen() != a.Bits {
		return &SignatureError{"the key does not fit the algorithm " + a.Name}
	}
	if rsa.VerifyPKCS1v15(key, a.Hash, sum, m.signature) != nil {
		return &SignatureError{"it was not made with the key in the image"}
	}
	return nil
}

// WithoutFlags gives the image as it was before flags were set in its header; every other byte is shared.
func (m *Image) WithoutFlags() *Image {
	c := *m
	c.Flags, c.header = 0, bytes.Clone(m.header)
	binary.BigEndian.PutUint32(c.header[120:], 0)
	return &c
}

// WithFlags gives a copy of a vbmeta image with other flags in its header; every
// other byte stays. The signature covers them.
func WithFlags(img []byte, flags uint32) ([]byte, error) {
	if len(img) < headerSize || string(img[:4]) != Magic {
		return nil, image.Errorf(formatName, 0, "does not begin with %q", Magic)
	}
	out := bytes.Clone(img)
	binary.BigEndian.PutUint32(out[120:], flags)
	return out, nil
}

// Blank gives a vbmeta image without descriptors, signature and flags.
func Blank() ([]byte, error) {
	return Build(&Image{ReleaseString: "blank"}, nil)
}

// FlagWords says what the flags switch off, in words.
func FlagWords(flags uint32) string {
	switch known := flags & (FlagHashtreeDisabled | FlagVerificationDisabled); {
	case flags != known:
		return fmt.Sprintf("%#x, of which some are unknown", flags)
	case known == FlagHashtreeDisabled:
		return "hash trees are not enforced"
	case known == FlagVerificationDisabled:
		return "nothing below is verified"
	case known != 0:
		return "nothing below is verified, hash trees are not enforced"
	}
	return "everything is enforced"
}

// Bytes reads the vbmeta of a file or partition, and gives its own bytes beside what
// they say.
func Bytes(r io.ReaderAt, size int64) ([]byte, *Image, *Footer, error) {
	m, footer, err := Open(r, size)
	if err != nil {
		return nil, nil, nil, err
	}
	at := int64(0)
	if footer != nil {
		at = footer.VBMetaOffset
	}
	b, err := image.ReadAt(formatName, r, size, at, m.Size)
	return b, m, footer, err
}
