package cli

import (
	"bytes"
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
	"sync"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/sparse"
	"jarlid/internal/core/lift"
)

// liftCommand: take out what is inside.
func (a *app) liftCommand() *cobra.Command {
	var o liftOptions
	var limit string
	c := &cobra.Command{Use: "lift FILE [ITEM...] -o DIR", Short: "Take images and files out of a file", Args: words(1, -1, "a file, and perhaps items in it"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if o.dir == "" && !o.list {
				return usage("lift wants -o DIR, the folder to write to (or --list)")
			}
			if o.noDigest && o.sums {
				return usage("--sums wants the digests that --no-digest leaves out")
			}
			var err error
			if o.limit, err = parseBytes(limit); err != nil {
				return err
			}
			return a.lift(cmd.Context(), unquote(args[0]), args[1:], o)
		}}
	c.Flags().StringVarP(&o.dir, "out", "o", "", "folder to write to; made when it is not there")
	c.Flags().BoolVar(&o.list, "list", false, "only list what is in it")
	c.Flags().BoolVar(&o.sparse, "sparse", false, "write images as sparse images")
	c.Flags().BoolVar(&o.sums, "sums", false, "also write a SHA256SUMS")
	c.Flags().BoolVar(&o.noDigest, "no-digest", false, "leave out digests that are not made on the way anyhow")
	c.Flags().StringVar(&limit, "max-size", "64GiB", "the most a compressed stream may unpack to")
	return c
}

type liftOptions struct {
	dir                string
	list, sparse, sums bool
	noDigest           bool
	limit              int64
}

// liftRow is one item in the result of `lift`.
type liftRow struct {
	Name   string `json:"name"`
	Path   string `json:"path,omitempty"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256,omitempty"`
}

func (a *app) lift(ctx context.Context, path string, names []string, o liftOptions) error {
	f, size, err := openFile(path)
	if err != nil {
		return err
	}
	defer f.Close()
	a.result["items"] = []liftRow{}
	src, err := lift.Open(f, size, path, lift.Options{MaxSize: o.limit, Sibling: func(name string) (io.ReaderAt, int64, error) {
		f, size, err := openFile(filepath.Join(filepath.Dir(path), name))
		if err != nil {
			return nil, 0, err
		}
		a.later = append(a.later, func() { f.Close() })
		return f, size, nil
	}})
	if err != nil {
		return fmt.Errorf("%s: %w", filepath.Base(path), err)
	}
	a.out.Say(bench.Look, "%s is %s, %s", filepath.Base(path), src.File.Words(), image.Size(size))
	for _, n := range src.Notes {
		a.out.Say("note", "%s", n)
	}
	if o.list {
		rows := []liftRow{}
		for _, it := range src.Items {
			rows = append(rows, liftRow{Name: it.Name, Size: it.Size})
			if it.Size >= 0 {
				a.out.Say(bench.Look, "%s, %s", it.Name, image.Size(it.Size))
			} else {
				a.out.Say(bench.Look, "%s", it.Name)
			}
		}
		a.result["items"] = rows
		return nil
	}
	items, err := src.Pick(names)
	if err != nil {
		return err
	}
	if o.sparse && len(items) > 0 && src.File.Kind == ident.Unknown {
		a.out.Say("note", "nothing is known about the contents; they are written sparse as they are")
	}
	if err := os.MkdirAll(o.dir, 0o755); err != nil {
		return err
	}
	root, err := os.OpenRoot(o.dir)
	if err != nil {
		return err
	}
	defer root.Close()
	if err := roomFor(o.dir, items); err != nil {
		return err
	}
	ctx, cancel := a.untilStopped(ctx)
	defer cancel()
	rows := []liftRow{}
	for _, it := range items {
		row, err := a.liftOne(ctx, root, o, it)
		if err != nil {
			return fmt.Errorf("%s: %w", it.Name, err)
		}
		rows = append(rows, row)
		a.result["items"] = rows
		text := row.Path + ", " + image.Size(row.Size)
		if row.SHA256 != "" {
			text += ", SHA-256 " + row.SHA256
		}
		a.out.Say(bench.Good, "%s", text)
	}
	if o.sums {
		if err := writeSums(root, rows); err != nil {
			return err
		}
	}
	a.out.Say(bench.Done, "%d taken out of %s to %s", len(rows), filepath.Base(path), o.dir)
	return nil
}

