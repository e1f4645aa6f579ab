package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/plan"
	"jarlid/internal/journal"
	"jarlid/internal/say"
)

// Ahead checks several tasks as one plan: each by the facts as those before it will have left
// them. It changes nothing on the phone, and keeps a card of its own.
type Ahead struct {
	Card *card.Card // as the tasks so far will have left it

	// Digest gives a file's digest, for tasks that rest on what those before them have written;
	// nil: it stays pending.
	Digest func(path string) (string, error)

	job  *Job   // reads what the tasks lack, while nothing is foreseen yet
	read *Input // what was read so far
}

// Hand is one act of a person at the phone that is foreseen.
type Hand struct {
	Step string   `json:"step"`
	Do   []string `json:"do"`
}

// Foreseen is a task as it will go, checked beforehand.
type Foreseen struct {
	Steps    []plan.Step
	Findings []finding.Finding // as accepted
	plan.Cost
	Hands   []Hand
	Open    []string // what shows itself only when the task runs
	Files   []journal.File
	Sets    []card.Partition // that are left with a recovery of the person\'s choice
	Nothing string           // why there is nothing to do
	Notes   []say.Event
	Bytes   int64         // that will be sent
	Reads   int64         // that will be read from the phone
	Takes   time.Duration // as expected
}

// Join puts what comes behind into it.
func (f *Foreseen) Join(o *Foreseen) {
	f.Steps, f.Findings, f.Files, f.Notes = append(f.Steps, o.Steps...), append(f.Findings, o.Findings...),
		append(f.Files, o.Files...), append(f.Notes, o.Notes...)
	f.Add(o.Cost)
	f.Sets = append(f.Sets, o.Sets...)
	f.Hands, f.Open = append(f.Hands, o.Hands...), append(f.Open, o.Open...)
	f.Nothing, f.Bytes, f.Reads, f.Takes = o.Nothing, f.Bytes+o.Bytes, f.Reads+o.Reads, f.Takes+o.Takes
}

// Does are the titles of the steps that change something.
func (f *Foreseen) Does() []string { return titles(changing(f.Steps)) }

// changing are the steps that change something on the phone.
func changing(steps []plan.Step) []plan.Step {
	return slices.DeleteFunc(slices.Clone(steps), func(s plan.Step) bool { return !s.Changes() })
}

func titles(steps []plan.Step) (list []string) {
	for _, s := range steps {
		list = append(list, s.Title())
	}
	return list
}

// Ahead begins to check tasks on the phone of an open job, or on a saved card.
func (j *Job) Ahead() *Ahead { return &Ahead{Card: j.Card.Clone(), job: j} }

// Learn reads what a task is checked by, as far as this mode reports it: later on only what is
// foreseen counts.
func (a *Ahead) Learn(ctx context.Context, t Task) error {
	in, err := a.input(a.job.Card)
	if err != nil {
		return err
	}
	d, _, err := a.job.prepare(ctx, t, in, a.job.readFacts)
	a.read, a.Card = in, a.job.Card.Clone()
	if d == nil {
		return err
	}
	return nil // an error of the task itself is told when it is foreseen
}

// input is what a task is prepared from, with what was read for those before it.
func (a *Ahead) input(c *card.Card) (*Input, error) {
	in, err := a.job.input(c, true)
	if a.read != nil {
		in.Variables, in.asked = a.read.Variables, a.read.asked
	}
	return in, err
}

