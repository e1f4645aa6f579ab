package files

import (
	"context"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/sums"
	"jarlid/internal/core/lift"
	"jarlid/internal/core/local"
	"jarlid/internal/core/proof"
)

// Working is told that a piece of work on files begins, and how far it is: kind is what is done with
// them, total is in bytes.
type Working func(kind, what string, total int64) (moved func(int64), end func())

// Comparer holds files against the digests that lie beside them, each once as long as it is not changed.
// The zero value is ready; several may use it at the same time.
type Comparer struct {
	mu   sync.Mutex
	held map[sumKey]bool
}

// Compare does so, and against the line behind a file where it is an archive that has one. all, which
// may be nil, keeps the digests that several ask for; working may be nil too. Errors: finding
// digest-differs, and what keeps the file from being read.
func (c *Comparer) Compare(ctx context.Context, name string, all *Sums, working Working) error {
	f, size, err := Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	key := sumKey{name, size, st.ModTime()}
	c.mu.Lock()
	done := c.held[key]
	c.mu.Unlock()
	if done {
		return nil
	}
	if err := compare(ctx, f, size, name, all, working); err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.held == nil {
		c.held = map[sumKey]bool{}
	}
	c.held[key] = true
	return nil
}

func compare(ctx context.Context, f io.ReaderAt, size int64, name string, all *Sums, working Working) error {
	list := Beside(name, func(error) {}) // what can't be read states nothing; proof says so
	again := "fetch it again; jarlid proof " + local.Quote(name) + " tells more"
	for _, s := range list {
		if !s.Loose {
			s.List = sums.For(s.List, name)
		}
		if err := held(ctx, f, size, name, again, s, all, working); err != nil {
			return err
		}
	}
	if s, covered, ok := ident.AppendedDigest(f, size); ok && strings.HasSuffix(path.Ext(strings.ToLower(s.Name)), ".tar") {
		return held(ctx, f, covered, name, again, Stated{From: "the line behind it", List: []sums.Sum{s}}, nil, working)
	}
	return nil
}

// held compares size bytes of r, a file called name, with what s states of it.
func held(ctx context.Context, r io.ReaderAt, size int64, name, again string, s Stated, all *Sums, working Working) error {
	for _, want := range s.List {
		moved, end := func(int64) {}, func() {}
		if working != nil {
			moved, end = working("compared", "comparing "+filepath.Base(name)+" with "+s.From, size)
		}
		var got string
		var err error
		if all != nil && want.Algorithm == sums.SHA256 {
			got, _, err = all.Of(ctx, name, moved)
		} else {
			got, err = proof.Digest(ctx, r, size, want.Algorithm, moved)
		}
		end()
		if err != nil {
			return err
		}
		if got != want.Digest {
			return finding.Stopped(finding.DigestDiffers, filepath.Base(name),
				fmt.Sprintf("%s is another file than %s states: its %s is %s, stated is %s", filepath.Base(name), s.From, want.Algorithm, got, want.Digest),
				again)
		}
	}
	return nil
}

// mostDigests is how large a set's member may be that is looked at for digests, in bytes.
const mostDigests = maxManifest

// maybeSums tells by its name whether a set's member may hold digests.
func maybeSums(name string) bool {
	base := strings.ToLower(path.Base(strings.ReplaceAll(name, `\`, "/")))
	for _, word := range []string{"sums", "sha1", "sha256", "sha512", "md5", "checksum", "digest"} {
		if strings.Contains(base, word) {
			return true
		}
	}
	return false
}

// states takes over what a member of a set, called name, states of the others; false where it is no
// file of digests.
func (m *Material) states(name string, b []byte) bool {
	base := path.Base(strings.ReplaceAll(name, `\`, "/"))
	text := sums.Text(b)
	d, bare := sums.ParseDigest(text)
	for _, ext := range neighbours {
		if bare && strings.HasSuffix(strings.ToLower(base), ext) {
			d.Name = base[:len(base)-len(ext)]
			m.stated = append(m.stated, Stated{From: base, List: []sums.Sum{d}})
			return true
		}
	}
	list := sums.Parse(text)
	if len(list) == 0 {
		return false
	}
	// One without a name could be any member's.
	m.stated = append(m.stated, Stated{From: base, List: slices.DeleteFunc(list, func(d sums.Sum) bool { return d.Name == "" })})
	return true
}

// statesItem does so for a member of an archive.
func (m *Material) statesItem(ctx context.Context, it lift.Item, sub string, g Gathering) (bool, error) {
	if !maybeSums(it.Name) || it.Size > mostDigests {
		return false, nil
	}
	out := filepath.Join(sub, "digests."+local.Name(path.Base(it.Name)))
	g.Working = nil
	if err := take(ctx, it, out, g); err != nil {
		return false, err
	}
	b, err := ReadSmall(out, mostDigests)
	if err != nil {
		return false, err
	}
	return m.states(it.Name, b), nil
}

// miss finds what the set's digests state and nothing in it is called.
func (m *Material) miss() {
	for _, s := range m.stated {
		for _, d := range s.List {
			base := path.Base(strings.ReplaceAll(d.Name, `\`, "/"))
			if _, err := os.Stat(filepath.Join(m.Set, filepath.FromSlash(d.Name))); err == nil { // below a set's folder
				continue
			}
			if !m.seen[base] && !slices.Contains(m.Missing, base) {
				m.Missing = append(m.Missing, base)
			}
		}
	}
}

// heldInSet holds a member of a set against what the set's own digests state of it. They may be of the
// member as it is packed or of what is inside, so each is asked by its name.
func (m *Material) heldInSet(ctx context.Context, name string, g Gathering) error {
	m.seen[filepath.Base(name)] = true
	for _, s := range m.stated {
		mine := Stated{From: s.From, List: sums.For(s.List, name)}
		if len(mine.List) == 0 {
			continue
		}
		f, size, err := Open(name)
		if err != nil {
			return err
		}
		err = held(ctx, f, size, name, "fetch "+local.Quote(m.Set)+" again", mine, nil, g.Working)
		f.Close()
		if err != nil {
			return err
		}
		m.Held++
	}
	return nil
}
