package files

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jarlid/internal/core/finding"
)

// TestComparer: a file is compared with the digest beside it once, and again when it was changed.
func TestComparer(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "rom.zip")
	// The SHA-256 of "abc" (FIPS 180-4, example).
	list := "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad  rom.zip\n"
	for name, text := range map[string]string{path: "abc", filepath.Join(dir, "SHA256SUMS"): list} {
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	var c Comparer
	times := 0
	working := func(kind, what string, total int64) (func(int64), func()) {
		times++
		return func(int64) {}, func() {}
	}
	for range 2 {
		if err := c.Compare(t.Context(), path, nil, working); err != nil {
			t.Fatal(err)
		}
	}
	if times != 1 {
		t.Errorf("it was compared %d times", times)
	}
	if err := os.WriteFile(path, []byte("abcd"), 0o600); err != nil {
		t.Fatal(err)
	}
	var stop *finding.StopError
	for range 2 {
		if err := c.Compare(t.Context(), path, nil, working); !errors.As(err, &stop) || stop.Findings[0].Name != finding.DigestDiffers || !strings.Contains(stop.Findings[0].Text, "SHA256SUMS states") {
			t.Errorf("%v", err)
		}
	}
}
