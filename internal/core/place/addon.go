package place

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/local"
)

// Addon holds an add-on against the phone and the system it is for.
func Addon(f *ident.File, c *card.Card) []finding.Finding {
	name := FileName(f.Path)
	var list []finding.Finding
	if next := c.Landing(); next != "" {
		started := c.Value(card.FactStarted)
		list = append(list, finding.Stops(finding.SlotNotStarted, name,
			fmt.Sprintf("slot %s starts next and the recovery runs on slot %s; the add-on would go "+
				"to slot %s%s", next, started, started, ByJob(c.Get(card.FactNext), c.Get(card.FactStarted))),
			"jarlid go recovery"))
	}
	system := card.At("system", c.Running())
	if h := c.Get(card.FactHolds.Of(system)); h.Value == card.Nothing {
		list = append(list, finding.Stops(finding.NoSystem, name,
			fmt.Sprintf("%s was erased and holds nothing that %s could be added to%s", system,
				name, ByJob(h)), "install the ROM first: jarlid sideload ROM "+local.Quote(f.Path)))
	}
	if c.Value(card.FactTree.Of(system)) == "enforced" {
		list = append(list, finding.Stops(finding.VerityRejects, name,
			fmt.Sprintf("the hash tree of %s is enforced at each start, and an add-on changes it: "+
				"the slot would not start any more", system),
			"switch the hash trees off first: jarlid vbmeta loosen hashtree"))
	}
	list = append(list, Arch(f, c)...)
	list = append(list, roomFinding(f, c)...)
	for _, d := range f.Demands {
		fact, ok := releaseFact(c, d.Property)
		if !ok {
			continue
		}
		have := c.Value(fact)
		switch {
		case have == "":
			list = append(list, finding.Warns(finding.WrongSystem, name,
				fmt.Sprintf("%s wants %s %s, and nobody can tell in this mode what the system is", name,
					d.Property, strings.Join(d.Values, " or ")), ""))
		case !slices.Contains(d.Values, have):
			list = append(list, finding.Stops(finding.WrongSystem, name,
				fmt.Sprintf("%s wants %s %s, the system is %s", name, d.Property,
					strings.Join(d.Values, " or "), have), "fetch the variant for release "+
					cmp.Or(c.Value(card.FactRelease.Of(c.Running())),
						have)))
		}
	}
	return list
}

// roomFinding: what an add-on puts into the system has to fit what is free there.
func roomFinding(f *ident.File, c *card.Card) []finding.Finding {
	if f.Adds == 0 {
		return nil
	}
	fact := c.Get(card.FactRoom.Of(card.At("system", c.Value(card.FactStarted))))
	free, known := c.Number(card.FactRoom.Of(card.At("system", c.Value(card.FactStarted))))
	x := finding.Finding{Name: finding.NoRoom, Severity: finding.Note, About: FileName(f.Path)}
	switch {
	case !known && fact.Why == "":
		return nil // no mode but a recovery with a shell ever tells it
	case !known:
		x.Text = fmt.Sprintf("%s puts %s into the system, and how much room that will have nobody can tell "+
			"yet: %s", x.About, image.Size(f.Adds), fact.Why)
	case free < f.Adds:
		x.Severity, x.Remedy = finding.Stop, "fetch a smaller variant of the add-on"
		x.Text = fmt.Sprintf("%s puts %s into the system, which has %s free", x.About, image.Size(f.Adds),
			image.Size(free))
	default:
		return nil
	}
	return []finding.Finding{x}
}

// Arch compares the processors of the libraries inside with the phone's.
func Arch(f *ident.File, c *card.Card) []finding.Finding {
	if len(f.ABIs) == 0 {
		return nil
	}
	have := c.Value(card.FactCPUs)
	if have == "" {
		have = c.Value(card.FactCPU)
	}
	x := finding.Finding{Name: finding.WrongArch, Severity: finding.Stop, About: FileName(f.Path),
		Remedy: "fetch the variant for the phone's processor"}
	for abi := range strings.SplitSeq(have, ",") {
		if slices.Contains(f.ABIs, strings.TrimSpace(abi)) {
			return nil
		}
	}
	x.Text = fmt.Sprintf("%s holds programs for %s, the phone's processor is %s", x.About,
		strings.Join(f.ABIs, ", "), have)
	if have == "" {
		x.Severity, x.Text = finding.Warn,
			fmt.Sprintf("%s is for %s, and the phone does not tell its processor in this mode", x.About,
				strings.Join(f.ABIs, ", "))
	}
	return []finding.Finding{x}
}
