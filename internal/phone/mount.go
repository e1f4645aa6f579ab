package phone

import (
	"context"
	"fmt"
	"path"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/place"
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
	if err == nil && dev == "" && base != "system" {
		dev, part, err = s.SystemDevice(ctx, "system")
		base, rest = "system", base+"/"+rest
	}
	if err != nil {
		return item, err
	}
	item.Partition = part
	if dev == "" {
		item.Missing = true
		return item, nil
	}
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

// SystemDevice gives the device of one of the system's partitions on the slot
// that runs, "" where there is none, and keeps its file system.
func (s *Session) SystemDevice(ctx context.Context, base string) (dev string, p card.Partition, err error) {
	slot := s.Card.Value(card.FactStarted)
	for _, p := range []card.Partition{card.At(base, slot), card.At(base, "")} {
		for _, logical := range []bool{true, false} {
			d, err := s.Device(ctx, p, logical)
			if err != nil {
				return "", p, err
			}
			head, err := s.readDeviceHead(ctx, d)
			if err != nil {
				return "", p, err
			}
			if head != nil {
				s.learn(card.FactFS.Of(p), systemType(head))
				return d, p, nil
			}
		}
	}
	return "", card.At(base, slot), nil
}

// Mount is a partition that is mounted for a while.
type Mount struct {
	s       *Session
	At      string
	own     bool // mounted by Jar Lid
	remount bool // it was mounted for reading, and is for writing now
}

// MountSystem mounts a device, or uses the place where it is mounted.
func (s *Session) MountSystem(ctx context.Context, dev string, write bool) (*Mount, error) {
	table, err := s.Text(ctx, "cat /proc/mounts; echo; readlink -f "+dev)
	if err != nil {
		return nil, err
	}
	lines := strings.Split(strings.TrimSpace(table), "\n")
	real := lines[len(lines)-1]
	m := &Mount{s: s, At: shelfMount, own: true}
	for _, line := range lines {
		f := strings.Fields(line)
		if len(f) > 3 && (f[0] == dev || f[0] == real) && f[1] != shelfMount {
			m.At, m.own = f[1], false
			m.remount = write && !strings.HasPrefix(f[3], "rw")
		}
	}
	command := ""
	switch {
	case m.own:
		how := "ro"
		if write {
			how = "rw"
		}
		command = fmt.Sprintf("umount %s 2>/dev/null; mkdir -p %s && mount -o %s %s %s", m.At, m.At,
			how, dev, m.At)
	case m.remount:
		command = "mount -o remount,rw " + m.At
	default:
		return m, nil
	}
	if err := s.Do(ctx, command, "mount "+dev); err != nil {
		return nil, err
	}
	return m, nil
}

// Release unmounts what was mounted. Where that fails the recovery does it when it ends, and
// whoever called has an error of its own to tell.
func (m *Mount) Release(ctx context.Context) {
	ctx = context.WithoutCancel(ctx)
	if m.own {
		_, _ = m.s.Text(ctx, "sync; umount "+m.At)
	} else if m.remount {
		_, _ = m.s.Text(ctx, "sync; mount -o remount,ro "+m.At)
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
	text, err := m.s.Text(ctx, "[ -e "+QuoteShell(path.Join(m.At, name))+" ] && echo it-is-there")
	return strings.HasSuffix(text, "it-is-there"), err
}

// Record reads what was moved aside.
func (m *Mount) Record(ctx context.Context) ([]ShelfEntry, error) {
	text, err := m.s.Text(ctx, "cat "+path.Join(m.At, place.Shelf, place.ShelfRecord)+" 2>/dev/null")
	if err != nil || text == "" {
		return nil, err
	}
	var list []ShelfEntry
	if err := yaml.Unmarshal([]byte(text), &list); err != nil {
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
		return m.s.Do(ctx, "rm -rf "+shelf, "take the empty shelf away")
	}
	b, err := yaml.Marshal(list)
	if err != nil {
		return err
	}
	return m.s.Do(ctx, fmt.Sprintf("mkdir -p %s && printf '%%s' %s > %s", shelf, QuoteShell(string(b)),
		path.Join(shelf, place.ShelfRecord)), "write the record of what was moved aside")
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
		if dev == "" || s.Card.Value(card.FactFS.Of(part)) == "" {
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
			text, err := s.Text(ctx, "ls "+QuoteShell(path.Join(m.At, inside))+" 2>/dev/null")
			if err != nil {
				return err
			}
			read := 0
			for name := range strings.SplitSeq(text, "\n") {
				if !strings.HasSuffix(name, ".sh") || read >= ident.RestoringMost {
					continue
				}
				read++
				script, err := s.Text(ctx, "cat "+QuoteShell(path.Join(m.At, inside, name)))
				if err != nil {
					return err
				}
				if ident.Restores(script) {
					items = append(items, place.Item{Path: "/" + path.Join(base, dir, name), Partition: part,
						Inside: path.Join(inside, name)})
				}
			}
		}
		return nil
	})
	return items, err
}
