// Package disk is the storage of a phone made of software: a sparse file a partition,
// logical ones within super, and over each file system what was changed in it.
package disk

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"

	"jarlid/internal/core/image/sparse"
	"jarlid/internal/core/image/super"
)

// Disk is a phone's partitions: a sparse file each, and logical ones
// within super.
type Disk struct {
	Dir   string           // where the partitions' files lie
	Sizes map[string]int64 // of physical ones by full name, with the slot's suffix
	Kinds map[string]string
	Slots map[string]bool // by name without suffix; logical ones too
	// Cows are the logical partitions whose new contents wait in userdata for the merge.
	Cows     atomic.Pointer[map[string]Span]
	Slot     atomic.Int32 // whose metadata in super counts: 0 is slot a
	Unmapped atomic.Bool  // the recovery that runs has not mapped the logical partitions
}

// Partition is a physical partition as a phone is made with.
type Partition struct {
	Name  string // without a slot's suffix
	Size  int64  // bytes
	Slots bool   // there is one for each slot
	Type  string // what a bootloader says of it; "": raw
}

// Open opens the storage in a folder, and makes what is not there yet. logical are the
// partitions within super, of which there is one for each slot where slots is set.
func Open(dir string, parts []Partition, logical []string, slots bool) (*Disk, error) {
	st := &Disk{Dir: filepath.Join(dir, "partitions"), Sizes: map[string]int64{}, Kinds: map[string]string{},
		Slots: map[string]bool{}}
	st.Cows.Store(&map[string]Span{})
	if err := os.MkdirAll(st.Dir, 0o755); err != nil {
		return nil, err
	}
	for _, name := range logical {
		st.Slots[name] = slots
	}
	for _, p := range parts {
		st.Slots[p.Name] = p.Slots
		for _, n := range st.Names(p.Name) {
			st.Sizes[n], st.Kinds[n] = p.Size, p.Type
			f, err := os.OpenFile(st.Path(n), os.O_RDWR|os.O_CREATE, 0o644)
			if err != nil {
				return nil, err
			}
			err = f.Truncate(p.Size)
			if cerr := f.Close(); err == nil {
				err = cerr
			}
			if err != nil {
				return nil, err
			}
		}
	}
	return st, nil
}

func (st *Disk) Path(name string) string { return filepath.Join(st.Dir, name+".img") }

// Has tells of physical partitions.
func (st *Disk) Has(name string) bool { _, ok := st.Sizes[name]; return ok }

// Forget removes what is in a partition as files: what was added to a
// system, and the shared storage with the data.
func (st *Disk) Forget(name string) error {
	if name == "userdata" {
		if err := os.RemoveAll(filepath.Join(filepath.Dir(st.Dir), SharedDir)); err != nil {
			return err
		}
	}
	return os.RemoveAll(st.Overlay(name))
}

// Span is a run of bytes of a file.
type Span struct {
	Offset int64 `json:"offset"`
	Size   int64 `json:"size"`
}

// Volume is an open partition, physical or logical. It never grows.
type Volume struct {
	f     *os.File
	Name  string
	Size  int64 // bytes
	at    int64 // for Read and Seek
	spans []Span
}

func (st *Disk) Open(name string) (*Volume, error) {
	file, spans := name, []Span{{0, st.Sizes[name]}}
	if !st.Has(name) {
		m, err := st.Super()
		if err != nil {
			return nil, fmt.Errorf("no partition %s", name)
		}
		p := m.Partition(name)
		if p == nil {
			return nil, fmt.Errorf("no partition %s", name)
		}
		file, spans = "super", nil
		for _, e := range p.Extents {
			spans = append(spans, Span{e.Offset, e.Size})
		}
		if cow, ok := (*st.Cows.Load())[name]; ok {
			file, spans = "userdata", []Span{cow}
		}
	}
	f, err := os.OpenFile(st.Path(file), os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	v := &Volume{f: f, Name: name, spans: spans}
	for _, s := range spans {
		v.Size += s.Size
	}
	return v, nil
}

// Super reads the metadata of dynamic partitions that counts now.
func (st *Disk) Super() (*super.Metadata, error) {
	if !st.Has("super") {
		return nil, fmt.Errorf("there is no super")
	}
	f, err := os.Open(st.Path("super"))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return super.Parse(f, st.Sizes["super"], int(st.Slot.Load()))
}

// each calls do for the pieces of the file that n bytes from off on are in.
func (v *Volume) each(off, n int64, do func(at, done, n int64) error) error {
	done := int64(0)
	for _, s := range v.spans {
		if off >= s.Size {
			off -= s.Size
			continue
		}
		k := min(s.Size-off, n-done)
		if err := do(s.Offset+off, done, k); err != nil {
			return err
		}
		if done, off = done+k, 0; done == n {
			break
		}
	}
	return nil
}

// ReadAt reads within the partition.
func (v *Volume) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off >= v.Size {
		return 0, io.EOF
	}
	want := p[:min(int64(len(p)), v.Size-off)]
	err := v.each(off, int64(len(want)), func(at, done, n int64) error {
		_, err := v.f.ReadAt(want[done:done+n], at)
		return err
	})
	if err == nil && len(want) < len(p) {
		err = io.EOF
	}
	return len(want), err
}

