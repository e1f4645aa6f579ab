// Package appsig verifies who signed an app package and that it is what was signed: schemes v1 (a
// signed list of the files' digests), v2, v3 and v3.1 (a block before the zip's directory).
//
// The forms are published at source.android.com, "Application Signing", one page a scheme; v1 is the
// signed JAR of the Java platform's JAR File Specification.
package appsig

import (
	"bytes"
	"cmp"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"sync"

	"jarlid/internal/core/image"
)

const (
	formatName = "app signature"

	// BlockMagic ends the block that holds the signatures of v2 and later.
	BlockMagic = "APK Sig Block 42"
	maxBlock   = 64 << 20
	maxSigners = 10 // the platform's limit for v2; of later schemes one counts on each platform

	idV2  = 0x7109871a
	idV3  = 0xf05368c0
	idV31 = 0x1b93ad61

	attrStripping  = 0xbeeff00d // in v2: which later scheme signed it too
	attrRotation   = 0x3ba06f8c // in v3: proof of rotation
	attrRotationAt = 0x559f8b02 // in v3: the least platform of the v3.1 block
)

// Scheme is one of the ways of signing.
type Scheme string

// The schemes, the earliest first.
const (
	V1  Scheme = "v1"
	V2  Scheme = "v2"
	V3  Scheme = "v3"
	V31 Scheme = "v3.1"
)

// Ancestor is a key that was this app's before, in the words of the key before it.
type Ancestor struct {
	Cert  *x509.Certificate
	Flags uint32
}

// InstalledData is the flag of an ancestor whose installed apps a later key may replace
// (SigningDetails.CertCapabilities.INSTALLED_DATA).
const InstalledData = 1

// Signer is who signed by one scheme.
type Signer struct {
	Scheme Scheme
	Cert   *x509.Certificate
	// Earlier are the app's keys, the first one first and this signer's own last; empty when it was
	// always this one.
	Earlier []Ancestor
	// MinSDK and MaxSDK are the platforms' API levels it counts for; 0: no bound.
	MinSDK, MaxSDK int64
}

// Signature is what was found and verified.
type Signature struct {
	Schemes []Scheme
	Signers []Signer // of all schemes, the earliest first
	// Older is what is wrong with scheme v1 where a later one, which covers the whole file, counts.
	Older error
}

// Current gives the signers that count on the newest platforms.
func (s *Signature) Current() []Signer {
	last := s.Schemes[len(s.Schemes)-1]
	var out []Signer
	for _, x := range s.Signers {
		switch {
		case x.Scheme != last:
		case x.Scheme != V1 && x.Scheme != V2 && len(out) > 0: // each for platforms of its own
			if x.MaxSDK > out[0].MaxSDK {
				out[0] = x
			}
		default:
			out = append(out, x)
		}
	}
	return out
}

// ErrUnsigned says that an app package carries no signature.
var ErrUnsigned = errors.New("the app is not signed; no phone installs it")

func broken(scheme Scheme, msg string, args ...any) error {
	return &image.Error{Format: "app signature (" + string(scheme) + ")", Offset: -1,
		What: fmt.Sprintf(msg, args...)}
}

// layout is where the parts of a package lie, in bytes.
type layout struct {
	// where the signing block, the directory and its end begin; block == directory without one
	block, directory, end int64
	pairs                 map[uint32][]byte
}

