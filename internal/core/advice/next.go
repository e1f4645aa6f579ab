package advice

import (
	"fmt"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/image/bcb"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

// Suggestion is the likely next command, and why.
type Suggestion struct {
	Words []string // the command and its arguments; in capitals what a person fills in
	Why   string
}

// Suggest works out from the facts what a technician would do next.
func Suggest(c *card.Card, m *model.Model) Suggestion {
	switch c.Mode() {
	case card.Bootloader:
		return inBootloader(c)
	case card.Loader:
		if unlocked, known := c.Yes(card.FactUnlocked); known && !unlocked {
			return Suggestion{[]string{"go", "system"},
				"its maker's loader is locked and takes only what its maker signed"}
		}
		if place.RecoverySet(c) && m.RestoresRecovery() {
			return Suggestion{[]string{"go", "recovery"},
				"the recovery is set, and the maker's system would write its own back"}
		}
		return inBootloader(c)
	case card.Fastbootd:
		return Suggestion{[]string{"go", "bootloader"}, "userspace fastboot is running"}
	case card.Recovery:
		return inRecovery(c)
	case card.Sideload:
		return Suggestion{[]string{"sideload", "PACKAGE"}, "the phone is waiting for a package"}
	case card.System:
		if up, known := c.Yes(card.FactBooted); known && !up {
			return Suggestion{[]string{"arrive"}, "the system is starting"}
		}
		return Suggestion{[]string{"go", string(place.ImageMode(c, m))}, "the system is running"}
	case card.None:
		if told, _ := c.Yes(card.FactToldStart); told {
			return Suggestion{[]string{"arrive"}, "its system was started, and has not been seen since"}
		}
		return Suggestion{[]string{"go", string(place.ImageMode(c, m))},
			"it is off, still starting, or runs what can't be seen from here, such as a system with " +
				"debugging off; its keys lead out of that"}
	}
	return Suggestion{}
}

func inBootloader(c *card.Card) Suggestion {
	next := c.Value(card.FactNext)
	if unlocked, known := c.Yes(card.FactUnlocked); known && !unlocked {
		return Suggestion{[]string{"unlock"}, "the bootloader is locked"}
	}
	if used := place.UsedUp(c); len(used) > 0 {
		if s := ready(c, used); s != "" {
			return Suggestion{[]string{"slot", "use", s},
				fmt.Sprintf("no slot can start, and slot %s was written since: choosing it gives it its "+
					"tries back", s)}
		}
		if place.Logical(c, "system") {
			return Suggestion{[]string{"slot", "use", used[0]}, "no slot can start: both used up their " +
				"tries; choosing one gives them back, and only then a recovery or userspace fastboot starts"}
		}
		return Suggestion{[]string{"flash", "SET", "--into", "@" + used[0]},
			"no slot can start: both used up their tries; write a set to one, then choose it with jarlid " +
				"slot use, which gives its tries back"}
	}
	if s, ok := unmerged(c, next); ok && emptied(c, next) == "" {
		return s
	}
	if place.OverForeign(c) {
		return Suggestion{[]string{"wipe", "userdata"},
			"the data was encrypted by another system than the one that starts next"}
	}
	other := card.Other(next)
	if why := emptied(c, next); why != "" {
		if holdsSystem(c, other) && c.Value(card.FactFailed.Of(other)) == "" {
			return Suggestion{[]string{"slot", "use", other}, why + "; slot " + other + " still holds " +
				place.ShortBuild(c.Value(card.FactHolds.Of(card.At("system", other))))}
		}
		return again(c, why)
	}
	if how := c.Value(card.FactFailed.Of(next)); how != "" {
		why := "what is to start did not come up the last time (" + failedWords(how) + ")"
		switch {
		case overlay(c, next) != "":
			return Suggestion{[]string{"go", "recovery"},
				why + "; there the maker's overlay is moved aside: jarlid shelve " + overlay(c, next)}
		case other != "" && holdsSystem(c, other) && c.Value(card.FactFailed.Of(other)) == "":
			return Suggestion{[]string{"slot", "use", other}, why + "; slot " + other + " still holds " +
				place.ShortBuild(c.Value(card.FactHolds.Of(card.At("system", other))))}
		}
		return again(c, why)
	}
	if put, _ := c.Yes(card.FactPut.Of(next)); put && !seen(c, next) {
		if told, _ := c.Yes(card.FactToldStart); told {
			return again(c, "a system was written"+onSlot(next)+", was started and has not been seen since")
		}
		if overlay(c, next) != "" {
			return Suggestion{[]string{"go", "recovery"},
				"generic systems are known to restart over the maker's overlays; there they are moved " +
					"aside: jarlid shelve " + overlay(c, next)}
		}
		return Suggestion{[]string{"go", "system"}, "a system was written" + onSlot(next) +
			" and has not been seen running yet"}
	}
	if !place.RecoverySet(c) {
		return Suggestion{[]string{"recovery", "install", "FILE"},
			"no recovery has been set on this phone yet, as far as the journal knows"}
	}
	return Suggestion{[]string{"go", "recovery"}, "the recovery is set"}
}

// emptied says what the system on a slot lacks since a job erased it; "" for nothing that is known.
func emptied(c *card.Card, slot string) string {
	p, holds, ok := place.Emptied(c, slot)
	if !ok {
		return ""
	}
	return p.String() + " was erased and not written since" + place.ByJob(holds)
}

// again leads into a recovery, where a system that did not come up is mended or installed again.
func again(c *card.Card, why string) Suggestion {
	if !place.RecoverySet(c) {
		return Suggestion{[]string{"recovery", "install", "FILE"}, why +
			"; a recovery is needed to mend it " +
			"or to install it again, and no job has set one on this phone"}
	}
	return Suggestion{[]string{"go", "recovery"}, why + "; there it is mended or installed again"}
}

// unmerged is what comes next while an update waits for its merge: no job before the system has started, or
// the way out where it can't start.
func unmerged(c *card.Card, next string) (s Suggestion, ok bool) {
	state, ok := place.Unmerged(c)
	failed := c.Value(card.FactFailed.Of(next)) != ""
	other := card.Other(next)
	allowed := func(name string, words ...string) []string { return append(words, "--accept", name) }
	switch {
	case !ok:
		return s, false
	case !place.OverForeign(c) && place.GaveUp(c) == "" && !failed:
		return Suggestion{[]string{"go", "system"}, "an update is installed and not merged yet (" + state +
			"); the system that starts does that"}, true
	case c.Mode() == card.Bootloader && state == bcb.MergeSnapshotted && other != "" &&
		!place.Foreign(c, other) && holdsSystem(c, other) && c.Value(card.FactFailed.Of(other)) == "":
		return Suggestion{allowed(finding.MergePending, "slot", "use", other), "the update on slot " + next +
			" can't start over this data; slot " + other + " holds the system from before, and starting " +
			"it cancels the update"}, true
	case place.OverForeign(c) || place.GaveUp(c) != "":
		return Suggestion{allowed(finding.FormatAfterInstall, "wipe", "userdata"), "the installed update " +
			"can't use the data of another system, and is partly in it: format the data, then install it " +
			"again"}, true
	}
	return s, false
}

func inRecovery(c *card.Card) Suggestion {
	started, next := c.Value(card.FactStarted), c.Value(card.FactNext)
	tried, _ := c.Yes(card.FactTemporary)
	root, _ := c.Yes(card.FactRoot)
	put, _ := c.Yes(card.FactPut.Of(started))
	merge, waits := unmerged(c, next)
	switch {
	case waits && emptied(c, next) == "" && (c.Landing() == "" || place.OverForeign(c)):
		return merge
	case c.Landing() != "" && emptied(c, next) != "":
		return Suggestion{[]string{"slot", "use", started}, "slot " + next + " is active, and " +
			emptied(c, next) + "; choose slot " + started + ", whose recovery can install again"}
	case c.Landing() != "":
		return Suggestion{[]string{"go", "recovery"}, "something was installed to slot " + next +
			", and the phone still runs on slot " + started}
	case tried:
		return Suggestion{[]string{"recovery", "install", "FILE"},
			"the recovery that runs was started without being written: a restart ends it"}
	case emptied(c, started) != "":
		return Suggestion{[]string{"sideload", "PACKAGE"}, emptied(c, started)}
	case place.OverForeign(c):
		return Suggestion{[]string{"wipe", "userdata"},
			"the data was encrypted by another system than the one that starts next"}
	case place.GaveUp(c) != "":
		why := gaveUp(c)
		return Suggestion{why.Words, why.Text}
	case place.LeftInMisc(c) != "":
		return Suggestion{[]string{"go", "system"}, "the data that the system could not use is formatted"}
	case (put || c.Value(card.FactFailed.Of(started)) != "") && root && overlay(c, started) != "":
		return Suggestion{[]string{"shelve", overlay(c, started)},
			"generic systems are known to restart over the maker's overlays"}
	case c.Value(card.FactFailed.Of(started)) != "":
		why := "what is there did not come up the last time (" +
			failedWords(c.Value(card.FactFailed.Of(started))) + ")"
		if list := c.Value(card.FactAddons.Of(started)); list != "" {
			why += "; install the ROM again without its add-ons (" + list + ")"
		}
		return Suggestion{[]string{"sideload", "PACKAGE"}, why}
	case put && !seen(c, started):
		return Suggestion{[]string{"go", "system"}, "the system" + onSlot(started) +
			" was installed and has not been seen running yet"}
	case c.Value(card.FactData) == card.DataEncrypted:
		return Suggestion{[]string{"sideload", "PACKAGE"}, "the recovery is ready; the data is encrypted " +
			"by the system that is on the phone, and an update of that can use it"}
	}
	return Suggestion{[]string{"sideload", "PACKAGE"}, "the recovery is ready"}
}

func onSlot(slot string) string {
	if slot == "" {
		return ""
	}
	return " on slot " + slot
}

// seen reports whether the system on a slot was seen running since it was written.
func seen(c *card.Card, slot string) bool {
	yes, _ := c.Yes(card.FactCameUp.Of(slot))
	return yes
}

// failedWords says how a start ended.
func failedWords(stage string) string {
	switch Stage(stage) {
	case StageLoop:
		return "it began again and again"
	case StageRecovery:
		return "its recovery came up instead"
	case StageBootloader:
		return "the bootloader gave it up"
	case StageOtherSlot:
		return "the other slot came up instead"
	}
	return stage
}

// ready gives a slot that holds a system which was written since it failed; "" for none.
func ready(c *card.Card, slots []string) string {
	for _, s := range slots {
		if put, _ := c.Yes(card.FactPut.Of(s)); put && emptied(c, s) == "" && !seen(c, s) &&
			c.Value(card.FactFailed.Of(s)) == "" {
			return s
		}
	}
	return ""
}

func holdsSystem(c *card.Card, slot string) bool {
	v := c.Value(card.FactHolds.Of(card.At("system", slot)))
	bootable, known := c.Yes(card.FactBootable.Of(slot))
	return v != "" && v != card.Nothing && emptied(c, slot) == "" && (bootable || !known)
}

// overlay gives the path of a manufacturer's overlay that a generic system on a slot is under and
// that was not moved aside; "" for none that is known.
func overlay(c *card.Card, slot string) string {
	names := c.Value(card.FactOverlays)
	if generic, _ := c.Yes(card.FactGeneric.Of(slot)); !generic || names == "" || names == "none" {
		return ""
	}
	aside := strings.Split(c.Value(card.FactShelved.Of(card.At("vendor", slot))), ", ")
	for n := range strings.SplitSeq(names, ",") {
		path := "/vendor/overlay/" + strings.TrimSpace(n)
		if !slices.Contains(aside, path) && !slices.Contains(aside, "/vendor/overlay") {
			return path
		}
	}
	return ""
}
