package files

import (
	"os"
	"path/filepath"
	"sync"
	"testing"
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
					t.Error(err)
					return
				}
				if err := os.WriteFile(filepath.Join(dir, "unwrapped"), nil, 0o600); err != nil {
					t.Error(err)
				}
				sweep(parent)
				if _, err := os.Stat(filepath.Join(dir, "unwrapped")); err != nil {
					t.Error(err)
				}
				done()
			}
		})
	}
	wg.Wait()
}
