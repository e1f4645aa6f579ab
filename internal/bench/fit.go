package bench

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/fit"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/kernel"
	"jarlid/internal/core/image/sparse"
	"jarlid/internal/core/image/super"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/core/plan"
	"jarlid/internal/core/vintf"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
)

// LearnFit reads what a generic system has to fit: through a recovery's root shell out of
// the partitions themselves, from a running system what it gives out without root. In
// other modes it does nothing. What is damaged on the phone stays unknown, and is said.
func (j *Job) LearnFit(ctx context.Context) error {
	switch {
	case rootRecovery(j.Link, j.Card):
		return j.learnFromPartitions(ctx)
	case j.Link != nil && j.Link.Mode == card.System && j.Link.ADB != nil:
		return j.learnFromSystem(ctx)
	}
	return nil
}

func (j *Job) learn(name, value string) { learn(j.Card, name, value) }

// damaged tells of what can't be read for a fault of its own; a phone that is lost is not
// that.
func (j *Job) damaged(what string, err error) error {
	var bad *image.Error
	var lost *link.LostError
	var broken *link.ProtocolError
	if errors.As(err, &lost) || errors.As(err, &broken) || errors.Is(err, context.Canceled) {
		return err // a read that failed looks like damage to who reads
	}
	if errors.As(err, &bad) || errors.Is(err, fit.ErrNoFileSystem) {
		j.Obs.Say("note", "%s: %v", what, err)
		return nil
	}
	return err
}

func (j *Job) learnFromPartitions(ctx context.Context) error {
	if err := j.LearnDevices(ctx); err != nil {
		return err
	}
	if err := j.ReadTrees(ctx); err != nil {
		return err
	}
	slot := j.Card.Value(card.FactStarted)
	open := j.Partitions(ctx, slot)
	tree := func(name string) (fs.FS, error) {
		r, size, err := open(name)
		if err != nil {
			return nil, err
		}
		t, err := fit.Tree(r, size)
		if err != nil {
			return nil, j.damaged(plan.Suffixed(name, slot), err)
		}
		return t, nil
	}
	vendor, err := tree("vendor")
	var refused *link.RefusedError
	switch {
	case errors.As(err, &refused):
		j.Obs.Say("note", "vendor: %s", refused.Message)
	case errors.Is(err, ErrNoPartition):
		j.learn(card.FactVendor, "no")
	case err != nil:
		return err
	case vendor != nil:
		odm, err := tree("odm")
		if err != nil && !errors.Is(err, ErrNoPartition) {
			return err
		}
		if err := j.damaged("vendor", fit.Vendor(vendor, odm, j.learn)); err != nil {
			return err
		}
	}
	return j.learnFromBoot(open)
}

// learnFromBoot reads the boot images of a slot.
func (j *Job) learnFromBoot(open vbmeta.Source) error {
	err := bootFacts(open, j.learn)
	if errors.Is(err, ErrNoPartition) {
		return nil
	}
	return j.damaged("boot", err)
}

