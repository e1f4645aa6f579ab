// Package sums reads files of digests in the layouts of the GNU and BSD tools,
// and digests as people paste them.
package sums

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"hash"
	"path"
	"strings"
)

// Algorithm is a digest's kind.
type Algorithm string

// The algorithms, by the length of their digests.
const (
	MD5    Algorithm = "md5"
	SHA1   Algorithm = "sha1"
	SHA256 Algorithm = "sha256"
	SHA512 Algorithm = "sha512"
)

var byLength = map[int]Algorithm{md5.Size: MD5, sha1.Size: SHA1, sha256.Size: SHA256, sha512.Size: SHA512}

// New gives a hash of the algorithm.
func (a Algorithm) New() hash.Hash {
	switch a {
	case MD5:
		return md5.New()
	case SHA1:
		return sha1.New()
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
	for _, a := range []Algorithm{SHA256, SHA512, SHA1, MD5} {
		for _, name := range []string{string(a), "sha-" + strings.TrimPrefix(string(a), "sha")} {
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

// Parse reads the lines of a sums file; lines of other kinds are left out.
func Parse(text string) []Sum {
	var list []Sum
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\r\n")
		if s, ok := parseLine(line); ok {
			list = append(list, s)
		}
	}
	return list
}

func parseLine(line string) (Sum, bool) {
	t := strings.TrimSpace(line)
	if t == "" || t[0] == '#' || t[0] == ';' {
		return Sum{}, false
	}
	// BSD: ALGORITHM (name) = digest
	if algo, rest, ok := strings.Cut(t, " ("); ok {
		if i := strings.LastIndex(rest, ") = "); i >= 0 {
			if s, ok := ParseDigest(rest[i+4:]); ok && strings.EqualFold(strings.ReplaceAll(algo, "-", ""), string(s.Algorithm)) {
				s.Name = rest[:i]
				return s, true
			}
		}
	}
	// GNU: digest, a blank, a blank or an asterisk, name; a backslash before
	// the digest says that the name is escaped.
	escaped := strings.HasPrefix(t, `\`)
	word, rest, _ := strings.Cut(strings.TrimPrefix(t, `\`), " ")
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
		if s.Name == "" && len(list) == 1 || s.Name != "" && path.Base(strings.ReplaceAll(s.Name, `\`, "/")) == base {
			out = append(out, s)
		}
	}
	return out
}
