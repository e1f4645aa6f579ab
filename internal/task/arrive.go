package task

import (
	"context"
	"errors"
	"fmt"
	"time"

	"jarlid/internal/act"
	"jarlid/internal/core/advice"
	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/place"
	"jarlid/internal/engine"
	"jarlid/internal/phone"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

// Arrive watches a start until it has come to an end, or for as long as Limit.
type Arrive struct {
	Limit time.Duration `json:"wait" yaml:"wait"`

	arrived *Arrived
}

// Arrived is the outcome of a start.
type Arrived struct {
	Stage   advice.Stage `json:"stage"`
	Matches advice.Match `json:"matches"` // whether what runs is what was installed
	Said    bool         `json:"said"`    // a person said what the screen shows
	// Advice is what may be the cause, and the command that mends it where there is one.
	Advice  []string       `json:"advice"`
	Version *string        `json:"version,omitempty"`
	Build   *string        `json:"build,omitempty"`
	Patch   *string        `json:"security_patch,omitempty"`
	Slot    *string        `json:"slot,omitempty"`
	Data    *string        `json:"data,omitempty"`
	Arrival advice.Arrival `json:"-"`
	Card    *card.Card     `json:"-"` // of what came up; nil when nothing could be read
	Took    time.Duration  `json:"-"`
	Phone   string         `json:"-"`
	Next    string         `json:"-"` // the command that follows
	Why     string         `json:"-"`
	Mends   bool           `json:"-"` // the commands of Advice work in the mode it is in
}

// Name implements Work.
func (*Arrive) Name() string { return "arrive" }

// Foresee has the system come up, which is what is watched for.
func (t *Arrive) Foresee(a *engine.Ahead) (*engine.Foreseen, error) {
	f := &engine.Foreseen{Takes: startTakes}
	c := a.Card
	if c.Value(card.FactDebugging) == "off" {
		f.Hands = []engine.Hand{{Step: "let the started system be seen", Do: a.Debugging()}}
		c.Forget(card.FactDebugging, "it is switched on by hand")
	}
	c.Learn(card.FactMode, string(card.System), card.Journal)
	c.Learn(card.FactBooted, "yes", card.Journal)
	c.Learn(card.FactCameUp.Of(c.Value(card.FactStarted)), "yes", card.Journal)
	return f, nil
}

// startTakes is what watching a first boot is expected to take, our own estimate.
const startTakes = 5 * time.Minute

const (
	// settledLimit is how long a phone may stay in its bootloader or recovery
	// before that counts as where it ended: it passes through both.
	settledLimit = 3 * time.Second
	// loopsLimit is how often a system may begin before that counts as a loop.
	loopsLimit = 3
	// glanceEvery is how often the phone is looked for.
	glanceEvery = 150 * time.Millisecond
)

// milestones are what is said while nothing can be seen, after how long.
var milestones = []struct {
	after time.Duration
	text  string
}{
	{20 * time.Second, "nothing to be seen yet, which is normal: the first start prepares everything anew"},
	{3 * time.Minute, "still normal: first starts take five minutes on most phones"},
	{8 * time.Minute, "still possible: old phones take up to 15 minutes; the screen may stay on one picture"},
	{15 * time.Minute, "this is longer than even old phones take"},
}

// watch is a start that is watched.
type watch struct {
	*phone.Session
	began  time.Time
	before *card.Card
	after  *card.Card
	last   card.Mode
	since  time.Time
	begins int
	said   int
	bar    phone.Bar
}

// Load implements Work: no file is sent.
func (*Arrive) Load(context.Context, *Env) error { return nil }

// Result gives how the start ended; nil where that was not watched to the end.
func (t *Arrive) Result() *Arrived { return t.arrived }

// run watches the start.
func (t *Arrive) run(ctx context.Context, e *Env) (*engine.Job, error) {
	if e.Options.SavedCard != "" {
		return nil, Usage("arrive watches a phone; a saved card does not start")
	}
	list, err := e.Bench.Meant(e.Options.On)
	switch {
	case err != nil:
		return nil, err
	case len(list) == 0:
		return nil, &wire.NotHereError{Name: e.Options.On, Text: "no phone is listed"}
	case len(list) > 1:
		return nil, finding.Stopped(finding.SeveralPhones, "",
			"several phones are listed, and which one starts is not guessed",
			"say which one is meant with --on NAME")
	}
	p := list[0]
	unlock, err := p.Lock(p.LockNames()...)
	if err == phone.ErrBusy {
		return nil, p.Busy()
	}
	if err != nil {
		return nil, err
	}
	defer unlock()
	s := p.NewSession(&card.Card{}, say.To{Observer: e.Options.Observer, Phone: p.Name,
		Nobody: e.Options.NoHands, Away: e.Options.Away})
	if err := s.Recall(); err != nil {
		return nil, err
	}
	what, sure := installed(s.Card)
	if !sure {
		s.Obs.Say(say.Info, "watching %s start", p.Name)
	} else if what == "" {
		s.Obs.Say(say.Info, "watching %s start; no job of Jar Lid installed a system on it", p.Name)
	} else {
		s.Obs.Say(say.Info, "watching %s start; what was installed is %s", p.Name, place.ShortBuild(what))
	}
	w := &watch{Session: s, began: time.Now(), before: s.Card}
	if w.before.Value(card.FactDebugging) == "off" {
		s.Obs.HandsLater(p.DebuggingHands(), t.Limit)
	}
	stage, said, err := w.until(ctx, t.Limit)
	if err != nil {
		return nil, err
	}
	a := w.result(e, stage, said)
	if err := w.keep(e, a); err != nil {
		return nil, err
	}
	t.arrived = a
	return nil, a.outcome()
}

// outcome is the error of a start that did not end with the system that was expected; nil for one that did.
func (a *Arrived) outcome() error {
	switch {
	case a.Stage == advice.StageFinished && !a.Said && a.Matches == advice.MatchNo:
		return &NoError{Text: "another system runs than the one that was installed"}
	case a.Stage == advice.StageFinished:
		return nil
	case a.Stage == advice.StageUnknown || a.Stage == advice.StageStarting:
		return &act.UnknownError{Text: fmt.Sprintf("nobody can tell yet whether %s has started its system",
			a.Phone)}
	}
	return &NoError{Text: fmt.Sprintf("the system of %s did not come up", a.Phone)}
}

// until watches until the start has come to an end.
func (w *watch) until(ctx context.Context, limit time.Duration) (stage advice.Stage, said bool, err error) {
	for time.Since(w.began) < limit {
		stage, err := w.glance(ctx)
		if err != nil || stage != "" {
			return stage, false, err
		}
		if w.begins >= loopsLimit {
			return advice.StageLoop, false, nil
		}
		if w.said < len(milestones) && w.last != card.System && !w.bar.Lasts() &&
			time.Since(w.began) > milestones[w.said].after {
			w.Obs.Say(say.Wait, "%s", milestones[w.said].text)
			w.said++
		}
		if err := wire.Pause(ctx, glanceEvery); err != nil {
			return "", false, err
		}
	}
	if w.last == card.System {
		return advice.StageStarting, false, nil
	}
	var options []string
	for _, s := range advice.Shown {
		options = append(options, s.Text)
	}
	n, err := w.Obs.Choose("It can't be seen from here. What does its screen show?", options)
	if errors.Is(err, say.ErrCancelled) {
		return "", false, err
	}
	if err != nil {
		return advice.StageUnknown, false, nil // nobody is there to look
	}
	return advice.Shown[n].Stage, true, nil
}

// glance checks the phone once; "" while its start has not come to an end.
func (w *watch) glance(ctx context.Context) (advice.Stage, error) {
	s, err := w.Connect(ctx, nil)
	if wire.NotAuthorised(err) != nil {
		s, err = w.OfferKey(ctx, w.Obs) // it runs, and wants to be asked about this computer
		if err != nil {
			return "", err
		}
	}
	w.bar.Saw(err)
	w.bar.Warn(w.Obs)
	mode := card.None
	if err == nil {
		defer s.Close()
		mode = s.Mode()
	} else if ctx.Err() != nil {
		return "", ctx.Err()
	}
	if mode != w.last {
		if mode == card.System {
			w.begins++
			w.Obs.Say(say.Info, "a system is coming up and can be seen (%s)",
				time.Since(w.began).Round(time.Second))
		}
		w.last, w.since = mode, time.Now()
	}
	if err != nil {
		return "", nil
	}
	stage := reached(ctx, s, time.Since(w.since))
	if stage != "" {
		w.after = fallen(ctx, s)
	}
	if stage == advice.StageFinished && w.after == nil {
		return "", nil // it went away while it was read
	}
	return stage, nil
}

// reached reports whether a start has come to its end; "" while it has not. A system
// says itself that it has finished; a bootloader or recovery may be on the way.
func reached(ctx context.Context, s *phone.Session, stays time.Duration) advice.Stage {
	switch {
	case s.Mode() == card.System:
		if v, err := s.Shell().Prop(ctx, "sys.boot_completed"); err == nil && v[0] == "1" {
			return advice.StageFinished
		}
	case stays <= settledLimit:
	case s.Mode().Def().Fastboot:
		return advice.StageBootloader
	default:
		return advice.StageRecovery
	}
	return ""
}

// fallen reads what a start ended in; nil when it went away again.
func fallen(ctx context.Context, s *phone.Session) *card.Card {
	if s.Read(ctx) != nil {
		return nil
	}
	return s.Card
}

func (w *watch) result(e *Env, stage advice.Stage, said bool) *Arrived {
	after := w.after
	if after == nil {
		after = &card.Card{}
	}
	a := &Arrived{Said: said, Arrival: advice.Judge(stage, w.before, after), Card: w.after,
		Took: time.Since(w.began), Phone: w.Name, Advice: []string{}}
	a.Stage, a.Matches = a.Arrival.Stage, a.Arrival.Matches
	root, _ := after.Yes(card.FactRoot)
	a.Mends = root && after.Mode() == card.Recovery
	for _, d := range a.Arrival.Causes {
		text := d.Text
		if len(d.Words) > 0 {
			text += ": " + e.Command(w.Name, d.Words...)
		}
		a.Advice = append(a.Advice, text)
	}
	if a.outcome() != nil {
		known := after.Clone()
		if stage == advice.StageStarting {
			known.Learn(card.FactMode, string(card.System), card.Read)
			known.Learn(card.FactBooted, "no", card.Read)
		}
		next := w.before.Clone()
		w.failed(next, a.Stage)
		next.Set(card.FactToldStart, card.Fact{}) // which was watched to its end
		next.Set(card.FactMode, card.Fact{})
		known.Merge(next)
		a.Next, a.Why = e.Suggest(w.Name, known, w.Model())
		if told, _ := w.before.Yes(card.FactToldStart); !told && a.Stage != advice.StageUnknown {
			a.Next, a.Why = e.Command(w.Name, "go", string(card.System)), "no job started it"
		}
	}
	if c := w.after; c != nil && c.Mode() == card.System {
		a.Version, a.Build, a.Patch = Known(c, card.FactVersion), Known(c, card.FactBuild),
			Known(c, card.FactPatch.Of(c.Value(card.FactStarted)))
		a.Slot, a.Data = Known(c, card.FactStarted), Known(c, card.FactData)
	}
	return a
}

// keep has a journal say how the start ended, so that the next command knows it in modes that
// don't tell. A start that nobody has seen the end of is not kept.
func (w *watch) keep(e *Env, a *Arrived) error {
	c := w.before.Clone()
	if a.Stage == advice.StageFinished {
		slot := c.Value(card.FactNext)
		if w.after != nil {
			slot = w.after.Value(card.FactStarted)
		}
		c.Learn(card.FactCameUp.Of(slot), "yes", card.Journal)
		c.Set(card.FactFailed.Of(slot), card.Fact{})
	} else if !w.failed(c, a.Stage) {
		return nil
	}
	return engine.Keep(w.Session, e.Options, "arrive", w.before, c, w.after, a.outcome())
}

// installed gives the system that a job put where the phone boots next; "" for none. sure is false where the
// active slot is unknown and only some slots have one.
func installed(c *card.Card) (system string, sure bool) {
	if next := c.Value(card.FactNext); next != "" {
		return place.PutSystem(c, next), true
	}
	for _, slot := range card.EverySlot {
		if s := place.PutSystem(c, slot); s != "" {
			return s, slot == "" // phones without slots have one system
		}
	}
	return "", true
}

// failed notes on a card that a start failed, and reports whether it did: a phone in another mode that no job
// started has not.
func (w *watch) failed(c *card.Card, stage advice.Stage) bool {
	told, _ := w.before.Yes(card.FactToldStart)
	switch stage {
	case advice.StageLoop, advice.StageOtherSlot:
	case advice.StageRecovery, advice.StageBootloader:
		if !told {
			return false
		}
	default:
		return false
	}
	c.Learn(card.FactFailed.Of(c.Value(card.FactNext)), string(stage), card.Journal)
	return true
}
