package advice

import (
	"cmp"
	"fmt"

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

// Cause is what may keep a system from starting, and the command that mends it in a recovery with a root
// shell, as words; none where a person has to choose something.
type Cause struct {
	Text  string
	Words []string
}

// Arrival is the outcome of a start.
type Arrival struct {
	Stage   Stage
	Matches Match   // whether what runs is what was installed
	Text    string  // what is so, in a sentence
	Causes  []Cause // of a system that did not come up, the likeliest first
}

// Judge says the outcome of a start. before is what was known when it began, after
// what the phone reports now; after's mode says where it stands.
func Judge(stage Stage, before, after *card.Card) Arrival {
	a := Arrival{Stage: stage, Matches: MatchUnknown}
	next := before.Value(card.FactNext)
	if told, _ := before.Yes(card.FactToldStart); !told && (stage == StageBootloader ||
		stage == StageRecovery) {
		where := map[Stage]string{StageBootloader: "its bootloader", StageRecovery: "its recovery"}[stage]
		a.Text = "the phone stands in " + where + ", and no job told it to start its system"
		return a
	}
	system := before.Value(card.FactHolds.Of(card.At("system", next)))
	known := after.Clone()
	known.Merge(before)
	switch stage {
	case StageFinished:
		slot := after.Value(card.FactStarted)
		a.Matches = Match(place.MatchesBuild(place.PutSystem(before, slot),
			after.Value(card.FactVersion), after.Value(card.FactBuild)))
		if next != "" && slot != "" && slot != next {
			a.Stage = StageOtherSlot
			a.Text = fmt.Sprintf("slot %s was to start, and slot %s came up: the bootloader gave slot %s "+
				"up after its tries; what is on slot %s works, and what was installed on slot %s does not "+
				"start",
				next, slot, next, slot, next)
			a.Causes = Causes(known, next)
			return a
		}
		if a.Matches == MatchNo {
			a.Text = "another system runs than the one that was installed"
		}
		return a
	case StageRecovery:
		a.Text = "the phone started its recovery instead of the system"
	case StageBootloader:
		a.Text = "the phone stands in its bootloader instead of the system"
		if yes, told := after.Yes(card.FactBootable.Of(next)); next != "" && told && !yes {
			a.Text = fmt.Sprintf("the phone stands in its bootloader, which says that slot %s can't be "+
				"started any more", next)
		}
	case StageLoop:
		a.Text = "the phone begins to start again and again"
	case StageStarting:
		a.Text = "the system is still coming up; a first start takes up to 15 minutes on old phones"
		return a
	case StageUnknown:
		a.Text = "the phone can't be seen from here, so nobody can tell"
	}
	if system == card.Nothing {
		a.Text += ": an earlier job erased the system" + place.ByJob(before.Get(card.FactHolds.Of(card.At(
			"system", next))))
		return a
	}
	if system != "" {
		a.Text += "; what was to start is " + place.ShortBuild(system)
	}
	if stage != StageUnknown {
		a.Causes = Causes(known, cmp.Or(next, known.Running()))
	}
	return a
}

// Causes gives what may keep the system on a slot from starting, "" on a phone without slots: what the card
// shows first, then what is usual and can't be ruled out. What this phone does not have is not among it.
func Causes(c *card.Card, slot string) (list []Cause) {
	tree := func(base string) string { return c.Value(card.FactTree.Of(card.At(base, slot))) }
	treble, told := c.Yes(card.FactTreble)
	vbmeta := c.Value(card.FactSize.Of(card.At("vbmeta", slot))) != card.Nothing && !(told && !treble) &&
		tree("system") != "off" && tree("system") != "none"
	loosen := []string{"vbmeta", "loosen", "hashtree"}
	enforced := tree("system") == "enforced" || tree("vendor") == "enforced"
	if why := emptied(c, slot); why != "" {
		list = append(list, Cause{Text: why + ": install the system again, with all of its partitions"})
	}
	switch {
	case place.GaveUp(c) != "":
		list = append(list, gaveUp(c))
	case place.Foreign(c, slot) && c.Value(card.FactData) != card.DataFormatted:
		list = append(list, Cause{"the data is of another system" + place.ByJob(c.Get(card.FactForeign.Of(
			slot))), wipeFor(c)})
	}
	if path := overlay(c, slot); path != "" {
		list = append(list, Cause{"a generic system over the maker's overlays starts again and again",
			[]string{"shelve", path}})
	}
	if vbmeta && enforced {
		list = append(list, Cause{"the hash trees are enforced, which a changed system does not pass",
			loosen})
	}
	if addons := c.Value(card.FactAddons.Of(slot)); addons != "" {
		list = append(list, Cause{Text: "an add-on for another processor or release (" + addons +
			"): install the ROM again without it"})
	}
	if vbmeta && !enforced {
		list = append(list, Cause{Text: "a system that was changed while its hash tree is enforced; " +
			"jarlid vbmeta loosen hashtree turns that off in the recovery"})
	}
	if names := c.Value(card.FactOverlays); names == "" && (!told || treble) {
		list = append(list, Cause{Text: "a generic system over the maker's overlays; jarlid shelve " +
			"/vendor/overlay moves them aside in the recovery"})
	}
	if len(list) == 0 {
		list = append(list, Cause{Text: "what is there does not start; install it again from the recovery, " +
			"or another system"})
	}
	return list
}

// gaveUp is the cause where the system could not use the data.
func gaveUp(c *card.Card) Cause {
	return Cause{"the system could not use the data: it left " + place.GaveUp(c) +
		" in misc for the recovery", wipeFor(c)}
}

// wipeFor gives the least to erase for a system that can't use the data.
func wipeFor(c *card.Card) []string {
	if c.Value(card.FactData) == card.DataPlain {
		return []string{"wipe", "apps", "caches"}
	}
	return []string{"wipe", "userdata"}
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
