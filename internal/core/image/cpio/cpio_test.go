package cpio

import (
	"bytes"
	"errors"
	"io"
	"os"
	"reflect"
	"testing"

	"jarlid/internal/core/image"
)

type member struct {
	name string
	mode uint32
	data string
}

func list(b []byte, limit int64) ([]member, error) {
	r := NewReader(bytes.NewReader(b), limit)
	var out []member
	for {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return out, err
		}
		data, err := io.ReadAll(r)
		if err != nil {
			return out, err
		}
		out = append(out, member{h.Name, h.Mode, string(data)})
	}
}

// TestGNU reads testdata/gnu.cpio, made by GNU cpio 2.13 with -H newc.
func TestGNU(t *testing.T) {
	b, err := os.ReadFile("testdata/gnu.cpio")
	if err != nil {
		t.Fatalf("os.ReadFile('testdata/gnu.cpio'): %v", err)
	}
	want := []member{{"init", TypeFile | 0o755, "hello\n"}, {"sbin", TypeDir | 0o755, ""},
		{"sbin/recovery", TypeFile | 0o644, "rec"}, {"link", TypeLink | 0o777, "sbin/recovery"}}
	got, err := list(b, 0)
	if err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("list(b, 0): %v, %v; unwanted: err != nil || !reflect.DeepEqual(got, want)", got, err)
	}
	// Two archives behind each other, padding between, as kernels take them.
	got, err = list(append(append(bytes.Clone(b), make([]byte, 3072)...), b...), 0)
	if err != nil || len(got) != 8 {
		t.Errorf("two archives: %d members, %v", len(got), err)
	}
	end := bytes.LastIndex(b, []byte(trailerName)) + len(trailerName) + 1
	for n := 1; n < end; n++ {
		if _, err := list(b[:n], 0); err == nil {
			t.Fatalf("cut at %d of %d bytes, it reads as whole", n, end)
		}
	}
	if _, err := list(b, 200); err == nil {
		t.Error("a limit of 200 bytes was not held")
	}
}

func TestRoundTrip(t *testing.T) {
	var b bytes.Buffer
	w := NewWriter(&b)
	want := []member{{"a", TypeFile | 0o600, "12345"}, {"b/c", TypeLink | 0o777, "a"}}
	for _, m := range want {
		if err := w.Add(Header{Name: m.name, Mode: m.mode}, []byte(m.data)); err != nil {
			t.Fatalf("w.Add(..., []byte(m.data)): %v", err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatalf("w.Close(): %v", err)
	}
	got, err := list(b.Bytes(), 0)
	if err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("list(b.Bytes(), 0): %v, %v; unwanted: err != nil || !reflect.DeepEqual(got, want)", got,
			err)
	}
}

func FuzzRead(f *testing.F) {
	b, err := os.ReadFile("testdata/gnu.cpio")
	if err != nil {
		f.Fatalf("os.ReadFile('testdata/gnu.cpio'): %v", err)
	}
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		_, err := list(b, 1<<20)
		var e *image.Error
		if err != nil && !errors.As(err, &e) {
			t.Errorf("%v is not a format error", err)
		}
	})
}
