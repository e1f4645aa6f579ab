// Package words holds the test of how everything a person reads is written: rules.go has the rules as regular
// expressions, testdata/counts.txt how often each file still breaks one. A count may only fall.
package words

import (
	"bufio"
	"bytes"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"regexp/syntax"
	"slices"
	"strconv"
	"strings"
	"testing"
)

var (
	update = flag.Bool("update", false, "write the counts as they are, where their sum has not risen")
	show   = flag.String("show", "", "print what breaks a rule in the files whose path holds this text")
)

const countsFile = "testdata/counts.txt"

// TestRules: each rule catches the sentence it is there for, and passes the one that is written well. No rule
// catches what another one calls good.
func TestRules(t *testing.T) {
	if len(rules) < 80 {
		t.Errorf("%d rules, want at least 80", len(rules))
	}
	for _, r := range rules {
		p, err := regexp.Compile(r.pattern)
		if err != nil {
			t.Errorf("the rule %q: %v", r.pattern, err)
			continue
		}
		if !p.MatchString(r.bad) {
			t.Errorf("the rule %q does not catch %q", r.pattern, r.bad)
		}
		for _, other := range rules {
			if p.MatchString(other.good) {
				t.Errorf("the rule %q catches %q, which is written well", r.pattern, other.good)
			}
		}
	}
}

// TestCounts: no file has more breaches than testdata/counts.txt allows it. One that has fewer lowers its
// limit (-update), so that they can't come back.
func TestCounts(t *testing.T) {
	var patterns []pattern
	for _, r := range rules {
		tree, err := syntax.Parse(r.pattern, syntax.Perl)
		if err != nil {
			t.Fatalf("the rule %q: %v", r.pattern, err)
		}
		patterns = append(patterns, pattern{regexp.MustCompile(r.pattern), needed(tree)})
	}
	now, texts := map[string]int{}, 0
	err := filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name := filepath.ToSlash(strings.TrimPrefix(path, filepath.Join("..", "..")+
			string(filepath.Separator)))
		if d.IsDir() && (strings.HasPrefix(d.Name(), ".git") || d.Name() == "testdata") ||
			strings.HasPrefix(name, "internal/words/") {
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		list, err := textsOf(path)
		texts += len(list)
		for _, text := range list {
			for i, p := range patterns {
				found := p.in(text)
				now[name] += len(found)
				if *show != "" && strings.Contains(name, *show) && len(found) > 0 {
					t.Logf("%s: %q, as in %q; better: %q", name, text, rules[i].bad, rules[i].good)
				}
			}
		}
		return err
	})
	if err != nil || texts < 10000 {
		t.Fatalf("%d texts were read, want at least 10000: %v", texts, err)
	}
	maps.DeleteFunc(now, func(_ string, n int) bool { return n == 0 })
	limits := readCounts(t)
	if *update {
		writeCounts(t, now, limits)
		return
	}
	for _, name := range slices.Sorted(maps.Keys(now)) {
		if now[name] > limits[name] {
			t.Errorf("%s breaks the rules of words %d times, at most %d are allowed: "+
				"go test ./internal/words -v -run Counts -show %s", name, now[name], limits[name], name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(limits)) {
		if now[name] < limits[name] {
			t.Errorf("%s breaks the rules of words %d times and not %d any more: go test ./internal/words "+
				"-update lowers its limit", name, now[name], limits[name])
		}
	}
}

// pattern is a rule's, with texts of which each of its matches holds one: most texts hold none of them, and
// looking for those is twenty times as fast.
type pattern struct {
	*regexp.Regexp
	needs []string
}

func (p pattern) in(text string) []string {
	if len(p.needs) > 0 && !slices.ContainsFunc(p.needs, func(s string) bool {
		return strings.Contains(text, s)
	}) {
		return nil
	}
	return p.FindAllString(text, -1)
}

// needed are texts of which every match of an expression holds one; nil where that can't be said.
func needed(e *syntax.Regexp) (best []string) {
	shortest := func(list []string) int {
		if len(list) == 0 {
			return 0
		}
		return len(slices.MinFunc(list, func(a, b string) int { return len(a) - len(b) }))
	}
	switch e.Op {
	case syntax.OpLiteral:
		return []string{string(e.Rune)}
	case syntax.OpCapture, syntax.OpPlus:
		return needed(e.Sub[0])
	case syntax.OpConcat:
		for _, sub := range e.Sub {
			if list := needed(sub); shortest(list) > shortest(best) {
				best = list
			}
		}
	case syntax.OpAlternate:
		for _, sub := range e.Sub {
			list := needed(sub)
			if list == nil {
				return nil
			}
			best = append(best, list...)
		}
	}
	return best
}

// textsOf are the texts of a file that a person reads: of Go its comments, and outside tests its literals of
// several words; of Markdown and HTML the lines outside code.
func textsOf(path string) ([]string, error) {
	switch filepath.Ext(path) {
	case ".go":
		return textsOfGo(path)
	case ".md", ".html":
		b, err := os.ReadFile(path)
		return prose(string(b)), err
	}
	return nil, nil
}

func textsOfGo(path string) (list []string, err error) {
	f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ParseComments|
		parser.SkipObjectResolution)
	if err != nil {
		return nil, err
	}
	for _, c := range f.Comments {
		list = append(list, strings.Join(strings.Fields(c.Text()), " "))
	}
	if strings.HasSuffix(path, "_test.go") {
		return list, nil
	}
	ast.Inspect(f, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.ImportSpec:
			return false
		case *ast.Field:
			n.Tag = nil
		case *ast.BinaryExpr:
			if text, ok := joined(n); ok {
				list = append(list, text)
				return false
			}
		case *ast.BasicLit:
			if text, ok := joined(n); ok && strings.Contains(text, " ") {
				list = append(list, text)
			}
		}
		return true
	})
	return list, nil
}

