package files

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sort"
	"strings"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/sparse"
	"jarlid/internal/core/lift"
	"jarlid/internal/core/local"
	"jarlid/internal/host"
)

// RoomFor checks beforehand that the disk has room.
func RoomFor(dir string, items []lift.Item) error {
	need := int64(0)
	for _, it := range items {
		need += max(it.Size, 0)
	}
	if err := Room(dir, need); err != nil {
		return fmt.Errorf("%w; nothing was written", err)
	}
	return nil
}

// Taken is one item that was taken out of a file.
type Taken struct {
	Name   string `json:"name"`
	Path   string `json:"path,omitempty"`
	Size   int64  `json:"size"` // bytes
	SHA256 string `json:"sha256,omitempty"`

	local string // its name below the folder, with slashes
}

// Shut reports whether an error says why one file can't be had, though nothing is wrong with it, and the
// others can: it is encrypted, or packed in a way that is not read.
func Shut(err error) bool {
	var large *lift.TooLargeError
	return err != nil && image.AboutNoDamage(err) && !image.ByComputer(err) && !errors.As(err, &large)
}

// Taking says how items are written.
type Taking struct {
	Dir      string   // what Root is called, for paths that are told
	Root     *os.Root // the folder they are written to
	Sparse   bool     // write images as sparse images
	NoDigest bool     // leave out digests that are not made on the way anyhow
	Names    *local.Names
	// Working is told what is being written, and how far it is; kind is what was done with it.
	Working Working
}

// worthTelling is the size from which on it is told how far an item is, in bytes: an archive may
// hold many thousand that are there at once.
const worthTelling = 1 << 20

// Take writes an item under a passing name and gives it its own when it is whole.
func (k Taking) Take(ctx context.Context, it lift.Item) (row Taken, err error) {
	root := k.Root
	name := filepath.FromSlash(k.Names.For(it.Name))
	if dir := filepath.Dir(name); dir != "." {
		if err := root.MkdirAll(dir, 0o755); err != nil {
			return row, err
		}
	}
	part := name + ".jarlid-part"
	f, err := root.OpenFile(part, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return row, err
	}
	defer func() {
		f.Close()
		if err != nil {
			_ = root.Remove(part)
		}
	}()
	moved, end := func(int64) {}, func() {}
	if it.Size < 0 || it.Size >= worthTelling {
		moved, end = k.Working("extracted", it.Name, it.Size)
	}
	digest, err := it.Write(ctx, NewOut(f), moved)
	end()
	if err != nil {
		return row, err
	}
	if k.Sparse {
		if f, err = makeSparse(root, part, f); err != nil {
			return row, err
		}
		digest = nil
	}
	st, err := f.Stat()
	if err != nil {
		return row, err
	}
	if digest == nil && !k.NoDigest {
		h := sha256.New()
		if _, err := io.Copy(h, io.NewSectionReader(f, 0, st.Size())); err != nil {
			return row, err
		}
		digest = h.Sum(nil)
	}
	if err := f.Close(); err != nil {
		return row, err
	}
	if err := host.Retry(func() error { return root.Rename(part, name) }); err != nil {
		return row, err
	}
	return Taken{Name: it.Name, Path: filepath.Join(k.Dir, name), Size: st.Size(),
		SHA256: hex.EncodeToString(digest), local: filepath.ToSlash(name)}, nil
}

// makeSparse replaces a raw file by the same as a sparse image, zeros as FILL 0.
func makeSparse(root *os.Root, part string, raw *os.File) (*os.File, error) {
	st, err := raw.Stat()
	if err != nil {
		return raw, err
	}
	tmp := part + "-sparse"
	out, err := root.OpenFile(tmp, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return raw, err
	}
	cut, err := sparse.Cut(raw, st.Size(), 1<<62)
	if err == nil {
		var p *sparse.Part
		if p, err = cut.Next(); err == nil {
			err = p.WriteTo(out, raw)
		}
	}
	if err == nil {
		raw.Close()
		err = root.Rename(tmp, part)
	}
	if err != nil {
		out.Close()
		_ = root.Remove(tmp)
		return raw, err
	}
	return out, nil
}

// WriteSums writes the digests of what was taken out as SHA256SUMS.
func WriteSums(root *os.Root, rows []Taken) error {
	var b strings.Builder
	sort.Slice(rows, func(i, j int) bool { return rows[i].Name < rows[j].Name })
	for _, r := range rows {
		fmt.Fprintf(&b, "%s  %s\n", r.SHA256, r.local)
	}
	f, err := root.Create("SHA256SUMS")
	if err != nil {
		return err
	}
	_, err = f.WriteString(b.String())
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	return err
}
