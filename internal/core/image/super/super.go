// Package super reads and writes the metadata of a super partition: which
// logical partitions it holds, in which groups and where.
//
// The structures are published in the platform's liblp/metadata_format.h.
package super

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"sort"
	"strings"

	"jarlid/internal/core/image"
)

// The constants of metadata_format.h.
const (
	geometryMagic  = 0x616c4467
	headerMagic    = 0x414c5030
	geometrySize   = 52
	reservedBytes  = 4096 // before the first geometry
	geometryBlock  = 4096
	sectorSize     = 512
	headerV10      = 128
	headerV12      = 256
	partitionEntry = 52
	extentEntry    = 24
	groupEntry     = 48
	deviceEntry    = 64

	targetLinear = 0
	targetZero   = 1

	formatName = "super metadata"
	maxTables  = 16 << 20
)

// Attributes of partitions.
const (
	AttrReadonly     = 1
	AttrSlotSuffixed = 2
	AttrUpdated      = 4
	AttrDisabled     = 8
)

// Extent is a run of a logical partition, in bytes.
type Extent struct {
	Size   int64
	Zero   bool  // no bytes: reads as zeros
	Device int   // index into BlockDevices
	Offset int64 // on the device
}

// Partition is a logical partition.
type Partition struct {
	Name       string
	Attributes uint32
	Group      string
	Extents    []Extent
}

// Size is the partition's size in bytes.
func (p *Partition) Size() (n int64) {
	for _, e := range p.Extents {
		n += e.Size
	}
	return n
}

// Group is a group of partitions with a common limit; 0 is none.
type Group struct {
	Name    string
	MaxSize int64 // bytes
}

// Device is a block device the partitions are on; the first is super itself.
type Device struct {
	Name  string
	Size  int64 // bytes
	First int64 // where the partitions may begin, in bytes
	// Alignment is what extents begin at multiples of, in bytes.
	Alignment int64
}

// Metadata is one slot's metadata.
type Metadata struct {
	Major, Minor uint16
	Flags        uint32 // from version 10.2 on
	Partitions   []Partition
	Groups       []Group
	Devices      []Device

	SlotCount       int
	MetadataMaxSize int64
	Backup          bool // the primary is damaged, this is the backup
	Slot            int
}

// Partition gives the named partition, or nil.
func (m *Metadata) Partition(name string) *Partition {
	for i := range m.Partitions {
		if m.Partitions[i].Name == name {
			return &m.Partitions[i]
		}
	}
	return nil
}

type geometry struct{ maxSize, slots, block uint32 }

// Free is how many bytes of the first device no partition has, whole alignments alone
// counted: extents begin at multiples of one.
func (m *Metadata) Free() int64 {
	if len(m.Devices) == 0 {
		return 0
	}
	d := m.Devices[0]
	var taken []Extent
	for i := range m.Partitions {
		for _, e := range m.Partitions[i].Extents {
			if !e.Zero && e.Device == 0 {
				taken = append(taken, e)
			}
		}
	}
	slices.SortFunc(taken, func(a, b Extent) int { return cmp.Compare(a.Offset, b.Offset) })
	unit := max(d.Alignment, sectorSize)
	free, at := int64(0), d.First
	gap := func(end int64) {
		if start := image.Align(at, unit); end > start {
			free += (end - start) / unit * unit
		}
	}
	for _, e := range taken {
		gap(e.Offset)
		at = max(at, e.Offset+e.Size)
	}
	gap(d.Size)
	return free
}

// IsMagic tells from the first 12 KiB of a file whether it may be a super image.
func IsMagic(head []byte) bool {
	for _, at := range []int{reservedBytes, reservedBytes + geometryBlock} {
		if len(head) >= at+4 && binary.LittleEndian.Uint32(head[at:]) == geometryMagic {
			return true
		}
	}
	return false
}

