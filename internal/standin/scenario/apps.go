package scenario

import (
	"archive/zip"
	"bytes"
	"cmp"
	"crypto"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/binary"
	"slices"

	"jarlid/internal/core/image/apk"
	"jarlid/internal/core/image/appsig"
)

// App is an app package of the scenario.
type App struct {
	Name    string // of the package
	Version int32
	MinSDK  int32
	ABI     string // of its library; "" for none
	Part    string // of the app: its name; "" for the app's package
	Parts   bool   // it is installed with parts alone
	// By is whose key signs it; "" for Saltmarsh's.
	By string
}

// The apps of the scenario: what the observers count with.
var (
	FieldLog = App{Name: "org.saltmarsh.fieldlog", Version: 42, MinSDK: 29}
	TideTool = App{Name: "org.saltmarsh.tidetool", Version: 7, MinSDK: 23, ABI: "arm64-v8a"}
)

// Package makes the app's zip with its compiled manifest (ResourceTypes.h), signed by scheme v2.
func (a App) Package() ([]byte, error) {
	b, err := a.Unsigned()
	if err != nil {
		return nil, err
	}
	by := cmp.Or(a.By, "saltmarsh")
	key, err := Key(by)
	if err != nil {
		return nil, err
	}
	cert, err := certificate(by)
	if err != nil {
		return nil, err
	}
	return signV2(b, key, cert)
}

// Unsigned makes the same without a signature.
func (a App) Unsigned() ([]byte, error) {
	files := []member{{apk.ManifestName, a.manifest()}, {"classes.dex", []byte("dex\n035\x00" + a.Name)}}
	if a.ABI != "" {
		files = append(files, member{"lib/" + a.ABI + "/libtide.so", library(a.ABI, 256)})
	}
	return pack(zip.Deflate, files...)
}

// signV2 puts the block of scheme v2 before a zip's directory (source.android.com, "APK Signature
// Scheme v2"): one signer, RSA over SHA-256.
func signV2(b []byte, key *rsa.PrivateKey, cert *x509.Certificate) ([]byte, error) {
	const algorithm, id, eocd = 0x0103, 0x7109871a, 22
	le := binary.LittleEndian
	lp := func(parts ...[]byte) []byte {
		all := bytes.Join(parts, nil)
		return append(le.AppendUint32(nil, uint32(len(all))), all...)
	}
	word := func(v uint32) []byte { return le.AppendUint32(nil, v) }
	end := len(b) - eocd
	directory := int(le.Uint32(b[end+16:]))
	// Pieces of a mebibyte of the files, the directory, and its end, whose offset is the block's.
	var sums []byte
	n := uint32(0)
	for _, part := range [][]byte{b[:directory], b[directory:end], b[end:]} {
		for p := range slices.Chunk(part, 1<<20) {
			s := sha256.Sum256(slices.Concat([]byte{0xa5}, word(uint32(len(p))), p))
			sums, n = append(sums, s[:]...), n+1
		}
	}
	digest := sha256.Sum256(slices.Concat([]byte{0x5a}, word(n), sums))
	data := slices.Concat(lp(lp(word(algorithm), lp(digest[:]))), lp(lp(cert.Raw)), lp())
	sum := sha256.Sum256(data)
	sig, err := rsa.SignPKCS1v15(nil, key, crypto.SHA256, sum[:])
	if err != nil {
		return nil, err
	}
	value := lp(lp(lp(data), lp(lp(word(algorithm), lp(sig))), lp(cert.RawSubjectPublicKeyInfo)))
	pair := append(le.AppendUint64(nil, uint64(4+len(value))), append(word(id), value...)...)
	size := le.AppendUint64(nil, uint64(len(pair)+24))
	out := slices.Concat(b[:directory], size, pair, size, []byte(appsig.BlockMagic), b[directory:])
	le.PutUint32(out[len(out)-eocd+16:], uint32(directory+len(pair)+32))
	return out, nil
}

func (a App) manifest() []byte {
	le := binary.LittleEndian
	chunk := func(typ, head uint16, header, body []byte) []byte {
		b := le.AppendUint16(nil, typ)
		b = le.AppendUint16(b, head)
		b = le.AppendUint32(b, uint32(8+len(header)+len(body)))
		return append(append(b, header...), body...)
	}
	words := func(v ...uint32) (b []byte) {
		for _, w := range v {
			b = le.AppendUint32(b, w)
		}
		return b
	}
	// The attributes' names come first: the table of resource numbers is theirs.
	texts := []string{"versionCode", "minSdkVersion", "isSplitRequired", "package", "manifest", "uses-sdk",
		"split",
		a.Name, a.Part}
	var offsets, data []byte
	for _, s := range texts {
		offsets = append(offsets, words(uint32(len(data)))...)
		data = append(data, byte(len(s)), byte(len(s)))
		data = append(append(data, s...), 0)
	}
	for len(data)%4 != 0 {
		data = append(data, 0)
	}
	pool := chunk(1, 28, words(uint32(len(texts)), 0, 1<<8, uint32(28+len(offsets)), 0),
		append(offsets, data...))
	ids := chunk(0x180, 8, nil, words(0x0101021b, 0x0101020c, 0x01010591))
	const none = 0xffffffff
	attr := func(name, raw, kind, value uint32) []byte { return words(none, name, raw, 8|kind<<24, value) }
	element := func(name uint32, attrs ...[]byte) []byte {
		b := append(words(none, name), le.AppendUint16(le.AppendUint16(le.AppendUint16(nil, 20), 20),
			uint16(len(attrs)))...)
		b = append(b, 0, 0, 0, 0, 0, 0) // no id, class or style
		return chunk(0x102, 16, words(1, none), append(b, bytes.Join(attrs, nil)...))
	}
	end := func(name uint32) []byte { return chunk(0x103, 16, words(1, none), words(none, name)) }
	attrs := [][]byte{attr(0, none, 0x10, uint32(a.Version)), attr(3, 7, 0x03, 7)}
	if a.Parts {
		attrs = append(attrs, attr(2, none, 0x12, 0xffffffff))
	}
	if a.Part != "" {
		attrs = append(attrs, attr(6, 8, 0x03, 8))
	}
	body := bytes.Join([][]byte{pool, ids, element(4, attrs...),
		element(5, attr(1, none, 0x10, uint32(a.MinSDK))), end(5), end(4)}, nil)
	return chunk(3, 8, nil, body)
}
