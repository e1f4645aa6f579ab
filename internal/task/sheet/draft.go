package sheet

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode"

	"go.yaml.in/yaml/v3"

	"jarlid/internal/core/advice"
	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/lift"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
	"jarlid/internal/core/spell"
	"jarlid/internal/core/verify"
	"jarlid/internal/engine"
	"jarlid/internal/files"
	"jarlid/internal/host"
	"jarlid/internal/task"
)

// Draft is a sheet that was worked out from files and a phone.
type Draft struct {
	Sheet string   `json:"sheet"` // its path
	Goal  string   `json:"for"`
	Name  string   `json:"name"`
	Tasks []string `json:"tasks"` // as they would be typed
	Asks  []string `json:"ask"`
	Open  []string `json:"open"`
	Left  []string `json:"left"`

	Text []byte   `json:"-"`
	Why  []string `json:"-"` // of each task
}

// DraftFor is what a draft is for.
type DraftFor struct {
	Card   *card.Card
	Model  *model.Model
	Models model.Set
	Goal   advice.Goal
	Over   bool // a sheet that is there is written over
}

// suggested is how a sheet is called that was given no name.
const suggested = "evening.yaml"

// OpenForDraft opens the phone that is meant, or the saved card, and reads what decides which job
// it is, as far as the mode reports it.
func OpenForDraft(ctx context.Context, e *task.Env) (*engine.Job, error) {
	j, err := e.Open(ctx)
	if err != nil {
		return nil, err
	}
	_, err = j.Know(ctx, []card.ID{card.FactVendor.ID(), card.FactAccounts.ID(),
		card.FactSize.Of(card.At("vbmeta", j.Card.Value(card.FactNext)))})
	return j, err
}

// DraftOf works a sheet out. output is where it will lie, "" for beside its files.
func DraftOf(ctx context.Context, e *task.Env, paths []string, output string, d DraftFor) (*Draft, error) {
	paths, err := files.Expand(paths)
	if err != nil {
		return nil, err
	}
	for i, p := range paths {
		if paths[i], err = filepath.Abs(p); err != nil {
			return nil, err
		}
	}
	folder := common(paths)
	if output == "" {
		output = filepath.Join(folder, suggested)
	}
	if output, err = filepath.Abs(files.Unquote(output)); err != nil {
		return nil, err
	}
	if _, err := os.Stat(output); !d.Over && !errors.Is(err, fs.ErrNotExist) {
		return nil, task.Usage("%s is there already; name another file with -o, or write over it with --over",
			output)
	}
	given, info, err := filesOf(ctx, e, paths, output, d)
	if err != nil {
		return nil, err
	}
	ev := advice.WorkOut(given, d.Goal, d.Card, d.Model, d.Models)
	out := &Draft{Sheet: output, Goal: string(ev.Goal), Name: ev.Title, Asks: task.OrEmpty(ev.Asks),
		Open: task.OrEmpty(ev.Open), Left: task.OrEmpty(ev.Left), Tasks: []string{}}
	name := whenFacts["model"](d.Card, d.Model)
	if name != "" {
		out.Name += ", for " + name
	}
	if len(ev.Tasks) == 0 && len(ev.Open) == 0 {
		return nil, task.Usage("these files make no evening: %s", strings.Join(ev.Left, "; "))
	}
	if len(ev.Tasks) == 0 { // a sheet needs one, and the open question keeps it from running
		ev.Tasks = []advice.Planned{
			{Command: "go", Options: []advice.Opt{
				{Name: "mode", Values: []string{string(place.ImageMode(d.Card, d.Model))}}},
				Why: "a place to begin; the tasks follow from the answers"}}
	}
	if out.Text, err = write(ev, out.Name, name, info, d.Card); err != nil {
		return nil, err
	}
	s, err := parse(out.Text, output)
	if err != nil {
		return nil, fmt.Errorf("the draft is no sheet: %w", err)
	}
	for i, t := range s.Tasks {
		out.Tasks, out.Why = append(out.Tasks, t.Typed()), append(out.Why, ev.Tasks[i].Why)
	}
	return out, nil
}