func parseGeometry(r io.ReaderAt, size, at int64) (geometry, error) {
	b, err := image.ReadAt(formatName, r, size, at, geometrySize)
	if err != nil {
		return geometry{}, err
	}
	le := binary.LittleEndian
	n := le.Uint32(b[4:])
	if le.Uint32(b) != geometryMagic || n < geometrySize || n > geometryBlock {
		return geometry{}, image.Errorf(formatName, at, "there is no geometry here")
	}
	if b, err = image.ReadAt(formatName, r, size, at, int64(n)); err != nil {
		return geometry{}, err
	}
	want := bytes.Clone(b[8:40])
	clear(b[8:40])
	if sum := sha256.Sum256(b); !bytes.Equal(sum[:], want) {
		return geometry{}, image.Errorf(formatName, at+8, "the geometry's checksum does not match")
	}
	g := geometry{le.Uint32(b[40:]), le.Uint32(b[44:]), le.Uint32(b[48:])}
	if g.maxSize == 0 || g.maxSize%sectorSize != 0 || g.maxSize > maxTables || g.slots == 0 || g.slots > 16 {
		return geometry{}, image.Errorf(formatName, at+40,
			"%d slots of %d bytes of metadata are not possible", g.slots, g.maxSize)
	}
	return g, nil
}

// Parse reads the metadata of one slot (0 is a) of the super image in r. Where
// the primary is damaged the backup is read, and Backup says so.
func Parse(r io.ReaderAt, size int64, slot int) (*Metadata, error) {
	g, err := parseGeometry(r, size, reservedBytes)
	second := false
	if err != nil {
		var e2 error
		if g, e2 = parseGeometry(r, size, reservedBytes+geometryBlock); e2 != nil {
			return nil, err
		}
		second = true
	}
	if slot < 0 || slot >= int(g.slots) {
		return nil, image.Errorf(formatName, reservedBytes+44,
			"there is no metadata slot %d, only %d of them", slot, g.slots)
	}
	primary := int64(reservedBytes+2*geometryBlock) + int64(g.maxSize)*int64(slot)
	backup := primary + int64(g.maxSize)*int64(g.slots)
	m, err := parseMetadata(r, size, primary, int64(g.maxSize))
	if err != nil {
		m2, e2 := parseMetadata(r, size, backup, int64(g.maxSize))
		if e2 != nil {
			return nil, err
		}
		m, second = m2, true
	}
	m.Backup, m.Slot, m.SlotCount, m.MetadataMaxSize = second, slot, int(g.slots), int64(g.maxSize)
	return m, nil
}

// table is a LpMetadataTableDescriptor.
type table struct{ offset, count, size uint32 }

func parseMetadata(r io.ReaderAt, size, at, room int64) (*Metadata, error) {
	h, err := image.ReadAt(formatName, r, size, at, headerV10)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	m := &Metadata{Major: le.Uint16(h[4:]), Minor: le.Uint16(h[6:])}
	n, tables := int64(le.Uint32(h[8:])), int64(le.Uint32(h[44:]))
	switch {
	case le.Uint32(h) != headerMagic:
		return nil, image.Errorf(formatName, at, "there is no metadata here")
	case m.Major != 10:
		return nil, image.Errorf(formatName, at+4, "version %d.%d is not known", m.Major, m.Minor)
	case n < headerV10 || n > 4096 || tables > room-n:
		return nil, image.Errorf(formatName, at+8, "a header of %d and tables of %d bytes do not fit %d", n,
			tables, room)
	}
	if h, err = image.ReadAt(formatName, r, size, at, n); err != nil {
		return nil, err
	}
	sum := bytes.Clone(h[12:44])
	zeroed := bytes.Clone(h)
	clear(zeroed[12:44])
	if got := sha256.Sum256(zeroed); !bytes.Equal(got[:], sum) {
		return nil, image.Errorf(formatName, at+12, "the header's checksum does not match")
	}
	b, err := image.ReadAt(formatName, r, size, at+n, tables)
	if err != nil {
		return nil, err
	}
	if got := sha256.Sum256(b); !bytes.Equal(got[:], h[48:80]) {
		return nil, image.Errorf(formatName, at+48, "the tables' checksum does not match")
	}
	if n >= 132 {
		m.Flags = le.Uint32(h[128:])
	}
	var t [4]table
	for i, least := range []uint32{partitionEntry, extentEntry, groupEntry, deviceEntry} {
		d := h[80+12*i:]
		t[i] = table{le.Uint32(d), le.Uint32(d[4:]), le.Uint32(d[8:])}
		if t[i].size < least || int64(t[i].offset) > tables ||
			int64(t[i].count) > (tables-int64(t[i].offset))/int64(t[i].size) {
			return nil, image.Errorf(formatName, at+80+12*int64(i), "a table of %d entries does not fit",
				t[i].count)
		}
	}
	return m, m.fill(b, t, at+n)
}

