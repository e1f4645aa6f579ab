// Package card holds what is known about one phone: facts, each with the
// source for it.
package card

import (
	"cmp"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Source says where a fact comes from.
type Source string

// The sources. A fact without any is Unknown.
const (
	Read    Source = "read"    // the phone said so, now
	Saved   Source = "saved"   // a card kept earlier
	Journal Source = "journal" // what Jar Lid itself did
	Model   Source = "model"   // the model file
	Said    Source = "said"    // the person answered
	// worked out from other facts; Why says which
	Concluded Source = "concluded"
	// what phones with certain facts commonly are: the weakest that a conclusion rests on
	Usual   Source = "usual"
	Unknown Source = "unknown"
)

// Mode is what a phone is running.
type Mode string

// The modes; None is a phone that shows nothing.
const (
	None       Mode = ""
	Bootloader Mode = "bootloader"
	Fastbootd  Mode = "fastbootd" // fastboot in userspace
	Recovery   Mode = "recovery"
	Sideload   Mode = "sideload"
	System     Mode = "system"
	Loader     Mode = "loader" // a manufacturer's own, which speaks no fastboot
)

// The facts. What each is, how long it lasts and what it is learnt from is in
// Defs.
const (
	FactMode       Plain       = "mode"
	FactModel      Plain       = "model"
	FactProduct    Plain       = "product" // the phone's own word, before aliases
	FactSerial     Plain       = "serial"
	FactUnlocked   Plain       = "unlocked"   // yes, no
	FactSlots      Plain       = "slot.count" // 0 or 1: no slots
	FactStarted    Plain       = "slot.started"
	FactNext       Plain       = "slot.next"
	FactBootable   BySlot      = "slot.bootable"
	FactGood       BySlot      = "slot.successful"
	FactTries      BySlot      = "slot.tries"
	FactPercent    Plain       = "battery.percent"
	FactMillivolts Plain       = "battery.millivolts"
	FactCharged    Plain       = "battery.suffices" // yes, no: the bootloader's own verdict
	FactDownload   Plain       = "download.max"     // bytes
	FactSize       ByPartition = "partition.size"   // bytes; Nothing: there is no such partition
	FactSlotted    ByPartition = "partition.slotted"
	FactHolds      ByPartition = "holds"           // what a partition holds, in words
	FactDigest     ByPartition = "digest"          // SHA-256 of what was written to a partition
	FactData       Plain       = "data"            // encrypted, formatted, plain
	FactCrypto     Plain       = "data.encryption" // none, file, whole
	// yes: another system encrypted the data than the one on the slot
	FactForeign   BySlot      = "data.foreign"
	FactAccounts  Plain       = "accounts"    // how many are signed in
	FactLock      Plain       = "screen.lock" // yes, no
	FactDebugging Plain       = "debugging"
	FactRecovery  Plain       = "recovery.running"   // what the running recovery calls itself
	FactRoot      Plain       = "root.shell"         // yes, no
	FactTemporary Plain       = "recovery.temporary" // yes: it was started without being written
	FactVersion   Plain       = "system.version"     // what the running system calls itself
	FactBuild     Plain       = "system.build"
	FactPatch     BySlot      = "security.patch" // of the system there
	FactRelease   BySlot      = "system.release" // of the platform, of the system there: 14
	FactLevel     BySlot      = "system.level"   // its API level
	FactFree      ByWord      = "free"           // bytes, by storage: storage, sd
	FactRoom      ByPartition = "room"           // bytes free in a partition's file system
	FactStored    ByWord      = "stored"         // names of the files put to a storage
	// yes, can (it is not, and a trial shows that it can be), no; by area: data, storage, sd
	FactMounted ByWord = "mounted"
	FactLying   ByWord = "lying" // packages found in a storage
	// the partition a recovery lives in, without a slot
	FactHome  Plain       = "recovery.home"
	FactQuiet ByPartition = "recovery.quiet" // yes when the recovery there gives no shell
	FactSet   ByPartition = "recovery.set"   // the recovery that was set there, as it is called
	FactKeys  ByPartition = "recovery.keys"  // as FactTrusts, of the recovery there
	// the processor the recovery there is made for, as cpu.abi
	FactRecoveryCPU ByPartition = "recovery.cpu"
	FactFlags       ByPartition = "vbmeta.flags"    // the flags of the vbmeta there, a number
	FactTreeRoot    ByPartition = "tree.root"       // the root digest its vbmeta states
	FactTree        ByPartition = "tree.state"      // enforced, off, none
	FactReason      Plain       = "recovery.reason" // what a system that gave up left in misc; "none"
	FactShelved     ByPartition = "shelved"         // paths that were moved aside
	FactFS          ByPartition = "filesystem"      // ext4, ext4-shared, erofs, f2fs, squashfs
	// yes: the files there put the manufacturer's recovery back at each start
	FactRestores ByPartition = "recovery.restored"
	FactPut      BySlot      = "system.put" // yes: a job wrote or installed the system there
	// how its last start ended, when it did not come up: loop, recovery, bootloader, other-slot
	FactFailed    BySlot = "start.failed"
	FactToldStart Plain  = "start.told"     // yes: the last job told the phone to start its system
	FactCameUp    BySlot = "system.seen"    // yes: the system there was seen running
	FactGeneric   BySlot = "system.generic" // yes: a system made for no phone in particular
	FactBooted    Plain  = "system.booted"  // yes: the running system has finished its start
	FactAddons    BySlot = "addons"         // what was added to a slot's system
	// SHA-256 of the keys the running recovery trusts, with commas; "none"
	FactTrusts Plain = "recovery.trusts"

	// yes, no: its recoveries have userspace fastboot
	FactUserspace   Plain       = "fastboot.userspace"
	FactCommand     ByWord      = "bootloader.command"  // no: the bootloader does not know this one
	FactVariable    ByWord      = "bootloader.variable" // no: the bootloader does not know this one
	FactBootloader  Plain       = "bootloader.version"
	FactScreen      Plain       = "loader.screen"   // what a manufacturer's loader shows
	FactLoaderUSB   Plain       = "loader.usb"      // the numbers it has on USB: VENDOR:PRODUCT in hex
	FactVerifies    Plain       = "loader.verifies" // yes: it takes only what its manufacturer signed
	FactRadio       Plain       = "radio.version"
	FactBase        Plain       = "firmware.base" // the version a model file's base is about
	FactVariant     Plain       = "variant"
	FactMayUnlock   Plain       = "unlock.allowed"    // yes, no
	FactVerified    Plain       = "verified.boot"     // green, yellow, orange, red
	FactVerity      Plain       = "verified.hashtree" // enforcing, disabled, ...
	FactSnapshot    Plain       = "snapshot.status"   // none, snapshotted, merging
	FactRollback    ByWord      = "rollback.index"    // by location
	FactCPU         Plain       = "cpu.abi"
	FactCPUs        Plain       = "cpu.abilist"
	FactTreble      Plain       = "treble" // yes, no
	FactVNDK        Plain       = "vndk"
	FactAPI         Plain       = "api.level"
	FactFirstAPI    Plain       = "api.first"
	FactKernel      Plain       = "kernel.version"
	FactType        ByPartition = "partition.type"
	FactNumber      ByPartition = "partition.number"   // in the table of a manufacturer's loader
	FactLogical     ByPartition = "partition.logical"  // yes, no
	FactDynamic     Plain       = "partitions.dynamic" // yes: system and its like are in super
	FactGroupMax    Plain       = "super.group.max"    // room for one slot's logical partitions, in bytes
	FactFetch       Plain       = "fetch.max"          // bytes that userspace fastboot gives out at once
	FactAnswer      ByWord      = "answer"             // yes: a question of the model file was answered so
	FactOtherSerial Plain       = "serial.other"       // what another mode reports
	FactKeysFor     ByWord      = "hands"              // what a person presses to bring it into a mode

	FactBackedUp Plain = "backup.folder" // the folder the last backup of the storage was taken into
	// names of the packages in a storage that were installed from there
	FactUsed      ByWord = "used"
	FactVendorAPI Plain  = "vendor.api.level" // of the interface the vendor partition was built for
	FactVendor    Plain  = "vendor.present"   // yes, no: a vendor partition with an interface of its own
	FactVendor64  Plain  = "vendor.programs"  // 64, 32: the width of the vendor's programs
	FactPolicy    Plain  = "sepolicy.version" // of the platform's policy the vendor was built with: 30.0
	FactManifest  Plain  = "vintf.manifest"   // the device manifest, as XML
	FactMatrix    Plain  = "vintf.matrix"     // the device's matrix, as XML
	// names of resource overlays in the vendor partition, with commas; "none"
	FactOverlays   Plain = "vendor.overlays"
	FactKernelConf Plain = "kernel.config" // lines CONFIG_X=y
	FactFirstStage Plain = "first.stage"   // kernel, ramdisk, plain: what mounts the system
	// SHA-256 of the keys the first stage trusts for generic images, with commas; "none"
	FactStageKeys Plain = "first.stage.keys"
	// the security patch level the keys of the data are bound to: 2021-03
	FactBound     Plain = "data.patch.level"
	FactSuperFree Plain = "super.free" // bytes of super that no partition of any slot has
)

// EverySlot are the keys of facts about slots: without one, and both.
var EverySlot = []string{"", "a", "b"}

// Nothing is what an erased partition holds, and the size of one that is not there.
const Nothing = "nothing"

// Values of FactFirstStage ("System-as-root" and "Two-stage init" in the platform's
// architecture documentation).
const (
	StageKernel  = "kernel"  // the kernel mounts the system as its root
	StageRamdisk = "ramdisk" // a first stage in a ramdisk does
	StagePlain   = "plain"   // the root is a ramdisk, the system is mounted at /system
)

// Values of FactMounted.
const (
	MountedYes = "yes"
	MountedCan = "can"
	MountedNo  = "no"
)

// Values of FactCrypto.
const (
	CryptoNone  = "none"
	CryptoFile  = "file"
	CryptoWhole = "whole"
)

// Values of FactData.
const (
	DataEncrypted = "encrypted"
	DataFormatted = "formatted"
	DataPlain     = "plain"
)

// Fact is a value with its source.
type Fact struct {
	Value  string    `json:"value"`
	Source Source    `json:"source"`
	Mode   Mode      `json:"mode,omitempty"` // the mode it was read in
	At     time.Time `json:"at,omitzero"`
	// for an unknown: why, in words; of a conclusion what it rests on
	Why   string `json:"why,omitempty"`
	Rests Source `json:"rests_on,omitempty"` // of a conclusion: the weakest source it rests on
	// Pending says that there will be a value, which nobody has worked out yet: the
	// digest of a file that is about to be written. Value then names what it is of, so
	// that two of the same can be told.
	Pending bool `json:"pending,omitempty"`
	Job     int  `json:"job,omitempty"` // the number of the job that made it so
}

// Known reports whether there is a value.
func (f Fact) Known() bool { return f.Source != "" && f.Source != Unknown }

// SameAs reports whether two digests are the same, and whether that can be told.
func (f Fact) SameAs(o Fact) (same, known bool) {
	if !f.Known() || !o.Known() || f.Pending != o.Pending {
		return false, false
	}
	same = f.Value == o.Value
	return same, same || !f.Pending // two files may still hold the same
}

// Card is the facts about one phone. The zero Card is empty and ready.
type Card struct {
	facts map[ID]Fact
}

// Set puts a fact; an unknown one overrules what was known before.
func (c *Card) Set(w Which, f Fact) {
	if c.facts == nil {
		c.facts = map[ID]Fact{}
	}
	if f.Source == "" {
		f.Source = Unknown
	}
	c.facts[w.ID()] = f
}

// Learn puts value as a fact with the given source.
func (c *Card) Learn(w Which, value string, e Source) {
	c.Set(w, Fact{Value: value, Source: e, Mode: c.Mode()})
}

// Forget makes a fact unknown and says why.
func (c *Card) Forget(w Which, why string) { c.Set(w, Fact{Source: Unknown, Why: why}) }

// Get gives a fact, one with source Unknown when there is none.
func (c *Card) Get(w Which) Fact {
	f, ok := c.facts[w.ID()]
	if !ok {
		return Fact{Source: Unknown}
	}
	return f
}

// Value gives a fact's value, empty when unknown or pending.
func (c *Card) Value(w Which) string {
	if f := c.Get(w); f.Known() && !f.Pending {
		return f.Value
	}
	return ""
}

// Yes gives a yes-or-no fact.
func (c *Card) Yes(w Which) (yes, known bool) {
	switch c.Value(w) {
	case "yes":
		return true, true
	case "no":
		return false, true
	}
	return false, false
}

// Number gives a number fact.
func (c *Card) Number(w Which) (n int64, known bool) {
	n, err := strconv.ParseInt(c.Value(w), 10, 64)
	return n, err == nil
}

// Mode gives the mode the phone is in.
func (c *Card) Mode() Mode { return Mode(c.facts[FactMode.ID()].Value) }

// Running gives the slot the phone runs on or, where nothing runs, the one that is
// next; "" when neither is known.
func (c *Card) Running() string {
	if s := c.Value(FactStarted); s != "" {
		return s
	}
	return c.Value(FactNext)
}

// Landing gives the slot that starts next where the phone runs on the other one: something was
// installed or chosen, and not started yet. "" where both are one, or nobody knows.
func (c *Card) Landing() string {
	started, next := c.Value(FactStarted), c.Value(FactNext)
	if started == "" || started == next {
		return ""
	}
	return next
}

// Slots gives the slots' letters, none on a phone without slots. known is
// false when it can't be told.
func (c *Card) Slots() (slots []string, known bool) {
	n, known := c.Number(FactSlots)
	if !known || n < 2 {
		return nil, known
	}
	for i := range min(n, 4) {
		slots = append(slots, string(rune('a'+i)))
	}
	return slots, true
}

// There reports whether the phone is known to have a partition, without a slot or on slot a, and gives the
// fact that says so.
func (c *Card) There(base string) (ID, bool) {
	for _, slot := range []string{"", "a"} {
		i := FactSize.Of(At(base, slot))
		if _, known := c.Number(i); known {
			return i, true
		}
	}
	return ID{}, false
}

// Written makes every fact unknown that was learnt from the contents of a
// partition: something was written there, or it was erased.
func (c *Card) Written(p Partition, why string) {
	for _, i := range c.LearntFrom(p) {
		c.Forget(i, why)
	}
}

// LearntFrom gives the facts on the card that were learnt from the contents of a
// partition, sorted.
func (c *Card) LearntFrom(p Partition) []ID {
	var list []ID
	running := c.Running()
	for _, i := range c.IDs() {
		if i.LearntFrom(p, running) {
			list = append(list, i)
		}
	}
	return list
}

// IDs gives all facts, sorted.
func (c *Card) IDs() []ID {
	return slices.SortedFunc(maps.Keys(c.facts), func(a, b ID) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.Key, b.Key))
	})
}

