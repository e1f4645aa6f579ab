package card

import (
	"fmt"
	"slices"
	"strings"
)

// Name is a fact's name. Each is declared once, in the table below.
type Name string

// ID is one fact: its name, and the slot, partition or word it is keyed by, ""
// for a fact there is only one of. It is compared whole.
type ID struct {
	Name Name
	Key  string
}

// ID gives the fact itself.
func (i ID) ID() ID { return i }

// String writes the fact as NAME or NAME:KEY.
func (i ID) String() string {
	if i.Key == "" {
		return string(i.Name)
	}
	return string(i.Name) + ":" + i.Key
}

// Which names a fact: a plain one, or a keyed one with its key.
type Which interface{ ID() ID }

// A Plain fact is there once; the others are keyed by a slot's letter, a
// partition, or a word (a storage, a command of the bootloader, a question).
type (
	Plain       Name
	BySlot      Name
	ByPartition Name
	ByWord      Name
)

// ID gives the fact.
func (p Plain) ID() ID { return ID{Name: Name(p)} }

// Of gives the fact about one slot.
func (s BySlot) Of(slot string) ID { return ID{Name(s), slot} }

// Of gives the fact about one partition.
func (b ByPartition) Of(p Partition) ID { return ID{Name(b), p.String()} }

// Of gives the fact about one word.
func (w ByWord) Of(word string) ID { return ID{Name(w), word} }

// Keyed says what a fact is keyed by.
type Keyed string

// The keys.
const (
	ByNothing    Keyed = ""
	BySlots      Keyed = "slot"
	ByPartitions Keyed = "partition"
	ByWords      Keyed = "word"
)

// Kind is the kind of a fact's value.
type Kind string

// The kinds.
const (
	Text   Kind = "text"
	YesNoK Kind = "yes or no"
	Number Kind = "number"
	Bytes  Kind = "bytes"
	Digest Kind = "digest" // SHA-256 in hex
	List   Kind = "list"   // texts with commas between
)

// Stay says for how long a fact is true.
type Stay int

// How long facts last: Passing ones for the moment they are read in, so that no
// journal keeps them; Changing ones until a job or the phone changes them, so that
// a journal keeps what a job made of them; Lasting ones until a job changes them,
// so that a journal keeps them when they are only read.
const (
	Passing Stay = iota
	Changing
	Lasting
)

// Def declares a fact.
type Def struct {
	Name  Name
	By    Keyed
	Kind  Kind
	Stay  Stay
	Modes []Mode // that can read it; none: it is never read, only done or said
	// From are the partitions (without a slot) from whose contents it is learnt:
	// writing one of them changes or forgets it. Own stands for the partition that
	// it is keyed by.
	From []string
	// Section, Label and Where show it on a card: where it could be read, in words.
	Section, Label, Where string
}

// Own is in Def.From for the partition a fact is keyed by.
const Own = "*"

var (
	loader    = ImageModes()
	userspace = []Mode{Fastbootd}
	shells    = ModesThat(func(d ModeDef) bool { return d.Shell })
	system    = []Mode{System}
	root      = []Mode{Recovery}
	every     = Modes
	most      = ModesThat(func(d ModeDef) bool { return !d.Silent })
	fastboots = append(FastbootModes(), Recovery)
)

const (
	InBootloader = "in the bootloader"
	inSystem     = "in a started system"
	inShell      = "in recovery or system, by a shell"
	inRoot       = "in recovery, by a root shell"
)