// bootFacts reads the facts of boot, init_boot and the maker's ramdisk in vendor_boot.
func bootFacts(open vbmeta.Source, learn fit.Learn) error {
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

func (j *Job) learnFromSystem(ctx context.Context) error {
	if text, err := shell(ctx, j.Link, "uname -r"); err != nil {
		return err
	} else if _, ok := vintf.ParseKernelVersion(text); ok {
		j.learn(card.FactKernel, strings.TrimSpace(text))
	}
	text, err := shell(ctx, j.Link, "getprop ro.board.api_level; getprop ro.vendor.api_level")
	if err != nil {
		return err
	}
	for line := range strings.Lines(text) {
		if line = strings.TrimSpace(line); line != "" {
			j.learn(card.FactVendorAPI, line)
			break
		}
	}
	y, err := j.Link.ADB.Sync(ctx)
	var refused *link.RefusedError
	if errors.As(err, &refused) {
		return nil
	}
	if err != nil {
		return err
	}
	defer y.Close()
	// What the kernel was configured with; not every one gives it out.
	var packed bytes.Buffer
	_, err = y.Receive(ctx, "/proc/config.gz", &limitedBuffer{&packed}, nil)
	switch {
	case err == nil:
		if config, err := kernel.ReadConfig(&packed); err == nil && config != "" {
			j.learn(card.FactKernelConf, config)
		}
	case !errors.As(err, &refused):
		return err
	}
	return j.damaged("vendor", fit.Vendor(&phoneTree{ctx: ctx, y: y, root: "/vendor", errno: j.Link.ADB.Peer.Has("stat_v2")}, nil, j.learn))
}

// phoneTree is a folder of a running system as its sync service shows it. Programs are not
// opened: they are sent whole.
type phoneTree struct {
	ctx  context.Context
	y    *adb.Sync
	root string
	// errno says that the service tells why it gives nothing; older ones don't, and what is
	// not given may be there.
	errno bool
}

// maxPhoneFile bounds what is read of one file, in bytes.
const maxPhoneFile = 1 << 20

func (t *phoneTree) stat(name string) (fs.FileInfo, error) {
	st, err := t.y.Stat(t.ctx, path.Join(t.root, name))
	if errors.Is(err, fs.ErrNotExist) && !t.errno {
		err = fs.ErrPermission
	}
	if err != nil {
		return nil, t.refused("stat", name, err)
	}
	return phoneInfo{st, path.Base(name)}, nil
}

// Lstat and ReadLink make it a tree whose links are not followed by this program.
func (t *phoneTree) Lstat(name string) (fs.FileInfo, error) { return t.stat(name) }

// ReadLink is not told by the service.
func (t *phoneTree) ReadLink(name string) (string, error) {
	return "", &fs.PathError{Op: "readlink", Path: name, Err: errors.ErrUnsupported}
}

func (t *phoneTree) refused(op, name string, err error) error {
	var refused *link.RefusedError
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, fs.ErrPermission):
		return &fs.PathError{Op: op, Path: name, Err: err}
	case !errors.As(err, &refused):
		return err
	case strings.Contains(strings.ToLower(refused.Message), "no such file"):
		return &fs.PathError{Op: op, Path: name, Err: fs.ErrNotExist}
	}
	return &fs.PathError{Op: op, Path: name, Err: fs.ErrPermission}
}

// Open reads a file whole.
func (t *phoneTree) Open(name string) (fs.File, error) {
	st, err := t.stat(name)
	if err != nil {
		return nil, err
	}
	if st.IsDir() || st.Size() > maxPhoneFile || strings.HasPrefix(name, "bin/") {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrPermission}
	}
	var b bytes.Buffer
	if _, err := t.y.Receive(t.ctx, path.Join(t.root, name), &b, nil); err != nil {
		return nil, t.refused("open", name, err)
	}
	if int64(b.Len()) != st.Size() {
		st = phoneInfo{adb.FileStat{Mode: 0o100444, Size: int64(b.Len())}, path.Base(name)}
	}
	return &phoneFile{bytes.NewReader(b.Bytes()), st}, nil
}

// ReadDir lists a folder.
func (t *phoneTree) ReadDir(name string) ([]fs.DirEntry, error) {
	if name == "bin" || strings.HasPrefix(name, "bin/") {
		return nil, fs.ErrPermission
	}
	if _, err := t.stat(name); err != nil {
		return nil, err
	}
	list, err := t.y.List(t.ctx, path.Join(t.root, name))
	if err != nil {
		return nil, t.refused("open", name, err)
	}
	if len(list) == 0 { // what can't be listed is empty, as the protocol has it
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrPermission}
	}
	var out []fs.DirEntry
	for _, st := range list {
		if st.Name != "." && st.Name != ".." {
			out = append(out, fs.FileInfoToDirEntry(phoneInfo{st, st.Name}))
		}
	}
	return out, nil
}

type phoneInfo struct {
	st   adb.FileStat
	name string
}

