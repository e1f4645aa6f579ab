package plan

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/payload"
	"jarlid/internal/core/image/zipsig"
	"jarlid/internal/core/model"
)

// Sideload sends one package to a recovery in sideload mode.
type Sideload struct {
	base
	File *ident.File
}

// Title says what is done.
func (s *Sideload) Title() string { return "install " + fileName(s.File.Path) }

// Modes: sideload.
func (s *Sideload) Modes() []card.Mode { return []card.Mode{card.Sideload} }

// Ends is the mode the phone goes to when it has finished.
func (s *Sideload) Ends() card.Mode { return card.Recovery }

// Check holds the package against the phone and what was done to it.
func (s *Sideload) Check(c *card.Card, m *model.Model, all model.Set) []finding.Finding {
	name := fileName(s.File.Path)
	list := CutShort(s.File)
	if !s.File.IsPackage() {
		if len(list) == 0 {
			list = append(list, finding.Finding{Name: finding.NotAPackage, Severity: finding.Stop, About: name,
				Text: "the file is " + s.File.Kind.Words(), Remedy: "jarlid ident " + Quote(s.File.Path)})
		}
		return list
	}
	if s.File.IsROM() || len(s.File.Models()) > 0 { // an add-on seldom says for which phone it is
		list = append(list, modelFinding(s.File, c, m, all)...)
	}
	list = append(list, batteryFinding(c)...)
	list = append(list, signatureFinding(s.File, c)...)
	if !s.File.IsROM() {
		return append(list, addonFindings(s.File, c)...)
	}
	if p := s.payload(); p != nil && p.Delta() {
		list = append(list, finding.Finding{Name: finding.DeltaPackage, Severity: finding.Care, About: name,
			Text: "it is a delta and installs only over the very build it was made from"})
		list = append(list, s.stockFinding(c, RecoveryHome(c, m).Partition)...)
	}
	list = append(list, s.dataFinding(c, name)...)
	list = append(list, baseFinding(c, m)...)
	if s.payload() != nil {
		list = append(list, firmwareFinding(c, m, s.target(c))...)
		if state, _ := merging(c); state == "merging" {
			list = append(list, mergeFinding(c, name, "the phone installs nothing until that has finished")...)
		}
	}
	return append(list, s.recoveryFinding(c, m, name)...)
}

// stockFinding: a delta wants the recovery's partition as its maker left it.
func (s *Sideload) stockFinding(c *card.Card, home string) []finding.Finding {
	part := Suffixed(home, card.Other(s.target(c)))
	if home == "" || s.payload().Partition(home) == nil || c.Get(card.FactDigest+part).Evidence != card.Journal {
		return nil
	}
	return []finding.Finding{{Name: finding.StockRecovery, Severity: finding.Stop, About: part,
		Text: fmt.Sprintf("the update builds on the maker's %s, and %s was written there", part, c.Value(card.FactHolds+part)), Remedy: "jarlid recovery set --previous"}}
}

func (s *Sideload) dataFinding(c *card.Card, name string) []finding.Finding {
	f := finding.Finding{Name: finding.EncryptedData, About: name, Remedy: "jarlid wipe userdata"}
	switch c.Value(card.FactData) {
	case card.DataFormatted:
		return nil
	case card.DataPlain:
		return []finding.Finding{{Name: finding.OldApps, Severity: finding.Care, About: name,
			Text: "the apps and settings of the system that was here are still on the phone; another system may not start over them", Remedy: "jarlid wipe apps caches"}}
	case card.DataEncrypted:
		f.Severity = finding.Stop
		f.Text = "the data is encrypted by the system that was here; a new one can't read it and will not start"
	default:
		f.Severity = finding.Care
		f.Text = "nobody can tell in this mode whether the data is still encrypted by the old system"
	}
	return []finding.Finding{f}
}

func (s *Sideload) recoveryFinding(c *card.Card, m *model.Model, name string) []finding.Finding {
	home := RecoveryHome(c, m).Partition
	if p := s.payload(); p != nil && p.Partition(home) != nil {
		return []finding.Finding{{Name: finding.RecoveryReplaced, Severity: finding.Care, About: name,
			Text:   "the package carries a recovery of its own and writes it to the slot it installs to",
			Remedy: "have yours set again behind it, before any add-on: --recovery FILE"}}
	}
	slots, known := c.Slots()
	if !known || len(slots) < 2 {
		return nil
	}
	var on []string
	for _, slot := range slots {
		if c.Get(card.FactDigest + Suffixed(home, slot)).Known() {
			on = append(on, slot)
		}
	}
	if len(on) != 1 {
		return nil
	}
	return []finding.Finding{{Name: finding.RecoveryOnOneSlot, Severity: finding.Care, About: on[0],
		Text:   fmt.Sprintf("the recovery was set on slot %s only; after this install the phone starts from the other one", on[0]),
		Remedy: "set it on both first: jarlid recovery set FILE"}}
}