// filesOf identifies and verifies the files of a draft; info is what the sheet says of each, by its short
// name.
func filesOf(ctx context.Context, e *task.Env, paths []string, output string, d DraftFor) (
	given []*advice.Given, info map[string]File, err error) {
	info = map[string]File{}
	for _, p := range paths {
		rel, err := filepath.Rel(filepath.Dir(output), p)
		if err != nil || !filepath.IsLocal(rel) {
			return nil, nil, task.Usage("%s lies outside the folder of the sheet, %s: put the sheet above "+
				"its files "+
				"with -o, for example -o %s", p, filepath.Dir(output),
				filepath.Join(common(paths), suggested))
		}
		g, err := identified(p, e.MaxMemory)
		if err != nil {
			return nil, nil, err
		}
		g.Name = shortName(g.File, d, info)
		if err := verified(ctx, e, p, g); err != nil {
			return nil, nil, err
		}
		sum, size, err := sumOf(ctx, e.Verifier(), p, nil)
		if err != nil {
			return nil, nil, err
		}
		info[g.Name] = File{Name: g.Name, Path: filepath.ToSlash(rel), Size: size, SHA256: sum, Is: is(g)}
		given = append(given, g)
	}
	for _, g := range given {
		if d.Goal == advice.GoalStock || d.Goal == "" && (g.Set || g.File.Kind == ident.FirmwareSet) {
			if g.Set || g.File.Kind == ident.FirmwareSet || g.File.Kind == ident.Images {
				key, why, err := task.SetSigned(ctx, e, g.File.Path)
				if err != nil {
					return nil, nil, err
				}
				g.Signed, g.Why = key != "", why
			}
		}
	}
	return given, info, nil
}

// verified verifies a file, or the files of a folder, before a job is worked out around it.
func verified(ctx context.Context, e *task.Env, path string, g *advice.Given) error {
	paths, parts := []string{path}, []*ident.File{g.File}
	if g.Set {
		paths, parts = nil, make([]*ident.File, len(g.File.Members))
		for _, m := range g.File.Members {
			paths = append(paths, filepath.Join(path, m.Name))
		}
	}
	for i, p := range paths {
		res, err := e.Verifier().Verify(ctx, p, parts[i], e.Working)
		if err != nil {
			return err
		}
		found := place.Verified(filepath.Base(p), g.File, res)
		switch {
		case len(found) == 0:
		case res.Has(verify.Damaged):
			g.File.Damage = found[0].Text
		default:
			g.Altered = append(g.Altered, found[0].Text)
		}
	}
	return nil
}

// Write writes the draft to where it belongs.
func (d *Draft) Write() error {
	return host.WriteWhole(d.Sheet, d.Text, 0o644)
}

// common is the folder all files lie below.
func common(paths []string) string {
	if len(paths) == 0 {
		return "."
	}
	dir := filepath.Dir(paths[0])
	for _, p := range paths[1:] {
		for {
			rel, err := filepath.Rel(dir, p)
			if err == nil && filepath.IsLocal(rel) || filepath.Dir(dir) == dir {
				break
			}
			dir = filepath.Dir(dir)
		}
	}
	return dir
}

