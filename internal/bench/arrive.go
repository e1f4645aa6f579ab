package bench

import (
	"context"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image/bcb"
	"jarlid/internal/core/plan"
)

// Arrived is what Arrive saw.
type Arrived struct {
	plan.Arrival
	Card *card.Card // of what came up; nil when nothing could be read
	Said bool       // a person said what the screen shows
	Took time.Duration
}

const (
	// settledLimit is how long a phone may stay in its bootloader or recovery
	// before that counts as where it ended: it passes through both.
	settledLimit = 3 * time.Second
	// loopsLimit is how often a system may begin before that counts as a loop.
	loopsLimit = 3
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

// Arrive watches a start until it has come to an end, or for as long as limit.
func (p *Phone) Arrive(ctx context.Context, obs Observer, before *card.Card, limit time.Duration) (*Arrived, error) {
	began := time.Now()
	a := &Arrived{}
	end := func(s plan.Stage) (*Arrived, error) {
		after := a.Card
		if after == nil {
			after = &card.Card{}
		}
		a.Arrival, a.Took = plan.Judge(s, before, after), time.Since(began)
		return a, nil
	}
	if before.Value(card.FactDebugging) == "off" {
		obs.Hands(p.debuggingHands(), limit)
	}
	var last card.Mode
	var since time.Time
	begins, said := 0, 0
	for time.Since(began) < limit {
		l, err := p.glance(ctx, obs)
		if err != nil {
			return nil, err
		}
		mode := card.None
		if l != nil {
			mode = l.Mode
		}
		if mode != last {
			if mode == card.System {
				begins++
				obs.Say(Look, "a system is coming up and can be seen (%s)", time.Since(began).Round(time.Second))
			}
			last, since = mode, time.Now()
		}
		stage := reached(ctx, l, time.Since(since))
		if stage != "" {
			a.Card = p.fallen(ctx, l)
		}
		l.Close()
		switch {
		case stage == plan.StageFinished && a.Card == nil: // it went away while it was read
		case stage != "":
			return end(stage)
		case begins >= loopsLimit:
			return end(plan.StageLoop)
		}
		if said < len(milestones) && last != card.System && time.Since(began) > milestones[said].after {
			obs.Say(Wait, "%s", milestones[said].text)
			said++
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(pollEvery):
		}
	}
	if last == card.System {
		return end(plan.StageStarting)
	}
	var options []string
	for _, s := range plan.Shown {
		options = append(options, s.Text)
	}
	n, err := obs.Choose("It can't be seen from here. What does its screen show?", options)
	if err != nil {
		return end(plan.StageUnknown) // nobody is there to look
	}
	a.Said = true
	return end(plan.Shown[n].Stage)
}

// reached tells whether a start has come to its end; "" while it has not. A system
// says itself that it has finished; a bootloader or recovery may be on the way.
func reached(ctx context.Context, l *Link, stays time.Duration) plan.Stage {
	switch {
	case l == nil:
	case l.Mode == card.System:
		if text, err := shell(ctx, l, "getprop sys.boot_completed"); err == nil && strings.TrimSpace(text) == "1" {
			return plan.StageFinished
		}
	case stays <= settledLimit:
	case l.Mode == card.Bootloader || l.Mode == card.Fastbootd:
		return plan.StageBootloader
	default:
		return plan.StageRecovery
	}
	return ""
}

// glance connects to the phone if it is there; a nil Link without an error means that
// it can't be seen.
func (p *Phone) glance(ctx context.Context, obs Observer) (*Link, error) {
	l, err := p.Connect(ctx, nil)
	if notAuthorised(err) != nil {
		return p.offerKey(ctx, obs, allowLimit) // it runs, and wants to be asked about this computer
	}
	if err != nil {
		return nil, ctx.Err()
	}
	return l, nil
}

// fallen reads what a start ended in, and of a recovery why the system asked for it;
// nil when it went away again.
func (p *Phone) fallen(ctx context.Context, l *Link) *card.Card {
	if l == nil {
		return nil
	}
	c, err := p.Read(ctx, l)
	if err != nil {
		return nil
	}
	if !rootRecovery(l, c) {
		return c
	}
	if misc, err := readBlock(ctx, l, "misc", bcb.Size); err == nil && misc != nil {
		m, _ := bcb.ParseMessage(misc)
		for _, s := range m.Recovery {
			// What the system asks its recovery for when it gives up (rescue party, init).
			if reason, ok := strings.CutPrefix(s, "--reason="); ok || s == "--prompt_and_wipe_data" {
				learn(c, card.FactReason, reason+" ")
			}
		}
	}
	return c
}

// Before gives what is known of a phone that is about to start, without asking it:
// what jobs did to it.
func (b *Bench) Before(on string) (*Phone, *card.Card, error) {
	list, err := b.meant(on)
	if err != nil {
		return nil, nil, err
	}
	switch len(list) {
	case 0:
		return nil, nil, &NotHereError{Name: on, Text: "no phone is listed"}
	case 1:
	default:
		return nil, nil, &UsageError{Text: "several phones are listed; say which one is meant with --on NAME"}
	}
	c, err := b.recall(list[0], list[0].Serial)
	if err != nil {
		return nil, nil, err
	}
	list[0].model.Learn(c)
	return list[0], c, nil
}
