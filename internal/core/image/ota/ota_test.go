package ota

import (
	"archive/zip"
	"bytes"
	"errors"
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
