package plan

import (
	"fmt"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
)

// Grafts tells whether a recovery is put into the phone's own image, and not written as
// it was given: where it lives in an image with other things, and that image can be
// had. given says that a person named it.
func Grafts(f *ident.File, home Home, t Target, c *card.Card, given bool) bool {
	if home.Form != "ramdisk" && home.Form != "fragment" || t.Partition != "" && t.Partition != home.Partition {
		return false
	}
	whole := home.Form == "fragment" && f.Vendor != nil || home.Form == "ramdisk" && f.Kind == ident.BootWithRecovery
	if given || !whole && !f.Short && (f.Kind == ident.Recovery || f.Kind == ident.BootWithRecovery || f.Vendor != nil || f.Kind == ident.Unknown) {
		return given || c.Mode() != card.Bootloader
	}
	root, _ := c.Yes(card.FactRoot)
	return whole && home.Form == "ramdisk" && c.Mode() == card.Recovery && root
}

// LostFindings name what a normal start may need and the new ramdisk lacks.
func LostFindings(partition string, lost []string) []finding.Finding {
	if len(lost) == 0 {
		return nil
	}
	some := lost[:min(len(lost), 5)]
	text := strings.Join(some, ", ")
	if n := len(lost) - len(some); n > 0 {
		text += fmt.Sprintf(" and %d more", n)
	}
	return []finding.Finding{{Name: finding.NormalStart, Severity: finding.Stop, About: partition,
		Text: "the ramdisk in " + partition + " has for a normal start what the recovery's lacks: " + text, Remedy: "take a recovery made for this model, or start it without writing it: jarlid recovery try FILE"}}
}