// roomFor checks beforehand that the disk has room.
func roomFor(dir string, items []lift.Item) error {
	need := int64(0)
	for _, it := range items {
		need += max(it.Size, 0)
	}
	free, ok := freeSpace(dir)
	if ok && need > free {
		return fmt.Errorf("%s has %s free, and %s are needed; nothing was written", dir, image.Size(free), image.Size(need))
	}
	return nil
}

// outFile is a file being written under a name that is not its final one.
type outFile struct {
	f  *os.File
	mu sync.Mutex
	hi int64 // nothing was written from here on
}

func (o *outFile) WriteAt(p []byte, off int64) (int, error) {
	n, err := o.f.WriteAt(p, off)
	o.mu.Lock()
	o.hi = max(o.hi, off+int64(n))
	o.mu.Unlock()
	return n, err
}

func (o *outFile) ReadAt(p []byte, off int64) (int, error) { return o.f.ReadAt(p, off) }

func (o *outFile) SetSize(n int64) error { return o.f.Truncate(n) }

// CopyFrom lets the system copy between two files.
func (o *outFile) CopyFrom(src io.ReaderAt, from, to, n int64) (ok bool, err error) {
	f, ok := src.(*os.File)
	if !ok {
		return false, nil
	}
	if _, err := f.Seek(from, io.SeekStart); err != nil {
		return false, err
	}
	if _, err := o.f.Seek(to, io.SeekStart); err != nil {
		return false, err
	}
	got, err := io.CopyN(o.f, f, n)
	o.mu.Lock()
	o.hi = max(o.hi, to+got)
	o.mu.Unlock()
	return true, err
}

var zeroPiece [256 << 10]byte

// Zero leaves a hole where nothing was written before.
func (o *outFile) Zero(off, n int64) error {
	o.mu.Lock()
	hi := o.hi
	o.mu.Unlock()
	buf := make([]byte, min(n, int64(len(zeroPiece))))
	for end := min(off+n, hi); off < end; {
		b := buf[:min(int64(len(buf)), end-off)]
		k, err := o.f.ReadAt(b, off)
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		if !bytes.Equal(b[:k], zeroPiece[:k]) {
			if _, err := o.f.WriteAt(zeroPiece[:len(b)], off); err != nil {
				return err
			}
		}
		off += int64(len(b))
	}
	return nil
}

// liftOne writes an item under a passing name and gives it its own when it is
// whole.
func (a *app) liftOne(ctx context.Context, root *os.Root, o liftOptions, it lift.Item) (row liftRow, err error) {
	if dir := filepath.Dir(filepath.FromSlash(it.Name)); dir != "." {
		if err := root.MkdirAll(dir, 0o755); err != nil {
			return row, err
		}
	}
	name := filepath.FromSlash(it.Name)
	part := name + ".jarlid-part"
	f, err := root.OpenFile(part, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return row, err
	}
	defer func() {
		f.Close()
		if err != nil {
			root.Remove(part)
		}
	}()
	p := a.progress(bench.Recv, it.Name, it.Size)
	digest, err := it.Write(ctx, &outFile{f: f}, p.set)
	p.end()
	if err != nil {
		return row, err
	}
	if o.sparse {
		if f, err = a.makeSparse(root, part, f); err != nil {
			return row, err
		}
		digest = nil
	}
	st, err := f.Stat()
	if err != nil {
		return row, err
	}
	if digest == nil && !o.noDigest {
		h := sha256.New()
		if _, err := io.Copy(h, io.NewSectionReader(f, 0, st.Size())); err != nil {
			return row, err
		}
		digest = h.Sum(nil)
	}
	if err := f.Close(); err != nil {
		return row, err
	}
	if err := root.Rename(part, name); err != nil {
		return row, err
	}
	return liftRow{Name: it.Name, Path: filepath.Join(o.dir, name), Size: st.Size(), SHA256: hex.EncodeToString(digest)}, nil
}

// makeSparse replaces a raw file by the same as a sparse image, zeros as FILL 0.
func (a *app) makeSparse(root *os.Root, part string, raw *os.File) (*os.File, error) {
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
		root.Remove(tmp)
		return raw, err
	}
	return out, nil
}

func writeSums(root *os.Root, rows []liftRow) error {
	var b strings.Builder
	sort.Slice(rows, func(i, j int) bool { return rows[i].Name < rows[j].Name })
	for _, r := range rows {
		fmt.Fprintf(&b, "%s  %s\n", r.SHA256, r.Name)
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
