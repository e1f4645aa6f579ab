package task

import (
	"context"

	"jarlid/internal/act"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
	"jarlid/internal/engine"
	"jarlid/internal/say"
)

// Shelve moves files of the phone's system aside, or back again.
type Shelve struct {
	Paths []string `json:"paths,omitempty" yaml:"paths,omitempty"` // on the phone; with Back none means all
	Back  bool     `json:"back,omitempty" yaml:"back,omitempty"`
}

// Moved is its outcome.
type Moved struct {
	Moved []act.Moved  `json:"moved"`
	Items []place.Item `json:"-"`
}

// Name implements Work.
func (t *Shelve) Name() string {
	if t.Back {
		return "unshelve"
	}
	return "shelve"
}

// Load makes sure that the paths can be moved.
func (t *Shelve) Load(context.Context, *Env) error {
	for _, s := range t.Paths {
		if _, _, err := place.ParseShelfPath(s); err != nil {
			return Usage("%v", err)
		}
	}
	return nil
}

// Prepare makes the step from where the paths lie.
func (t *Shelve) Prepare(in *engine.Input) (*engine.Draft, error) {
	d := &engine.Draft{}
	d.Lacks.Paths, d.Lacks.Aside, d.Lacks.Shelved = t.Paths, t.Back, len(t.Paths) == 0
	items := in.Shelved
	found := in.Shelved != nil
	if len(t.Paths) > 0 {
		items, found = nil, true
		for _, p := range t.Paths {
			item, had := in.Located[p]
			found = found && had
			if had && item.Missing && item.There {
				word := "is moved aside already"
				if t.Back {
					word = "is in its place already"
				}
				in.Notes.Say(say.Note, "%s %s", item.Path, word)
				continue
			}
			items = append(items, item)
		}
	}
	none := "nothing is moved aside on " + in.Phone
	if len(t.Paths) > 0 {
		none = "nothing is to be moved on " + in.Phone
	}
	return move(in, d, t.Name(), items, found, t.Back, none)
}

// move makes the step that moves items; found is false until they were looked for. Without a
// root shell there is nothing to look with, and the step's own finding says so.
func move(in *engine.Input, d *engine.Draft, command string, items []place.Item, found, back bool,
	none string) (*engine.Draft, error) {
	if err := inRecovery(in, command); err != nil {
		return nil, err
	}
	switch {
	case !found && in.Ahead: // it shows itself when it is its turn
	case !found:
		d.Steps = []plan.Step{&plan.Shelve{Items: []place.Item{{Path: "files"}}, Back: back}}
	case len(items) == 0:
		d.Nothing = none
	default:
		d.Steps = []plan.Step{&plan.Shelve{Items: items, Back: back}}
	}
	return d, nil
}

// Result is its outcome.
func (t *Shelve) Result(j *engine.Job) Moved { return moved(j) }

func moved(j *engine.Job) Moved {
	m := Moved{Moved: OrEmpty(j.Out.Moves)}
	if j.Draft != nil {
		for _, s := range j.Draft.Steps {
			if s, ok := s.(*plan.Shelve); ok {
				m.Items = append(m.Items, s.Items...)
			}
		}
	}
	return m
}

// RecoveryHold stops the stock system from putting its own recovery back.
type RecoveryHold struct {
	noFiles `json:"-" yaml:"-"`
}

// Name implements Work.
func (*RecoveryHold) Name() string { return "recovery hold" }

// Prepare makes the step from the scripts that were found.
func (t *RecoveryHold) Prepare(in *engine.Input) (*engine.Draft, error) {
	d := &engine.Draft{}
	d.Lacks.Restorers = true
	for _, i := range in.Restorers {
		in.Notes.Say(say.Info, "%s on %s puts the maker's recovery back at each start", i.Path, i.Partition)
	}
	return move(in, d, t.Name(), in.Restorers, in.Restorers != nil, false,
		"there is none here: no script of this system puts another recovery back")
}

// Result is its outcome.
func (t *RecoveryHold) Result(j *engine.Job) Moved { return moved(j) }