// target is the slot an A/B package installs to.
func (s *Sideload) target(c *card.Card) string {
	from := c.Value(card.FactStarted)
	if from == "" {
		from = c.Value(card.FactNext)
	}
	return card.Other(from)
}

// Effects: the other slot is written and starts next.
func (s *Sideload) Effects(c *card.Card) {
	c.Learn(card.FactMode, string(card.Recovery), card.Journal)
	if s.File.IsPackage() && !s.File.IsROM() {
		s.added(c)
		return
	}
	to := s.target(c)
	if s.File.IsROM() {
		s.release(c)
	}
	if s.File.Kind == ident.OTABlock {
		s.replaced(c)
		return
	}
	if to == "" || s.payload() == nil {
		return
	}
	from := card.Other(to)
	c.Forget(card.FactFree+Suffixed("system", to), "the new system comes first")
	if c.Get(card.FactSnapshot).Known() {
		c.Learn(card.FactSnapshot, "snapshotted", card.Journal)
	}
	c.Learn(card.FactStarted, from, card.Journal)
	c.Learn(card.FactNext, to, card.Journal)
	c.Learn(card.FactBootable+to, "yes", card.Journal)
	c.Learn(card.FactGood+to, "no", card.Journal)
	if c.Value(card.FactData) == card.DataEncrypted {
		c.Learn(factForeign, "yes", card.Journal)
	}
	if p := s.payload(); p != nil {
		for _, part := range p.Partitions {
			c.Learn(card.FactHolds+Suffixed(part.Name, to), s.title(), card.Journal)
			c.Forget(card.FactDigest+Suffixed(part.Name, to), "written by the package")
			c.Set(card.FactQuiet+Suffixed(part.Name, to), card.Fact{})
			c.Set(card.FactFlags+Suffixed(part.Name, to), card.Fact{})
			c.Set(card.FactTreeRoot+Suffixed(part.Name, to), card.Fact{})
		}
	}
}

func (s *Sideload) title() string {
	if b := s.File.Build(); b != "" {
		return b
	}
	return fileName(s.File.Path)
}

// Touches is what can't be known meanwhile: everything on the other slot.
func (s *Sideload) Touches(c *card.Card) []string {
	list := []string{card.FactNext}
	running := c.Value(card.FactStarted)
	if running == "" {
		running = c.Value(card.FactNext)
	}
	if s.File.Kind == ident.OTABlock {
		for _, d := range s.File.GoesTo {
			list = append(list, card.FactHolds+d.Partition, card.FactDigest+d.Partition)
		}
	}
	if s.payload() == nil {
		return list
	}
	for _, slot := range []string{"a", "b"} {
		if slot == running {
			continue
		}
		list = append(list, card.FactBootable+slot)
		for _, p := range s.File.Package.Payload.Partitions {
			list = append(list, card.FactHolds+Suffixed(p.Name, slot), card.FactDigest+Suffixed(p.Name, slot))
		}
	}
	return list
}

// payload is what an A/B package carries, nil for others.
func (s *Sideload) payload() *payload.Payload {
	if s.File.Package == nil {
		return nil
	}
	return s.File.Package.Payload
}

// replaced keeps what a package for one slot wrote in place.
func (s *Sideload) replaced(c *card.Card) {
	c.Forget(card.FactFree+"system", "the new system comes first")
	for _, d := range s.File.GoesTo {
		c.Learn(card.FactHolds+d.Partition, s.title(), card.Journal)
		c.Forget(card.FactDigest+d.Partition, "written by the package")
		c.Set(card.FactTreeRoot+d.Partition, card.Fact{})
	}
	c.Set(card.FactFlags+"vbmeta", card.Fact{})
	if c.Value(card.FactData) == card.DataEncrypted {
		c.Learn(factForeign, "yes", card.Journal)
	}
}

