package plan

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

// Storages are where a file can be put on a phone: the shared storage and a
// SD card.
var Storages = []string{"storage", "sd"}

// Put sends a file to a storage of the phone.
type Put struct {
	base
	File *ident.File
	To   string // storage or sd
}

// Sends is the file.
func (p *Put) Sends() []Sent { return sent(p.File) }

// Title says what is done.
func (p *Put) Title() string { return aimed(p) }

// Aim implements Aimed.
func (p *Put) Aim() (does, to string) {
	return "put " + place.FileName(p.File.Path), place.AreaWords(p.To)
}

// Estimate implements Step: the file is sent.
func (p *Put) Estimate(*card.Card) (int64, time.Duration) {
	return p.File.Size, expectStep + atRate(p.File.Size, expectSend)
}

// Modes: a recovery or the system.
func (p *Put) Modes() []card.Mode { return []card.Mode{card.Recovery, card.System} }

// Check: the storage must be there and have room.
func (p *Put) Check(c *card.Card, m *model.Model, all model.Set) []finding.Finding {
	list := p.packageFindings(c, m, all)
	free := c.Get(card.FactFree.Of(p.To))
	switch {
	case free.Known() && free.Value == card.Nothing:
		f := finding.Stops(finding.StorageUnreadable, p.To, place.AreaWords(p.To)+
			" can't be reached in this mode", "")
		f.Remedy = "put an SD card in, or: --to storage"
		if p.To == "storage" {
			f.Text += ": it lies in the data, which is encrypted by the system that is on the phone"
			f.Remedy = "put it there from the started system, or onto a memory card, or send it over the " +
				"computer: jarlid sideload"
		}
		return append(list, f)
	case !free.Known():
		if not := notMounted(c, p.To); not != nil {
			return append(list, not...)
		}
		if c.Value(card.FactMounted.Of(p.To)) == card.MountedCan {
			return list // the free space is known once it is mounted
		}
		return append(list, finding.Warns(finding.NoRoom, p.To, "nobody can tell how much room "+
			place.AreaWords(p.To)+" has", ""))
	}
	if lock, _ := c.Yes(card.FactLock); lock && p.To == "storage" && c.Mode() == card.System &&
		c.Value(card.FactCrypto) != card.CryptoNone {
		list = append(list, finding.Warns(finding.StorageUnreadable, p.To,
			"the screen is locked with a code, and what is in the storage is encrypted with it: "+
				"most recoveries can't read it", "take the lock off in the settings first, or: --to sd"))
	}
	if n, _ := c.Number(card.FactFree.Of(p.To)); n < p.File.Size {
		list = append(list, finding.Stops(finding.NoRoom, p.To, fmt.Sprintf("the file has %s, %s has %s free",
			image.Size(p.File.Size),
			place.AreaWords(p.To), image.Size(n)), "make room on it first"))
	}
	return list
}

// notMounted: nothing is done on a file system that is not mounted and can't be. What is encrypted as a whole
// has a finding of its own.
func notMounted(c *card.Card, areas ...string) []finding.Finding {
	for _, area := range areas {
		f := c.Get(card.FactMounted.Of(area))
		if f.Value != card.MountedNo || c.Value(card.FactData) == card.DataEncrypted {
			continue
		}
		not := place.NotMounted(area)
		if f.Why != "" {
			not.Text = f.Why
		}
		return []finding.Finding{not}
	}
	return nil
}

// packageFindings: a package is put there to be installed on this phone.
func (p *Put) packageFindings(c *card.Card, m *model.Model, all model.Set) (list []finding.Finding) {
	if p.File.Page() {
		return place.NotContent(p.File, place.FileName(p.File.Path))
	}
	if !p.File.IsPackage() {
		return nil
	}
	if p.File.IsROM() || len(p.File.Models()) > 0 {
		list = modelFinding(p.File, c, m, all)
	}
	return append(append(list, layoutFindings(p.File, c)...), place.Arch(p.File, c)...)
}

// Effects: the file is there.
func (p *Put) Effects(c *card.Card) {
	c.Forget(card.FactFree.Of(p.To), "a file was put there since it was read")
	c.Learn(card.FactStored.Of(p.To), joined(c.Value(card.FactStored.Of(p.To)), place.FileName(p.File.Path)),
		card.Journal)
}

// InstallFrom has a person install a package that is on the phone.
type InstallFrom struct {
	base
	File *ident.File
	To   string
}

// Sends is the package, which a step before put there.
func (p *InstallFrom) Sends() []Sent { return sent(p.File) }

// Title says what is done.
func (p *InstallFrom) Title() string {
	return fmt.Sprintf("install %s from %s", place.FileName(p.File.Path), place.AreaWords(p.To))
}

// ByHand implements Step: the package is chosen in the recovery's menu.
func (p *InstallFrom) ByHand(*card.Card) string { return "install-from-" + p.To }

// Estimate implements Step: the package is on the phone already.
func (p *InstallFrom) Estimate(*card.Card) (int64, time.Duration) {
	return 0, expectStep + atRate(p.File.Size, expectInstall)
}

// Modes: the recovery.
func (p *InstallFrom) Modes() []card.Mode { return []card.Mode{card.Recovery} }

// Check is that of sending it: the same package to the same phone.
func (p *InstallFrom) Check(c *card.Card, m *model.Model, all model.Set) []finding.Finding {
	return (&Sideload{File: p.File}).Check(c, m, all)
}

// Writes are the partitions a package writes.
func (p *InstallFrom) Writes(c *card.Card) []card.Partition {
	return (&Sideload{File: p.File}).Writes(c)
}

// Touches are the facts a package changes.
func (p *InstallFrom) Touches(c *card.Card) []card.ID { return (&Sideload{File: p.File}).Touches(c) }

// Installs is the package that is on the phone.
func (p *InstallFrom) Installs() *ident.File { return p.File }

// Cost is that of sending it.
func (p *InstallFrom) Cost() (lost, kept []string) { return (&Sideload{File: p.File}).Cost() }

// Effects are those of sending it.
func (p *InstallFrom) Effects(c *card.Card) {
	(&Sideload{File: p.File}).Effects(c)
	c.Learn(card.FactUsed.Of(p.To), joined(c.Value(card.FactUsed.Of(p.To)), place.FileName(p.File.Path)),
		card.Journal)
}

// joined puts a name behind a list of names, once.
func joined(list, name string) string {
	have := names(list)
	if slices.Contains(have, name) {
		return list
	}
	return strings.Join(append(have, name), ", ")
}
