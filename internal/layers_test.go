// Package internal holds the test of the layers.
package internal

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// layers, from the top down. A package may import packages of its own layer
// and of those below. Core has layers of its own, each a rule resting on the one below.
var layers = []string{"internal/e2e", "cmd/jarlid", "internal/simulate", "internal/cli", "docs",
	"internal/demo", "internal/task", "internal/engine", "internal/act", "internal/bench", "internal/phone",
	"internal/files", "internal/journal", "internal/say", "internal/standin", "internal/link",
	"internal/host",
	"internal/core/advice", "internal/core/describe", "internal/core/plan", "internal/core/fit",
	"internal/core/place", "internal/core"}

// forbidden are imports a layer may not have, whatever the way: core computes
// only, and standin never checks who works on it.
var forbidden = map[string][]string{
	"internal/core": {"net", "net/http", "os", "os/exec", "github.com/spf13/cobra", "golang.org/x/term",
		"os/signal"},
	"internal/standin": {"jarlid/internal/say", "jarlid/internal/journal"},
	"":                 {"os/exec"},
}

// onlyIn are imports that one layer has, and no other.
var onlyIn = map[string]string{
	"os/signal":                    "cmd/jarlid",
	"github.com/spf13/cobra":       "internal/cli",
	"github.com/vbauerster/mpb/v8": "internal/cli",
	"golang.org/x/term":            "internal/cli",
}

func layerOf(pkg string) (int, string) {
	for i, f := range layers {
		if pkg == "jarlid/"+f || strings.HasPrefix(pkg, "jarlid/"+f+"/") {
			return i, f
		}
	}
	return -1, ""
}

func TestLayers(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}} {{join .Imports \" \"}}",
		"jarlid/...").Output()
	if err != nil {
		t.Fatalf("....Output(): %v", err)
	}
	seen := 0
	for line := range strings.Lines(string(out)) {
		fields := strings.Fields(line)
		at, layer := layerOf(fields[0])
		if at < 0 {
			if !slices.Contains([]string{"jarlid/internal", "jarlid/internal/e2e", "jarlid/internal/guest",
				"jarlid/internal/wine", "jarlid/internal/words"}, fields[0]) {
				// only tests live there
				t.Errorf("%s is on no layer", fields[0])
			}
			continue
		}
		seen++
		for _, imp := range fields[1:] {
			if to, name := layerOf(imp); to >= 0 && to < at {
				t.Errorf("%s, on the layer %s, imports %s from the layer %s above it", fields[0], layer, imp,
					name)
			}
			for below, list := range forbidden {
				if strings.HasPrefix(layer, below) && slices.Contains(list, imp) &&
					!strings.HasSuffix(fields[0], "test") {
					// what only tests use may read files
					t.Errorf("%s may not import %s", fields[0], imp)
				}
			}
			if only := onlyIn[imp]; only != "" && layer != only {
				t.Errorf("%s imports %s, which belongs to %s", fields[0], imp, only)
			}
		}
	}
	if seen < 20 {
		t.Errorf("only %d packages were looked at", seen)
	}
}

// TestStepsAreMadeBelow: what is to be done is worked out by core and task. A step made in
// cli would be a rule of the trade that one command knows and its neighbours don't.
func TestStepsAreMadeBelow(t *testing.T) {
	files, err := filepath.Glob("cli/*.go")
	if err != nil || len(files) < 20 {
		t.Fatalf("filepath.Glob('cli/*.go'): got %v, %v", files, err)
	}
	for _, name := range files {
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		if err != nil {
			t.Fatalf("parser.ParseFile(token.NewFileSet(), %v, 0): %v", name, err)
		}
		ofPlan := func(e ast.Expr) bool {
			s, ok := e.(*ast.SelectorExpr)
			if !ok {
				return false
			}
			x, ok := s.X.(*ast.Ident)
			return ok && x.Name == "plan"
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.CompositeLit:
				if ofPlan(n.Type) {
					t.Errorf("%s makes a step", name)
				}
			case *ast.CallExpr:
				if ofPlan(n.Fun) {
					t.Errorf("%s has something planned", name)
				}
			case *ast.MapType:
				if v, ok := n.Value.(*ast.Ident); ok && v.Name == "any" {
					t.Errorf("%s has a map of any", name)
				}
			}
			return true
		})
	}
}

// spoken is a text that has a word beside its verbs.
var spoken = regexp.MustCompile(`(?:^|[^%a-zA-Z\\])[a-zA-Z]{2,}`)

// TestFailuresSay: a failure of a test says what was tried and its outcome; an error alone does not.
func TestFailuresSay(t *testing.T) {
	seen := 0
	err := filepath.WalkDir(".", func(path string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, "_test.go") {
			return err
		}
		seen++
		fset := token.NewFileSet()
		f, err := parser.ParseFile(fset, path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(f, func(n ast.Node) bool {
			c, ok := n.(*ast.CallExpr)
			if !ok || len(c.Args) == 0 {
				return true
			}
			fails, ok := c.Fun.(*ast.SelectorExpr)
			if !ok || !slices.Contains([]string{"Fatal", "Error", "Fatalf", "Errorf"}, fails.Sel.Name) {
				return true
			}
			if id, ok := fails.X.(*ast.Ident); !ok ||
				!slices.Contains([]string{"t", "tb", "b", "l", "d", "f"}, id.Name) {
				return true // not a test's
			}
			first := c.Args[0]
			for sum, is := first.(*ast.BinaryExpr); is; sum, is = first.(*ast.BinaryExpr) {
				first = sum.X
			}
			lit, ok := first.(*ast.BasicLit)
			ok = ok && (first != c.Args[0] || spoken.MatchString(lit.Value))
			if !ok {
				t.Errorf("%s: a failure does not say what was tried", fset.Position(c.Pos()))
			}
			return true
		})
		return nil
	})
	if err != nil || seen < 100 {
		t.Errorf("%d files of tests were read, want at least 100: %v", seen, err)
	}
}

// TestOneShell: command lines are sent to a phone's shell by one package, through the wire alone.
func TestOneShell(t *testing.T) {
	fset := token.NewFileSet()
	sent := map[string]bool{}
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		place := filepath.ToSlash(path)
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") ||
			strings.HasSuffix(path, "_test.go") ||
			strings.HasPrefix(place, "link/adb/") || strings.HasPrefix(place, "standin/") {
			return err
		}
		f, err := parser.ParseFile(fset, path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(f, func(n ast.Node) bool {
			c, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			if s, ok := c.Fun.(*ast.SelectorExpr); ok && s.Sel.Name == "Shell" && len(c.Args) > 0 {
				sent[place] = true
			}
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatalf("filepath.WalkDir('.'): %v", err)
	}
	for place := range sent {
		if place != "phone/wire/debug.go" && place != "phone/shell/shell.go" {
			t.Errorf("%s sends a command line to a phone's shell; phone/shell has them all", place)
		}
	}
	if len(sent) != 2 {
		t.Errorf("%v send command lines; want the wire and phone/shell", sent)
	}
}
