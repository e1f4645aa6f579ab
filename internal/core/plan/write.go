package plan

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"jarlid/internal/core/backup"
	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/local"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

// Write sends an image to a partition: in the bootloader, or to a logical one
// in userspace fastboot.
type Write struct {
	base
	File      *ident.File
	Label     string // how the file is called; empty: its name
	Partition string // without suffix
	Slot      string // "" on a phone without slots
	Recovery  bool   // it is meant as the recovery
	Forced    bool   // a person named the destination
	Known     bool   // it was read from there: what it is need not be checked
	Made      bool   // Jar Lid made it, from verified files or from what the phone holds
	Logical   bool
	Shell     bool // it can be written where the phone is: through its recovery's root shell
	Home      place.Home
	Sealed    bool     // the vbmeta that goes with it is written too
	System    bool     // the slot's system is written too
	OneSlot   bool     // of a phone with two, a person named this one alone
	Keep      bool     // what was there is kept beside the journal, where it can be read
	Ask       []string // the model file's questions, answered by going on
}

// Name is the partition as the phone knows it.
func (w *Write) Name() card.Partition { return card.At(w.Partition, w.Slot) }

func (w *Write) label() string {
	if w.Label != "" {
		return w.Label
	}
	return place.FileName(w.File.Path)
}

// title is what the partition is said to hold afterwards.
func (w *Write) title() string { return cmp.Or(w.File.Build(), w.label()) }

// Title says what is done.
func (w *Write) Title() string { return aimed(w) }

// Aim implements Aimed.
func (w *Write) Aim() (does, to string) { return "write " + w.label(), w.Name().String() }

// Decides implements Step: what is in its partition.
func (w *Write) Decides() Decision {
	return Decision{What: "writes " + w.Name().String(), How: w.File.Path}
}

// Estimate implements Step: the image is sent.
func (w *Write) Estimate(*card.Card) (int64, time.Duration) {
	return w.File.Content(), expectStep + atRate(w.File.Content(), expectSend)
}

// Modes: the bootloader; userspace fastboot where that is running or needed.
func (w *Write) Modes() []card.Mode {
	if w.Logical {
		return []card.Mode{card.Fastbootd}
	}
	if w.Shell {
		return append(card.ImageModes(), card.Recovery)
	}
	return card.ImageModes()
}

// Sends is the image.
func (w *Write) Sends() []Sent {
	return []Sent{{File: w.File, Label: cmp.Or(w.Label, place.FileName(w.File.Path)), Made: w.Made ||
		w.Known}}
}

// Writes is the partition.
func (w *Write) Writes(*card.Card) []card.Partition { return []card.Partition{w.Name()} }

// Touches is what can't be known of the owner's data while it is written over.
func (w *Write) Touches(c *card.Card) []card.ID {
	if ownersData(w.Partition) {
		return (&FormatData{}).Touches(c)
	}
	return nil
}

// Cost is what was there, where that is the owner's, or the phone's own notes.
func (w *Write) Cost() (lost, kept []string) {
	switch {
	case ownersData(w.Partition):
		return (&FormatData{}).Cost()
	case w.Partition == "misc":
		return (&Erase{Partition: w.Partition}).Cost()
	}
	return nil, nil
}

// Check holds the image against the phone.
func (w *Write) Check(c *card.Card, m *model.Model, all model.Set) []finding.Finding {
	var list []finding.Finding
	if no := place.NotContent(w.File, w.label()); no != nil && !w.Known {
		if no[0].Final {
			return no
		}
		list = no
	}
	switch {
	case w.Recovery && !w.File.HoldsRecovery() && !w.File.Short:
		list = append(list, finding.Stops(finding.NotARecovery, place.FileName(w.File.Path), "the file is "+
			w.File.What(), "jarlid ident "+local.Quote(w.File.Path)))
	case w.Known:
	case !w.Recovery || w.Home.Form != "" || elsewhere(w.Partition):
		list = append(list, contentFindings(w.File, w.Partition, w.Forced, w.Home)...)
	}
	if w.File.Kind != ident.Unknown {
		list = append(list, modelFinding(w.File, c, m, all)...)
	}
	if w.File.HoldsRecovery() && w.Partition == w.Home.Partition {
		list = append(list, preImageFindings(c, m, w.Slot)...)
	}
	if !w.Known || !backup.Personal(w.Partition) {
		// what a backup of this phone holds is compared with its number there
		list = append(list, riskyFinding(w.Partition, "writing", m)...)
	}
	if ownersData(w.Partition) {
		list = append(list, dataGoes(c)...)
	}
	list = append(list, w.homeFindings(c)...)
	list = append(list, w.buildFinding(c)...)
	list = append(list, overData(w, c, w.Name().String(), w.title())...)
	list = append(list, w.treeFinding(c)...)
	list = append(list, w.chainFindings(c, m)...)
	if inMerge(c, w.Partition) {
		list = append(list, mergeFinding(c, w.Name().String(), "writing "+w.Name().String()+
			" now breaks it")...)
	}
	list = append(list, askFindings(c, m)...)
	list = append(list, imageLockFinding(c)...)
	list = append(list, batteryFinding(c)...)
	if w.Logical {
		return append(list, roomFindings(c, w.Name(), w.File.Content())...)
	}
	return append(list, w.sizeFinding(c)...)
}

