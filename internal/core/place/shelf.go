package place

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"jarlid/internal/core/card"
)

// Shelf is the folder, in the root of a partition, that files are moved aside to.
const Shelf = ".jarlid-shelf"

// ShelfRecord is the file in it that says what came from where.
const ShelfRecord = "record.yaml"

// Shelvable are the partitions whose files can be moved aside, by the first part
// of a path.
var Shelvable = []string{"system", "vendor", "product", "system_ext", "odm"}

// Item is one file or folder of the phone.
type Item struct {
	Path      string // as a person names it: /vendor/overlay/X
	Partition card.Partition
	Inside    string // its path in the partition
	Missing   bool   // it is not where it is to be moved from
	There     bool   // something is where it is to be moved to: with Missing, it was moved before
}

// Aside is where it is kept in the partition while it is moved aside.
func (i Item) Aside() string { return path.Join(Shelf, i.Inside) }

// ParseShelfPath takes a path apart: the partition's name without a slot, and the
// rest below it.
func ParseShelfPath(s string) (partition, rest string, err error) {
	p := path.Clean("/" + strings.TrimSpace(s))
	first, rest, _ := strings.Cut(p[1:], "/")
	switch {
	case !strings.HasPrefix(s, "/"):
		return "", "", fmt.Errorf("%q is no path on the phone: it begins with /, as /vendor/overlay", s)
	case !slices.Contains(Shelvable, first):
		return "", "", fmt.Errorf("%s lies in no partition that files are moved aside in: /%s", s,
			strings.Join(Shelvable, ", /"))
	case rest == "":
		return "", "", fmt.Errorf("%s is a whole partition; name a file or folder in it", s)
	case first == "system" && (rest == "build.prop" || rest == "bin" || rest == "lib64" || rest == "lib" ||
		rest == "framework" || rest == "etc"):
		return "", "", fmt.Errorf("nothing starts without %s", s)
	}
	return first, rest, nil
}
