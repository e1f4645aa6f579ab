package cli

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"jarlid/internal/core/finding"

	"github.com/spf13/cobra"
)

var (
	// A command in a sentence ends where the sentence or its part does.
	commandText = regexp.MustCompile(`\bjarlid ([a-z][^,;()"%\x60]*)`)
	flagText    = regexp.MustCompile(`--[a-z][a-z-]*`)
)

// TestRemediesCanBeFollowed: every command and option that any sentence of the program names is
// there, and takes what it is given.
func TestRemediesCanBeFollowed(t *testing.T) {
	root := (&app{}).root()
	every := map[string]bool{"--help": true, "--version": true}
	var walk func(c *cobra.Command)
	has := func(c *cobra.Command, name string) bool {
		return c.Flags().Lookup(name) != nil || c.InheritedFlags().Lookup(name) != nil ||
			c.Root().PersistentFlags().Lookup(name) != nil
	}
	var each []*cobra.Command
	walk = func(c *cobra.Command) {
		each = append(each, c)
		for _, s := range c.Commands() {
			walk(s)
		}
	}
	walk(root)
	commands := 0
	check := func(at token.Position, text string) {
		for _, m := range commandText.FindAllStringSubmatch(text, -1) {
			text, _, _ := strings.Cut(strings.TrimRight(m[1], ".: "), ". ")
			words := strings.Fields(text)
			c, rest, err := root.Find(words)
			if err != nil || c == root {
				if first := strings.TrimRight(words[0], ".:"); !prose[first] {
					t.Errorf("%s: %q is no command", at, "jarlid "+m[1])
				}
				continue
			}
			commands++
			if c.HasSubCommands() && !c.Runnable() {
				t.Errorf("%s: %q is not the whole command", at, m[1])
			}
			for _, w := range rest {
				for _, f := range flagText.FindAllString(w, -1) {
					if name := strings.TrimPrefix(f, "--"); !has(c, name) && !every[f] {
						t.Errorf("%s: jarlid %s has no option %s", at, c.Name(), f)
					}
				}
			}
		}
		for _, f := range flagText.FindAllString(text, -1) {
			known := every[f]
			for _, c := range each {
				known = known || has(c, strings.TrimPrefix(f, "--"))
			}
			if !known && !foreign[f] {
				t.Errorf("%s: no command has the option %s", at, f)
			}
		}
	}
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		place := filepath.ToSlash(path)
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") ||
			strings.HasSuffix(path, "_test.go") || strings.Contains(path, "standin") ||
			strings.Contains(place, "/link/") || strings.Contains(place, "/phone/shell/") ||
			strings.Contains(path, "guest") {
			return err
		}
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.ImportSpec:
				return false
			case *ast.BasicLit:
				if n.Kind == token.STRING {
					if s, err := strconv.Unquote(n.Value); err == nil {
						check(set.Position(n.Pos()), s)
					}
				}
			case *ast.CallExpr: // e.Command(phone, "word", ...)
				if sel, ok := n.Fun.(*ast.SelectorExpr); ok && sel.Sel.Name == "Command" && len(n.Args) > 1 {
					check(set.Position(n.Pos()), "jarlid "+literals(n.Args[1:]))
				}
			case *ast.KeyValueExpr: // Words: []string{...} of an advice
				if key, ok := n.Key.(*ast.Ident); ok && key.Name == "Words" {
					if c, ok := n.Value.(*ast.CompositeLit); ok {
						check(set.Position(n.Pos()), "jarlid "+literals(c.Elts))
					}
				}
			case *ast.CompositeLit: // Suggestion{[]string{...}, why}
				if id, ok := n.Type.(*ast.Ident); ok && id.Name == "Suggestion" && len(n.Elts) == 2 {
					if c, ok := n.Elts[0].(*ast.CompositeLit); ok {
						check(set.Position(n.Pos()), "jarlid "+literals(c.Elts))
					}
				}
			}
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatalf("filepath.WalkDir('..', ...): %v", err)
	}
	if commands < 100 {
		t.Errorf("only %d commands were found", commands)
	}
}

// prose are words behind the program's name that are no commands: the sentence is about it.
var prose = map[string]bool{
	"works":   true,
	"is":      true,
	"needs":   true,
	"alone":   true,
	"with":    true,
	"model":   true,
	"bench":   false,
	"card":    false,
	"job":     true,
	"COMMAND": true,
	"has":     true,
	"holds":   true,
	"reads":   true,
	"that":    true,
}

// foreign are options of other programs, and orders to a recovery (RecoverySystem.java).
var foreign = map[string]bool{
	"--wipe":            true,
	"--prompt":          true,
	"--reason":          true,
	"--check":           true,
	"--slot-suffix":     true,
	"--reload":          true,
	"--subsystem-match": true,
	"--getsize":         true,
}

// literals joins the words that are there as texts, up to the first that does not.
func literals(list []ast.Expr) string {
	var words []string
	for _, x := range list {
		l, ok := x.(*ast.BasicLit)
		if !ok || l.Kind != token.STRING {
			words = append(words, "X")
			continue
		}
		s, _ := strconv.Unquote(l.Value)
		words = append(words, s)
	}
	return strings.Join(words, " ")
}

// TestGuide: the guide's table has every finding.
func TestGuide(t *testing.T) {
	guide, err := os.ReadFile("../../docs/guide.md")
	if err != nil {
		t.Fatalf("os.ReadFile('../../docs/guide.md'): %v", err)
	}
	told := map[string]bool{}
	for line := range strings.Lines(string(guide)) {
		if cells := strings.Split(line, "|"); len(cells) > 3 {
			for _, name := range strings.Split(cells[1], ",") {
				told[strings.Trim(name, " `")] = true
			}
		}
	}
	for _, name := range finding.Names() {
		if !told[name] {
			t.Errorf("the guide's table lacks %s", name)
		}
	}
}
