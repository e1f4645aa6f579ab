package ext4

import (
	"encoding/binary"
	"io"
	"io/fs"
	"path"
	"sort"
	"strings"
	"time"

	"jarlid/internal/core/image"
)

const (
	maxLinks = 40 // as in Linux (MAXSYMLINKS)
	maxPath  = 4096
	maxDir   = 64 << 20 // bytes of one folder's entries
)

// find resolves a path; follow says whether a link at its end is followed.
// Links, absolute ones too, stay within the file system.
func (f *FS) find(name string, follow bool) (*inode, error) {
	if !fs.ValidPath(name) {
		return nil, fs.ErrInvalid
	}
	links := 0
	return f.walk(rootInode, name, follow, &links)
}

func (f *FS) walk(start uint32, name string, follow bool, links *int) (*inode, error) {
	stack := []uint32{rootInode}
	if start != rootInode {
		stack = append(stack, start)
	}
	parts := strings.Split(name, "/")
	cur, err := f.inode(stack[len(stack)-1])
	if err != nil {
		return nil, err
	}
	for len(parts) > 0 {
		p := parts[0]
		parts = parts[1:]
		switch p {
		case "", ".":
			continue
		case "..":
			if len(stack) > 1 {
				stack = stack[:len(stack)-1]
			}
			if cur, err = f.inode(stack[len(stack)-1]); err != nil {
				return nil, err
			}
			continue
		}
		if !cur.isDir() {
			return nil, fs.ErrNotExist
		}
		num, err := f.lookup(cur, p)
		if err != nil {
			return nil, err
		}
		next, err := f.inode(num)
		if err != nil {
			return nil, err
		}
		if next.mode&typeMask == typeLink && (follow || len(parts) > 0) {
			if *links++; *links > maxLinks {
				return nil, unsupported(next, "is a link in a loop")
			}
			to, err := f.target(next)
			if err != nil {
				return nil, err
			}
			if strings.HasPrefix(to, "/") {
				stack = stack[:1]
				if cur, err = f.inode(rootInode); err != nil {
					return nil, err
				}
			}
			parts = append(strings.Split(to, "/"), parts...)
			continue
		}
		stack = append(stack, num)
		cur = next
	}
	return cur, nil
}

func (f *FS) target(n *inode) (string, error) {
	if n.flags&flagEncrypt != 0 {
		return "", unsupported(n, "is an encrypted link")
	}
	// A short target lies in the inode itself.
	if n.size < 60 && n.flags&(flagExtents|flagInlineData) == 0 {
		return string(n.body[:n.size]), nil
	}
	b, err := f.content(n, maxPath)
	return strings.TrimRight(string(b), "\x00"), err
}

func (f *FS) lookup(dir *inode, name string) (uint32, error) {
	var found uint32
	err := f.entries(dir, func(num uint32, n string) bool {
		if n == name {
			found = num
		}
		return found == 0
	})
	if err != nil {
		return 0, err
	}
	if found == 0 {
		return 0, fs.ErrNotExist
	}
	return found, nil
}

// entries calls each for a folder's entries, without "." and "..", until it
// gives false. Folders are scanned in a line: the hashed index is laid out so
// that it reads as unused entries.
func (f *FS) entries(dir *inode, each func(num uint32, name string) bool) error {
	b, err := f.content(dir, maxDir)
	if err != nil {
		return err
	}
	if dir.flags&flagInlineData != 0 {
		// Inline: the parent's number, entries in the rest of the 60 bytes,
		// then entries in the attribute, a block of their own.
		if len(b) < 4 {
			return nil
		}
		first := b[4:min(60, len(b))]
		if more, err := scan(first, dir, each); err != nil || !more {
			return err
		}
		if len(b) > 60 {
			_, err = scan(b[60:], dir, each)
		}
		return err
	}
	for len(b) > 0 {
		n := min(int(f.BlockSize), len(b))
		if more, err := scan(b[:n], dir, each); err != nil || !more {
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
			return false, image.Errorf(formatName, dir.at, "the folder of inode %d has a damaged entry", dir.num)
		}
		if num != 0 {
			name := string(b[8 : 8+nameLen])
			if name != "." && name != ".." && name != "" && !strings.Contains(name, "/") {
				if !each(num, name) {
					return false, nil
				}
			}
		}
		b = b[recLen:]
	}
	return true, nil
}

// info is a file's fs.FileInfo and fs.DirEntry.
type info struct {
	name string
	n    *inode
}

