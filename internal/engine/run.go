package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"jarlid/internal/act"
	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
	"jarlid/internal/core/spell"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/phone"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

// Run drafts a task, checks all of it, asks, and carries it out. Errors: *finding.StopError;
// *link.RefusedError, *link.LostError, *link.ProtocolError, *phone.WrongModeError,
// *phone.NotHereError and *phone.LackError from the phone; *act.UnknownError;
// *journal.WriteError; ErrStopped.
func (j *Job) Run(ctx context.Context, t Task) (err error) {
	d, err := j.Prepare(ctx, t)
	if err != nil {
		return err
	}
	for _, e := range d.notes {
		j.Observer.Tell(e)
	}
	if j.OnDraft != nil {
		j.OnDraft(d)
	}
	if d.Nothing != "" {
		return nil
	}
	verified, err := j.verify(ctx, j.plan.Steps, d.Uses)
	if err != nil {
		return err
	}
	if err := j.judge(verified); err != nil || j.DryRun {
		return err
	}
	if j.log, err = journal.Create(j.Home, j.Name, j.Sink); err != nil {
		return err
	}
	// A journal that could not be closed may have lost what it says was written: that is a failure.
	defer func() { err = errors.Join(err, j.log.Close()) }()
	j.Dir = j.log.Dir
	ledger, err := journal.OpenLedger(j.Dir)
	if err != nil {
		return err
	}
	j.KeepLedger(ledger)
	defer func() {
		j.KeepLedger(nil)
		err = errors.Join(err, ledger.Close())
	}()
	begin := journal.Record{Event: journal.Begin, Command: j.Typed, Task: &journal.TaskData{Name: t.Name(),
		Options: t}, Phone: j.Name, Serial: j.Card.Value(card.FactSerial),
		Model: j.Card.Value(card.FactModel),
		Of:    j.Of,
		Files: d.Files,
		Found: j.checked,
		Said:  j.said,
		Facts: lasting(j.Card)}
	for _, s := range j.plan.Steps {
		begin.Steps = append(begin.Steps, act.Data(s))
	}
	if err := j.log.Write(begin); err != nil {
		return err
	}
	err = j.carryOut(ctx)
	end := journal.Record{Event: journal.End}
	if err != nil {
		end.Error, end.Cancelled = spell.Error(err), j.stopping()
	}
	if j.log.Err() == nil {
		err = errors.Join(err, j.log.Write(end))
	}
	return err
}

// Titles are the titles of all steps, the restarts between them too.
func (j *Job) Titles() []string { return titles(j.plan.Steps) }

// hands are the findings of steps that are known to need somebody at the phone.
func (j *Job) hands() (list []finding.Finding) {
	for _, s := range j.plan.Steps {
		if recipe := s.ByHand(j.Card); recipe != "" {
			list = append(list, handsNeeded(j.Name, s, j.Hand(recipe, "its keys or its menu.").Do))
		}
	}
	return list
}

// handsNeeded is the finding of a step that needs somebody at the phone, where nobody is.
func handsNeeded(phone string, s plan.Step, do []string) finding.Finding {
	return finding.Finding{Name: finding.HandsNeeded, Severity: finding.Stop, About: phone, Final: true,
		Text:   fmt.Sprintf("to %s somebody has to be at the phone: %s", s.Title(), strings.Join(do, " ")),
		Remedy: "run it again in a terminal, with somebody at the phone"}
}

// tell tells findings, a note in the same words once: what is true of each of several partitions
// calms nobody by being said again.
func (j *Job) tell(list []finding.Finding) {
	for _, f := range list {
		said := f.Severity == finding.Note && slices.Contains(j.noted, f.Name+f.Text)
		if j.Agreed.knows(f) || said {
			continue
		}
		j.noted = append(j.noted, f.Name+f.Text)
		j.Obs.Found(f)
	}
}

