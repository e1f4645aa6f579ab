package files

import (
	"bytes"
	"compress/gzip"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"jarlid/internal/core/ident"
)

// TestScratchTogether: programs that start at once look through each other's folders while they
// are made, and none is taken from the one whose it is.
func TestScratchTogether(t *testing.T) {
	parent := t.TempDir()
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			for range 300 {
				dir, done, err := Scratch(parent)
				if err != nil {
					t.Errorf("Scratch(parent): %v", err)
					return
				}
				if err := os.WriteFile(filepath.Join(dir, "unwrapped"), nil, 0o600); err != nil {
					t.Errorf("os.WriteFile(filepath.Join(dir, 'unwrapped'), 0o600): %v", err)
				}
				sweep(parent)
				if _, err := os.Stat(filepath.Join(dir, "unwrapped")); err != nil {
					t.Errorf("os.Stat(filepath.Join(dir, 'unwrapped')): %v", err)
				}
				done()
			}
		})
	}
	wg.Wait()
}

// TestNoFaultOfTheFile: what the computer can't do, or is not allowed to, is not called damage.
func TestNoFaultOfTheFile(t *testing.T) {
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	if _, err := z.Write(bytes.Repeat([]byte("tide"), 1<<10)); err != nil || z.Close() != nil {
		t.Fatalf("z.Write(...): %v", err)
	}
	path := filepath.Join(t.TempDir(), "image.gz")
	if err := os.WriteFile(path, packed.Bytes(), 0o600); err != nil {
		t.Fatalf("os.WriteFile(%v, packed.Bytes(), 0o600): %v", path, err)
	}
	deep := ident.Options{Deep: true, Spool: Spool(1 << 10)}
	f, err := Identify(path, deep)
	if err != nil || f.Damage != "" || !strings.Contains(f.Closed, "larger than the limit") {
		t.Errorf("over the limit: %+v, %v", f, err)
	}
	if f, err := Identify(path, ident.Options{Deep: true, Spool: Spool(1 << 20)}); err != nil ||
		f.Inside != 4<<10 {
		t.Errorf("Identify(%v, ...): %+v, %v; unwanted: err != nil || f.Inside != 4<<10", path, f, err)
	}
	for _, name := range []string{"TMPDIR", "TMP", "TEMP"} { // os.TempDir
		t.Setenv(name, filepath.Join(t.TempDir(), "away"))
	}
	if f, err := Identify(path, deep); !errors.Is(err, fs.ErrNotExist) || f.Damage != "" {
		t.Errorf("without a place for it: %+v, %v", f, err)
	}
}
