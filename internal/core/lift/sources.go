package lift

import (
	"archive/tar"
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"github.com/andybalholm/brotli"
	"github.com/bodgit/sevenzip"

	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/blocklist"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/cpio"
	"jarlid/internal/core/image/erofs"
	"jarlid/internal/core/image/ext4"
	"jarlid/internal/core/image/payload"
	"jarlid/internal/core/image/sparse"
	"jarlid/internal/core/image/super"
	"jarlid/internal/core/image/wrap"
)

type lister struct {
	r    io.ReaderAt
	size int64
	s    *Source
	o    Options
}

func (l *lister) add(it Item) { l.s.Items = append(l.s.Items, it) }

// plain lists what is in a file that is not wrapped.
func (l *lister) plain() error {
	switch f := l.s.File; f.Kind {
	case ident.Payload, ident.OTAAB:
		if f.Payload == nil || f.Short {
			return fmt.Errorf("%s", f.Damage)
		}
		r := l.r
		if f.Package != nil {
			r = io.NewSectionReader(l.r, f.Package.PayloadOffset, f.Package.PayloadSize)
		}
		return l.payload(f.Payload, r)
	case ident.Super:
		return l.super(l.r, l.size)
	case ident.OTABlock:
		return l.blocks()
	case ident.Addon, ident.App:
		return l.zip()
	case ident.Boot, ident.BootWithRecovery, ident.Recovery, ident.InitBoot:
		return l.boot()
	case ident.VendorBoot, ident.VendorKernelBoot:
		return l.vendorBoot()
	case ident.Ext4:
		v, err := ext4.New(l.r, l.size)
		if err != nil {
			return err
		}
		l.tree(v)
	case ident.EROFS:
		v, err := erofs.New(l.r, l.size)
		if err != nil {
			return err
		}
		l.tree(v)
	default:
		if f.Damage != "" {
			return fmt.Errorf("%s", f.Damage)
		}
		return ErrNothing
	}
	return nil
}

