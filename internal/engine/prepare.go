package engine

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"

	"jarlid/internal/core/card"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
	"jarlid/internal/journal"
	"jarlid/internal/say"
)

// notes keeps what a task tells while it is prepared.
type notes struct{ list []say.Event }

// Tell implements say.Observer.
func (n *notes) Tell(e say.Event) { n.list = append(n.list, e) }

// Ask implements say.Observer: nobody is asked while a task is prepared.
func (n *notes) Ask(say.Question) (int, error) { return 0, say.ErrNobody }

// rounds bounds how often a task is prepared: each round has to read something new.
const rounds = 20

// input is what a task is prepared from on a card; ahead says that the task does not run next.
func (j *Job) input(c *card.Card, ahead bool) (*Input, error) {
	scratch, err := j.Scratch()
	return &Input{Card: c, Model: j.Model(), Models: j.Models, Phone: j.Name, Seen: j.Connected(),
		Scratch: scratch, Dry: j.DryRun || ahead, Ahead: ahead,
		Contents: map[card.Partition]Content{}, Located: map[string]place.Item{},
		Previous: func(base string) (map[card.Partition]string, error) {
			return journal.Previous(j.Home, j.Who(c.Value(card.FactSerial)), base)
		}}, err
}

// prepare has a task drafted on the input's card until it lacks nothing that read reads; nil reads nothing.
// The draft is given with an error of the task, where there is one.
func (j *Job) prepare(ctx context.Context, t Task, in *Input,
	read func(context.Context, *Input, *Draft, *plan.Plan) (more bool, err error)) (*Draft, *plan.Plan,
	error) {
	known := in.Card
	for range rounds {
		n := &notes{}
		in.Notes, in.Card = say.To{Observer: n, Phone: j.Name}, known.Clone()
		d, failed := t.Prepare(in)
		if d == nil {
			return &Draft{notes: n.list}, nil, failed
		}
		d.notes = n.list
		p := plan.Compile(known, j.Model(), j.Models, d.Steps...)
		more := false
		if read != nil {
			var err error
			if more, err = read(ctx, in, d, p); err != nil {
				return nil, nil, err
			}
		}
		if !more {
			return d, p, failed
		}
	}
	return nil, nil, fmt.Errorf("%s could not be worked out: it lacks something new each time", t.Name())
}

// readFacts reads the facts and the bootloader's variables that a draft lacks, and whether there was anything
// new.
func (j *Job) readFacts(ctx context.Context, in *Input, d *Draft, p *plan.Plan) (more bool, err error) {
	more, err = j.Know(ctx, append(slices.Clone(d.Lacks.Facts), p.Needs(j.Card)...))
	if err != nil {
		return false, err
	}
	lacks := slices.DeleteFunc(slices.Clone(d.Lacks.Variables), func(v string) bool { return in.asked[v] })
	if len(lacks) == 0 {
		return more, nil
	}
	if in.Variables == nil {
		in.Variables, in.asked = map[string]string{}, map[string]bool{}
	}
	for _, v := range lacks {
		in.asked[v] = true
	}
	maps.Copy(in.Variables, j.Variables(lacks...))
	return true, nil
}

// readAll reads whatever a draft lacks and this mode gives out, and whether there was anything new.
func (j *Job) readAll(ctx context.Context, in *Input, d *Draft, p *plan.Plan) (more bool, err error) {
	if more, err = j.readFacts(ctx, in, d, p); err != nil {
		return false, err
	}
	l := d.Lacks
	for _, p := range l.Contents {
		if _, had := in.Contents[p]; had {
			continue
		}
		more = true
		c := Content{Path: filepath.Join(in.Scratch, "read-"+p.String()+".img")}
		if c.Err = j.SaveTo(ctx, p, c.Path); c.Err != nil && !refusal(c.Err) {
			return false, c.Err
		}
		in.Contents[p] = c
	}
	if j.Card.Value(card.FactRoot) != "yes" || !j.HasShell() {
		return more, nil
	}
	for _, path := range l.Paths {
		if _, had := in.Located[path]; had {
			continue
		}
		more = true
		if in.Located[path], err = j.Locate(ctx, path, l.Aside); err != nil {
			return false, err
		}
	}
	if l.Shelved && in.Shelved == nil {
		more = true
		if in.Shelved, err = j.Session.Shelved(ctx); err != nil {
			return false, err
		}
		in.Shelved = append([]place.Item{}, in.Shelved...)
	}
	if l.Restorers && in.Restorers == nil {
		more = true
		if in.Restorers, err = j.Session.Restorers(ctx); err != nil {
			return false, err
		}
		in.Restorers = append([]place.Item{}, in.Restorers...)
	}
	return more, nil
}

// Prepare has the task drafted until it lacks nothing that can be read.
func (j *Job) Prepare(ctx context.Context, t Task) (*Draft, error) {
	in, err := j.input(j.Card, false)
	if err != nil {
		return nil, err
	}
	d, p, err := j.prepare(ctx, t, in, j.readAll)
	if err != nil {
		return nil, err
	}
	j.Draft, j.plan = d, p
	return d, nil
}
