package boot

import (
	"bytes"
	"regexp"
	"strings"
	"sync"
)

// ParseProps reads a property file: lines of name=value, # for comments. What
// it imports is left out; ReadProps follows that.
func ParseProps(b []byte) map[string]string {
	props := map[string]string{}
	(&propReader{props: props}).file(b, "", 0)
	return props
}

// ReadProps reads the property file name and those it imports, as init does
// (system/core, init/property_service.cpp): of two values the later one is
// taken. read gives a file by its path on a phone, "/vendor/etc/more.prop". An
// import that can't be read is left out. The error is that of reading name.
func ReadProps(name string, read func(name string) ([]byte, error)) (map[string]string, error) {
	b, err := read(name)
	if err != nil {
		return nil, err
	}
	r := &propReader{props: map[string]string{}, read: read}
	r.file(b, "", 0)
	return r.props, nil
}

const (
	maxImportDepth = 8
	maxImports     = 64 // in all
)

type propReader struct {
	props   map[string]string
	read    func(name string) ([]byte, error)
	imports int
}

// file reads the lines of b: those that filter names, where there is one. With
// a star at its end it names a prefix.
func (r *propReader) file(b []byte, filter string, depth int) {
	prefix, all := strings.CutSuffix(filter, "*")
	for line := range bytes.Lines(b) {
		s := strings.TrimSpace(string(line))
		if s == "" || s[0] == '#' {
			continue
		}
		if rest, ok := strings.CutPrefix(s, "import "); ok && filter == "" {
			r.follow(rest, depth)
			continue
		}
		k, v, ok := strings.Cut(s, "=")
		k = strings.TrimSpace(k)
		if ok && (filter == "" || k == filter || all && strings.HasPrefix(k, prefix)) {
			r.props[k] = strings.TrimSpace(v)
		}
	}
}

func (r *propReader) follow(what string, depth int) {
	name, filter, _ := strings.Cut(strings.TrimSpace(what), " ")
	name, known := r.expand(name)
	if r.read == nil || !known || depth >= maxImportDepth || r.imports >= maxImports {
		return
	}
	r.imports++
	if b, err := r.read(name); err == nil {
		r.file(b, strings.TrimSpace(filter), depth+1)
	}
}

var inserted = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`\$\{([A-Za-z0-9_.-]+?)(?::-([^}]*))?\}`)
})

// expand puts values in place of ${name} and ${name:-default}; false where
// one is not known here: a phone states it when it starts.
func (r *propReader) expand(s string) (text string, known bool) {
	known = true
	return inserted().ReplaceAllStringFunc(s, func(found string) string {
		m := inserted().FindStringSubmatch(found)
		v := r.props[m[1]]
		if v == "" {
			v = m[2]
		}
		known = known && v != ""
		return v
	}), known
}