// identified says what a file or a folder is.
func identified(path string, memory int64) (*advice.Given, error) {
	st, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !st.IsDir() {
		f, err := files.Identify(path, ident.Options{MaxMemory: memory})
		if err == nil && len(f.Wrapped) > 0 && !f.IsPackage() && !f.IsArchive() && !f.HoldsRecovery() &&
			!f.Generic() {
			// What it is for stands further inside than its head.
			f, err = files.Identify(path, ident.Options{Deep: true, Spool: files.Spool(lift.DefaultMaxSize),
				MaxMemory: memory})
		}
		if err != nil {
			return nil, err
		}
		return &advice.Given{File: f}, nil
	}
	list, err := os.ReadDir(path)
	if err != nil {
		return nil, err
	}
	f := &ident.File{Path: path, Kind: ident.FirmwareSet, Details: map[string]any{}}
	for _, d := range list {
		if !d.Type().IsRegular() {
			continue
		}
		one, err := files.Identify(filepath.Join(path, d.Name()), ident.Options{})
		if err != nil {
			return nil, err
		}
		f.Members = append(f.Members, ident.Member{Name: d.Name(), Size: one.Size, Kind: one.Kind,
			GoesTo: one.GoesTo})
	}
	return &advice.Given{File: f, Set: true}, nil
}

func is(g *advice.Given) string {
	if g.Set {
		return "a folder with " + spell.Counted(len(g.File.Members), "file")
	}
	return g.File.Words()
}

// shortName makes the name a file has in a sheet: what it is where that is one thing, else its
// file's name.
func shortName(f *ident.File, d DraftFor, taken map[string]File) string {
	have := whenFacts["model"](d.Card, d.Model)
	other := have != "" && len(f.Models()) > 0 && !slices.ContainsFunc(f.Models(), func(w string) bool {
		same, known := d.Models.Same(w, have)
		return same || !known
	})
	base := map[ident.Kind]string{ident.OTAAB: "rom", ident.OTABlock: "rom", ident.FirmwareSet: "set"}[f.Kind]
	switch {
	case other: // it is left out, and another may be the one
		base = strings.TrimSuffix(f.Name(), filepath.Ext(f.Name()))
	case f.HoldsRecovery():
		base = "recovery"
	case f.Generic():
		base = "gsi"
	case base == "":
		base = strings.TrimSuffix(f.Name(), filepath.Ext(f.Name()))
	}
	base = strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) || r == '-' || r == '_' || r == '.' {
			return r
		}
		return '-'
	}, base)
	name := base
	for n := 2; ; n++ {
		if _, had := taken[name]; !had {
			return name
		}
		name = fmt.Sprintf("%s-%d", base, n)
	}
}

// The nodes of a written sheet.

func word(s string) *yaml.Node {
	n := &yaml.Node{}
	n.SetString(s)
	return n
}

func plainWord(s string) *yaml.Node { return &yaml.Node{Kind: yaml.ScalarNode, Value: s} }

func words(list []string, style yaml.Style) *yaml.Node {
	n := &yaml.Node{Kind: yaml.SequenceNode, Style: style}
	for _, s := range list {
		n.Content = append(n.Content, word(s))
	}
	return n
}

func mapping(style yaml.Style, pairs ...any) *yaml.Node {
	n := &yaml.Node{Kind: yaml.MappingNode, Style: style}
	for i := 0; i+1 < len(pairs); i += 2 {
		n.Content = append(n.Content, word(pairs[i].(string)), pairs[i+1].(*yaml.Node))
	}
	return n
}

func put(n *yaml.Node, key string, v *yaml.Node) *yaml.Node {
	k := word(key)
	n.Content = append(n.Content, k, v)
	return k
}