// Clone gives an independent copy.
func (c *Card) Clone() *Card { return &Card{facts: maps.Clone(c.facts)} }

// Merge takes every fact of o that c does not know, or takes only for what is usual.
func (c *Card) Merge(o *Card) {
	for i, f := range o.facts {
		if had := c.Get(i); !had.Known() || had.Rests == Usual {
			c.Set(i, f)
		}
	}
}

// Facts gives all facts as they are written in JSON: by NAME or NAME:KEY.
func (c *Card) Facts() map[string]Fact {
	out := make(map[string]Fact, len(c.facts))
	for i, f := range c.facts {
		out[i.String()] = f
	}
	return out
}

// YesNo writes a yes-or-no fact.
func YesNo(yes bool) string {
	if yes {
		return "yes"
	}
	return "no"
}

// ParseBytes reads a size as people write it: 64MiB, 6GiB, 1.5GB, 4096.
func ParseBytes(s string) (n int64, ok bool) {
	s = strings.ToLower(strings.TrimSpace(s))
	unit := float64(1)
	for _, u := range []struct {
		suffix string
		n      float64
	}{
		{"kib", 1 << 10},
		{"mib", 1 << 20},
		{"gib", 1 << 30},
		{"tib", 1 << 40},
		{"kb", 1e3},
		{"mb", 1e6},
		{"gb", 1e9},
		{"tb", 1e12},
		{"k", 1 << 10},
		{"m", 1 << 20},
		{"g", 1 << 30},
	} {
		if v, cut := strings.CutSuffix(s, u.suffix); cut {
			s, unit = strings.TrimSpace(v), u.n
			break
		}
	}
	f, err := strconv.ParseFloat(s, 64)
	if err != nil || f < 0 || f*unit > 1<<53 || f != f {
		return 0, false
	}
	return int64(f * unit), true
}