// Defs is the table: every fact there is, those a card shows in its order.
var Defs = []Def{
	{Name: Name(FactMode), Kind: Text, Modes: every},
	{Name: Name(FactModel), Kind: Text, Stay: Lasting, Modes: every, Section: "identity", Label: "model",
		Where: "in every mode"},
	{Name: Name(FactProduct), Kind: Text, Stay: Lasting, Modes: every, Section: "identity",
		Label: "calls itself", Where: "in every mode"},
	{Name: Name(FactVariant), Kind: Text, Stay: Lasting, Modes: loader, Section: "identity", Label: "variant",
		Where: InBootloader},
	{Name: Name(FactSerial), Kind: Text, Stay: Lasting, Modes: most, Section: "identity",
		Label: "serial number", Where: "in every mode but sideload"},
	{Name: Name(FactOtherSerial), Kind: Text, Stay: Changing, Modes: most},
	{Name: Name(FactUnlocked), Kind: YesNoK, Stay: Lasting, Modes: most, Section: "lock", Label: "unlocked",
		Where: InBootloader},
	{Name: Name(FactVerifies), Kind: YesNoK, Modes: loader},
	{Name: Name(FactScreen), Kind: Text, Modes: []Mode{Loader}, Section: "lock", Label: "its loader shows",
		Where: "in its maker's loader"},
	{Name: Name(FactLoaderUSB), Kind: Text, Stay: Lasting, Modes: []Mode{Loader}},
	{Name: Name(FactMayUnlock), Kind: YesNoK, Stay: Changing, Modes: []Mode{Bootloader}, Section: "lock",
		Label: "may be unlocked", Where: InBootloader},
	{Name: Name(FactVerified), Kind: Text, Stay: Changing, Modes: shells, Section: "lock",
		Label: "verified boot", Where: inShell},
	{Name: Name(FactVerity), Kind: Text, Stay: Lasting, Modes: shells, Section: "lock",
		Label: "hash trees checked", Where: inShell, From: []string{"vbmeta"}},
	{Name: Name(FactSlots), Kind: Number, Stay: Lasting, Modes: most, Section: "slots", Label: "slots",
		Where: InBootloader},
	{Name: Name(FactStarted), Kind: Text, Stay: Changing, Modes: shells, Section: "slots",
		Label: "started from slot", Where: inShell},
	{Name: Name(FactNext), Kind: Text, Stay: Changing, Modes: fastboots, Section: "slots",
		Label: "slot that starts next", Where: InBootloader + ", or by a root shell", From: []string{"misc"}},
	{Name: Name(FactSnapshot), Kind: Text, Stay: Changing, Modes: fastboots, Section: "slots",
		Label: "update being merged", Where: InBootloader + ", where there are any", From: []string{"misc"}},
	{Name: Name(FactBootable), By: BySlots, Kind: YesNoK, Stay: Changing, Modes: fastboots,
		From: []string{"misc"}},
	{Name: Name(FactGood), By: BySlots, Kind: YesNoK, Stay: Changing, Modes: fastboots,
		From: []string{"misc"}},
	{Name: Name(FactTries), By: BySlots, Kind: Number, Stay: Changing, Modes: fastboots,
		From: []string{"misc"}},
	{Name: Name(FactBootloader), Kind: Text, Stay: Lasting, Modes: most, Section: "firmware",
		Label: "bootloader version", Where: InBootloader, From: []string{"bootloader", "xbl",
			"abl", "aboot"}},
	{Name: Name(FactRadio), Kind: Text, Stay: Lasting, Modes: loader, Section: "firmware",
		Label: "radio version", Where: InBootloader, From: []string{"radio", "modem"}},
	{Name: Name(FactBase), Kind: Text, Stay: Lasting, Modes: loader, From: []string{"bootloader", "xbl",
		"abl", "aboot", "radio", "modem"}},
	{Name: Name(FactRollback), By: ByWords, Kind: Number, Stay: Changing, Section: "firmware",
		Label: "oldest image it takes", Where: "seldom told; vbmeta images state theirs"},
	{Name: Name(FactUserspace), Kind: YesNoK, Stay: Changing, Modes: userspace, Section: "firmware",
		Label: "userspace fastboot", Where: "by trying: jarlid go fastbootd"},
	{Name: Name(FactCommand), By: ByWords, Kind: YesNoK, Stay: Changing, Modes: loader,
		From: []string{"bootloader", "xbl", "abl", "aboot"}},
	{Name: Name(FactVariable), By: ByWords, Kind: YesNoK, Stay: Lasting, Modes: []Mode{Bootloader},
		From: []string{"bootloader", "xbl", "abl", "aboot"}},
	{Name: Name(FactGroupMax), Kind: Bytes, Stay: Lasting, Modes: root, Section: "firmware",
		Label: "room for logical partitions", Where: inRoot + ", or in a model file",
		From: []string{"super"}},
	{Name: Name(FactDynamic), Kind: YesNoK, Section: "firmware", Label: "dynamic partitions",
		Where: InBootloader + ", or by a root shell"},
	{Name: Name(FactSuperFree), Kind: Bytes, Stay: Changing, Modes: root, From: []string{"super"}},
	{Name: Name(FactVersion), Kind: Text, Stay: Lasting, Modes: system, Section: "system", Label: "version",
		Where: inSystem, From: []string{"system"}},
	{Name: Name(FactBuild), Kind: Text, Stay: Lasting, Modes: system, Section: "system", Label: "build",
		Where: inSystem, From: []string{"system"}},
	{Name: Name(FactPatch), By: BySlots, Kind: Text, Stay: Lasting,
		Modes:   []Mode{System, Recovery, Fastbootd, Bootloader},
		Section: "system", Label: "security patch", Where: inSystem, From: []string{"system"}},
	{Name: Name(FactRecovery), Kind: Text, Modes: root, Section: "system", Label: "recovery running",
		Where: "in the recovery itself"},
	{Name: Name(FactData), Kind: Text, Stay: Lasting, Modes: shells, Section: "system", Label: "user data",
		Where: inRoot, From: []string{"userdata"}},
	{Name: Name(FactCrypto), Kind: Text, Stay: Lasting, Modes: shells, Section: "system",
		Label: "encryption of the data", Where: inShell},
	{Name: Name(FactAccounts), Kind: Number, Stay: Lasting, Modes: system, Section: "system",
		Label: "accounts signed in", Where: inSystem, From: []string{"userdata"}},
	{Name: Name(FactLock), Kind: YesNoK, Stay: Lasting, Modes: system, Section: "system",
		Label: "screen locked", Where: inSystem, From: []string{"userdata"}},
	{Name: Name(FactDebugging), Kind: Text, Stay: Lasting, Modes: system, Section: "system",
		Label: "debugging", Where: inSystem, From: []string{"userdata"}},
	{Name: Name(FactRoot), Kind: YesNoK, Modes: shells, Section: "system", Label: "root shell",
		Where: inRoot},
	{Name: Name(FactCPU), Kind: Text, Stay: Lasting, Modes: most, Section: "system", Label: "processor",
		Where: inShell},
	{Name: Name(FactCPUs), Kind: List, Stay: Lasting, Modes: shells},
	{Name: Name(FactTreble), Kind: YesNoK, Stay: Lasting, Modes: []Mode{System, Fastbootd}, Section: "system",
		Label: "Treble", Where: inSystem, From: []string{"vendor"}},
	{Name: Name(FactVNDK), Kind: Text, Stay: Lasting, Modes: []Mode{System, Fastbootd, Recovery},
		Section: "system", Label: "VNDK version", Where: inSystem, From: []string{"vendor"}},
	{Name: Name(FactAPI), Kind: Number, Stay: Lasting, Modes: system, Section: "system", Label: "API level",
		Where: inSystem, From: []string{"system"}},
	{Name: Name(FactFirstAPI), Kind: Number, Stay: Lasting, Modes: []Mode{System, Fastbootd, Recovery},
		Section: "system", Label: "API level when sold", Where: inSystem, From: []string{"vendor"}},
	{Name: Name(FactRelease), By: BySlots, Kind: Text, Stay: Lasting, Modes: shells,
		From: []string{"system"}},
	{Name: Name(FactLevel), By: BySlots, Kind: Number, Stay: Lasting, Modes: shells,
		From: []string{"system"}},
	{Name: Name(FactKernel), Kind: Text, Stay: Lasting, Modes: shells, Section: "system", Label: "kernel",
		Where: inSystem + ", or by a root shell", From: []string{"boot"}},
	{Name: Name(FactFirstStage), Kind: Text, Stay: Lasting, Modes: root, Section: "system",
		Label: "first partitions mounted by", Where: inRoot, From: []string{"boot", "init_boot"}},
	{Name: Name(FactPolicy), Kind: Text, Stay: Lasting, Modes: shells, Section: "system",
		Label: "vendor's SELinux policy", Where: inRoot, From: []string{"vendor"}},
	{Name: Name(FactOverlays), Kind: List, Stay: Lasting, Modes: shells, Section: "system",
		Label: "vendor's overlay apps", Where: inSystem + ", or by a root shell", From: []string{"vendor"}},
	{Name: Name(FactBound), Kind: Text, Stay: Lasting, Modes: root, Section: "system",
		Label: "data needs patch level", Where: inRoot, From: []string{"userdata"}},
	{Name: Name(FactPercent), Kind: Number, Stay: Lasting, Modes: most, Section: "battery", Label: "charge",
		Where: inShell},
	{Name: Name(FactMillivolts), Kind: Number, Modes: loader, Section: "battery", Label: "voltage",
		Where: InBootloader},
	{Name: Name(FactCharged), Kind: YesNoK, Modes: loader, Section: "battery", Label: "enough to write",
		Where: InBootloader},

	{Name: Name(FactDownload), Kind: Bytes, Modes: loader},
	{Name: Name(FactFetch), Kind: Bytes, Modes: userspace},
	{Name: Name(FactSize), By: ByPartitions, Kind: Bytes, Stay: Lasting, Modes: fastboots},
	{Name: Name(FactSlotted), By: ByPartitions, Kind: YesNoK, Stay: Lasting, Modes: loader},
	{Name: Name(FactNumber), By: ByPartitions, Kind: Number, Stay: Lasting, Modes: loader},
	{Name: Name(FactType), By: ByPartitions, Kind: Text, Stay: Lasting, Modes: loader},
	{Name: Name(FactLogical), By: ByPartitions, Kind: YesNoK, Stay: Lasting, Modes: fastboots},
	{Name: Name(FactHolds), By: ByPartitions, Kind: Text, Stay: Lasting, Modes: shells, From: []string{Own}},
	{Name: Name(FactDigest), By: ByPartitions, Kind: Digest, Stay: Changing, Modes: root,
		From: []string{Own}},
	{Name: Name(FactQuiet), By: ByPartitions, Kind: YesNoK, Stay: Changing, From: []string{Own}},
	{Name: Name(FactSet), By: ByPartitions, Kind: Text, Stay: Changing, From: []string{Own}},
	{Name: Name(FactKeys), By: ByPartitions, Kind: List, Stay: Changing, From: []string{Own}},
	{Name: Name(FactRecoveryCPU), By: ByPartitions, Kind: Text, Stay: Changing, From: []string{Own}},
	{Name: Name(FactFS), By: ByPartitions, Kind: Text, Modes: root, From: []string{Own}},
	{Name: Name(FactShelved), By: ByPartitions, Kind: List, Stay: Changing, Modes: root, From: []string{Own}},
	{Name: Name(FactRoom), By: ByPartitions, Kind: Bytes, Modes: root, From: []string{Own}},
	{Name: Name(FactRestores), By: ByPartitions, Kind: YesNoK, Stay: Changing, From: []string{Own}},
	{Name: Name(FactPut), By: BySlots, Kind: YesNoK, Stay: Changing, From: []string{"system"}},
	{Name: Name(FactFailed), By: BySlots, Kind: Text, Stay: Changing, From: []string{"system", "vendor",
		"product", "boot", "init_boot", "vendor_boot", "dtbo", "vbmeta", "super", "userdata"}},
	{Name: Name(FactToldStart), Kind: YesNoK, Stay: Changing},
	{Name: Name(FactCameUp), By: BySlots, Kind: YesNoK, Stay: Lasting, Modes: system,
		From: []string{"system", "boot", "vbmeta"}},
	{Name: Name(FactBooted), Kind: YesNoK, Modes: system},
	{Name: Name(FactGeneric), By: BySlots, Kind: YesNoK, Stay: Changing, From: []string{"system"}},
	{Name: Name(FactAddons), By: BySlots, Kind: List, Stay: Changing, From: []string{"system"}},
	{Name: Name(FactFlags), By: ByPartitions, Kind: Number, Stay: Changing, Modes: fastboots,
		From: []string{Own}},
	{Name: Name(FactTreeRoot), By: ByPartitions, Kind: Digest, Stay: Changing, Modes: root,
		From: []string{"vbmeta", "vbmeta_system", "vbmeta_vendor"}},
	{Name: Name(FactTree), By: ByPartitions, Kind: Text, Modes: root,
		From: []string{"vbmeta", "vbmeta_system", "vbmeta_vendor"}},
	{Name: Name(FactTrusts), Kind: List, Modes: root},
	{Name: Name(FactReason), Kind: Text, Modes: root, From: []string{"misc"}},
	{Name: Name(FactTemporary), Kind: YesNoK, Stay: Changing},
	{Name: Name(FactFree), By: ByWords, Kind: Bytes, Modes: shells, From: []string{"userdata"}},
	{Name: Name(FactMounted), By: ByWords, Kind: Text, Modes: shells, From: []string{"userdata"}},
	{Name: Name(FactStored), By: ByWords, Kind: List, Stay: Changing, From: []string{"userdata"}},
	{Name: Name(FactBackedUp), Kind: Text, Stay: Changing},
	{Name: Name(FactUsed), By: ByWords, Kind: List, Stay: Changing, From: []string{"userdata"}},
	{Name: Name(FactLying), By: ByWords, Kind: List, Modes: root, From: []string{"userdata"}},
	{Name: Name(FactForeign), By: BySlots, Kind: YesNoK, Stay: Changing, From: []string{"userdata"}},
	{Name: Name(FactHome), Kind: Text, Stay: Changing},
	{Name: Name(FactKeysFor), By: ByWords, Kind: Text, Stay: Changing},
	{Name: Name(FactAnswer), By: ByWords, Kind: YesNoK, Stay: Changing},
	{Name: Name(FactVendorAPI), Kind: Number, Stay: Lasting, Modes: shells, From: []string{"vendor"}},
	{Name: Name(FactVendor), Kind: YesNoK, Stay: Lasting, Modes: shells, From: []string{"vendor"}},
	{Name: Name(FactVendor64), Kind: Number, Stay: Lasting, Modes: shells, From: []string{"vendor"}},
	{Name: Name(FactManifest), Kind: Text, Stay: Lasting, Modes: shells, From: []string{"vendor", "odm"}},
	{Name: Name(FactMatrix), Kind: Text, Stay: Lasting, Modes: shells, From: []string{"vendor"}},
	{Name: Name(FactKernelConf), Kind: Text, Stay: Lasting, Modes: shells, From: []string{"boot"}},
	{Name: Name(FactStageKeys), Kind: List, Stay: Lasting, Modes: root, From: []string{"boot", "init_boot",
		"vendor_boot"}},
}

