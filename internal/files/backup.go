package files

import (
	"context"
	"fmt"
	"path"
	"path/filepath"

	"jarlid/internal/core/backup"
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

// ProveBackup gives the first of an item's files that is not as the manifest says.
func ProveBackup(ctx context.Context, dir string, i *backup.Item) error {
	check := func(name, sum string, bytes int64) error {
		have, n, err := DigestOf(ctx, filepath.Join(dir, filepath.FromSlash(name)))
		switch {
		case err != nil:
			return err
		case n != bytes:
			return fmt.Errorf("%s has %d bytes, the manifest says %d", name, n, bytes)
		case have != sum:
			return fmt.Errorf("%s has the digest %s, the manifest says %s", name, have, sum)
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

// SameFile tells whether an item's file is there as the manifest says.
func SameFile(ctx context.Context, dir string, i *backup.Item) bool {
	sum, n, err := DigestOf(ctx, filepath.Join(dir, filepath.FromSlash(i.File)))
	return err == nil && n == i.Bytes && sum == i.SHA256
}