// joined is the text of a literal, or of several that are added up.
func joined(e ast.Expr) (string, bool) {
	switch e := e.(type) {
	case *ast.BasicLit:
		text, err := strconv.Unquote(e.Value)
		return text, err == nil && e.Kind == token.STRING
	case *ast.BinaryExpr:
		left, ok := joined(e.X)
		right, also := joined(e.Y)
		return left + right, ok && also && e.Op == token.ADD
	}
	return "", false
}

// prose is the text of a page, a paragraph each, without what stands in code.
func prose(text string) (list []string) {
	code := false
	var paragraph []string
	end := func() {
		if len(paragraph) > 0 {
			list = append(list, strings.Join(paragraph, " "))
		}
		paragraph = nil
	}
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "```") {
			code = !code
		}
		if code || line == "" {
			end()
			continue
		}
		paragraph = append(paragraph, line)
	}
	end()
	return list
}

func readCounts(t *testing.T) map[string]int {
	t.Helper()
	b, err := os.ReadFile(countsFile)
	if err != nil {
		t.Fatalf("reading the limits: %v", err)
	}
	limits := map[string]int{}
	for s := bufio.NewScanner(bytes.NewReader(b)); s.Scan(); {
		n, name, _ := strings.Cut(s.Text(), " ")
		if limits[name], err = strconv.Atoi(n); err != nil {
			t.Fatalf("the line %q of %s: %v", s.Text(), countsFile, err)
		}
	}
	return limits
}

// writeCounts writes the limits. A file may take over what moved into it, as long as the sum does not rise.
func writeCounts(t *testing.T, now, limits map[string]int) {
	t.Helper()
	sum := func(m map[string]int) (n int) {
		for _, k := range m {
			n += k
		}
		return n
	}
	if len(limits) > 0 && sum(now) > sum(limits) {
		t.Fatalf("the rules of words are broken %d times, at most %d are allowed in all", sum(now),
			sum(limits))
	}
	var b bytes.Buffer
	for _, name := range slices.Sorted(maps.Keys(now)) {
		fmt.Fprintf(&b, "%d %s\n", now[name], name)
	}
	if err := os.WriteFile(countsFile, b.Bytes(), 0o644); err != nil {
		t.Fatalf("writing the limits: %v", err)
	}
}
