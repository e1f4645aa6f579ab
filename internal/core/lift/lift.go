// Package lift takes images and files out of other files: payloads, super
// images, block-list packages, boot images, archives, file systems. It says
// what there is and writes it where it is told to; it opens no file itself.
package lift

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
)

// Out is where an item is written to: a new, empty file.
type Out interface {
	io.WriterAt
	io.ReaderAt
	// Zero makes n bytes from off on read as zeros, without storing them where
	// that can be helped.
	Zero(off, n int64) error
	// SetSize sets the length.
	SetSize(n int64) error
}

// Unsummed is an Out for whoever needs no digest of what is written: an item that would have to
// make one for that alone gives none.
type Unsummed struct{ Out }

// Item is one thing that can be taken out.
type Item struct {
	Name string // a path with slashes, never leading out of a folder
	Size int64  // bytes; -1 when that is only known afterwards
	// Image reports whether it is taken when no item is named.
	Image bool
	// Write writes the item. moved is called with bytes written so far. The
	// digest, when it is known on the way, is the SHA-256 of the item.
	Write func(ctx context.Context, o Out, moved func(int64)) (digest []byte, err error)
}

// Source is a file's items.
type Source struct {
	File  *ident.File
	Items []Item
	Notes []string
	// Find gives the items by a name that is not listed: a file or a folder in a file system.
	Find func(name string) ([]Item, error)
	// Tree is the file system, when the file is one; its folders are listed there.
	Tree fs.FS
	// Inner are the archives in it, by their names, which are opened when something in them is wanted.
	Inner []Inner

	o       Options
	closers []func()
}

// Inner is an archive that is in another one. What is in it has its name before it.
type Inner struct {
	Name string
	open func() (*Source, error)
}

// Close lets go of what was extracted on the way.
func (s *Source) Close() {
	for _, c := range s.closers {
		c()
	}
	s.closers = nil
}

// Options say where further files are found and how far to go.
type Options struct {
	// MaxSize bounds what a compressed stream may extract to, MaxMemory what that may take, in bytes;
	// 0: the usual limits.
	MaxSize, MaxMemory int64
	// Beside is what is in the file's folder; may be nil.
	Beside image.Folder
	// Spool keeps a stream somewhere it can be read at any place; nil: archives in compressed files
	// and in others stay as they are.
	Spool func(r io.Reader) (at io.ReaderAt, size int64, done func(), err error)

	depth int
}

// maxDepth is how many archives in archives are opened.
const maxDepth = 4

// DefaultMaxSize is the bound when none is given, in bytes.
const DefaultMaxSize = 64 << 30

// ErrNothing says that there is nothing to take out.
var ErrNothing = errors.New("there is nothing in it that could be taken out")

// TooLargeError says that a stream extracted to more than was allowed.
type TooLargeError struct{ Limit int64 }

// AboutNoDamage marks it as no fault of the file's.
func (e *TooLargeError) AboutNoDamage() {}

// Error states the limit.
func (e *TooLargeError) Error() string {
	return fmt.Sprintf("what is inside is larger than the limit of %d bytes; --max-size raises it", e.Limit)
}

