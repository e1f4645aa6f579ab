package erofs

import (
	"bytes"
	"encoding/binary"
	"io"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/tree"
)

const (
	maxPath = 4096
	maxDir  = 64 << 20 // bytes of one folder's entries
)

// source gives package tree what it needs.
type source struct{ f *FS }

func (s source) Root() (tree.Node, error) { return s.f.inode(s.f.RootNID) }

func (s source) Data(n tree.Node) (io.ReaderAt, error) { return s.f.data(n.(*inode)) }

func (s source) Target(n tree.Node) (string, error) {
	b, err := s.f.content(n.(*inode), maxPath)
	return string(b), err
}

func (f *FS) content(n *inode, limit int64) ([]byte, error) {
	if n.Bytes > limit {
		return nil, n.broken("is too large for what it is")
	}
	d, err := f.data(n)
	if err != nil {
		return nil, err
	}
	return tree.Whole(d, n.Bytes)
}

// Entries reads a folder block by block (erofs_dirent): entries first, their
// names behind them.
func (s source) Entries(node tree.Node, each func(string, func() (tree.Node, error)) bool) error {
	dir := node.(*inode)
	b, err := s.f.content(dir, maxDir)
	if err != nil {
		return err
	}
	const entry = 12
	le := binary.LittleEndian
	bad := func() error {
		return image.Errorf(formatName, dir.at, "the folder of inode %d has a damaged entry", dir.nid)
	}
	for len(b) > 0 {
		block := b[:min(int64(len(b)), s.f.BlockSize)]
		b = b[len(block):]
		if len(block) < entry {
			return bad()
		}
		first := int(le.Uint16(block[8:]))
		if first < entry || first > len(block) || first%entry != 0 {
			return bad()
		}
		for at := 0; at < first; at += entry {
			from, to := int(le.Uint16(block[at+8:])), len(block)
			if at+entry < first {
				to = int(le.Uint16(block[at+entry+8:]))
			}
			if from < first || to > len(block) || from > to {
				return bad()
			}
			name := block[from:to]
			if i := bytes.IndexByte(name, 0); i >= 0 {
				name = name[:i]
			}
			nid := le.Uint64(block[at:])
			if n := string(name); tree.Listed(n) {
				if !each(n, func() (tree.Node, error) { return s.f.inode(nid) }) {
					return nil
				}
			}
		}
	}
	return nil
}