// release keeps which release the new system is of, so that add-ons behind it
// are held against that one.
func (s *Sideload) release(c *card.Card) {
	if s.File.Package == nil {
		return
	}
	meta := s.File.Package.Metadata
	c.Forget(card.FactRelease, "a new system was installed")
	if sdk := meta["post-sdk-level"]; sdk != "" {
		c.Learn(card.FactAPI, sdk, card.Journal)
	}
	// brand/product/device:release/id/... (the build's fingerprint)
	if _, tail, ok := strings.Cut(meta["post-build"], ":"); ok {
		if release, _, ok := strings.Cut(tail, "/"); ok && release != "" {
			c.Learn(card.FactRelease, release, card.Journal)
		}
	}
}

// added keeps what was added to the system of the slot that runs.
func (s *Sideload) added(c *card.Card) {
	fact := card.FactAddons + c.Value(card.FactStarted)
	list := fileName(s.File.Path)
	if have := c.Value(fact); have != "" {
		list = have + ", " + list
	}
	c.Learn(fact, list, card.Journal)
}

// addonFindings hold an add-on against the phone and the system it is for.
func addonFindings(f *ident.File, c *card.Card) []finding.Finding {
	name := fileName(f.Path)
	var list []finding.Finding
	started, next := c.Value(card.FactStarted), c.Value(card.FactNext)
	if started != "" && next != "" && started != next {
		list = append(list, finding.Finding{Name: finding.SlotNotStarted, Severity: finding.Stop, About: name,
			Text:   fmt.Sprintf("slot %s starts next and the recovery runs on slot %s; the add-on would go to slot %s", next, started, started),
			Remedy: "jarlid go recovery"})
	}
	list = append(list, archFinding(f, c)...)
	list = append(list, roomFinding(f, c)...)
	for _, d := range f.Demands {
		fact := map[string]string{"ro.build.version.release": card.FactRelease, "ro.build.version.sdk": card.FactAPI}[d.Property]
		if fact == "" {
			continue
		}
		have := c.Value(fact)
		switch {
		case have == "":
			list = append(list, finding.Finding{Name: finding.WrongSystem, Severity: finding.Care, About: name,
				Text: fmt.Sprintf("%s wants %s %s, and nobody can tell in this mode what the system is", name, d.Property, strings.Join(d.Values, " or "))})
		case !slices.Contains(d.Values, have):
			list = append(list, finding.Finding{Name: finding.WrongSystem, Severity: finding.Stop, About: name,
				Text: fmt.Sprintf("%s wants %s %s, the system is %s", name, d.Property, strings.Join(d.Values, " or "), have), Remedy: "fetch the variant for release " + c.Value(card.FactRelease)})
		}
	}
	return list
}

// OnTop holds an add-on against a system of these facts that is yet to be written.
func OnTop(f *ident.File, c *card.Card) []finding.Finding { return addonFindings(f, c) }

// roomFinding: what an add-on puts into the system has to fit what is free there.
func roomFinding(f *ident.File, c *card.Card) []finding.Finding {
	if f.Adds == 0 {
		return nil
	}
	fact := c.Get(card.FactFree + Suffixed("system", c.Value(card.FactStarted)))
	free, known := c.Number(card.FactFree + Suffixed("system", c.Value(card.FactStarted)))
	x := finding.Finding{Name: finding.NoRoom, Severity: finding.Note, About: fileName(f.Path)}
	switch {
	case !known && fact.Why == "":
		return nil // no mode but a recovery with a shell ever tells it
	case !known:
		x.Text = fmt.Sprintf("it puts %s into the system, and how much room that will have nobody can tell yet: %s", image.Size(f.Adds), fact.Why)
	case free < f.Adds:
		x.Severity, x.Remedy = finding.Stop, "fetch a smaller variant of the add-on"
		x.Text = fmt.Sprintf("it puts %s into the system, which has %s free", image.Size(f.Adds), image.Size(free))
	default:
		return nil
	}
	return []finding.Finding{x}
}