// Verify verifies all schemes a package is signed by. moved is told how many bytes were digested;
// it may be nil. Errors: ErrUnsigned, *image.Error with what does not fit.
func Verify(ctx context.Context, r io.ReaderAt, size int64, moved func(int64)) (*Signature, error) {
	l, err := find(r, size)
	if err != nil {
		return nil, err
	}
	s := &Signature{}
	v := &verifier{ctx: ctx, r: r, size: size, l: l, moved: moved, digests: map[crypto.Hash][]byte{}}
	first, err := v.v1()
	if err != nil {
		if ctx.Err() != nil || l.pairs[idV2] == nil && l.pairs[idV3] == nil {
			return nil, err
		}
		first, s.Older = nil, err
	}
	if first != nil {
		s.add(V1, first.signers...)
	}
	for _, x := range []struct {
		scheme Scheme
		id     uint32
	}{{V2, idV2}, {V3, idV3}, {V31, idV31}} {
		b, ok := l.pairs[x.id]
		if !ok {
			continue
		}
		signers, err := v.block(x.scheme, b)
		if err != nil {
			return nil, err
		}
		s.add(x.scheme, signers...)
	}
	has := func(x Scheme) bool { return slices.Contains(s.Schemes, x) }
	switch {
	case len(s.Schemes) == 0:
		return nil, ErrUnsigned
	case first != nil && first.claims[2] && !has(V2), first != nil && first.claims[3] && !has(V3):
		return nil, broken(V1, "it says that the app was signed by scheme v2 or v3 too, and that signature "+
			"is gone: somebody took it out")
	case v.stripped >= 3 && has(V2) && !has(V3):
		return nil, broken(V2, "it says that the app was signed by scheme v3 too, and that signature is "+
			"gone: somebody took it out")
	case v.rotation > 0 && !has(V31):
		return nil, broken(V3, "it says that scheme v3.1 counts from API level %d on, and that signature "+
			"is gone: somebody took it out", v.rotation)
	case has(V31) && !has(V3):
		return nil, broken(V31, "scheme v3.1 stands without v3")
	}
	for i := range s.Signers { // v3 counts up to where v3.1 begins
		if s.Signers[i].Scheme == V31 && v.rotation > 0 && s.Signers[i].MinSDK != v.rotation {
			return nil, broken(V31, "it counts from API level %d on, scheme v3 says %d", s.Signers[i].MinSDK,
				v.rotation)
		}
	}
	return s, nil
}

func (s *Signature) add(x Scheme, list ...Signer) {
	s.Schemes = append(s.Schemes, x)
	s.Signers = append(s.Signers, list...)
}

// find reads the end of the zip and the signing block before its directory.
func find(r io.ReaderAt, size int64) (*layout, error) {
	const eocd = 22
	tail, err := image.ReadAt(formatName, r, size, max(0, size-eocd-65535), min(size, eocd+65535))
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	l := &layout{pairs: map[uint32][]byte{}}
	at := -1
	for i := len(tail) - eocd; i >= 0; i-- {
		if string(tail[i:i+4]) == "PK\x05\x06" && int(le.Uint16(tail[i+20:])) == len(tail)-i-eocd {
			at = i
			break
		}
	}
	if at < 0 {
		return nil, image.Errorf(formatName, -1, "the end of the zip's directory is not there")
	}
	l.end = size - int64(len(tail)-at)
	length := int64(le.Uint32(tail[at+12:]))
	l.directory = int64(le.Uint32(tail[at+16:]))
	if l.directory+length != l.end {
		return nil, image.Errorf(formatName, l.end, "the zip's directory does not stand right before its end")
	}
	l.block = l.directory
	if l.directory < 32 {
		return l, nil
	}
	foot, err := image.ReadAt(formatName, r, size, l.directory-24, 24)
	if err != nil || string(foot[8:]) != BlockMagic {
		return l, err
	}
	n := int64(le.Uint64(foot))
	if n < 24 || n > maxBlock || n > l.directory-8 {
		return nil, image.Errorf(formatName, l.directory-24, "a signing block of %d bytes is not possible", n)
	}
	l.block = l.directory - n - 8
	b, err := image.ReadAt(formatName, r, size, l.block, n+8-24)
	if err != nil {
		return nil, err
	}
	if int64(le.Uint64(b)) != n {
		return nil, image.Errorf(formatName, l.block, "the signing block states two lengths, %d and %d",
			le.Uint64(b), n)
	}
	for p := b[8:]; len(p) > 0; {
		if len(p) < 12 || le.Uint64(p) < 4 || le.Uint64(p) > uint64(len(p)-8) {
			return nil, image.Errorf(formatName, l.directory-24-int64(len(p)),
				"an entry of the signing block goes beyond it")
		}
		k := int(le.Uint64(p))
		id := le.Uint32(p[8:])
		if _, twice := l.pairs[id]; twice && (id == idV2 || id == idV3 || id == idV31) {
			return nil, image.Errorf(formatName, l.directory-24-int64(len(p)),
				"the signing block has one scheme twice")
		}
		l.pairs[id] = p[12 : 8+k]
		p = p[8+k:]
	}
	return l, nil
}