// WriteAt writes within the partition.
func (v *Volume) WriteAt(p []byte, off int64) (int, error) {
	if off < 0 || off > v.Size || int64(len(p)) > v.Size-off {
		return 0, fmt.Errorf("%d bytes at %d go beyond the %d of %s", len(p), off, v.Size, v.Name)
	}
	return len(p), v.each(off, int64(len(p)), func(at, done, n int64) error {
		_, err := v.f.WriteAt(p[done:done+n], at)
		return err
	})
}

// Read, Write and Seek serve the phone's shell.
func (v *Volume) Read(p []byte) (int, error) {
	n, err := v.ReadAt(p, v.at)
	v.at += int64(n)
	if n > 0 {
		err = nil
	}
	return n, err
}

func (v *Volume) Write(p []byte) (int, error) {
	n, err := v.WriteAt(p, v.at)
	v.at += int64(n)
	return n, err
}

// Seek knows io.SeekStart only.
func (v *Volume) Seek(off int64, _ int) (int64, error) { v.at = off; return off, nil }

// Close closes the file.
func (v *Volume) Close() error { return v.f.Close() }

var zeroBlock [1 << 20]byte

// Zero makes n bytes from off on read as zeros; what never was written stays
// unwritten, so the file stays sparse.
func (v *Volume) Zero(off, n int64) error {
	buf := make([]byte, len(zeroBlock))
	for n > 0 {
		p := buf[:min(n, int64(len(buf)))]
		if _, err := v.ReadAt(p, off); err != nil && err != io.EOF {
			return err
		}
		if !bytes.Equal(p, zeroBlock[:len(p)]) {
			if _, err := v.WriteAt(zeroBlock[:len(p)], off); err != nil {
				return err
			}
		}
		off, n = off+int64(len(p)), n-int64(len(p))
	}
	return nil
}

// Erase makes the whole partition zeros.
func (st *Disk) Erase(name string) error {
	if err := st.Forget(name); err != nil {
		return err
	}
	v, err := st.Open(name)
	if err != nil {
		return err
	}
	defer v.Close()
	if !st.Has(name) {
		return v.Zero(0, v.Size)
	}
	if err := v.f.Truncate(0); err != nil {
		return err
	}
	return v.f.Truncate(v.Size)
}

// Put writes b to a partition from off on and leaves the rest.
func (st *Disk) Put(name string, b []byte, off int64) error {
	v, err := st.Open(name)
	if err != nil {
		return err
	}
	defer v.Close()
	_, err = v.WriteAt(b, off)
	return err
}

// Head reads the first n bytes of a partition.
func (st *Disk) Head(name string, n int64) ([]byte, error) { return st.Piece(name, 0, n) }

func (st *Disk) Piece(name string, off, n int64) ([]byte, error) {
	v, err := st.Open(name)
	if err != nil {
		return nil, err
	}
	defer v.Close()
	b := make([]byte, max(0, min(n, v.Size-off)))
	_, err = v.ReadAt(b, off)
	return b, err
}

// Flash writes a download, raw or sparse, as a bootloader does.
func (st *Disk) Flash(name string, b []byte) error {
	if err := st.Forget(name); err != nil {
		return err
	}
	v, err := st.Open(name)
	if err != nil {
		return err
	}
	defer v.Close()
	if h, err := sparse.ParseHeader(b); err == nil {
		if h.Size() > v.Size {
			return fmt.Errorf("image of %d bytes does not fit %d", h.Size(), v.Size)
		}
		return unsparse(v, b)
	}
	if int64(len(b)) > v.Size {
		return fmt.Errorf("image of %d bytes does not fit %d", len(b), v.Size)
	}
	_, err = v.WriteAt(b, 0)
	return err
}

func unsparse(v *Volume, b []byte) error {
	h, chunks, err := sparse.Chunks(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		return err
	}
	bs := int64(h.BlockSize)
	for _, c := range chunks {
		off, n := c.Block*bs, c.Blocks*bs
		switch {
		case c.Type == sparse.ChunkRaw:
			_, err = v.WriteAt(b[c.Data:c.Data+n], off)
		case c.Type == sparse.ChunkFill && c.Fill == 0:
			err = v.Zero(off, n)
		case c.Type == sparse.ChunkFill:
			word := []byte{byte(c.Fill), byte(c.Fill >> 8), byte(c.Fill >> 16), byte(c.Fill >> 24)}
			fill := bytes.Repeat(word, int(bs)/4)
			for range c.Blocks {
				if _, err = v.WriteAt(fill, off); err != nil {
					break
				}
				off += bs
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Names gives all partitions' full names of a base name.
func (st *Disk) Names(base string) []string {
	if st.Slots[base] {
		return []string{base + "_a", base + "_b"}
	}
	return []string{base}
}

// All gives every partition's full name, logical ones last.
func (st *Disk) All() []string {
	var list []string
	for n := range st.Sizes {
		list = append(list, n)
	}
	slices.Sort(list)
	if m, err := st.Super(); err == nil {
		for i := range m.Partitions {
			list = append(list, m.Partitions[i].Name)
		}
	}
	return list
}

// Overlay is the folder of the files added to a partition; they are beside it
// and are gone when it is written again.
func (st *Disk) Overlay(partition string) string { return filepath.Join(st.Dir, "added", partition) }

// SharedDir is the folder of the shared storage, beside the partitions: it goes with the data.
const SharedDir = "shared"

// Stat tells of the partition's file.
func (v *Volume) Stat() (os.FileInfo, error) { return v.f.Stat() }
