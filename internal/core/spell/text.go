package spell

import (
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"
)

// yamlWords are what the library says of a text that is no YAML, by a part of it, and what is said in its
// place.
var yamlWords = [][2]string{
	{"mapping values are not allowed", "a colon stands where none can: a value with one in it wants quotes"},
	{"mapping keys are not allowed", "a question mark stands where none can: a value that begins with one " +
		"wants quotes"},
	{"block sequence entries are not allowed", "an entry with a dash stands where none can: it wants a " +
		"line of its own"},
	{"tab character", "a tab stands where only blanks can"},
	{"cannot start any token", "a character stands where none like it can: a value that begins with one of " +
		"@ % ` wants quotes, and a tab is no blank"},
	{"expected ':'", "a name without a colon behind it"},
	{"expected key", "the lines are not indented alike, or a name with a colon is missing"},
	{"expected '-'", "the entries of a list are not indented alike"},
	{"',' or ']'", "a square bracket is not closed, or a comma is missing"},
	{"',' or '}'", "a curly bracket is not closed, or a comma is missing"},
	{"unexpected end of stream", "a quotation is not closed"},
	{"unexpected document indicator", "a quotation is not closed"},
	{"escape c", "a backslash in double quotes begins something that is none of YAML's characters; single " +
		"quotes leave it as it is"},
	{"node content", "something is missing, or a bracket too many"},
	{"unknown anchor", "a value that begins with * wants quotes"},
	{"excessive aliasing", "its aliases stand for too much"},
	{"contains itself", "an alias in it stands for itself"},
	{"tag", "a value that begins with ! wants quotes"},
	{"invalid map key", "a name is one word"},
	{"control characters", "there are bytes in it that are no text"},
	{"UTF-8", "there are bytes in it that are no text"},
	{"Unicode", "there are bytes in it that are no text"},
	{"character sequence", "there are bytes in it that are no text"},
	{"exceeded max depth", "its entries lie too deep within one another"},
}

// YAML tells what a text that is no YAML has wrong, and in which line, counted from 1; 0 where
// the library does not say it.
func YAML(err error) (line int, what string) {
	what = strings.TrimPrefix(err.Error(), "yaml: ")
	if rest, ok := strings.CutPrefix(what, "line "); ok {
		if n, text, ok := strings.Cut(rest, ": "); ok {
			if at, err := strconv.Atoi(n); err == nil {
				line, what = max(at, 1), text
			}
		}
	}
	for _, w := range yamlWords {
		if strings.Contains(what, w[0]) {
			return line, w[1]
		}
	}
	return line, "what stands there is not as YAML is written"
}

// typed are what the library says of YAML that holds something else than belongs there.
var typed = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile("^line (\\d+): (?:cannot unmarshal !!(\\w+)(?: `((?s:.*))`)? into " +
		"(\\S.*)|mapping key (\".*\") already defined at line (\\d+)|field (.*) (not found|already set) in " +
		"type (.*))$")
})

var (
	belongs = [][2]string{
		{"bool", "true or false"},
		{"int", "a whole number"},
		{"uint", "a whole number"},
		{"float", "a number"},
		{"[]", "a list"},
		{"string", "one text"},
		{"time.Duration", "a time such as 90s"},
	}
	kinds = map[string]string{"seq": "a list", "map": "a mapping (name: value)"}
)

// jsonKinds are the library's names of values.
var jsonKinds = map[string]string{
	"string": "a text",
	"number": "a number",
	"object": "an object",
	"array":  "a list",
	"bool":   "true or false",
	"null":   "nothing",
}

// typedWords says what the library says of one place; names are those that its types have, nil where
// nobody knows them.
func typedWords(s string, names map[string][]string) string {
	m := typed().FindStringSubmatch(s)
	switch {
	case m == nil:
		return "it holds what does not belong there"
	case m[5] != "":
		return fmt.Sprintf("line %s: %s stands there already, in line %s", m[1], m[5], m[6])
	case m[8] == "already set":
		return fmt.Sprintf("line %s: %q stands there twice", m[1], m[7])
	case m[7] != "":
		return fmt.Sprintf("line %s: nothing here is called %q", m[1], m[7]) + DidYouMean(m[7], names[m[9]])
	}
	want := "a mapping (name: value)"
	for _, b := range belongs {
		if strings.HasPrefix(strings.TrimPrefix(m[4], "*"), b[0]) {
			want = b[1]
			break
		}
	}
	have, ok := kinds[m[2]]
	if !ok {
		have = strconv.Quote(m[3])
	}
	return fmt.Sprintf("line %s: %s belongs there, not %s", m[1], want, have)
}

// allTyped says it of all places.
func allTyped(wrong *yaml.TypeError, names map[string][]string) string {
	var list []string
	for _, e := range wrong.Errors {
		list = append(list, typedWords(e, names))
	}
	return strings.Join(list, "; ")
}

// textWords gives a library's error about the form of a text in a person's words; "" for another.
func textWords(err error) (said, words string) {
	var wrong *yaml.TypeError
	var form *json.SyntaxError
	var kind *json.UnmarshalTypeError
	var tag *xml.SyntaxError
	var number *strconv.NumError
	switch {
	case errors.As(err, &wrong):
		return wrong.Error(), allTyped(wrong, nil)
	case errors.As(err, &form):
		return form.Error(), fmt.Sprintf("at byte %d it is no JSON, or breaks off", form.Offset)
	case errors.As(err, &kind):
		return kind.Error(), fmt.Sprintf("%s at byte %d, where something else belongs",
			jsonKinds[strings.Split(kind.Value, " ")[0]], kind.Offset)
	case errors.As(err, &tag):
		return tag.Error(), fmt.Sprintf("line %d: it is no XML: %s", tag.Line, tag.Msg)
	case errors.As(err, &number):
		why := "is no such number"
		if errors.Is(number.Err, strconv.ErrRange) {
			why = "is too large a number"
		}
		return number.Error(), fmt.Sprintf("%q %s", number.Num, why)
	}
	for e := err; e != nil; e = errors.Unwrap(e) {
		if text := e.Error(); strings.HasPrefix(text, "yaml: ") {
			line, what := YAML(e)
			if line > 0 {
				what = fmt.Sprintf("line %d: %s", line, what)
			}
			return text, what
		}
	}
	return "", ""
}

// libraryNames begin what a library says.
var libraryNames = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`(^|: )(?:zip|gzip|flate|zlib|bzip2|xz|lz4|zstd|brotli|asn1|x509|pkcs7|crypto/\w+|json|xml|tar|` +
			`archive/\w+|sevenzip|hex|base64|net/url|proto): `)
})