type verifier struct {
	ctx      context.Context
	r        io.ReaderAt
	size     int64
	l        *layout
	moved    func(int64)
	digests  map[crypto.Hash][]byte
	stripped uint32 // the scheme that v2 says is there
	rotation int64  // the API level from which on v3 says that v3.1 counts
}

// cursor takes fields off the front of a piece; after one that does not fit, bad stays set.
type cursor struct {
	b   []byte
	bad bool
}

func (c *cursor) word() uint32 {
	if len(c.b) < 4 {
		c.bad, c.b = true, nil
		return 0
	}
	n := binary.LittleEndian.Uint32(c.b)
	c.b = c.b[4:]
	return n
}

func (c *cursor) piece() []byte {
	n := c.word()
	if c.bad || uint64(n) > uint64(len(c.b)) {
		c.bad, c.b = true, nil
		return nil
	}
	p := c.b[:n]
	c.b = c.b[n:]
	return p
}

// all gives the pieces that a piece holds one behind the other.
func (c *cursor) all() (list [][]byte) {
	in := cursor{b: c.piece()}
	for len(in.b) > 0 {
		list = append(list, in.piece())
	}
	c.bad = c.bad || in.bad
	return list
}

// algorithm is a way of signing (the table of scheme v2's page).
type algorithm struct {
	hash crypto.Hash
	pss  bool
	ec   bool
}

var algorithms = map[uint32]algorithm{
	0x0101: {crypto.SHA256, true, false}, 0x0102: {crypto.SHA512, true, false},
	0x0103: {crypto.SHA256, false, false}, 0x0104: {crypto.SHA512, false, false},
	0x0201: {crypto.SHA256, false, true}, 0x0202: {crypto.SHA512, false, true},
}

func (a algorithm) verify(key any, data, sig []byte) bool {
	h := a.hash.New()
	h.Write(data)
	sum := h.Sum(nil)
	switch k := key.(type) {
	case *rsa.PublicKey:
		if a.ec {
			return false
		}
		if a.pss {
			return rsa.VerifyPSS(k, a.hash, sum, sig, &rsa.PSSOptions{SaltLength: a.hash.Size()}) == nil
		}
		return rsa.VerifyPKCS1v15(k, a.hash, sum, sig) == nil
	case *ecdsa.PublicKey:
		return a.ec && ecdsa.VerifyASN1(k, sum, sig)
	}
	return false
}

// block verifies the signers of one scheme.
func (v *verifier) block(scheme Scheme, b []byte) ([]Signer, error) {
	c := cursor{b: b}
	list := c.all()
	if c.bad || len(list) == 0 || len(list) > maxSigners {
		return nil, broken(scheme, "%d signers are not possible", len(list))
	}
	var out []Signer
	for _, s := range list {
		one, err := v.signer(scheme, s)
		if err != nil {
			return nil, err
		}
		out = append(out, *one)
	}
	return out, nil
}

