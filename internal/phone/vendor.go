package phone

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/fit"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/filesystem"
	"jarlid/internal/core/image/kernel"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/core/vintf"
	"jarlid/internal/files"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
	"jarlid/internal/phone/shell"
	"jarlid/internal/say"
)

// readVendor reads what a generic system has to fit: through a recovery's root shell out of
// the partitions themselves, from a running system what it gives out without root. In
// other modes it does nothing. What is damaged on the phone stays unknown, and is said.
func (s *Session) readVendor(ctx context.Context) error {
	switch {
	case s.RootRecovery():
		return s.learnFromPartitions(ctx)
	case s.Mode() == card.System && s.HasFiles():
		return s.learnFromSystem(ctx)
	}
	return nil
}

// damaged tells of what can't be read for a fault of its own; a phone that is lost is not
// that.
func (s *Session) damaged(what string, err error) error {
	var bad *image.Error
	var lost *link.LostError
	var broken *link.ProtocolError
	if errors.As(err, &lost) || errors.As(err, &broken) || errors.Is(err, context.Canceled) {
		return err // a read that failed looks like damage to who reads
	}
	if errors.As(err, &bad) || errors.Is(err, filesystem.ErrNone) {
		s.Obs.Say(say.Note, "%s: %v", what, err)
		return nil
	}
	return err
}

func (s *Session) learnFromPartitions(ctx context.Context) error {
	if err := s.readTrees(ctx); err != nil {
		return err
	}
	slot := s.Card.Value(card.FactStarted)
	open := s.Partitions(ctx, slot)
	tree := func(name string) (fs.FS, error) {
		r, size, err := open(name)
		if err != nil {
			return nil, err
		}
		t, err := filesystem.Open(r, size)
		if err != nil {
			return nil, s.damaged(card.At(name, slot).String(), err)
		}
		return t, nil
	}
	vendor, err := tree("vendor")
	var refused *link.RefusedError
	switch {
	case errors.As(err, &refused):
		s.Obs.Say(say.Note, "vendor: %s", refused.Message)
	case errors.Is(err, files.ErrNoImage):
		s.learn(card.FactVendor, "no")
	case err != nil:
		return err
	case vendor != nil:
		odm, err := tree("odm")
		if err != nil && !errors.Is(err, files.ErrNoImage) {
			return err
		}
		if err := s.damaged("vendor", fit.Vendor(vendor, odm, s.learn)); err != nil {
			return err
		}
	}
	return s.learnFromBoot(open)
}

// learnFromBoot reads the boot images of a slot.
func (s *Session) learnFromBoot(open vbmeta.Source) error {
	err := files.BootFacts(open, s.learn)
	if errors.Is(err, files.ErrNoImage) {
		return nil
	}
	return s.damaged("boot", err)
}

func (s *Session) learnFromSystem(ctx context.Context) error {
	text, err := s.Shell().Kernel(ctx)
	if err != nil && !shell.Unknown(err) {
		return err
	}
	if _, ok := vintf.ParseKernelVersion(text); ok {
		s.learn(card.FactKernel, text)
	}
	levels, err := s.Shell().Prop(ctx, "ro.board.api_level", "ro.vendor.api_level")
	if err != nil && !shell.Unknown(err) {
		return err
	}
	if i := slices.IndexFunc(levels, func(v string) bool { return v != "" }); i >= 0 {
		s.learn(card.FactVendorAPI, levels[i])
	}
	y, err := s.Sync(ctx)
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
			s.learn(card.FactKernelConf, config)
		}
	case !errors.As(err, &refused):
		return err
	}
	return s.damaged("vendor", fit.Vendor(&phoneTree{ctx: ctx, y: y, root: "/vendor", errno: s.tellsErrors()},
		nil, s.learn))
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

func (i phoneInfo) Name() string { return i.name }

func (i phoneInfo) Size() int64 { return i.st.Size }

func (i phoneInfo) ModTime() time.Time { return i.st.MTime }

func (i phoneInfo) IsDir() bool { return i.st.Mode&0o170000 == 0o040000 }

func (i phoneInfo) Sys() any { return nil }

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

func (f *phoneFile) Close() error { return nil }

// tellsErrors says that the file service tells why it gives nothing.
func (s *Session) tellsErrors() bool {
	w, ok := s.wire.(interface{ TellsErrors() bool })
	return ok && w.TellsErrors()
}