func (i phoneInfo) Name() string       { return i.name }
func (i phoneInfo) Size() int64        { return i.st.Size }
func (i phoneInfo) ModTime() time.Time { return i.st.MTime }
func (i phoneInfo) IsDir() bool        { return i.st.Mode&0o170000 == 0o040000 }
func (i phoneInfo) Sys() any           { return nil }
func (i phoneInfo) Mode() fs.FileMode {
	if i.IsDir() {
		return fs.ModeDir | 0o755
	}
	return 0o644
}

type phoneFile struct {
	*bytes.Reader
	st fs.FileInfo
}

func (f *phoneFile) Stat() (fs.FileInfo, error) { return f.st, nil }
func (f *phoneFile) Close() error               { return nil }

// OpenImage opens a file that holds an image, sparse or not; done closes it.
func OpenImage(name string) (r io.ReaderAt, size int64, done func(), err error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, 0, nil, err
	}
	st, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, 0, nil, err
	}
	done = func() { f.Close() }
	if v, err := sparse.NewView(f, st.Size()); err == nil {
		return v, v.Size(), done, nil
	}
	return f, st.Size(), done, nil
}

// ReadSystem reads the facts of a system image out of a file. Errors: *image.Error.
func ReadSystem(label, name string) (*fit.Image, error) {
	r, size, done, err := OpenImage(name)
	if err != nil {
		return nil, err
	}
	defer done()
	tree, err := fit.Tree(r, size)
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
func NamedAfter(im plan.Image) string {
	name := im.Label
	if name == "" {
		name = im.File.Path
	}
	base, _, _ := strings.Cut(filepath.Base(strings.ReplaceAll(name, `\`, "/")), ".")
	return strings.TrimSuffix(strings.TrimSuffix(base, "_a"), "_b")
}

// FactsOfFiles reads facts of a phone out of its firmware: vendor and odm, the boot images,
// vbmeta, and the sizes of what lies in super. say is told what is damaged.
func FactsOfFiles(m *Material, c *card.Card, say func(what string, err error)) error {
	parts := map[string]func() (io.ReaderAt, int64, error){}
	var closers []func()
	defer func() {
		for _, f := range closers {
			f()
		}
	}()
	learn := func(name, value string) {
		c.Set(name, card.Fact{Value: value, Evidence: card.Said, At: now()})
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
		if len(im.File.GoesTo) > 0 && im.File.GoesTo[0].Evidence != "name" {
			base = im.File.GoesTo[0].Partition
		}
		parts[base] = func() (io.ReaderAt, int64, error) { return r, size, nil }
	}
	open := func(name string) (io.ReaderAt, int64, error) {
		p, ok := parts[name]
		if !ok {
			return nil, 0, ErrNoPartition
		}
		return p()
	}
	tree := func(name string) fs.FS {
		r, size, err := open(name)
		if err == nil {
			var t fs.FS
			if t, err = fit.Tree(r, size); err == nil {
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
	if err := bootFacts(open, learn); err != nil && !errors.Is(err, ErrNoPartition) {
		say("boot", err)
	} else if err == nil {
		found = true
	}
	if !found {
		return errors.New("there is neither a vendor partition nor a boot image in it")
	}
	return nil
}

// superFacts takes the partitions of a super image, and their sizes.
func superFacts(r io.ReaderAt, size int64, parts map[string]func() (io.ReaderAt, int64, error), learn fit.Learn) error {
	m, err := super.Parse(r, size, 0)
	if err != nil {
		return err
	}
	for i := range m.Partitions {
		p := &m.Partitions[i]
		if p.Size() == 0 {
			continue
		}
		base := strings.TrimSuffix(strings.TrimSuffix(p.Name, "_a"), "_b")
		if _, there := parts[base]; !there || !strings.HasSuffix(p.Name, "_b") {
			parts[base] = func() (io.ReaderAt, int64, error) {
				s, err := m.Open(r, size, p)
				return s, p.Size(), err
			}
		}
	}
	learnSuper(m, learn)
	return nil
}
