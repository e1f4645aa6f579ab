package plan

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/bcb"
	"jarlid/internal/core/image/payload"
	"jarlid/internal/core/image/zipsig"
	"jarlid/internal/core/local"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

// Sideload sends one package to a recovery in sideload mode.
type Sideload struct {
	base
	File *ident.File
}

// Sends is the package.
func (s *Sideload) Sends() []Sent { return sent(s.File) }

// Title says what is done.
func (s *Sideload) Title() string { return "install " + place.FileName(s.File.Path) }

// Estimate implements Step: the package is sent as it is installed.
func (s *Sideload) Estimate(*card.Card) (int64, time.Duration) {
	return s.File.Size, expectStep + atRate(s.File.Size, expectInstall)
}

// Modes: sideload.
func (s *Sideload) Modes() []card.Mode { return []card.Mode{card.Sideload} }

// Ends is the mode the phone goes to when it has finished.
func (s *Sideload) Ends() card.Mode { return card.Recovery }

// Check holds the package against the phone and what was done to it.
func (s *Sideload) Check(c *card.Card, m *model.Model, all model.Set) []finding.Finding {
	name := place.FileName(s.File.Path)
	var list []finding.Finding
	if !s.File.IsPackage() {
		if len(list) == 0 {
			list = append(list, finding.Stops(finding.NotAPackage, name, "the file is "+s.File.What(),
				"jarlid ident "+local.Quote(s.File.Path)))
		}
		return list
	}
	if s.File.IsROM() || len(s.File.Models()) > 0 { // an add-on seldom says for which phone it is
		list = append(list, modelFinding(s.File, c, m, all)...)
	}
	list = append(list, layoutFindings(s.File, c)...)
	if s.File.Wipes != "" {
		list = append(list, dataGoes(c)...)
	}
	list = append(list, batteryFinding(c)...)
	list = append(list, signatureFinding(s.File, c)...)
	list = append(list, s.overRecovery(c, name)...)
	if !s.File.IsROM() {
		return append(append(list, place.Addon(s.File, c)...), aloneFinding(name, c)...)
	}
	if p := s.payload(); p != nil && p.Delta() {
		list = append(list, finding.Warns(finding.DeltaPackage, name,
			"it is a delta and installs only over the very build it was made from", ""))
		list = append(list, s.stockFinding(c, place.RecoveryHome(c).Partition)...)
	}
	if s.File.Wipes == "" { // else nothing of the old system's data is left
		list = append(list, newSystemFinding(c, name, s.File.Build())...)
	}
	list = append(list, baseFinding(c, m)...)
	if s.payload() != nil {
		list = append(list, firmwareFinding(c, m, s.target(c))...)
		if state, _ := place.Unmerged(c); state == bcb.MergeMerging {
			list = append(list, mergeFinding(c, name,
				"the phone installs nothing until that has finished")...)
		}
	}
	return append(list, s.recoveryFinding(c, name)...)
}

// stockFinding: a delta wants the recovery's partition as its manufacturer left it.
func (s *Sideload) stockFinding(c *card.Card, home string) []finding.Finding {
	part := card.At(home, card.Other(s.target(c)))
	if home == "" || s.payload().Partition(home) == nil ||
		c.Get(card.FactDigest.Of(part)).Source != card.Journal {
		return nil
	}
	return []finding.Finding{finding.Stops(finding.StockRecovery, part.String(),
		fmt.Sprintf("the update builds on the maker's %s, and %s was written there%s", part,
			c.Value(card.FactHolds.Of(part)), place.ByJob(c.Get(card.FactDigest.Of(part)))),
		"jarlid recovery install --previous")}
}

// overRecovery: a script that writes where the phone keeps its recovery.
func (s *Sideload) overRecovery(c *card.Card, name string) []finding.Finding {
	home := place.RecoveryHome(c).Partition
	for _, p := range s.Writes(c) {
		if s.payload() == nil && home != "" && p.Base == home {
			return []finding.Finding{finding.Warns(finding.RecoveryReplaced, name, "the package writes "+
				p.String()+", where this phone keeps its recovery",
				"set yours again behind it: jarlid recovery install FILE")}
		}
	}
	return nil
}

func (s *Sideload) recoveryFinding(c *card.Card, name string) []finding.Finding {
	home := place.RecoveryHome(c).Partition
	if p := s.payload(); p != nil && p.Partition(home) != nil {
		return []finding.Finding{finding.Warns(finding.RecoveryReplaced, name,
			"the package carries a recovery of its own and writes it to the slot it installs to",
			"have yours set again behind it, before any add-on: --recovery-after FILE")}
	}
	slots, known := c.Slots()
	if !known || len(slots) < 2 {
		return nil
	}
	var on []string
	for _, slot := range slots {
		if c.Get(card.FactDigest.Of(card.At(home, slot))).Known() {
			on = append(on, slot)
		}
	}
	if len(on) != 1 {
		return nil
	}
	return []finding.Finding{finding.Warns(finding.RecoveryOnOneSlot, on[0],
		fmt.Sprintf("the recovery was set on slot %s only; after this install the phone starts "+
			"from the other one", on[0]), "set it on both first: jarlid recovery install FILE")}
}

