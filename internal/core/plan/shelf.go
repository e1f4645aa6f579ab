package plan

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/image/filesystem"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

// Shelve moves files of the system aside, or back again.
type Shelve struct {
	base
	Items []place.Item
	Back  bool
}

// Title says what is done.
func (s *Shelve) Title() string {
	var names []string
	for _, i := range s.Items {
		names = append(names, i.Path)
	}
	if s.Back {
		return "put back " + strings.Join(names, ", ")
	}
	return "move aside " + strings.Join(names, ", ")
}

// Estimate implements Step.
func (*Shelve) Estimate(*card.Card) (int64, time.Duration) {
	return 0, expectStep
}

// Modes: the recovery.
func (*Shelve) Modes() []card.Mode { return []card.Mode{card.Recovery} }

// Touches is what can't be known meanwhile.
func (s *Shelve) Touches(*card.Card) []card.ID {
	var list []card.ID
	for _, i := range s.Items {
		list = append(list, card.FactShelved.Of(i.Partition), card.FactDigest.Of(i.Partition))
	}
	return list
}

// Check: the partition must be one that can be changed without harm.
func (s *Shelve) Check(c *card.Card, _ *model.Model, _ model.Set) []finding.Finding {
	var list []finding.Finding
	if root, known := c.Yes(card.FactRoot); known && !root {
		return []finding.Finding{{Name: finding.NoShell, Severity: finding.Stop, Final: true,
			Text:   "the recovery gives no root shell, and files can only be moved through one",
			Remedy: "use a recovery with a root shell: jarlid recovery install FILE"}}
	}
	for _, i := range s.Items {
		if i.Missing {
			f := finding.Finding{Name: finding.NoSuchFile, Severity: finding.Stop, About: i.Path, Final: true,
				Text: "there is no " + i.Path + " on " + i.Partition.String()}
			if s.Back {
				f.Text = i.Path + " was not moved aside on " + i.Partition.String()
			}
			list = append(list, f)
		}
		if i.There {
			list = append(list, finding.Finding{Name: finding.NoSuchFile, Severity: finding.Stop,
				About: i.Path, Final: true,
				Text: fmt.Sprintf("%s is on %s twice: in its place and moved aside", i.Path, i.Partition),
				Remedy: "move one of them away with a root shell in the recovery; what is moved aside lies " +
					"below /" + place.Shelf})
		}
		list = append(list, changeFinding(c, i.Partition)...)
	}
	return list
}

// changeFinding: whether files of a partition may be changed.
func changeFinding(c *card.Card, p card.Partition) []finding.Finding {
	partition, base := p.String(), p.Base
	if t := filesystem.Named(c.Value(card.FactFS.Of(p))); t.Frozen {
		return []finding.Finding{{Name: finding.ReadOnly, Severity: finding.Stop, About: partition,
			Final:  true,
			Text:   partition + " is " + t.Title + ", which is never written",
			Remedy: "write another image of it, made without what does harm: jarlid flash IMAGE"}}
	}
	f := finding.Finding{Name: finding.VerityRejects, Severity: finding.Stop, About: partition,
		Remedy: "switch the hash trees off first: jarlid vbmeta loosen hashtree"}
	switch c.Value(card.FactTree.Of(p)) {
	case "off", "none":
		return nil
	case "enforced":
		f.Text = fmt.Sprintf("the hash tree of %s is enforced at each start, also on an unlocked phone: "+
			"one changed file, and the slot restarts until it is given up", base)
	default:
		f.Severity, f.Text = finding.Warn,
			fmt.Sprintf("nobody can tell whether the hash tree of %s is enforced; if it is, one changed "+
				"file keeps the slot from starting", base)
	}
	return []finding.Finding{f}
}

// Effects: what was moved is kept.
func (s *Shelve) Effects(c *card.Card) {
	for _, slot := range card.EverySlot {
		c.Set(card.FactFailed.Of(slot), card.Fact{}) // it may start now
	}
	for _, i := range s.Items {
		c.Forget(card.FactDigest.Of(i.Partition), "files in it were moved since")
		list := slices.DeleteFunc(names(c.Value(card.FactShelved.Of(i.Partition))), func(p string) bool {
			return p == i.Path
		})
		if !s.Back {
			list = append(list, i.Path)
		}
		if len(list) == 0 {
			c.Set(card.FactShelved.Of(i.Partition), card.Fact{})
			continue
		}
		c.Learn(card.FactShelved.Of(i.Partition), strings.Join(list, ", "), card.Journal)
	}
}