// archFinding compares the processors of the libraries inside with the phone's.
func archFinding(f *ident.File, c *card.Card) []finding.Finding {
	if len(f.ABIs) == 0 {
		return nil
	}
	have := c.Value(card.FactCPUs)
	if have == "" {
		have = c.Value(card.FactCPU)
	}
	x := finding.Finding{Name: finding.WrongArch, Severity: finding.Stop, About: fileName(f.Path), Remedy: "fetch the variant for the phone's processor"}
	for abi := range strings.SplitSeq(have, ",") {
		if slices.Contains(f.ABIs, strings.TrimSpace(abi)) {
			return nil
		}
	}
	x.Text = fmt.Sprintf("%s holds programs for %s, the phone's processor is %s", x.About, strings.Join(f.ABIs, ", "), have)
	if have == "" {
		x.Severity, x.Text = finding.Care, fmt.Sprintf("%s is for %s, and the phone does not tell its processor in this mode", x.About, strings.Join(f.ABIs, ", "))
	}
	return []finding.Finding{x}
}

// signatureFinding says beforehand whether the recovery will stumble over who
// signed a package: known only where its keys could be read.
func signatureFinding(f *ident.File, c *card.Card) []finding.Finding {
	trusts := c.Value(card.FactTrusts)
	if trusts == "" || trusts == "none" {
		return nil // unknown, or a recovery that has no keys and asks for none
	}
	x := finding.Finding{Name: finding.SignatureUnknown, Severity: finding.Care, About: fileName(f.Path),
		Remedy: "if the phone asks whether to install it anyway, answer yes there once you have checked its digest; some recoveries refuse"}
	if f.Signer == nil {
		x.Text = x.About + " is not signed, and this recovery looks for a signature"
		return []finding.Finding{x}
	}
	if slices.Contains(strings.Split(trusts, ","), zipsig.KeyFingerprint(f.Signer)) {
		return nil
	}
	x.Text = fmt.Sprintf("%s is signed by %s, whose key this recovery does not have", x.About, f.Signer.Subject.String())
	return []finding.Finding{x}
}

// Packages gives packages in the order they are sent, why, and what is wrong
// with the order they were given in: ROMs first, then add-ons as given.
func Packages(files []*ident.File) (ordered []*ident.File, why string, found []finding.Finding) {
	ordered = slices.Clone(files)
	slices.SortStableFunc(ordered, func(a, b *ident.File) int {
		rank := func(f *ident.File) int {
			if f.IsROM() {
				return 0
			}
			return 1
		}
		return rank(a) - rank(b)
	})
	why = "as given"
	if !slices.Equal(ordered, files) {
		why = "the ROM first, then the add-ons as given"
	}
	return ordered, why, seriesFindings(ordered)
}

// number is a number in a file's name.
var number = regexp.MustCompile(`\d+`)

// seriesFindings look for names that differ in one number alone and do not
// ascend.
func seriesFindings(files []*ident.File) []finding.Finding {
	last := map[string]int{}
	names := map[string]string{}
	var list []finding.Finding
	for _, f := range files {
		base := fileName(f.Path)
		// The number may stand anywhere; of several, each is tried as the one that counts.
		for _, at := range number.FindAllStringIndex(base, -1) {
			key := base[:at[0]] + "*" + base[at[1]:]
			n := 0
			fmt.Sscanf(base[at[0]:at[1]], "%d", &n)
			if before, ok := last[key]; ok && n < before {
				list = append(list, finding.Finding{Name: finding.OrderBroken, Severity: finding.Stop, About: base,
					Text: fmt.Sprintf("%s comes behind %s, though its number is lower", base, names[key]), Remedy: "name them in the order of their numbers"})
			}
			last[key], names[key] = max(n, last[key]), base
		}
	}
	return list
}

// Install gives the steps that send packages in their order: where the phone has
// slots, a restart into recovery between a ROM and what comes behind it, so that
// add-ons land on the new slot. then restarts into recovery at the end.
// On phones with one slot the caches of the old system are wiped there. again are
// steps that set a recovery, which come behind a ROM that may have replaced it.
func Install(files []*ident.File, then bool, again ...Step) []Step {
	var steps []Step
	for i, f := range files {
		steps = append(steps, &Sideload{File: f})
		last := i == len(files)-1
		if !f.IsROM() {
			continue
		}
		if len(again) > 0 {
			steps = append(append(steps, &Restart{To: card.Bootloader}), again...)
		}
		switch {
		case f.Kind == ident.OTAAB && (then || !last), len(again) > 0 && !last:
			steps = append(steps, &Restart{To: card.Recovery})
		}
		if f.Kind == ident.OTABlock && !last {
			steps = append(steps, &WipeArea{Area: "caches"})
		}
	}
	return steps
}
