package bench

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
	"jarlid/internal/core/plan"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
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
	// hangUpLimit is how long a bootloader may hold its connection then.
	hangUpLimit = 5 * time.Second
	// vanishLimit is how long a phone may stay after it took a restart.
	vanishLimit = 20 * time.Second
)

func notAuthorised(err error) *adb.NotAuthorisedError {
	var denied *adb.NotAuthorisedError
	if errors.As(err, &denied) {
		return denied
	}
	return nil
}

func (p *Phone) deniedError(fingerprint string) error {
	return &FindingError{Findings: []finding.Finding{{Name: finding.NotAuthorised, Severity: finding.Stop, About: p.Name, Final: true,
		Text:   fmt.Sprintf("%s does not know this computer's key (fingerprint %s)", p.Name, fingerprint),
		Remedy: "wake the phone, answer the question on its screen, and run the command again"}}}
}

// offerKey shows the key and waits for the owner.
func (p *Phone) offerKey(ctx context.Context, obs Observer, limit time.Duration) (*Link, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	key, err := p.bench.Key()
	if err != nil {
		return nil, err
	}
	l, err := p.Connect(ctx, func() {
		obs.Say(Look, "%s asks its owner about this computer's key, fingerprint %s", p.Name, key.Fingerprint())
		obs.Hands(p.hand("allow-key", model.Recipe{Do: []string{`Wake the phone and allow debugging for this computer on its screen.`}}), limit)
	})
	if err != nil {
		return nil, p.deniedError(key.Fingerprint())
	}
	return l, nil
}

// restart brings the phone into another mode, by command where it takes one,
// else by hand.
func (j *Job) restart(ctx context.Context, s *plan.Restart) (Record, error) {
	from, before := j.Link, j.Card
	if from != nil && from.Mode == s.To && s.To == card.Sideload {
		return Record{Confirm: ReadBack}, nil // it is there already
	}
	var err error
	if from == nil {
		err = &link.RefusedError{Command: "restart", Message: "the phone can't be reached, so a person brings it there"}
	} else if tried, _ := j.Card.Yes(card.FactTemporary); tried && s.To == card.Sideload && from.Mode == card.Recovery {
		j.Obs.Say(Look, "the recovery that runs is written nowhere and would be gone with a restart, so it is put into sideload mode from its menu")
		err = &link.RefusedError{Command: "restart", Message: "a restart would end the recovery that was started without being written"}
	} else {
		j.Obs.Say(Wait, "restarting into %s", s.To)
		err = j.command(ctx, s.To)
	}
	var refused *link.RefusedError
	hands := errors.As(err, &refused)
	if err != nil && !hands {
		return Record{}, err
	}
	rec := Record{Confirm: ReadBack}
	if hands {
		rec.Answers = []string{refused.Message}
	} else {
		vanish(ctx, from)
	}
	from.Close()
	effects := j.Card.Clone()
	s.Effects(effects)
	var l *Link
	switch {
	case s.To == card.System:
		if hands {
			j.showHands(s.To)
		}
		l, err = j.awaitSystem(ctx, effects)
	case s.To == card.Recovery && !hands:
		l, err = j.awaitRecovery(ctx, effects)
	case hands && from == nil && s.To == card.Recovery:
		// One without a shell is never seen; the next step shows whether it is there.
		j.showHands(s.To)
		l, err = j.awaitRecovery(ctx, effects)
	case hands:
		l, err = j.byHand(ctx, s.To)
	default:
		l, err = j.Phone.Await(ctx, s.To, restartLimit, false)
	}
	if err != nil {
		return rec, err
	}
	j.Link, j.Card = l, effects
	if l == nil { // it can't be seen, and that is no fault
		rec.Confirm = NotKnown
		return rec, nil
	}
	c, err := j.Phone.Read(ctx, l)
	if err != nil {
		return rec, err
	}
	if err := j.Phone.sameSerial(before, c); err != nil {
		return rec, err
	}
	if l.Mode != s.To {
		effects.Learn(card.FactMode, string(l.Mode), card.Read)
	}
	c.Merge(effects)
	j.Card = c
	j.fellBack(effects.Value(card.FactStarted))
	return rec, nil
}

