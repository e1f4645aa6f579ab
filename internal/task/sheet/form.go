// Package sheet is a whole job as one file: tasks in their order, drafted from files and a
// phone, checked as one plan, run on one phone or on many, and resumed.
package sheet

import (
	"cmp"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math"
	"path"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"jarlid/internal/core/finding"
	"jarlid/internal/core/spell"
	"jarlid/internal/task"
)

// Form is the version of the form sheets are written in.
const Form = 1

// Bounds of a sheet.
const (
	maxSize  = 1 << 20 // bytes
	maxTasks = 500
	maxDepth = 12 // of lists and mappings in one another
)

// Sheet is a whole job, as it is written.
type Sheet struct {
	Name       string
	Models     []string // for which phones; none: any
	Conditions Conditions
	Hands      []Helper
	Files      []File
	Asks       []string // confirmed by a person before it begins
	Open       []string // questions nobody has answered yet
	Accept     []Accept
	Tasks      []Task
}

// Conditions are what a phone has to be like before the first task.
type Conditions struct {
	Unlocked *bool
	Battery  int               // percent at least; 0: any
	Base     string            // the version of the manufacturer's firmware it begins with; "": any
	Slot     string            // that starts next: a or b; "": any
	Free     map[string]int64  // bytes, by storage
	At       map[string]Where  // where each stands
	words    map[string]string // as written
}

// Helper is somebody who has to be at hand.
type Helper struct{ Who, For string }

// File is one file, by a short name.
type File struct {
	Name   string
	Path   string // as written: relative to the sheet
	Size   int64  // bytes; of a folder that of all files in it
	SHA256 string // of a folder as FolderSum makes it
	Is     string // what it was identified as
	Where
}

// Accept is a stop that the sheet needs allowed, and why.
type Accept struct {
	Finding finding.Accept
	Word    string // as written
	Because string
	Where
}

// Task is one command.
type Task struct {
	Command string
	When    []Condition
	Note    string
	Accept  []Accept
	Where

	node *yaml.Node // its options
}

// Condition is a fact that decides whether a task is for a phone.
type Condition struct {
	Fact  string
	OneOf []string
	Where
}

// Where is a place in a sheet, both counted from 1.
type Where struct {
	Line   int `json:"line"`
	Column int `json:"column"`
}

// Problem is one thing that is wrong with a sheet.
type Problem struct {
	Where
	Text string
}

// FormError is a sheet that is not one. It is wrong usage.
type FormError struct {
	Path     string
	Problems []Problem
}

// ExitCode is that of wrong usage.
func (e *FormError) ExitCode() int { return task.ExitUsage }

