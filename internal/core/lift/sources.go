package lift

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/cpio"
	"jarlid/internal/core/image/filesystem"
	"jarlid/internal/core/image/kernel"
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
	// kinds are the archive's members' kinds by name.
	kinds map[string]ident.Kind
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
	case ident.Ramdisk:
		return l.ramdisk("", 0, l.size)
	case ident.VendorBoot, ident.VendorKernelBoot:
		return l.vendorBoot()
	case ident.Ext4, ident.EROFS:
		tree, err := filesystem.Open(l.r, l.size)
		if err != nil {
			return err
		}
		l.tree(tree)
	case ident.Kernel:
		i, err := kernel.Read(l.r, l.size)
		if err != nil {
			return err
		}
		if i.Config == "" {
			return ErrNothing
		}
		l.add(Item{Name: "config", Size: int64(len(i.Config)) + 1,
			Write: section(strings.NewReader(i.Config+"\n"), 0, int64(len(i.Config))+1)})
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
		if l.o.Spool != nil && l.s.File.IsArchive() {
			return l.through(wrap.Brotli, inside(name))
		}
		l.add(Item{Name: strings.TrimSuffix(name, path.Ext(name)), Size: -1, Image: true,
			Write: stream(func() (io.ReadCloser, error) {
				return wrap.NewFile(wrap.Brotli, io.NewSectionReader(l.r, 0, l.size), 0)
			}, -1, l.o.MaxSize)})
		l.s.Notes = append(l.s.Notes, "brotli carries no digest of its own: compare what comes out with "+
			"one from the source")
		return nil
	}
	if l.o.Spool != nil && (l.s.File.IsArchive() || l.s.File.Kind == ident.Ramdisk) {
		return l.through(wrap.Kind(kind), inside(name))
	}
	it := Item{Name: inside(name), Size: -1, Image: true, Write: stream(func() (io.ReadCloser, error) {
		return wrap.NewFile(wrap.Kind(kind), io.NewSectionReader(l.r, 0, l.size), l.o.MaxMemory)
	}, -1, l.o.MaxSize)}
	// An xz file that was packed in parallel has blocks that need nothing of each other.
	if list, ok := wrap.XzBlocks(l.r, l.size); wrap.Kind(kind) == wrap.Xz && ok {
		it.Size = list[len(list)-1].At + list[len(list)-1].Size
		if len(list) > 1 {
			it.Write = func(ctx context.Context, o Out, moved func(int64)) ([]byte, error) {
				return blocks(ctx, list, o, l.o.MaxSize, l.o.MaxMemory, moved)
			}
		}
	}
	l.add(it)
	return nil
}

// inside is what a compressed file is called without its wrapping.
func inside(name string) string {
	inner := name
	switch ext := strings.ToLower(path.Ext(name)); ext {
	case ".gz", ".xz", ".bz2", ".zst", ".lz4", ".br", ".lzma", ".tgz", ".txz", ".tbz2":
		inner = strings.TrimSuffix(name, path.Ext(name))
		if strings.HasPrefix(ext, ".t") {
			inner += ".tar"
		}
	default:
		inner += ".unwrapped"
	}
	return inner
}

// through extracts a compressed archive to its end, and lists what is in it.
func (l *lister) through(kind wrap.Kind, name string) error {
	z, err := wrap.NewFile(kind, io.NewSectionReader(l.r, 0, l.size), l.o.MaxMemory)
	if err != nil {
		return err
	}
	inner, err := l.spooled(z, name)
	z.Close()
	if err != nil {
		return err
	}
	l.s.closers = append(l.s.closers, inner.Close)
	l.s.Items, l.s.Inner, l.s.Find = inner.Items, inner.Inner, inner.Find
	l.s.Notes = append(l.s.Notes, inner.Notes...)
	return nil
}

