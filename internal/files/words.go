package files

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"jarlid/internal/host"
)

// Expand gives the files that words on the command line mean: quoted paths as dragged into a terminal,
// and patterns on systems whose shell leaves them. A pattern is in the last element alone, of * and ?;
// brackets are letters of a name everywhere.
func Expand(words []string) ([]string, error) {
	var out []string
	for _, s := range words {
		s = Unquote(s)
		if _, err := os.Stat(s); err == nil || !strings.ContainsAny(filepath.Base(s), "*?") || devicePath(s) {
			out = append(out, s)
			continue
		}
		list, err := matching(s)
		if err != nil {
			return nil, err
		}
		out = append(out, list...)
	}
	return out, nil
}

// devicePath reports whether a path is one of Windows' own form, in which a question mark is a letter:
// \\?\C:\set, \\.\COM5.
func devicePath(s string) bool {
	return host.Folds && (strings.HasPrefix(s, `\\?\`) || strings.HasPrefix(s, `\\.\`)) &&
		!strings.ContainsAny(s[4:], "*?")
}

// matching gives the files of a folder whose names match the last element of a path, in order. Where
// the system takes letters of both cases for one, the pattern does.
func matching(s string) ([]string, error) {
	dir, pattern := filepath.Split(s)
	list, err := os.ReadDir(filepath.Clean(dir))
	if err != nil {
		return nil, fmt.Errorf("no file matches %s: there is no folder %s", s, filepath.Clean(dir))
	}
	// Brackets and the sign that takes the meaning off others mean themselves.
	quoted := strings.NewReplacer(`\`, `\\`, "[", `\[`, "]", `\]`).Replace(pattern)
	var out []string
	for _, e := range list {
		name := e.Name()
		if strings.HasPrefix(name, ".") && !strings.HasPrefix(pattern, ".") {
			continue // as in a shell
		}
		one, as := quoted, name
		if host.Folds {
			one, as = strings.ToLower(one), strings.ToLower(as)
		}
		if ok, err := path.Match(one, as); err == nil && ok {
			out = append(out, dir+name)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("no file matches %s", s)
	}
	slices.Sort(out)
	return out, nil
}

// Unquote takes off a path what came along when it was dragged into a terminal or typed: quotes, blanks
// at its ends, a quote that the last separator took its meaning from ("C:\set\"), and separators at
// its end.
func Unquote(s string) string {
	if _, err := os.Stat(s); err == nil && !strings.HasSuffix(s, string(filepath.Separator)) {
		return s
	}
	t := strings.TrimSpace(s)
	switch {
	case len(t) >= 2 && (t[0] == '\'' || t[0] == '"') && t[len(t)-1] == t[0]:
		t = t[1 : len(t)-1]
	case host.Folds && strings.Count(t, `"`) == 1 && strings.HasSuffix(t, `"`): // no name there has one
		t = strings.TrimSuffix(t, `"`)
	}
	for len(t) > len(filepath.VolumeName(t))+1 && os.IsPathSeparator(t[len(t)-1]) {
		t = t[:len(t)-1]
	}
	return t
}

// Within gives the files of folders among the paths in their place, sorted, and other paths as they are.
func Within(paths []string) (out []string, err error) {
	for _, p := range paths {
		st, err := os.Stat(p)
		if err != nil || !st.IsDir() {
			out = append(out, p)
			continue
		}
		list, err := os.ReadDir(p)
		if err != nil {
			return nil, err
		}
		for _, e := range list {
			if st, err := os.Stat(filepath.Join(p, e.Name())); err == nil && st.Mode().IsRegular() {
				out = append(out, filepath.Join(p, e.Name()))
			}
		}
	}
	return out, nil
}
