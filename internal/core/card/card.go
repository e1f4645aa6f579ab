// Package card holds what is known about one phone: facts, each with the
// evidence for it.
package card

import (
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Evidence says where a fact comes from.
type Evidence string

// The kinds of evidence. A fact without any is Unknown.
const (
	Read    Evidence = "read"    // the phone said so, now
	Saved   Evidence = "saved"   // a card kept earlier
	Journal Evidence = "journal" // what Jar Lid itself did
	Model   Evidence = "model"   // the model file
	Said    Evidence = "said"    // the person answered
	Unknown Evidence = "unknown"
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
)

// Modes are all modes a phone can be sent to.
var Modes = []Mode{Bootloader, Fastbootd, Recovery, Sideload, System}

// Names of facts. Those that end in a dot are completed by a slot's letter or
// a partition's name.
const (
	FactMode      = "mode"
	FactModel     = "model"
	FactProduct   = "product" // the phone's own word, before aliases
	FactSerial    = "serial"
	FactUnlocked  = "unlocked"   // yes, no
	FactSlots     = "slot.count" // 0 or 1: no slots
	FactStarted   = "slot.started"
	FactNext      = "slot.next"
	FactBootable  = "slot.bootable."
	FactGood      = "slot.successful."
	FactTries     = "slot.tries."
	FactPercent   = "battery.percent"
	FactVolts     = "battery.millivolts"
	FactCharged   = "battery.suffices" // yes, no: the bootloader's own verdict
	FactDownload  = "download.max"     // bytes
	FactSize      = "partition.size."  // bytes
	FactSlotted   = "partition.slotted."
	FactHolds     = "holds."          // what a partition holds, in words
	FactDigest    = "digest."         // SHA-256 of what was written to a partition
	FactData      = "data"            // encrypted, formatted, plain
	FactCrypto    = "data.encryption" // none, file, whole
	FactAccounts  = "accounts"        // how many are signed in
	FactLock      = "screen.lock"     // yes, no
	FactDebugging = "debugging"
	FactRecovery  = "recovery.running"   // what the running recovery calls itself
	FactRoot      = "root.shell"         // yes, no
	FactTemporary = "recovery.temporary" // yes: it was started without being written
	FactVersion   = "system.version"     // what the running system calls itself
	FactBuild     = "system.build"
	FactPatch     = "security.patch"
	FactRelease   = "system.release"  // of the platform: 14
	FactFree      = "free."           // bytes, by storage: storage, sd
	FactStored    = "stored."         // names of the files put there
	FactLying     = "lying."          // packages found there
	FactQuiet     = "recovery.quiet." // by partition: yes when the recovery there gives no shell
	FactFlags     = "vbmeta.flags."   // by partition: the flags of the vbmeta there, a number
	FactTreeRoot  = "hashtree.root."  // by partition: the root digest its vbmeta states
	FactReason    = "recovery.reason" // why the system asked for its recovery
	FactShelved   = "shelved."        // by partition: paths that were moved aside
	FactFS        = "filesystem."     // by partition: ext4, ext4-shared, erofs, f2fs, squashfs
	FactTree      = "hashtree."       // by partition without slot: enforced, off, none
	FactAddons    = "addons."         // by slot: what was added to its system
	FactTrusts    = "recovery.trusts" // SHA-256 of the keys the running recovery trusts, with commas; "none"

	FactUserspace   = "fastboot.userspace"  // yes, no: its recoveries have userspace fastboot
	FactCommand     = "bootloader.command." // no: the bootloader does not know this one
	FactBootloader  = "bootloader.version"
	FactRadio       = "radio.version"
	FactBase        = "firmware.base" // the version a model file's base is about
	FactVariant     = "variant"
	FactMayUnlock   = "unlock.allowed"    // yes, no
	FactVerified    = "verified.boot"     // green, yellow, orange, red
	FactVerity      = "verified.hashtree" // enforcing, disabled, ...
	FactSnapshot    = "snapshot.status"   // none, snapshotted, merging
	FactRollback    = "rollback.index."   // by location
	FactCPU         = "cpu.abi"
	FactCPUs        = "cpu.abilist"
	FactTreble      = "treble" // yes, no
	FactVNDK        = "vndk"
	FactAPI         = "api.level"
	FactFirstAPI    = "api.first"
	FactKernel      = "kernel.version"
	FactType        = "partition.type."
	FactLogical     = "partition.logical." // yes, no
	FactGroupMax    = "super.group.max"    // room for one slot's logical partitions, in bytes
	FactFetch       = "fetch.max"          // bytes that userspace fastboot gives out at once
	FactAnswer      = "answer."            // yes: a question of the model file was answered so
	FactOtherSerial = "serial.other"       // what another mode reports

	FactVendorAPI  = "vendor.api.level" // of the interface the vendor partition was built for
	FactVendor     = "vendor.present"   // yes, no: a vendor partition with an interface of its own
	FactVendor64   = "vendor.programs"  // 64, 32: the width of the vendor's programs
	FactPolicy     = "sepolicy.version" // of the platform's policy the vendor was built with: 30.0
	FactManifest   = "vintf.manifest"   // the device manifest, as XML
	FactMatrix     = "vintf.matrix"     // the device's matrix, as XML
	FactOverlays   = "vendor.overlays"  // names of resource overlays in the vendor partition, with commas; "none"
	FactKernelConf = "kernel.config"    // lines CONFIG_X=y
	FactFirstStage = "first.stage"      // kernel, ramdisk, plain: what mounts the system
	FactStageKeys  = "first.stage.keys" // SHA-256 of the keys the first stage trusts for generic images, with commas; "none"
	FactBound      = "data.patch.level" // the security patch level the keys of the data are bound to: 2021-03
	FactSuperFree  = "super.free"       // bytes of super that no partition of any slot has
)

// Values of FactFirstStage ("System-as-root" and "Two-stage init" in the platform's
// architecture documentation).
const (
	StageKernel  = "kernel"  // the kernel mounts the system as its root
	StageRamdisk = "ramdisk" // a first stage in a ramdisk does
	StagePlain   = "plain"   // the root is a ramdisk, the system is mounted at /system
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

// Fact is a value with its evidence.
type Fact struct {
	Value    string    `json:"value"`
	Evidence Evidence  `json:"evidence"`
	Mode     Mode      `json:"mode,omitempty"` // the mode it was read in
	At       time.Time `json:"at,omitzero"`
	Why      string    `json:"why,omitempty"` // for an unknown: why, in words
}

// Known tells whether there is a value.
func (f Fact) Known() bool { return f.Evidence != "" && f.Evidence != Unknown }

// Card is the facts about one phone. The zero Card is empty and ready.
type Card struct {
	facts map[string]Fact
}

// Set puts a fact; an unknown one overrules what was known before.
func (c *Card) Set(name string, f Fact) {
	if c.facts == nil {
		c.facts = map[string]Fact{}
	}
	if f.Evidence == "" {
		f.Evidence = Unknown
	}
	c.facts[name] = f
}

// Learn puts value as a fact with the given evidence.
func (c *Card) Learn(name, value string, e Evidence) {
	c.Set(name, Fact{Value: value, Evidence: e, Mode: c.Mode()})
}

// Forget makes a fact unknown and says why.
func (c *Card) Forget(name, why string) { c.Set(name, Fact{Evidence: Unknown, Why: why}) }

// Get gives a fact, one with evidence Unknown when there is none.
func (c *Card) Get(name string) Fact {
	f, ok := c.facts[name]
	if !ok {
		return Fact{Evidence: Unknown}
	}
	return f
}

// Value gives a fact's value, empty when unknown.
func (c *Card) Value(name string) string {
	if f := c.Get(name); f.Known() {
		return f.Value
	}
	return ""
}

// Yes gives a yes-or-no fact.
func (c *Card) Yes(name string) (yes, known bool) {
	switch c.Value(name) {
	case "yes":
		return true, true
	case "no":
		return false, true
	}
	return false, false
}

// Number gives a number fact.
func (c *Card) Number(name string) (n int64, known bool) {
	n, err := strconv.ParseInt(c.Value(name), 10, 64)
	return n, err == nil
}

// Mode gives the mode the phone is in.
func (c *Card) Mode() Mode { return Mode(c.facts[FactMode].Value) }

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

// Other gives the slot that is not the given one, of two.
func Other(slot string) string {
	switch slot {
	case "a":
		return "b"
	case "b":
		return "a"
	}
	return ""
}

// Names gives the names of all facts, sorted.
func (c *Card) Names() []string { return slices.Sorted(maps.Keys(c.facts)) }

// Clone gives an independent copy.
func (c *Card) Clone() *Card { return &Card{facts: maps.Clone(c.facts)} }

// Merge takes every fact of o that c does not know.
func (c *Card) Merge(o *Card) {
	for name, f := range o.facts {
		if !c.Get(name).Known() {
			c.Set(name, f)
		}
	}
}

// Facts gives all facts by name.
func (c *Card) Facts() map[string]Fact { return maps.Clone(c.facts) }

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
	}{{"kib", 1 << 10}, {"mib", 1 << 20}, {"gib", 1 << 30}, {"tib", 1 << 40}, {"kb", 1e3}, {"mb", 1e6}, {"gb", 1e9}, {"tb", 1e12}, {"k", 1 << 10}, {"m", 1 << 20}, {"g", 1 << 30}} {
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
// or decimal. Where only digits are there and both readings are possible, the
// one that is a multiple of 4096 is right, as sizes on a phone are; of two
// possible ones the smaller is the safe one.
func ParseSize(s string) (n int64, ok bool) {
	s = strings.ToLower(strings.TrimSpace(s))
	if h, cut := strings.CutPrefix(s, "0x"); cut {
		n, err := strconv.ParseInt(h, 16, 64)
		return n, err == nil && n >= 0
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
		return strings.FieldsFunc(s, func(r rune) bool { return r == '.' || r == '-' || r == '_' || r == ' ' })
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
