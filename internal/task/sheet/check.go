package sheet

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/plan"
	"jarlid/internal/core/spell"
	"jarlid/internal/engine"
	"jarlid/internal/files"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

// foreseer is a command that is no plan of steps and says itself what it will do.
type foreseer interface {
	Name() string
	Foresee(*engine.Ahead) (*engine.Foreseen, error)
}

// Line is one task as it was checked for a phone.
type Line struct {
	N        int               `json:"n"` // counted from 1
	Task     string            `json:"task"`
	Line     int               `json:"line"`
	For      bool              `json:"for_this_phone"`
	Findings []finding.Finding `json:"findings"`
	Bytes    int64             `json:"bytes"` // that will be sent
	Reads    int64             `json:"reads"` // that will be read from the phone
	Seconds  int               `json:"seconds"`

	Note     string           `json:"-"`
	Foreseen *engine.Foreseen `json:"-"`
	Mode     card.Mode        `json:"-"` // in which it is foreseen to begin
	Unsure   []string         `json:"-"` // facts that decide whether it is for this phone, and are not known
}

// Hand is one act at the phone.
type Hand struct {
	N    int      `json:"n"` // the task it belongs to
	Step string   `json:"step"`
	Do   []string `json:"do"`
}

// Judged is the whole sheet, checked for one phone.
type Judged struct {
	Name    string     `json:"name"`
	Model   string     `json:"model,omitempty"`
	Holds   []Found    `json:"conditions"`
	Tasks   []Line     `json:"tasks"`
	Lost    []string   `json:"lost"`
	Kept    []string   `json:"kept"`
	Hands   []Hand     `json:"hands"`
	Bytes   int64      `json:"bytes"`
	Reads   int64      `json:"reads"`
	Seconds int        `json:"seconds"`
	Open    []string   `json:"open"`
	Outputs []string   `json:"outputs"` // folders that are written
	Runs    bool       `json:"runs"`    // nothing stops it
	Card    *card.Card `json:"-"`       // as it is now
	Serial  string     `json:"-"`
	cost    plan.Cost
}

// Stops are the findings that stop it.
func (j *Judged) Stops() []finding.Finding { return finding.Blocking(j.all()) }

// Asks are those a person has to say yes to.
func (j *Judged) Asks() []finding.Finding { return finding.Asking(j.all()) }

func (j *Judged) all() (list []finding.Finding) {
	for _, f := range j.Holds {
		list = append(list, f.Finding)
	}
	for _, t := range j.Tasks {
		list = append(list, t.Findings...)
	}
	return list
}

// Alike reports whether the same is to be said of two phones: all but their names, numbers, bytes and times.
func (j *Judged) Alike(o *Judged) bool {
	return j.Model == o.Model && j.Runs == o.Runs && reflect.DeepEqual(j.said(), o.said())
}

// said are all sentences about a phone, without its name: first how many there are of each kind.
func (j *Judged) said() (list []string) {
	add := func(texts ...string) {
		for _, s := range texts {
			list = append(list, strings.ReplaceAll(s, j.Name, ""))
		}
	}
	list = append(list, fmt.Sprint(len(j.Holds), len(j.Tasks), len(j.Lost), len(j.Kept), len(j.Hands),
		len(j.Open)))
	for _, f := range j.all() {
		add(f.Name, string(f.Severity), f.About, f.Text, f.Remedy, fmt.Sprint(f.Accepted))
	}
	for _, t := range j.Tasks {
		add(t.Task, fmt.Sprint(t.For, len(t.Findings), t.Seconds))
	}
	for _, h := range j.Hands {
		add(append(h.Do, h.Step, fmt.Sprint(h.N))...)
	}
	add(slices.Concat(j.Lost, j.Kept, j.Open, j.Outputs)...)
	return list
}

// Agreed is what a person says yes to with the one question at the start.
func (j *Judged) Agreed(question string) *engine.Agreed {
	a := &engine.Agreed{Question: question, Findings: j.all(), Lost: j.Lost}
	for _, t := range j.Tasks {
		if t.Foreseen != nil {
			a.Does = append(a.Does, t.Foreseen.Does()...)
		}
	}
	return a
}

