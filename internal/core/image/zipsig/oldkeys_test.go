package zipsig

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"testing"
)

// dumped writes a key as the platform's DumpPublicKey tool does: {64,n0inv,{n},{rr}}, 32 bits at a
// time, the lowest first.
func dumped(k *rsa.PublicKey, version string) string {
	word := new(big.Int).Lsh(big.NewInt(1), 32)
	inverse := new(big.Int).Sub(word, new(big.Int).ModInverse(k.N, word))
	rr := new(big.Int).Exp(big.NewInt(2), big.NewInt(4096), k.N)
	list := func(n *big.Int) string {
		var w []string
		n = new(big.Int).Set(n)
		for range 64 {
			w = append(w, new(big.Int).Mod(n, word).String())
			n.Rsh(n, 32)
		}
		return "{" + strings.Join(w, ",") + "}"
	}
	return fmt.Sprintf("%s{64,0x%x,%s,%s}", version, inverse, list(k.N), list(rr))
}

// TestParseOldKeys: keys of a general library, written as the platform wrote them, come back as
// they were.
func TestParseOldKeys(t *testing.T) {
	r, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatalf("rsa.GenerateKey(rand.Reader, 2048): %v", err)
	}
	e, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatalf("ecdsa.GenerateKey(elliptic.P256(), rand.Reader): %v", err)
	}
	point, err := e.PublicKey.Bytes()
	if err != nil {
		t.Fatalf("e.PublicKey.Bytes(): %v", err)
	}
	bytesOf := func(b []byte) string {
		var w []string
		for _, x := range b {
			w = append(w, fmt.Sprint(x))
		}
		return "{" + strings.Join(w, ",") + "}"
	}
	three := r.PublicKey
	three.E = 3
	text := dumped(&three, "") + ",\n" + dumped(&r.PublicKey, "v4 ") + ", v5 {32," + bytesOf(point[1:33]) +
		"," + bytesOf(point[33:]) + "}\n"
	got, err := parseOldKeys([]byte(text))
	if err != nil || len(got) != 3 {
		t.Fatalf("ParseOldKeys([]byte(text)): got %v, %v", len(got), err)
	}
	for i, want := range []any{&three, &r.PublicKey, &e.PublicKey} {
		der, err := x509.MarshalPKIXPublicKey(want)
		if err != nil || !slices.Equal(der, got[i].RawSubjectPublicKeyInfo) {
			t.Errorf("key %d differs (%v)", i, err)
		}
	}
	if keys, ok, err := KeysOf(map[string][]byte{OldKeysFile: []byte(text)}); len(keys) != 3 || !ok ||
		err != nil {
		t.Errorf("KeysOf(...): got %v, %v, %v", keys, ok, err)
	}
	for _, bad := range []string{"", "{", "{63,1,{1}", "v9{64,1,{", dumped(&three, "v7"),
		dumped(&three, "")[:600], dumped(&three, "") + ",", strings.Replace(dumped(&three, ""), ",{", ",{x",
			1),
		"v5 {32," + bytesOf(point[1:33]) + "," + bytesOf(point[1:33]) + "}",
		"cat: /res/keys: No such file or directory"} {
		if keys, err := parseOldKeys([]byte(bad)); err == nil {
			t.Errorf("%.40q gives %d keys", bad, len(keys))
		}
	}
}

// FuzzParseOldKeys: no list makes it panic.
func FuzzParseOldKeys(f *testing.F) {
	f.Add("v2 {64,0x1,{1,2},{3}},{64,1,{")
	f.Add("v5 {32,{1,2,3},{4}}")
	f.Fuzz(func(t *testing.T, s string) { _, _ = parseOldKeys([]byte(s)) })
}
