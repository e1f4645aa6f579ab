package ident

import (
	"fmt"
	"io"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/blocklist"
	"jarlid/internal/core/image/sparse"
)

// pieces makes one image of a sparse file and those beside it that are cut from the same one. ok
// is false when it is alone; the view is nil when they don't fit.
func (f *File) pieces() (v *sparse.View, ok bool) {
	if f.depth > 0 {
		return nil, false
	}
	s, all, err := series(f.opt.Beside, f.Name())
	if s == nil {
		return nil, false
	}
	missing := s.MissingError("sparse image")
	if err == nil {
		v, _, err = sparse.Join(all)
		if err != nil && !s.Said {
			return nil, false // several images whose names are alike, as two versions of one
		}
	}
	// Two versions of one image overlap. What does not is cut from one, however it is called.
	if missing != nil && (s.Said || err == nil) {
		err = missing
	}
	if err != nil {
		if s.Plain && missing == nil {
			return nil, false
		}
		f.Pieces, f.stem = s.Names, s.Stem
		f.damaged(err)
		return nil, true
	}
	f.Pieces, f.stem, f.Inside = s.Names, s.Stem, v.Size()
	f.Notes = append(f.Notes, fmt.Sprintf("it is one image in %d pieces: %s", len(all),
		strings.Join(s.Names, ", ")))
	if last(all) {
		f.Notes = append(f.Notes, "its last piece is as large as the others and ends before the image "+
			"does: one more may be missing")
	}
	return v, true
}

// Pieces finds the files of a folder that are cut from the same sparse image as the one called
// name; nil when it is alone. Errors: *image.Error where one is missing.
func Pieces(beside image.Folder, name string) (*image.Series, []sparse.Piece, error) {
	s, list, err := series(beside, name)
	if s == nil || err != nil {
		return s, nil, err
	}
	return s, list, s.MissingError("sparse image")
}

// series opens the files that are numbered like the one called name; nil when it is alone.
func series(beside image.Folder, name string) (*image.Series, []sparse.Piece, error) {
	if beside == nil {
		return nil, nil, nil
	}
	names, err := beside.Names()
	if err != nil {
		return nil, nil, nil // a folder that can't be listed has no neighbours to offer
	}
	s := image.SeriesOf(name, names)
	if s == nil {
		return nil, nil, nil
	}
	var list []sparse.Piece
	for _, n := range s.Names {
		r, size, err := beside.Open(n)
		if err != nil {
			return s, nil, err
		}
		list = append(list, sparse.Piece{Name: n, R: r, Size: size})
	}
	return s, list, nil
}

// last reports whether the last of several pieces looks like one that others followed: cutters
// fill each but the last.
func last(all []sparse.Piece) bool {
	largest := int64(0)
	for _, p := range all {
		largest = max(largest, p.Size)
	}
	end := all[len(all)-1]
	v, err := sparse.NewView(end.R, end.Size)
	if err != nil || len(all) < 2 || end.Size < largest-largest/16 {
		return false
	}
	open := false
	_ = v.Runs(func(c sparse.Chunk) error { open = c.Type == sparse.ChunkDontCare; return nil })
	return open
}

// listFiles matches the names of a block list and of its data, which may be compressed and may be cut
// into numbered pieces after that: "system.transfer.list", "system.new.dat.br.3".
var listFiles = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(.+)\.(?:transfer\.list|patch\.dat|new\.dat(?:\.br)?(?:\.\d+)?)$`)
})

// ListBase gives the name that a block list and its data share, "system" of the names above; "" for
// names of other files.
func ListBase(name string) string {
	m := listFiles().FindStringSubmatch(filepath.Base(strings.ReplaceAll(name, `\`, "/")))
	if m == nil {
		return ""
	}
	return m[1]
}

// blockList reads the list of a partition whose data is beside it in a folder; false for other
// files.
func (f *File) blockList(r io.ReaderAt, size int64) bool {
	base := ListBase(f.Name())
	if base == "" || f.depth > 0 {
		return false
	}
	const list = ".transfer.list"
	if f.Name() != base+list {
		if f.opt.Beside == nil {
			return false
		}
		var err error
		if r, size, err = f.opt.Beside.Open(base + list); err != nil {
			if strings.HasSuffix(f.Name(), ".patch.dat") && size == 0 {
				return false
			}
			f.Kind = BlockList
			f.damaged(&image.Error{Format: "block data", Offset: -1, Short: true, What: base + list +
				", which says where its blocks go, is not beside it"})
			return true
		}
	}
	l, err := blocklist.Parse(io.NewSectionReader(r, 0, size))
	f.Kind = BlockList
	f.Details["list"] = base + list
	if err != nil {
		f.damaged(err)
		return true
	}
	f.Details["list_version"], f.Details["size"] = l.Version, l.Blocks*blocklist.BlockSize
	f.Inside = l.Blocks * blocklist.BlockSize
	if p := partitionByName(base + ".img"); p != "" {
		f.goes(p, "both", "name", "the list is named after it")
	}
	if f.opt.Beside == nil {
		return true
	}
	names, err := f.opt.Beside.Names()
	if err != nil {
		return true
	}
	for _, n := range names {
		if ListBase(n) == base {
			f.Pieces = append(f.Pieces, n)
		}
	}
	_, err = DataOf(base, names)
	f.damaged(err)
	return true
}

// DataOf gives the files that hold a block list's data, in their order: one, plain or as brotli,
// or several that are numbered. Errors: *image.Error when there is none, or one is missing.
func DataOf(base string, names []string) ([]string, error) {
	forms := []string{base + ".new.dat", base + ".new.dat.br"}
	for _, one := range forms {
		if slices.Contains(names, one) {
			return []string{one}, nil
		}
	}
	for _, form := range forms {
		for _, n := range names {
			if !strings.HasPrefix(n, form+".") || ListBase(n) != base {
				continue
			}
			s := image.SeriesOf(n, names)
			if s == nil {
				return []string{n}, nil // one that is numbered, and alone
			}
			return s.Names, s.MissingError("block data")
		}
	}
	return nil, &image.Error{Format: "block list", Offset: -1, Short: true,
		What: fmt.Sprintf("the data of %s (%s.new.dat, .br or numbered) is not beside it", base, base)}
}