// Error names the first problems, with line and column.
func (e *FormError) Error() string {
	const most = 8
	var s []string
	for i, p := range e.Problems {
		if i == most {
			s = append(s, fmt.Sprintf("and %d more", len(e.Problems)-most))
			break
		}
		s = append(s, fmt.Sprintf("%s, line %d, column %d: %s",
			path.Base(strings.ReplaceAll(e.Path, `\`, "/")), p.Line, p.Column, p.Text))
	}
	return strings.Join(s, "; ")
}

// reader collects what is wrong with a sheet while it is read.
type reader struct{ problems []Problem }

func (r *reader) bad(n *yaml.Node, format string, args ...any) {
	w := Where{1, 1}
	if n != nil && n.Line > 0 {
		w = Where{n.Line, n.Column}
	}
	r.problems = append(r.problems, Problem{w, fmt.Sprintf(format, args...)})
}

// parse reads a sheet. path is its name, for messages. Errors: *FormError.
func parse(text []byte, path string) (*Sheet, error) {
	r := &reader{}
	s := r.parse(text)
	if len(r.problems) > 0 {
		slices.SortStableFunc(r.problems, func(a, b Problem) int {
			return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
		})
		return nil, &FormError{path, r.problems}
	}
	return s, nil
}

func (r *reader) parse(text []byte) *Sheet {
	if len(text) > maxSize {
		r.bad(nil, "a sheet has at most %d bytes, and this has %d", maxSize, len(text))
		return nil
	}
	d := yaml.NewDecoder(strings.NewReader(string(text)))
	var doc, more yaml.Node
	if err := d.Decode(&doc); errors.Is(err, io.EOF) || err == nil && len(doc.Content) == 0 {
		r.bad(nil, "it is empty")
		return nil
	} else if err != nil {
		line, what := spell.YAML(err)
		r.problems = append(r.problems, Problem{Where{max(line, 1), 1}, "this can't be read as YAML: " +
			what})
		return nil
	}
	if err := d.Decode(&more); !errors.Is(err, io.EOF) {
		r.bad(&more, "there is a second document behind the sheet")
	}
	if !r.plain(&doc, 0) {
		return nil
	}
	return r.sheet(doc.Content[0])
}

// plain refuses what a sheet has no use for: aliases, which can name themselves or grow without
// end, tags, and keys twice.
func (r *reader) plain(n *yaml.Node, depth int) bool {
	switch {
	case n.Kind == yaml.AliasNode:
		r.bad(n, "a sheet has no aliases (*%s); write it out", n.Value)
		return false
	case n.Anchor != "":
		r.bad(n, "a sheet has no anchors (&%s); write it out", n.Anchor)
		return false
	case depth > maxDepth:
		r.bad(n, "lists and mappings lie deeper in one another than any sheet needs")
		return false
	case n.Style&yaml.TaggedStyle != 0:
		r.bad(n, "a sheet has no tags (%s)", n.Tag)
		return false
	}
	seen := map[string]bool{}
	for i, c := range n.Content {
		if n.Kind == yaml.MappingNode && i%2 == 0 {
			switch {
			case c.Kind != yaml.ScalarNode:
				r.bad(c, "a key is a word")
				return false
			case c.Tag == "!!merge":
				r.bad(c, "a sheet has no merge keys (<<)")
				return false
			case seen[c.Value]:
				r.bad(c, "%q is there twice", c.Value)
				return false
			}
			seen[c.Value] = true
		}
		if !r.plain(c, depth+1) {
			return false
		}
	}
	return true
}

// kindWords says what a node is.
func kindWords(n *yaml.Node) string {
	switch {
	case n.Kind == yaml.SequenceNode:
		return "a list"
	case n.Kind == yaml.MappingNode:
		return "a mapping"
	case n.Tag == "!!null":
		return "nothing"
	}
	return fmt.Sprintf("%q", n.Value)
}

// fields calls what belongs to each key of a mapping.
func (r *reader) fields(n *yaml.Node, what string, by map[string]func(key, v *yaml.Node)) bool {
	if n.Kind != yaml.MappingNode {
		r.bad(n, "%s is a mapping, and there is %s", what, kindWords(n))
		return false
	}
	var names []string
	for k := range by {
		names = append(names, k)
	}
	slices.Sort(names)
	for i := 0; i+1 < len(n.Content); i += 2 {
		key := n.Content[i]
		f, ok := by[key.Value]
		if !ok {
			r.bad(key, "%s has no key %q%s", what, key.Value, spell.NoneOf(key.Value, names))
			continue
		}
		f(key, n.Content[i+1])
	}
	return true
}

func (r *reader) text(n *yaml.Node, what string) string {
	if n.Kind != yaml.ScalarNode || n.Tag == "!!null" {
		r.bad(n, "%s is a word or a sentence, and there is %s", what, kindWords(n))
		return ""
	}
	return n.Value
}

// texts reads a list of words; one word alone is a list of one.
func (r *reader) texts(n *yaml.Node, what string) (list []string) {
	if n.Kind == yaml.ScalarNode && n.Tag != "!!null" {
		return []string{n.Value}
	}
	if n.Kind != yaml.SequenceNode {
		r.bad(n, "%s is a list, and there is %s", what, kindWords(n))
		return nil
	}
	for _, c := range n.Content {
		list = append(list, r.text(c, "an entry of "+what))
	}
	return list
}

func (r *reader) yes(n *yaml.Node, what string) bool {
	switch strings.ToLower(n.Value) {
	case "true", "yes":
		return n.Kind == yaml.ScalarNode
	case "false", "no":
		if n.Kind == yaml.ScalarNode {
			return false
		}
	}
	r.bad(n, "%s is true or false, and there is %s", what, kindWords(n))
	return false
}

func (r *reader) number(n *yaml.Node, what string, most int64) int64 {
	v, err := strconv.ParseInt(n.Value, 10, 64)
	if n.Kind != yaml.ScalarNode || err != nil || v < 0 || v > most {
		r.bad(n, "%s is a number from 0 to %d, and there is %s", what, most, kindWords(n))
		return 0
	}
	return v
}

// bytes reads a size: bytes, or KiB, MiB, GiB.
func (r *reader) bytes(n *yaml.Node, what string) int64 {
	word, shift := n.Value, 0
	for i, unit := range []string{"KiB", "MiB", "GiB"} {
		if s, ok := strings.CutSuffix(word, unit); ok {
			word, shift = strings.TrimSpace(s), 10*(i+1)
		}
	}
	v, err := strconv.ParseInt(word, 10, 64)
	if n.Kind != yaml.ScalarNode || err != nil || v < 0 || v > math.MaxInt64>>shift {
		r.bad(n, "%s is a number of bytes, or of KiB, MiB or GiB, and there is %s", what, kindWords(n))
		return 0
	}
	return v << shift
}

func (r *reader) sheet(n *yaml.Node) *Sheet {
	s := &Sheet{}
	form, tasks := false, (*yaml.Node)(nil)
	ok := r.fields(n, "a sheet", map[string]func(key, v *yaml.Node){
		"sheet": func(_, v *yaml.Node) {
			form = true
			if f := r.number(v, "sheet, the version of its form,", math.MaxInt32); f > Form {
				r.bad(v, "it is of form %d, and forms up to %d are known here: it was written for a "+
					"newer one", f, Form)
			} else if f < 1 {
				r.bad(v, "the first form of a sheet is 1")
			}
		},
		"name":       func(_, v *yaml.Node) { s.Name = r.text(v, "name") },
		"models":     func(_, v *yaml.Node) { s.Models = r.texts(v, "models") },
		"conditions": func(_, v *yaml.Node) { s.Conditions = r.conditions(v) },
		"hands":      func(_, v *yaml.Node) { s.Hands = r.helpers(v) },
		"files":      func(_, v *yaml.Node) { s.Files = r.files(v) },
		"ask":        func(_, v *yaml.Node) { s.Asks = r.texts(v, "ask") },
		"open":       func(_, v *yaml.Node) { s.Open = r.texts(v, "open") },
		"accept":     func(_, v *yaml.Node) { s.Accept = r.accepts(v) },
		"tasks":      func(_, v *yaml.Node) { tasks = v },
	})
	switch {
	case !ok:
		return s
	case !form:
		r.bad(n, "it does not say that it is a sheet: its first line is sheet: %d", Form)
	case tasks == nil || tasks.Kind != yaml.SequenceNode || len(tasks.Content) == 0:
		r.bad(cmp.Or(tasks, n), "a sheet has a list of tasks, and this has none")
	case len(tasks.Content) > maxTasks:
		r.bad(tasks, "a sheet has at most %d tasks, and this has %d", maxTasks, len(tasks.Content))
	default:
		for _, t := range tasks.Content {
			s.Tasks = append(s.Tasks, r.task(t, s))
		}
	}
	return s
}

func (r *reader) conditions(n *yaml.Node) Conditions {
	c := Conditions{At: map[string]Where{}, words: map[string]string{}}
	note := func(key, v *yaml.Node) {
		c.At[key.Value], c.words[key.Value] = Where{key.Line, key.Column}, v.Value
	}
	r.fields(n, "conditions", map[string]func(key, v *yaml.Node){
		"unlocked": func(key, v *yaml.Node) { note(key, v); b := r.yes(v, "unlocked"); c.Unlocked = &b },
		"battery":  func(key, v *yaml.Node) { note(key, v); c.Battery = int(r.number(v, "battery", 100)) },
		"base":     func(key, v *yaml.Node) { note(key, v); c.Base = r.text(v, "base") },
		"slot": func(key, v *yaml.Node) {
			note(key, v)
			if c.Slot = r.text(v, "slot"); c.Slot != "a" && c.Slot != "b" && c.Slot != "" {
				r.bad(v, "slot is a or b, and there is %q", c.Slot)
			}
		},
		"free": func(key, v *yaml.Node) {
			note(key, v)
			c.Free = map[string]int64{}
			by := map[string]func(_, v *yaml.Node){}
			for _, w := range []string{"storage", "sd"} {
				by[w] = func(_, v *yaml.Node) { c.Free[w] = r.bytes(v, "free room") }
			}
			r.fields(v, "free", by)
		},
	})
	return c
}

func (r *reader) helpers(n *yaml.Node) (list []Helper) {
	if n.Kind != yaml.SequenceNode {
		r.bad(n, "hands is a list, and there is %s", kindWords(n))
		return nil
	}
	for _, c := range n.Content {
		var h Helper
		r.fields(c, "an entry of hands", map[string]func(_, v *yaml.Node){
			"who": func(_, v *yaml.Node) { h.Who = r.text(v, "who") },
			"for": func(_, v *yaml.Node) { h.For = r.text(v, "for") },
		})
		list = append(list, h)
	}
	return list
}

func (r *reader) files(n *yaml.Node) (list []File) {
	if n.Kind != yaml.MappingNode {
		r.bad(n, "files is a mapping of short names, and there is %s", kindWords(n))
		return nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, v := n.Content[i], n.Content[i+1]
		f := File{Name: key.Value, Where: Where{key.Line, key.Column}}
		if strings.ContainsAny(f.Name, "$/\\ ") || f.Name == "" {
			r.bad(key, "%q is no short name: one word, without slashes", f.Name)
		}
		sized := false
		if v.Kind == yaml.ScalarNode {
			f.Path = r.text(v, "path")
		} else {
			r.fields(v, "a file", map[string]func(_, v *yaml.Node){
				"path": func(_, v *yaml.Node) { f.Path = r.text(v, "path") },
				"size": func(_, v *yaml.Node) { f.Size, sized = r.number(v, "size", math.MaxInt64), true },
				"sha256": func(_, v *yaml.Node) {
					f.SHA256 = strings.ToLower(r.text(v, "sha256"))
					if b, err := hex.DecodeString(f.SHA256); err != nil || len(b) != 32 {
						r.bad(v, "sha256 is 64 hexadecimal digits")
					}
				},
				"is": func(_, v *yaml.Node) { f.Is = r.text(v, "is") },
			})
		}
		if !sized {
			f.Size = -1
		}
		if why := pathProblem(f.Path); why != "" {
			r.bad(v, "%s", why)
		}
		list = append(list, f)
	}
	return list
}

// pathProblem says why a path can't are in a sheet, whatever the system it was written on.
func pathProblem(p string) string {
	slashed := strings.ReplaceAll(p, `\`, "/")
	switch {
	case p == "":
		return "a file wants its path"
	case strings.ContainsRune(p, 0):
		return "a path has no zero byte in it"
	case strings.HasPrefix(slashed, "/") || len(p) > 1 && p[1] == ':':
		return fmt.Sprintf("%s is no path beside the sheet: a sheet names files in its own folder, others "+
			"are named on the command line (--file NAME=PATH)", p)
	case slices.Contains(strings.Split(slashed, "/"), ".."):
		return fmt.Sprintf("%s leads out of the sheet's folder: files elsewhere are named on the command "+
			"line (--file NAME=PATH)", p)
	}
	return ""
}

func (r *reader) accepts(n *yaml.Node) (list []Accept) {
	if n.Kind != yaml.SequenceNode {
		r.bad(n, "accept is a list of findings, each with its reason, and there is %s", kindWords(n))
		return nil
	}
	for _, c := range n.Content {
		a := Accept{Where: Where{c.Line, c.Column}}
		r.fields(c, "an entry of accept", map[string]func(_, v *yaml.Node){
			"finding": func(_, v *yaml.Node) {
				a.Word = r.text(v, "finding")
				a.Finding = finding.ParseAccept(a.Word)
				if _, ok := finding.Explain(a.Finding.Name); !ok {
					r.bad(v, "there is no finding called %q%s", a.Finding.Name,
						spell.DidYouMean(a.Finding.Name, finding.Names()))
				}
			},
			"because": func(_, v *yaml.Node) { a.Because = r.text(v, "because") },
		})
		if a.Word == "" || a.Because == "" {
			r.bad(c, "an entry of accept names the finding, and because: why it is allowed")
		}
		list = append(list, a)
	}
	return list
}

func (r *reader) task(n *yaml.Node, s *Sheet) Task {
	t := Task{Where: Where{n.Line, n.Column}}
	if n.Kind == yaml.ScalarNode { // a command without options
		n = &yaml.Node{Kind: yaml.MappingNode, Line: n.Line, Column: n.Column,
			Content: []*yaml.Node{n, {Kind: yaml.MappingNode, Line: n.Line, Column: n.Column}}}
	}
	by := map[string]func(key, v *yaml.Node){
		"when": func(_, v *yaml.Node) { t.When = r.when(v) },
		"note": func(_, v *yaml.Node) { t.Note = r.text(v, "note") },
		"accept": func(_, v *yaml.Node) {
			t.Accept = r.accepts(v)
		},
	}
	for name := range commands {
		by[name] = func(key, v *yaml.Node) {
			if t.Command != "" {
				r.bad(key, "a task is one command, and this is %s and %s", t.Command, name)
				return
			}
			t.Command, t.node, t.Where = name, v, Where{key.Line, key.Column}
			r.options(t.Command, v, s)
		}
	}
	if r.fields(n, "a task", by) && t.Command == "" && len(r.problems) == 0 {
		r.bad(n, "a task names its command: %s", strings.Join(Commands(), ", "))
	}
	return t
}

func (r *reader) when(n *yaml.Node) (list []Condition) {
	by := map[string]func(key, v *yaml.Node){}
	for name := range whenFacts {
		by[name] = func(key, v *yaml.Node) {
			c := Condition{Fact: name, OneOf: r.texts(v, name), Where: Where{key.Line, key.Column}}
			for i, w := range c.OneOf {
				switch w {
				case "true":
					c.OneOf[i] = "yes"
				case "false":
					c.OneOf[i] = "no"
				}
			}
			list = append(list, c)
		}
	}
	r.fields(n, "when", by)
	slices.SortFunc(list, func(a, b Condition) int {
		return cmp.Compare(a.Line*1000+a.Column, b.Line*1000+b.Column)
	})
	return list
}
