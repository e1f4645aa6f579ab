package internal

import (
	"bytes"
	"encoding/json"
	"go/ast"
	"go/importer"
	"go/parser"
	"go/token"
	"go/types"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// largestCircle is how many files of one package may each lead to all the others. Files that form a
// circle can only be read together.
const largestCircle = 8

// listed is what `go list -json -export` reports of a package.
type listed struct {
	ImportPath, Dir, Export string
	GoFiles                 []string
}

// listPackages reports every package of this module and all that they import, with export data.
func listPackages(t *testing.T) map[string]listed {
	t.Helper()
	out, err := exec.Command("go", "list", "-deps", "-export", "-json=ImportPath,Dir,Export,GoFiles",
		"jarlid/...").Output()
	if err != nil {
		t.Fatalf("go list -export: %v", err)
	}
	all := map[string]listed{}
	for d := json.NewDecoder(bytes.NewReader(out)); ; {
		var p listed
		switch err := d.Decode(&p); err {
		case nil:
			all[p.ImportPath] = p
		case io.EOF:
			return all
		default:
			t.Fatalf("what go list printed: %v", err)
		}
	}
}

// TestCircles finds no circle of more than largestCircle files in one package. cli is left out: a file
// of it is a command, and all of them hang on the one that holds the application.
func TestCircles(t *testing.T) {
	all := listPackages(t)
	fset := token.NewFileSet()
	imports := importer.ForCompiler(fset, "gc", func(path string) (io.ReadCloser, error) {
		return os.Open(all[path].Export)
	})
	seen := 0
	for path, p := range all {
		if !strings.HasPrefix(path, "jarlid/") || path == "jarlid/internal/cli" ||
			len(p.GoFiles) <= largestCircle {
			continue
		}
		seen++
		for _, circle := range circles(fileUses(t, fset, imports, p)) {
			if len(circle) > largestCircle {
				t.Errorf("%s: %d files lead to each other, at most %d may: %s", path, len(circle),
					largestCircle,
					strings.Join(circle, " "))
			}
		}
	}
	if seen < 5 {
		t.Errorf("only %d packages were looked at", seen)
	}
}

// fileUses maps each file of a package to the files that declare what it uses.
func fileUses(t *testing.T, fset *token.FileSet, imports types.Importer, p listed) map[string][]string {
	t.Helper()
	var files []*ast.File
	for _, name := range p.GoFiles {
		f, err := parser.ParseFile(fset, filepath.Join(p.Dir, name), nil, parser.SkipObjectResolution)
		if err != nil {
			t.Fatalf("parsing %s: %v", name, err)
		}
		files = append(files, f)
	}
	info := &types.Info{Uses: map[*ast.Ident]types.Object{}}
	conf := types.Config{Importer: imports}
	pkg, err := conf.Check(p.ImportPath, fset, files, info)
	if err != nil {
		t.Fatalf("type checking %s: %v", p.ImportPath, err)
	}
	uses := map[string][]string{}
	for id, obj := range info.Uses {
		if obj.Pkg() != pkg || !obj.Pos().IsValid() {
			continue
		}
		from, to := filepath.Base(fset.Position(id.Pos()).Filename),
			filepath.Base(fset.Position(obj.Pos()).Filename)
		if from != to && !slices.Contains(uses[from], to) {
			uses[from] = append(uses[from], to)
		}
	}
	return uses
}

// circles are the strongly connected components of a graph, by Tarjan's algorithm; each sorted.
func circles(edges map[string][]string) [][]string {
	index, low := map[string]int{}, map[string]int{}
	var stack []string
	var found [][]string
	var visit func(string)
	visit = func(v string) {
		index[v] = len(index) + 1
		low[v] = index[v]
		stack = append(stack, v)
		for _, w := range edges[v] {
			if index[w] == 0 {
				visit(w)
				low[v] = min(low[v], low[w])
			} else if slices.Contains(stack, w) {
				low[v] = min(low[v], index[w])
			}
		}
		if low[v] != index[v] {
			return
		}
		at := slices.Index(stack, v)
		circle := slices.Sorted(slices.Values(stack[at:]))
		stack = stack[:at]
		found = append(found, circle)
	}
	for v := range edges {
		if index[v] == 0 {
			visit(v)
		}
	}
	return found
}
