// Package benchtest makes benches for tests.
package benchtest

import (
	"os"
	"path/filepath"
	"testing"

	"jarlid/internal/bench"
	"jarlid/internal/link"
)

// Open opens a bench in folders that go with the test, reached over dial, with a key that
// needn't be made, and lists phones on it in their order.
func Open(t testing.TB, dial link.Dialer, phones ...bench.Entry) *bench.Bench {
	t.Helper()
	home := t.TempDir()
	key, err := os.ReadFile("../link/adb/testdata/key.pem")
	if err == nil {
		err = os.WriteFile(filepath.Join(home, "key.pem"), key, 0o600)
	}
	if err != nil {
		t.Fatalf("os.ReadFile('../link/adb/testdata/key.pem'): %v", err)
	}
	b, err := bench.Open(bench.Options{Home: home, Locks: t.TempDir(), Dial: dial})
	if err != nil {
		t.Fatalf("bench.Open(...): %v", err)
	}
	for _, e := range phones {
		if err := b.Register(e); err != nil {
			t.Fatalf("b.Register(e): %v", err)
		}
	}
	return b
}