// target is the slot an A/B package installs to.
func (s *Sideload) target(c *card.Card) string {
	from := c.Value(card.FactStarted)
	if from == "" {
		from = c.Value(card.FactNext)
	}
	return card.Other(from)
}

// Installs is the package.
func (s *Sideload) Installs() *ident.File { return s.File }

// Cost is all data, where the package erases it.
func (s *Sideload) Cost() (lost, kept []string) {
	if s.File.Wipes == "" {
		return nil, nil
	}
	lost, _ = (&FormatData{}).Cost()
	return lost, []string{keptMemoryCard}
}

// Effects: the other slot is written and starts next.
func (s *Sideload) Effects(c *card.Card) {
	if s.File.Wipes != "" { // now, or at the next start: that is the recovery's affair
		defer dataReplaced(c, place.FileName(s.File.Path))
	}
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
	if c.Get(card.FactSnapshot).Known() {
		c.Learn(card.FactSnapshot, bcb.MergeSnapshotted, card.Journal)
	}
	c.Learn(card.FactStarted, from, card.Journal)
	c.Learn(card.FactNext, to, card.Journal)
	c.Learn(card.FactBootable.Of(to), "yes", card.Journal)
	c.Learn(card.FactGood.Of(to), "no", card.Journal)
	for _, p := range s.Writes(c) {
		c.Learn(card.FactHolds.Of(p), s.title(), card.Journal)
	}
	c.Forget(card.FactRoom.Of(card.At("system", to)), "the new system comes first")
	c.Set(card.FactAddons.Of(to), card.Fact{})
}

func (s *Sideload) title() string {
	if b := s.File.Build(); b != "" {
		return b
	}
	return place.FileName(s.File.Path)
}

// Writes are the partitions the package writes whole.
func (s *Sideload) Writes(c *card.Card) []card.Partition {
	var list []card.Partition
	if s.File.Kind == ident.OTABlock {
		for _, d := range s.File.GoesTo {
			list = append(list, card.At(d.Partition, ""))
		}
	}
	for _, name := range s.File.Written { // by its script
		if p := card.Part(name); !slices.Contains(list, p) {
			list = append(list, p)
		}
	}
	if p, to := s.payload(), s.target(c); p != nil && to != "" {
		for _, part := range p.Partitions {
			list = append(list, card.At(part.Name, to))
		}
	}
	return list
}

