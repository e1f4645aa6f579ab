package act

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"jarlid/internal/core/backup"
	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/plan"
)

// stepTypes reads out of the source of plan which types are steps: those with a Title,
// and with checks or effects.
func stepTypes(t *testing.T) map[string]bool {
	t.Helper()
	paths, err := filepath.Glob("../core/plan/*.go")
	if err != nil {
		t.Fatalf("filepath.Glob('../core/plan/*.go'): %v", err)
	}
	has := map[string]map[string]bool{}
	for _, path := range paths {
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			t.Fatalf("parser.ParseFile(token.NewFileSet(), %v, 0): %v", path, err)
		}
		for _, d := range f.Decls {
			fn, ok := d.(*ast.FuncDecl)
			if !ok || fn.Recv == nil || strings.HasSuffix(path, "_test.go") {
				continue
			}
			typ := fn.Recv.List[0].Type
			if star, ok := typ.(*ast.StarExpr); ok {
				typ = star.X
			}
			name := typ.(*ast.Ident).Name
			if has[name] == nil {
				has[name] = map[string]bool{}
			}
			has[name][fn.Name.Name] = true
		}
	}
	steps := map[string]bool{}
	for name, methods := range has {
		if methods["Title"] && (methods["Check"] || methods["Effects"]) {
			steps[name] = true
		}
	}
	return steps
}

// TestKinds: every kind of step that can be planned can be carried out and has a form in
// the journal, under a name of its own; and nothing else is in the table.
func TestKinds(t *testing.T) {
	steps := stepTypes(t)
	if len(steps) < 15 {
		t.Fatalf("only %d kinds of steps were found in the source", len(steps))
	}
	names := map[string]bool{}
	for typ, k := range kinds {
		name := typ.Elem().Name()
		if !steps[name] {
			t.Errorf("%s is in the table and can't be planned", name)
		}
		delete(steps, name)
		if k.name == "" || k.act == nil || k.form == nil || names[k.name] {
			t.Errorf("%s: %+v; unwanted: k.name == '' || k.act == nil || k.form == nil || names[k.name]",
				name, k)
		}
		names[k.name] = true
	}
	for name := range steps {
		t.Errorf("%s can be planned, and nobody carries it out", name)
	}
}

// TestData: a step in a journal says what it does without its title.
func TestData(t *testing.T) {
	img := &ident.File{Path: "/files/x.img", Size: 9}
	for want, s := range map[string]plan.Step{
		`{"kind":"write","title":"write x.img to ` +
			`boot_a","with":{"file":{"path":"/files/x.img","size":9},"partition":{"base":"boot",` +
			`"slot":"a"}}}`: &plan.Write{File: img, Partition: "boot", Slot: "a"},
		`{"kind":"restart","title":"restart into ` +
			`recovery","with":{"from":"bootloader","to":"recovery"}}`: &plan.Restart{From: card.Bootloader,
			To: card.Recovery},
		`{"kind":"activate","title":"make slot b the next ` +
			`one","with":{"slot":"b"}}`: &plan.Activate{Slot: "b"},
		`{"kind":"restore-files","title":"put 0 files back into the shared ` +
			`storage","with":{"dir":"kept","files":0}}`: &plan.RestoreFiles{Dir: "kept",
			Item: &backup.Item{}},
		`{"kind":"copy-slot","title":"copy vendor_b to ` +
			`vendor_a","with":{"from":{"base":"vendor","slot":"b"},"to":{"base":"vendor",` +
			`"slot":"a"}}}`: &plan.CopySlot{Partition: "vendor", From: "b"},
	} {
		b, err := json.Marshal(Data(s))
		if err != nil {
			t.Fatalf("json.Marshal(Data(s)): %v", err)
		}
		// Titles are for people; the rest is held.
		var got, expected map[string]any
		if json.Unmarshal(b, &got) != nil || json.Unmarshal([]byte(want), &expected) != nil {
			t.Fatalf("json.Marshal(Data(s)): got %v, want %v", string(b), want)
		}
		if got["title"] == "" {
			t.Errorf("%s has no title", b)
		}
		delete(got, "title")
		delete(expected, "title")
		if !reflect.DeepEqual(got, expected) {
			t.Errorf("%s, want %s", b, want)
		}
	}
}
