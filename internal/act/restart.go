package act

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"jarlid/internal/core/advice"
	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/phone"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

const (
	// restartLimit is how long a restart by command may take; old phones take
	// two minutes into recovery.
	restartLimit = 3 * time.Minute
	// handsLimit is how long a person has, unless the recipe says otherwise.
	handsLimit = 5 * time.Minute
	// quietRecovery is how long one is waited for that is known to have no shell.
	quietRecovery = 8 * time.Second
	// unseenLimit is how long a recovery nobody knows is waited for.
	unseenLimit = 30 * time.Second
	// leastHands is how long a person needs at least to do anything.
	leastHands = 10 * time.Second
	// againLimit is how long a phone is looked for that went away while it was read.
	againLimit = 30 * time.Second
)

// awaiter waits for the phone in one of several modes, as phone.Session.Await does.
type awaiter func(ctx context.Context, limit time.Duration, patient bool, modes ...card.Mode) (wire.Conn,
	error)

// restart brings the phone into another mode, by command where it takes one,
// else by hand.
func (j *Actor) restart(ctx context.Context, s *plan.Restart) (Done, error) {
	return j.restarting(ctx, s, false)
}

// restarting does it; again says that the phone did not restart the first time.
func (j *Actor) restarting(ctx context.Context, s *plan.Restart, again bool) (Done, error) {
	before, seen, from := j.Card, j.Connected(), j.Mode()
	if j.Mode() == s.To && s.To == card.Sideload {
		return Done{Confirm: journal.ReadBack, Looked: true}, nil // it is there already
	}
	err := j.command(ctx, s.To)
	var refused *link.RefusedError
	var left *link.LeftError
	hands := errors.As(err, &refused)
	await := awaiter(j.Await)
	switch {
	case errors.As(err, &left):
		await = func(ctx context.Context, limit time.Duration, patient bool, modes ...card.Mode) (wire.Conn,
			error) {
			return j.AwaitAgain(ctx, max(limit, unseenLimit), patient, from, modes...)
		}
	case err != nil && !hands:
		return Done{}, err
	}
	d := Done{Confirm: journal.ReadBack, Rebooted: !hands}
	j.Out.ByHand = hands
	if hands {
		d.Answers = []string{refused.Message}
		j.Drop()
	} else {
		j.Gone(ctx)
	}
	effects := j.Card.Clone()
	plan.Apply(s, effects)
	var w wire.Conn
	switch {
	case s.To == card.System && hands:
		w, err = j.systemByHand(ctx, effects, from)
	case s.To == card.System:
		w, err = j.awaitSystem(ctx, effects, await)
	case s.To == card.Recovery && !hands:
		w, err = j.awaitRecovery(ctx, effects, await)
		if w == nil && err == nil && left == nil { // else it may just be off its cable
			j.learnQuiet(effects, effects.Value(card.FactNext))
		}
	case hands && !seen && s.To == card.Recovery:
		var word string
		if w, word, err = j.recoveryByHand(ctx, effects, from); word != "" {
			j.Card = effects
			d.Confirm = word
			return d, nil
		}
	case hands:
		w, err = j.byHand(ctx, from, s.To)
	default:
		w, err = await(ctx, restartLimit, false, s.To)
	}
	if err != nil {
		return d, j.whyNot(s.To, effects, j.elsewhere(ctx, s.To, effects, before, err))
	}
	j.Card = effects
	if w != nil {
		err = j.arrived(ctx, w, before, s.To, hands)
	}
	if w != nil && err == nil && hands {
		err = j.askKeys(s.To, from)
	}
	if w == nil || j.unseen(err, s.To, effects) { // which is no fault
		d.Confirm = journal.NotKnown
		return d, nil
	}
	if err != nil {
		return d, err
	}
	want := effects.Value(card.FactStarted)
	if !j.unmoved(before, want) {
		j.fellBack(want)
		return d, nil
	}
	if again || hands {
		j.Obs.Found(finding.Warns(finding.SlotNotStarted, want,
			fmt.Sprintf("slot %s was to start, and the phone is still on slot %s, its tries "+
				"untouched: it did not restart", want, j.Card.Value(card.FactStarted)), "jarlid go "+
				string(s.To)))
		return d, nil
	}
	j.Obs.Say(say.Info, "the phone is where it was and has not restarted; it is told so once more")
	return j.restarting(ctx, s, true)
}

