package advice

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/place"
)

// stock plans the way back to the firmware the manufacturer made.
func (e *evening) stock() {
	e.Title = "Back to what the maker sold"
	if e.set == nil {
		e.Open = append(e.Open, "which firmware set of the maker goes onto this phone? None of the "+
			"files is one")
		return
	}
	e.keepStorage()
	parts := map[string]bool{}
	var risky []string
	for _, mem := range e.set.File.Members {
		for _, d := range mem.GoesTo {
			parts[d.Partition] = true
		}
		base := card.Part(strings.TrimSuffix(path.Base(mem.Name), path.Ext(mem.Name))).Base
		parts[base] = true
		if (ident.Risky(base) || e.m != nil && slices.Contains(e.m.Risky, base)) &&
			!slices.Contains(risky, base) {
			risky = append(risky, base)
		}
	}
	e.wipe("the maker's system can't read the data of another one")
	t := e.add("flash", "all of it is looked at first; the order is that of the set, or of the model file",
		list("files", []string{e.set.Name}))
	for _, r := range risky {
		t.Accept = append(t.Accept, Allowed{finding.RiskyPartition + "=" + r,
			"it is the maker's own, and belongs to this set"})
	}
	if e.home.Partition != "" && !parts[e.home.Partition] && len(parts) > 0 {
		e.Open = append(e.Open,
			fmt.Sprintf("the set has no image of %s, where this phone keeps its recovery: where is the "+
				"maker's recovery?", e.home.Partition))
	}
	e.start(false)
	if mode := place.ImageMode(e.c, e.m); mode == card.Loader {
		e.Left = append(e.Left, "the phone stays unlocked: its loader takes no command that locks it")
	} else if e.set.Signed {
		e.add("go", "locking is done in the bootloader", opt("mode", string(mode)))
		t := e.add("relock", "the set's whole chain verifies, so a locked phone that trusts its key starts "+
			"it; each image is held against what was written", opt("images", e.set.Name))
		t.Note = "it erases all data once more; leave this task out to keep the phone unlocked"
		e.Hands = append(e.Hands,
			Hands{"the owner", "the question on the screen before the bootloader is locked"})
		e.start(false)
	} else {
		e.Left = append(e.Left, "the phone stays unlocked: "+
			cmp.Or(e.set.Why, "nobody can tell whether it would start locked"))
	}
}
