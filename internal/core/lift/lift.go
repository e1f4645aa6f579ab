// Package lift takes images and files out of other files: payloads, super
// images, block-list packages, boot images, archives, file systems. It says
// what there is and writes it where it is told to; it opens no file itself.
package lift

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"jarlid/internal/core/ident"
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

// Item is one thing that can be taken out.
type Item struct {
	Name string // a path with slashes, never leading out of a folder
	Size int64  // bytes; -1 when that is only known afterwards
	// Image tells whether it is taken when no item is named.
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
	// Find gives an item by a name that is not listed: a path in a file system.
	Find func(name string) (Item, error)
}

// Options say where further files are found and how far to go.
type Options struct {
	// MaxSize bounds what a compressed stream may unpack to, in bytes.
	MaxSize int64
	// Sibling opens another file of the same folder; may be nil.
	Sibling func(name string) (io.ReaderAt, int64, error)
}

// DefaultMaxSize is the bound when none is given, in bytes.
const DefaultMaxSize = 64 << 30

// ErrNothing says that there is nothing to take out.
var ErrNothing = errors.New("there is nothing in it that could be taken out")

// TooLargeError says that a stream unpacked to more than was allowed.
type TooLargeError struct{ Limit int64 }

// Error states the limit.
func (e *TooLargeError) Error() string {
	return fmt.Sprintf("what is inside is larger than the limit of %d bytes; --max-size raises it", e.Limit)
}

// Open lists what is in the size bytes of r, a file called name.
func Open(r io.ReaderAt, size int64, name string, o Options) (*Source, error) {
	if o.MaxSize <= 0 {
		o.MaxSize = DefaultMaxSize
	}
	f := ident.Identify(r, size, name, ident.Options{})
	s := &Source{File: f}
	l := &lister{r: r, size: size, s: s, o: o}
	var err error
	switch {
	case len(f.Wrapped) > 0 && f.Kind != ident.OTAAB:
		err = l.wrapped(f.Wrapped[0])
	default:
		err = l.plain()
	}
	if err != nil {
		return nil, err
	}
	if len(s.Items) == 0 && s.Find == nil {
		return nil, ErrNothing
	}
	for i := range s.Items {
		if s.Items[i].Name, err = safe(s.Items[i].Name); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// UnsafeNameError says that an archive names a file outside its folder.
type UnsafeNameError struct{ Name string }

// Error names it.
func (e *UnsafeNameError) Error() string {
	return fmt.Sprintf("the archive holds a file named %q, which would be written outside the folder: nothing is taken out of it", e.Name)
}

// safe makes a name from an archive one that stays in its folder.
func safe(name string) (string, error) {
	n := strings.ReplaceAll(name, `\`, "/")
	clean := path.Clean("/" + n)[1:]
	if strings.HasPrefix(n, "/") || clean == "" || strings.Contains(n, "\x00") || len(n) > 2 && n[1] == ':' && n[2] == '/' || path.Clean(n) != clean {
		return "", &UnsafeNameError{name}
	}
	return clean, nil
}

// Pick gives the items that are named, or all images when none is. A name may
// be a pattern.
func (s *Source) Pick(names []string) ([]Item, error) {
	var out []Item
	if len(names) == 0 {
		for _, it := range s.Items {
			if it.Image {
				out = append(out, it)
			}
		}
		if len(out) == 0 && len(s.Items) > 0 {
			out = s.Items
		}
		if len(out) == 0 {
			return nil, fmt.Errorf("name the files to take out of it by their path")
		}
		return out, nil
	}
	for _, n := range names {
		found := false
		for _, it := range s.Items {
			base := strings.TrimSuffix(it.Name, ".img")
			ok, _ := path.Match(n, it.Name)
			if ok || n == it.Name || n == base || n == path.Base(it.Name) {
				out = append(out, it)
				found = true
			}
		}
		if !found && s.Find != nil {
			it, err := s.Find(n)
			if err != nil {
				return nil, err
			}
			if it.Name, err = safe(it.Name); err != nil {
				return nil, err
			}
			out = append(out, it)
			found = true
		}
		if !found {
			return nil, fmt.Errorf("there is no %q in it; there is: %s", n, s.names())
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
	return strings.Join(list, ", ")
}

// stream makes an item's Write of a reader that is opened anew. limit bounds
// what comes out; size is -1 when it is not known.
func stream(open func() (io.ReadCloser, error), size, limit int64) func(context.Context, Out, func(int64)) ([]byte, error) {
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
	return stream(func() (io.ReadCloser, error) { return io.NopCloser(io.NewSectionReader(r, off, n)), nil }, n, n)
}
