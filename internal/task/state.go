package task

import (
	"context"
	"fmt"
	"strings"
	"time"

	"jarlid/internal/act"
	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
	"jarlid/internal/engine"
	"jarlid/internal/files"
	"jarlid/internal/phone"
)

// noFiles is for tasks without any.
type noFiles struct{}

func (noFiles) Load(context.Context, *Env) error { return nil }

// notIn is the finding of a command that works in another mode; words are how to get there.
func notIn(in *engine.Input, what, where string, words ...string) error {
	return finding.Stopped(finding.NotInThisMode, phone.ModeName(in.Card.Mode()),
		fmt.Sprintf("%s works in %s, and the phone is in this mode: %s", what, where,
			phone.ModeName(in.Card.Mode())),
		"jarlid "+strings.Join(words, " "))
}

// inRecovery makes sure that the phone is in its recovery and can be seen there.
func inRecovery(in *engine.Input, command string) error {
	if in.Card.Mode() != card.Recovery {
		return notIn(in, command, "the phone's recovery", "go", "recovery")
	}
	return nil
}

// Go brings the phone into another mode.
type Go struct {
	noFiles `json:"-" yaml:"-"`
	Mode    card.Mode     `json:"mode" yaml:"mode"`
	Wait    time.Duration `json:"wait,omitempty" yaml:"wait,omitempty"` // how long to watch a starting system
}

// watched is how long a start is waited for at least where it is to be seen.
const watched = 2 * time.Second

// Gone is its outcome.
type Gone struct {
	Mode    card.Mode `json:"mode"`
	Slot    *string   `json:"slot"`
	Seen    bool      `json:"seen"`
	Said    bool      `json:"said"` // a person says that it came up, which can't be seen
	Version *string   `json:"version,omitempty"`
	Build   *string   `json:"build,omitempty"`

	Unwatched bool `json:"-"` // its start was hardly waited for, as wished
	Barred    bool `json:"-"` // its system is there, and this computer is kept from it
	Commanded bool `json:"-"` // the phone took the restart; else it was to be done by hand
}

// Name implements Work.
func (*Go) Name() string { return "go" }

// Configure lets a person bring the phone there.
func (t *Go) Configure(o *engine.Options) { o.ByHand, o.Wait = true, t.Wait }

// Prepare makes the restart.
func (t *Go) Prepare(*engine.Input) (*engine.Draft, error) {
	return &engine.Draft{Steps: []plan.Step{&plan.Restart{To: t.Mode}}}, nil
}

// Result is its outcome.
func (t *Go) Result(j *engine.Job) Gone {
	g := Gone{Mode: t.Mode, Slot: Known(j.Card, card.FactStarted), Seen: j.Connected(),
		Said:      j.Out.Restarted == act.SaidSo,
		Barred:    j.Out.Barred,
		Commanded: !j.Out.ByHand,
		Unwatched: t.Wait > 0 && t.Wait < watched}
	if t.Mode == card.System && g.Seen {
		g.Version, g.Build = Known(j.Card, card.FactVersion), Known(j.Card, card.FactBuild)
	}
	return g
}

// SlotUse chooses the slot that starts next.
type SlotUse struct {
	noFiles `json:"-" yaml:"-"`
	Slot    string `json:"slot" yaml:"slot"` // a, b or other

	slot string
}

// SlotUsed is its outcome.
type SlotUsed struct {
	Next string `json:"slot_next"`
}

// Name implements Work.
func (*SlotUse) Name() string { return "slot use" }

// Prepare makes the step.
func (t *SlotUse) Prepare(in *engine.Input) (*engine.Draft, error) {
	slots, err := place.Target{Slot: t.Slot}.SlotsOf(in.Card)
	if err != nil {
		return nil, err
	}
	if len(slots) != 1 || slots[0] == "" {
		return nil, finding.Stopped(finding.NoSuchSlot, t.Slot,
			fmt.Sprintf("%q does not mean one slot of this phone", t.Slot), "name one: a, b or other")
	}
	t.slot = slots[0]
	return &engine.Draft{Steps: []plan.Step{&plan.Activate{Slot: t.slot}}}, nil
}

// Result is its outcome.
func (t *SlotUse) Result(*engine.Job) SlotUsed { return SlotUsed{t.slot} }

// SlotCopy mirrors partitions to the other slot, on the phone itself.
type SlotCopy struct {
	Partitions []string `json:"partitions,omitempty" yaml:"partitions,omitempty"`
	From       string   `json:"from,omitempty" yaml:"from,omitempty"` // a or b; "": the one that runs
}

// Name implements Work.
func (*SlotCopy) Name() string { return "slot copy" }