// Checked is the whole sheet, checked.
type Checked struct {
	All []Judged `json:"phones"`
	// Changed are files that are not the ones the sheet was written for.
	Changed []Found `json:"files"`

	Sheet *Opened `json:"-"`
}

// Runs reports whether nothing stops it on any phone.
func (c *Checked) Runs() bool {
	return len(c.Changed) == 0 && !slices.ContainsFunc(c.All, func(j Judged) bool { return !j.Runs })
}

// Stopping are the findings that stop it, those about its files first.
func (c *Checked) Stopping() (list []finding.Finding) {
	for _, f := range c.Changed {
		list = append(list, f.Finding)
	}
	for i := range c.All {
		list = append(list, c.All[i].Stops()...)
	}
	return list
}

// Ready is a sheet with its files read, for any number of phones.
type Ready struct {
	*Opened
	Env  *task.Env
	Sums *files.Sums

	wrong  []Found // files that are not what the sheet states
	mu     sync.Mutex
	loaded map[string]*loading // by the words of a task
	// outputs are the folders that phones' outputs go to in this run, where they are others than named.
	outputs map[string]string
	close   []func()
}

type loading struct {
	done chan struct{}
	work task.Work
	err  error
}

// Prepare makes a sheet ready. Close lets its files go.
func (o *Opened) Prepare(ctx context.Context, e *task.Env) *Ready {
	r := &Ready{Opened: o, Env: e, Sums: files.NewSums(ctx), loaded: map[string]*loading{}}
	e.Later(func() {
		r.Sums.Close()
		for _, f := range slices.Backward(r.close) {
			f()
		}
	})
	return r
}

// load makes the files of a task ready; they are put away when the sheet is.
func (r *Ready) load(ctx context.Context, w task.Work) error {
	e := &task.Env{Bench: r.Env.Bench, Options: r.Env.Options, MaxMemory: r.Env.MaxMemory}
	e.Options.Verifier = r.Env.Verifier()
	e.Options.Observer = quiet{r.Env.Options.Observer}
	err := w.Load(ctx, e)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.close = append(r.close, e.Close)
	return err
}

// Changed holds the sheet's files against what it says of them.
func (r *Ready) Changed(ctx context.Context) ([]Found, error) {
	ctx, stop := r.Env.UntilStopped(ctx)
	defer stop()
	var err error
	r.wrong, err = r.changed(ctx, r.Env)
	return r.wrong, err
}

// quiet keeps what is told of files from being told once a task.
type quiet struct{ say.Observer }

// Tell passes on how far work is, and nothing else.
func (q quiet) Tell(e say.Event) {
	if e.Progress != nil && q.Observer != nil {
		q.Observer.Tell(e)
	}
}

