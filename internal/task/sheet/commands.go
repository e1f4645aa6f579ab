package sheet

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"jarlid/internal/core/card"
	"jarlid/internal/core/local"
	"jarlid/internal/core/spell"
	"jarlid/internal/task"
)

// command is what belongs to one command a task can be.
type command struct {
	of     func() task.Work // a new value of its struct
	word   string           // the option that is on the command line without a name; "" for none
	files  []string         // options that name files of the sheet
	hidden string           // an option that is never kept: only a variable may give it
}

// commands are all commands a task can be, by name. Their options are those of the command line.
var commands = map[string]command{
	"recovery try": {of: func() task.Work {
		return &task.RecoveryTry{}
	}, word: "file", files: []string{"file"}},
	"recovery install": {of: func() task.Work {
		return &task.RecoveryInstall{}
	}, word: "file", files: []string{"file", "boot"}},
	"recovery hold": {of: func() task.Work { return &task.RecoveryHold{} }},
	"flash":         {of: func() task.Work { return &task.Flash{} }, word: "files", files: []string{"files"}},
	"sideload": {of: func() task.Work {
		return &task.Sideload{}
	}, word: "packages", files: []string{"packages", "recovery-after"}},
	"wipe": {of: func() task.Work { return &task.Wipe{} }, word: "areas"},
	"put":  {of: func() task.Work { return &task.Put{} }, word: "files", files: []string{"files"}},
	"app":  {of: func() task.Work { return &task.App{} }, word: "files", files: []string{"files"}},
	"vbmeta loosen": {of: func() task.Work {
		return &task.Flags{Off: true}
	}, word: "flag", files: []string{"from"}},
	"vbmeta tighten": {of: func() task.Work { return &task.Flags{} }, word: "flag", files: []string{"from"}},
	"backup take":    {of: func() task.Work { return &task.BackupTake{} }, word: "items"},
	"backup restore": {of: func() task.Work { return &task.BackupRestore{} }, word: "items"},
	"shelve":         {of: func() task.Work { return &task.Shelve{} }, word: "paths"},
	"unshelve":       {of: func() task.Work { return &task.Shelve{Back: true} }, word: "paths"},
	"go":             {of: func() task.Work { return &task.Go{} }, word: "mode"},
	"slot use":       {of: func() task.Work { return &task.SlotUse{} }, word: "slot"},
	"slot copy":      {of: func() task.Work { return &task.SlotCopy{} }, word: "partitions"},
	"unlock":         {of: func() task.Work { return &task.Unlock{} }, hidden: "code"},
	"relock":         {of: func() task.Work { return &task.Relock{} }, files: []string{"images"}},
	"arrive":         {of: func() task.Work { return &task.Arrive{} }},
}

// Commands are the names of all commands a task can be.
func Commands() []string { return slices.Sorted(maps.Keys(commands)) }

// SendsFiles are the names of the commands that write files of this computer to a phone.
func SendsFiles() []string {
	return slices.DeleteFunc(Commands(), func(name string) bool {
		return len(commands[name].files) == 0 && name != "backup restore"
	})
}

// unoffered are fields of a command that are part of its name, or of the command line alone.
var unoffered = map[string][]string{
	"vbmeta loosen":  {"off", "file", "output"},
	"vbmeta tighten": {"off", "file", "output", "make-blank"},
	"shelve":         {"back"},
	"unshelve":       {"back"},
}

// usual are the options that a command has without being given.
var usual = map[string]map[string]any{
	"arrive":   {"wait": 20 * time.Minute},
	"go":       {"wait": goWait},
	"sideload": {"then": task.ThenRecovery},
}

// goWait is how long a starting system is watched.
const goWait = time.Minute

// option is one option of a command.
type option struct {
	name  string
	field int // of the struct; -1 for a hidden one
	kind  reflect.Type
}

// options are a command's options in the order of its struct.
func optionsOf(name string) (list []option) {
	c := commands[name]
	t := reflect.TypeOf(c.of()).Elem()
	for i := range t.NumField() {
		tag, _, _ := strings.Cut(t.Field(i).Tag.Get("yaml"), ",")
		if tag == "" || tag == "-" || slices.Contains(unoffered[name], tag) {
			continue
		}
		list = append(list, option{tag, i, t.Field(i).Type})
	}
	if c.hidden != "" {
		list = append(list, option{c.hidden, -1, reflect.TypeFor[string]()})
	}
	return list
}

var durationType = reflect.TypeFor[time.Duration]()