// unmoved reports whether a phone that was to start from a slot runs from the one it ran from, with
// none of the other's tries used: the restart was lost on its way.
func (j *Actor) unmoved(before *card.Card, want string) bool {
	got, was := j.Card.Get(card.FactStarted), before.Get(card.FactStarted)
	if want == "" || got.Source != card.Read || got.Value == want || was.Value != got.Value {
		return false
	}
	now, then := j.Card.Get(card.FactTries.Of(want)), before.Get(card.FactTries.Of(want))
	next := j.Card.Get(card.FactNext)
	return now.Source == card.Read && then.Known() && now.Value == then.Value &&
		next.Source == card.Read && next.Value == want
}

// whyNot adds to the error of a recovery that did not come up what is known to keep it from that.
func (j *Actor) whyNot(to card.Mode, c *card.Card, err error) error {
	var away *wire.NotHereError
	var wrong *phone.WrongModeError
	if to != card.Recovery || !errors.As(err, &away) && !errors.As(err, &wrong) {
		return err
	}
	for _, f := range plan.PreImages(c, j.Model(), c.Value(card.FactNext)) {
		j.Obs.Say(say.Warn, "%s", f.Text)
		how := f.Remedy
		if j.Card.Mode() != card.Bootloader {
			how = "bring the phone into its bootloader, and " + how
		}
		j.Obs.Say(say.Todo, "%s", how)
	}
	return err
}

// elsewhere reads a phone that came up in another mode than the one it was sent to, so that what is advised
// then is for the mode it is in. err says so, and is given back.
func (j *Actor) elsewhere(ctx context.Context, to card.Mode, effects, before *card.Card, err error) error {
	var wrong *phone.WrongModeError
	if !errors.As(err, &wrong) || wrong.Got == card.None {
		return err
	}
	w, found := j.Await(ctx, againLimit, false, wrong.Got)
	if found != nil {
		return err
	}
	j.Card = effects
	if found = j.arrived(ctx, w, before, wrong.Got, false); found != nil {
		return errors.Join(err, found)
	}
	if how, is := fellInto[wrong.Got]; to == card.System && is {
		j.Card.Learn(card.FactFailed.Of(effects.Value(card.FactNext)), string(how), card.Journal)
	}
	return err
}

// fellInto is how a start ended that led into a mode in place of the system.
var fellInto = map[card.Mode]advice.Stage{card.Recovery: advice.StageRecovery,
	card.Bootloader: advice.StageBootloader}

// arrived reads the phone that came back over a wire, and makes sure that it is the one
// that went away. before is what was known of that, the card what is so since then.
func (j *Actor) arrived(ctx context.Context, w wire.Conn, before *card.Card, to card.Mode,
	hands bool) error {
	effects := j.Card
	j.Use(w)
	err := j.Read(ctx)
	var lost *link.LostError
	for end := time.Now().Add(againLimit); errors.As(err, &lost) && time.Now().Before(end); {
		// It was met in the moment it went on: one that is still shutting down takes a connection
		// and drops it, a recovery that is done shows its menu and restarts.
		j.Drop()
		if wire.Pause(ctx, wire.SecondLook) != nil {
			break
		}
		var back wire.Conn
		if back, err = j.Await(ctx, againLimit, false, to); err == nil {
			j.Use(back)
			err = j.Read(ctx)
		}
	}
	if err != nil {
		j.Card = effects
		return err
	}
	if err := j.SameSerial(before, hands); err != nil {
		return err
	}
	if j.Mode() != to {
		effects.Learn(card.FactMode, string(j.Mode()), card.Read)
	}
	for _, i := range effects.IDs() { // what the reboot made unknown stays unknown, though journals know it
		if f := effects.Get(i); !f.Known() && f.Why != "" && j.Card.Get(i).Source == card.Journal {
			j.Card.Set(i, f)
		}
	}
	j.Card.Merge(effects)
	return nil
}