// Ready makes a task ready for a phone: what it reads of files is read once for all phones.
func (r *Ready) Ready(ctx context.Context, t *Task, vars map[string]string) (*Made, error) {
	m, err := t.Make(r.Paths(), vars, func(word string) string { return r.folderOf(vars["name"], word) })
	if err != nil {
		var bad *FormError
		if errors.As(err, &bad) {
			bad.Path = r.Path
		}
		return nil, err
	}
	key := strings.Join(m.Words, "\x00")
	r.mu.Lock()
	l, had := r.loaded[key]
	if !had {
		l = &loading{done: make(chan struct{}), work: m.Task}
		r.loaded[key] = l
	}
	r.mu.Unlock()
	if !had {
		l.err = r.load(ctx, m.Task)
		close(l.done)
	}
	select {
	case <-l.done:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	if l.err != nil {
		return nil, l.err
	}
	// Each phone has a value of its own, with what was read in common.
	mine := reflect.New(reflect.TypeOf(l.work).Elem())
	mine.Elem().Set(reflect.ValueOf(l.work).Elem())
	m.Task = mine.Interface().(task.Work)
	if u, ok := m.Task.(*task.Unlock); ok {
		u.Code = m.Code
	}
	return m, nil
}

// made makes the ith task ready for checking.
func (r *Ready) made(ctx context.Context, i int, vars map[string]string, before map[int][]*Made) (
	*Made, error) {
	t := &r.Tasks[i]
	if t.Command == "backup restore" {
		m, err := t.Make(r.Paths(), vars, func(word string) string { return r.folderOf(vars["name"], word) })
		if err == nil {
			if later := r.takenBefore(i, m, before); later != nil {
				return later, nil
			}
		}
	}
	return r.Ready(ctx, t, vars)
}

// Judge checks all tasks from the nth on (counted from 0) as one plan on an open phone, on a
// saved card, or on what a model file says. rest is what is left of the nth, nil for all of it.
func (r *Ready) Judge(ctx context.Context, j *engine.Job, from int, rest []*Made) (*Judged, error) {
	m, all := j.Model(), j.Models
	out := &Judged{Name: j.Name, Model: whenFacts["model"](j.Card, m), Serial: j.Card.Value(card.FactSerial),
		Tasks:   []Line{},
		Lost:    []string{},
		Kept:    []string{},
		Hands:   []Hand{},
		Open:    []string{},
		Outputs: []string{},
		Holds:   []Found{}}
	vars := r.vars(j.Name, out.Serial, out.Model)
	ahead := j.Ahead()
	if slices.ContainsFunc(r.Tasks, func(t Task) bool { return t.Command == "relock" }) {
		ahead.Digest = func(path string) (string, error) {
			sum, _, err := r.Env.Verifier().SHA256(ctx, path, nil)
			return sum, err
		}
	}
	made, err := r.makeTasks(ctx, j, ahead, out, vars, from, rest)
	if err != nil {
		return nil, err
	}
	out.Card = j.Card.Clone()
	if from == 0 {
		if err := r.judgeConditions(ctx, j, out); err != nil {
			return nil, err
		}
	}
	for _, q := range r.Open {
		out.Holds = append(out.Holds,
			Found{finding.Finding{Name: finding.OpenQuestion, Severity: finding.Stop, Final: true,
				About:  r.Name,
				Text:   q,
				Remedy: "answer it: change the tasks accordingly, and take it out of the sheet's list open"},
				1})
	}
	before := decisions{}
	any := false
	for i := range r.Tasks {
		t := &r.Tasks[i]
		l := Line{N: i + 1, Task: t.Typed(), Line: t.Line, Note: t.Note, Mode: ahead.Card.Mode(),
			Findings: []finding.Finding{}}
		l.For, l.Unsure = t.fits(ahead.Card, m, all)
		if i < from || made[i] == nil {
			l.For = l.For && i >= from
			out.Tasks = append(out.Tasks, l)
			any = any || i < from
			continue
		}
		any = any || l.For
		if len(l.Unsure) > 0 {
			out.Open = append(out.Open,
				fmt.Sprintf("task %d: whether it is for this phone is read when it is its turn (%s)", l.N,
					strings.Join(l.Unsure, ", ")))
		}
		if err := r.line(ctx, ahead, &l, made[i], r.accepts(j.Accept, t)); err != nil {
			return nil, err
		}
		l.Findings = append(l.Findings, finding.Apply(before.contradicted(&l), r.accepts(j.Accept, t))...)
		out.add(&l)
	}
	if !any {
		out.Holds = append(out.Holds, Found{finding.Finding{Name: finding.NoTaskFits, Severity: finding.Stop,
			Final:  true,
			About:  j.Name,
			Text:   fmt.Sprintf("none of the sheet's %d tasks is for %s", len(r.Tasks), j.Name),
			Remedy: "leave it out, or draft a sheet for its kind"}, 1})
	}
	if !ahead.Known() {
		out.unread()
	}
	out.Runs = len(out.Stops()) == 0
	return out, nil
}

// makeTasks makes the tasks ready that are for the phone as it is now, and has the job learn what they need
// to know. A task that can't be made is replaced by its finding.
func (r *Ready) makeTasks(ctx context.Context, j *engine.Job, ahead *engine.Ahead, out *Judged,
	vars map[string]string, from int, rest []*Made) (map[int][]*Made, error) {
	made := map[int][]*Made{}
	for i := range r.Tasks {
		t := &r.Tasks[i]
		if yes, _ := t.fits(j.Card, j.Model(), j.Models); !yes || i < from {
			continue
		}
		if i == from && rest != nil {
			made[i] = rest
			continue
		}
		w, err := r.made(ctx, i, vars, made)
		var stop *finding.StopError
		switch {
		case err == nil:
		case ctx.Err() != nil:
			return nil, err
		case errors.As(err, &stop):
			made[i] = []*Made{{Task: wrong{stop.Findings}}}
			continue
		default:
			made[i] = []*Made{{Task: wrong{[]finding.Finding{impossible(t, err)}}}}
			continue
		}
		made[i] = []*Made{w}
		if take, ok := w.Task.(*task.BackupTake); ok {
			out.Outputs = append(out.Outputs, take.Output)
		}
		if et, ok := w.Task.(engine.Task); ok {
			if err := ahead.Learn(ctx, et); err != nil {
				return nil, err
			}
		}
	}
	return made, nil
}

// judgeConditions checks what the sheet says that has to hold before its first task.
func (r *Ready) judgeConditions(ctx context.Context, j *engine.Job, out *Judged) error {
	if len(r.Conditions.Free) > 0 {
		var ids []card.ID
		for w := range r.Conditions.Free {
			ids = append(ids, card.FactFree.Of(w))
		}
		if _, err := j.Know(ctx, ids); err != nil {
			return err
		}
	}
	out.Holds = append(out.Holds, r.holds(j.Card, j.Model(), j.Models)...)
	for i := range out.Holds {
		out.Holds[i].Finding = finding.Apply([]finding.Finding{out.Holds[i].Finding},
			r.accepts(j.Accept, &Task{}))[0]
	}
	return nil
}

// unread makes one open question of all that a model file can't tell and a phone will.
func (j *Judged) unread() {
	told := func(f finding.Finding) bool {
		return f.Severity == finding.Warn && f.Explained().Reported
	}
	n := len(j.all())
	j.Holds = slices.DeleteFunc(j.Holds, func(f Found) bool { return told(f.Finding) })
	for i := range j.Tasks {
		j.Tasks[i].Findings = slices.DeleteFunc(j.Tasks[i].Findings, told)
	}
	if len(j.all()) < n {
		j.Open = append(j.Open, "what a phone tells by itself is read when one is here: its lock, battery, "+
			"partitions and their sizes, firmware, data and accounts")
	}
}

// line checks one task, or the commands that are left of it.
func (r *Ready) line(ctx context.Context, ahead *engine.Ahead, l *Line, list []*Made,
	accept []finding.Accept) error {
	all := &engine.Foreseen{}
	for _, m := range list {
		var f *engine.Foreseen
		var err error
		switch t := m.Task.(type) {
		case wrong:
			f = &engine.Foreseen{Findings: t.found}
		case engine.Task:
			f, err = ahead.Foresee(ctx, t, accept)
		case foreseer:
			f, err = t.Foresee(ahead)
		}
		if err != nil && (ctx.Err() != nil || errors.Is(err, engine.ErrStopped)) {
			return err
		}
		if err != nil {
			f = &engine.Foreseen{Findings: []finding.Finding{impossible(&r.Tasks[l.N-1], err)}}
		}
		all.Join(f)
	}
	for _, f := range finding.Apply(all.Findings, accept) {
		if !slices.ContainsFunc(r.wrong, func(o Found) bool {
			return o.Finding.Name == f.Name && o.Finding.About == f.About
		}) {
			l.Findings = append(l.Findings, f) // otherwise it is told of the files
		}
	}
	l.Foreseen, l.Bytes, l.Reads, l.Seconds = all, all.Bytes, all.Reads, int(all.Takes/time.Second)
	return nil
}

// wrong is a task that could not be made ready.
type wrong struct{ found []finding.Finding }

// Name implements task.Work.
func (wrong) Name() string { return "" }

// Load implements task.Work.
func (wrong) Load(context.Context, *task.Env) error { return nil }

func impossible(t *Task, err error) finding.Finding {
	return finding.Finding{Name: finding.TaskImpossible, Severity: finding.Stop, Final: true,
		About:  t.Command,
		Text:   spell.Error(err),
		Remedy: fmt.Sprintf("change the task in line %d of the sheet", t.Line)}
}

// add puts a checked task to the others. A finding that one before it had is not told again.
func (j *Judged) add(l *Line) {
	l.Findings = slices.DeleteFunc(l.Findings, func(f finding.Finding) bool {
		return slices.ContainsFunc(j.all(), func(o finding.Finding) bool {
			return o.Name == f.Name && o.About == f.About && o.Severity == f.Severity && o.Text == f.Text
		})
	})
	f := l.Foreseen
	for i := range j.Tasks {
		j.Tasks[i].Findings = plan.Moot(j.Tasks[i].Findings, f.Sets)
	}
	j.cost.Add(f.Cost)
	j.Lost, j.Kept = spell.Once([]string{}, j.cost.Lost...), spell.Once([]string{}, j.cost.KeptWords()...)
	for _, h := range f.Hands {
		j.Hands = append(j.Hands, Hand{l.N, h.Step, h.Do})
	}
	for _, s := range f.Open {
		j.Open = append(j.Open, fmt.Sprintf("task %d: %s", l.N, s))
	}
	j.Bytes, j.Reads, j.Seconds = j.Bytes+l.Bytes, j.Reads+l.Reads, j.Seconds+l.Seconds
	j.Tasks = append(j.Tasks, *l)
}

// decisions are those of the tasks so far that the phone has not booted with, by what they are about.
type decisions map[string]struct {
	how  string
	task int
}

// contradicted gives the findings of a task that undoes what one before it did, with no boot between, and
// keeps what it decides.
func (d decisions) contradicted(l *Line) (list []finding.Finding) {
	for _, s := range l.Foreseen.Steps {
		now := s.Decides()
		if now.Ends {
			clear(d)
		}
		if now.What == "" {
			continue
		}
		old, had := d[now.What]
		if had && old.task != l.N && (now.How == "" || old.how != now.How) && len(list) == 0 {
			list = append(list, finding.Stops(finding.TasksContradict, fmt.Sprintf("task %d", l.N),
				fmt.Sprintf("task %d %s, which task %d had done otherwise, and the phone was not "+
					"started in between", l.N, now.What, old.task),
				fmt.Sprintf("take one of the two out of the sheet (line %d)", l.Line)))
		}
		old.how, old.task = now.How, l.N
		d[now.What] = old
	}
	return list
}

// accepts are the stops that are allowed for a task: on the command line, and those of the sheet
// and the task itself that a person has allowed.
func (o *Opened) accepts(typed []finding.Accept, t *Task) []finding.Accept {
	list := slices.Clone(typed)
	for _, a := range slices.Concat(o.Accept, t.Accept) {
		if slices.Contains(o.Allowed, a) {
			list = append(list, a.Finding)
		}
	}
	return list
}

// Wants are the stops that the sheet needs allowed.
func (s *Sheet) Wants() []Accept {
	list := slices.Clone(s.Accept)
	for _, t := range s.Tasks {
		list = append(list, t.Accept...)
	}
	return list
}

// Finish makes the result of several checked phones.
func Finish(o *Opened, changed []Found, all []Judged) *Checked {
	c := &Checked{Sheet: o, Changed: changed, All: all}
	if c.Changed == nil {
		c.Changed = []Found{}
	}
	return c
}