func (w *Write) sizeFinding(c *card.Card) []finding.Finding {
	if none := absentFinding(c, w.Name()); len(none) > 0 {
		return none
	}
	n, known := c.Number(card.FactSize.Of(w.Name()))
	slotted, _ := c.Yes(card.FactSlotted.Of(card.At(w.Partition, "")))
	switch {
	case known:
	case slotted && w.Slot != "", c.Get(card.FactType.Of(w.Name())).Known():
		return []finding.Finding{finding.Warns(finding.ImageTooBig, w.Name().String(), "the size of "+
			w.Name().String()+" can't be read, so whether the image fits is not known", "")}
	default:
		return []finding.Finding{finding.Warns(finding.NoSuchPartition, w.Name().String(),
			"the phone does not say whether it has a partition "+w.Name().String()+
				" and how large it is", "")}
	}
	if content := w.File.Content(); n < content {
		return []finding.Finding{{Name: finding.ImageTooBig, Severity: finding.Stop, About: w.Name().String(),
			Final:  true,
			Text:   fmt.Sprintf("the image has %d bytes, %s holds %d", content, w.Name(), n),
			Remedy: "get the image made for this phone"}}
	}
	return nil
}

// Effects: the partition holds the file, its digest learnt when it was sent.
func (w *Write) Effects(c *card.Card) {
	c.Learn(card.FactHolds.Of(w.Name()), w.title(), card.Journal)
	// Two slots that are given the same file hold the same, before its digest is known.
	c.Set(card.FactDigest.Of(w.Name()), card.Fact{Value: w.File.Path, Source: card.Journal, Pending: true})
	if ownersData(w.Partition) {
		dataReplaced(c, w.title())
	}
	answered(c, w.Ask)
	if w.File.VBMeta != nil && strings.HasPrefix(w.Partition, "vbmeta") {
		place.LearnVBMeta(w.File.VBMeta, w.Name(), func(i card.Which, value string) {
			c.Learn(i, value, card.Journal)
		})
	}
	if w.File.HoldsRecovery() && w.File.Props != nil {
		// Its own properties say whether its ADB gives a root shell.
		if tried, _ := c.Yes(card.FactTemporary); tried && w.Partition == w.Home.Partition &&
			(w.Slot == "" || w.Slot == c.Value(card.FactNext)) {
			c.Learn(card.FactTemporary, "no", card.Journal) // a restart finds it now
		}
		c.Learn(card.FactQuiet.Of(w.Name()), card.YesNo(w.File.Props["ro.debuggable"] != "1"), card.Journal)
	}
	if abi := w.File.Props["ro.product.cpu.abi"]; abi != "" && w.File.HoldsRecovery() {
		c.Learn(card.FactRecoveryCPU.Of(w.Name()), abi, card.Journal)
	}
	if keys := w.File.Trusts(); keys != "" {
		c.Learn(card.FactKeys.Of(w.Name()), keys, card.Journal)
	}
	// By whatever command: a recovery that comes without a system is somebody's choice, not the
	// manufacturer's set.
	if w.Recovery || !w.System && w.Home.Form == "own" && w.Partition == w.Home.Partition &&
		w.File.HoldsRecovery() {
		c.Learn(card.FactSet.Of(w.Name()), w.label(), card.Journal)
	}
	if w.Partition == "system" && w.File.Generic() {
		c.Learn(card.FactGeneric.Of(w.Slot), "yes", card.Journal)
	}
	if w.Partition == "system" {
		place.LearnRelease(w.File.Props, w.Slot, func(i card.Which, value string) {
			c.Learn(i, value, card.Journal)
		})
	}
	if w.File.Restores != "" {
		c.Learn(card.FactRestores.Of(w.Name()), w.File.Restores, card.Journal)
	}
	if n := w.File.Content(); w.Logical {
		if have, known := c.Number(card.FactSize.Of(w.Name())); !known || have < n {
			c.Learn(card.FactSize.Of(w.Name()), fmt.Sprint(n), card.Journal)
		}
	}
}

// MakeRoom gives a logical partition the size an image needs; what has to go
// for that is taken away first.
type MakeRoom struct {
	base
	Partition, Slot string
	Need            int64 // bytes
}

// Name is the partition as the phone knows it.
func (r *MakeRoom) Name() card.Partition { return card.At(r.Partition, r.Slot) }

// Title says what is done.
func (r *MakeRoom) Title() string { return fmt.Sprintf("make room in super for %s", r.Name()) }

// Estimate implements Step.
func (*MakeRoom) Estimate(*card.Card) (int64, time.Duration) {
	return 0, expectStep
}

