package advice

import (
	"fmt"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/place"
)

// Stage is how far a start came.
type Stage string

// The stages.
const (
	StageFinished   Stage = "finished"   // the system is up
	StageStarting   Stage = "starting"   // it is coming up
	StageLoop       Stage = "loop"       // it begins again and again
	StageRecovery   Stage = "recovery"   // it gave up and started the recovery
	StageBootloader Stage = "bootloader" // the bootloader gave the slot up
	StageOtherSlot  Stage = "other-slot" // the other slot's system came up
	StageUnknown    Stage = "unknown"    // nobody can tell
)

// Match reports whether what runs is what was installed.
type Match string

// The answers.
const (
	MatchYes     Match = "yes"
	MatchNo      Match = "no"
	MatchUnknown Match = "unknown"
)

// Advice is one thing to do: a command and its arguments, or a sentence with, behind it, the
// command that belongs to it.
type Advice struct {
	Text  string   `json:"text,omitempty"`
	Words []string `json:"command,omitempty"`
}

// Arrival is the outcome of a start.
type Arrival struct {
	Stage   Stage
	Matches Match    // whether what runs is what was installed
	Text    string   // what is so, in a sentence
	Advice  []Advice // what to do, the likeliest first
}

// Judge says the outcome of a start. before is what was known when it began, after
// what the phone reports now; after's mode says where it stands.
func Judge(stage Stage, before, after *card.Card) Arrival {
	a := Arrival{Stage: stage, Matches: MatchUnknown}
	next := before.Value(card.FactNext)
	if told, _ := before.Yes(card.FactToldStart); !told && (stage == StageBootloader ||
		stage == StageRecovery) {
		where := map[Stage]string{StageBootloader: "its bootloader", StageRecovery: "its recovery"}[stage]
		a.Text, a.Advice = "the phone stands in "+where+", and no job told it to start its system",
			[]Advice{{Words: []string{"go", "system"}}}
		return a
	}
	system := before.Value(card.FactHolds.Of(card.At("system", next)))
	switch stage {
	case StageFinished:
		slot := after.Value(card.FactStarted)
		a.Matches = Match(place.MatchesBuild(before.Value(card.FactHolds.Of(card.At("system", slot))),
			after.Value(card.FactVersion), after.Value(card.FactBuild)))
		if next != "" && slot != "" && slot != next {
			a.Stage = StageOtherSlot
			a.Text = fmt.Sprintf("slot %s was to start, and slot %s came up: the bootloader gave slot %s "+
				"up after its tries", next, slot, next)
			a.Advice = append([]Advice{
				{Text: fmt.Sprintf("the other slot still holds the old system, so the phone works; what "+
					"was installed on slot %s does not start", next)}}, loopAdvice(before)...)
			return a
		}
		if a.Matches == MatchNo {
			a.Text = "another system runs than the one that was installed"
			a.Advice = []Advice{{Words: []string{"slot"}}}
		}
	case StageRecovery:
		a.Text = "the phone started its recovery instead of the system"
		if after.Value(card.FactData) == card.DataEncrypted ||
			before.Value(card.FactData) == card.DataEncrypted || after.Value(card.FactReason) != "" {
			a.Text += ": the system could not read the data"
			a.Advice = []Advice{{Words: []string{"wipe", "userdata"}}}
		} else {
			a.Advice = append([]Advice{{Text: "format the data, if that was not done",
				Words: []string{"wipe", "userdata"}}}, loopAdvice(before)...)
		}
	case StageBootloader:
		a.inBootloader(before, after, next)
	case StageLoop:
		a.Text = "the phone begins to start again and again"
		a.Advice = loopAdvice(before)
	case StageStarting:
		a.Text = "the system is still coming up"
		a.Advice = []Advice{
			{Text: "wait: a first start takes up to 15 minutes on old phones; then run the same " +
				"command again"}}
	case StageUnknown:
		a.Text = "the phone can't be seen from here, so nobody can tell"
		a.Advice = []Advice{
			{Text: "look at its screen; bring it into the bootloader, where this tells what it is",
				Words: []string{"card"}}}
		if slots, _ := before.Slots(); len(slots) > 1 {
			a.Advice = []Advice{
				{Text: "look at its screen; bring it into the bootloader, where this tells which slot " +
					"is good", Words: []string{"slot"}}}
		}
	}
	if system != "" && stage != StageFinished {
		a.Text += "; what was to start is " + place.ShortBuild(system)
	}
	return a
}

