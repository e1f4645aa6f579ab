package task

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"go.yaml.in/yaml/v3"

	"jarlid/internal/core/card"
)

// works are all tasks, one of each.
var works = []Work{&BackupRestore{}, &Flash{}, &RecoveryInstall{}, &RecoveryTry{}, &Shelve{}, &RecoveryHold{},
	&Sideload{}, &Put{}, &App{}, &Go{}, &SlotUse{}, &SlotCopy{}, &Unlock{}, &Relock{}, &Flags{}, &Wipe{}}

// TestEveryTaskIsHere reads out of the source which types are tasks.
func TestEveryTaskIsHere(t *testing.T) {
	missing := map[string]bool{}
	paths, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatalf("filepath.Glob('*.go'): %v", err)
	}
	for _, path := range paths {
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			t.Fatalf("parser.ParseFile(token.NewFileSet(), %v, 0): %v", path, err)
		}
		for _, d := range f.Decls {
			fn, ok := d.(*ast.FuncDecl)
			if !ok || fn.Recv == nil || fn.Name.Name != "Prepare" {
				continue
			}
			typ := fn.Recv.List[0].Type
			if star, ok := typ.(*ast.StarExpr); ok {
				typ = star.X
			}
			missing[typ.(*ast.Ident).Name] = true
		}
	}
	if len(missing) < 10 {
		t.Fatalf("only %v were found", missing)
	}
	for _, w := range works {
		delete(missing, reflect.TypeOf(w).Elem().Name())
	}
	for name := range missing {
		t.Errorf("%s is a task that no test here knows", name)
	}
}

// filled sets every option of a task to something that is not its zero.
func filled(t *testing.T, w Work) Work {
	t.Helper()
	v := reflect.New(reflect.TypeOf(w).Elem())
	for i := range v.Elem().NumField() {
		f, typ := v.Elem().Field(i), v.Elem().Type().Field(i)
		if !typ.IsExported() || typ.Tag.Get("yaml") == "-" {
			continue
		}
		switch f.Interface().(type) {
		case string, Flag:
			f.SetString("a " + typ.Name)
		case bool:
			f.SetBool(true)
		case []string:
			f.Set(reflect.ValueOf([]string{"one", "two words", `C:\three`}))
		case time.Duration:
			f.SetInt(int64(90 * time.Second))
		case card.Mode:
			f.SetString("recovery")
		default:
			t.Fatalf("%T.%s is a %s, which a sheet can't hold as a plain value", w, typ.Name, f.Type())
		}
	}
	return v.Interface().(Work)
}

// TestTasksArePlain: a task's options survive a file in both forms, under names of small
// letters that are the same in both, and nothing but options is in there.
func TestTasksArePlain(t *testing.T) {
	names := map[string]bool{}
	for _, w := range works {
		if w.Name() == "" || names[w.Name()] {
			t.Errorf("%T is called %q", w, w.Name())
		}
		names[w.Name()] = true
		full := filled(t, w)
		for form, f := range map[string]struct {
			out func(any) ([]byte, error)
			in  func([]byte, any) error
		}{"yaml": {yaml.Marshal, yaml.Unmarshal}, "json": {json.Marshal, json.Unmarshal}} {
			b, err := f.out(full)
			if err != nil {
				t.Fatalf("writing %T: %v", w, err)
			}
			back := reflect.New(reflect.TypeOf(w).Elem()).Interface()
			if err := f.in(b, back); err != nil || !reflect.DeepEqual(back, full) {
				t.Errorf("%T as %s: %v\n%s", w, form, err, b)
			}
			var keys map[string]any
			if err := f.in(b, &keys); err != nil {
				t.Fatalf("f.in(b, &keys): %v", err)
			}
			for k := range keys {
				if k != strings.ToLower(k) || strings.ContainsAny(k, " _") {
					t.Errorf("%T has an option %q", w, k)
				}
			}
		}
		typ := reflect.TypeOf(w).Elem()
		for i := range typ.NumField() {
			f := typ.Field(i)
			if !f.IsExported() || f.Anonymous {
				continue
			}
			if y, j := f.Tag.Get("yaml"), f.Tag.Get("json"); y == "" || y != j {
				t.Errorf("%s.%s is %q in YAML and %q in JSON", typ.Name(), f.Name, y, j)
			}
		}
	}
}

// TestInstalled: the system that is said to have been installed is one that a job put where the phone boots.
func TestInstalled(t *testing.T) {
	put := func(slot, next string) *card.Card {
		c := &card.Card{}
		c.Learn(card.FactPut.Of(slot), "yes", card.Journal)
		c.Learn(card.FactHolds.Of(card.At("system", slot)), "Saltmarsh OS 4.2", card.Journal)
		if next != "" {
			c.Learn(card.FactNext, next, card.Journal)
		}
		return c
	}
	for _, tt := range []struct {
		name   string
		c      *card.Card
		system string
		sure   bool
	}{
		{"where it boots", put("b", "b"), "Saltmarsh OS 4.2", true},
		{"on the other slot", put("b", "a"), "", true},
		{"the active slot unknown", put("b", ""), "Saltmarsh OS 4.2", false},
		{"no slots", put("", ""), "Saltmarsh OS 4.2", true},
		{"nothing", &card.Card{}, "", true},
	} {
		if system, sure := installed(tt.c); system != tt.system || sure != tt.sure {
			t.Errorf("%s: installed() = %q, %v, want %q, %v", tt.name, system, sure, tt.system, tt.sure)
		}
	}
}