// Modes: userspace fastboot alone knows logical partitions.
func (r *MakeRoom) Modes() []card.Mode { return []card.Mode{card.Fastbootd} }

// Check: what would have to go, or that it can't be told.
func (r *MakeRoom) Check(c *card.Card, _ *model.Model, _ model.Set) []finding.Finding {
	list := mergeFinding(c, r.Name().String(), "changing its size now breaks it")
	return append(list, roomFindings(c, r.Name(), r.Need)...)
}

// Writes are the partitions that have to go.
func (r *MakeRoom) Writes(c *card.Card) []card.Partition {
	return place.RoomFor(c, r.Name(), r.Need).Delete
}

// Touches are the sizes, which can't be known meanwhile.
func (r *MakeRoom) Touches(c *card.Card) []card.ID {
	list := []card.ID{card.FactSize.Of(r.Name()), card.FactSuperFree.ID()}
	for _, p := range r.Writes(c) {
		list = append(list, card.FactSize.Of(p))
	}
	return list
}

// Effects: the room is there, and what had to go is gone.
func (r *MakeRoom) Effects(c *card.Card) {
	room := place.RoomFor(c, r.Name(), r.Need)
	c.Forget(card.FactSuperFree, "sizes in super were changed since")
	for _, p := range room.Delete {
		c.Learn(card.FactSize.Of(p), card.Nothing, card.Journal)
		c.Learn(card.FactHolds.Of(p), card.Nothing, card.Journal)
	}
	if r.Need > room.Have {
		c.Learn(card.FactSize.Of(r.Name()), fmt.Sprint(r.Need), card.Journal)
	}
}

// Try starts an image without writing it.
type Try struct {
	base
	File  *ident.File
	Home  place.Home
	Ask   []string
	Stays bool // it is set in the same plan
	// Otherwise is done in place of this step and the next one where the bootloader starts no images, which
	// it may not report before it is asked to.
	Otherwise []Step
}

// NewTry makes the step for a phone.
func NewTry(f *ident.File, c *card.Card, m *model.Model) *Try {
	return &Try{File: f, Home: place.HomeFor(c, f), Ask: m.Questions()}
}

// Sends is the image.
func (t *Try) Sends() []Sent { return sent(t.File) }

// Title says what is done.
func (t *Try) Title() string { return "start " + place.FileName(t.File.Path) + " without writing it" }

// Changes implements Step: what is started is written nowhere.
func (*Try) Changes() bool { return false }

// Estimate implements Step: the image is sent and started.
func (t *Try) Estimate(*card.Card) (int64, time.Duration) {
	return t.File.Content(), expectStep + atRate(t.File.Content(), expectSend) + expectRestart
}

// Modes: the bootloader.
func (t *Try) Modes() []card.Mode { return []card.Mode{card.Bootloader} }

// Ends: the recovery.
func (t *Try) Ends() card.Mode { return card.Recovery }

// Check: the bootloader must be able to, and the image be one it can start.
func (t *Try) Check(c *card.Card, m *model.Model, all model.Set) []finding.Finding {
	instead := "write it instead: jarlid recovery install " + local.Quote(t.File.Path)
	list := commandFinding(c, "boot", instead)
	if !t.File.Short && (!t.File.HoldsRecovery() || t.File.Boot == nil) {
		list = append(list, finding.Stops(finding.NotARecovery, place.FileName(t.File.Path), "the file is "+
			t.File.What()+"; a bootloader starts boot images, with a kernel and "+
			"a recovery inside", "jarlid ident "+local.Quote(t.File.Path)))
	}
	if t.File.Kind != ident.Unknown {
		list = append(list, modelFinding(t.File, c, m, all)...)
	}
	slot := c.Value(card.FactNext)
	if slots, known := c.Slots(); known && len(slots) == 0 {
		slot = ""
	}
	list = append(list, preImageFindings(c, m, slot)...)
	if t.Stays {
		return append(append(list, askFindings(c, m)...), lockFinding(c)...)
	}
	list = append(list, finding.Notes(finding.TemporaryRecovery, place.FileName(t.File.Path),
		"it runs from memory and is gone after the next restart", "to make it stay: jarlid recovery install "+
			local.Quote(t.File.Path)))
	return append(append(list, askFindings(c, m)...), lockFinding(c)...)
}

// Effects: a recovery runs that is written nowhere.
func (t *Try) Effects(c *card.Card) {
	c.Learn(card.FactMode, string(card.Recovery), card.Journal)
	if next := c.Get(card.FactNext); next.Known() {
		c.Learn(card.FactStarted, next.Value, card.Journal)
	}
	c.Learn(card.FactTemporary, "yes", card.Journal)
	c.Set(card.FactTrusts, card.Fact{})
	if keys := t.File.Trusts(); keys != "" {
		c.Learn(card.FactTrusts, keys, card.Journal)
	}
	answered(c, t.Ask)
}
