package standin

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

// storage is the phone's partitions: a sparse file each, and logical ones
// within super.
type storage struct {
	dir   string
	sizes map[string]int64 // of physical ones by full name, with the slot's suffix
	kinds map[string]string
	slots map[string]bool // by name without suffix; logical ones too
	// cows are the logical partitions whose new contents wait in userdata for
	// the merge.
	cows     atomic.Pointer[map[string]span]
	slot     atomic.Int32 // whose metadata in super counts: 0 is slot a
	unmapped atomic.Bool  // the recovery that runs has not mapped the logical partitions
}

func openStorage(dir string, s *spec) (*storage, error) {
	st := &storage{dir: filepath.Join(dir, "partitions"), sizes: map[string]int64{}, kinds: map[string]string{}, slots: map[string]bool{}}
	st.cows.Store(&map[string]span{})
	if err := os.MkdirAll(st.dir, 0o755); err != nil {
		return nil, err
	}
	for _, name := range s.Super.Partitions {
		st.slots[name] = true
	}
	for _, p := range s.Partitions {
		st.slots[p.Name] = p.Slots
		for _, n := range st.names(p.Name) {
			st.sizes[n], st.kinds[n] = int64(p.Size), p.Type
			f, err := os.OpenFile(st.path(n), os.O_RDWR|os.O_CREATE, 0o644)
			if err != nil {
				return nil, err
			}
			err = f.Truncate(int64(p.Size))
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

func (st *storage) path(name string) string { return filepath.Join(st.dir, name+".img") }

// has tells of physical partitions.
func (st *storage) has(name string) bool { _, ok := st.sizes[name]; return ok }

// forget removes what lies in a partition as files: what was added to a
// system, and the shared storage with the data.
func (st *storage) forget(name string) error {
	if name == "userdata" {
		if err := os.RemoveAll(filepath.Join(filepath.Dir(st.dir), sharedDir)); err != nil {
			return err
		}
	}
	return os.RemoveAll(st.overlay(name))
}

// span is a run of bytes of a file.
type span struct {
	Offset int64 `json:"offset"`
	Size   int64 `json:"size"`
}

// volume is an open partition, physical or logical. It never grows.
type volume struct {
	f     *os.File
	name  string
	size  int64
	at    int64 // for Read and Seek
	spans []span
}

func (st *storage) open(name string) (*volume, error) {
	file, spans := name, []span{{0, st.sizes[name]}}
	if !st.has(name) {
		m, err := st.super()
		if err != nil {
			return nil, fmt.Errorf("no partition %s", name)
		}
		p := m.Partition(name)
		if p == nil {
			return nil, fmt.Errorf("no partition %s", name)
		}
		file, spans = "super", nil
		for _, e := range p.Extents {
			spans = append(spans, span{e.Offset, e.Size})
		}
		if cow, ok := (*st.cows.Load())[name]; ok {
			file, spans = "userdata", []span{cow}
		}
	}
	f, err := os.OpenFile(st.path(file), os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	v := &volume{f: f, name: name, spans: spans}
	for _, s := range spans {
		v.size += s.Size
	}
	return v, nil
}

// super reads the metadata of dynamic partitions that counts now.
func (st *storage) super() (*super.Metadata, error) {
	if !st.has("super") {
		return nil, fmt.Errorf("there is no super")
	}
	f, err := os.Open(st.path("super"))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return super.Parse(f, st.sizes["super"], int(st.slot.Load()))
}

// each calls do for the pieces of the file that n bytes from off on lie in.
func (v *volume) each(off, n int64, do func(at, done, n int64) error) error {
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
func (v *volume) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off >= v.size {
		return 0, io.EOF
	}
	want := p[:min(int64(len(p)), v.size-off)]
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
func (v *volume) WriteAt(p []byte, off int64) (int, error) {
	if off < 0 || off > v.size || int64(len(p)) > v.size-off {
		return 0, fmt.Errorf("%d bytes at %d go beyond the %d of %s", len(p), off, v.size, v.name)
	}
	return len(p), v.each(off, int64(len(p)), func(at, done, n int64) error {
		_, err := v.f.WriteAt(p[done:done+n], at)
		return err
	})
}

// Read, Write and Seek serve the phone's shell.
func (v *volume) Read(p []byte) (int, error) {
	n, err := v.ReadAt(p, v.at)
	v.at += int64(n)
	if n > 0 {
		err = nil
	}
	return n, err
}

func (v *volume) Write(p []byte) (int, error) {
	n, err := v.WriteAt(p, v.at)
	v.at += int64(n)
	return n, err
}

// Seek knows io.SeekStart only.
func (v *volume) Seek(off int64, _ int) (int64, error) { v.at = off; return off, nil }

// Close closes the file.
func (v *volume) Close() error { return v.f.Close() }

var zeroBlock [1 << 20]byte

// Zero makes n bytes from off on read as zeros; what never was written stays
// unwritten, so the file stays sparse.
func (v *volume) Zero(off, n int64) error {
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

// erase makes the whole partition zeros.
func (st *storage) erase(name string) error {
	if err := st.forget(name); err != nil {
		return err
	}
	v, err := st.open(name)
	if err != nil {
		return err
	}
	defer v.Close()
	if !st.has(name) {
		return v.Zero(0, v.size)
	}
	if err := v.f.Truncate(0); err != nil {
		return err
	}
	return v.f.Truncate(v.size)
}

// put writes b to a partition from off on and leaves the rest.
func (st *storage) put(name string, b []byte, off int64) error {
	v, err := st.open(name)
	if err != nil {
		return err
	}
	defer v.Close()
	_, err = v.WriteAt(b, off)
	return err
}

// head reads the first n bytes of a partition.
func (st *storage) head(name string, n int64) ([]byte, error) { return st.piece(name, 0, n) }

func (st *storage) piece(name string, off, n int64) ([]byte, error) {
	v, err := st.open(name)
	if err != nil {
		return nil, err
	}
	defer v.Close()
	b := make([]byte, max(0, min(n, v.size-off)))
	_, err = v.ReadAt(b, off)
	return b, err
}

// flash writes a download, raw or sparse, as a bootloader does.
func (st *storage) flash(name string, b []byte) error {
	if err := st.forget(name); err != nil {
		return err
	}
	v, err := st.open(name)
	if err != nil {
		return err
	}
	defer v.Close()
	if h, err := sparse.ParseHeader(b); err == nil {
		if h.Size() > v.size {
			return fmt.Errorf("image of %d bytes does not fit %d", h.Size(), v.size)
		}
		return unsparse(v, b)
	}
	if int64(len(b)) > v.size {
		return fmt.Errorf("image of %d bytes does not fit %d", len(b), v.size)
	}
	_, err = v.WriteAt(b, 0)
	return err
}

func unsparse(v *volume, b []byte) error {
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

// names gives all partitions' full names of a base name.
func (st *storage) names(base string) []string {
	if st.slots[base] {
		return []string{base + "_a", base + "_b"}
	}
	return []string{base}
}

// all gives every partition's full name, logical ones last.
func (st *storage) all() []string {
	var list []string
	for n := range st.sizes {
		list = append(list, n)
	}
	slices.Sort(list)
	if m, err := st.super(); err == nil {
		for i := range m.Partitions {
			list = append(list, m.Partitions[i].Name)
		}
	}
	return list
}
