package kernel

import (
	"bytes"
	"compress/gzip"
	"errors"
	"os"
	"testing"

	"jarlid/internal/core/image"
)

// plain makes the bytes of a kernel that is not compressed: a banner as init/version.c
// has it behind a form for one, and a configuration as kernel/configs.c keeps it.
func plain(config string) []byte {
	b := bytes.Repeat([]byte{0x5a}, 3<<20)
	copy(b[100:], "Linux version %s (built by %s)")
	// over the edge of a read
	copy(b[2<<20-5:], "Linux version 4.19.191-gabc0123 (builder@observatory) (clang 14) #1 SMP PREEMPT")
	copy(b[50:], "IKCFG_ST in the text of a program")
	if config != "" {
		var z bytes.Buffer
		w := gzip.NewWriter(&z)
		w.Write([]byte(config))
		w.Close()
		b = bytes.Clone(b)
		clear(b[50:58])
		copy(b[1<<20-3:], "IKCFG_ST"+z.String()+"IKCFG_ED")
	}
	return b
}

func packed(b []byte) []byte {
	var z bytes.Buffer
	w := gzip.NewWriter(&z)
	w.Write(b)
	w.Close()
	return z.Bytes()
}

func TestRead(t *testing.T) {
	const config = "# Linux/arm64\nCONFIG_A=y\n# CONFIG_B is not set\nCONFIG_C=\"x y\"\n"
	const kept = "CONFIG_A=y\nCONFIG_C=\"x y\""
	for name, c := range map[string]struct {
		b       []byte
		version string
		config  string
	}{
		"plain":                   {plain(config), "4.19.191-gabc0123", kept},
		"without a configuration": {plain(""), "4.19.191-gabc0123", ""},
		"compressed":              {packed(plain(config)), "4.19.191-gabc0123", kept},
		"compressed, a tree behind it": {append(packed(plain(config)),
			bytes.Repeat([]byte{0xd0, 0x0d}, 5000)...), "4.19.191-gabc0123", kept},
		"one that unpacks itself": {append(bytes.Repeat([]byte{1}, 18000), packed(plain(config))...),
			"4.19.191-gabc0123", kept},
		"none":                       {bytes.Repeat([]byte("Linux version X"), 1000), "", ""},
		"compressed and cut short":   {packed(plain(config))[:900], "", ""},
		"empty":                      {nil, "", ""},
		"made by gzip, see testdata": {mustRead(t), "5.10.107-wickerlight", "CONFIG_IKCONFIG=y"},
		"its configuration is not gzip": {append(plain(""), []byte("IKCFG_ST1234567890")...),
			"4.19.191-gabc0123", ""},
	} {
		i, err := Read(bytes.NewReader(c.b), int64(len(c.b)))
		if c.version == "" {
			var bad *image.Error
			if !errors.As(err, &bad) {
				t.Errorf("Read(bytes.NewReader(c.b), int64(len(c.b))): %s: %+v, %v; unwanted: "+
					"!errors.As(err, &bad)", name, i, err)
			}
			continue
		}
		if err != nil || i.Version != c.version || i.Config != c.config {
			t.Errorf("Read(bytes.NewReader(c.b), int64(len(c.b))): %s: %+v, %v; unwanted: err != nil || "+
				"i.Version != c.version || i.Config != c.config", name, i, err)
		}
	}
}

// mustRead reads a kernel made by the tools:
//
//	{ head -c 5000 /dev/zero; printf 'Linux version 5.10.107-wickerlight (a@b)\0IKCFG_ST'
//	printf 'CONFIG_IKCONFIG=y\n' | gzip -9n; printf IKCFG_ED; } | gzip -9n > testdata/kernel.gz
func mustRead(t *testing.T) []byte {
	t.Helper()
	b, err := os.ReadFile("testdata/kernel.gz")
	if err != nil {
		t.Fatalf("os.ReadFile('testdata/kernel.gz'): %v", err)
	}
	return b
}

func FuzzRead(f *testing.F) {
	f.Add(packed([]byte("Linux version 4.1.2 x IKCFG_ST\x1f\x8b")))
	f.Add([]byte("Linux version 4.1.2 x"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if i, err := Read(bytes.NewReader(b), int64(len(b))); err == nil && i.Version == "" {
			t.Error("neither an error nor a version")
		}
	})
}
