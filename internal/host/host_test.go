package host

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"testing"
)

// TestWholeFiles: while one program replaces a file again and again, others read it, and each time it
// is there, whole; what is in the way and marked as read-only is replaced too, and nothing is left
// lying beside it.
func TestWholeFiles(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "state")
	texts := [][]byte{bytes.Repeat([]byte("a"), 10000), bytes.Repeat([]byte("b"), 20000)}
	if err := WriteWhole(name, texts[0], 0o600); err != nil {
		t.Fatalf("WriteWhole(%v, texts[0], 0o600): %v", name, err)
	}
	var all sync.WaitGroup
	for w := range 2 {
		all.Go(func() {
			for n := range 150 {
				if err := WriteWhole(name, texts[(w+n)%2], 0o600); err != nil {
					t.Errorf("written: %v", err)
					return
				}
			}
		})
		all.Go(func() {
			for range 300 {
				b, err := Read(name)
				if err != nil || !bytes.Equal(b, texts[0]) && !bytes.Equal(b, texts[1]) {
					t.Errorf("read: %d bytes, %v", len(b), err)
					return
				}
			}
		})
	}
	all.Wait()
	if err := os.Chmod(name, 0o400); err != nil {
		t.Fatalf("os.Chmod(%v, 0o400): %v", name, err)
	}
	if err := WriteWhole(name, texts[1], 0o600); err != nil {
		t.Errorf("over a read-only one: %v", err)
	}
	list, err := os.ReadDir(dir)
	if err != nil || len(list) != 1 {
		t.Errorf("os.ReadDir(%v): %v %v; unwanted: err != nil || len(list) != 1", dir, list, err)
	}
	away := filepath.Join(dir, "away", "name")
	var file *fs.PathError
	if err := WriteWhole(away, nil, 0o600); !errors.As(err, &file) || file.Path != away ||
		!os.IsNotExist(err) {
		t.Errorf("the error names something else than was asked for: %v", err)
	}
	if err := Replace(name, away); !errors.As(err, &file) || file.Path != away || !os.IsNotExist(err) {
		t.Errorf("moved to where nothing is: %v", err)
	}
	if _, err := Read(filepath.Join(dir, "none")); !os.IsNotExist(err) {
		t.Errorf("Read(filepath.Join(dir, 'none')): %v; unwanted: !os.IsNotExist(err)", err)
	}
}