// ParseYes reads the ways phones spell yes and no.
func ParseYes(s string) (yes, ok bool) {
	switch strings.ToLower(strings.TrimSpace(s)) {
	case "yes", "true", "1", "y", "on", "unlocked", "orange":
		return true, true
	case "no", "false", "0", "n", "off", "locked", "green", "yellow":
		return false, true
	}
	return false, false
}

// ParseSize reads a size as bootloaders write it: hex with 0x, hex without it,
// decimal, or with a unit of 1024 (16M, 16384K, "1 MiB"). Where only digits are there and both readings are
// possible, the one that is a multiple of 4096 is right, as sizes on a phone are; of two possible ones the
// smaller is the safe one.
func ParseSize(s string) (n int64, ok bool) {
	s = strings.ToLower(strings.TrimSpace(s))
	if h, cut := strings.CutPrefix(s, "0x"); cut {
		n, err := strconv.ParseInt(h, 16, 64)
		return n, err == nil && n >= 0
	}
	short := strings.TrimSuffix(strings.TrimSuffix(s, "b"), "i") // of MB and MiB
	for i, unit := range []string{"k", "m", "g"} {
		number, is := strings.CutSuffix(short, unit)
		if n, err := strconv.ParseInt(strings.TrimSpace(number), 10, 64); is && err == nil && n >= 0 &&
			n < 1<<30 {
			return n << (10 * (i + 1)), true
		}
	}
	dec, errDec := strconv.ParseInt(s, 10, 64)
	hex, errHex := strconv.ParseInt(s, 16, 64)
	switch {
	case errDec != nil:
		return hex, errHex == nil && hex >= 0
	case dec < 0:
		return 0, false
	case errHex != nil, dec == hex:
		return dec, true
	case strings.HasPrefix(s, "0"): // padded: how hex is printed
		return hex, true
	}
	if dec%4096 != 0 && hex%4096 == 0 {
		return hex, true
	}
	return dec, true
}