// check runs all checks and asks what has to be asked.
func (j *Job) judge(v *verified) error {
	found := slices.Concat(j.damaged(), place.ModelContradictions(j.Card, j.Model()), v.found,
		j.Draft.Findings,
		j.plan.CheckBut(j.Card, v.of))
	if j.NoHands && !slices.ContainsFunc(found, func(f finding.Finding) bool {
		return f.Severity == finding.Stop && f.Final
	}) {
		// which nobody can help
		found = append(found, j.hands()...)
	}
	j.checked = finding.Apply(found, j.Accept)
	j.tell(j.checked)
	if stops := finding.Blocking(j.checked); len(stops) > 0 {
		return &finding.StopError{Findings: stops, Told: true}
	}
	cost := j.plan.Cost(j.Card)
	if j.Agreed == nil || !within(cost.Lost, j.Agreed.Lost) { // else it was told before
		for _, s := range cost.Lost {
			j.Obs.Say(say.Lose, "%s", s)
		}
		for _, s := range cost.KeptWords() {
			j.Obs.Say(say.Keep, "%s", s)
		}
	}
	asks := finding.Asking(j.checked)
	question := j.question(j.plan.Steps, len(asks) > 0)
	if question == "" {
		return nil
	}
	if j.DryRun {
		j.Obs.Say(say.Asks, "%s (a dry run ends here)", question)
		return nil
	}
	if j.Agreed.covers(asks, cost.Lost, titles(changing(j.plan.Steps))) {
		j.said = append(j.said, journal.Answer{Question: j.Agreed.Question, Answer: "yes, to all of it"})
		return nil
	}
	return j.ask(question, asks)
}

// mostNamed is how many things a question names.
const mostNamed = 3

// question is what is asked before steps act, naming what and where; "" when they change
// nothing and nothing is in doubt.
func (j *Job) question(steps []plan.Step, doubt bool) string {
	switch changes := changing(steps); {
	case len(changes) > 0:
		steps = changes
	case !doubt:
		return ""
	}
	text := plan.Summary(steps, mostNamed)
	if text == "" {
		return fmt.Sprintf("Go on with %s?", j.Name)
	}
	return fmt.Sprintf("%s%s, on %s?", strings.ToUpper(text[:1]), text[1:], j.Name)
}

// ask asks a question that --yes answers. Without anybody there it is the finding
// not-confirmed.
func (j *Job) ask(question string, asks []finding.Finding) error {
	answer := journal.Answer{Question: question, Answer: "yes, by --yes"}
	if !j.Yes {
		yes, err := j.Obs.Confirm(question)
		if errors.Is(err, say.ErrNobody) {
			return &finding.StopError{Acted: j.Acted, Findings: []finding.Finding{
				{Name: finding.NotConfirmed, Severity: finding.Stop, Final: true, About: j.Name,
					Text:   "nobody is here to answer: " + question,
					Remedy: "run it in a terminal, or with --yes"}}}
		}
		if err != nil {
			return err
		}
		if !yes {
			return &finding.StopError{Findings: asks, Acted: j.Acted, Declined: true, Told: true}
		}
		answer.Answer = "yes"
	}
	j.said = append(j.said, answer)
	return nil
}

// carryOut acts step by step.
func (j *Job) carryOut(ctx context.Context) error {
	a := &act.Actor{Session: j.Session, Out: &j.Out, Dir: j.Dir, Yes: j.Yes, Code: j.Code, Stop: j.Stop,
		Sums: j.Sums, Verifier: j.verifier()}
	planned := len(j.plan.Steps)
	for i := 0; i < len(j.plan.Steps); i++ {
		s := j.plan.Steps[i]
		select {
		case <-j.Stop:
			if err := j.log.Write(journal.Record{Event: journal.Interrupted, Step: i + 1,
				Title: s.Title()}); err != nil {
				return errors.Join(ErrStopped, err)
			}
			return ErrStopped
		default:
		}
		if _, err := j.Know(ctx, s.Needs(j.Card, j.Model())); err != nil {
			return err
		}
		if err := j.checkAgain(s, i); err != nil {
			return err
		}
		rec := journal.Record{Event: journal.Act, Step: i + 1, Title: s.Title(),
			Touches: plan.Unsure(s, j.Card), Said: j.said}
		if i >= planned {
			data := act.Data(s)
			rec.Data = &data
		}
		j.said = nil
		if err := j.log.Write(rec); err != nil {
			return err
		}
		done, err := j.actOn(ctx, a, s, i)
		if err != nil {
			return err
		}
		if err := j.further(ctx, done, i); err != nil {
			return err
		}
	}
	return nil
}

