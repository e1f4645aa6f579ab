package fit

import (
	"errors"
	"io"
	"io/fs"

	"jarlid/internal/core/image/erofs"
	"jarlid/internal/core/image/ext4"
)

// ErrNoFileSystem says that an image holds none of the file systems that are read.
var ErrNoFileSystem = errors.New("it holds no ext4 or EROFS file system")

// Tree opens the file system of an image. Errors: ErrNoFileSystem; *image.Error for a
// damaged one, or one whose form is not read.
func Tree(r io.ReaderAt, size int64) (fs.FS, error) {
	head := make([]byte, min(size, 4096))
	if _, err := r.ReadAt(head, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	switch {
	case ext4.IsMagic(head):
		return ext4.New(r, size)
	case erofs.IsMagic(head):
		return erofs.New(r, size)
	}
	return nil, ErrNoFileSystem
}
