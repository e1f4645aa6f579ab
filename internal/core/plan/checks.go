package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"jarlid/internal/core/backup"
	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/local"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
	"jarlid/internal/core/spell"
)

func mergeFinding(c *card.Card, about, why string) []finding.Finding {
	state, pending := place.Unmerged(c)
	if !pending && c.Get(card.FactSnapshot).Why != "" {
		return []finding.Finding{finding.Warns(finding.MergePending, about,
			"an update was installed, and nobody can tell whether its merge has finished; "+why+
				" if it has not", "the bootloader tells: jarlid card")}
	}
	if !pending {
		return nil
	}
	return []finding.Finding{finding.Stops(finding.MergePending, about,
		fmt.Sprintf("an update is installed and not merged yet (%s); %s", state, why),
		"start the new system and let it finish: jarlid go system")}
}

// inMerge reports whether a partition takes part in a merge.
func inMerge(c *card.Card, base string) bool {
	return base == "super" || base == "metadata" || place.Logical(c, base)
}

// commandFinding is for a command of the protocol the bootloader lacks.
func commandFinding(c *card.Card, command, remedy string) []finding.Finding {
	if yes, known := c.Yes(card.FactCommand.Of(command)); !known || yes {
		return nil
	}
	return []finding.Finding{finding.Stops(finding.CommandUnknown, command,
		fmt.Sprintf("this phone's bootloader does not know %q (%s)", command,
			place.SourceWords(c.Get(card.FactCommand.Of(command)))), remedy)}
}

// askFindings are the model file's questions that nobody has answered yet.
func askFindings(c *card.Card, m *model.Model) []finding.Finding {
	if m == nil {
		return nil
	}
	var list []finding.Finding
	for _, q := range m.Ask {
		if !c.Get(answerFact(q)).Known() {
			list = append(list, finding.Warns(finding.AskedFirst, q, q,
				"if not, answer no, try it, and come back"))
		}
	}
	return list
}

func answerFact(question string) card.ID {
	sum := sha256.Sum256([]byte(question))
	return card.FactAnswer.Of(hex.EncodeToString(sum[:4]))
}

// answered keeps that the questions were said yes to; a step after them is
// reached in no other way.
func answered(c *card.Card, questions []string) {
	for _, q := range questions {
		if !c.Get(answerFact(q)).Known() {
			c.Set(answerFact(q), card.Fact{Value: "yes", Source: card.Said})
		}
	}
}

// baseFinding holds the manufacturer's firmware against the version a model file
// wants.
func baseFinding(c *card.Card, m *model.Model) []finding.Finding {
	if m == nil || m.Base == nil {
		return nil
	}
	b := m.Base
	f := finding.Finding{Name: finding.BaseVersion, Severity: finding.Stop, About: b.Variable,
		Remedy: "flash this first: " + b.From}
	want := strings.Trim(strings.Join([]string{orNothing(b.Min, "at least "), orNothing(b.Max, "at most ")},
		", "), ", ")
	have := c.Value(card.FactBase)
	switch {
	case have == "":
		f.Severity = finding.Warn
		f.Text = fmt.Sprintf("%s has to be %s, and the phone does not tell it in this mode", b.Variable, want)
	case b.Min != "" && card.CompareVersions(have, b.Min) < 0:
		f.Text = fmt.Sprintf("%s is %s: too old, %s is wanted", b.Variable, have, want)
	case b.Max != "" && card.CompareVersions(have, b.Max) > 0:
		f.Text = fmt.Sprintf("%s is %s: too new, %s is wanted", b.Variable, have, want)
	default:
		return nil
	}
	return []finding.Finding{f}
}

func orNothing(s, before string) string {
	if s == "" {
		return ""
	}
	return before + s
}

// firmwareFinding holds the manufacturer's firmware on a slot against the other
// slot's.
func firmwareFinding(c *card.Card, m *model.Model, slot string) []finding.Finding {
	other := card.Other(slot)
	if m == nil || other == "" {
		return nil
	}
	var differ, unknown []string
	for _, p := range m.Firmware {
		same, known := c.Get(card.FactDigest.Of(card.At(p, slot))).SameAs(
			c.Get(card.FactDigest.Of(card.At(p, other))))
		switch {
		case !known:
			unknown = append(unknown, p)
		case !same:
			differ = append(differ, p)
		}
	}
	f := finding.Finding{Name: finding.OtherFirmware, Severity: finding.Stop, About: slot,
		Remedy: "write the maker's firmware to both slots first"}
	switch {
	case len(differ) > 0:
		f.Text = fmt.Sprintf("%s on slot %s is not what slot %s has", strings.Join(differ, ", "), slot, other)
	case len(unknown) > 0:
		f.Severity = finding.Warn
		f.Text = fmt.Sprintf("nobody can tell whether %s is the same on both slots",
			strings.Join(unknown, ", "))
		f.Remedy = "a recovery with a root shell can read both: jarlid slot"
	default:
		return nil
	}
	return []finding.Finding{f}
}