func (i info) Name() string               { return i.name }
func (i info) Size() int64                { return i.n.size }
func (i info) ModTime() time.Time         { return time.Unix(i.n.mtime, 0).UTC() }
func (i info) IsDir() bool                { return i.n.isDir() }
func (i info) Sys() any                   { return nil }
func (i info) Type() fs.FileMode          { return i.Mode().Type() }
func (i info) Info() (fs.FileInfo, error) { return i, nil }

// Mode gives the permissions and the type.
func (i info) Mode() fs.FileMode {
	m := fs.FileMode(i.n.mode & 0o777)
	switch i.n.mode & typeMask {
	case typeDir:
		m |= fs.ModeDir
	case typeLink:
		m |= fs.ModeSymlink
	case 0x1000:
		m |= fs.ModeNamedPipe
	case 0x2000:
		m |= fs.ModeDevice | fs.ModeCharDevice
	case 0x6000:
		m |= fs.ModeDevice
	case 0xc000:
		m |= fs.ModeSocket
	}
	for bit, mode := range map[uint16]fs.FileMode{0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky} {
		if i.n.mode&bit != 0 {
			m |= mode
		}
	}
	return m
}

type file struct {
	info
	*io.SectionReader
	f    *FS
	list []fs.DirEntry
	read bool
}

func (o *file) Stat() (fs.FileInfo, error) { return o.info, nil }
func (o *file) Close() error               { return nil }
func (o *file) Size() int64                { return o.n.size }

func (o *file) Read(p []byte) (int, error) {
	if o.IsDir() {
		return 0, &fs.PathError{Op: "read", Path: o.name, Err: fs.ErrInvalid}
	}
	return o.SectionReader.Read(p)
}

// ReadDir gives the folder's entries sorted by name, n at a time.
func (o *file) ReadDir(n int) ([]fs.DirEntry, error) {
	if !o.read {
		list, err := o.f.list(o.n)
		if err != nil {
			return nil, &fs.PathError{Op: "readdir", Path: o.name, Err: err}
		}
		o.list, o.read = list, true
	}
	if n <= 0 {
		list := o.list
		o.list = nil
		return list, nil
	}
	if len(o.list) == 0 {
		return nil, io.EOF
	}
	n = min(n, len(o.list))
	list := o.list[:n:n]
	o.list = o.list[n:]
	return list, nil
}

func (f *FS) list(dir *inode) ([]fs.DirEntry, error) {
	if !dir.isDir() {
		return nil, fs.ErrInvalid
	}
	list := []fs.DirEntry{}
	var inner error
	err := f.entries(dir, func(num uint32, name string) bool {
		var n *inode
		n, inner = f.inode(num)
		list = append(list, info{name, n})
		return inner == nil
	})
	if err == nil {
		err = inner
	}
	if err != nil {
		return nil, err
	}
	sort.Slice(list, func(i, j int) bool { return list[i].Name() < list[j].Name() })
	return list, nil
}

// Open opens a file or folder, following links.
func (f *FS) Open(name string) (fs.File, error) {
	n, err := f.find(name, true)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	o := &file{info: info{path.Base(name), n}, f: f}
	if n.mode&typeMask == typeFile {
		d, err := f.data(n)
		if err != nil {
			return nil, &fs.PathError{Op: "open", Path: name, Err: err}
		}
		o.SectionReader = io.NewSectionReader(d, 0, n.size)
	} else {
		o.SectionReader = io.NewSectionReader(strings.NewReader(""), 0, 0)
	}
	return o, nil
}

// ReadDir lists a folder.
func (f *FS) ReadDir(name string) ([]fs.DirEntry, error) {
	n, err := f.find(name, true)
	if err == nil {
		var list []fs.DirEntry
		if list, err = f.list(n); err == nil {
			return list, nil
		}
	}
	return nil, &fs.PathError{Op: "readdir", Path: name, Err: err}
}

// Stat follows links.
func (f *FS) Stat(name string) (fs.FileInfo, error) { return f.stat(name, true) }

// Lstat does not follow a link at the end.
func (f *FS) Lstat(name string) (fs.FileInfo, error) { return f.stat(name, false) }

func (f *FS) stat(name string, follow bool) (fs.FileInfo, error) {
	n, err := f.find(name, follow)
	if err != nil {
		return nil, &fs.PathError{Op: "stat", Path: name, Err: err}
	}
	return info{path.Base(name), n}, nil
}

// ReadLink gives a link's target.
func (f *FS) ReadLink(name string) (string, error) {
	n, err := f.find(name, false)
	if err == nil && n.mode&typeMask != typeLink {
		err = fs.ErrInvalid
	}
	var to string
	if err == nil {
		to, err = f.target(n)
	}
	if err != nil {
		return "", &fs.PathError{Op: "readlink", Path: name, Err: err}
	}
	return to, nil
}
