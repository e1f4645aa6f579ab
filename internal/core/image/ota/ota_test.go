package ota

import (
	"archive/zip"
	"bytes"
	"encoding/hex"
	"errors"
	"maps"
	"testing"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/payload"
)

func pack(t testing.TB, method uint16, members ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i < len(members); i += 2 {
		w, err := z.CreateHeader(&zip.FileHeader{Name: members[i], Method: method})
		if err != nil {
			t.Fatalf("z.CreateHeader(...): %v", err)
		}
		w.Write([]byte(members[i+1]))
	}
	if err := z.Close(); err != nil {
		t.Fatalf("z.Close(): %v", err)
	}
	return b.Bytes()
}

func body(t testing.TB) string {
	var b bytes.Buffer
	if err := payload.Write(&b, 1,
		[]payload.Source{{Name: "boot", Data: bytes.Repeat([]byte("boot"), 5000)}}); err != nil {
		t.Fatalf("payload.Write(&b, 1, ...): %v", err)
	}
	return b.String()
}

func TestParse(t *testing.T) {
	meta := "ota-type=AB\npre-device=dunlin|wl_dunlin\r\npost-build=x\n"
	b := pack(t, zip.Store, PayloadName, body(t), MetadataName, meta)
	p, err := Parse(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatalf("Parse(bytes.NewReader(b), int64(len(b))): %v", err)
	}
	if d := p.Devices(); len(d) != 2 || d[1] != "wl_dunlin" ||
		string(b[p.PayloadOffset:p.PayloadOffset+4]) != payload.Magic {
		t.Errorf("%v, payload at %d", d, p.PayloadOffset)
	}
	for _, n := range []int{100, len(b) / 2, len(b) - 1} {
		if _, err := Parse(bytes.NewReader(b[:n]), int64(n)); !image.IsShort(err) {
			t.Errorf("cut to %d bytes: %v", n, err)
		}
	}
	other := pack(t, zip.Deflate, "a.txt", "text")
	if _, err := Parse(bytes.NewReader(other), int64(len(other))); !errors.Is(err, ErrNotAB) {
		t.Errorf("another zip: %v", err)
	}
	packed := pack(t, zip.Deflate, PayloadName, body(t))
	var e *image.Error
	if _, err := Parse(bytes.NewReader(packed), int64(len(packed))); !errors.As(err, &e) {
		t.Errorf("a compressed payload: %v", err)
	}
}

// TestProtoMetadata reads what protoc 3.21 made of a text by the published
// ota_metadata.proto, alone and beside the text form.
func TestProtoMetadata(t *testing.T) {
	const proto = "08011001180122250a126f74612d70726f70657274792d66696c6573120f7061796c6f61642e62696e3a313a" +
		"322a410a0664756e6c696e0a09776c5f64756e6c696e1229776c2f64756e6c696e2f64756e6c696e3a31342f" +
		"412f313a757365722f72656c656173652d6b6579731a0131324c0a0664756e6c696e1229776c2f64756e6c69" +
		"6e2f64756e6c696e3a31352f422f323a757365722f72656c656173652d6b6579731a01322080f2d6ca062a02" +
		"3335320a323032362d30312d30354801"
	message, err := hex.DecodeString(proto)
	if err != nil {
		t.Fatalf("hex.DecodeString(proto): %v", err)
	}
	want := map[string]string{"ota-type": "AB", "ota-wipe": "yes", "ota-downgrade": "yes",
		"spl-downgrade":      "yes",
		"ota-property-files": "payload.bin:1:2", "pre-device": "dunlin|wl_dunlin",
		"pre-build": "wl/dunlin/dunlin:14/A/1:user/release-keys", "pre-build-incremental": "1",
		"post-device": "dunlin", "post-build": "wl/dunlin/dunlin:15/B/2:user/release-keys",
		"post-build-incremental": "2", "post-timestamp": "1767225600", "post-sdk-level": "35",
		"post-security-patch-level": "2026-01-05"}
	for _, text := range []string{"", "pre-device=dunlin\nextra=1\n"} {
		members := []string{PayloadName, body(t), metadataProto, string(message)}
		expect := maps.Clone(want)
		if text != "" {
			members = append(members, MetadataName, text)
			expect["pre-device"], expect["extra"] = "dunlin", "1"
		}
		b := pack(t, zip.Store, members...)
		p, err := Parse(bytes.NewReader(b), int64(len(b)))
		if err != nil || !maps.Equal(p.Metadata, expect) {
			t.Errorf("with the text %q: %v, %v; want %v", text, p, err, expect)
		}
	}
	cut := pack(t, zip.Store, PayloadName, body(t), metadataProto, string(message[:40]))
	var e *image.Error
	if _, err := Parse(bytes.NewReader(cut), int64(len(cut))); !errors.As(err, &e) {
		t.Errorf("a message cut at byte 40: %v", err)
	}
}

// TestReading follows a phone through a package of ten blocks whose payload
// is in blocks 1 to 8.
func TestReading(t *testing.T) {
	const block = 100
	r := NewReading(950, block, 120, 700)
	ask := func(blocks ...int64) (string, int64, int64) {
		for _, b := range blocks {
			r.Ask(b*block, min(block, 950-b*block))
		}
		return r.Doing()
	}
	for _, s := range []struct {
		blocks      []int64
		doing       string
		done, total int64
	}{
		{nil, "waiting for the phone to begin", 0, 950},
		{[]int64{9, 0}, "first time through", 150, 950},
		{[]int64{1, 2, 3, 4, 5, 6, 7, 8, 9}, "first time through", 950, 950},
		{[]int64{9, 8}, "first time through", 950, 950}, // the table of contents again
		{[]int64{1, 2, 3, 4}, "second time, only the payload", 380, 700},
		{[]int64{5, 6, 7, 8}, "second time, only the payload", 700, 700},
		{[]int64{0, 1, 2, 3, 4}, "once more through", 500, 950},
	} {
		doing, done, total := ask(s.blocks...)
		if doing != s.doing || done != s.done || total != s.total {
			t.Errorf("after %v: %q, %d of %d; want %q, %d of %d", s.blocks, doing, done, total, s.doing,
				s.done, s.total)
		}
	}
	if r.Distinct != 950 || r.Pass != 3 {
		t.Errorf("%d distinct bytes, %d passes", r.Distinct, r.Pass)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(pack(f, zip.Store, PayloadName, body(f), MetadataName, "pre-device=dunlin"))
	f.Add(pack(f, zip.Store, PayloadName, body(f), metadataProto, "\x10\x01\x2a\x08\x0a\x06dunlin"))
	f.Fuzz(func(t *testing.T, b []byte) {
		p, err := Parse(bytes.NewReader(b), int64(len(b)))
		var e *image.Error
		if err != nil && !errors.As(err, &e) && !errors.Is(err, ErrNotAB) {
			t.Fatalf("%v is not a format error", err)
		}
		if err == nil && p.PayloadOffset+p.PayloadSize > int64(len(b)) {
			t.Error("the payload goes beyond the file")
		}
	})
}
