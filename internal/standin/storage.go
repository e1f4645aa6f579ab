package standin

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"jarlid/internal/core/image/sparse"
)

// storage is the phone's partitions: a sparse file each.
type storage struct {
	dir   string
	sizes map[string]int64 // by full name, with the slot's suffix
	kinds map[string]string
	slots map[string]bool // by name without suffix
}

func openStorage(dir string, s *spec) (*storage, error) {
	st := &storage{dir: filepath.Join(dir, "partitions"), sizes: map[string]int64{}, kinds: map[string]string{}, slots: map[string]bool{}}
	if err := os.MkdirAll(st.dir, 0o755); err != nil {
		return nil, err
	}
	for _, p := range s.Partitions {
		st.slots[p.Name] = p.Slots
		names := []string{p.Name}
		if p.Slots {
			names = []string{p.Name + "_a", p.Name + "_b"}
		}
		for _, n := range names {
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

func (st *storage) has(name string) bool { _, ok := st.sizes[name]; return ok }

// volume is an open partition. It never grows.
type volume struct {
	*os.File
	name string
	size int64
}

func (st *storage) open(name string) (*volume, error) {
	size, ok := st.sizes[name]
	if !ok {
		return nil, fmt.Errorf("no partition %s", name)
	}
	f, err := os.OpenFile(st.path(name), os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	return &volume{File: f, name: name, size: size}, nil
}

// WriteAt writes within the partition.
func (v *volume) WriteAt(p []byte, off int64) (int, error) {
	if off < 0 || off > v.size || int64(len(p)) > v.size-off {
		return 0, fmt.Errorf("%d bytes at %d go beyond the %d of %s", len(p), off, v.size, v.name)
	}
	return v.File.WriteAt(p, off)
}

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
	v, err := st.open(name)
	if err != nil {
		return err
	}
	defer v.Close()
	if err := v.Truncate(0); err != nil {
		return err
	}
	return v.Truncate(v.size)
}

// put writes b to the start of a partition and leaves the rest.
func (st *storage) put(name string, b []byte) error {
	v, err := st.open(name)
	if err != nil {
		return err
	}
	defer v.Close()
	_, err = v.WriteAt(b, 0)
	return err
}

// head reads the first n bytes of a partition.
func (st *storage) head(name string, n int64) ([]byte, error) {
	v, err := st.open(name)
	if err != nil {
		return nil, err
	}
	defer v.Close()
	b := make([]byte, min(n, v.size))
	_, err = v.ReadAt(b, 0)
	return b, err
}

// flash writes a download, raw or sparse, as a bootloader does.
func (st *storage) flash(name string, b []byte) error {
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