// Open lists what is in the size bytes of r, a file called name.
func Open(r io.ReaderAt, size int64, name string, o Options) (*Source, error) {
	if o.MaxSize <= 0 {
		o.MaxSize = DefaultMaxSize
	}
	f := ident.Identify(r, size, name, ident.Options{Beside: o.Beside, MaxMemory: o.MaxMemory})
	s := &Source{File: f, o: o}
	l := &lister{r: r, size: size, s: s, o: o}
	if err := l.all(); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// all lists what is in the file.
func (l *lister) all() error {
	f, s := l.s.File, l.s
	var err error
	switch {
	case f.Failed != nil:
		err = f.Failed
	case f.Closed != "":
		err = &ident.ClosedError{Why: f.Closed}
	case f.Kind == ident.BlockList:
		err = l.looseList()
	case len(f.Wrapped) > 0:
		err = l.wrapped(f.Wrapped[0])
	default:
		err = l.plain()
	}
	if err != nil {
		return err
	}
	if len(s.Items) == 0 && s.Find == nil && len(s.Inner) == 0 {
		return ErrNothing
	}
	for i := range s.Items {
		if s.Items[i].Name, err = safe(s.Items[i].Name); err != nil {
			return err
		}
	}
	return nil
}

// enter opens one of the archives in it and gives its source; what is in it gets its name before.
func (s *Source) enter(in Inner) ([]Item, error) {
	if s.o.depth >= maxDepth {
		return nil, fmt.Errorf("%s: archives in archives more than %d deep are not opened", in.Name, maxDepth)
	}
	inner, err := in.open()
	if err != nil {
		return nil, fmt.Errorf("%s: %w", in.Name, err)
	}
	s.closers = append(s.closers, inner.Close)
	items, err := inner.Images()
	if err != nil {
		return nil, fmt.Errorf("%s: %w", in.Name, err)
	}
	wanted := map[string]bool{}
	for _, it := range items {
		wanted[it.Name] = true
	}
	var all []Item
	for i, it := range append(items, inner.Items...) {
		if i < len(items) || !wanted[it.Name] {
			it.Image, it.Name = i < len(items), in.Name+"/"+it.Name
			all = append(all, it)
		}
	}
	return all, nil
}

// Images gives the images in it; where there is none, those in the archives that are in it.
func (s *Source) Images() ([]Item, error) {
	var out []Item
	for _, it := range s.Items {
		if it.Image {
			out = append(out, it)
		}
	}
	if len(out) > 0 {
		return out, nil
	}
	for _, in := range s.Inner {
		items, err := s.enter(in)
		if errors.Is(err, ErrNothing) {
			continue
		}
		if err != nil {
			return nil, err
		}
		for _, it := range items {
			if it.Image {
				out = append(out, it)
			}
		}
	}
	return out, nil
}

// UnsafeNameError says that an archive names a file outside its folder.
type UnsafeNameError struct{ Name string }

// Error names it.
func (e *UnsafeNameError) Error() string {
	return fmt.Sprintf("the archive holds a file named %q, which would be written outside the folder: "+
		"nothing is taken out of it", e.Name)
}

// safe makes a name from an archive one that stays in its folder.
func safe(name string) (string, error) {
	n := strings.ReplaceAll(name, `\`, "/")
	clean := path.Clean("/" + n)[1:]
	if strings.HasPrefix(n, "/") || clean == "" || strings.Contains(n, "\x00") || len(n) > 2 && n[1] == ':' &&
		n[2] == '/' || path.Clean(n) != clean {
		return "", &UnsafeNameError{name}
	}
	return clean, nil
}

// Pick gives the items that are named, or all images when none is. A name may
// be a pattern.
func (s *Source) Pick(names []string) ([]Item, error) {
	if len(names) == 0 {
		out, err := s.Images()
		if err != nil {
			s.Notes = append(s.Notes, "an archive in it can't be looked into, so all files are taken as "+
				"they are: "+err.Error())
			out = nil
		}
		if len(out) == 0 && len(s.Items) > 0 {
			out = s.Items
		}
		if len(out) == 0 {
			return nil, fmt.Errorf("name the files to take out of it by their path")
		}
		return out, nil
	}
	// In the order of the file, each once: what is packed in one piece is extracted once, however many
	// of its members are asked for.
	take := map[int]bool{}
	var further []Item
	for _, n := range names {
		found := false
		for i, it := range s.Items {
			if named(n, it.Name) {
				take[i], found = true, true
			}
		}
		if found {
			continue
		}
		items, err := s.deeper(n)
		if err != nil {
			return nil, err
		}
		if len(items) == 0 {
			return nil, fmt.Errorf("there is no %q in it; there is: %s", n, s.names())
		}
		further = append(further, items...)
	}
	var out []Item
	for i, it := range s.Items {
		if take[i] {
			out = append(out, it)
		}
	}
	return append(out, further...), nil
}

// List gives what can be taken: of a file system the files of a folder (names; the root when none
// is named) with what lies below them.
func (s *Source) List(names []string) ([]Item, error) {
	if len(names) > 0 {
		return s.Pick(names)
	}
	if s.Tree != nil {
		return s.Find(".")
	}
	return s.Items, nil
}

// named reports whether a word on the command line means an item: its name, that without .img or
// folders, a pattern, or a folder it is in.
func named(word, name string) bool {
	if word == name || len(word) < len(name) && (word+".img" == name ||
		strings.HasPrefix(name, strings.TrimSuffix(word, "/")+"/") || strings.HasSuffix(name, "/"+word)) {
		return true
	}
	if !strings.ContainsAny(word, `*?[\`) {
		return false
	}
	ok, _ := path.Match(word, name)
	return ok
}

// deeper finds what is not listed: a path in a file system, or in an archive that is in it.
func (s *Source) deeper(name string) ([]Item, error) {
	if s.Find != nil {
		items, err := s.Find(name)
		for i := range items {
			if items[i].Name, err = safe(items[i].Name); err != nil {
				return nil, err
			}
		}
		return items, err
	}
	var out []Item
	for _, in := range s.Inner {
		_, whole := strings.CutPrefix(name, in.Name+"/")
		if !whole && strings.Contains(name, "/") {
			continue
		}
		items, err := s.enter(in)
		if err != nil {
			if whole {
				return nil, err
			}
			continue
		}
		for _, it := range items {
			if named(name, it.Name) {
				out = append(out, it)
			}
		}
	}
	return out, nil
}

func (s *Source) names() string {
	var list []string
	for i, it := range s.Items {
		if i == 40 {
			list = append(list, fmt.Sprintf("and %d more", len(s.Items)-i))
			break
		}
		list = append(list, it.Name)
	}
	for _, in := range s.Inner {
		list = append(list, "what is in "+in.Name)
	}
	return strings.Join(list, ", ")
}

// stream makes an item's Write of a reader that is opened again. limit bounds
// what comes out; size is -1 when it is not known.
func stream(open func() (io.ReadCloser, error), size, limit int64) func(context.Context, Out, func(int64)) (
	[]byte, error) {
	return func(ctx context.Context, o Out, moved func(int64)) ([]byte, error) {
		r, err := open()
		if err != nil {
			return nil, err
		}
		defer r.Close()
		return copyTo(ctx, o, r, size, limit, moved)
	}
}

// section makes an item's Write of a piece of a file.
func section(r io.ReaderAt, off, n int64) func(context.Context, Out, func(int64)) ([]byte, error) {
	return stream(func() (io.ReadCloser, error) {
		return io.NopCloser(io.NewSectionReader(r, off, n)), nil
	}, n, n)
}