// command sends the restart over the wire. A phone or recovery that does not know how
// refuses.
func (j *Actor) command(ctx context.Context, to card.Mode) error {
	if tried, _ := j.Card.Yes(card.FactTemporary); tried && to == card.Sideload && j.Mode() == card.Recovery {
		j.Obs.Say(say.Info, "the recovery that runs is written nowhere and would be gone with a restart, "+
			"so it is put into sideload mode from its menu")
		return &link.RefusedError{Command: "restart",
			Message: "a restart would end the recovery that was started without being written"}
	}
	if to.Def().ByKeys && j.Mode() != to {
		return &link.RefusedError{Command: "restart", Message: "keys alone lead into a maker's loader"}
	}
	if j.Connected() {
		j.Obs.Say(say.Wait, "restarting into %s", to)
	}
	if to == card.System && j.RootRecovery() {
		if err := j.answerMessage(ctx); err != nil {
			return err
		}
	}
	// What is known to be missing is not asked for.
	if word := plan.RestartCommand(to); j.HasLoader() && word != "" {
		if yes, known := j.Card.Yes(card.FactCommand.Of(word)); known && !yes {
			return &link.RefusedError{Command: word, Message: "this bootloader has no such restart"}
		}
	}
	return j.Restart(ctx, to)
}

// fellBack tells when a phone came up on another slot than the one that was
// to start: its bootloader gave that one up.
func (j *Actor) fellBack(want string) {
	got := j.Card.Get(card.FactStarted)
	if want == "" || got.Source != card.Read || got.Value == want {
		return
	}
	j.Obs.Found(finding.Warns(finding.SlotEmpty, want,
		fmt.Sprintf("slot %s was to start, and the phone fell back to slot %s: what is on %s does "+
			"not start", want, got.Value, want), "install a system to slot "+want+
			" before it is chosen again"))
}

// unseen reports whether a phone was met as it went away and then stayed away, since the recovery that came
// up may have no shell. Its wire is dropped.
func (j *Actor) unseen(err error, to card.Mode, c *card.Card) bool {
	var away *wire.NotHereError
	if to != card.Recovery || !errors.As(err, &away) || j.shows(c) {
		return false
	}
	j.Drop()
	return true
}

// shows reports whether Jar Lid wrote the recovery that boots next, with a shell in it.
func (j *Actor) shows(c *card.Card) bool {
	next := c.Value(card.FactNext)
	return !j.quiet(c, next) && c.Get(card.FactDigest.Of(j.home(c, next))).Known()
}

// awaitRecovery waits for a restarted recovery. One that was not written by Jar
// Lid may have no shell and then never shows up: no wire without an error.
func (j *Actor) awaitRecovery(ctx context.Context, c *card.Card, await awaiter) (wire.Conn, error) {
	next := c.Value(card.FactNext)
	limit := unseenLimit
	switch {
	case j.quiet(c, next):
		limit = quietRecovery
	case j.shows(c):
		return await(ctx, restartLimit, false, card.Recovery)
	}
	// Whoever is at the phone may have put it into sideload mode already.
	w, err := await(ctx, limit, false, card.Recovery, card.Sideload)
	var away *wire.NotHereError
	if errors.As(err, &away) {
		return nil, nil
	}
	return w, err
}

