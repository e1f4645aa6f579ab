package advice

import (
	"slices"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
)

// replaces reports whether the ROM writes the partition this phone keeps its recovery in.
func (e *evening) replaces() bool {
	if e.rom.File.Kind == ident.OTAAB {
		return e.home.Form != "own" && e.slots > 1
	}
	return slices.ContainsFunc((&plan.Sideload{File: e.rom.File}).Writes(e.c), func(p card.Partition) bool {
		return p.Base == e.home.Partition
	})
}

// packages sends the ROM, sets the recovery again where the ROM replaces it, and sends what goes
// on top, on the slot where the ROM landed.
func (e *evening) packages(addons []*Given) {
	addons = plan.InOrder(addons, func(g *Given) *ident.File { return g.File })
	again := e.recovery != nil && e.slots > 0 && e.rom != nil && e.replaces() && !e.quiet
	switch {
	case e.rom == nil && len(addons) == 0:
		return
	case e.rom == nil:
		e.add("sideload", "in their order, onto the system that is there", list("packages", short(addons)))
	case again && len(e.before)+len(e.m.NeededBefore()) > 0:
		why := "the ROM brings its own boot image, with its own recovery"
		if e.slots > 1 {
			why = "the ROM goes to the slot that is not running, and brings its own boot image, with its " +
				"own recovery"
		}
		e.add("sideload", why, list("packages", []string{e.rom.Name}), opt("then", "stay"))
		e.add("go", "what the recovery is built for came with the ROM in the maker's form",
			opt("mode", string(place.ImageMode(e.c, e.m))))
		for _, f := range e.before {
			options := []Opt{opt("files", f.Name)}
			if e.slots > 1 {
				options = append(options, opt("into", "@booted"))
			}
			e.add("flash", "again, for the system the ROM installed", options...)
		}
		into := e.home.Partition
		if e.slots > 1 {
			into += "@booted"
		}
		e.add("recovery install", "into the boot image the ROM brought, so that its kernel stays",
			opt("file", e.recovery.Name), opt("boot", e.rom.Name), opt("into", into))
		e.add("go", "onto the new slot, so that what comes next lands there",
			opt("mode", string(card.Recovery)))
		if len(addons) > 0 {
			e.add("sideload", "behind the ROM, on the slot where it landed", list("packages", short(addons)))
		}
	case again:
		e.add("sideload", "the ROM brings a recovery of its own, so this one is written again behind it; "+
			"add-ons land on the new slot", list("packages", append([]string{e.rom.Name}, short(addons)...)),
			opt("recovery-after", e.recovery.Name))
	default:
		why := "the ROM first"
		if len(addons) > 0 {
			why += ", what goes on top behind it"
			if e.slots > 1 {
				why += ", with a restart onto the new slot in between"
			}
		}
		e.add("sideload", why, list("packages", append([]string{e.rom.Name}, short(addons)...)))
	}
	if e.quiet || e.m != nil && e.byKeys(card.Sideload) {
		e.Hands = append(e.Hands,
			Hands{"somebody at the phone", "the recovery's menu: this one takes no commands"})
	}
}
