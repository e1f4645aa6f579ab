package card

import (
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"strings"
)

// Row is one fact as a card shows it.
type Row struct {
	Section string // identity, lock, slots, firmware, system, battery
	Label   string
	Name    string // the fact's
	Fact    Fact
	Where   string // for an unknown one: where it could be read
}

const (
	inBootloader = "in the bootloader"
	inSystem     = "in a started system"
	inShell      = "in recovery or system, by a shell"
	inRoot       = "in recovery, by a root shell"
)

// sheet is what every card shows, in this order.
var sheet = []struct{ section, label, name, where string }{
	{"identity", "model", FactModel, "in every mode"},
	{"identity", "calls itself", FactProduct, "in every mode"},
	{"identity", "variant", FactVariant, inBootloader},
	{"identity", "serial number", FactSerial, "in every mode but sideload"},
	{"lock", "unlocked", FactUnlocked, inBootloader},
	{"lock", "may be unlocked", FactMayUnlock, inBootloader},
	{"lock", "verified boot", FactVerified, inShell},
	{"lock", "hash trees", FactVerity, inShell},
	{"slots", "slots", FactSlots, inBootloader},
	{"slots", "started from", FactStarted, inShell},
	{"slots", "starts next", FactNext, inBootloader + ", or by a root shell"},
	{"slots", "update snapshots", FactSnapshot, inBootloader + ", where there are any"},
	{"firmware", "bootloader version", FactBootloader, inBootloader},
	{"firmware", "radio version", FactRadio, inBootloader},
	{"firmware", "rollback index", FactRollback + "0", "seldom told; vbmeta images state theirs"},
	{"firmware", "userspace fastboot", FactUserspace, "by trying: jarlid go fastbootd"},
	{"firmware", "room in super for a slot", FactGroupMax, inRoot + ", or in a model file"},
	{"system", "version", FactVersion, inSystem},
	{"system", "build", FactBuild, inSystem},
	{"system", "security patch", FactPatch, inSystem},
	{"system", "recovery running", FactRecovery, "in the recovery itself"},
	{"system", "data", FactData, inRoot},
	{"system", "encryption of the data", FactCrypto, inShell},
	{"system", "accounts signed in", FactAccounts, inSystem},
	{"system", "screen locked", FactLock, inSystem},
	{"system", "debugging", FactDebugging, inSystem},
	{"system", "root shell", FactRoot, inRoot},
	{"system", "processor", FactCPU, inShell},
	{"system", "Treble", FactTreble, inSystem},
	{"system", "VNDK", FactVNDK, inSystem},
	{"system", "API level", FactAPI, inSystem},
	{"system", "first API level", FactFirstAPI, inSystem},
	{"system", "kernel", FactKernel, inSystem + ", or by a root shell"},
	{"system", "mounted by", FactFirstStage, inRoot},
	{"system", "vendor's policy", FactPolicy, inRoot},
	{"system", "vendor's overlays", FactOverlays, inSystem + ", or by a root shell"},
	{"system", "keys bound to patch level", FactBound, inRoot},
	{"battery", "charge in percent", FactPercent, inShell},
	{"battery", "voltage in millivolts", FactVolts, inBootloader},
	{"battery", "suffices", FactCharged, inBootloader},
}

// Sheet gives the facts every card shows, unknown ones too. What a phone without
// slots can't have is left out.
func (c *Card) Sheet() []Row {
	slots, told := c.Slots()
	var rows []Row
	for _, s := range sheet {
		if told && len(slots) == 0 && (s.name == FactStarted || s.name == FactNext || s.name == FactSnapshot) {
			continue
		}
		if yes, known := c.Yes(FactUnlocked); s.name == FactMayUnlock && known && yes {
			continue
		}
		rows = append(rows, Row{Section: s.section, Label: s.label, Name: s.name, Fact: c.Get(s.name), Where: s.where})
	}
	if f := c.Get(FactOtherSerial); f.Known() {
		i := slices.IndexFunc(rows, func(r Row) bool { return r.Name == FactSerial })
		rows = slices.Insert(rows, i+1, Row{Section: "identity", Label: "serial in another mode", Name: FactOtherSerial, Fact: f})
	}
	return rows
}

// Partition is one line of the partition table.
type Partition struct {
	Name    string `json:"name"`
	Size    int64  `json:"size"` // bytes; -1 when not told
	Type    string `json:"type,omitempty"`
	Logical bool   `json:"logical"`
	Holds   string `json:"holds,omitempty"`
}

// Partitions gives the partition table, as far as it is known, sorted by name.
func (c *Card) Partitions() []Partition {
	var list []Partition
	for name := range c.facts {
		p, ok := strings.CutPrefix(name, FactSize)
		n, known := c.Number(name)
		if !ok || !known {
			continue
		}
		logical, _ := c.Yes(FactLogical + p)
		list = append(list, Partition{Name: p, Size: n, Type: c.Value(FactType + p), Logical: logical, Holds: c.Value(FactHolds + p)})
	}
	sort.Slice(list, func(i, k int) bool { return list[i].Name < list[k].Name })
	return list
}

// form names the layout of a saved card.
const form = "jarlid card 1"

type saved struct {
	Form  string          `json:"form"`
	Name  string          `json:"name,omitempty"`
	Facts map[string]Fact `json:"facts"`
}

// Save writes a card to be kept; name is what the phone is called on the bench.
func (c *Card) Save(name string) ([]byte, error) {
	b, err := json.MarshalIndent(saved{form, name, c.facts}, "", "  ")
	return append(b, '\n'), err
}

// maxCard is the size up to which a saved card is read, in bytes.
const maxCard = 4 << 20

// Load reads a saved card: what it knows is known from then on by the evidence
// saved.
func Load(b []byte) (c *Card, name string, err error) {
	if len(b) > maxCard {
		return nil, "", fmt.Errorf("a card of %d bytes is too large", len(b))
	}
	var s saved
	if err := json.Unmarshal(b, &s); err != nil {
		return nil, "", fmt.Errorf("this is no saved card: %w", err)
	}
	if s.Form != form {
		return nil, "", fmt.Errorf("this is no saved card: its form is %q, and %q is wanted", s.Form, form)
	}
	c = &Card{}
	for name, f := range s.Facts {
		if f.Known() {
			f.Evidence = Saved
		}
		c.Set(name, f)
	}
	return c, s.Name, nil
}