// Foresee checks a task and changes the card as the task will change the phone. An error is
// one of the task itself: what it names can't be done here.
func (a *Ahead) Foresee(ctx context.Context, t Task, accept []finding.Accept) (*Foreseen, error) {
	j := a.job
	in, err := a.input(a.Card)
	if err != nil {
		return nil, err
	}
	in.Seen = a.Card.Mode() != card.None
	d, p, err := j.prepare(ctx, t, in, nil)
	var stop *finding.StopError
	switch {
	case errors.As(err, &stop):
		return &Foreseen{Findings: finding.Apply(stop.Findings, accept), Notes: d.notes}, nil
	case err != nil:
		return nil, err
	}
	f := &Foreseen{Steps: p.Steps, Files: d.Files, Nothing: d.Nothing, Notes: d.notes}
	if f.Nothing != "" {
		return f, nil
	}
	v, err := j.verify(ctx, p.Steps, d.Uses)
	if err != nil {
		return nil, err
	}
	f.Findings = finding.Apply(slices.Concat(v.found, d.Findings, p.CheckBut(a.Card, v.of)), accept)
	f.Cost, f.Sets = p.Cost(a.Card), p.SetsRecovery(a.Card)
	l := d.Lacks
	for _, part := range l.Contents {
		f.Open = append(f.Open, fmt.Sprintf("what %s holds is read when it is its turn", part))
	}
	for _, path := range l.Paths {
		f.Open = append(f.Open, fmt.Sprintf("whether %s is there is looked up when it is its turn", path))
	}
	if l.Restorers {
		f.Open = append(f.Open, "whether the stock system has a script that puts its recovery back is "+
			"looked up when it is its turn")
	}
	if l.Shelved {
		f.Open = append(f.Open, "what was moved aside is looked up when it is its turn")
	}
	for _, v := range l.Variables {
		if _, had := in.Variables[v]; !had {
			f.Open = append(f.Open, fmt.Sprintf("what the bootloader says of %s is read when it is its turn",
				v))
		}
	}
	for _, s := range p.Steps {
		if do := a.hand(s); len(do) > 0 {
			f.Hands = append(f.Hands, Hand{Step: s.Title(), Do: do})
			if j.NoHands {
				f.Findings = append(f.Findings, handsNeeded(j.Name, s, do))
			}
		}
		bytes, takes := plan.Expect(s, a.Card)
		f.Bytes, f.Takes = f.Bytes+bytes, f.Takes+takes
		plan.Apply(s, a.Card)
		if w, ok := s.(*plan.Write); ok && a.Digest != nil {
			sum, err := a.Digest(w.File.Path)
			if err != nil {
				return nil, err
			}
			a.Card.Learn(card.FactDigest.Of(w.Name()), sum, card.Journal)
		}
	}
	return f, nil
}

// Known reports whether there is a phone or a card, and not a model file alone.
func (a *Ahead) Known() bool { return a.job.Saved == "" || a.job.SavedCard != "" }

// hand gives what a person will have to do for a step; nil where nothing is known to be needed.
func (a *Ahead) hand(s plan.Step) []string {
	if recipe := s.ByHand(a.Card); recipe != "" {
		return a.job.Hand(recipe, "its keys or its menu").Do
	}
	return nil
}

// Debugging is what switches debugging on again.
func (a *Ahead) Debugging() []string { return a.job.DebuggingHands().Do }

// Agreed is what a person said yes to before several tasks began: what is in it is not asked
// again.
type Agreed struct {
	Question string
	Findings []finding.Finding
	Lost     []string
	Does     []string // titles of steps
}

// covers reports whether everything that would be asked was agreed to.
func (a *Agreed) covers(asks []finding.Finding, lost, does []string) bool {
	if a == nil {
		return false
	}
	for _, f := range asks {
		if !a.knows(f) {
			return false
		}
	}
	return within(lost, a.Lost) && within(does, a.Does)
}

// knows reports whether a finding was told before everything began. One that is worse by now was
// not.
func (a *Agreed) knows(f finding.Finding) bool {
	return a != nil && slices.ContainsFunc(a.Findings, func(o finding.Finding) bool {
		return o.Name == f.Name && o.About == f.About && o.Severity == f.Severity && o.Accepted == f.Accepted
	})
}

func within(list, all []string) bool {
	return !slices.ContainsFunc(list, func(s string) bool { return !slices.Contains(all, s) })
}
