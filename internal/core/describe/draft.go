package describe

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"jarlid/internal/core/model"
	"jarlid/internal/core/spell"
)

// Draft is a model file worked out from sources.
type Draft struct {
	Statements []Statement `json:"lines"`
	// Questions are what sources contradict each other in; the file states nothing about it.
	Questions []string `json:"questions"`

	asked   map[string]string // the questions by their keys
	standin *yaml.Node        // the part for a stand-in; nil for none
}

// ErrNameless says that no source says what the phone is called.
var ErrNameless = errors.New("nothing here says what the phone is called, so a model file has no name to " +
	"begin with")

// OtherModelError says that two sources are about different models.
type OtherModelError struct{ From, Name, OtherFrom, OtherName string }

// Error names both.
func (e *OtherModelError) Error() string {
	return fmt.Sprintf("%s is about %s and %s about %s: a model file is about one model", e.From, e.Name,
		e.OtherFrom, e.OtherName)
}

// Of merges what sources know. Errors: ErrNameless, *OtherModelError.
func Of(sources []Known) (*Draft, error) {
	d := &Draft{asked: map[string]string{}}
	name, err := d.name(sources)
	if err != nil {
		return nil, err
	}
	for _, l := range lines[1:] {
		said := map[string][]Statement{}
		var keys []string
		for _, k := range sources {
			for _, s := range l.statements(k) {
				if l.key == "aliases" && d.alias(s, k, name) {
					continue
				}
				if said[s.Key] == nil {
					keys = append(keys, s.Key)
				}
				said[s.Key] = append(said[s.Key], s)
			}
		}
		for _, key := range keys {
			d.merge(l, said[key])
		}
	}
	return d, nil
}

// name finds what the model is called: every source must be about it.
func (d *Draft) name(sources []Known) (string, error) {
	var first *Statement
	for _, k := range sources {
		for _, s := range lines[0].statements(k) {
			if first == nil {
				first = &s
				d.Statements = append(d.Statements, s)
				continue
			}
			names := []string{s.Value}
			for _, a := range ofAliases(k) {
				names = append(names, strings.ToLower(a.Value))
			}
			if !slices.Contains(names, first.Value) && !slices.ContainsFunc(sources, func(o Known) bool {
				return slices.ContainsFunc(ofAliases(o), func(a Statement) bool {
					return strings.EqualFold(a.Value, s.Value)
				}) && o.From == first.From
			}) {
				return "", &OtherModelError{first.From, first.Value, s.From, s.Value}
			}
		}
	}
	if first == nil {
		return "", ErrNameless
	}
	return first.Value, nil
}

// alias reports whether another name is left out. What a phone reports is its name; of several names in a
// firmware set each may be another model.
func (d *Draft) alias(s Statement, k Known, name string) bool {
	if strings.EqualFold(s.Value, name) {
		return true
	}
	if k.Set == nil {
		return false
	}
	d.ask("aliases", fmt.Sprintf("%s is for %s too: is that another name of this phone (aliases), or "+
		"another model?",
		k.From, s.Value))
	return true
}

func (d *Draft) ask(key, question string) {
	d.Questions = append(d.Questions, question)
	d.asked[key] = strings.TrimSpace(d.asked[key] + " " + question)
}

// merge takes what sources state about one key.
func (d *Draft) merge(l line, said []Statement) {
	var distinct []Statement
	for _, s := range said {
		i := slices.IndexFunc(distinct, func(o Statement) bool { return strings.EqualFold(o.Value, s.Value) })
		switch {
		case i < 0:
			distinct = append(distinct, s)
		case !strings.Contains(distinct[i].From, s.From):
			distinct[i].From += ", " + s.From
		}
	}
	if l.list || len(distinct) == 1 {
		d.Statements = append(d.Statements, distinct...)
		return
	}
	var each []string
	for _, s := range distinct {
		each = append(each, fmt.Sprintf("%s (%s: %s)", s.Value, s.From, s.Why))
	}
	d.ask(distinct[0].Key, fmt.Sprintf("what is %s: %s?", distinct[0].Key, strings.Join(each, ", or ")))
}