func name36(b []byte) string {
	s, _, _ := strings.Cut(string(b[:36]), "\x00")
	return s
}

func (m *Metadata) fill(b []byte, t [4]table, at int64) error {
	le := binary.LittleEndian
	each := func(i int, f func(e []byte) error) error {
		for k := range t[i].count {
			if err := f(b[t[i].offset+k*t[i].size:]); err != nil {
				return err
			}
		}
		return nil
	}
	const most = 1 << 53 // sectors
	err := each(3, func(e []byte) error {
		m.Devices = append(m.Devices, Device{Name: name36(e[24:]), Size: int64(le.Uint64(e[16:])),
			Alignment: int64(le.Uint32(e[8:])), First: int64(le.Uint64(e)) * sectorSize})
		return nil
	})
	if err != nil {
		return err
	}
	err = each(2, func(e []byte) error {
		m.Groups = append(m.Groups, Group{Name: name36(e), MaxSize: int64(le.Uint64(e[40:]))})
		return nil
	})
	if err != nil {
		return err
	}
	var extents []Extent
	err = each(1, func(e []byte) error {
		n, typ, data, src := le.Uint64(e), le.Uint32(e[8:]), le.Uint64(e[12:]), le.Uint32(e[20:])
		if n > most || data > most || typ > targetZero || typ == targetLinear && int(src) >= len(m.Devices) {
			return image.Errorf(formatName, at, "an extent of %d sectors at %d on device %d is not possible",
				n, data, src)
		}
		extents = append(extents, Extent{Size: int64(n) * sectorSize, Zero: typ == targetZero,
			Device: int(src), Offset: int64(data) * sectorSize})
		return nil
	})
	if err != nil {
		return err
	}
	return each(0, func(e []byte) error {
		p := Partition{Name: name36(e), Attributes: le.Uint32(e[36:])}
		first, n, group := int(le.Uint32(e[40:])), int(le.Uint32(e[44:])), int(le.Uint32(e[48:]))
		if first > len(extents) || n > len(extents)-first || group >= len(m.Groups) || p.Name == "" {
			return image.Errorf(formatName, at,
				"partition %q refers to extents or a group that are not there", p.Name)
		}
		p.Group, p.Extents = m.Groups[group].Name, extents[first:first+n:first+n]
		m.Partitions = append(m.Partitions, p)
		return nil
	})
}

// errOtherDevice says that a partition is on another device than super.
var errOtherDevice = errors.New("the partition lies partly on another device than this image")

// Open gives a logical partition's contents out of the super image in r.
func (m *Metadata) Open(r io.ReaderAt, size int64, p *Partition) (*io.SectionReader, error) {
	l := &logical{r: r}
	at := int64(0)
	for _, e := range p.Extents {
		if !e.Zero && e.Device != 0 {
			return nil, errOtherDevice
		}
		if !e.Zero && (e.Offset > size || e.Size > size-e.Offset) {
			return nil, image.Truncated("partition "+p.Name, e.Offset, e.Size, size-e.Offset)
		}
		l.starts = append(l.starts, at)
		l.extents = append(l.extents, e)
		at += e.Size
	}
	return io.NewSectionReader(l, 0, at), nil
}

type logical struct {
	r       io.ReaderAt
	starts  []int64
	extents []Extent
}

// ReadAt reads across extents.
func (l *logical) ReadAt(p []byte, off int64) (int, error) {
	done := 0
	for done < len(p) {
		at := off + int64(done)
		i := sort.Search(len(l.starts), func(i int) bool { return l.starts[i] > at }) - 1
		if i < 0 || at-l.starts[i] >= l.extents[i].Size {
			return done, io.EOF
		}
		e, in := l.extents[i], at-l.starts[i]
		n := int(min(int64(len(p)-done), e.Size-in))
		if e.Zero {
			clear(p[done : done+n])
			done += n
			continue
		}
		got, err := l.r.ReadAt(p[done:done+n], e.Offset+in)
		done += got
		if got < n {
			return done, err
		}
	}
	return done, nil
}