// options checks the options of a task: names, types, and that what they name is there.
func (r *reader) options(name string, n *yaml.Node, s *Sheet) {
	r.decode(name, n, func(o option, v *yaml.Node, values []string) {
		c := commands[name]
		for _, w := range values {
			if slices.Contains(c.files, o.name) {
				r.fileNamed(v, w, s)
			}
			if o.name == c.hidden && o.field < 0 && !strings.HasPrefix(w, "${") {
				r.bad(v, "%s is not kept in a sheet: give it by a table, as ${%s}", o.name, o.name)
			}
			if o.kind == reflect.TypeFor[card.Mode]() && !slices.Contains(card.Modes, card.Mode(w)) {
				var modes []string
				for _, m := range card.Modes {
					modes = append(modes, string(m))
				}
				r.bad(v, "%q is not a mode%s", w, spell.NoneOf(w, modes))
			}
			if o.name == "output" {
				if why := pathProblem(w); why != "" {
					r.bad(v, "%s", why)
				}
			}
		}
	})
	c := commands[name]
	if c.word == "" && n.Kind == yaml.ScalarNode && n.Tag != "!!null" {
		r.bad(n, "%s takes no word, and there is %q", name, n.Value)
	}
}

func (r *reader) fileNamed(v *yaml.Node, word string, s *Sheet) {
	if strings.HasPrefix(word, "${") {
		r.bad(v, "a file's name is written out: what differs from phone to phone are names, numbers and "+
			"codes, never files")
		return
	}
	var names []string
	for _, f := range s.Files {
		if f.Name == word {
			return
		}
		names = append(names, f.Name)
	}
	r.bad(v, "%q is none of the sheet's files%s", word, spell.NoneOf(word, names))
}

// decode goes through the options of a task, and tells each with its values.
func (r *reader) decode(name string, n *yaml.Node, each func(o option, v *yaml.Node, values []string)) {
	c, all := commands[name], optionsOf(name)
	one := func(o option, v *yaml.Node) {
		var values []string
		switch {
		case o.kind.Kind() == reflect.Slice:
			if values = r.texts(v, o.name); len(values) == 0 && v.Kind == yaml.SequenceNode {
				r.bad(v, "%s is an empty list", o.name)
			}
		case o.kind.Kind() == reflect.Bool:
			values = []string{fmt.Sprint(r.yes(v, o.name))}
		case o.kind == durationType:
			w := r.text(v, o.name)
			if d, err := time.ParseDuration(w); err != nil || d < 0 {
				r.bad(v, "%s is a time like 90s or 20m, and there is %s", o.name, kindWords(v))
			}
			values = []string{w}
		default:
			values = []string{r.text(v, o.name)}
		}
		each(o, v, values)
	}
	if n.Kind != yaml.MappingNode {
		if n.Tag == "!!null" {
			return
		}
		for _, o := range all {
			if o.name == c.word {
				one(o, n)
			}
		}
		return
	}
	by := map[string]func(_, v *yaml.Node){}
	for _, o := range all {
		by[o.name] = func(_, v *yaml.Node) { one(o, v) }
	}
	r.fields(n, name, by)
}

// Made is a task made ready for one phone: its command as a value, and as it would be typed.
type Made struct {
	Task  task.Work
	Words []string // without the program's name and the phone
	Code  string   // what is never kept
}

// Make makes the value of a task. paths are the sheet's files by their short names, vars what
// stands for ${NAME}, folder where outputs go.
func (t *Task) Make(paths map[string]string, vars map[string]string, folder func(string) string) (
	*Made, error) {
	c := commands[t.Command]
	v := c.of()
	at := reflect.ValueOf(v).Elem()
	m := &Made{Task: v, Words: strings.Split(t.Command, " ")}
	for name, value := range usual[t.Command] {
		for _, o := range optionsOf(t.Command) {
			if o.name == name {
				at.Field(o.field).Set(reflect.ValueOf(value))
			}
		}
	}
	var failed error
	var words, named []string
	r := &reader{}
	r.decode(t.Command, t.node, func(o option, n *yaml.Node, values []string) {
		for i, w := range values {
			w, err := replaced(w, vars)
			if err != nil && failed == nil {
				failed = &FormError{Problems: []Problem{{Where{n.Line, n.Column}, spell.Error(err)}}}
			}
			switch {
			case slices.Contains(c.files, o.name):
				w = paths[w]
			case o.name == "output":
				w = folder(w)
			}
			values[i] = w
		}
		if o.field < 0 {
			m.Code = values[0]
			return
		}
		f := at.Field(o.field)
		switch {
		case o.kind.Kind() == reflect.Slice:
			f.Set(reflect.ValueOf(values))
		case o.kind.Kind() == reflect.Bool:
			f.SetBool(values[0] == "true")
		case o.kind == durationType:
			d, _ := time.ParseDuration(values[0]) // it was read before
			f.SetInt(int64(d))
		default:
			f.SetString(values[0])
		}
		switch {
		case o.name == c.word:
			words = values
		case o.kind.Kind() == reflect.Bool && values[0] == "true":
			named = append(named, "--"+o.name)
		case o.kind.Kind() != reflect.Bool:
			for _, w := range values {
				named = append(named, "--"+o.name, w)
			}
		}
	})
	if u, ok := v.(*task.Unlock); ok {
		u.Code = m.Code
	}
	m.Words = append(append(m.Words, words...), named...)
	return m, failed
}