// actOn carries out one step and writes its outcome.
func (j *Job) actOn(ctx context.Context, a *act.Actor, s plan.Step, i int) (act.Done, error) {
	j.Obs.Step(i+1, len(j.plan.Steps), s.Title(), say.Begin)
	before := j.Card.Clone()
	changes := s.Changes()
	if changes && j.Writing != nil {
		j.Writing(true)
		defer j.Writing(false)
	}
	done, err := act.Run(ctx, a, s)
	j.Acted = j.Acted || done.Rebooted
	err = finding.AsStop(asChanged(err, j.Acted), j.Acted)
	if changes && errors.Is(err, ErrStopped) {
		j.Acted = true // how far it came is not known
	}
	rec := journal.Record{Event: journal.Done, Step: i + 1, Title: s.Title(), Answers: done.Answers,
		Said: done.Said, Confirm: done.Confirm, Bytes: done.Bytes, SHA256: done.SHA256}
	state := say.Finished
	if err != nil {
		rec.Event, rec.Error, rec.Confirm, state = journal.Failed, spell.Error(err), "", say.Failed
		rec.Facts, rec.Refused = failedFacts(before, j.Card), link.Refused(err)
	} else {
		j.Acted = j.Acted || !done.Looked
		rec.Facts = changed(before, j.Card)
	}
	j.Obs.Step(i+1, len(j.plan.Steps), s.Title(), state)
	return done, errors.Join(err, j.log.Write(rec))
}

// further puts the steps an act handed back behind it: all of them are checked before the
// first one acts.
func (j *Job) further(ctx context.Context, done act.Done, i int) error {
	if len(done.Further)+len(done.Found) == 0 {
		return nil
	}
	next := plan.Compile(j.Card, j.Model(), j.Models, done.Further...)
	v, err := j.verify(ctx, next.Steps, nil)
	if err != nil {
		return err
	}
	found := slices.Concat(v.found, done.Found, next.CheckBut(j.Card, v.of))
	if err := j.weigh(found, "what follows"); err != nil {
		return err
	}
	if len(next.Steps) == 0 {
		return &finding.StopError{Acted: j.Acted, Findings: []finding.Finding{
			{Name: finding.NothingThere, Severity: finding.Stop, Final: true, About: j.Name,
				Text:   "no slot of this phone holds an image that could be changed",
				Remedy: "install a system first, or write the file whole: --into PARTITION"}}}
	}
	j.plan.Steps = slices.Replace(j.plan.Steps, i+1, i+1+done.InPlace, next.Steps...)
	return nil
}

// checkAgain checks a step just before it acts, with what is known by then. What has to be asked
// of it is asked of the steps behind it too, so that one thing is one question.
func (j *Job) checkAgain(s plan.Step, i int) error {
	found := s.Check(j.Card, j.Model(), j.Models)
	asked := map[string]bool{}
	for _, f := range finding.Asking(j.fresh(found)) {
		asked[f.Name] = true
	}
	if len(asked) > 0 {
		ahead := j.Card.Clone()
		plan.Apply(s, ahead)
		rest := plan.Plan{Steps: j.plan.Steps[i+1:], Model: j.Model(), Models: j.Models}
		for _, f := range rest.Check(ahead) {
			if asked[f.Name] && f.Severity == finding.Warn {
				found = append(found, f)
			}
		}
	}
	return j.weigh(found, s.Title())
}

// fresh are the findings that were not told yet, as accepted.
func (j *Job) fresh(found []finding.Finding) (list []finding.Finding) {
	for _, f := range finding.Apply(found, j.Accept) {
		if !slices.ContainsFunc(append(j.checked, list...), func(o finding.Finding) bool {
			return o.Name == f.Name && o.About == f.About && o.Severity == f.Severity
		}) {
			list = append(list, f)
		}
	}
	return list
}

