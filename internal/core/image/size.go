package image

import (
	"fmt"

	"jarlid/internal/core/spell"
)

var sizeUnits = []struct {
	name string
	size int64
}{{"GiB", 1 << 30}, {"MiB", 1 << 20}, {"KiB", 1 << 10}}

// Size writes a number of bytes in binary units: "18.2 MiB".
func Size(n int64) string {
	for _, u := range sizeUnits {
		if n >= u.size {
			return fmt.Sprintf("%.1f %s", float64(n)/float64(u.size), u.name)
		}
	}
	return spell.Counted(n, "byte")
}

// SizeOf writes how much of total is done, in the unit of the total: "11.7 of
// 18.2 MiB".
func SizeOf(done, total int64) string {
	for _, u := range sizeUnits {
		if total >= u.size {
			return fmt.Sprintf("%.1f of %s", float64(done)/float64(u.size), Size(total))
		}
	}
	return fmt.Sprintf("%d of %s", done, Size(total))
}
