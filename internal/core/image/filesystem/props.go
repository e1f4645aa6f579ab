package filesystem

import (
	"io"
	"io/fs"
	"path"
	"strings"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/boot"
)

// MaxSmall is the size up to which ReadSmall reads a file, in bytes.
const MaxSmall = 1 << 20

// ReadSmall reads a file of at most MaxSmall bytes; a larger one, and a
// folder, gives an *image.Error.
func ReadSmall(tree fs.FS, name string) ([]byte, error) {
	f, err := tree.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if st.IsDir() || st.Size() > MaxSmall {
		return nil, image.Errorf(name, -1, "it is no file of up to %d bytes", MaxSmall)
	}
	b := make([]byte, st.Size())
	_, err = io.ReadFull(f, b)
	return b, err
}

// Props reads a property file out of tree and the files it imports. mounts
// are the trees of partitions by their mount points without the slash, that of
// the file among them where tree is not the root. An import from a partition
// that is not there is left out.
func Props(tree fs.FS, name string, mounts map[string]fs.FS) (map[string]string, error) {
	first := true
	return boot.ReadProps(name, func(name string) ([]byte, error) {
		if first {
			first = false
			return ReadSmall(tree, name)
		}
		name = strings.TrimPrefix(path.Clean("/"+name), "/")
		at, rest, _ := strings.Cut(name, "/")
		if on := mounts[at]; on != nil {
			return ReadSmall(on, rest)
		}
		// A partition that a phone does not have is a folder of another one: "/odm" of the vendor's.
		return ReadSmall(tree, name)
	})
}