// PreImages are the findings of a recovery that did not come up about images it needs on a slot. Where no
// model file names them, it is the device tree overlays, the usual one, on a phone that has them.
func PreImages(c *card.Card, m *model.Model, slot string) []finding.Finding {
	if m != nil {
		return preImageFindings(c, m, slot)
	}
	size := c.Get(card.FactSize.Of(card.At("dtbo", slot)))
	if !size.Known() || size.Value == card.Nothing || !preImageMissing(c, "dtbo", slot) {
		return nil
	}
	return []finding.Finding{missingPreImage("dtbo", slot, "some recoveries need an image of their own in "+
		card.At("dtbo", slot).String()+"; no job has written one on this phone")}
}

// preImageFindings names the images a recovery needs written before it.
func preImageFindings(c *card.Card, m *model.Model, slot string) (list []finding.Finding) {
	if m == nil {
		return nil
	}
	for _, base := range m.Recovery.Needs {
		if preImageMissing(c, base, slot) {
			list = append(list, missingPreImage(base, slot, fmt.Sprintf("third-party recoveries for %s need "+
				"an image of their own in %s; no job has written one", m.Name, card.At(base, slot))))
		}
	}
	return list
}

// preImageMissing reports whether no job has written an image for a recovery, or is about to.
func preImageMissing(c *card.Card, base, slot string) bool {
	f := c.Get(card.FactDigest.Of(card.At(base, slot)))
	return !f.Known() || makers(c, f, slot)
}

func missingPreImage(base, slot, text string) finding.Finding {
	return finding.Warns(finding.PreImageMissing, card.At(base, slot).String(), text,
		"write it first, or name it in the same command: jarlid flash "+strings.ToUpper(base)+"-IMAGE"+
			map[bool]string{true: " --into @both"}[slot != ""])
}

// makers reports whether an image was written by the job that wrote the boot image too, and that without a
// recovery in it: both are of a stock firmware set.
func makers(c *card.Card, f card.Fact, slot string) bool {
	home := card.At(place.RecoveryHome(c).Partition, slot)
	return f.Job > 0 && f.Job == c.Get(card.FactDigest.Of(home)).Job && !c.Get(card.FactSet.Of(home)).Known()
}

// contentFindings hold what a file is against where it goes. forced says that
// a person named the destination.
func contentFindings(f *ident.File, partition string, forced bool, home place.Home) []finding.Finding {
	name := place.FileName(f.Path)
	stop := func(n, text, remedy string) []finding.Finding {
		return []finding.Finding{finding.Stops(n, name, text, remedy)}
	}
	switch {
	case f.Short:
		return nil // said already, and more to the point
	case f.IsArchive():
		return stop(finding.StillWrapped, "it is "+f.What()+", and "+partition+" wants an image",
			"jarlid lift "+local.Quote(f.Path)+" -o DIR takes out what is in it")
	case f.Kind == ident.Unknown && !slices.ContainsFunc(f.GoesTo, strong):
		if f.Size == 0 {
			return stop(finding.WrongDestination, "the file is empty", "get it again")
		}
		return []finding.Finding{finding.Warns(finding.UnknownContent, name,
			"nothing is known about what is in "+name+"; that it belongs to "+partition+
				" is its name's word alone, or yours", "compare its digest with the source's first")}
	}
	var belongs []string
	for _, d := range f.GoesTo {
		if d.By == "name" && !forced {
			continue
		}
		p := d.Partition
		if p == "recovery" && home.Form == "own" {
			p = home.Partition
		}
		if p == partition || d.Partition == partition {
			return nil
		}
		belongs = append(belongs, p)
	}
	if f.Kind == ident.Recovery && home.Partition == partition && home.Form != "own" {
		return stop(finding.WrongDestination,
			fmt.Sprintf("it is a recovery for a partition of its own; this phone keeps its recovery in %s",
				home.Words()),
			"get the recovery in the form for this model, or give its ramdisk a home with: jarlid recovery "+
				"install")
	}
	if len(belongs) == 0 || fileSystem(f) && slices.Contains(systemLike, partition) &&
		!slices.ContainsFunc(f.GoesTo, strong) {
		return nil
	}
	return stop(finding.WrongDestination, fmt.Sprintf("it belongs to %s (%s), not to %s",
		strings.Join(belongs, " or "), f.GoesTo[0].Why, partition), "leave out --into")
}