// fromWords makes the value of a command from its words, as a journal has them: without the
// program's name, and without the options that every command has.
func fromWords(words []string) (*Made, error) {
	name := ""
	for n := min(2, len(words)); n > 0 && name == ""; n-- {
		if w := strings.Join(words[:n], " "); commands[w].of != nil {
			name = w
		}
	}
	if name == "" {
		return nil, task.Usage("no task is called %q", strings.Join(words, " "))
	}
	c := commands[name]
	node := &yaml.Node{Kind: yaml.MappingNode}
	put := func(o option, w string) {
		for i := 0; i < len(node.Content); i += 2 {
			if node.Content[i].Value == o.name {
				node.Content[i+1].Content = append(node.Content[i+1].Content,
					&yaml.Node{Kind: yaml.ScalarNode, Value: w})
				return
			}
		}
		v := &yaml.Node{Kind: yaml.ScalarNode, Value: w}
		if o.kind.Kind() == reflect.Slice {
			v = &yaml.Node{Kind: yaml.SequenceNode, Content: []*yaml.Node{v}}
		}
		node.Content = append(node.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: o.name}, v)
	}
	all := optionsOf(name)
	paths := map[string]string{}
	for i := len(strings.Split(name, " ")); i < len(words); i++ {
		w := words[i]
		flag, value, given := strings.Cut(strings.TrimPrefix(w, "--"), "=")
		at := slices.IndexFunc(all, func(o option) bool { return o.name == c.word })
		if strings.HasPrefix(w, "--") {
			at = slices.IndexFunc(all, func(o option) bool { return o.name == flag })
			switch {
			case at >= 0 && all[at].kind.Kind() == reflect.Bool:
				w = "true"
			case at >= 0 && given:
				w = value
			case at >= 0 && i+1 < len(words):
				i++
				w = words[i]
			}
		}
		if at < 0 {
			return nil, task.Usage("%s has no option %q", name, w)
		}
		if slices.Contains(c.files, all[at].name) {
			paths[w] = w
		}
		put(all[at], w)
	}
	t := &Task{Command: name, node: node}
	return t.Make(paths, nil, func(w string) string { return w })
}

// Typed is a task as it would be typed, for a person: files by their short names.
func (t *Task) Typed() string {
	words := strings.Split(t.Command, " ")
	var named []string
	(&reader{}).decode(t.Command, t.node, func(o option, _ *yaml.Node, values []string) {
		switch {
		case o.name == commands[t.Command].word:
			words = append(words, values...)
		case o.kind.Kind() == reflect.Bool:
			if values[0] == "true" {
				named = append(named, "--"+o.name)
			}
		default:
			for _, w := range values {
				named = append(named, "--"+o.name, w)
			}
		}
	})
	for i, w := range words {
		words[i] = local.Quote(w)
	}
	return strings.Join(append(words, named...), " ")
}

// replaced puts values for ${NAME}.
func replaced(s string, vars map[string]string) (string, error) {
	var out strings.Builder
	for {
		before, rest, found := strings.Cut(s, "${")
		out.WriteString(before)
		if !found {
			return out.String(), nil
		}
		name, after, closed := strings.Cut(rest, "}")
		value, known := vars[name]
		switch {
		case !closed:
			return "", fmt.Errorf("${ is not closed by }")
		case !known || value == "":
			return "", fmt.Errorf("nothing is known of this phone for ${%s}: the bench tells name, serial "+
				"and model, a table (--table FILE.csv) the rest", name)
		}
		out.WriteString(value)
		s = after
	}
}