// Touches is what can't be known meanwhile: which slot starts.
func (s *Sideload) Touches(c *card.Card) []card.ID {
	list := []card.ID{card.FactNext.ID()}
	if s.File.Wipes != "" {
		list = append(list, (&FormatData{}).Touches(c)...)
	}
	if s.payload() != nil {
		list = append(list, card.FactBootable.Of(s.target(c)), card.FactSnapshot.ID())
	}
	if s.File.IsPackage() && !s.File.IsROM() {
		list = append(list, card.FactAddons.Of(c.Running()),
			card.FactDigest.Of(card.At("system", c.Running())))
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
	for _, p := range s.Writes(c) {
		c.Learn(card.FactHolds.Of(p), s.title(), card.Journal)
	}
	c.Forget(card.FactRoom.Of(card.At("system", "")), "the new system comes first")
	c.Set(card.FactAddons.Of(""), card.Fact{})
	c.Set(card.FactFlags.Of(card.At("vbmeta", "")), card.Fact{}) // scripts may write it, named or not
	for _, base := range place.Shelvable {
		c.Forget(card.FactTree.Of(card.At(base, "")), "the package may have written vbmeta")
		c.Forget(card.FactTreeRoot.Of(card.At(base, "")), "the package may have written vbmeta")
	}
}

// release keeps which release the new system is of, so that add-ons behind it
// are compared with that one.
func (s *Sideload) release(c *card.Card) {
	slot := ""
	if s.payload() != nil {
		slot = s.target(c)
	}
	place.LearnRelease(s.File.Properties(), slot, func(w card.Which, value string) {
		c.Learn(w, value, card.Journal)
	})
}

// added keeps what was added to the system of the slot that runs.
func (s *Sideload) added(c *card.Card) {
	fact := card.FactAddons.Of(c.Value(card.FactStarted))
	system := card.At("system", c.Value(card.FactStarted))
	c.Forget(card.FactDigest.Of(system), "something was added to it")
	c.Forget(card.FactRoom.Of(system), "something was added to it")
	list := place.FileName(s.File.Path)
	if have := c.Value(fact); have != "" {
		list = have + ", " + list
	}
	c.Learn(fact, list, card.Journal)
}

// signatureFinding says beforehand whether the recovery will stumble over who signed a package:
// by the keys read in it or, in one without a shell, by those of the image it was started from.
func signatureFinding(f *ident.File, c *card.Card) []finding.Finding {
	trusts := c.Value(card.FactTrusts)
	if tried, _ := c.Yes(card.FactTemporary); trusts == "" && !tried {
		trusts = c.Value(card.FactKeys.Of(card.At(place.RecoveryHome(c).Partition, c.Running())))
	}
	if trusts == "" || trusts == "none" {
		return nil // unknown, or a recovery that has no keys and asks for none
	}
	x := finding.Finding{Name: finding.SignatureUnknown, Severity: finding.Warn,
		About: place.FileName(f.Path),
		Remedy: "if the phone asks whether to install it anyway, answer yes there once you have checked " +
			"its digest; some recoveries refuse"}
	if f.Signer == nil {
		x.Text = x.About + " is not signed, and this recovery looks for a signature"
		return []finding.Finding{x}
	}
	if slices.Contains(strings.Split(trusts, ","), zipsig.KeyFingerprint(f.Signer)) {
		return nil
	}
	x.Text = fmt.Sprintf("%s is signed by %s, whose key this recovery does not have", x.About,
		f.Signer.Subject.String())
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

// mostSteps is how large a number before a name is at most that stands for a place in an order:
// above it are years and dates.
const mostSteps = 100

// number is a number in a file's name.
var number = regexp.MustCompile(`\d+`)

// seriesFindings look for names that differ in one number alone, or begin with one, and do not
// ascend.
func seriesFindings(files []*ident.File) []finding.Finding {
	last := map[string]int{}
	names := map[string]string{}
	var list []finding.Finding
	for _, f := range files {
		base := place.FileName(f.Path)
		// The number may stand anywhere; of several, each is tried as the one that counts.
		for _, at := range number.FindAllStringIndex(base, -1) {
			key := base[:at[0]] + "*" + base[at[1]:]
			n, err := strconv.Atoi(base[at[0]:at[1]])
			if err != nil {
				continue // a number this long counts nothing
			}
			if at[0] == 0 && n < mostSteps && strings.ContainsAny(base[at[1]:min(at[1]+1, len(base))],
				"-_ ") {
				// 01-fix, 2_apps: a number before the name is a place in an order, whatever comes behind
				key = "*"
			}
			if before, ok := last[key]; ok && n < before {
				list = append(list, finding.Stops(finding.OrderBroken, base,
					fmt.Sprintf("%s comes behind %s, though its number is lower", base, names[key]),
					"name them in the order of their numbers"))
			}
			if n >= last[key] {
				last[key], names[key] = n, base
			}
		}
	}
	return list
}

// places are numbers in a name that stand for a place in an order: before everything else, or
// behind a word that says so.
var places = regexp.MustCompile(`(?i)^(\d{1,2})[-_ ]|(?:part|step|stage|disc|nr|no)[-_ .]?(\d{1,2})(?:\D|$)`)

// placeOf gives the place in an order that a file's name states, and what the names of the same
// order have in common; 0 for one that states none.
func placeOf(name string) (n int, series string) {
	at := places.FindStringSubmatchIndex(name)
	if at == nil {
		return 0, ""
	}
	from, to, series := at[2], at[3], ""
	if from < 0 {
		from, to = at[4], at[5]
		series = name[:from]
	}
	n, err := strconv.Atoi(name[from:to])
	if err != nil {
		return 0, ""
	}
	return n, series
}

// aloneFinding: the second of a series whose first was not sent, in this command or before.
func aloneFinding(name string, c *card.Card) []finding.Finding {
	n, series := placeOf(name)
	if n < 2 {
		return nil
	}
	for _, have := range names(c.Value(card.FactAddons.Of(c.Running()))) {
		if k, s := placeOf(have); k == n-1 && strings.EqualFold(s, series) {
			return nil
		}
	}
	return []finding.Finding{finding.Warns(finding.OrderBroken, name,
		fmt.Sprintf("%s is number %d of a series, and no job has sent number %d to this system", name,
			n, n-1), "send the whole series, in the order of its numbers")}
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
			steps = append(steps, &WipeArea{Area: "caches", Along: true})
		}
	}
	return steps
}

// InOrder puts what states its place in an order into that order, and leaves everything else where
// it is.
func InOrder[T any](list []T, file func(T) *ident.File) []T {
	files := make([]*ident.File, len(list))
	for i, x := range list {
		files[i] = file(x)
	}
	if len(seriesFindings(files)) == 0 {
		return list
	}
	sorted := slices.Clone(list)
	slices.SortStableFunc(sorted, func(a, b T) int {
		return byNumbers(place.FileName(file(a).Path), place.FileName(file(b).Path))
	})
	return sorted
}

// byNumbers compares names with numbers in them as numbers.
func byNumbers(a, b string) int {
	x, y := number.FindAllStringIndex(a, -1), number.FindAllStringIndex(b, -1)
	from, at := 0, 0
	for i := range min(len(x), len(y)) {
		if c := strings.Compare(a[from:x[i][0]], b[at:y[i][0]]); c != 0 {
			return c
		}
		n, err := strconv.Atoi(a[x[i][0]:x[i][1]])
		m, err2 := strconv.Atoi(b[y[i][0]:y[i][1]])
		if err == nil && err2 == nil && n != m {
			return n - m
		}
		from, at = x[i][1], y[i][1]
	}
	return strings.Compare(a[from:], b[at:])
}