// Build writes the head of a super image: geometries and the metadata, the
// same in every slot, primary and backup. Offsets of extents are the caller's.
func Build(m *Metadata) ([]byte, error) {
	le := binary.LittleEndian
	groups := map[string]uint32{}
	var pt, et, gt, dt []byte
	name := func(s string) []byte { return append([]byte(s), make([]byte, 36-min(len(s), 36))...) }
	for i, g := range m.Groups {
		groups[g.Name] = uint32(i)
		gt = le.AppendUint64(le.AppendUint32(append(gt, name(g.Name)...), 0), uint64(g.MaxSize))
	}
	n := uint32(0)
	for _, p := range m.Partitions {
		g, ok := groups[p.Group]
		if !ok || len(p.Name) > 35 {
			return nil, fmt.Errorf("super metadata: partition %q needs a group and a name of at most "+
				"35 bytes", p.Name)
		}
		pt = append(pt, name(p.Name)...)
		for _, v := range []uint32{p.Attributes, n, uint32(len(p.Extents)), g} {
			pt = le.AppendUint32(pt, v)
		}
		n += uint32(len(p.Extents))
		for _, e := range p.Extents {
			typ := uint32(targetLinear)
			if e.Zero {
				typ = targetZero
			}
			et = le.AppendUint32(le.AppendUint64(et, uint64(e.Size/sectorSize)), typ)
			et = le.AppendUint32(le.AppendUint64(et, uint64(e.Offset/sectorSize)), uint32(e.Device))
		}
	}
	for _, d := range m.Devices {
		dt = le.AppendUint64(dt, uint64(d.First/sectorSize))
		dt = le.AppendUint64(le.AppendUint32(le.AppendUint32(dt, 4096), 0), uint64(d.Size))
		dt = le.AppendUint32(append(dt, name(d.Name)...), 0)
	}
	tables := append(append(append(append([]byte(nil), pt...), et...), gt...), dt...)
	h := make([]byte, headerV10)
	if m.Minor >= 2 {
		h = make([]byte, headerV12)
		le.PutUint32(h[128:], m.Flags)
	}
	le.PutUint32(h, headerMagic)
	le.PutUint16(h[4:], 10)
	le.PutUint16(h[6:], m.Minor)
	le.PutUint32(h[8:], uint32(len(h)))
	le.PutUint32(h[44:], uint32(len(tables)))
	sum := sha256.Sum256(tables)
	copy(h[48:80], sum[:])
	at := uint32(0)
	for i, t := range []struct {
		b    []byte
		size int
	}{{pt, partitionEntry}, {et, extentEntry}, {gt, groupEntry}, {dt, deviceEntry}} {
		le.PutUint32(h[80+12*i:], at)
		le.PutUint32(h[84+12*i:], uint32(len(t.b)/t.size))
		le.PutUint32(h[88+12*i:], uint32(t.size))
		at += uint32(len(t.b))
	}
	sum = sha256.Sum256(h)
	copy(h[12:44], sum[:])
	if int64(len(h)+len(tables)) > m.MetadataMaxSize || m.SlotCount < 1 {
		return nil, fmt.Errorf("super metadata: %d bytes do not fit %d", len(h)+len(tables),
			m.MetadataMaxSize)
	}
	g := make([]byte, geometryBlock)
	for at, v := range map[int]uint32{
		0:  geometryMagic,
		4:  geometrySize,
		40: uint32(m.MetadataMaxSize),
		44: uint32(m.SlotCount),
		48: 4096,
	} {
		le.PutUint32(g[at:], v)
	}
	sum = sha256.Sum256(g[:geometrySize])
	copy(g[8:40], sum[:])
	out := append(append(make([]byte, reservedBytes), g...), g...)
	meta := append(append(h, tables...), make([]byte, m.MetadataMaxSize-int64(len(h)+len(tables)))...)
	for range 2 * m.SlotCount {
		out = append(out, meta...)
	}
	return out, nil
}