func (v *verifier) signer(scheme Scheme, b []byte) (*Signer, error) {
	c := cursor{b: b}
	data := c.piece()
	s := &Signer{Scheme: scheme}
	if scheme != V2 {
		s.MinSDK, s.MaxSDK = int64(c.word()), int64(c.word())
	}
	sigs, key := c.all(), c.piece()
	if c.bad || len(c.b) > 0 {
		return nil, broken(scheme, "a signer's parts don't fit into it")
	}
	// The strongest signature counts; those nobody knows are passed over.
	var signed []uint32
	var best algorithm
	var value []byte
	for _, x := range sigs {
		in := cursor{b: x}
		id, sig := in.word(), in.piece()
		if in.bad {
			return nil, broken(scheme, "a signature is cut off")
		}
		signed = append(signed, id)
		if a, ok := algorithms[id]; ok && a.hash > best.hash {
			best, value = a, sig
		}
	}
	if best.hash == 0 {
		return nil, broken(scheme, "none of its signatures is of a kind that is checked here")
	}
	public, err := x509.ParsePKIXPublicKey(key)
	if err != nil {
		return nil, broken(scheme, "its public key can't be read")
	}
	if !best.verify(public, data, value) {
		return nil, broken(scheme, "the signature does not fit: the package was changed after it was signed")
	}
	in := cursor{b: data}
	digests, certs := in.all(), in.all()
	if scheme != V2 {
		if low, high := int64(in.word()), int64(in.word()); low != s.MinSDK || high != s.MaxSDK {
			return nil, broken(scheme, "what platforms it counts for is signed as %d to %d and stated as "+
				"%d to %d", low, high, s.MinSDK, s.MaxSDK)
		}
	}
	attributes := in.all()
	if in.bad || len(certs) == 0 {
		return nil, broken(scheme, "what is signed is cut off, or has no certificate")
	}
	if s.Cert, err = x509.ParseCertificate(certs[0]); err != nil {
		return nil, broken(scheme, "the signer's certificate can't be read")
	}
	if !bytes.Equal(s.Cert.RawSubjectPublicKeyInfo, key) {
		return nil, broken(scheme, "the signer's certificate is for another key")
	}
	if err := v.contents(scheme, best.hash, digests, signed); err != nil {
		return nil, err
	}
	for _, x := range attributes {
		a := cursor{b: x}
		switch id := a.word(); {
		case a.bad:
			return nil, broken(scheme, "an attribute is cut off")
		case id == attrStripping && scheme == V2:
			v.stripped = max(v.stripped, a.word())
		case id == attrRotationAt && scheme == V3:
			v.rotation = int64(a.word())
		case id == attrRotation && scheme != V2:
			if s.Earlier, err = handedOver(scheme, a.b, s.Cert); err != nil {
				return nil, err
			}
		}
	}
	return s, nil
}

// contents holds the package against the digest that was signed.
func (v *verifier) contents(scheme Scheme, hash crypto.Hash, digests [][]byte, signed []uint32) error {
	var want []byte
	var ids []uint32
	for _, x := range digests {
		in := cursor{b: x}
		id, sum := in.word(), in.piece()
		if in.bad {
			return broken(scheme, "a digest is cut off")
		}
		ids = append(ids, id)
		if a, ok := algorithms[id]; ok && a.hash == hash {
			want = sum
		}
	}
	if !slices.Equal(ids, signed) {
		return broken(scheme, "its digests and signatures are not of the same kinds")
	}
	got, err := v.digest(hash)
	if err != nil {
		return err
	}
	if !bytes.Equal(got, want) {
		return broken(scheme, "the contents are not what was signed: the package was changed afterwards")
	}
	return nil
}

// piece is what one digest is made of, in bytes ("APK Signature Scheme v2", integrity-protected
// contents).
const piece = 1 << 20

