package files

import (
	"context"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"jarlid/internal/core/image/sums"
	"jarlid/internal/core/lift"
	"jarlid/internal/core/local"
)

// mostDigests is how large a set's member may be that is checked for digests, in bytes.
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
	m.stated = append(m.stated, Stated{From: base, List: slices.DeleteFunc(list, func(d sums.Sum) bool {
		return d.Name == ""
	})})
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
			if _, err := os.Stat(filepath.Join(m.Set, filepath.FromSlash(d.Name))); err == nil {
				// below a set's folder
				continue
			}
			if !m.seen[base] && !slices.Contains(m.Missing, base) {
				m.Missing = append(m.Missing, base)
			}
		}
	}
}

// heldInSet compares a member of a set with what the set's own digests state of it, and reports whether
// they state anything. They may be of the member as it is packed or of what is inside, so each is asked by
// its name.
func (m *Material) heldInSet(name string, g Gathering) {
	m.seen[filepath.Base(name)] = true
	for _, s := range m.stated {
		if mine := sums.For(s.List, name); len(mine) > 0 {
			g.Verifier.State(name, Stated{From: s.From, List: mine})
			m.Held++
		}
	}
}
