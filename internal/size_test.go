package internal

import (
	"bytes"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"
)

// What is read on a screen beside another window.
const (
	mostColumns  = 110 // of a line, a tab counted as tabColumns
	tabColumns   = 4
	mostFunction = 70  // lines of a function outside tests
	mostFile     = 600 // lines of a file
)

// longLines are the files that may have lines over mostColumns, and how many: a line that is compared as
// a whole can't be broken.
var longLines = map[string]int{
	"internal/core/lift/example_test.go": 1, // an example's output
}

// longFunctions are the functions that may be longer than mostFunction, in lines: one switch or table each,
// of which a part would be understood no better.
var longFunctions = map[string]int{
	"internal/act/restart.go restarting":               84,
	"internal/core/image/appsig/appsig.go signer":      74,
	"internal/core/image/appsig/appsig.go digest":      72,
	"internal/core/image/erofs/compressed.go clusters": 91,
	"internal/core/image/super/super.go Build":         83,
	"internal/core/lift/copy.go copyInOrder":           80,
	"internal/files/gather.go unwrap":                  76,
	"internal/link/loader/server.go carryOut":          86,
	"internal/task/sheet/check.go Judge":               74,
}

// longFiles are the files that may be longer than mostFile, in lines.
var longFiles = map[string]int{
	"internal/e2e/kinds_test.go": 645,
}

// TestSizes measures lines, functions and files. An exception that is not needed any more is an error too.
func TestSizes(t *testing.T) {
	seen := 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(path) != ".go" {
			return err
		}
		b, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		seen++
		name := filepath.ToSlash(strings.TrimPrefix(path, ".."+string(filepath.Separator)))
		long := 0
		for line := range bytes.Lines(b) {
			line = bytes.TrimRight(line, "\n")
			if utf8.RuneCount(line)+(tabColumns-1)*bytes.Count(line, []byte{'\t'}) > mostColumns {
				long++
			}
		}
		within(t, name, "lines of more than 110 columns", long, 0, longLines)
		within(t, name, "lines", bytes.Count(b, []byte{'\n'}), mostFile, longFiles)
		if !strings.HasSuffix(name, "_test.go") {
			measureFunctions(t, name, b)
		}
		return nil
	})
	if err != nil || seen < 400 {
		t.Errorf("%d files were measured, want at least 400: %v", seen, err)
	}
}

// measureFunctions compares the length of each function of a file with what is allowed.
func measureFunctions(t *testing.T, name string, b []byte) {
	t.Helper()
	fset := token.NewFileSet()
	f, err := parser.ParseFile(fset, name, b, parser.SkipObjectResolution)
	if err != nil {
		t.Fatalf("parsing %s: %v", name, err)
	}
	for _, d := range f.Decls {
		if fn, ok := d.(*ast.FuncDecl); ok {
			n := fset.Position(fn.End()).Line - fset.Position(fn.Pos()).Line + 1
			within(t, name+" "+fn.Name.Name, "lines", n, mostFunction, longFunctions)
		}
	}
}

// within compares a count with the limit, or with the exception that is in its place.
func within(t *testing.T, name, what string, n, limit int, exceptions map[string]int) {
	t.Helper()
	allowed, is := exceptions[name]
	switch {
	case !is && n > limit:
		t.Errorf("%s has %d %s, at most %d are allowed", name, n, what, limit)
	case is && n > allowed:
		t.Errorf("%s has %d %s, at most %d are allowed by its exception", name, n, what, allowed)
	case is && n <= limit:
		t.Errorf("%s has %d %s: its exception is not needed any more", name, n, what)
	}
}