// fellBack tells when a phone came up on another slot than the one that was
// to start: its bootloader gave that one up.
func (j *Job) fellBack(want string) {
	got := j.Card.Get(card.FactStarted)
	if want == "" || got.Evidence != card.Read || got.Value == want {
		return
	}
	j.Obs.Found(finding.Finding{Name: finding.SlotEmpty, Severity: finding.Care, About: want,
		Text:   fmt.Sprintf("slot %s was to start, and the phone fell back to slot %s: what is on %s does not start", want, got.Value, want),
		Remedy: "install a system to slot " + want + " before it is chosen again"})
}

// awaitRecovery waits for a restarted recovery. One that was not set by Jar
// Lid may have no shell and then never shows up: a nil Link without an error.
func (j *Job) awaitRecovery(ctx context.Context, c *card.Card) (*Link, error) {
	home := plan.RecoveryHome(c, j.Phone.model).Partition
	part := plan.Suffixed(home, c.Value(card.FactNext))
	limit := unseenLimit
	switch {
	case j.quiet(c, c.Value(card.FactNext)):
		limit = quietRecovery
	case c.Get(card.FactDigest + part).Known():
		return j.Phone.Await(ctx, card.Recovery, restartLimit, false)
	}
	// Whoever is at the phone may have put it into sideload mode already.
	l, err := j.Phone.awaitOne(ctx, limit, false, card.Recovery, card.Sideload)
	var away *NotHereError
	if errors.As(err, &away) {
		j.learnQuiet(c, c.Value(card.FactNext))
		return nil, nil
	}
	return l, err
}

// learnQuiet keeps that a recovery did not show itself, so that the next time it
// is not waited for as long.
func (j *Job) learnQuiet(c *card.Card, slot string) {
	home := plan.RecoveryHome(c, j.Phone.model).Partition
	c.Learn(card.FactQuiet+plan.Suffixed(home, slot), "yes", card.Journal)
}

// quiet tells whether the recovery of a slot is known to give no shell, and so is
// never seen in its menu. Without a slot's name it has to be so on both.
func (j *Job) quiet(c *card.Card, slot string) bool {
	home := plan.RecoveryHome(c, j.Phone.model).Partition
	yes, known := c.Yes(card.FactQuiet + plan.Suffixed(home, slot))
	if slot == "" && !known {
		a, _ := c.Yes(card.FactQuiet + plan.Suffixed(home, "a"))
		b, _ := c.Yes(card.FactQuiet + plan.Suffixed(home, "b"))
		return a && b
	}
	return yes
}

// command sends the restart over whatever link there is. A phone or recovery
// that does not know how refuses.
func (j *Job) command(ctx context.Context, to card.Mode) error {
	targets := map[card.Mode]string{card.System: "", card.Bootloader: "bootloader", card.Recovery: "recovery",
		card.Fastbootd: "fastboot", card.Sideload: "sideload"}
	if j.Link.FB != nil {
		if to == card.Sideload {
			return &link.RefusedError{Command: "reboot-sideload", Message: "a bootloader has no such restart"}
		}
		// What is known to be missing is not asked for.
		if yes, known := j.Card.Yes(card.FactCommand + "reboot-" + targets[to]); known && !yes {
			return &link.RefusedError{Command: "reboot-" + targets[to], Message: "this bootloader has no such restart"}
		}
		return j.Link.FB.Reboot(ctx, targets[to])
	}
	return j.Link.ADB.Reboot(ctx, targets[to])
}

// vanish waits until the phone has gone away, so that it is not taken for
// having come back already.
func vanish(ctx context.Context, l *Link) {
	t := time.NewTimer(vanishLimit)
	defer t.Stop()
	if l.ADB != nil {
		select {
		case <-l.ADB.Done():
		case <-t.C:
		case <-ctx.Done():
		}
		return
	}
	// Over fastboot nothing comes any more; the next packet is the end.
	ctx, cancel := context.WithTimeout(ctx, hangUpLimit)
	defer cancel()
	l.FB.Gone(ctx)
}