// inBootloader describes a phone in its bootloader whose slot next should have booted.
func (a *Arrival) inBootloader(before, after *card.Card, next string) {
	a.Text = "the phone stands in its bootloader instead of the system"
	if next == "" {
		a.Advice = loopAdvice(before)
		return
	}
	if yes, known := after.Yes(card.FactBootable.Of(next)); known && !yes {
		a.Text = fmt.Sprintf("the phone stands in its bootloader, which says that slot %s can't be "+
			"started any more", next)
	}
	a.Advice = loopAdvice(before)
	if other := card.Other(next); other != "" {
		if h := before.Value(card.FactHolds.Of(card.At("system", other))); h != "" && h != card.Nothing {
			a.Advice = append(a.Advice,
				Advice{Text: fmt.Sprintf("slot %s still holds %s", other, place.ShortBuild(h)),
					Words: []string{"slot", "use", other}})
		}
	}
}

// loopAdvice gives what usually keeps a new system from starting, the likeliest for this phone
// first, and nothing that this phone does not have.
func loopAdvice(c *card.Card) []Advice {
	slot := c.Running()
	tree := func(base string) string { return c.Value(card.FactTree.Of(card.At(base, slot))) }
	treble, told := c.Yes(card.FactTreble)
	vbmeta := c.Value(card.FactSize.Of(card.At("vbmeta", slot))) != card.Nothing && !(told && !treble) &&
		tree("system") != "off" && tree("system") != "none"
	loosen := []string{"vbmeta", "loosen", "hashtree"}
	enforced := tree("system") == "enforced" || tree("vendor") == "enforced"
	var list []Advice
	if vbmeta && enforced {
		list = append(list, Advice{Text: "the hash trees are enforced", Words: loosen})
	}
	if overlays := c.Value(card.FactOverlays); overlays != "none" && (!told || treble) {
		path := "/vendor/overlay"
		if overlays != "" {
			first, _, _ := strings.Cut(overlays, ",")
			path += "/" + first
		}
		list = append(list, Advice{Text: "a generic system over the maker's overlays restarts for ever; in " +
			"the recovery", Words: []string{"shelve", path}})
	}
	if addons := c.Value(card.FactAddons.Of(slot)); addons != "" {
		list = append(list, Advice{Text: "an add-on for another processor or release (" + addons +
			"): install the ROM again without it"})
	}
	if vbmeta && !enforced {
		list = append(list, Advice{Text: "a system that was changed while its hash tree is enforced; in " +
			"the recovery", Words: loosen})
	}
	if c.Value(card.FactData) != card.DataFormatted || place.Foreign(c, slot) {
		list = append(list, Advice{Text: "data of another system that was never formatted",
			Words: []string{"wipe", "userdata"}})
	}
	if len(list) == 0 {
		list = append(list, Advice{Text: "what is there does not start; install it again from the " +
			"recovery, or another", Words: []string{"go", "recovery"}})
	}
	return list
}

// Shown is what a person may see on the screen of a phone that can't be seen from
// here, and what it means.
var Shown = []struct {
	Text  string
	Stage Stage
}{
	{"welcome pages, or the system's home screen", StageFinished},
	{"the maker's or the ROM's picture, and it moves or has been there for less than 15 minutes",
		StageStarting},
	{"the picture goes out and starts over again and again, or the same one for more than 15 minutes",
		StageLoop},
	{"a recovery, or the question whether to erase all data", StageRecovery},
	{"the bootloader, or an error about a slot or about verification", StageBootloader},
	{"nothing of these", StageUnknown},
}
