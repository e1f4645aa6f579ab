// Package tree makes an fs.FS of a file system image: it walks paths, follows
// links within the image, and lists folders, over what a format's reader gives.
package tree

import (
	"errors"
	"io"
	"io/fs"
	"path"
	"sort"
	"strings"
	"time"
)

// Node is one file or folder as a format's reader knows it.
type Node interface {
	// Mode gives type and permissions.
	Mode() fs.FileMode
	Size() int64
	ModTime() time.Time
}

// Meta is what formats of Unix keep of a file alike. It implements Node.
type Meta struct {
	Bits    uint16 // type and permissions, as in stat(2)
	Bytes   int64  // of its contents
	Seconds int64  // since 1970, when the contents changed last
}

// Mode implements Node.
func (m *Meta) Mode() fs.FileMode { return UnixMode(m.Bits) }

// Size implements Node.
func (m *Meta) Size() int64 { return m.Bytes }

// ModTime implements Node.
func (m *Meta) ModTime() time.Time { return time.Unix(m.Seconds, 0).UTC() }

// IsDir reports whether it is a folder.
func (m *Meta) IsDir() bool { return m.Mode().IsDir() }

// ReadAt does what io.ReaderAt has to, for contents of size bytes of which read gives at least one at a time.
func ReadAt(p []byte, off, size int64, read func(p []byte, off int64) (int, error)) (int, error) {
	if off < 0 || off >= size {
		return 0, io.EOF
	}
	rest := p[:min(int64(len(p)), size-off)]
	done := 0
	for done < len(rest) {
		n, err := read(rest[done:], off+int64(done))
		done += n
		if err != nil {
			return done, err
		}
	}
	if done < len(p) {
		return done, io.EOF
	}
	return done, nil
}

// Whole reads contents of size bytes.
func Whole(r io.ReaderAt, size int64) ([]byte, error) {
	b := make([]byte, size)
	if _, err := r.ReadAt(b, 0); err != nil && err != io.EOF {
		return nil, err
	}
	return b, nil
}

// Listed reports whether a folder's entry is one that is listed: not itself, not its parent, and no path.
func Listed(name string) bool {
	return name != "." && name != ".." && name != "" && !strings.Contains(name, "/")
}

// Source is a format's reader.
type Source interface {
	Root() (Node, error)
	// Entries calls each for a folder's entries, without "." and "..", until
	// it gives false.
	Entries(dir Node, each func(name string, node func() (Node, error)) bool) error
	// Target gives a link's target.
	Target(link Node) (string, error)
	// Data gives a regular file's contents.
	Data(file Node) (io.ReaderAt, error)
}

// FS is a tree. It implements fs.FS, fs.ReadDirFS, fs.StatFS and
// fs.ReadLinkFS; paths are resolved inside it, absolute links too.
type FS struct{ Source }

const (
	maxLinks   = 40 // as in Linux (MAXSYMLINKS)
	maxParts   = 4096
	maxEntries = 1 << 20
)

// ErrLoop says that links lead in a circle.
var ErrLoop = errors.New("links lead in a loop")

// Find resolves a path; follow says whether a link at its end is followed.
func (f FS) Find(name string, follow bool) (Node, error) {
	if !fs.ValidPath(name) {
		return nil, fs.ErrInvalid
	}
	root, err := f.Root()
	if err != nil {
		return nil, err
	}
	stack := []Node{root}
	parts := strings.Split(name, "/")
	for links := 0; len(parts) > 0; {
		p := parts[0]
		parts = parts[1:]
		cur := stack[len(stack)-1]
		switch p {
		case "", ".":
			continue
		case "..":
			if len(stack) > 1 {
				stack = stack[:len(stack)-1]
			}
			continue
		}
		if !cur.Mode().IsDir() {
			return nil, fs.ErrNotExist
		}
		next, err := f.lookup(cur, p)
		if err != nil {
			return nil, err
		}
		if next.Mode().Type() == fs.ModeSymlink && (follow || len(parts) > 0) {
			if links++; links > maxLinks {
				return nil, ErrLoop
			}
			to, err := f.Target(next)
			if err != nil {
				return nil, err
			}
			if strings.HasPrefix(to, "/") {
				stack = stack[:1]
			}
			if parts = append(strings.Split(to, "/"), parts...); len(parts) > maxParts {
				return nil, ErrLoop
			}
			continue
		}
		if stack = append(stack, next); len(stack) > maxParts {
			return nil, ErrLoop
		}
	}
	return stack[len(stack)-1], nil
}

func (f FS) lookup(dir Node, name string) (Node, error) {
	var found func() (Node, error)
	err := f.Entries(dir, func(n string, node func() (Node, error)) bool {
		if n == name {
			found = node
		}
		return found == nil
	})
	if err != nil {
		return nil, err
	}
	if found == nil {
		return nil, fs.ErrNotExist
	}
	return found()
}

