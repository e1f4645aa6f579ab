package lift

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/blocklist"
	"jarlid/internal/core/image/sparse"
	"jarlid/internal/core/image/wrap"
)

// parts gives the view of a sparse image that is in several files of its folder as one; nil
// when it is alone.
func (l *lister) parts() (v *sparse.View, src *image.Concat, err error) {
	if len(l.s.File.Pieces) == 0 {
		return nil, nil, nil
	}
	if l.s.File.Damage != "" {
		return nil, nil, errors.New(l.s.File.Damage)
	}
	return Join(l.o.Beside, l.s.File.Name())
}

// Join puts the sparse image together that the file called name is a piece of, each piece held
// against the sums it states. src is what the view's chunks are in. Errors: *image.Error.
func Join(beside image.Folder, name string) (v *sparse.View, src *image.Concat, err error) {
	_, all, err := ident.Pieces(beside, name)
	if err != nil {
		return nil, nil, err
	}
	for _, p := range all {
		if err := sparse.Verify(p.R, p.Size); err != nil {
			return nil, nil, fmt.Errorf("%s: %w", p.Name, err)
		}
	}
	return sparse.Join(all)
}

// looseList lists the image that a block list and its data in the same folder make.
func (l *lister) looseList() error {
	f := l.s.File
	if f.Damage != "" {
		return errors.New(f.Damage)
	}
	if l.o.Beside == nil {
		return ErrNothing
	}
	names, err := l.o.Beside.Names()
	if err != nil {
		return err
	}
	open := map[string]func() (io.ReadCloser, error){}
	for _, n := range names {
		open[n] = func() (io.ReadCloser, error) {
			r, size, err := l.o.Beside.Open(n)
			if err != nil {
				return nil, err
			}
			return io.NopCloser(io.NewSectionReader(r, 0, size)), nil
		}
	}
	return l.list(ident.ListBase(f.Name()), "", open)
}

// list adds the image of a block list; open has the files of its folder or package, dir is what
// stands before their names there.
func (l *lister) list(base, dir string, open map[string]func() (io.ReadCloser, error)) error {
	name := dir + base + ".transfer.list"
	r, err := open[name]()
	if err != nil {
		return err
	}
	list, err := blocklist.Parse(r)
	r.Close()
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if patch := open[dir+base+".patch.dat"]; patch != nil {
		r, err := patch()
		if err != nil {
			return err
		}
		n, err := io.CopyN(io.Discard, r, 1)
		r.Close()
		if n > 0 || err != nil && !errors.Is(err, io.EOF) {
			l.s.Notes = append(l.s.Notes, base+".patch.dat has patches, and the list uses none of them")
		}
	}
	var names []string
	for n := range open {
		if path.Dir(n) == path.Clean("./"+dir) {
			names = append(names, path.Base(n))
		}
	}
	data, err := ident.DataOf(base, names)
	if err != nil {
		return err
	}
	size := list.Blocks * blocklist.BlockSize
	l.add(Item{Name: base + ".img", Size: size, Image: true, Write: func(ctx context.Context, o Out,
		moved func(int64)) ([]byte, error) {
		var parts []func() (io.ReadCloser, error)
		for _, n := range data {
			parts = append(parts, open[dir+n])
		}
		d := &joined{parts: parts}
		defer func() { _ = d.Close() }()
		src := &counting{ctx: ctx, r: d, moved: moved}
		if strings.HasPrefix(data[0], base+".new.dat.br") {
			z, err := wrap.NewFile(wrap.Brotli, d, 0)
			if err != nil {
				return nil, err
			}
			defer z.Close()
			src.r = z
		}
		if err := o.SetSize(size); err != nil {
			return nil, err
		}
		if err := list.Apply(o, src); err != nil {
			return nil, err
		}
		if n, err := io.CopyN(io.Discard, src, 1); n > 0 {
			return nil, image.Errorf("block data", list.Data,
				"there are more bytes than the list places: list and data are not of one build")
		} else if !errors.Is(err, io.EOF) {
			return nil, fmt.Errorf("%s: %w", strings.Join(data, ", "), err)
		}
		return nil, nil
	}})
	return nil
}

// joined reads files one behind the other.
type joined struct {
	parts []func() (io.ReadCloser, error)
	cur   io.ReadCloser
}

// Read continues in the next file where one ends.
func (j *joined) Read(p []byte) (int, error) {
	for {
		if j.cur == nil {
			if len(j.parts) == 0 {
				return 0, io.EOF
			}
			var err error
			if j.cur, err = j.parts[0](); err != nil {
				return 0, err
			}
			j.parts = j.parts[1:]
		}
		n, err := j.cur.Read(p)
		if errors.Is(err, io.EOF) {
			j.cur.Close()
			j.cur, err = nil, nil
		}
		if n > 0 || err != nil {
			return n, err
		}
	}
}

// Close closes the file that is being read.
func (j *joined) Close() error {
	if j.cur != nil {
		return j.cur.Close()
	}
	return nil
}

// counting tells how far a reader is.
type counting struct {
	ctx   context.Context
	r     io.Reader
	n     int64
	moved func(int64)
}

// Read counts.
func (c *counting) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := c.r.Read(p)
	c.n += int64(n)
	c.moved(c.n)
	return n, err
}
