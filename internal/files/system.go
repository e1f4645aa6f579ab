package files

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/fit"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/filesystem"
	"jarlid/internal/core/image/sparse"
	"jarlid/internal/core/image/super"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/core/place"
)

// OpenImage opens a file that holds an image, sparse or not; done closes it.
func OpenImage(name string) (r io.ReaderAt, size int64, done func(), err error) {
	f, size, err := Open(name)
	if err != nil {
		return nil, 0, nil, err
	}
	done = func() { f.Close() }
	if v, err := sparse.NewView(f, size); err == nil {
		return v, v.Size(), done, nil
	}
	return f, size, done, nil
}

// ReadSystem reads the facts of a system image out of a file. Errors: *image.Error.
func ReadSystem(label, name string) (*fit.Image, error) {
	r, size, done, err := OpenImage(name)
	if err != nil {
		return nil, err
	}
	defer done()
	tree, err := filesystem.Open(r, size)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", label, err)
	}
	im, err := fit.ReadImage(label, tree, size)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", label, err)
	}
	if m, footer, err := vbmeta.Open(r, size); err == nil && footer != nil {
		im.Tree = len(m.Descriptors) > 0
		if len(m.PublicKey) > 0 {
			im.Key = vbmeta.Fingerprint(m.PublicKey)
		}
	}
	return im, nil
}

// NamedAfter gives the partition a file of a set is named after, without a slot.
func NamedAfter(im place.Image) string {
	name := im.Label
	if name == "" {
		name = im.File.Path
	}
	base, _, _ := strings.Cut(filepath.Base(strings.ReplaceAll(name, `\`, "/")), ".")
	return card.Part(base).Base
}

// ByPartition gives the files of a set by the partitions they are named after.
func ByPartition(m *Material) map[string]string {
	paths := map[string]string{}
	for _, i := range m.Images {
		paths[NamedAfter(i)] = i.File.Path
	}
	return paths
}

// ErrNoImage says that there is no image of a partition. It is an fs.ErrNotExist.
var ErrNoImage = fmt.Errorf("there is no image of it: %w", fs.ErrNotExist)

// BootFacts reads the facts of boot, init_boot and the manufacturer's ramdisk in vendor_boot.
func BootFacts(open vbmeta.Source, learn fit.Learn) error {
	generic, gsize, gerr := open("init_boot")
	r, size, err := open("boot")
	if err != nil {
		return err
	}
	if err := fit.Boot(r, size, gerr == nil, learn); err != nil || gerr != nil {
		return err
	}
	m, err := boot.Parse(generic, gsize)
	if err != nil {
		return err
	}
	if err := fit.Ramdisk(func() io.Reader { return m.Open(generic, "ramdisk") }, learn); err != nil {
		return err
	}
	r, size, err = open("vendor_boot")
	if err != nil {
		return nil // its keys stay those of init_boot
	}
	v, err := boot.ParseVendor(r, size)
	if err != nil {
		return err
	}
	for _, f := range v.Fragments {
		if f.Type == boot.FragmentPlatform {
			return fit.Ramdisk(func() io.Reader { return io.NewSectionReader(r, f.Offset, f.Size) }, learn)
		}
	}
	return nil
}

// LearnSuper takes what the metadata of super says of room.
func LearnSuper(m *super.Metadata, learn fit.Learn) {
	for i := range m.Partitions {
		p := &m.Partitions[i]
		learn(card.FactSize.Of(card.Part(p.Name)), fmt.Sprint(p.Size()))
		learn(card.FactLogical.Of(card.Part(p.Name)), "yes")
		for _, g := range m.Groups {
			if g.Name == p.Group && g.MaxSize > 0 {
				learn(card.FactGroupMax, fmt.Sprint(g.MaxSize))
			}
		}
	}
	if len(m.Devices) == 1 {
		learn(card.FactSize.Of(card.At("super", "")), fmt.Sprint(m.Devices[0].Size))
		learn(card.FactSuperFree, fmt.Sprint(m.Free()))
	}
}

// FactsOfFiles reads facts of a phone out of its firmware: vendor and odm, the boot images,
// vbmeta, and the sizes of what is in super. say is told what is damaged.
func FactsOfFiles(m *Material, c *card.Card, say func(what string, err error)) error {
	parts := map[string]func() (io.ReaderAt, int64, error){}
	var closers []func()
	defer func() {
		for _, f := range closers {
			f()
		}
	}()
	learn := func(w card.Which, value string) {
		c.Set(w, card.Fact{Value: value, Source: card.Said, At: time.Now().UTC()})
	}
	for _, im := range m.Images {
		r, size, done, err := OpenImage(im.File.Path)
		if err != nil {
			return err
		}
		closers = append(closers, done)
		if im.File.Kind == ident.Super {
			if err := superFacts(r, size, parts, learn); err != nil {
				return fmt.Errorf("%s: %w", im.File.Path, err)
			}
			continue
		}
		base := NamedAfter(im)
		if len(im.File.GoesTo) > 0 && im.File.GoesTo[0].By != "name" {
			base = im.File.GoesTo[0].Partition
		}
		parts[base] = func() (io.ReaderAt, int64, error) { return r, size, nil }
	}
	open := func(name string) (io.ReaderAt, int64, error) {
		p, ok := parts[name]
		if !ok {
			return nil, 0, ErrNoImage
		}
		return p()
	}
	tree := func(name string) fs.FS {
		r, size, err := open(name)
		if err == nil {
			var t fs.FS
			if t, err = filesystem.Open(r, size); err == nil {
				return t
			}
			say(name, err)
		}
		return nil
	}
	found := false
	if v := tree("vendor"); v != nil {
		found = true
		if err := fit.Vendor(v, tree("odm"), learn); err != nil {
			say("vendor", err)
		}
	}
	if err := BootFacts(open, learn); err != nil && !errors.Is(err, ErrNoImage) {
		say("boot", err)
	}
	if !found {
		return errors.New("there is no vendor partition in it, and that is what a generic system has to fit")
	}
	c.Conclude()
	return nil
}

// superFacts takes the partitions of a super image, and their sizes.
func superFacts(r io.ReaderAt, size int64, parts map[string]func() (io.ReaderAt, int64, error),
	learn fit.Learn) error {
	m, err := super.Parse(r, size, 0)
	if err != nil {
		return err
	}
	for i := range m.Partitions {
		p := &m.Partitions[i]
		if p.Size() == 0 {
			continue
		}
		name := card.Part(p.Name)
		base := name.Base
		if _, there := parts[base]; !there || name.Slot != "b" {
			parts[base] = func() (io.ReaderAt, int64, error) {
				s, err := m.Open(r, size, p)
				return s, p.Size(), err
			}
		}
	}
	LearnSuper(m, learn)
	return nil
}
