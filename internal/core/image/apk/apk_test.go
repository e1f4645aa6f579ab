package apk

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"errors"
	"strings"
	"testing"
	"unicode/utf16"

	"jarlid/internal/core/image"
)

// compiled is a manifest in the older form, with strings in UTF-16, put together
// by hand from ResourceTypes.h:
//
//	<manifest android:versionCode="7" package="org.example.x" split="s">
//	  <uses-sdk android:minSdkVersion="29"/>
func compiled() []byte {
	le := binary.LittleEndian
	u32 := func(b []byte, v ...uint32) []byte {
		for _, w := range v {
			b = le.AppendUint32(b, w)
		}
		return b
	}
	names := []string{"versionCode", "minSdkVersion", "package", "split", "manifest", "uses-sdk",
		"org.example.x", "s"}
	var offsets, data []byte
	for _, s := range names {
		offsets = u32(offsets, uint32(len(data)))
		w := utf16.Encode([]rune(s))
		data = le.AppendUint16(data, uint16(len(w)))
		for _, c := range w {
			data = le.AppendUint16(data, c)
		}
		data = le.AppendUint16(data, 0)
	}
	for len(data)%4 != 0 {
		data = append(data, 0)
	}
	pool := append([]byte{1, 0, 28, 0}, u32(nil, uint32(28+len(offsets)+len(data)), uint32(len(names)), 0, 0,
		uint32(28+len(offsets)), 0)...)
	pool = append(append(pool, offsets...), data...)
	ids := append([]byte{0x80, 1, 8, 0}, u32(nil, 16, 0x0101021b, 0x0101020c)...)
	start := func(name uint32, attrs ...[5]uint32) []byte {
		b := append([]byte{2, 1, 16, 0}, u32(nil, uint32(36+20*len(attrs)), 1, 0xffffffff, 0xffffffff,
			name)...)
		b = append(b, 20, 0, 20, 0, byte(len(attrs)), 0, 0, 0, 0, 0, 0, 0)
		for _, a := range attrs {
			b = u32(b, a[:]...)
		}
		return b
	}
	const none = 0xffffffff
	body := append(pool, ids...)
	body = append(body, start(4, [5]uint32{0, 0, none, 0x10000008, 7}, [5]uint32{none, 2, 6, 0x03000008, 6},
		[5]uint32{none, 3, 7, 0x03000008, 7})...)
	body = append(body, start(5, [5]uint32{0, 1, none, 0x10000008, 29})...)
	return append(append([]byte{3, 0, 8, 0}, u32(nil, uint32(8+len(body)))...), body...)
}

func pack(manifest []byte, names ...string) []byte {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, n := range append([]string{ManifestName}, names...) {
		w, _ := z.Create(n)
		if n == ManifestName {
			w.Write(manifest)
		}
	}
	z.Close()
	return out.Bytes()
}

// TestParse reads a manifest and the processors, and refuses damage by its offset.
func TestParse(t *testing.T) {
	b := pack(compiled(), "lib/x86_64/libx.so", "lib/arm64-v8a/libx.so", "lib/arm64-v8a/liby.so",
		"assets/lib/none.so")
	a, err := Parse(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatalf("Parse(bytes.NewReader(b), int64(len(b))): %v", err)
	}
	if a.Name != "org.example.x" || a.Version != 7 || a.MinSDK != 29 || a.Split != "s" ||
		strings.Join(a.ABIs, " ") != "arm64-v8a x86_64" {
		t.Errorf("Parse(bytes.NewReader(b), int64(len(b))): %+v", a)
	}
	good := compiled()
	for name, change := range map[string]func(b []byte) []byte{
		"a text": func([]byte) []byte {
			return []byte("<?xml version='1.0'?><manifest/>")
		},
		"empty":                     func([]byte) []byte { return nil },
		"cut in the strings":        func(b []byte) []byte { return b[:60] },
		"a chunk longer than it is": func(b []byte) []byte { b[12+3] = 0x7f; return b },
		"a million strings": func(b []byte) []byte {
			binary.LittleEndian.PutUint32(b[16:], 1<<20)
			return b
		},
		"a string behind the end": func(b []byte) []byte {
			binary.LittleEndian.PutUint32(b[36:], 1<<30)
			return b
		},
		"attributes beyond": func(b []byte) []byte {
			b[bytes.Index(b, []byte{20, 0, 20, 0})+4] = 0xff
			return b
		},
		"a chunk of no length": func(b []byte) []byte {
			binary.LittleEndian.PutUint32(b[12:], 0)
			return b
		},
	} {
		b := pack(change(bytes.Clone(good)))
		_, err := Parse(bytes.NewReader(b), int64(len(b)))
		var f *image.Error
		if !errors.As(err, &f) {
			t.Errorf("Parse(bytes.NewReader(b), int64(len(b))): %s: %v; unwanted: !errors.As(err, &f)", name,
				err)
		}
	}
}

func FuzzManifest(f *testing.F) {
	f.Add(compiled())
	f.Add([]byte{3, 0, 8, 0, 16, 0, 0, 0, 2, 1, 16, 0, 8, 0, 0, 0})
	f.Fuzz(func(t *testing.T, b []byte) {
		a := &App{}
		if err := a.manifest(b); err == nil && a.Name == "" {
			t.Error("a manifest without a name is good")
		}
	})
}
