package files

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"

	"jarlid/internal/core/backup"
	"jarlid/internal/core/finding"
)

// MaxManifest bounds a backup's manifest, in bytes: it names each file of the storage.
const MaxManifest = 256 << 20

// ReadBackup reads the manifest of a folder.
func ReadBackup(dir string) (*backup.Manifest, error) {
	b, err := ReadSmall(filepath.Join(dir, backup.Name), MaxManifest)
	if err != nil {
		return nil, err
	}
	m, err := backup.Parse(b)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", filepath.Join(dir, backup.Name), err)
	}
	return m, nil
}

// Finished reports whether a folder holds a finished backup.
func Finished(dir string) bool {
	m, err := ReadBackup(dir)
	return err == nil && m.Complete
}

// ProveBackup compares an item's files with the manifest. Errors: finding damaged-file or no-such-file for
// the first that differs, and what keeps a file from being read.
func ProveBackup(ctx context.Context, v *Verifier, dir string, i *backup.Item) error {
	check := func(name, sum string, bytes int64) error {
		have, n, err := v.SHA256(ctx, filepath.Join(dir, filepath.FromSlash(name)), nil)
		wrong := func(format string, args ...any) error {
			return finding.Stopped(finding.DamagedFile, i.Name, name+" is damaged: "+
				fmt.Sprintf(format, args...), "take another copy of the folder")
		}
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return finding.Stopped(finding.NoSuchFile, i.Name, name+" is missing from the backup",
				"take another copy of the folder")
		case err != nil:
			return err
		case n != bytes:
			return wrong("it has %d bytes, the manifest states %d", n, bytes)
		case have != sum:
			return wrong("its sha256 is %s, the manifest states %s", have, sum)
		}
		return nil
	}
	if i.Name != backup.Storage {
		return check(i.File, i.SHA256, i.Bytes)
	}
	for _, f := range i.Files {
		if err := check(path.Join(i.File, f.At()), f.SHA256, f.Bytes); err != nil {
			return err
		}
	}
	return nil
}
