package device

import (
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/bcb"
	"jarlid/internal/core/image/super"
	"jarlid/internal/standin/disk"
)

const (
	superFirst = 1 << 20 // where partitions may begin in super, in bytes
	superUnit  = 4096    // to which sizes are rounded up
	metaSize   = 64 << 10
	metaSlots  = 2
)

// suffixes end the names of logical partitions, one for each slot.
func (p *Phone) suffixes() []string {
	if p.Model.Slots < 2 {
		return []string{""}
	}
	return []string{"_a", "_b"}
}

// newSuper makes the metadata of a phone as its manufacturer ships it: the partitions
// of slot a, and empty ones of slot b.
func (p *Phone) newSuper(sizes map[string]int64) *super.Metadata {
	s := p.Spec.Super
	m := &super.Metadata{Minor: 2, SlotCount: metaSlots, MetadataMaxSize: metaSize,
		Devices: []super.Device{{Name: "super", Size: p.Store.Sizes["super"], First: superFirst}},
		Groups:  []super.Group{{Name: "default"}}}
	at := int64(superFirst)
	for i, suffix := range p.suffixes() {
		m.Groups = append(m.Groups, super.Group{Name: s.Group + suffix, MaxSize: int64(s.GroupSize)})
		for _, name := range s.Partitions {
			part := super.Partition{Name: name + suffix, Group: s.Group + suffix,
				Attributes: super.AttrReadonly}
			if n := image.Align(sizes[name], superUnit); i == 0 && n > 0 {
				part.Extents = []super.Extent{{Size: n, Offset: at}}
				at += n
			}
			m.Partitions = append(m.Partitions, part)
		}
	}
	return m
}

// SetSuper writes the metadata of one slot, or of all for -1.
func SetSuper(st *disk.Disk, m *super.Metadata, slot int) error {
	b, err := super.Build(m)
	if err != nil {
		return err
	}
	if slot < 0 {
		return st.Put("super", b, 0)
	}
	// Behind the two geometries lie the slots' metadata, then their backups.
	const first = 3 * 4096
	for _, at := range []int64{first + int64(slot)*metaSize, first + int64(metaSlots+slot)*metaSize} {
		if err := st.Put("super", b[at:at+metaSize], at); err != nil {
			return err
		}
	}
	return nil
}

// used is what the partitions of a group fill, in bytes.
func used(m *super.Metadata, group string) (n int64) {
	for i := range m.Partitions {
		if m.Partitions[i].Group == group {
			n += m.Partitions[i].Size()
		}
	}
	return n
}

// gaps gives the free runs of super.
func gaps(m *super.Metadata) []super.Extent {
	var taken []super.Extent
	for i := range m.Partitions {
		taken = append(taken, m.Partitions[i].Extents...)
	}
	slices.SortFunc(taken, func(a, b super.Extent) int {
		return int(a.Offset/superUnit - b.Offset/superUnit)
	})
	var free []super.Extent
	at := m.Devices[0].First
	for _, e := range append(taken, super.Extent{Offset: m.Devices[0].Size}) {
		if e.Offset > at {
			free = append(free, super.Extent{Offset: at, Size: e.Offset - at})
		}
		at = e.Offset + e.Size
	}
	return free
}

// Resize gives a logical partition another size.
func Resize(m *super.Metadata, name string, size int64) error {
	part := m.Partition(name)
	if part == nil {
		return fmt.Errorf("no such logical partition")
	}
	size = image.Align(size, superUnit)
	for _, g := range m.Groups {
		if g.Name == part.Group && g.MaxSize > 0 && used(m, g.Name)-part.Size()+size > g.MaxSize {
			return fmt.Errorf("not enough space in group %s", g.Name)
		}
	}
	for size < part.Size() {
		last := &part.Extents[len(part.Extents)-1]
		if cut := part.Size() - size; cut < last.Size {
			last.Size -= cut
		} else {
			part.Extents = part.Extents[:len(part.Extents)-1]
		}
	}
	for _, g := range gaps(m) {
		need := size - part.Size()
		if need <= 0 {
			break
		}
		part.Extents = append(part.Extents, super.Extent{Offset: g.Offset, Size: min(g.Size, need)})
	}
	if part.Size() < size {
		return fmt.Errorf("not enough space in super")
	}
	return nil
}

// ChangeSuper changes the metadata that counts.
func (p *Phone) ChangeSuper(change func(*super.Metadata) error) error {
	m, err := p.Store.Super()
	if err == nil {
		if err = change(m); err == nil {
			err = SetSuper(p.Store, m, int(p.Store.Slot.Load()))
		}
	}
	return err
}