// MarshalText writes the fact as in JSON.
func (i ID) MarshalText() ([]byte, error) { return []byte(i.String()), nil }

// UnmarshalText reads what MarshalText wrote.
func (i *ID) UnmarshalText(b []byte) (err error) {
	*i, err = ParseID(string(b))
	return err
}

// Def gives a fact's declaration; ok is false for a name that is not in the
// table.
func (i ID) Def() (d Def, ok bool) {
	n := slices.IndexFunc(Defs, func(d Def) bool { return d.Name == i.Name })
	if n < 0 {
		return Def{}, false
	}
	return Defs[n], true
}

// Stay tells for how long the fact is true. One that is not in the table is
// Passing: nothing unknown is kept.
func (i ID) Stay() Stay {
	d, _ := i.Def()
	return d.Stay
}

// LearntFrom reports whether the fact is learnt from the contents of a partition.
// Of facts about no slot in particular it is the slot the phone runs on or, where
// nothing runs, the one that is next.
func (i ID) LearntFrom(p Partition, running string) bool {
	d, _ := i.Def()
	for _, from := range d.From {
		switch {
		case from == Own && i.Key == p.String():
			return true
		case from != p.Base:
		case d.By == ByPartitions:
			if p.Slot == "" || Part(i.Key).Slot == p.Slot {
				return true
			}
		case d.By == ByWords && i.Key != "storage": // of the storages only the shared one is in a partition
		case d.By == BySlots && p.Slot != "" && i.Key != "":
			if i.Key == p.Slot {
				return true
			}
		case p.Slot == "" || running == "" || p.Slot == running:
			return true
		}
	}
	return false
}

// ParseID reads a fact as NAME or NAME:KEY. A name that is not in the table is an
// error, and so is a key that is missing or not wanted.
func ParseID(s string) (ID, error) {
	name, key, keyed := strings.Cut(s, ":")
	i := ID{Name(name), key}
	d, ok := i.Def()
	switch {
	case !ok:
		return i, fmt.Errorf("there is no fact %q", name)
	case keyed != (d.By != ByNothing) && d.By != BySlots:
		return i, fmt.Errorf("the fact %s is keyed by %q, and there is %q", name, d.By, s)
	case d.By == ByPartitions:
		i.Key = Part(key).String()
	}
	return i, nil
}
