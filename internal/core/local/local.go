// Package local gives files names that every computer can hold, in a form that can be read back,
// and keeps two files from sharing one.
package local

import (
	"fmt"
	"net/url"
	"path"
	"strings"
	"unicode"
)

// reserved tells of names that Windows keeps for devices, with whatever ending ("Naming Files,
// Paths, and Namespaces" in its documentation).
func reserved(base string) bool {
	switch base {
	case "con", "prn", "aux", "nul", "clock$":
		return true
	}
	return len(base) == 4 && (strings.HasPrefix(base, "com") || strings.HasPrefix(base, "lpt")) &&
		base[3] >= '1' && base[3] <= '9'
}

// Name writes a path with slashes so that every system can hold it: in each of its parts, what
// some system does not take is written as %XX (RFC 3986, 2.1), a percent sign too. On all systems
// the same, so that a folder can be carried from one to the other.
func Name(p string) string {
	parts := strings.Split(p, "/")
	for i, s := range parts {
		parts[i] = part(s)
	}
	return strings.Join(parts, "/")
}

func part(s string) string {
	var b strings.Builder
	base, _, _ := strings.Cut(strings.ToLower(s), ".")
	for i := 0; i < len(s); i++ {
		c := s[i]
		last := i == len(s)-1
		switch {
		case c < ' ' || c == 0x7f || strings.IndexByte(`<>:"|?*\%`, c) >= 0,
			last && (c == '.' || c == ' ') && s != ".", // Windows drops them
			i == 0 && (reserved(strings.TrimRight(base, " ")) || s == "." || s == ".."):
			fmt.Fprintf(&b, "%%%02X", c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

// original gives the path that Name wrote.
func original(p string) (string, error) { return url.PathUnescape(p) }

// Names gives each of several files a name of its own. The zero value is ready.
type Names struct{ used map[string]bool }

// For gives the name for a path: Name's, with a number where another file has that one already,
// also in letters of another case, which some systems take for the same.
func (n *Names) For(p string) string {
	name := Name(p)
	ext := path.Ext(name)
	stem := strings.TrimSuffix(name, ext)
	for k := 2; n.used[fold(name)]; k++ {
		name = fmt.Sprintf("%s (%d)%s", stem, k, ext)
	}
	n.Taken(name)
	return name
}

// Taken keeps a name that is in use already.
func (n *Names) Taken(name string) {
	if n.used == nil {
		n.used = map[string]bool{}
	}
	n.used[fold(name)] = true
}

// fold makes names that some system takes for one the same.
func fold(s string) string {
	return strings.Map(func(r rune) rune { return unicode.ToLower(unicode.ToUpper(r)) }, s)
}
