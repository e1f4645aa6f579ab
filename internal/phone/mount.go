package phone

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/filesystem"
	"jarlid/internal/core/place"
	"jarlid/internal/phone/shell"
	"jarlid/internal/phone/wire"
)

// shelfMount is where a partition is mounted when the recovery has not mounted it
// itself.
const shelfMount = "/tmp/jarlid-mount"

// ShelfEntry is one line of the record that is beside what was moved aside.
type ShelfEntry struct {
	Path  string    `yaml:"path"`  // as it is named
	From  string    `yaml:"from"`  // within the partition
	Aside string    `yaml:"aside"` // within the partition
	When  time.Time `yaml:"when"`
}

// Locate finds where a path of the phone's system lies: its partition on the slot
// that runs, and its place there. Without a partition of that name it is in the
// system's. back looks for what was moved aside.
func (s *Session) Locate(ctx context.Context, name string, back bool) (place.Item, error) {
	base, rest, err := place.ParseShelfPath(name)
	if err != nil {
		return place.Item{}, err
	}
	item := place.Item{Path: path.Join("/", base, rest)} // one form, however it was typed
	dev, part, err := s.SystemDevice(ctx, base)
	if err == nil && dev == nil && base != "system" {
		dev, part, err = s.SystemDevice(ctx, "system")
		base, rest = "system", base+"/"+rest
	}
	if err != nil {
		return item, err
	}
	item.Partition = part
	m, err := s.MountSystem(ctx, dev, false)
	if err != nil {
		return item, err
	}
	defer m.Release(ctx)
	item.Inside = rest
	if base == "system" {
		item.Inside, err = m.Inside(ctx, rest)
		if err != nil {
			return item, err
		}
	}
	from, to := item.Inside, item.Aside()
	if back {
		from, to = to, from
	}
	is, err := m.There(ctx, from)
	if err != nil {
		return item, err
	}
	item.Missing = !is
	item.There, err = m.There(ctx, to)
	return item, err
}

// SystemDevice gives the device of one of the system's partitions on the slot that runs and keeps its file
// system; nil where the phone has no such partition. Errors: *NotMountedError of one that the recovery shows
// no device for, of which every phone has system.
func (s *Session) SystemDevice(ctx context.Context, base string) (dev *shell.Device, p card.Partition,
	err error) {
	slot := s.Card.Value(card.FactStarted)
	for _, p := range []card.Partition{card.At(base, slot), card.At(base, "")} {
		for _, mapped := range []bool{true, false} {
			d, err := s.blockOf(ctx, p, mapped)
			if errors.Is(err, wire.ErrNoPartition) {
				continue
			}
			if err != nil {
				return nil, p, err
			}
			head, err := s.readDeviceAt(ctx, d, 0, blockSize)
			if err != nil {
				return nil, p, err
			}
			if head != nil {
				s.learn(card.FactFS.Of(p), filesystem.Certain(head).Name)
				return &d, p, nil
			}
		}
	}
	for _, p := range []card.Partition{card.At(base, slot), card.At(base, "")} {
		if base == "system" || s.Card.Get(card.FactSize.Of(p)).Known() {
			return nil, p, &NotMountedError{Area: p.String(),
				Checked: "this recovery shows no block device of it"}
		}
	}
	return nil, card.At(base, slot), nil
}

// Mount is a partition that is mounted for a while.
type Mount struct {
	s       *Session
	At      string
	own     bool // mounted by Jar Lid
	remount bool // it was mounted for reading, and is for writing now
}

// MountSystem mounts a device, or uses the place where it is mounted.
func (s *Session) MountSystem(ctx context.Context, dev *shell.Device, write bool) (*Mount, error) {
	list, err := s.Shell().Mounts(ctx)
	if err != nil {
		return nil, err
	}
	m := &Mount{s: s, At: shelfMount, own: true}
	for _, x := range list.Of(*dev) {
		if x.At == shelfMount {
			if err := s.Shell().Unmount(ctx, shelfMount); err != nil { // an earlier run left it
				return nil, err
			}
		} else if x.Root == "/" {
			m.At, m.own, m.remount = x.At, false, write && !x.Writable()
		}
	}
	switch {
	case m.own:
		how := "ro"
		if write {
			how = "rw"
		}
		head, herr := s.readDeviceAt(ctx, *dev, 0, blockSize)
		if herr != nil {
			return nil, herr
		}
		err = s.Shell().Mount(ctx, *dev, m.At, filesystem.Certain(head).Driver, how)
	case m.remount:
		err = s.Shell().Remount(ctx, m.At, "rw")
	}
	if err != nil {
		return nil, err
	}
	return m, nil
}