// showHands shows the recipe for a mode and gives how long it may take.
func (j *Job) showHands(to card.Mode) (model.Recipe, time.Duration) {
	r := j.Phone.hand(string(to), model.Recipe{Do: []string{fmt.Sprintf("Bring the phone into %s with its keys or its menu; no model file says how on this one.", to)}})
	limit := handsLimit
	if r.Wait > 0 {
		limit = time.Duration(r.Wait) * time.Second
	}
	j.Obs.Hands(r, limit)
	return r, limit
}

// byHand shows the recipe for a mode and goes on when the phone is there.
func (j *Job) byHand(ctx context.Context, to card.Mode) (*Link, error) {
	r, limit := j.showHands(to)
	l, err := j.Phone.Await(ctx, to, limit, true)
	if err != nil && r.Hint != "" {
		return nil, fmt.Errorf("%w (%s)", err, r.Hint)
	}
	return l, err
}

// debuggingHands is what switches debugging on again after a format.
func (p *Phone) debuggingHands() model.Recipe {
	return p.hand("debugging", model.Recipe{Do: []string{"Go through the welcome pages and switch debugging on in the developer settings; formatting switched it off."}})
}

// awaitSystem watches a starting system. A nil Link without an error means
// that it can't be seen: debugging is off there, which is expected after a
// format.
func (j *Job) awaitSystem(ctx context.Context, c *card.Card) (*Link, error) {
	off := c.Value(card.FactDebugging) == "off"
	if off {
		j.Obs.Say(Wait, "the first start takes long: minutes on a real phone, and its screen may stay on one picture")
		j.Obs.Hands(j.Phone.debuggingHands(), j.WaitSystem)
	}
	l, err := j.Phone.Await(ctx, card.System, j.WaitSystem, off)
	if notAuthorised(err) != nil {
		l, err = j.Phone.offerKey(ctx, j.Obs, allowLimit)
	}
	var away *NotHereError
	var stopped *FindingError
	if errors.As(err, &away) || errors.As(err, &stopped) {
		return nil, nil
	}
	if err == nil {
		if j.System, err = j.Phone.Read(ctx, l); err != nil {
			l.Close()
			return nil, err
		}
	}
	return l, err
}

// meter turns bytes into progress a few times a second.
type meter struct {
	obs   Observer
	p     Progress
	start time.Time
	last  time.Time
}

func newMeter(obs Observer, w Word, what string, total int64) *meter {
	m := &meter{obs: obs, p: Progress{Word: w, What: what, Total: total}, start: time.Now()}
	obs.Work(m.p)
	return m
}

func (m *meter) set(done int64) {
	m.p.Done = done
	t := time.Now()
	if t.Sub(m.last) < 100*time.Millisecond {
		return
	}
	m.last = t
	if el := t.Sub(m.start); el > 0 {
		m.p.Rate = int64(float64(done) / el.Seconds())
	}
	if m.p.Rate > 0 {
		m.p.Left = time.Duration(float64(m.p.Total-done) / float64(m.p.Rate) * float64(time.Second))
	}
	m.obs.Work(m.p)
}

func (m *meter) end() {
	if el := time.Since(m.start); el > 0 {
		m.p.Rate = int64(float64(m.p.Done) / el.Seconds())
	}
	m.p.Left, m.p.End = 0, true
	m.obs.Work(m.p)
}

// formatData formats the data in the way this mode has.
func (j *Job) formatData(ctx context.Context, s *plan.FormatData) (Record, error) {
	var rec Record
	var err error
	switch {
	case j.Link.FB != nil:
		rec, err = j.eraseData(ctx)
	case j.Card.Value(card.FactRoot) == "yes":
		rec, err = j.formatByShell(ctx)
	default:
		rec, err = j.formatByHand(ctx)
	}
	if err != nil {
		return rec, err
	}
	s.Effects(j.Card)
	return rec, nil
}

