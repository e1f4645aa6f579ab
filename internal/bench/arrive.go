package bench

import (
	"context"
	"errors"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image/bcb"
	"jarlid/internal/core/model"
	"jarlid/internal/core/plan"
	"jarlid/internal/link/adb"
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
		r, ok := p.model.Hand("debugging")
		if !ok {
			r = model.Recipe{Do: []string{"Go through the welcome pages and switch debugging on in the developer settings; formatting switched it off."}}
		}
		obs.Hands(r, limit)
	}
	var last card.Mode
	var since time.Time
	begins, said := 0, 0
	for time.Since(began) < limit {
		mode, err := p.glance(ctx, obs, a)
		if err != nil {
			return nil, err
		}
		if mode != last {
			if mode == card.System {
				begins++
				obs.Say(Look, "a system is coming up and can be seen (%s)", time.Since(began).Round(time.Second))
			}
			last, since = mode, time.Now()
		}
		switch {
		case mode == card.System && a.Card != nil:
			return end(plan.StageFinished)
		case begins >= loopsLimit:
			return end(plan.StageLoop)
		case (mode == card.Recovery || mode == card.Sideload) && time.Since(since) > settledLimit:
			return end(plan.StageRecovery)
		case (mode == card.Bootloader || mode == card.Fastbootd) && time.Since(since) > settledLimit:
			return end(plan.StageBootloader)
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

// glance looks at the phone once. A system that has finished starting is read, and
// so is what it ended in instead.
func (p *Phone) glance(ctx context.Context, obs Observer, a *Arrived) (card.Mode, error) {
	l, err := p.Connect(ctx, nil)
	var denied *adb.NotAuthorisedError
	if errors.As(err, &denied) {
		// It runs, and wants to be asked about this computer.
		if l, err = p.offerKey(ctx, obs, allowLimit); err != nil {
			return card.None, err
		}
	}
	if err != nil {
		if ctx.Err() != nil {
			return card.None, ctx.Err()
		}
		return card.None, nil
	}
	defer l.Close()
	if l.Mode == card.System {
		text, err := shell(ctx, l, "getprop sys.boot_completed")
		if err != nil || strings.TrimSpace(text) != "1" {
			return l.Mode, nil
		}
	}
	c, err := p.Read(ctx, l)
	if err != nil {
		return l.Mode, nil // it went away again
	}
	if l.Mode == card.Recovery && c.Value(card.FactRoot) == "yes" {
		if misc, err := readBlock(ctx, l, "misc", bcb.Size); err == nil && misc != nil {
			m, _ := bcb.ParseMessage(misc)
			for _, s := range m.Recovery {
				// What the system asks its recovery for when it gives up (rescue party, init).
				if reason, ok := strings.CutPrefix(s, "--reason="); ok || s == "--prompt_and_wipe_data" {
					learn(c, card.FactReason, reason+" ")
				}
			}
		}
	}
	a.Card = c
	return l.Mode, nil
}

// Before gives what is known of a phone that is about to start, without asking it:
// what jobs did to it.
func (b *Bench) Before(on string) (*Phone, *card.Card, error) {
	list, err := b.phones()
	if err != nil {
		return nil, nil, err
	}
	if on != "" {
		if isAddress(on) {
			p, err := b.byAddress(on)
			if err != nil {
				return nil, nil, err
			}
			list = []*Phone{p}
		} else {
			list = named(list, on)
		}
	}
	switch len(list) {
	case 0:
		return nil, nil, &NotHereError{Name: on, Text: "no phone of that name is listed"}
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
