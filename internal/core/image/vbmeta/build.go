package vbmeta

import (
	"crypto/rsa"
	"encoding/binary"
	"fmt"

	"jarlid/internal/core/image"
)

// Build writes a vbmeta image with m's fields and descriptors, signed with key
// by m's algorithm; key is nil for an unsigned one.
func Build(m *Image, key *rsa.PrivateKey) ([]byte, error) {
	a, ok := Algorithms[m.AlgorithmType]
	if !ok || (a.Hash == 0) != (key == nil) {
		return nil, fmt.Errorf("vbmeta image: algorithm %d and the key given do not go together",
			m.AlgorithmType)
	}
	if key != nil && key.N.BitLen() != a.Bits {
		return nil, fmt.Errorf("vbmeta image: the key has %d bits, %s wants %d", key.N.BitLen(),
			a.Name, a.Bits)
	}
	var aux []byte
	for i := range m.Descriptors {
		aux = append(aux, m.Descriptors[i].encode()...)
	}
	be := binary.BigEndian
	h := make([]byte, headerSize)
	copy(h, Magic)
	be.PutUint32(h[4:], 1)
	be.PutUint32(h[8:], m.RequiredMinor)
	be.PutUint32(h[28:], m.AlgorithmType)
	be.PutUint64(h[104:], uint64(len(aux))) // the descriptors begin their block
	be.PutUint64(h[112:], m.RollbackIndex)
	be.PutUint32(h[120:], m.Flags)
	be.PutUint32(h[124:], m.RollbackIndexLocation)
	copy(h[128:175], m.ReleaseString)
	var auth []byte
	if key != nil {
		pub := EncodeKey(&key.PublicKey)
		be.PutUint64(h[64:], uint64(len(aux)))
		be.PutUint64(h[72:], uint64(len(pub)))
		aux = append(aux, pub...)
		auth = make([]byte, image.Align(int64(a.Hash.Size()+a.Bits/8), 64))
		be.PutUint64(h[40:], uint64(a.Hash.Size()))
		be.PutUint64(h[48:], uint64(a.Hash.Size()))
		be.PutUint64(h[56:], uint64(a.Bits/8))
	}
	be.PutUint64(h[80:], uint64(len(aux)))
	be.PutUint64(h[88:], uint64(len(m.PublicKeyMetadata)))
	aux = append(aux, m.PublicKeyMetadata...)
	aux = append(aux, make([]byte, -len(aux)&63)...)
	be.PutUint64(h[12:], uint64(len(auth)))
	be.PutUint64(h[20:], uint64(len(aux)))
	if key != nil {
		sum := a.Hash.New()
		sum.Write(h)
		sum.Write(aux)
		digest := sum.Sum(nil)
		sig, err := rsa.SignPKCS1v15(nil, key, a.Hash, digest)
		if err != nil {
			return nil, err
		}
		copy(auth, append(digest, sig...))
	}
	return append(append(h, auth...), aux...), nil
}

// AddFooter puts a vbmeta image and a footer behind an image so that the whole
// fills a partition of size bytes.
func AddFooter(img, vbmeta []byte, size int64) ([]byte, error) {
	at := image.Align(int64(len(img)), 4096)
	if at+int64(len(vbmeta))+FooterSize > size {
		return nil, image.Errorf(footerFormat, at, "the image with its vbmeta does not fit %d bytes", size)
	}
	out := make([]byte, size)
	copy(out, img)
	copy(out[at:], vbmeta)
	f := out[size-FooterSize:]
	be := binary.BigEndian
	copy(f, FooterMagic)
	be.PutUint32(f[4:], 1)
	be.PutUint64(f[12:], uint64(len(img)))
	be.PutUint64(f[20:], uint64(at))
	be.PutUint64(f[28:], uint64(len(vbmeta)))
	return out, nil
}
