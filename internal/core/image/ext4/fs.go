package ext4

import (
	"encoding/binary"
	"io"
	"strings"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/tree"
)

const (
	maxPath = 4096
	maxDir  = 64 << 20 // bytes of one folder's entries
)

// source gives package tree what it needs.
type source struct{ f *FS }

func (s source) Root() (tree.Node, error) { return s.f.inode(rootInode) }

func (s source) Data(n tree.Node) (io.ReaderAt, error) { return s.f.data(n.(*inode)) }

func (s source) Target(link tree.Node) (string, error) {
	n := link.(*inode)
	if n.flags&flagEncrypt != 0 {
		return "", &EncryptedError{n.num}
	}
	// A short target is in the inode itself.
	if n.Bytes < 60 && n.flags&(flagExtents|flagInlineData) == 0 {
		return string(n.body[:n.Bytes]), nil
	}
	b, err := s.f.content(n, maxPath)
	return strings.TrimRight(string(b), "\x00"), err
}

// Entries scans a folder in a line: the hashed index is laid out so that it
// reads as unused entries.
func (s source) Entries(node tree.Node, each func(string, func() (tree.Node, error)) bool) error {
	dir := node.(*inode)
	b, err := s.f.content(dir, maxDir)
	if err != nil {
		return err
	}
	one := func(num uint32, name string) bool {
		return each(name, func() (tree.Node, error) { return s.f.inode(num) })
	}
	if dir.flags&flagInlineData != 0 {
		// Inline: the parent's number, entries in the rest of the 60 bytes,
		// then entries in the attribute, a block of their own.
		if len(b) < 4 {
			return nil
		}
		first := b[4:min(60, len(b))]
		if more, err := scan(first, dir, one); err != nil || !more {
			return err
		}
		if len(b) > 60 {
			_, err = scan(b[60:], dir, one)
		}
		return err
	}
	for len(b) > 0 {
		n := min(int(s.f.BlockSize), len(b))
		if more, err := scan(b[:n], dir, one); err != nil || !more {
			return err
		}
		b = b[n:]
	}
	return nil
}

func scan(b []byte, dir *inode, each func(uint32, string) bool) (bool, error) {
	le := binary.LittleEndian
	for len(b) >= 8 {
		num, recLen, nameLen := le.Uint32(b), int(le.Uint16(b[4:])), int(b[6])
		if recLen == 0xffff || recLen == 0 && len(b) == 1<<16 {
			recLen = 1 << 16 // how a record that fills a 64 KiB block is written
		}
		if recLen < 8 || recLen > len(b) || 8+nameLen > recLen && num != 0 {
			return false, image.Errorf(formatName, dir.at, "the folder of inode %d has a damaged entry",
				dir.num)
		}
		if num != 0 {
			name := string(b[8 : 8+nameLen])
			if tree.Listed(name) {
				if !each(num, name) {
					return false, nil
				}
			}
		}
		b = b[recLen:]
	}
	return true, nil
}
