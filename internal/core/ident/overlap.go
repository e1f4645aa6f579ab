package ident

import (
	"archive/zip"
	"cmp"
	"fmt"
	"slices"

	"jarlid/internal/core/image"
)

// Overlap is the error of a zip whose members share bytes: however small it is, it extracts to any size. A
// zip that a program packed has each byte in one member (APPNOTE 6.3.10, 4.3.6).
func Overlap(z *zip.Reader) error {
	if z == nil {
		return nil
	}
	type stored struct {
		from, to int64
		name     string
	}
	var list []stored
	for _, m := range z.File {
		at, err := m.DataOffset()
		if err != nil || m.CompressedSize64 == 0 || m.CompressedSize64 > 1<<62 {
			continue // what can't be read is an error where it is opened
		}
		list = append(list, stored{at, at + int64(m.CompressedSize64), m.Name})
	}
	slices.SortFunc(list, func(a, b stored) int { return cmp.Compare(a.from, b.from) })
	for i := 1; i < len(list); i++ {
		if list[i].from < list[i-1].to {
			return &image.Error{Format: "zip archive", Offset: list[i].from,
				What: fmt.Sprintf("its members %q and %q share bytes, so it extracts to more than it holds",
					list[i-1].name, list[i].name)}
		}
	}
	return nil
}