// Load makes sure that the slot is one.
func (t *SlotCopy) Load(context.Context, *Env) error {
	if t.From != "" && t.From != "a" && t.From != "b" {
		return Usage("--from is a or b, not %q", t.From)
	}
	return nil
}

// Prepare makes a step a partition.
func (t *SlotCopy) Prepare(in *engine.Input) (*engine.Draft, error) {
	if err := inRecovery(in, t.Name()); err != nil {
		return nil, err
	}
	if slots, known := in.Card.Slots(); known && len(slots) < 2 {
		return nil, finding.Stopped(finding.NoSuchSlot, in.Phone, in.Phone+
			" has one of everything: there is no other slot", "nothing has to be copied")
	}
	from, names := t.From, t.Partitions
	if from == "" {
		from = in.Card.Value(card.FactStarted)
	}
	if len(names) == 0 && in.Model != nil {
		names = in.Model.Firmware
	}
	if len(names) == 0 || from == "" {
		return nil, finding.Stopped(finding.NameTheSlot, in.Phone,
			"no model file lists this phone's firmware, or the slot that runs is not known",
			"name the partitions to copy, and the slot with --from")
	}
	d := &engine.Draft{}
	for _, n := range names {
		d.Steps = append(d.Steps, &plan.CopySlot{Partition: n, From: from})
	}
	return d, nil
}

// Result is its outcome.
func (t *SlotCopy) Result(j *engine.Job) Written { return written(j) }

// Unlock opens the bootloader.
type Unlock struct {
	noFiles `json:"-" yaml:"-"`
	Code    string `json:"-" yaml:"-"` // what some manufacturers give out; never kept
}

// Locking is its outcome.
type Locking struct {
	Unlocked bool `json:"unlocked"`
}

// Name implements Work.
func (*Unlock) Name() string { return "unlock" }

// Configure hands the code over.
func (t *Unlock) Configure(o *engine.Options) { o.Code = t.Code }

// UnlockView is what has to be done before, shown first.
type UnlockView struct{ Before []string }

// Prepare makes the step.
func (t *Unlock) Prepare(in *engine.Input) (*engine.Draft, error) {
	if is(in.Card, "yes") {
		return &engine.Draft{Nothing: "the bootloader is open already; nothing was changed"}, nil
	}
	d := &engine.Draft{Steps: []plan.Step{&plan.Unlock{Ask: in.Model.Questions()}}}
	if m := in.Model; m != nil {
		d.View = UnlockView{m.Bootloader.Before}
		if m.Bootloader.Code != "" && t.Code == "" {
			return nil, finding.Stopped(finding.CodeNeeded, in.Phone, "this bootloader wants a code: "+
				m.Bootloader.Code, "give it with --code CODE")
		}
	}
	return d, nil
}

// is reports whether the phone says just now that its lock is as named.
func is(c *card.Card, unlocked string) bool {
	f := c.Get(card.FactUnlocked)
	return f.Source == card.Read && f.Value == unlocked
}

// Result is its outcome.
func (t *Unlock) Result(*engine.Job) Locking { return Locking{true} }

// Relock locks the bootloader again.
type Relock struct {
	// the manufacturer's firmware set that is on the phone
	Images string `json:"images,omitempty" yaml:"images,omitempty"`

	step plan.Relock
}

// Name implements Work.
func (*Relock) Name() string { return "relock" }

// Load verifies the set's chain and makes the digests of its images.
func (t *Relock) Load(ctx context.Context, e *Env) error {
	if t.Images == "" {
		return nil
	}
	set, err := e.set(ctx, t.Images)
	if err != nil {
		return err
	}
	verdict, err := set.verify(ctx)
	if err != nil {
		return err
	}
	t.step.Key, t.step.Why, t.step.Images = verdict.LockedIfTrusts, verdict.LockedWhy, map[string]string{}
	if t.step.Key != "" {
		e.Obs().Say("good", "the set verifies, signed with the key %s", t.step.Key)
	}
	for part, path := range set.paths {
		sum, _, err := files.DigestOf(ctx, path)
		if err != nil {
			return err
		}
		t.step.Images[part] = sum
	}
	return nil
}

// Prepare makes the step.
func (t *Relock) Prepare(in *engine.Input) (*engine.Draft, error) {
	if is(in.Card, "no") {
		return &engine.Draft{Nothing: "the bootloader is locked already; nothing was changed"}, nil
	}
	return &engine.Draft{Steps: []plan.Step{&t.step}}, nil
}

// Result is its outcome.
func (t *Relock) Result(*engine.Job) Locking { return Locking{false} }