// digest makes the digest over the files, the directory and its end, in which the block's place
// stands for the directory's.
func (v *verifier) digest(hash crypto.Hash) ([]byte, error) {
	if sum := v.digests[hash]; sum != nil {
		return sum, nil
	}
	end, err := image.ReadAt(formatName, v.r, v.size, v.l.end, v.size-v.l.end)
	if err != nil {
		return nil, err
	}
	binary.LittleEndian.PutUint32(end[16:], uint32(v.l.block))
	type part struct {
		r        io.ReaderAt
		from, to int64
	}
	var parts []part
	for _, s := range []part{
		{v.r, 0, v.l.block},
		{v.r, v.l.directory, v.l.end},
		{bytes.NewReader(end), 0, int64(len(end))},
	} {
		for at := s.from; at < s.to; at += piece {
			parts = append(parts, part{s.r, at, min(at+piece, s.to)})
		}
	}
	size := hash.Size()
	sums := make([]byte, 5+len(parts)*size)
	sums[0] = 0x5a
	binary.LittleEndian.PutUint32(sums[1:], uint32(len(parts)))
	var mu sync.Mutex
	var first error
	done := int64(0)
	next := make(chan int)
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			b := make([]byte, 5+piece)
			for i := range next {
				p := parts[i]
				n := int(p.to - p.from)
				b[0] = 0xa5
				binary.LittleEndian.PutUint32(b[1:], uint32(n))
				k, err := p.r.ReadAt(b[5:5+n], p.from)
				if k < n {
					err = cmp.Or(err, io.ErrUnexpectedEOF)
				} else {
					err = v.ctx.Err()
				}
				h := hash.New()
				h.Write(b[:5+n])
				h.Sum(sums[5+i*size : 5+i*size])
				mu.Lock()
				first = cmp.Or(first, err)
				done += int64(n)
				if v.moved != nil {
					v.moved(min(done, v.size))
				}
				mu.Unlock()
			}
		})
	}
	for i := range parts {
		next <- i
	}
	close(next)
	wg.Wait()
	if first != nil {
		return nil, first
	}
	h := hash.New()
	h.Write(sums)
	v.digests[hash] = h.Sum(nil)
	return v.digests[hash], nil
}

// handedOver verifies a proof of rotation: each key signs the next one.
func handedOver(scheme Scheme, b []byte, now *x509.Certificate) ([]Ancestor, error) {
	c := cursor{b: b}
	if version := c.word(); version != 1 {
		return nil, broken(scheme, "a proof of rotation of version %d is not known", version)
	}
	var out []Ancestor
	by := uint32(0)
	for len(c.b) > 0 {
		in := cursor{b: c.piece()}
		data := in.piece()
		a := Ancestor{Flags: in.word()}
		next, sig := in.word(), in.piece()
		d := cursor{b: data}
		der, stated := d.piece(), d.word()
		if c.bad || in.bad || d.bad {
			return nil, broken(scheme, "a proof of rotation is cut off")
		}
		var err error
		if a.Cert, err = x509.ParseCertificate(der); err != nil {
			return nil, broken(scheme, "a certificate in a proof of rotation can't be read")
		}
		if len(out) > 0 {
			alg, known := algorithms[by]
			if !known || stated != by || !alg.verify(out[len(out)-1].Cert.PublicKey, data, sig) {
				return nil, broken(scheme, "the proof of rotation does not hold: key %d was not handed on "+
					"by the one before it", len(out)+1)
			}
			for _, before := range out {
				if bytes.Equal(before.Cert.Raw, a.Cert.Raw) {
					return nil, broken(scheme, "the proof of rotation has one key twice")
				}
			}
		}
		out, by = append(out, a), next
	}
	if len(out) == 0 || !bytes.Equal(out[len(out)-1].Cert.Raw, now.Raw) {
		return nil, broken(scheme, "the proof of rotation does not end at the signer")
	}
	return out, nil
}

// Follows reports whether apps of this signature may take the place of installed ones signed by
// before: by the same keys, or by one whose proof of rotation holds theirs with the right to. why says what
// is in the way.
func (s *Signature) Follows(before *Signature) (ok bool, why string) {
	now, old := s.Current(), before.Current()
	same := func(a, b *x509.Certificate) bool { return bytes.Equal(a.Raw, b.Raw) }
	if len(now) == len(old) {
		all := true
		for _, o := range old {
			all = all && slices.ContainsFunc(now, func(n Signer) bool { return same(n.Cert, o.Cert) })
		}
		if all {
			return true, ""
		}
	}
	if len(now) == 1 && len(old) == 1 {
		for _, a := range now[0].Earlier {
			if !same(a.Cert, old[0].Cert) {
				continue
			}
			if a.Flags&InstalledData == 0 {
				return false, "its proof of rotation holds the key of the other one, without the right to " +
					"replace what that signed"
			}
			return true, ""
		}
		for _, a := range old[0].Earlier {
			if same(a.Cert, now[0].Cert) {
				return false, "it was signed by an earlier key of the other one, which that has left"
			}
		}
	}
	return false, "it was signed by another key"
}
