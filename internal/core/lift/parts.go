package lift

import (
	"context"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"sync"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/sparse"
)

// partName is how the pieces of an image that was cut into sparse parts are
// named: a number behind a dot, or behind the word "chunk" or "part".
var partName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^(.*(?:\.|chunk|part))(\d+)$`) })

// parts lists a sparse image that lies in several files as one.
func (l *lister) parts(name string) (bool, error) {
	m := partName().FindStringSubmatch(name)
	if m == nil || l.o.Sibling == nil {
		return false, nil
	}
	first, err := strconv.Atoi(m[2])
	if err != nil || first > 1 {
		return false, fmt.Errorf("%s is one piece of an image; name the first one (%s0 or %s1), the others are found beside it", name, m[1], m[1])
	}
	type piece struct {
		r io.ReaderAt
		v *sparse.View
	}
	var all []piece
	for i := first; ; i++ {
		r, size, err := l.r, l.size, error(nil)
		if i > first {
			if r, size, err = l.o.Sibling(m[1] + strconv.Itoa(i)); err != nil {
				break // the last one has been found
			}
		}
		v, err := sparse.NewView(r, size)
		if err != nil {
			return false, fmt.Errorf("%s%d: %w", m[1], i, err)
		}
		if len(all) > 0 && (v.Size() != all[0].v.Size() || v.BlockSize != all[0].v.BlockSize) {
			return false, image.Errorf("sparse image", 12, "%s%d belongs to an image of %d bytes, the first piece to one of %d", m[1], i, v.Size(), all[0].v.Size())
		}
		all = append(all, piece{r, v})
	}
	if len(all) == 1 {
		return false, nil
	}
	size := all[0].v.Size()
	l.s.Notes = append(l.s.Notes, fmt.Sprintf("it is cut into %d pieces, which are put together", len(all)))
	l.add(Item{Name: m[1] + "raw.img", Size: size, Image: true, Write: func(ctx context.Context, o Out, moved func(int64)) ([]byte, error) {
		if err := o.SetSize(size); err != nil {
			return nil, err
		}
		for _, p := range all {
			if err := expand(ctx, p.v, p.r, o, moved); err != nil {
				return nil, err
			}
		}
		return nil, nil
	}})
	return true, nil
}