// wrapped lists what is behind the outermost wrapping.
func (l *lister) wrapped(kind string) error {
	name := path.Base(strings.ReplaceAll(l.s.File.Path, `\`, "/"))
	switch kind {
	case "zip":
		return l.zip()
	case "7z":
		return l.sevenZip()
	case "tar":
		return l.tar()
	case "sparse":
		return l.sparse(name)
	case "br":
		l.add(Item{Name: strings.TrimSuffix(name, path.Ext(name)), Size: -1, Image: true, Write: stream(func() (io.ReadCloser, error) {
			return io.NopCloser(brotli.NewReader(io.NewSectionReader(l.r, 0, l.size))), nil
		}, -1, l.o.MaxSize)})
		l.s.Notes = append(l.s.Notes, "brotli carries no digest of its own: compare what comes out with one from the source")
		return nil
	}
	inner := name
	switch ext := strings.ToLower(path.Ext(name)); ext {
	case ".gz", ".xz", ".bz2", ".zst", ".lz4", ".tgz", ".txz", ".tbz2":
		inner = strings.TrimSuffix(name, path.Ext(name))
		if strings.HasPrefix(ext, ".t") {
			inner += ".tar"
		}
	default:
		inner += ".unwrapped"
	}
	l.add(Item{Name: inner, Size: -1, Image: true, Write: stream(func() (io.ReadCloser, error) {
		return wrap.NewFile(wrap.Kind(kind), io.NewSectionReader(l.r, 0, l.size))
	}, -1, l.o.MaxSize)})
	return nil
}

func (l *lister) payload(p *payload.Payload, r io.ReaderAt) error {
	for i := range p.Partitions {
		part := &p.Partitions[i]
		if part.Delta() {
			for _, op := range part.Ops {
				if !op.Type.Full() {
					return &payload.DeltaError{Partition: part.Name, Op: op.Type}
				}
			}
		}
		l.add(Item{Name: part.Name + ".img", Size: int64(part.Size), Image: true, Write: func(ctx context.Context, o Out, moved func(int64)) ([]byte, error) {
			return partition(ctx, p, part, r, o, moved)
		}})
	}
	return nil
}

func (l *lister) super(r io.ReaderAt, size int64) error {
	seen := map[string]bool{}
	m, err := super.Parse(r, size, 0)
	if err != nil {
		return err
	}
	if m.Backup {
		l.s.Notes = append(l.s.Notes, "the primary metadata is damaged; the backup was read")
	}
	for slot := range m.SlotCount {
		if slot > 0 {
			if m, err = super.Parse(r, size, slot); err != nil {
				continue // a slot that was never written
			}
		}
		for i := range m.Partitions {
			p := &m.Partitions[i]
			if seen[p.Name] || p.Size() == 0 {
				continue
			}
			seen[p.Name] = true
			sr, err := m.Open(r, size, p)
			if err != nil {
				return fmt.Errorf("%s: %w", p.Name, err)
			}
			l.add(Item{Name: p.Name + ".img", Size: p.Size(), Image: true, Write: section(sr, 0, p.Size())})
		}
	}
	return nil
}

func (l *lister) sparse(name string) error {
	if done, err := l.parts(name); done || err != nil {
		return err
	}
	v, err := sparse.NewView(l.r, l.size)
	if err != nil {
		return err
	}
	base := strings.TrimSuffix(name, path.Ext(name))
	whole := Item{Name: base + ".raw.img", Size: v.Size(), Image: true, Write: func(ctx context.Context, o Out, moved func(int64)) ([]byte, error) {
		if err := sparse.Verify(l.r, l.size); err != nil {
			return nil, err
		}
		if err := o.SetSize(v.Size()); err != nil {
			return nil, err
		}
		return nil, expand(ctx, v, l.r, o, moved)
	}}
	l.add(whole)
	if l.s.File.Kind != ident.Super {
		return nil
	}
	// A super image wrapped as sparse: its partitions, and the whole by name.
	l.s.Items[0].Image = false
	return l.super(v, v.Size())
}

// wanted tells whether an archive's member is an image.
func (l *lister) wanted(name string) bool {
	for _, m := range l.s.File.Members {
		if m.Name == name {
			switch m.Kind {
			case ident.Unknown, ident.Text, ident.Sums, ident.Archive:
			default:
				return true
			}
		}
	}
	return strings.HasSuffix(strings.ToLower(name), ".img")
}

func (l *lister) zip() error {
	z, err := zip.NewReader(l.r, l.size)
	if err != nil {
		return &image.Error{Format: "zip archive", Offset: -1, What: "its table of contents can't be read", Err: err}
	}
	for _, m := range z.File {
		if m.FileInfo().IsDir() {
			continue
		}
		if !m.Mode().IsRegular() {
			l.s.Notes = append(l.s.Notes, m.Name+" is a link and is left out")
			continue
		}
		n := int64(min(m.UncompressedSize64, 1<<62))
		l.add(Item{Name: m.Name, Size: n, Image: l.wanted(m.Name), Write: stream(m.Open, n, min(n, l.o.MaxSize))})
	}
	return nil
}

func (l *lister) sevenZip() error {
	z, err := sevenzip.NewReader(l.r, l.size)
	if err != nil {
		return &image.Error{Format: "7z archive", Offset: -1, What: "its table of contents can't be read", Err: err}
	}
	for _, m := range z.File {
		if !m.FileInfo().Mode().IsRegular() {
			continue
		}
		n := int64(min(m.UncompressedSize, 1<<62))
		l.add(Item{Name: m.Name, Size: n, Image: l.wanted(m.Name), Write: stream(m.Open, n, min(n, l.o.MaxSize))})
	}
	return nil
}

func (l *lister) tar() error {
	src := io.NewSectionReader(l.r, 0, l.size)
	t := tar.NewReader(src)
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return &image.Error{Format: "tar archive", Offset: -1, What: "it ends within a member or is damaged", Short: true, Err: err}
		}
		switch h.Typeflag {
		case tar.TypeReg:
			at, err := src.Seek(0, io.SeekCurrent)
			if err != nil {
				return err
			}
			l.add(Item{Name: h.Name, Size: h.Size, Image: l.wanted(h.Name), Write: section(l.r, at, h.Size)})
		case tar.TypeSymlink, tar.TypeLink:
			l.s.Notes = append(l.s.Notes, h.Name+" is a link and is left out")
		}
	}
}

// blocks lists a block-list package's partitions.
func (l *lister) blocks() error {
	z, err := zip.NewReader(l.r, l.size)
	if err != nil {
		return err
	}
	files := map[string]*zip.File{}
	for _, m := range z.File {
		files[m.Name] = m
	}
	for name, m := range files {
		base, ok := strings.CutSuffix(name, ".transfer.list")
		if !ok {
			continue
		}
		r, err := m.Open()
		if err != nil {
			return err
		}
		list, err := blocklist.Parse(r)
		r.Close()
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		open, err := blockData(files, base)
		if err != nil {
			return err
		}
		size := list.Blocks * blocklist.BlockSize
		l.add(Item{Name: path.Base(base) + ".img", Size: size, Image: true, Write: func(ctx context.Context, o Out, moved func(int64)) ([]byte, error) {
			d, err := open()
			if err != nil {
				return nil, err
			}
			defer d.Close()
			if err := o.SetSize(size); err != nil {
				return nil, err
			}
			return nil, list.Apply(o, &counting{ctx: ctx, r: d, moved: moved})
		}})
	}
	return nil
}

type counting struct {
	ctx   context.Context
	r     io.Reader
	n     int64
	moved func(int64)
}

func (c *counting) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := c.r.Read(p)
	c.n += int64(n)
	c.moved(c.n)
	return n, err
}

// blockData finds a list's data: whole, as brotli, or split into numbered
// pieces.
func blockData(files map[string]*zip.File, base string) (func() (io.ReadCloser, error), error) {
	if m := files[base+".new.dat"]; m != nil {
		return m.Open, nil
	}
	if m := files[base+".new.dat.br"]; m != nil {
		return func() (io.ReadCloser, error) {
			r, err := m.Open()
			if err != nil {
				return nil, err
			}
			return struct {
				io.Reader
				io.Closer
			}{brotli.NewReader(r), r}, nil
		}, nil
	}
	first := 0
	if files[base+".new.dat.0"] == nil {
		first = 1
	}
	var parts []*zip.File
	for i := first; files[fmt.Sprintf("%s.new.dat.%d", base, i)] != nil; i++ {
		parts = append(parts, files[fmt.Sprintf("%s.new.dat.%d", base, i)])
	}
	if len(parts) == 0 {
		return nil, fmt.Errorf("the data of %s (%s.new.dat) is not in the package", base, base)
	}
	return func() (io.ReadCloser, error) { return &joined{parts: parts}, nil }, nil
}

// joined reads zip members one behind the other.
type joined struct {
	parts []*zip.File
	cur   io.ReadCloser
}

func (j *joined) Read(p []byte) (int, error) {
	for {
		if j.cur == nil {
			if len(j.parts) == 0 {
				return 0, io.EOF
			}
			var err error
			if j.cur, err = j.parts[0].Open(); err != nil {
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

func (j *joined) Close() error {
	if j.cur != nil {
		return j.cur.Close()
	}
	return nil
}

func (l *lister) boot() error {
	m, err := boot.Parse(l.r, l.size)
	if err != nil {
		return err
	}
	for _, s := range m.Sections {
		l.add(Item{Name: s.Name, Size: s.Size, Image: true, Write: section(l.r, s.Offset, s.Size)})
		if s.Name == "ramdisk" {
			if err := l.ramdisk("ramdisk.files", s.Offset, s.Size); err != nil {
				return err
			}
		}
	}
	return nil
}

func (l *lister) vendorBoot() error {
	m, err := boot.ParseVendor(l.r, l.size)
	if err != nil {
		return err
	}
	for _, s := range m.Sections {
		if s.Name != "vendor_ramdisk" {
			l.add(Item{Name: s.Name, Size: s.Size, Image: true, Write: section(l.r, s.Offset, s.Size)})
		}
	}
	for i, f := range m.Fragments {
		name := f.Name
		if name == "" {
			name = fmt.Sprintf("%d", i)
		}
		l.add(Item{Name: "ramdisk-" + name, Size: f.Size, Image: true, Write: section(l.r, f.Offset, f.Size)})
		if err := l.ramdisk("ramdisk-"+name+".files", f.Offset, f.Size); err != nil {
			return err
		}
	}
	return nil
}

// ramdisk lists the files in a ramdisk; they are taken out only by name.
func (l *lister) ramdisk(prefix string, off, size int64) error {
	open := func() (*cpio.Reader, io.Closer, error) {
		head := make([]byte, 8)
		n, _ := l.r.ReadAt(head, off)
		z, err := wrap.NewReader(wrap.Detect(head[:n]), io.NewSectionReader(l.r, off, size))
		if err != nil {
			return nil, nil, err
		}
		return cpio.NewReader(z, boot.MaxRamdisk), z, nil
	}
	if size == 0 {
		return nil
	}
	c, closer, err := open()
	if err != nil {
		return err
	}
	defer closer.Close()
	for i := 0; ; i++ {
		h, err := c.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			l.s.Notes = append(l.s.Notes, prefix+": "+err.Error())
			return nil
		}
		if h.Mode&cpio.TypeMask != cpio.TypeFile {
			continue
		}
		// Names in a ramdisk may begin with a slash or a dot; what leads out of
		// it is refused.
		name := strings.TrimPrefix(strings.TrimPrefix(h.Name, "/"), "./")
		if _, err := safe(name); err != nil {
			return err
		}
		nth := i
		l.add(Item{Name: prefix + "/" + name, Size: int64(h.Size), Write: stream(func() (io.ReadCloser, error) {
			c, closer, err := open()
			if err != nil {
				return nil, err
			}
			for range nth + 1 {
				if _, err := c.Next(); err != nil {
					closer.Close()
					return nil, err
				}
			}
			return struct {
				io.Reader
				io.Closer
			}{c, closer}, nil
		}, int64(h.Size), int64(h.Size))})
	}
}

// tree gives single files of a file system by their path.
func (l *lister) tree(v fs.FS) {
	l.s.Find = func(name string) (Item, error) {
		p := path.Clean(strings.TrimPrefix(name, "/"))
		st, err := fs.Stat(v, p)
		if err != nil {
			return Item{}, fmt.Errorf("there is no %q in the file system (%w)", name, err)
		}
		if !st.Mode().IsRegular() {
			return Item{}, fmt.Errorf("%q is not a file", name)
		}
		return Item{Name: p, Size: st.Size(), Write: stream(func() (io.ReadCloser, error) { return v.Open(p) }, st.Size(), st.Size())}, nil
	}
}