// elsewhere reports whether a partition is known for something else than a recovery, on every phone: where
// nobody can tell where this one keeps its recovery, a person may name any other.
func elsewhere(partition string) bool {
	return partition != "recovery" && slices.Contains(place.Usual, partition) ||
		slices.Contains(systemLike, partition) || slices.Contains([]string{"misc", "metadata"}, partition) ||
		strings.HasPrefix(partition, "vbmeta")
}

var systemLike = append([]string{"userdata", "cache"}, place.Dynamic...)

func fileSystem(f *ident.File) bool {
	return f.Kind == ident.Ext4 || f.Kind == ident.EROFS || f.Kind == ident.F2FS
}

func strong(d ident.Destination) bool { return d.By != "name" }

// riskyFinding is for partitions whose loss a phone does not survive.
func riskyFinding(partition, what string, m *model.Model) []finding.Finding {
	if backup.Personal(partition) {
		return []finding.Finding{finding.Stops(finding.RiskyPartition, partition,
			fmt.Sprintf("%s holds this very phone's numbers and keys, which nobody else has; %s it "+
				"loses them for good", partition, what), "keep it first: jarlid backup take "+partition+
				" -o DIR; put back only this phone's own: jarlid backup restore "+partition+" -o DIR")}
	}
	if !ident.Risky(partition) && (m == nil || !slices.Contains(m.Risky, partition)) {
		return nil
	}
	return []finding.Finding{finding.Stops(finding.RiskyPartition, partition,
		fmt.Sprintf("%s belongs to the bootloader's stages, the partition table or the radio; %s "+
			"it wrongly can't be undone", partition, what),
		"only with the maker's own image for this very model: --accept risky-partition="+partition)}
}

// absentFinding is about a partition that is known not to be there.
func absentFinding(c *card.Card, p card.Partition) []finding.Finding {
	if size := c.Get(card.FactSize.Of(p)); !size.Known() || size.Value != card.Nothing {
		return nil
	}
	return []finding.Finding{finding.Stops(finding.NoSuchPartition, p.String(), "the phone has no partition "+
		p.String()+spell.DidYouMean(p.Base, basesOf(c)),
		"jarlid card shows what it has, and where its recovery lives")}
}

// basesOf are the names of the partitions that are known, without their slots.
func basesOf(c *card.Card) (names []string) {
	for _, row := range c.Partitions() {
		if base := row.Partition().Base; !slices.Contains(names, base) {
			names = append(names, base)
		}
	}
	return names
}

// roomFindings say how a logical partition gets its room.
func roomFindings(c *card.Card, p card.Partition, need int64) []finding.Finding {
	r := place.RoomFor(c, p, need)
	f := finding.Finding{Name: finding.NotEnoughRoom, Severity: finding.Stop, About: p.String()}
	switch {
	case !r.Known:
		f.Severity, f.About = finding.Warn, "super"
		f.Text = "nobody can tell in this mode how full super is; it is looked at again in userspace " +
			"fastboot, before anything is written there"
		f.Remedy = "a root shell in recovery, a saved card or the model file's group-size tells it beforehand"
	case !r.Fits:
		f.Text = fmt.Sprintf("%s are needed; it has %s, %s of the slot's group are free, and %s could "+
			"be freed", image.Size(need), image.Size(r.Have), image.Size(r.Free), image.Size(r.Freed))
		f.Remedy = "choose a smaller image"
	case len(r.Delete) > 0:
		f.Severity = finding.Warn
		f.Text = fmt.Sprintf("%s are needed and %s are free, so these go: %s (%s)", image.Size(need-r.Have),
			image.Size(r.Free), place.Names(r.Delete), image.Size(r.Freed))
		f.Remedy = "they are the maker's additions to the system; the maker's firmware set brings them back"
	default:
		return nil
	}
	return []finding.Finding{f}
}

func lockFinding(c *card.Card) []finding.Finding {
	unlocked, known := c.Yes(card.FactUnlocked)
	switch {
	case !known:
		return []finding.Finding{finding.Warns(finding.LockedBootloader, "",
			"the phone does not say whether it is unlocked",
			"a locked one will refuse, and nothing is harmed by it")}
	case !unlocked:
		return []finding.Finding{finding.Stops(finding.LockedBootloader, "",
			"the bootloader is locked and takes no images", "unlock it first; that erases all data")}
	}
	return nil
}