// recoveryByHand has a person bring a phone that can't be seen into its recovery. One without a
// shell is never seen there: whether it came up the person says. word is how it is known then.
func (j *Actor) recoveryByHand(ctx context.Context, effects *card.Card, from card.Mode) (w wire.Conn,
	word string, err error) {
	if _, _, err := j.showHands(card.Recovery); err != nil {
		return nil, "", err
	}
	hctx, end := j.awaiting(ctx)
	defer end()
	w, err = j.awaitRecovery(hctx, effects, func(ctx context.Context, limit time.Duration, _ bool,
		modes ...card.Mode) (wire.Conn, error) {
		return j.AwaitHands(ctx, limit, from, modes...)
	})
	if w != nil || err != nil {
		return w, "", Stopped(hctx, err)
	}
	if j.Yes {
		return nil, journal.NotKnown, nil // nobody was asked
	}
	yes, err := j.confirm(
		fmt.Sprintf("%s can't be seen from here, as recoveries without a shell can't. Does its screen show "+
			"the recovery's menu?", j.Name))
	switch {
	case err != nil:
		return nil, "", err
	case !yes:
		return nil, "", &UnknownError{Text: "the recovery did not come up, as you say",
			Hint: fmt.Sprintf("bring the phone into its %[1]s: jarlid go %[1]s",
				place.ImageMode(j.Card, j.Model()))}
	}
	j.learnQuiet(effects, effects.Value(card.FactNext))
	return nil, SaidSo, nil
}

// SaidSo is how a thing is known that a person said.
const SaidSo = "as you say"

// home is the partition the recovery of a slot lives in.
func (j *Actor) home(c *card.Card, slot string) card.Partition {
	return card.At(place.RecoveryHome(c).Partition, slot)
}

// learnQuiet keeps that a recovery which came up did not show itself, so that the next time it is not
// waited for as long.
func (j *Actor) learnQuiet(c *card.Card, slot string) {
	c.Learn(card.FactQuiet.Of(j.home(c, slot)), "yes", card.Journal)
}

// quiet reports whether the recovery of a slot is known to give no shell.
func (j *Actor) quiet(c *card.Card, slot string) bool {
	return place.QuietRecovery(c, slot)
}

// fromRecovery ends the name of a recipe that is a recovery's menu entry.
const fromRecovery = "-from-recovery"

// byMenu reports whether a recovery's menu leads from one mode into another.
func (j *Actor) byMenu(from, to card.Mode) bool {
	_, told := j.Model().Hand(string(to) + fromRecovery)
	return to != card.Sideload && (!to.Def().ByKeys || told) && (from == card.Recovery ||
		from == card.Sideload)
}

// askKeys asks once which keys or entries brought a phone into a mode, where no model file says it. Without
// an answer it is not asked again.
func (j *Actor) askKeys(to, from card.Mode) error {
	name := string(to)
	if j.byMenu(from, to) {
		name += fromRecovery
	}
	fact := card.FactKeysFor.Of(name)
	if _, told := j.Model().Hand(name); told || j.Yes || j.Card.Get(fact).Known() {
		return nil
	}
	question := fmt.Sprintf("%s is %s now. Which keys or entries did that? (Enter: no answer; it is not "+
		"asked again)",
		j.Name, to.Def().Words)
	reply, err := j.Obs.Words(question)
	if errors.Is(err, say.ErrNobody) {
		return nil
	}
	if err == nil {
		j.said = append(j.said, journal.Answer{Question: question, Answer: reply})
		j.Card.Learn(fact, reply, card.Said)
	}
	return err
}