// spooled opens what a stream holds.
func (l *lister) spooled(r io.Reader, name string) (*Source, error) {
	at, size, done, err := l.o.Spool(r)
	if err != nil {
		return nil, fmt.Errorf("it can't be unwrapped to its end: %w", err)
	}
	o := l.o
	o.Beside, o.depth = nil, o.depth+1
	s, err := Open(at, size, name, o)
	if err != nil {
		done()
		return nil, err
	}
	s.closers = append(s.closers, done)
	return s, nil
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
		l.add(Item{Name: part.Name + ".img", Size: int64(part.Size), Image: true,
			Write: func(ctx context.Context, o Out, moved func(int64)) ([]byte, error) {
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
	v, pieces, err := l.parts()
	if err != nil {
		return err
	}
	var src io.ReaderAt = pieces
	alone := v == nil
	if alone {
		src = l.r
		if v, err = sparse.NewView(l.r, l.size); err != nil {
			return err
		}
	} else {
		name = l.s.File.Whole()
		l.s.Notes = append(l.s.Notes, fmt.Sprintf("it lies in %d pieces, which are put together",
			len(l.s.File.Pieces)))
	}
	whole := Item{Name: strings.TrimSuffix(name, path.Ext(name)) + ".raw.img", Size: v.Size(), Image: true,
		Write: func(ctx context.Context, o Out, moved func(int64)) ([]byte, error) {
			if alone { // pieces were verified one by one
				if err := sparse.Verify(l.r, l.size); err != nil {
					return nil, err
				}
			}
			if err := o.SetSize(v.Size()); err != nil {
				return nil, err
			}
			return nil, expand(ctx, v, src, o, moved)
		}}
	l.add(whole)
	if l.s.File.Kind != ident.Super {
		return nil
	}
	// A super image wrapped as sparse: its partitions, and the whole by name.
	l.s.Items[0].Image = false
	return l.super(v, v.Size())
}

// wanted reports whether an archive's member is an image.
func (l *lister) wanted(name string) bool {
	if l.kinds == nil {
		l.kinds = map[string]ident.Kind{}
		for _, m := range l.s.File.Members {
			l.kinds[m.Name] = m.Kind
		}
	}
	switch l.kinds[name] {
	case "", ident.Unknown, ident.Text, ident.Sums, ident.Archive, ident.Images, ident.FirmwareSet,
		ident.BlockList:
		return strings.HasSuffix(strings.ToLower(name), ".img")
	}
	return true
}

// member adds what is in an archive, and remembers it when it is an archive itself.
func (l *lister) member(it Item, open func() (io.ReadCloser, error)) {
	it.Image = l.wanted(it.Name)
	l.add(it)
	if it.Image || l.o.Spool == nil || !archiveName(it.Name) {
		return
	}
	l.s.Inner = append(l.s.Inner, Inner{Name: it.Name, open: func() (*Source, error) {
		r, err := open()
		if err != nil {
			return nil, err
		}
		defer r.Close()
		return l.spooled(r, path.Base(it.Name))
	}})
}

// archiveName tells by its name whether a member may hold others.
func archiveName(name string) bool {
	n := strings.ToLower(name)
	for _, end := range []string{".zip", ".7z", ".tar", ".tgz", ".txz", ".tbz2", ".tar.gz", ".tar.xz",
		".tar.zst", ".tar.bz2", ".tar.lz4", ".tar.br", ".tar.lzma", ".tar.md5"} {
		if strings.HasSuffix(n, end) {
			return true
		}
	}
	return false
}

func (l *lister) zip() error {
	z, err := zip.NewReader(l.r, l.size)
	if err != nil {
		return &image.Error{Format: "zip archive", Offset: -1, What: "its table of contents can't be read",
			Err: err}
	}
	if err := ident.Overlap(z); err != nil {
		return err
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
		open := ident.OpenZip(m)
		l.member(Item{Name: m.Name, Size: n, Write: stream(open, n, min(n, l.o.MaxSize))}, open)
	}
	return nil
}

func (l *lister) sevenZip() error {
	z, err := ident.OpenSevenZip(l.r, l.size)
	if err != nil {
		return err
	}
	for _, m := range z.File {
		if !m.FileInfo().Mode().IsRegular() {
			continue
		}
		n := int64(min(m.UncompressedSize, 1<<62))
		open := ident.OpenSevenZipMember(m)
		l.member(Item{Name: m.Name, Size: n, Write: stream(open, n, min(n, l.o.MaxSize))}, open)
	}
	return nil
}

func (l *lister) tar() error {
	return ident.EachTarMember(l.r, l.size, func(m ident.TarMember) error {
		if !m.File {
			l.s.Notes = append(l.s.Notes, m.Name+" is "+m.Kind+" and is left out")
			return nil
		}
		l.member(Item{Name: m.Name, Size: m.Size, Write: stream(m.Open, m.Size, min(m.Size, l.o.MaxSize))},
			m.Open)
		return nil
	})
}

// blocks lists a block-list package's images: those its lists make, and those that are beside the
// lists.
func (l *lister) blocks() error {
	z, err := zip.NewReader(l.r, l.size)
	if err != nil {
		return err
	}
	open := map[string]func() (io.ReadCloser, error){}
	for _, m := range z.File {
		open[m.Name] = ident.OpenZip(m)
	}
	for _, m := range z.File {
		dir, file := path.Split(m.Name)
		if base, ok := strings.CutSuffix(file, ".transfer.list"); ok {
			if err := l.list(base, dir, open); err != nil {
				return err
			}
		}
	}
	made := len(l.s.Items)
	if err := l.zip(); err != nil {
		return err
	}
	wanted := l.s.Items[made:]
	l.s.Items = l.s.Items[:made:made]
	for _, it := range wanted {
		if it.Image && ident.ListBase(it.Name) == "" {
			l.add(it)
		}
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
	open := func() *boot.Initramfs {
		return boot.NewInitramfs(io.NewSectionReader(l.r, off, size), boot.MaxRamdisk)
	}
	if size == 0 {
		return nil
	}
	c := open()
	defer c.Close()
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
		l.add(Item{Name: path.Join(prefix, name), Size: int64(h.Size),
			Write: stream(func() (io.ReadCloser, error) {
				c := open()
				for range nth + 1 {
					if _, err := c.Next(); err != nil {
						c.Close()
						return nil, err
					}
				}
				return c, nil
			}, int64(h.Size), int64(h.Size))})
	}
}

// tree gives the files of a file system by their paths, and folders with all that is in them.
func (l *lister) tree(v fs.FS) {
	one := func(p string, size int64) Item {
		return Item{Name: p, Size: size, Write: stream(func() (io.ReadCloser, error) {
			return v.Open(p)
		}, size, size)}
	}
	l.s.Tree = v
	l.s.Find = func(name string) ([]Item, error) {
		p := path.Clean("./" + strings.Trim(strings.ReplaceAll(name, `\`, "/"), "/"))
		st, err := fs.Stat(v, p)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("there is no %q in the file system; --list shows what there is", name)
		}
		if err != nil {
			return nil, err
		}
		if st.Mode().IsRegular() {
			return []Item{one(p, st.Size())}, nil
		}
		if !st.IsDir() {
			return nil, fmt.Errorf("%q is neither a file nor a folder", name)
		}
		var out []Item
		links := 0
		err = fs.WalkDir(v, p, func(p string, d fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			switch {
			case d.Type().IsRegular():
				st, err := d.Info()
				if err != nil {
					return err
				}
				out = append(out, one(p, st.Size()))
			case !d.IsDir():
				links++
			}
			return nil
		})
		if err == nil && len(out) == 0 {
			err = fmt.Errorf("there is no file in %q", name)
		}
		if links > 0 {
			l.s.Notes = append(l.s.Notes, fmt.Sprintf("links and devices in %s that are left out: %d", p,
				links))
		}
		return out, err
	}
}
