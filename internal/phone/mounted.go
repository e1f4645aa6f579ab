package phone

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/image/filesystem"
	"jarlid/internal/core/place"
	"jarlid/internal/link"
	"jarlid/internal/phone/shell"
	"jarlid/internal/phone/wire"
)

// Areas of a phone that are there only where a file system is mounted.
const (
	AreaData    = "data"
	AreaStorage = "storage"
	AreaCard    = "sd"
)

// cardTypes are the file systems of SD cards ("External storage" and the SD Association's choice of FAT and
// exFAT, with the names the kernel's drivers have).
var cardTypes = []string{"vfat", "exfat", "sdfat", "texfat", "fuseblk", "ntfs", "ntfs3"}

// cardsIn finds the folders that SD cards are mounted at. The manufacturer's own partitions of these types
// are mounted to be read only.
func cardsIn(list shell.Mounts) (dirs []string) {
	for _, m := range list {
		if slices.Contains(cardTypes, m.Type) && m.Writable() {
			dirs = append(dirs, m.At)
		}
	}
	return dirs
}

// storageFolders are where the shared storage is seen; the first that is on a mounted file system counts.
var storageFolders = []string{"/sdcard", "/data/media/0", "/storage/emulated/0"}

// NotMountedError says that an area's file system is not mounted, or that this is unknown.
type NotMountedError struct {
	Area    string
	Checked string // what was checked
	Why     string // why it can't be mounted
}

// Error says what was checked and why.
func (e *NotMountedError) Error() string {
	text := fmt.Sprintf("%s is not mounted: %s", place.AreaWords(e.Area), e.Checked)
	if e.Why != "" {
		text += ", and mounting it fails: " + e.Why
	}
	return text
}

// Finding is the error as a finding.
func (e *NotMountedError) Finding() finding.Finding {
	f := place.NotMounted(e.Area)
	f.Text = e.Error()
	return f
}

// mounts reads what is mounted where. A *NotMountedError of the area where that is unknown.
func (s *Session) mounts(ctx context.Context, area string) (shell.Mounts, error) {
	list, err := s.Shell().Mounts(ctx)
	if shell.Unknown(err) {
		return nil, &NotMountedError{Area: area, Checked: "the table of mounts can't be read",
			Why: err.Error()}
	}
	return list, err
}

// Mounted finds the folder of an area, on a file system that is mounted and not in the phone's memory.
// Errors: *NotMountedError; *LackError in a mode without files.
func (s *Session) Mounted(ctx context.Context, area string) (dir string, err error) {
	if s.Mode() == card.System {
		return s.systemFolder(ctx, area)
	}
	list, err := s.mounts(ctx, area)
	if err != nil {
		return "", err
	}
	folders := map[string][]string{AreaData: {"/data"}, AreaStorage: storageFolders,
		AreaCard: cardsIn(list)}[area]
	for _, f := range folders {
		real, err := s.Shell().Real(ctx, f)
		if err != nil {
			return "", err
		}
		m, ok := list.Under(real)
		if !ok || m.InMemory() || m.At == "/" {
			continue // an empty folder of the ramdisk
		}
		if area == AreaStorage && real == f && f == storageFolders[0] && m.At != f {
			continue
		}
		return f, nil
	}
	looked := "nothing is mounted at " + strings.Join(folders, ", ")
	if len(folders) == 0 {
		looked = "no file system of an SD card is in the table of mounts"
	}
	return "", &NotMountedError{Area: area, Checked: looked}
}

// systemFolder finds the folder of a storage in a running system, which mounts it by itself.
func (s *Session) systemFolder(ctx context.Context, area string) (string, error) {
	folders := storageFolders[:1]
	if area == AreaCard { // it names cards by their numbers
		names, _, err := s.Shell().Folder(ctx, "/storage")
		if err != nil && !shell.Unknown(err) {
			return "", err
		}
		folders = nil
		for _, name := range names {
			if name != "emulated" && name != "self" {
				folders = append(folders, "/storage/"+name)
			}
		}
	}
	y, err := s.Sync(ctx)
	if err != nil {
		return "", err
	}
	defer y.Close()
	for _, f := range folders {
		st, err := y.Stat(ctx, f)
		var refused *link.RefusedError
		switch {
		case err == nil && (st.IsDir() || st.Mode&0o170000 == 0o120000):
			return f, nil
		case err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.As(err, &refused):
			return "", err // a phone that was lost has not said that there is none
		}
	}
	return "", &NotMountedError{Area: area, Checked: "the system shows no folder of it"}
}

