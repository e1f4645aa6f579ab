package finding

import (
	"go/ast"
	"go/parser"
	"go/token"
	"strconv"
	"strings"
	"testing"
)

// TestTexts: every name a finding can have is explained, in whole sentences, and nothing else
// is.
func TestTexts(t *testing.T) {
	f, err := parser.ParseFile(token.NewFileSet(), "finding.go", nil, 0)
	if err != nil {
		t.Fatalf("parser.ParseFile(token.NewFileSet(), 'finding.go', 0): %v", err)
	}
	names := map[string]bool{}
	ast.Inspect(f, func(n ast.Node) bool {
		c, ok := n.(*ast.ValueSpec)
		if !ok || c.Type != nil || len(c.Values) != 1 {
			return true
		}
		if v, ok := c.Values[0].(*ast.BasicLit); ok && v.Kind == token.STRING {
			name, err := strconv.Unquote(v.Value)
			if err != nil {
				t.Fatalf("strconv.Unquote(v.Value): %v", err)
			}
			names[name] = true
		}
		return true
	})
	if len(names) < 50 {
		t.Fatalf("only %d names were found", len(names))
	}
	for _, name := range Names() {
		if !names[name] {
			t.Errorf("%q is explained, and nothing is called that", name)
		}
		delete(names, name)
		x, ok := Explain(name)
		if !ok || x.Name != name {
			t.Errorf("%q can't be explained", name)
		}
		for _, s := range []string{x.Meaning, x.Why, x.Remedy} {
			if s == "" || !strings.HasSuffix(s, ".") && !strings.HasSuffix(s, ":") &&
				strings.Contains(s, ". ") {
				t.Errorf("parser.ParseFile(token.NewFileSet(), 'finding.go', 0): %s: %q", name, s)
			}
		}
	}
	for name := range names {
		t.Errorf("%q is a finding that nobody can look up", name)
	}
	if _, ok := Explain("nothing-of-the-kind"); ok {
		t.Error("a name that is none is explained")
	}
}

// TestAccept: a stop is lifted by its name, on everything or on one thing; a final one never is.
func TestAccept(t *testing.T) {
	list := []Finding{
		{Name: "a", About: "x", Severity: Stop},
		{Name: "a", About: "y", Severity: Stop},
		{Name: "b", About: "x", Severity: Warn},
		{Name: "c", About: "x", Severity: Stop, Final: true},
		{Name: "d", Severity: Note},
	}
	for words, want := range map[string]struct{ stops, asks int }{
		"":        {3, 1},
		"a":       {1, 1},
		"a=x":     {2, 1},
		"a=z":     {3, 1},
		"b":       {3, 0},
		"c":       {3, 1},
		"a b c d": {1, 0},
		"a=":      {1, 1},
	} {
		var accepts []Accept
		for _, s := range strings.Fields(words) {
			accepts = append(accepts, ParseAccept(s))
		}
		got := Apply(list, accepts)
		if stops, asks := len(Blocking(got)), len(Asking(got)); stops != want.stops || asks != want.asks {
			t.Errorf("--accept %q leaves %d stops and %d questions, want %d and %d", words, stops, asks,
				want.stops, want.asks)
		}
	}
	if list[0].Accepted {
		t.Error("the list that was given was changed")
	}
	if err := Stopped("a", "x", "it is so", "do this"); len(err.Findings) != 1 || !err.Findings[0].Final ||
		err.Error() != "a: it is so" {
		t.Errorf("Stopped('a', 'x', 'it is so', 'do this'): %+v", err)
	}
}
