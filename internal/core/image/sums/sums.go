// Package sums reads files of digests in the layouts of the GNU and BSD tools,
// and digests as people paste them.
package sums

import (
	"bytes"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/binary"
	"encoding/hex"
	"hash"
	"path"
	"regexp"
	"strings"
	"sync"
	"unicode/utf16"
)

// Algorithm is a digest's kind.
type Algorithm string

// The algorithms, by the length of their digests.
const (
	MD5    Algorithm = "md5"
	SHA1   Algorithm = "sha1"
	SHA224 Algorithm = "sha224"
	SHA256 Algorithm = "sha256"
	SHA384 Algorithm = "sha384"
	SHA512 Algorithm = "sha512"
)

var byLength = map[int]Algorithm{md5.Size: MD5, sha1.Size: SHA1, sha256.Size224: SHA224, sha256.Size: SHA256,
	sha512.Size384: SHA384, sha512.Size: SHA512}

// New gives a hash of the algorithm.
func (a Algorithm) New() hash.Hash {
	switch a {
	case MD5:
		return md5.New()
	case SHA1:
		return sha1.New()
	case SHA224:
		return sha256.New224()
	case SHA384:
		return sha512.New384()
	case SHA512:
		return sha512.New()
	}
	return sha256.New()
}

// Sum is one digest, of the named file or, with no name, of whatever it was
// given for.
type Sum struct {
	Name      string
	Algorithm Algorithm
	Digest    string // hex, small letters
}

// ParseDigest reads a digest as pasted: hex of any case, blanks and colons
// between, its algorithm's name before it.
func ParseDigest(s string) (Sum, bool) {
	s = strings.TrimSpace(s)
	for _, a := range []Algorithm{SHA256, SHA512, SHA224, SHA384, SHA1, MD5} {
		size := strings.TrimPrefix(string(a), "sha")
		for _, name := range []string{string(a), "sha-" + size, "sha2-" + size} {
			if len(s) > len(name) && strings.EqualFold(s[:len(name)], name) {
				if rest := strings.TrimLeft(s[len(name):], " \t:=-"); rest != s[len(name):] {
					s = rest
				}
			}
		}
	}
	b, err := hex.DecodeString(strings.NewReplacer(" ", "", ":", "", "\t", "").Replace(s))
	a, ok := byLength[len(b)]
	if err != nil || !ok {
		return Sum{}, false
	}
	return Sum{Algorithm: a, Digest: hex.EncodeToString(b)}, true
}

// Text decodes a file of text: UTF-8 with or without a byte order mark, and UTF-16 with one, as
// Windows writes it (the Unicode standard, 3.10).
func Text(b []byte) string {
	var order binary.ByteOrder
	switch {
	case bytes.HasPrefix(b, []byte{0xef, 0xbb, 0xbf}):
		return string(b[3:])
	case bytes.HasPrefix(b, []byte{0xff, 0xfe}):
		order = binary.LittleEndian
	case bytes.HasPrefix(b, []byte{0xfe, 0xff}):
		order = binary.BigEndian
	default:
		return string(b)
	}
	units := make([]uint16, 0, len(b)/2)
	for b = b[2:]; len(b) >= 2; b = b[2:] {
		units = append(units, order.Uint16(b))
	}
	return string(utf16.Decode(units))
}

// Parse reads the lines of a sums file; lines of other kinds are left out.
func Parse(text string) []Sum {
	if list := parseShell(text); len(list) > 0 {
		return list
	}
	var list []Sum
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\r\n")
		if s, ok := parseLine(line); ok {
			list = append(list, s)
		}
	}
	return list
}

// parseShell reads what the Windows shell's digest command prints: a table with the columns
// Algorithm, Hash and Path, or, where it is wide, a list of the same.
func parseShell(text string) (list []Sum) {
	var one Sum
	table := false
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		f := strings.Fields(line)
		switch name, value, ok := strings.Cut(line, ":"); {
		case len(f) >= 3 && f[0] == "Algorithm" && f[1] == "Hash" && f[2] == "Path":
			table = true
		case table && len(f) >= 2:
			if s, ok := ParseDigest(f[1]); ok && strings.EqualFold(f[0], string(s.Algorithm)) {
				s.Name = strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(line[len(f[0]):]), f[1]))
				list = append(list, s)
			}
		case !ok || table:
		case strings.TrimSpace(name) == "Hash":
			one, _ = ParseDigest(value)
		case strings.TrimSpace(name) == "Path" && one.Digest != "":
			one.Name = strings.TrimSpace(value)
			list, one = append(list, one), Sum{}
		}
	}
	return list
}

// ParsePasted reads what a person pastes: a digest, or a whole line of a file of digests.
func ParsePasted(s string) (Sum, bool) {
	if d, ok := ParseDigest(s); ok {
		return d, true
	}
	return parseLine(strings.TrimSpace(s))
}

var bsd = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^([A-Za-z0-9-]+) ?\((.+)\) ?= ?([0-9A-Fa-f]+)$`)
})

func parseLine(line string) (Sum, bool) {
	t := strings.TrimSpace(line)
	if t == "" || t[0] == '#' || t[0] == ';' {
		return Sum{}, false
	}
	// BSD: ALGORITHM (name) = digest; OpenSSL writes it without blanks, and newer versions SHA2-256.
	if m := bsd().FindStringSubmatch(t); m != nil {
		algo := strings.ReplaceAll(strings.Replace(strings.ToLower(m[1]), "sha2-", "sha", 1), "-", "")
		if s, ok := ParseDigest(m[3]); ok && algo == string(s.Algorithm) {
			s.Name = m[2]
			return s, true
		}
	}
	// sha256:HEX, a blank, a name
	if algo, rest, ok := strings.Cut(t, ":"); ok {
		word, name, _ := strings.Cut(strings.ReplaceAll(strings.TrimSpace(rest), "\t", " "), " ")
		if s, ok := ParseDigest(word); ok && strings.EqualFold(algo, string(s.Algorithm)) {
			s.Name = strings.TrimPrefix(strings.TrimSpace(name), "*")
			return s, true
		}
	}
	// GNU: digest, a blank, a blank or an asterisk, name; a backslash before
	// the digest says that the name is escaped.
	escaped := strings.HasPrefix(t, `\`)
	word, rest := strings.TrimPrefix(t, `\`), ""
	if i := strings.IndexAny(word, " \t"); i >= 0 {
		word, rest = word[:i], word[i:]
	}
	b, err := hex.DecodeString(word)
	a, ok := byLength[len(b)]
	if err != nil || !ok {
		return Sum{}, false
	}
	name := strings.TrimPrefix(strings.TrimLeft(rest, " \t"), "*")
	if escaped {
		name = strings.NewReplacer(`\\`, `\`, `\n`, "\n", `\r`, "\r").Replace(name)
	}
	return Sum{Name: name, Algorithm: a, Digest: hex.EncodeToString(b)}, true
}

// For gives the sums that are meant for a file of that name: those listed under
// it (folders before it do not count), or, where a file of sums has a single
// line without a name, that one.
func For(list []Sum, name string) []Sum {
	var out []Sum
	base := path.Base(strings.ReplaceAll(name, `\`, "/"))
	for _, s := range list {
		if s.Name == "" && len(list) == 1 || s.Name != "" &&
			path.Base(strings.ReplaceAll(s.Name, `\`, "/")) == base {
			out = append(out, s)
		}
	}
	return out
}