// write writes an evening as a sheet, each line with its reason.
func write(ev *advice.Evening, name, modelName string, info map[string]File, c *card.Card) ([]byte, error) {
	root := &yaml.Node{Kind: yaml.MappingNode}
	put(root, "sheet", plainWord(fmt.Sprint(Form)))
	put(root, "name", word(name))
	if modelName != "" {
		put(root, "models", words([]string{modelName}, yaml.FlowStyle))
	}
	conditions := &yaml.Node{Kind: yaml.MappingNode}
	if yes, known := c.Yes(card.FactUnlocked); known && yes {
		put(conditions, "unlocked", plainWord("true"))
	}
	put(conditions, "battery", plainWord(fmt.Sprint(batteryWanted)))
	put(root, "conditions", conditions).HeadComment = "What a phone has to be like before the first task."
	if len(ev.Hands) > 0 {
		hands := &yaml.Node{Kind: yaml.SequenceNode}
		for _, h := range ev.Hands {
			hands.Content = append(hands.Content, mapping(0, "who", word(h.Who), "for", word(h.For)))
		}
		put(root, "hands", hands)
	}
	list := &yaml.Node{Kind: yaml.MappingNode}
	for _, n := range ev.Used {
		f := info[n]
		put(list, f.Name, mapping(0, "path", word(f.Path), "size", plainWord(fmt.Sprint(f.Size)), "sha256",
			word(f.SHA256), "is", word(f.Is)))
	}
	if len(list.Content) > 0 {
		put(root, "files", list)
	}
	if len(ev.Asks) > 0 {
		put(root, "ask", words(ev.Asks, 0)).HeadComment = "Confirmed by a person before it begins."
	}
	if len(ev.Open) > 0 {
		put(root, "open", words(ev.Open, 0)).HeadComment = "Not known, and not guessed. Answer each by " +
			"changing the tasks, and take it out here;\nuntil then the sheet does not run."
	}
	tasks := &yaml.Node{Kind: yaml.SequenceNode}
	for _, p := range ev.Tasks {
		tasks.Content = append(tasks.Content, taskNode(&p))
	}
	put(root, "tasks", tasks)
	if len(ev.Left) > 0 {
		root.Content[len(root.Content)-1].FootComment = "Left out: " + strings.Join(ev.Left, "\nLeft out: ")
	}
	var out bytes.Buffer
	out.WriteString("# A whole job for Jar Lid, drafted from files and a phone. Look it over: jarlid sheet " +
		"check\n")
	enc := yaml.NewEncoder(&out)
	enc.SetIndent(2)
	err := enc.Encode(root)
	return out.Bytes(), errors.Join(err, enc.Close())
}

// batteryWanted is what a drafted sheet needs in the battery, in percent.
const batteryWanted = 30

func taskNode(p *advice.Planned) *yaml.Node {
	n := &yaml.Node{Kind: yaml.MappingNode}
	var value *yaml.Node
	at := slices.IndexFunc(p.Options, func(o advice.Opt) bool { return o.Name == commands[p.Command].word })
	switch {
	case len(p.Options) == 0:
		value = mapping(yaml.FlowStyle)
	case len(p.Options) == 1 && at == 0:
		value = optNode(p.Options[0])
	default:
		value = &yaml.Node{Kind: yaml.MappingNode}
		for _, o := range p.Options {
			put(value, o.Name, optNode(o))
		}
	}
	put(n, p.Command, value)
	n.HeadComment = wrapped(p.Why)
	if p.Slots > 0 {
		put(n, "when", mapping(yaml.FlowStyle, "slots", plainWord(fmt.Sprint(p.Slots))))
	}
	if p.Note != "" {
		put(n, "note", word(p.Note))
	}
	if len(p.Accept) > 0 {
		list := &yaml.Node{Kind: yaml.SequenceNode}
		for _, a := range p.Accept {
			list.Content = append(list.Content, mapping(0, "finding", word(a.Finding), "because",
				word(a.Because)))
		}
		put(n, "accept", list)
	}
	return n
}

func optNode(o advice.Opt) *yaml.Node {
	if o.List {
		return words(o.Values, yaml.FlowStyle)
	}
	return word(o.Values[0])
}

// wrapped breaks a comment into lines that are read at a glance.
func wrapped(s string) string {
	const wide = 96
	var lines []string
	line := ""
	for _, w := range strings.Fields(s) {
		if line != "" && len(line)+1+len(w) > wide {
			lines, line = append(lines, line), ""
		}
		line = strings.TrimSpace(line + " " + w)
	}
	return strings.Join(append(lines, line), "\n")
}
