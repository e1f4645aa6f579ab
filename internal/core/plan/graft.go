package plan

import (
	"fmt"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

// Grafts reports whether a recovery is put into the phone's own image, and not written as
// it was given: where it lives in an image with other things, and that image can be
// had. given says that a person named it.
func Grafts(f *ident.File, home place.Home, t place.Target, c *card.Card, given bool) bool {
	if home.Form != "ramdisk" && home.Form != "fragment" || t.Partition != "" &&
		t.Partition != home.Partition {
		return false
	}
	whole := home.Form == "fragment" && f.Vendor != nil || home.Form == "ramdisk" &&
		f.Kind == ident.BootWithRecovery
	if given || !whole && !f.Short && (f.Kind == ident.Recovery || f.Kind == ident.BootWithRecovery ||
		f.Kind == ident.Ramdisk || f.Vendor != nil || f.Kind == ident.Unknown) {
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
	return []finding.Finding{finding.Stops(finding.NormalStart, partition, "the ramdisk in "+partition+
		" has for a normal start what the recovery's lacks: "+text,
		"take a recovery made for this model, or start it without writing it: jarlid recovery "+
			"try FILE")}
}

// ByTrying reports whether a recovery reaches the images it goes into by being started
// first: the bootloader gives nothing out, and the recovery that was given has a root
// shell to read them. given says that a person named the image.
func ByTrying(f *ident.File, home place.Home, t place.Target, c *card.Card, given bool) bool {
	knows, told := c.Yes(card.FactCommand.Of("boot"))
	return home.Form == "ramdisk" && f.Kind == ident.BootWithRecovery && t.Partition == "" && !given &&
		c.Mode() == card.Bootloader && (knows || !told) && f.Props["ro.debuggable"] == "1"
}

// Graft puts a recovery's ramdisk into the image each slot has, in the recovery that was
// started for it. It writes nothing itself: all images are read and rebuilt, and the steps
// that write them are handed back, to be checked and journaled like any other.
type Graft struct {
	base
	File *ident.File
	Home place.Home
	Into []*Write // one a slot; their File is the recovery until the image is made
}

// NewGraft makes the steps of ByTrying: the recovery started, then the slots' images.
func NewGraft(f *ident.File, home place.Home, c *card.Card, m *model.Model, writes []*Write) []Step {
	try := NewTry(f, c, m)
	try.Stays = true
	for _, w := range writes {
		try.Otherwise = append(try.Otherwise, w)
	}
	return []Step{try, &Graft{File: f, Home: home, Into: writes}}
}

// Sends is the recovery.
func (g *Graft) Sends() []Sent { return sent(g.File) }

// Title says what is done.
func (g *Graft) Title() string {
	var names []string
	for _, w := range g.Into {
		names = append(names, w.Name().String())
	}
	return fmt.Sprintf("read %s, put the recovery's ramdisk in, write and read back",
		strings.Join(names, " and "))
}

// Estimate implements Step: each image is read, changed and written.
func (g *Graft) Estimate(*card.Card) (int64, time.Duration) {
	n := g.File.Content() * int64(len(g.Into)) // about as much is read, and written again
	return n, expectStep + atRate(2*n, expectSend) + expectRestart
}

// Modes: the recovery.
func (*Graft) Modes() []card.Mode { return []card.Mode{card.Recovery} }

// Check: as for writing, and the recovery must give a shell that reads partitions.
func (g *Graft) Check(c *card.Card, m *model.Model, all model.Set) (list []finding.Finding) {
	for _, w := range g.Into {
		list = append(list, w.Check(c, m, all)...)
	}
	if root, known := c.Yes(card.FactRoot); known && !root && c.Mode() == card.Recovery {
		list = append(list, finding.Finding{Name: finding.NoShell, Severity: finding.Stop,
			About: place.FileName(g.File.Path), Final: true,
			Text: "this recovery gives no root shell, so the phone's own boot images can't be read " +
				"through it",
			Remedy: "name the image it goes into: jarlid recovery install FILE --boot IMAGE; or write the " +
				"file whole: --into boot"})
	}
	return list
}

// Effects: as of each write it hands back.
func (g *Graft) Effects(c *card.Card) {
	for _, w := range g.Into {
		Apply(w, c)
	}
}
