package image

import (
	"fmt"
	"io"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
)

// Folder is what is beside a file: in its folder, or in the same archive. What it opens stays
// open until whoever made the folder closes it.
type Folder interface {
	// Names gives the names of the files in it, without their folders.
	Names() ([]string, error)
	// Open opens one by its name and gives its size in bytes.
	Open(name string) (r io.ReaderAt, size int64, err error)
}

// Series is a file that is in numbered pieces.
type Series struct {
	Stem  string   // the name of the whole: "super.img" of "super.img_sparsechunk.0"
	Names []string // of the pieces, in their order
	// Missing are the numbers between the first and the last that are not there, and the first one.
	Missing []int
	// Plain tells of names with nothing but a number behind a dash or a line ("system-1.img"), which
	// may as well be two images.
	Plain bool
	// Said tells of names that call themselves pieces: with "chunk" or "part" before the number.
	Said bool
}

var numbered = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`^(.+?)((?:[._-]?(?:sparse)?(?:chunk|part)[._-]?)|[._-]| ?\()` +
			`(\d{1,5})(\)?(?:\.img|\.bin|\.ext4|\.simg)?)$`)
})

// SeriesOf gives the series that name belongs to, of those in names; nil when its name has no
// number or it is alone.
func SeriesOf(name string, names []string) *Series {
	m := numbered().FindStringSubmatch(name)
	if m == nil {
		return nil
	}
	byNumber := map[int]string{}
	for _, n := range names {
		if k := numbered().FindStringSubmatch(n); k != nil && k[1] == m[1] && k[2] == m[2] && k[4] == m[4] {
			i, err := strconv.Atoi(k[3])
			if err != nil || byNumber[i] != "" { // "1" and "01"
				return nil
			}
			byNumber[i] = n
		}
	}
	var numbers []int
	for i := range byNumber {
		numbers = append(numbers, i)
	}
	slices.Sort(numbers)
	copied := strings.HasSuffix(m[2], "(") // "system (1).img", which may as well be a second download
	if copied != strings.HasPrefix(m[4], ")") {
		return nil
	}
	s := &Series{Stem: m[1] + strings.TrimPrefix(m[4], ")"),
		Plain: copied || m[2] == "-" || m[2] == "_" || m[2] == "." && m[4] != "",
		Said:  strings.Contains(m[2], "chunk") || strings.Contains(m[2], "part")}
	if len(numbers) == 0 || len(numbers) == 1 && (numbers[0] <= 1 || !s.Said) {
		// else a version: "system-4.2"
		return nil
	}
	next := min(1, numbers[0])
	for _, i := range numbers {
		for ; next < i && len(s.Missing) < 20; next++ {
			s.Missing = append(s.Missing, next)
		}
		next = i + 1
		s.Names = append(s.Names, byNumber[i])
	}
	return s
}

// MissingError says which pieces are not there; it is nil when none is known to be missing.
func (s *Series) MissingError(format string) error {
	if len(s.Missing) == 0 {
		return nil
	}
	var list []string
	for _, i := range s.Missing {
		list = append(list, strconv.Itoa(i))
	}
	return &Error{Format: format, Offset: -1, Short: true,
		What: fmt.Sprintf("of the pieces of %s number %s is not there; there is %s", s.Stem,
			strings.Join(list, ", "), strings.Join(s.Names, ", "))}
}

// Concat reads files one behind the other as one.
type Concat struct {
	parts []io.ReaderAt
	ends  []int64
}

// Add puts size bytes of r behind what is there, and gives where they begin.
func (c *Concat) Add(r io.ReaderAt, size int64) (at int64) {
	at = c.Size()
	c.parts, c.ends = append(c.parts, r), append(c.ends, at+size)
	return at
}

// Size is the length of all together, in bytes.
func (c *Concat) Size() int64 {
	if len(c.ends) == 0 {
		return 0
	}
	return c.ends[len(c.ends)-1]
}

// ReadAt reads like io.ReaderAt, across the edges.
func (c *Concat) ReadAt(p []byte, off int64) (int, error) {
	done := 0
	for done < len(p) {
		at := off + int64(done)
		i := sort.Search(len(c.ends), func(i int) bool { return c.ends[i] > at })
		if i == len(c.ends) {
			return done, io.EOF
		}
		begin := int64(0)
		if i > 0 {
			begin = c.ends[i-1]
		}
		q := p[done : done+int(min(int64(len(p)-done), c.ends[i]-at))]
		n, err := c.parts[i].ReadAt(q, at-begin)
		done += n
		if n < len(q) {
			return done, err
		}
	}
	return done, nil
}