// Snapshot states, as the variable snapshot-update-status names them.
const (
	SnapNone    = bcb.MergeNone
	SnapWaiting = bcb.MergeSnapshotted
	SnapMerging = bcb.MergeMerging
)

// SetSnapshot keeps the state, in misc too; p.Mu is held.
func (p *Phone) SetSnapshot(state string) {
	p.State.Snapshot = state
	b, err := p.Store.Piece("misc", bcb.MergeOffset, bcb.MergeSize)
	if err == nil {
		if err = bcb.PutMerge(b, state, int(p.Store.Slot.Load())); err == nil {
			err = p.Store.Put("misc", b, bcb.MergeOffset)
		}
	}
	if err != nil {
		p.Options.Log("the merge state could not be kept in misc: " + err.Error())
	}
}

// cowFirst is where in userdata an install keeps what is to be merged.
const cowFirst = 16 << 20

// StageLogical keeps the new contents of a logical partition in userdata,
// from where the merge takes them after the first good start.
func (p *Phone) StageLogical(name string, size int64) (*disk.Volume, error) {
	p.Mu.Lock()
	defer p.Mu.Unlock()
	at := int64(cowFirst)
	for _, s := range p.State.Cows {
		at = max(at, s.Offset+s.Size)
	}
	size = image.Align(size, superUnit)
	if at+size > p.Store.Sizes["userdata"] {
		return nil, fmt.Errorf("there is no room for the new %s in userdata", name)
	}
	p.keepCow(name, disk.Span{Offset: at, Size: size})
	return p.Store.Open(name)
}

// keepCow adds to what waits for the merge; p.Mu is held.
func (p *Phone) keepCow(name string, s disk.Span) {
	cows := map[string]disk.Span{name: s}
	maps.Copy(cows, p.State.Cows)
	p.State.Cows = cows
	p.Store.Cows.Store(&cows)
}

// Merge copies what waits in userdata to super, in place of the old slot's
// partitions, and ends the state.
func (p *Phone) Merge() error {
	p.Mu.Lock()
	defer p.Mu.Unlock()
	m, err := p.Store.Super()
	if err != nil {
		return err
	}
	for name := range p.State.Cows {
		base, slot := name[:len(name)-1], name[len(name)-1:]
		if old := m.Partition(base + card.Other(slot)); old != nil {
			old.Extents = nil
		}
	}
	names := slices.Sorted(maps.Keys(p.State.Cows)) // so that they lie the same way each time
	for _, name := range names {
		if err := Resize(m, name, p.State.Cows[name].Size); err != nil {
			return err
		}
	}
	if err := SetSuper(p.Store, m, int(p.Store.Slot.Load())); err != nil {
		return err
	}
	userdata, err := os.Open(p.Store.Path("userdata"))
	if err != nil {
		return err
	}
	defer userdata.Close()
	cows := p.State.Cows
	p.State.Cows = nil
	p.Store.Cows.Store(&map[string]disk.Span{})
	for _, name := range names {
		cow := cows[name]
		v, err := p.Store.Open(name)
		if err != nil {
			return err
		}
		_, err = io.Copy(io.NewOffsetWriter(v, 0), io.NewSectionReader(userdata, cow.Offset, cow.Size))
		if cerr := v.Close(); err == nil {
			err = cerr
		}
		if err != nil {
			return err
		}
	}
	p.SetSnapshot(SnapNone)
	p.Save()
	p.Options.Log("the merge has finished")
	return nil
}

// Logical reports whether a name, with or without its suffix, is that of a
// logical partition of this phone.
func (p *Phone) Logical(name string) bool {
	base := strings.TrimSuffix(strings.TrimSuffix(name, "_a"), "_b")
	return slices.Contains(p.Spec.Super.Partitions, base)
}

// CreateLogical adds a logical partition to the group of its slot.
func (p *Phone) CreateLogical(name string, size int64) error {
	return p.ChangeSuper(func(m *super.Metadata) error {
		if m.Partition(name) != nil {
			return fmt.Errorf("it exists already")
		}
		group := p.Spec.Super.Group + p.suffixes()[0]
		if strings.HasSuffix(name, "_b") {
			group = p.Spec.Super.Group + "_b"
		}
		m.Partitions = append(m.Partitions, super.Partition{Name: name, Group: group,
			Attributes: super.AttrReadonly})
		return Resize(m, name, size)
	})
}

// DeleteLogical takes a logical partition away.
func (p *Phone) DeleteLogical(name string) error {
	return p.ChangeSuper(func(m *super.Metadata) error {
		if m.Partition(name) == nil {
			return fmt.Errorf("no such logical partition")
		}
		m.Partitions = slices.DeleteFunc(m.Partitions, func(part super.Partition) bool {
			return part.Name == name
		})
		return nil
	})
}