// ParseMillivolts reads a battery voltage: "4012mV", "4012", "4.0 V", or
// microvolts as some drivers give them.
func ParseMillivolts(s string) (mv int64, ok bool) {
	s = strings.ToLower(strings.TrimSpace(s))
	s = strings.TrimSpace(strings.TrimSuffix(s, "mv"))
	if v, cut := strings.CutSuffix(s, "v"); cut {
		s = strings.TrimSpace(v)
	}
	f, err := strconv.ParseFloat(s, 64)
	if err != nil {
		return 0, false
	}
	switch {
	case f >= 2 && f <= 10: // volts; packs of two cells go to 8.8
		f *= 1000
	case f >= 2e6 && f <= 10e6: // microvolts
		f /= 1000
	}
	if f < 2000 || f > 10000 {
		return 0, false
	}
	return int64(f), true
}

// CompareVersions compares two versions number by number: "2.10" is later than
// "2.9", and letters compare as text. It gives -1, 0 or 1.
func CompareVersions(a, b string) int {
	split := func(s string) []string {
		return strings.FieldsFunc(s, func(r rune) bool {
			return r == '.' || r == '-' || r == '_' || r == ' '
		})
	}
	x, y := split(a), split(b)
	for i := range max(len(x), len(y)) {
		var p, q string
		if i < len(x) {
			p = x[i]
		}
		if i < len(y) {
			q = y[i]
		}
		n, errN := strconv.Atoi(p)
		m, errM := strconv.Atoi(q)
		switch {
		case p == q:
			continue
		case p == "" || q == "": // "2.1" is before "2.1.1", and "2" equals "2.0"
			if k, err := strconv.Atoi(p + q); err == nil && k == 0 {
				continue
			}
			return map[bool]int{true: -1, false: 1}[p == ""]
		case errN == nil && errM == nil:
			if n != m {
				return map[bool]int{true: -1, false: 1}[n < m]
			}
		default:
			return strings.Compare(p, q)
		}
	}
	return 0
}