// info is a node's fs.FileInfo and fs.DirEntry.
type info struct {
	name string
	Node
}

func (i info) Name() string               { return i.name }
func (i info) IsDir() bool                { return i.Mode().IsDir() }
func (i info) Sys() any                   { return i.Node }
func (i info) Type() fs.FileMode          { return i.Mode().Type() }
func (i info) Info() (fs.FileInfo, error) { return i, nil }

type file struct {
	info
	f    FS
	r    *io.SectionReader
	list []fs.DirEntry
	read bool
}

func (o *file) Stat() (fs.FileInfo, error) { return o.info, nil }
func (o *file) Close() error               { return nil }

func (o *file) fail(op string, err error) error {
	return &fs.PathError{Op: op, Path: o.name, Err: err}
}

func (o *file) Read(p []byte) (int, error) {
	if o.r == nil {
		return 0, o.fail("read", fs.ErrInvalid)
	}
	return o.r.Read(p)
}

func (o *file) ReadAt(p []byte, off int64) (int, error) {
	if o.r == nil {
		return 0, o.fail("read", fs.ErrInvalid)
	}
	return o.r.ReadAt(p, off)
}

func (o *file) Seek(off int64, whence int) (int64, error) {
	if o.r == nil {
		return 0, o.fail("seek", fs.ErrInvalid)
	}
	return o.r.Seek(off, whence)
}

// ReadDir gives the folder's entries sorted by name, n at a time.
func (o *file) ReadDir(n int) ([]fs.DirEntry, error) {
	if !o.read {
		list, err := o.f.list(o.Node)
		if err != nil {
			return nil, o.fail("readdir", err)
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

func (f FS) list(dir Node) ([]fs.DirEntry, error) {
	if !dir.Mode().IsDir() {
		return nil, fs.ErrInvalid
	}
	list := []fs.DirEntry{}
	var inner error
	err := f.Entries(dir, func(name string, node func() (Node, error)) bool {
		var n Node
		if n, inner = node(); inner != nil {
			return false
		}
		list = append(list, info{name, n})
		return len(list) < maxEntries
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
func (f FS) Open(name string) (fs.File, error) {
	n, err := f.Find(name, true)
	o := &file{f: f, info: info{path.Base(name), n}}
	if err == nil && n.Mode().IsRegular() {
		var r io.ReaderAt
		if r, err = f.Data(n); err == nil {
			o.r = io.NewSectionReader(r, 0, n.Size())
		}
	}
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	return o, nil
}

// ReadDir lists a folder.
func (f FS) ReadDir(name string) ([]fs.DirEntry, error) {
	n, err := f.Find(name, true)
	if err == nil {
		var list []fs.DirEntry
		if list, err = f.list(n); err == nil {
			return list, nil
		}
	}
	return nil, &fs.PathError{Op: "readdir", Path: name, Err: err}
}

// Stat follows links.
func (f FS) Stat(name string) (fs.FileInfo, error) { return f.stat(name, true) }

// Lstat does not follow a link at the end.
func (f FS) Lstat(name string) (fs.FileInfo, error) { return f.stat(name, false) }

func (f FS) stat(name string, follow bool) (fs.FileInfo, error) {
	n, err := f.Find(name, follow)
	if err != nil {
		return nil, &fs.PathError{Op: "stat", Path: name, Err: err}
	}
	return info{path.Base(name), n}, nil
}

// ReadLink gives a link's target.
func (f FS) ReadLink(name string) (string, error) {
	n, err := f.Find(name, false)
	if err == nil && n.Mode().Type() != fs.ModeSymlink {
		err = fs.ErrInvalid
	}
	var to string
	if err == nil {
		to, err = f.Target(n)
	}
	if err != nil {
		return "", &fs.PathError{Op: "readlink", Path: name, Err: err}
	}
	return to, nil
}

// UnixMode turns st_mode, as file systems store it, into an fs.FileMode.
func UnixMode(mode uint16) fs.FileMode {
	m := fs.FileMode(mode & 0o777)
	m |= map[uint16]fs.FileMode{0x1000: fs.ModeNamedPipe, 0x2000: fs.ModeDevice | fs.ModeCharDevice,
		0x4000: fs.ModeDir,
		0x6000: fs.ModeDevice, 0xa000: fs.ModeSymlink, 0xc000: fs.ModeSocket}[mode&0xf000]
	for bit, v := range map[uint16]fs.FileMode{0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid,
		0o1000: fs.ModeSticky} {
		if mode&bit != 0 {
			m |= v
		}
	}
	return m
}