// Release unmounts what was mounted. Where that fails the recovery does it when it ends, and
// whoever called has an error of its own to tell.
func (m *Mount) Release(ctx context.Context) {
	ctx = context.WithoutCancel(ctx)
	if m.own {
		_ = m.s.Shell().Unmount(ctx, m.At)
	} else if m.remount {
		_ = m.s.Shell().Remount(ctx, m.At, "ro")
	}
}

// Inside gives the place of a path of /system: images that are the root of the
// phone's files have it in a folder.
func (m *Mount) Inside(ctx context.Context, rest string) (string, error) {
	is, err := m.There(ctx, "system/build.prop")
	if is {
		rest = "system/" + rest
	}
	return rest, err
}

// There reports whether a path is there.
func (m *Mount) There(ctx context.Context, name string) (bool, error) {
	return m.s.Shell().Exists(ctx, path.Join(m.At, name))
}

// Record reads what was moved aside.
func (m *Mount) Record(ctx context.Context) ([]ShelfEntry, error) {
	b, ok, err := m.s.Shell().File(ctx, path.Join(m.At, place.Shelf, place.ShelfRecord))
	if err != nil || !ok {
		return nil, err
	}
	var list []ShelfEntry
	if err := yaml.Unmarshal(b, &list); err != nil {
		return nil, fmt.Errorf("the record of what was moved aside is damaged: %w", err)
	}
	return list, nil
}

// Aside gives what of the record is on the shelf: a move that was interrupted may have left an entry
// without a file.
func (m *Mount) Aside(ctx context.Context) ([]ShelfEntry, error) {
	list, err := m.Record(ctx)
	var there []ShelfEntry
	for _, e := range list {
		is, err := m.There(ctx, e.Aside)
		if err != nil {
			return nil, err
		}
		if is {
			there = append(there, e)
		}
	}
	return there, err
}

// Keep writes what was moved aside; nothing takes the record away.
func (m *Mount) Keep(ctx context.Context, list []ShelfEntry) error {
	shelf := path.Join(m.At, place.Shelf)
	if len(list) == 0 {
		return m.s.Shell().Remove(ctx, shelf)
	}
	b, err := yaml.Marshal(list)
	if err != nil {
		return err
	}
	return m.s.Shell().WriteText(ctx, path.Join(shelf, place.ShelfRecord), string(b))
}

// Move moves a file within the partition, and makes sure of it.
func (m *Mount) Move(ctx context.Context, from, to string) error {
	return m.s.Shell().Move(ctx, path.Join(m.At, from), path.Join(m.At, to))
}

// Shelved reads what was moved aside on the slot that runs.
func (s *Session) Shelved(ctx context.Context) ([]place.Item, error) {
	var items []place.Item
	err := s.eachSystem(ctx, func(_ string, part card.Partition, m *Mount) error {
		list, err := m.Aside(ctx)
		for _, e := range list {
			items = append(items, place.Item{Path: e.Path, Partition: part, Inside: e.From})
		}
		return err
	})
	return items, err
}

// eachSystem mounts each of the system's partitions that there are, for reading.
func (s *Session) eachSystem(ctx context.Context, do func(base string, p card.Partition,
	m *Mount) error) error {
	for _, base := range place.Shelvable {
		dev, part, err := s.SystemDevice(ctx, base)
		if err != nil {
			return err
		}
		if dev == nil || s.Card.Value(card.FactFS.Of(part)) == "" {
			continue
		}
		m, err := s.MountSystem(ctx, dev, false)
		if err != nil {
			return err
		}
		err = do(base, part, m)
		m.Release(ctx)
		if err != nil {
			return err
		}
	}
	return nil
}

// Restorers finds the scripts that put the manufacturer's recovery back: by what is in
// them, in the folders where manufacturers have them.
func (s *Session) Restorers(ctx context.Context) ([]place.Item, error) {
	var items []place.Item
	err := s.eachSystem(ctx, func(base string, part card.Partition, m *Mount) error {
		for _, dir := range ident.RestoringFolders {
			inside := dir
			if base == "system" {
				var err error
				if inside, err = m.Inside(ctx, dir); err != nil {
					return err
				}
			}
			names, _, err := s.Shell().Folder(ctx, path.Join(m.At, inside))
			if err != nil {
				return err
			}
			read := 0
			for _, name := range names {
				if !strings.HasSuffix(name, ".sh") || read >= ident.RestoringMost {
					continue
				}
				read++
				script, _, err := s.Shell().File(ctx, path.Join(m.At, inside, name))
				if err != nil {
					return err
				}
				if ident.Restores(string(script)) {
					items = append(items, place.Item{Path: "/" + path.Join(base, dir, name), Partition: part,
						Inside: path.Join(inside, name)})
				}
			}
		}
		return nil
	})
	return items, err
}
