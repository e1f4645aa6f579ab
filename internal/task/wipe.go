package task

import (
	"context"

	"jarlid/internal/act"
	"jarlid/internal/core/card"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
	"jarlid/internal/engine"
	"jarlid/internal/say"
)

// Wipe erases areas: userdata, caches, apps, storage, system@SLOT, vendor@SLOT,
// part:NAME[@SLOT].
type Wipe struct {
	Areas []string `json:"areas" yaml:"areas"`
}

// WipeView is what goes and what stays, shown before the questions.
type WipeView struct{ Asked, Stays []plan.AreaRow }

// Wiped is its outcome.
type Wiped struct {
	Areas []plan.AreaRow   `json:"areas"`
	How   []act.WipeResult `json:"wiped"` // how it is known of each
}

// Name implements Work.
func (*Wipe) Name() string { return "wipe" }

// Load makes sure that the areas mean something.
func (t *Wipe) Load(context.Context, *Env) error {
	for _, s := range t.Areas {
		if _, _, err := plan.ParseArea(s); err != nil {
			return Usage("%v", err)
		}
	}
	return nil
}

// Configure lets a person bring the phone there.
func (*Wipe) Configure(o *engine.Options) { o.ByHand = true }

// Prepare works out what each area means on this phone, in this mode.
func (t *Wipe) Prepare(in *engine.Input) (*engine.Draft, error) {
	d := &engine.Draft{}
	var rows []plan.AreaRow
	if !in.Seen && place.QuietRecovery(in.Card, in.Card.Running()) {
		in.Notes.Say(say.Info, "%s can't be seen, and its recovery gives no shell: it is done by hand in "+
			"the recovery's menu", in.Phone)
		in.Card.Learn(card.FactMode, string(card.Recovery), card.Said)
		in.Card.Learn(card.FactRoot, "no", card.Said)
	}
	for _, s := range t.Areas {
		area, to, err := plan.ParseArea(s)
		if err != nil {
			return nil, Usage("%v", err)
		}
		to = to.On(in.Card)
		for _, base := range plan.PartitionsOf(area, to) {
			d.Lacks.Facts = append(d.Lacks.Facts, card.FactSize.Of(card.At(base, "")))
		}
		st, r, f, err := plan.Wipe(area, to, in.Card)
		if err != nil {
			return d, err // which may be another one when the phone has told its sizes
		}
		d.Steps, rows, d.Findings = append(d.Steps, st...), append(rows, r...), append(d.Findings, f...)
	}
	d.View = WipeView{Asked: rows, Stays: plan.Stays(rows, in.Card, in.Model)}
	return d, nil
}

// Result is its outcome; done says that all of it was done.
func (t *Wipe) Result(j *engine.Job, done bool) Wiped {
	w := Wiped{Areas: []plan.AreaRow{}, How: OrEmpty(j.Out.Wiped)}
	if j.Draft == nil {
		return w
	}
	v, _ := j.Draft.View.(WipeView)
	for _, r := range v.Asked {
		r.Erased = r.Erased && done
		w.Areas = append(w.Areas, r)
	}
	return w
}
