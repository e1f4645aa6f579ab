package zipsig

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/x509"
	"fmt"
	"math/big"
	"strconv"
	"strings"

	"jarlid/internal/core/image"
)

// OldKeysFile is where older recoveries keep the keys they trust, as a list of numbers.
const OldKeysFile = "res/keys"

// KeysFiles are the places of keys in a recovery's ramdisk, the later form first.
var KeysFiles = []string{KeysFile, OldKeysFile}

const (
	keyWords   = 64 // of an RSA key of 2048 bits, 32 each
	maxOldKeys = 64
)

// parseOldKeys reads a key list of an older recovery (load_keys in the platform's recovery,
// verifier.cpp, up to its version 9): entries with commas between, each with an optional version v2 to
// v5 before it. RSA: {words, -1/n[0], {n, 32 bits at a time, the lowest first}, {R^2 mod n}}; v5 is
// EC on P-256: {bytes, {x}, {y}}. The keys come as certificates that have nothing but a key. Errors:
// *image.Error.
func parseOldKeys(b []byte) ([]*x509.Certificate, error) {
	p := &keyParser{s: strings.Join(strings.Fields(string(b)), "")}
	var out []*x509.Certificate
	for p.err == nil {
		if len(out) == maxOldKeys {
			return nil, image.Errorf("key list", int64(p.at), "more than %d keys are not possible",
				maxOldKeys)
		}
		version := 1
		if p.is('v') {
			version = int(p.number())
		}
		var key any
		p.want('{')
		if version == 5 {
			key = p.ec()
		} else {
			key = p.rsa(version)
		}
		p.want('}')
		if p.err != nil {
			break
		}
		der, err := x509.MarshalPKIXPublicKey(key)
		if err != nil {
			return nil, &image.Error{Format: "key list", Offset: int64(p.at), What: "a key can't be",
				Err: err}
		}
		out = append(out, &x509.Certificate{PublicKey: key, RawSubjectPublicKeyInfo: der})
		if p.at == len(p.s) {
			return out, nil
		}
		p.want(',')
	}
	return nil, p.err
}

type keyParser struct {
	s   string
	at  int
	err error
}

func (p *keyParser) fail(what string, args ...any) {
	if p.err == nil {
		p.err = image.Errorf("key list", int64(p.at), what, args...)
	}
}

func (p *keyParser) is(c byte) bool {
	if p.err != nil || p.at >= len(p.s) || p.s[p.at] != c {
		return false
	}
	p.at++
	return true
}

func (p *keyParser) want(c byte) {
	if p.err == nil && !p.is(c) {
		p.fail("%q belongs here", string(c))
	}
}

// number reads one in decimal or with 0x, signed or not, of 32 bits.
func (p *keyParser) number() uint32 {
	if p.err != nil {
		return 0
	}
	end := p.at
	for end < len(p.s) && !strings.ContainsRune(",{}", rune(p.s[end])) {
		end++
	}
	n, err := strconv.ParseInt(p.s[p.at:end], 0, 64)
	if err != nil || n < -1<<31 || n >= 1<<32 {
		p.fail("%.20q is no number", p.s[p.at:end])
		return 0
	}
	p.at = end
	return uint32(n)
}

// list reads n numbers in braces.
func (p *keyParser) list(n int) []uint32 {
	p.want('{')
	out := make([]uint32, 0, n)
	for i := range n {
		if i > 0 {
			p.want(',')
		}
		out = append(out, p.number())
	}
	p.want('}')
	return out
}

func (p *keyParser) rsa(version int) *rsa.PublicKey {
	k := &rsa.PublicKey{E: 3}
	switch version {
	case 1, 3:
	case 2, 4:
		k.E = 65537
	default:
		p.fail("keys of version %d are not known", version)
	}
	if n := p.number(); n != keyWords {
		p.fail("a key of %d words is not one of 2048 bits", n)
	}
	p.want(',')
	p.number()
	p.want(',')
	words := p.list(keyWords)
	p.want(',')
	p.list(keyWords)
	var b bytes.Buffer
	for i := len(words) - 1; i >= 0; i-- {
		fmt.Fprintf(&b, "%08x", words[i])
	}
	k.N = new(big.Int)
	if p.err == nil {
		k.N.SetString(b.String(), 16)
		if k.N.BitLen() != keyWords*32 {
			p.fail("the key has %d bits", k.N.BitLen())
		}
	}
	return k
}

func (p *keyParser) ec() *ecdsa.PublicKey {
	const n = 32
	if got := p.number(); got != n {
		p.fail("a key of %d bytes is not on P-256", got)
	}
	point := []byte{4}
	for range 2 {
		p.want(',')
		for _, w := range p.list(n) {
			if w > 255 {
				p.fail("%d is no byte", w)
			}
			point = append(point, byte(w))
		}
	}
	if p.err != nil {
		return nil
	}
	k, err := ecdsa.ParseUncompressedPublicKey(elliptic.P256(), point)
	if err != nil {
		p.fail("the point is not on P-256")
	}
	return k
}

// KeysOf reads the keys in a recovery's ramdisk, of which the files named in KeysFiles were kept;
// ok is false where there is none of them.
func KeysOf(kept map[string][]byte) (keys []*x509.Certificate, ok bool, err error) {
	if b, has := kept[KeysFile]; has {
		keys, err = ParseKeys(b)
		return keys, true, err
	}
	if b, has := kept[OldKeysFile]; has {
		keys, err = parseOldKeys(b)
		return keys, true, err
	}
	return nil, false, nil
}