// eraseData erases userdata, and metadata where there is one: a system formats
// what it finds erased.
func (j *Job) eraseData(ctx context.Context) (Record, error) {
	rec := Record{Confirm: PhoneWord}
	for _, name := range []string{"userdata", "metadata"} {
		if err := j.Phone.ReadPartition(j.Card, j.Link, name); err != nil {
			return rec, err
		}
		if name == "metadata" {
			if _, known := j.Card.Number(card.FactSize + name); !known {
				continue
			}
		}
		if err := j.erasePartition(ctx, name, &rec); err != nil {
			return rec, err
		}
	}
	return rec, nil
}

func (j *Job) erasePartition(ctx context.Context, name string, rec *Record) error {
	j.Obs.Say(Wait, "erasing %s; this can be silent for minutes", name)
	a, err := j.Link.FB.Erase(ctx, name)
	rec.Answers = append(rec.Answers, append(a.Lines, a.Text)...)
	return err
}

// formatByShell formats through the recovery's root shell, with the file
// system its table of mounts names, and reads back what is there then.
func (j *Job) formatByShell(ctx context.Context) (Record, error) {
	rec := Record{}
	for _, p := range []struct{ name, mount string }{{"userdata", "/data"}, {"metadata", "/metadata"}} {
		b, err := readBlock(ctx, j.Link, p.name, 4096)
		if err != nil {
			return rec, err
		}
		if b == nil {
			if p.name == "metadata" {
				continue
			}
			return rec, &link.RefusedError{Command: "read " + devicePath + p.name, Message: "the recovery does not let userdata be read, so it can't be formatted from here"}
		}
		err = j.format(ctx, p.name, p.mount, &rec)
		var missing *missingError
		if errors.As(err, &missing) {
			return rec, j.tellRecovery(ctx, &rec, "--wipe_data")
		}
		if err != nil {
			return rec, err
		}
	}
	state, err := dataState(ctx, j.Link)
	switch {
	case err != nil:
		return rec, err
	case state == card.DataEncrypted:
		return rec, &link.RefusedError{Command: "format userdata", Message: "read back, the data is still encrypted"}
	case state == card.DataFormatted:
		rec.Confirm = ReadBack
	default:
		rec.Confirm = PhoneWord
	}
	return rec, nil
}

// fileSystem finds a mount point's file system in a table of mounts, in
// whichever order the table has its columns.
func fileSystem(table, mount string) string {
	for line := range strings.Lines(table) {
		fields := strings.Fields(line)
		if !slices.Contains(fields, mount) {
			continue
		}
		for _, t := range []string{"f2fs", "ext4"} {
			if slices.Contains(fields, t) {
				return t
			}
		}
	}
	return "ext4"
}

// formatByHand has a person do it in the recovery's menu; nobody can read back
// that it was done.
func (j *Job) formatByHand(ctx context.Context) (Record, error) {
	r := j.Phone.hand("format-data", model.Recipe{Do: []string{`On the phone, choose the menu entry that formats all data (not just the caches).`}})
	return j.doneByHand(r, "Does the phone say that the data was formatted?", "format the data")
}

// doneByHand shows what to do in the recovery's menu and asks whether it was done;
// nobody can read that back.
func (j *Job) doneByHand(r model.Recipe, question, what string) (Record, error) {
	j.Obs.Hands(r, handsLimit)
	yes, err := j.Obs.Ask(question)
	if err != nil {
		return Record{}, err
	}
	if !yes {
		return Record{}, &link.RefusedError{Command: what, Message: "the person at the phone says that it was not done"}
	}
	return Record{Confirm: NotKnown}, nil
}

// activate chooses a slot and reads back which one is next.
func (j *Job) activate(ctx context.Context, s *plan.Activate) (Record, error) {
	a, err := j.Link.FB.SetActive(ctx, s.Slot)
	rec := Record{Answers: append(a.Lines, a.Text)}
	if err != nil {
		return rec, err
	}
	s.Effects(j.Card)
	if err := j.reread(ctx); err != nil {
		return rec, err
	}
	rec.Confirm = PhoneWord
	if next := j.Card.Get(card.FactNext); next.Evidence == card.Read {
		if next.Value != s.Slot {
			return rec, &link.RefusedError{Command: "choose slot " + s.Slot, Message: "it said yes, and slot " + next.Value + " is still next"}
		}
		rec.Confirm = ReadBack
	}
	return rec, nil
}