// showHands shows the recipe for a mode, as it is from the mode the phone is in, and gives how
// long it may take.
func (j *Actor) showHands(to card.Mode) (model.Recipe, time.Duration, error) {
	r := j.Hand(string(to),
		fmt.Sprintf("Bring the phone into %s with its keys or its menu; no model file says how on this one.",
			to))
	if j.byMenu(j.Card.Mode(), to) {
		// A recovery has a menu, and its keys work where that has no such entry. A manufacturer's loader is
		// none of a recovery's entries, unless the model file knows better.
		keys := strings.Join(r.Do, " ")
		menu := j.Hand(string(to)+fromRecovery,
			fmt.Sprintf("In the recovery's menu, choose the entry that restarts into %s.", to))
		menu.Wait, menu.Hint = r.Wait, cmp.Or(menu.Hint, "Where the menu has no such entry: "+keys)
		r = menu
	}
	if !j.Connected() && j.quiet(j.Card, j.Card.Running()) && r.Hint == "" || to == card.Recovery &&
		!j.Connected() &&
		j.quiet(j.Card, j.Card.Running()) {
		// Nobody can see which of the two it is in.
		if to == card.Recovery {
			r.Hint = "If the recovery's menu is on the screen already, nothing has to be done."
		} else {
			r.Do = append([]string{fmt.Sprintf("If the recovery's menu is on the screen, choose the entry "+
				"that restarts into %s; where there is none, or another screen:", to)}, r.Do...)
		}
	}
	limit := handsLimit
	if r.Wait > 0 {
		limit = time.Duration(r.Wait) * time.Second
	}
	return r, limit, j.Obs.Hands(r, limit)
}

// byHand shows the recipe for a mode and goes on when the phone is there.
func (j *Actor) byHand(ctx context.Context, from, to card.Mode) (wire.Conn, error) {
	r, limit, err := j.showHands(to)
	if err != nil {
		return nil, err
	}
	hctx, end := j.awaiting(ctx)
	defer end()
	w, err := j.AwaitHands(hctx, limit, from, to)
	if Stopped(hctx, err) == ErrStopped {
		return nil, ErrStopped
	}
	if err != nil && r.Hint != "" {
		return nil, fmt.Errorf("%w (%s)", err, r.Hint)
	}
	return w, err
}

// systemByHand has a person start the system. However short the time to watch its start: a phone that shows
// up elsewhere meanwhile, having been away from its cable, is sent on.
func (j *Actor) systemByHand(ctx context.Context, effects *card.Card, from card.Mode) (wire.Conn, error) {
	if _, _, err := j.showHands(card.System); err != nil {
		return nil, err
	}
	hctx, end := j.awaiting(ctx)
	defer end()
	w, err := j.awaitSystem(hctx, effects, func(ctx context.Context, limit time.Duration, _ bool,
		to ...card.Mode) (wire.Conn, error) {
		return j.AwaitHands(ctx, max(limit, unseenLimit), from, to...)
	})
	return w, Stopped(hctx, err)
}

// awaitSystem watches a starting system. No wire without an error means that it can't be
// seen: debugging is off there, which is expected after a format.
func (j *Actor) awaitSystem(ctx context.Context, c *card.Card, await awaiter) (wire.Conn, error) {
	off := c.Value(card.FactDebugging) == "off"
	if off {
		j.Obs.Say(say.Wait, "the first start takes long: minutes on a real phone, and its screen may stay "+
			"on one picture")
		// With nobody there it is not seen in the end, which is told: no reason not to start.
		if j.WaitSystem >= leastHands { // else it is not waited for
			j.Obs.HandsLater(j.DebuggingHands(), j.WaitSystem)
		}
	}
	w, err := await(ctx, j.WaitSystem, off, card.System)
	if wire.NotAuthorised(err) != nil {
		var s *phone.Session
		if s, err = j.OfferKey(ctx, j.Obs); err == nil {
			w = s.Wire()
		}
	}
	var away *wire.NotHereError
	var stopped *finding.StopError
	if j.Out.Barred = errors.As(err, &stopped); j.Out.Barred {
		for i := range stopped.Findings {
			if f := &stopped.Findings[i]; f.Name == finding.NotAuthorised {
				// the restart itself is done
				f.Remedy = "wake the phone and answer the question on its screen"
			}
		}
		phone.WarnOf(j.Obs, stopped)
	}
	if errors.As(err, &away) || j.Out.Barred {
		return nil, nil
	}
	return w, err
}