// imageLockFinding is lockFinding of an image: a manufacturer's loader that is locked takes its
// manufacturer's own.
func imageLockFinding(c *card.Card) []finding.Finding {
	list := lockFinding(c)
	unlocked, known := c.Yes(card.FactUnlocked)
	if verifies, _ := c.Yes(card.FactVerifies); verifies && known && !unlocked {
		list[0].Text = "the loader is locked and takes only what its maker signed"
		list[0].Remedy = "for the maker's own, have the loader judge it: --accept " +
			finding.LockedBootloader + "; anything else wants the phone unlocked, which erases all data"
	}
	return list
}

func batteryFinding(c *card.Card) []finding.Finding {
	f := finding.Finding{Name: finding.BatteryLow, Severity: finding.Stop,
		Remedy: "charge the phone to a third or more"}
	fresh := c.Get(card.FactCharged).Source == card.Read || c.Get(card.FactMillivolts).Source == card.Read
	if n, known := c.Number(card.FactPercent); known && (c.Get(card.FactPercent).Source == card.Read ||
		!fresh) {
		if n >= lowPercent {
			return nil
		}
		f.Text = fmt.Sprintf("the battery is at %d %%, %d %% are needed%s", n, lowPercent,
			place.ByJob(c.Get(card.FactPercent)))
		return []finding.Finding{f}
	}
	if yes, known := c.Yes(card.FactCharged); known {
		if yes {
			return nil
		}
		f.Text = "the bootloader says that the battery does not suffice"
		return []finding.Finding{f}
	}
	if n, known := c.Number(card.FactMillivolts); known {
		if n >= lowMillivolts {
			return nil
		}
		f.Text = fmt.Sprintf("the battery gives %.2f V, %.2f V are needed", float64(n)/1000,
			float64(lowMillivolts)/1000)
		return []finding.Finding{f}
	}
	f.Severity, f.Text = finding.Warn, "the phone does not tell in this mode how full its battery is"
	return []finding.Finding{f}
}

// holdsFinding: what was put into the storage goes with the data.
func holdsFinding(c *card.Card) []finding.Finding {
	text := ""
	switch put, lying := waiting(c, "storage", c.Value(card.FactStored.Of("storage"))),
		waiting(c, "storage", c.Value(card.FactLying.Of("storage"))); {
	case lying != "" && lying != card.Nothing: // read just now
		text = lying + " lies in the shared storage, which goes now"
	case put != "":
		text = put + " was put into the shared storage, which goes now" +
			place.ByJob(c.Get(card.FactStored.Of("storage")))
	default:
		return nil
	}
	return []finding.Finding{finding.Stops(finding.StorageHolds, "userdata", text,
		"put it onto a memory card, or put it there again afterwards; or leave the "+
			"storage: jarlid wipe apps")}
}

const (
	// A third of a charge carries a phone through the longest install; below
	// 3.6 V a lithium cell has some tenth of its charge left.
	lowPercent    = 30
	lowMillivolts = 3600
)

// waiting gives the names of a list that were not installed from their storage yet.
func waiting(c *card.Card, storage string, list string) string {
	used := names(c.Value(card.FactUsed.Of(storage)))
	return strings.Join(slices.DeleteFunc(names(list), func(n string) bool {
		return slices.Contains(used, n)
	}), ", ")
}

// accountFinding: accounts that are signed in when the data goes may be asked
// for afterwards, by the phone's protection against thieves.
func accountFinding(c *card.Card) []finding.Finding {
	f := finding.Finding{Name: finding.AccountLock, Severity: finding.Warn,
		Remedy: "sign out of every account in the system's settings first, or have the passwords at hand"}
	n, known := c.Number(card.FactAccounts)
	switch {
	case known && n == 0, !known && c.Value(card.FactData) == card.DataFormatted:
		return nil
	case known:
		f.Severity = finding.Stop
		f.Text = fmt.Sprintf("%d accounts are signed in (%s); the maker's system asks for them after the "+
			"wipe and goes no further without", n, place.SourceWords(c.Get(card.FactAccounts)))
		if n == 1 {
			f.Text = strings.Replace(strings.Replace(f.Text, "accounts are", "account is", 1),
				"asks for them", "asks for it", 1)
		}
	default:
		f.Text = "nobody can tell in this mode whether accounts are signed in; the maker's system asks for " +
			"them after the wipe"
	}
	return []finding.Finding{f}
}

// names takes a list of names apart.
func names(list string) []string {
	if list == "" {
		return nil
	}
	return strings.Split(list, ", ")
}
