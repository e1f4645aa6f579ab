package proof

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/md5"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"testing"

	"jarlid/internal/core/image/sums"
)

// TestVerdicts: what comes of digests given, listed for another, carried, and
// of nothing.
func TestVerdicts(t *testing.T) {
	body := bytes.Repeat([]byte{0, 1, 2, 3, 250}, 500000)
	sum, five := sha256.Sum256(body), md5.Sum(body)
	right := []sums.Sum{{Algorithm: sums.SHA256, Digest: hex.EncodeToString(sum[:])},
		{Algorithm: sums.MD5, Digest: hex.EncodeToString(five[:])}}
	wrong := append(right[:1:1], sums.Sum{Algorithm: sums.SHA1, Digest: "00"})
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	w.WriteHeader(&tar.Header{Name: "x", Size: 3})
	w.Write([]byte("abc"))
	w.Close()
	carried := append(bytes.Clone(b.Bytes()), fmt.Sprintf("%x  all.tar\n", md5.Sum(b.Bytes()))...)
	damaged := bytes.Clone(carried)
	damaged[512] ^= 1
	for name, c := range map[string]struct {
		body []byte
		w    Wish
		want Verdict
	}{
		"right":       {body, Wish{Sums: right, Listed: true}, Match},
		"one wrong":   {body, Wish{Sums: wrong, Listed: true}, Mismatch},
		"another's":   {body, Wish{Listed: true}, NotListed},
		"nothing":     {body, Wish{}, Unchecked},
		"its own":     {carried, Wish{}, Match},
		"own, broken": {damaged, Wish{}, Mismatch},
		"both":        {damaged, Wish{Sums: right, Listed: true}, Mismatch},
	} {
		r, err := Run(t.Context(), bytes.NewReader(c.body), int64(len(c.body)), "x", c.w)
		if err != nil || r.Verdict != c.want {
			t.Errorf("Run(bytes.NewReader(c.body), int64(len(c.body)), 'x', c.w): %s: %+v, %v; unwanted: "+
				"err != nil || r.Verdict != c.want", name, r, err)
			continue
		}
		if got := sha256.Sum256(c.body); r.SHA256 != hex.EncodeToString(got[:]) {
			t.Errorf("%s: the digest is %s", name, r.SHA256)
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := Run(ctx, bytes.NewReader(body), int64(len(body)), "x", Wish{}); !errors.Is(err,
		context.Canceled) {
		t.Errorf("stopped: %v", err)
	}
	if _, err := Run(t.Context(), bytes.NewReader(body[:100]), int64(len(body)), "x", Wish{}); err == nil {
		t.Error("a file that can't be read to its end is no error")
	}
}