// Text writes the file: each line with its source as a comment, texts of phones and files quoted. It can be
// read by model.Parse.
func (d *Draft) Text() (string, error) {
	root := &yaml.Node{Kind: yaml.MappingNode, HeadComment: "# A draft. Each line has its source in a " +
		"comment."}
	for _, l := range lines {
		top, below, nested := strings.Cut(strings.TrimSuffix(l.key, "."), ".")
		group := strings.HasSuffix(l.key, ".")
		var own []Statement
		for _, s := range d.Statements {
			if s.Key == l.key || group && strings.HasPrefix(s.Key, l.key) {
				own = append(own, s)
			}
		}
		if len(own) == 0 {
			continue
		}
		switch {
		case group:
			table := child(root, top)
			for _, s := range own {
				put(table, strings.TrimPrefix(s.Key, l.key), value(l, s), comment([]Statement{s}),
					l.key != "hands.")
			}
		case nested:
			put(child(root, top), below, values(l, own), comment(own), false)
		default:
			put(root, top, values(l, own), comment(own), false)
		}
	}
	if d.standin != nil {
		put(root, "standin", d.standin, "for practice: a phone made of software with these partitions", false)
	}
	var foot []string
	for _, q := range d.Questions {
		foot = append(foot, "# Open: "+plain(q))
	}
	root.FootComment = strings.Join(foot, "\n")
	var b bytes.Buffer
	e := yaml.NewEncoder(&b)
	e.SetIndent(2)
	if err := e.Encode(root); err != nil {
		return "", err
	}
	_, err := model.Parse(b.Bytes())
	return b.String(), err
}

// child gives the mapping that is at a key, made where there is none.
func child(root *yaml.Node, key string) *yaml.Node {
	for i := 0; i+1 < len(root.Content); i += 2 {
		if root.Content[i].Value == key {
			return root.Content[i+1]
		}
	}
	n := &yaml.Node{Kind: yaml.MappingNode}
	put(root, key, n, "", false)
	return n
}

// put adds a key with its comment: before the line, or at its end.
func put(to *yaml.Node, key string, v *yaml.Node, comment string, end bool) {
	k := &yaml.Node{}
	k.SetString(key)
	switch {
	case comment == "":
	case end:
		v.LineComment = "# " + comment
	default:
		k.HeadComment = "# " + comment
	}
	to.Content = append(to.Content, k, v)
}

// values gives the node of a key: a list, or the one value.
func values(l line, own []Statement) *yaml.Node {
	if !l.list {
		return value(l, own[0])
	}
	n := &yaml.Node{Kind: yaml.SequenceNode, Style: yaml.FlowStyle}
	for _, s := range own {
		n.Content = append(n.Content, value(l, s))
	}
	return n
}

func value(l line, s Statement) *yaml.Node {
	n := &yaml.Node{}
	switch l.key {
	case "slots":
		n.Kind, n.Tag, n.Value = yaml.ScalarNode, "!!int", s.Value
	case "userspace-fastboot", "serial-differs":
		n.Kind, n.Tag, n.Value = yaml.ScalarNode, "!!bool", map[bool]string{true: "true",
			false: "false"}[s.Value == "yes"]
	case "hands.":
		do := &yaml.Node{Kind: yaml.SequenceNode}
		for part := range strings.SplitSeq(s.Value, "\n") {
			do.Content = append(do.Content, quoted(part))
		}
		n.Kind = yaml.MappingNode
		put(n, "do", do, "", false)
	default:
		return quoted(s.Value)
	}
	return n
}

// quoted gives a text's node. What can't be shown is left out of it, as a file is read by people.
func quoted(s string) *yaml.Node {
	n := &yaml.Node{}
	// A text is never refused.
	_ = n.Encode(plain(s))
	return n
}

// comment names the sources of statements, each once.
func comment(own []Statement) string {
	var list []string
	for _, s := range own {
		if c := plain(s.From + ": " + s.Why); !slices.Contains(list, c) {
			list = append(list, c)
		}
	}
	if len(list) > 3 {
		list = append(list[:3], spell.Counted(len(list)-3, "more source"))
	}
	return strings.Join(list, "; ")
}

// plain makes one line of a text that a phone or a file may have a part in.
func plain(s string) string {
	return strings.Join(strings.Fields(string(spell.Printable([]byte(s)))), " ")
}