// Mount makes sure that an area is mounted: it finds it, or mounts the data where the recovery has not.
// Errors: *NotMountedError.
func (s *Session) Mount(ctx context.Context, area string) (dir string, err error) {
	dir, err = s.Mounted(ctx, area)
	var not *NotMountedError
	if !errors.As(err, &not) || !s.RootRecovery() || area == AreaCard {
		return dir, err
	}
	dev, fsType, err := s.readable(ctx, "userdata")
	if err == nil {
		err = s.Shell().Mount(ctx, dev, "/data", fsType, "rw")
	}
	if err != nil && !shell.Unknown(err) && !errors.Is(err, wire.ErrNoPartition) {
		return "", err
	}
	if err != nil {
		not.Why = reason(err)
		return "", not
	}
	return s.Mounted(ctx, area)
}

// reason says why something can't be mounted or read, in the last words of what refused it.
func reason(err error) string {
	var refused *link.RefusedError
	switch {
	case errors.Is(err, wire.ErrNoPartition):
		return "the phone has no partition for it"
	case errors.As(err, &refused):
		text := refused.Message
		if i := strings.LastIndex(text, ": "); i >= 0 && !strings.Contains(text[i+2:], "\n") {
			text = text[i+2:]
		}
		return text
	}
	return err.Error()
}

// readable gives the device of a partition and its file system, where it has one that can be read.
func (s *Session) readable(ctx context.Context, partition string) (shell.Device, string, error) {
	dev, err := s.blockOf(ctx, card.At(partition, ""), false)
	if err != nil {
		return dev, "", err
	}
	head, err := s.readDeviceAt(ctx, dev, 0, blockSize)
	if err != nil {
		return dev, "", err
	}
	driver := filesystem.Certain(head).Driver
	if driver == "" {
		return dev, "", &link.RefusedError{Command: "mount " + partition,
			Message: partition + " holds no file system that can be read: it is encrypted as a whole, " +
				"or empty"}
	}
	return dev, driver, nil
}

// readMounted reads whether an area is mounted or could be; it leaves what is mounted as it is.
func (s *Session) readMounted(ctx context.Context, area string) error {
	if !s.HasFiles() {
		return nil
	}
	_, err := s.Mounted(ctx, area)
	var not *NotMountedError
	if err == nil {
		s.learn(card.FactMounted.Of(area), card.MountedYes)
		return nil
	}
	if !errors.As(err, &not) {
		return err
	}
	if s.RootRecovery() && area != AreaCard {
		free, err := s.tryMount(ctx, not)
		if err != nil {
			return err
		}
		if not.Why == "" {
			s.learn(card.FactMounted.Of(area), card.MountedCan)
			s.learn(card.FactFree.Of(area), free)
			return nil
		}
	}
	s.Card.Set(card.FactMounted.Of(area), card.Fact{Value: card.MountedNo, Source: card.Read,
		Mode: s.Mode(),
		At:   now(), Why: not.Error()})
	return nil
}

// tryMount mounts the data elsewhere, to be read, gives the free bytes it has and unmounts it; what keeps it
// from that is put into not.
func (s *Session) tryMount(ctx context.Context, not *NotMountedError) (free string, err error) {
	dev, fsType, err := s.readable(ctx, "userdata")
	if err == nil {
		if err = s.Shell().Mount(ctx, dev, shelfMount, fsType, "ro"); err == nil {
			if n, known, err := s.Shell().Free(ctx, shelfMount); err == nil && known {
				free = fmt.Sprint(n)
			}
			return free, s.Shell().Unmount(ctx, shelfMount)
		}
	}
	if shell.Unknown(err) || errors.Is(err, wire.ErrNoPartition) {
		not.Why = reason(err)
		return "", nil
	}
	return "", err
}

