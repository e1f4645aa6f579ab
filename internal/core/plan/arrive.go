package plan

import (
	"fmt"
	"slices"
	"strings"

	"jarlid/internal/core/card"
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

// Arrival is what became of a start.
type Arrival struct {
	Stage   Stage
	Matches string   // yes, no, unknown: whether what runs is what was installed
	Text    string   // what is so, in a sentence
	Advice  []string // what to do, the likeliest first
}

// MatchesBuild tells whether a running build is the one that was installed, by
// its fingerprint or name.
func MatchesBuild(installed, version, build string) string {
	if installed == "" || installed == Nothing || build == "" && version == "" {
		return "unknown"
	}
	for _, s := range []string{build, version} {
		if s != "" && (strings.Contains(installed, s) || strings.Contains(s, installed)) {
			return "yes"
		}
	}
	return "no"
}

// Judge says what became of a start. before is what was known when it began, after
// what the phone tells now; after's mode says where it stands.
func Judge(stage Stage, before, after *card.Card) Arrival {
	a := Arrival{Stage: stage, Matches: "unknown"}
	next := before.Value(card.FactNext)
	system := before.Value(card.FactHolds + Suffixed("system", next))
	switch stage {
	case StageFinished:
		slot := after.Value(card.FactStarted)
		a.Matches = MatchesBuild(before.Value(card.FactHolds+Suffixed("system", slot)), after.Value(card.FactVersion), after.Value(card.FactBuild))
		if next != "" && slot != "" && slot != next {
			a.Stage = StageOtherSlot
			a.Text = fmt.Sprintf("slot %s was to start, and slot %s came up: the bootloader gave slot %s up after its tries", next, slot, next)
			a.Advice = append([]string{fmt.Sprintf("the other slot still holds the old system, so the phone works; what was installed on slot %s does not start", next)}, loopAdvice(before)...)
			return a
		}
		if a.Matches == "no" {
			a.Text = "another system runs than the one that was installed"
			a.Advice = []string{"jarlid slot"}
		}
	case StageRecovery:
		a.Text = "the phone started its recovery instead of the system"
		if after.Value(card.FactData) == card.DataEncrypted || before.Value(card.FactData) == card.DataEncrypted || after.Value(card.FactReason) != "" {
			a.Text += ": the system could not read the data"
			a.Advice = []string{"jarlid wipe userdata"}
		} else {
			a.Advice = append([]string{"format the data, if that was not done: jarlid wipe userdata"}, loopAdvice(before)...)
		}
	case StageBootloader:
		a.Text = "the phone stands in its bootloader instead of the system"
		if yes, known := after.Yes(card.FactBootable + next); known && !yes {
			a.Text = fmt.Sprintf("the phone stands in its bootloader, which says that slot %s can't be started any more", next)
		}
		a.Advice = loopAdvice(before)
		if other := card.Other(next); other != "" {
			if h := before.Value(card.FactHolds + Suffixed("system", other)); h != "" && h != Nothing {
				a.Advice = append(a.Advice, fmt.Sprintf("slot %s still holds %s: jarlid slot use %s", other, ShortBuild(h), other))
			}
		}
	case StageLoop:
		a.Text = "the phone begins to start again and again"
		a.Advice = loopAdvice(before)
	case StageStarting:
		a.Text = "the system is still coming up"
		a.Advice = []string{"wait: a first start takes up to 15 minutes on old phones; then run the same command again"}
	case StageUnknown:
		a.Text = "the phone can't be seen from here, so nobody can tell"
		a.Advice = []string{"look at its screen; bring it into the bootloader, where jarlid slot tells which slot is good"}
	}
	if system != "" && stage != StageFinished {
		a.Text += "; what was to start is " + ShortBuild(system)
	}
	return a
}

// loopAdvice gives what usually keeps a new system from starting, the likeliest
// for this phone first.
func loopAdvice(c *card.Card) []string {
	var list []string
	if c.Value(card.FactTree+"system") == "enforced" || c.Value(card.FactTree+"vendor") == "enforced" {
		list = append(list, "the hash trees are enforced: jarlid vbmeta loosen hashtree")
	}
	list = append(list,
		"a generic system over the maker's overlays restarts for ever: in the recovery, jarlid shelve /vendor/overlay",
		"an add-on for another processor or release: install the ROM again without it",
		"a system that was changed while its hash tree is enforced: in the recovery, jarlid vbmeta loosen hashtree",
		"data of another system that was never formatted: jarlid wipe userdata")
	return slices.Compact(list)
}

// Shown is what a person may see on the screen of a phone that can't be seen from
// here, and what it means.
var Shown = []struct {
	Text  string
	Stage Stage
}{
	{"welcome pages, or the system's home screen", StageFinished},
	{"the maker's or the ROM's picture, and it moves or has been there for less than 15 minutes", StageStarting},
	{"the same picture again and again, or for more than 15 minutes", StageLoop},
	{"a recovery, or the question whether to erase all data", StageRecovery},
	{"the bootloader, or an error about a slot or about verification", StageBootloader},
	{"nothing of these", StageUnknown},
}
