package adb

import (
	"crypto"
	"crypto/md5"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/binary"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"os"
	"path/filepath"
	"strings"

	"jarlid/internal/host"
)

// Key is a computer's key, with which phones that allowed it know it again.
type Key struct {
	rsa  *rsa.PrivateKey
	name string // behind the public key, for the owner to read
}

const (
	keyBits  = 2048
	keyWords = keyBits / 32
	// publicSize is the size of the public key's structure: two words, the
	// modulus, R squared, the exponent.
	publicSize = 4 * (2 + 2*keyWords + 1)
)

// LoadKey reads the key in the file at path, or makes one on first use,
// readable by its owner alone. Two programs that make it at the same time end
// up with the same one.
func LoadKey(path, name string) (*Key, error) {
	b, err := host.Read(path)
	if errors.Is(err, fs.ErrNotExist) {
		b, err = makeKey(path)
	}
	if err != nil {
		return nil, fmt.Errorf("this computer's key: %w", err)
	}
	block, _ := pem.Decode(b)
	if block == nil {
		return nil, fmt.Errorf("%s holds no key; move it away, and a new one is made", path)
	}
	k, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("%s holds no usable key: %w; move it away, and a new one is made", path, err)
	}
	r, ok := k.(*rsa.PrivateKey)
	if !ok || r.N.BitLen() != keyBits {
		return nil, fmt.Errorf("%s holds no RSA key of %d bits; move it away, and a new one is made",
			path, keyBits)
	}
	return &Key{rsa: r, name: name}, nil
}

func makeKey(path string) ([]byte, error) {
	k, err := rsa.GenerateKey(rand.Reader, keyBits)
	if err != nil {
		return nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		return nil, err
	}
	b := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	tmp, err := os.CreateTemp(filepath.Dir(path), ".key-*") // made with mode 0600
	if err != nil {
		return nil, err
	}
	defer func() { _ = host.Remove(tmp.Name()) }() // it may be the key by now
	_, err = tmp.Write(b)
	if err == nil {
		err = host.OwnerOnly(tmp.Name())
	}
	if cerr := tmp.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		return nil, err
	}
	// Link fails when another program was faster; its key counts then.
	if err := os.Link(tmp.Name(), path); err != nil && !errors.Is(err, fs.ErrExist) {
		if err := host.Replace(tmp.Name(), path); err != nil {
			return nil, err
		}
	}
	return host.Read(path)
}

// sign answers a phone's token. The token is instead of a SHA-1
// digest, as the protocol has it.
func (k *Key) sign(token []byte) ([]byte, error) {
	return rsa.SignPKCS1v15(nil, k.rsa, crypto.SHA1, token)
}

// Public gives the public key as it is sent: base64 of the structure that
// phones use, a space and a name.
func (k *Key) Public() string {
	n := k.rsa.N
	r32 := new(big.Int).Lsh(big.NewInt(1), 32)
	n0inv := new(big.Int).ModInverse(new(big.Int).Mod(n, r32), r32)
	n0inv.Sub(r32, n0inv)
	rr := new(big.Int).Lsh(big.NewInt(1), 2*keyBits)
	rr.Mod(rr, n)
	le := binary.LittleEndian
	b := le.AppendUint32(nil, keyWords)
	b = le.AppendUint32(b, uint32(n0inv.Uint64()))
	b = append(b, reversed(n)...)
	b = append(b, reversed(rr)...)
	b = le.AppendUint32(b, uint32(k.rsa.E))
	return base64.StdEncoding.EncodeToString(b) + " " + k.name
}

func reversed(n *big.Int) []byte {
	b := n.FillBytes(make([]byte, keyBits/8))
	for i, j := 0, len(b)-1; i < j; i, j = i+1, j-1 {
		b[i], b[j] = b[j], b[i]
	}
	return b
}

// Fingerprint is the key's MD5 as phones show it on their screen.
func (k *Key) Fingerprint() string { return Fingerprint(k.Public()) }

// Fingerprint gives the fingerprint of a public key as it was sent.
func Fingerprint(public string) string {
	body, _, _ := strings.Cut(public, " ")
	b, _ := base64.StdEncoding.DecodeString(body)
	sum := md5.Sum(b)
	parts := make([]string, len(sum))
	for i, c := range sum {
		parts[i] = fmt.Sprintf("%02X", c)
	}
	return strings.Join(parts, ":")
}

// verify holds a signature against a public key as it was sent.
func verify(public string, token, signature []byte) error {
	body, _, _ := strings.Cut(strings.TrimRight(public, "\x00"), " ")
	b, err := base64.StdEncoding.DecodeString(body)
	if err != nil || len(b) != publicSize || binary.LittleEndian.Uint32(b) != keyWords {
		return fmt.Errorf("that is no public key")
	}
	mod := make([]byte, keyBits/8)
	for i := range mod {
		mod[i] = b[8+keyBits/8-1-i]
	}
	pub := &rsa.PublicKey{N: new(big.Int).SetBytes(mod), E: int(binary.LittleEndian.Uint32(b[publicSize-4:]))}
	return rsa.VerifyPKCS1v15(pub, crypto.SHA1, token, signature)
}