// readStorage reads whether a storage is there and its free bytes.
func (s *Session) readStorage(ctx context.Context, to string) error {
	if !s.HasFiles() {
		return nil
	}
	at, err := s.Mounted(ctx, to)
	var not *NotMountedError
	if errors.As(err, &not) {
		if to == AreaCard || s.Mode() == card.System || s.Card.Value(card.FactData) == card.DataEncrypted {
			s.learn(card.FactFree.Of(to), card.Nothing)
			return nil
		}
		return s.readMounted(ctx, to)
	}
	if err != nil {
		return err
	}
	n, known, err := s.Shell().Free(ctx, at)
	if err != nil && !shell.Unknown(err) {
		return err
	}
	if known {
		s.learn(card.FactFree.Of(to), fmt.Sprint(n))
	}
	return nil
}

// Made is what a format left.
type Made struct {
	Said     string // what the program printed
	ReadBack bool   // another file system is there than before, of the type that was asked for
}

// MakeEmpty formats a partition's device, whatever shows it: all that is mounted of it is unmounted before,
// and mounted again afterwards, or where the format failed. at is where the system has it. Errors:
// ErrNoPartition, *shell.NoMakerError, *link.RefusedError.
func (s *Session) MakeEmpty(ctx context.Context, p card.Partition, at string) (made Made, err error) {
	dev, err := s.Block(ctx, p)
	if err != nil {
		return made, err
	}
	before, err := s.readDeviceAt(ctx, dev, 0, blockSize)
	if err != nil {
		return made, err
	}
	fsType, err := s.Shell().Fstab(ctx, at)
	if err != nil {
		return made, err
	}
	if fsType == "" {
		fsType = "ext4"
		if filesystem.Certain(before).Name == "f2fs" {
			fsType = "f2fs"
		}
	}
	all, err := s.Shell().Mounts(ctx)
	if err != nil && !shell.Unknown(err) {
		return made, err
	}
	shown := all.Of(dev)
	if m, ok := all.At(at); ok && !m.InMemory() && !slices.Contains(shown, m) {
		shown = append(shown, m) // its device is mapped from this one
	}
	var off shell.Mounts
	err = nil
	for _, m := range slices.Backward(shown) {
		if err = s.Shell().Unmount(ctx, m.At); err != nil {
			break
		}
		off = append(off, m)
	}
	if err == nil {
		made.Said, err = s.Shell().Format(ctx, dev, fsType)
	}
	if err == nil {
		made.ReadBack, err = s.madeNew(ctx, dev, before, fsType)
	}
	for _, m := range slices.Backward(off) {
		if merr := s.mountAgain(ctx, dev, m, fsType, err == nil); merr != nil && !shell.Unknown(merr) &&
			err == nil {
			err = merr
		}
	}
	return made, err
}

// madeNew reads back what a format left. *link.RefusedError where it is what was there before.
func (s *Session) madeNew(ctx context.Context, dev shell.Device, before []byte, fsType string) (bool, error) {
	if err := s.Shell().DropCaches(ctx, dev); err != nil {
		return false, err
	}
	after, err := s.readDeviceAt(ctx, dev, 0, blockSize)
	if err != nil || after == nil || before == nil {
		return false, err
	}
	if bytes.Equal(before, after) {
		return false, &link.RefusedError{Command: "format " + dev.Path,
			Message: "read back, the old file system is still there"}
	}
	return filesystem.Certain(after).Name == fsType, nil
}

// mountAgain mounts what was unmounted for a format: the device itself, or a folder of it that is seen
// elsewhere.
func (s *Session) mountAgain(ctx context.Context, dev shell.Device, m shell.Mount, fsType string,
	made bool) error {
	if m.Root != "/" {
		all, err := s.Shell().Mounts(ctx)
		if err != nil {
			return err
		}
		for _, whole := range all.Of(dev) {
			if whole.Root == "/" {
				return s.Shell().Bind(ctx, path.Join(whole.At, m.Root), m.At)
			}
		}
		return nil
	}
	if !made {
		fsType = m.Type
		if !m.Of(dev) { // a device that is mapped from this one, as before
			dev = shell.Device{Path: m.Source, Number: m.Number}
		}
	}
	how := "ro"
	if m.Writable() {
		how = "rw"
	}
	return s.Shell().Mount(ctx, dev, m.At, fsType, how)
}