// weigh tells findings that are new and stops or asks where they say so. What was
// answered before is not asked twice.
func (j *Job) weigh(found []finding.Finding, title string) error {
	fresh := j.fresh(found)
	j.tell(fresh)
	j.checked = append(j.checked, fresh...)
	err := error(nil)
	asks := finding.Asking(fresh)
	stops := finding.Blocking(fresh)
	switch {
	case len(stops) > 0:
		err = &finding.StopError{Findings: stops, Acted: j.Acted, Told: true}
	case len(asks) > 0 && !j.Agreed.covers(asks, nil, nil):
		err = j.ask(fmt.Sprintf("Go on, on %s: %s?", j.Name, title), asks)
	}
	if err != nil {
		return errors.Join(err,
			j.log.Write(journal.Record{Event: journal.Stopped, Title: title, Found: append(stops, asks...)}))
	}
	return nil
}

// Settle tells findings that a command has by itself, and stops or asks where they say so. Errors:
// *finding.StopError.
func (j *Job) Settle(found []finding.Finding, question string) error {
	list := finding.Apply(found, j.Accept)
	j.tell(list)
	if stops := finding.Blocking(list); len(stops) > 0 {
		return &finding.StopError{Findings: stops, Told: true}
	}
	if asks := finding.Asking(list); len(asks) > 0 && !j.Agreed.covers(asks, nil, nil) {
		return j.ask(question, asks)
	}
	return nil
}

// Keep has a journal say what was seen without any job: what has changed between two cards of
// the phone, and what was read of it just now, nil for nothing. how is the error it ended with.
func Keep(s *phone.Session, o Options, command string, before, after, read *card.Card, how error) (
	err error) {
	log, err := journal.Create(s.Home, s.Name, o.Sink)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, log.Close()) }()
	begin := journal.Record{Event: journal.Begin, Command: o.Typed, Of: o.Of,
		Task:   &journal.TaskData{Name: command},
		Phone:  s.Name,
		Serial: before.Value(card.FactSerial),
		Model:  before.Value(card.FactModel)}
	if read != nil {
		begin.Facts = lasting(read)
	}
	end := journal.Record{Event: journal.End}
	if how != nil {
		end.Error = spell.Error(how)
	}
	for _, r := range []journal.Record{begin, {Event: journal.Done, Step: 1, Title: command,
		Facts: changed(before, after)}, end} {
		if err := log.Write(r); err != nil {
			return err
		}
	}
	return nil
}

// lasting are the facts read just now that stay true until a job changes them, so that
// they are known in modes that don't tell them.
func lasting(c *card.Card) journal.Facts {
	out := journal.Facts{}
	for _, i := range c.IDs() {
		if f := c.Get(i); f.Source == card.Read && i.Stay() == card.Lasting {
			out[i] = f
		}
	}
	return out
}

// changed gives the facts a step has changed.
func changed(before, after *card.Card) journal.Facts {
	out := journal.Facts{}
	for _, i := range after.IDs() {
		f, old := after.Get(i), before.Get(i)
		if i.Stay() != card.Passing && f.Source != card.Concluded && (old.Value != f.Value ||
			old.Known() != f.Known() ||
			old.Pending != f.Pending) {
			out[i] = f
		}
	}
	return out
}

// failedFacts gives what a step that failed has shown: commands that the phone was found not to know, and a
// start that ended in another mode.
func failedFacts(before, after *card.Card) journal.Facts {
	facts := changed(before, after)
	maps.DeleteFunc(facts, func(i card.ID, _ card.Fact) bool {
		return i.Name != card.Name(card.FactCommand) && i.Name != card.Name(card.FactFailed)
	})
	return facts
}

// refusal tells errors that say no from those that end a job.
func refusal(err error) bool {
	var refused *link.RefusedError
	var lack *phone.LackError
	return errors.As(err, &refused) || errors.As(err, &lack) || errors.Is(err, wire.ErrNoPartition)
}
