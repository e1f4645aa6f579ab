package spell

import (
	"context"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
)

func yamlOf(text string) error {
	type place struct {
		Address string `yaml:"at"`
		Hidden  string `yaml:"-"`
	}
	var w struct {
		Phones []struct {
			Name  string
			Wait  int
			place `yaml:",inline"`
		}
		More map[string]*struct{ Serial string }
	}
	return Strict(strings.NewReader(text), &w)
}

// TestError: errors as the libraries and the system make them.
func TestError(t *testing.T) {
	_, number := strconv.Atoi("two")
	_, large := strconv.ParseInt("99999999999999999999", 10, 64)
	said := map[string]error{
		"my: no such file or folder: /tide/x": fmt.Errorf("my: %w",
			&fs.PathError{Op: "open", Path: "/tide/x", Err: syscall.ENOENT}),
		"the computer does not allow this user to open /tide/x": &fs.PathError{Op: "open",
			Path: "/tide/x", Err: syscall.EACCES},
		"reading: it took too long still": fmt.Errorf(
			"reading: %w still", os.ErrDeadlineExceeded),
		"it was stopped": context.Canceled,
		"reading: it took too long": fmt.Errorf("reading: %w",
			context.DeadlineExceeded),
		"the package: it ends too early": fmt.Errorf(
			"the package: %w", io.ErrUnexpectedEOF),
		"a.zip: its list: not a valid archive": errors.New(
			"a.zip: its list: zip: not a valid archive"),
		"first; second": errors.Join(
			errors.New("first"), errors.New("second")),
		`"two" is no such number`:                      number,
		`"99999999999999999999" is too large a number`: large,
		"at byte 2 it is no JSON, or breaks off": json.Unmarshal(
			[]byte("{x"), new(any)),
		"a text at byte 8, where something else belongs": json.Unmarshal(
			[]byte(`{"a":"b"}`), &struct{ A int }{}),
		"line 1: it is no XML: it ends too early": xml.Unmarshal(
			[]byte("<a>"), new(struct{})),
		`list: line 2: nothing here is called "adress"`: fmt.Errorf("list: %w",
			yamlOf("phones:\n  - adress: x\n")),
		`line 2: nothing here is called "nmae"; did you mean name?`: yamlOf(
			"phones:\n  - nmae: x\n"),
		`line 1: nothing here is called "adt"; did you mean at?`: yamlOf(
			"phones: [{adt: x}]"),
		`line 1: nothing here is called "hidden"`: yamlOf(
			"phones: [{hidden: x}]"),
		`line 1: nothing here is called "seral"; did you mean serial?`: yamlOf(
			"more: {a: {seral: x}}"),
		`line 1: nothing here is called "phone"; did you mean phones?`: yamlOf("phone: []"),
		`line 1: a list belongs there, not "3"; line 2: nothing here is called "x"`: yamlOf(
			"phones: 3\nx: 1\n"),
		`line 1: a whole number belongs there, not a list`: yamlOf(
			"phones: [{wait: [1]}]"),
		`line 1: one text belongs there, not a mapping (name: value)`: yamlOf(
			"phones: [{name: {a: b}}]"),
		`line 2: "phones" stands there already, in line 1`: yamlOf(
			"phones: []\nphones: []\n"),
		"line 2: a curly bracket is not closed, or a comma is missing": yamlOf(
			"phones: []\nmore:\n  {a: b\n"),
		"a value that begins with * wants quotes": yamlOf("phones: *a"),
	}
	if runtime.GOOS != "windows" { // which says these itself
		said["/tide/x is no folder, or lies below a file, and a folder is wanted"] = &fs.PathError{
			Op: "mkdir", Path: "/tide/x", Err: syscall.ENOTDIR}
		said["the computer's disk is full: /tide/x could not be written"] = &fs.PathError{Op: "write",
			Path: "/tide/x", Err: syscall.ENOSPC}
	}
	for want, err := range said {
		if err == nil {
			t.Errorf("%q: there is no error", want)
		} else if got := Error(err); got != want {
			t.Errorf("%v: %q, want %q", err, got, want)
		}
	}
}

// FuzzYAML: whatever a text is, what is said of it is a person's.
func FuzzYAML(f *testing.F) {
	for _, s := range []string{"a: b: c", "\t- x", "a: @x", "x: \"a", "- a\n b: c\n", "? a",
		"%YAML 2.0\n---\n", "!!x y", "a: \"\\q\"", "\xff", "phones: [", "&a [*a]"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		err := yamlOf(text)
		if err == nil || errors.Is(err, io.EOF) {
			return
		}
		if said := Error(err); said == "" || strings.Contains(said, "yaml:") ||
			strings.Contains(said, "unmarshal") || strings.Contains(said, "\n") {
			t.Errorf("yamlOf(text): %q: %v: %q", text, err, said)
		}
	})
}
