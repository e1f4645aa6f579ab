package device

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/model"
	"jarlid/internal/standin/disk"
	"jarlid/internal/standin/scenario"
)

// Spec is the stand-in part of a model file.
type Spec struct {
	Serial  string `yaml:"serial"`
	ADBName string `yaml:"serial-adb"` // the serial number recoveries and systems report; empty: the same
	Start   string `yaml:"start"`      // the mode a new one is in: bootloader, system
	Product string `yaml:"product"`    // what the bootloader calls the phone
	Battery struct {
		Percent   int               `yaml:"percent"`
		FullMV    int               `yaml:"full-millivolts"`
		Variables map[string]string `yaml:"variables"` // bootloader variable: percent, millivolts, verdict
	} `yaml:"battery"`
	MaxDownload    size            `yaml:"max-download"`
	SlotVariables  bool            `yaml:"slot-variables"`
	RebootRecovery bool            `yaml:"reboot-recovery"`
	Boot           bool            `yaml:"boot"`       // starts an image without writing it
	Userspace      bool            `yaml:"userspace"`  // its recoveries have userspace fastboot
	Fetch          []string        `yaml:"fetch"`      // what userspace fastboot gives out
	Snapshots      bool            `yaml:"snapshots"`  // A/B installs are kept in userdata until the merge
	OldADB         bool            `yaml:"old-adb"`    // a shell without exit codes
	PlainData      bool            `yaml:"plain-data"` // the owner's data is not encrypted
	Enforces       bool            `yaml:"enforces"`   // verified boot also when unlocked
	Rollback       bool            `yaml:"rollback"`   // keeps rollback indexes and older keys of the data
	Loader         *loaderSpec     `yaml:"loader"`     // its manufacturer's own, instead of fastboot
	Unlock         string          `yaml:"unlock"`     // the command that unlocks; empty: "flashing unlock"
	Partitions     []partitionSpec `yaml:"partitions"`
	// Variables are further ones with fixed values; "$radio" stands for the
	// version of the radio firmware on the slot.
	Variables map[string]string `yaml:"variables"`
	Missing   []string          `yaml:"missing-variables"` // that others have and this one does not
	Spelling  struct {
		Yes     string `yaml:"yes"`
		No      string `yaml:"no"`
		Size    string `yaml:"size"`    // 0x, hex, decimal
		Unknown string `yaml:"unknown"` // what an unknown variable gives: refused, empty
		Names   string `yaml:"names"`   // of its partitions: "" as they are here, capitals
	} `yaml:"spelling"`
	// Props are properties every recovery and system on it shows.
	Props map[string]string `yaml:"props"`
	Super struct {
		Group      string   `yaml:"group"`
		GroupSize  size     `yaml:"group-size"`
		Partitions []string `yaml:"partitions"`
	} `yaml:"super"`
	Card   size   `yaml:"card"` // of the SD card in it; 0: none
	Quirks Quirks `yaml:"quirks"`
	Delays struct {
		Restart    duration `yaml:"restart"`
		FirstStart duration `yaml:"first-start"`
		Merge      duration `yaml:"merge"`
	} `yaml:"delays"`
}

// Quirks are what recoveries on a phone do differently from others.
type Quirks struct {
	// where the partitions' names are: "" usual, bootdevice, platform, none
	ByName      string   `yaml:"by-name"`
	Nameless    []string `yaml:"nameless"`     // partitions without a name anywhere
	Dangling    []string `yaml:"dangling"`     // whose names lead nowhere
	Plain       []string `yaml:"plain"`        // whose names are plain files in memory
	Unmounted   bool     `yaml:"unmounted"`    // the data is not mounted by itself
	MountFails  bool     `yaml:"mount-fails"`  // nor can it be
	Bind        bool     `yaml:"bind"`         // /sdcard is a bind mount, otherwise a link
	ReadOnly    bool     `yaml:"read-only"`    // no block device can be written
	Banner      string   `yaml:"banner"`       // printed before every command's answer
	OldID       bool     `yaml:"old-id"`       // id knows no -u
	NoStatus    bool     `yaml:"no-status"`    // /proc tells no user
	NoSys       bool     `yaml:"no-sys"`       // no block devices in /sys
	SmallMke2fs bool     `yaml:"small-mke2fs"` // a mke2fs that knows no -t
	Lacks       []string `yaml:"lacks"`        // programs that are missing
}

// Quirks are the model's, or those a test gave.
func (p *Phone) Quirks() *Quirks {
	if p.Options.Quirks != nil {
		return p.Options.Quirks
	}
	return &p.Spec.Quirks
}

type partitionSpec struct {
	Name  string `yaml:"name"`
	Size  size   `yaml:"size"`
	Slots bool   `yaml:"slots"`
	Type  string `yaml:"type"` // what the bootloader says; empty: raw
}

// size is a number of bytes: 64MiB, 4096, 0x1000.
type size int64

// UnmarshalText reads a size.
func (s *size) UnmarshalText(b []byte) error {
	text := strings.TrimSpace(string(b))
	n, err := strconv.ParseInt(text, 0, 64)
	if err != nil {
		var ok bool
		if n, ok = card.ParseBytes(text); !ok {
			n = -1
		}
	}
	if n < 0 || n > 1<<45 {
		return fmt.Errorf("%q is not a size such as 64MiB", b)
	}
	*s = size(n)
	return nil
}

type duration time.Duration

// UnmarshalText reads a duration as Go writes it: 250ms.
func (d *duration) UnmarshalText(b []byte) error {
	v, err := time.ParseDuration(string(b))
	*d = duration(v)
	return err
}

// Outside gives a partition's name as the phone spells it: BOOT_a.
func (s *Spec) Outside(name string) string {
	if p := card.Part(name); s.Spelling.Names == "capitals" {
		return card.At(strings.ToUpper(p.Base), p.Slot).String()
	}
	return name
}

// Inside gives the name the storage has for what the phone spells so; nothing is called what it gives for
// another spelling.
func (s *Spec) Inside(name string) string {
	if in := card.Part(name).String(); s.Outside(in) == name {
		return in
	}
	return "no such name: " + name
}

func parseSpec(m *model.Model) (*Spec, error) {
	s := &Spec{}
	if m.Standin.IsZero() {
		return nil, fmt.Errorf("the model file %s has no part \"standin\", so there is nothing to run",
			m.Name)
	}
	if err := m.Standin.Decode(s); err != nil {
		return nil, fmt.Errorf("model file %s, part \"standin\": %w", m.Name, err)
	}
	seen := map[string]bool{}
	for _, p := range s.Partitions {
		if p.Name == "" || strings.ContainsAny(p.Name, "/\\. ") || p.Size <= 0 || seen[p.Name] {
			return nil, fmt.Errorf("model file %s: partition %q needs a name of its own and a size",
				m.Name, p.Name)
		}
		seen[p.Name] = true
	}
	for _, name := range []string{"misc", "userdata", "boot"} {
		if !seen[name] {
			return nil, fmt.Errorf("model file %s: a phone needs a partition %s", m.Name, name)
		}
	}
	if s.MaxDownload <= 0 || s.MaxDownload > 1<<30 {
		return nil, fmt.Errorf("model file %s: max-download has to be between 1 byte and 1 GiB", m.Name)
	}
	if l := s.Loader; l != nil && (l.Payload < 512 || l.Payload > 1<<20) {
		return nil, fmt.Errorf("model file %s: a loader takes messages of 512 bytes to 1 MiB", m.Name)
	}
	if s.Product == "" {
		s.Product = m.Name
	}
	for field, usual := range map[*string]string{
		&s.Spelling.Yes:  "yes",
		&s.Spelling.No:   "no",
		&s.Spelling.Size: "0x",
		&s.Unlock:        "flashing unlock",
	} {
		if *field == "" {
			*field = usual
		}
	}
	if len(s.Super.Partitions) > 0 && (!seen["super"] || s.Super.Group == "" || s.Super.GroupSize <= 0) {
		return nil, fmt.Errorf("model file %s: logical partitions need a partition super and a group "+
			"with a size", m.Name)
	}
	return s, nil
}

// Described is the phone a model file describes.
func Described(m *model.Model) (scenario.Phone, error) {
	s, err := parseSpec(m)
	if err != nil {
		return scenario.Phone{}, err
	}
	return s.Phone(m), nil
}

// Phone is what the scenario makes images for.
func (s *Spec) Phone(m *model.Model) scenario.Phone {
	var names []string
	for _, part := range s.Partitions {
		names = append(names, part.Name)
	}
	p := scenario.Described(m, append(names, s.Super.Partitions...))
	if m.Title != "" {
		p.Model = m.Title
	}
	return p
}

// parts are the physical partitions a phone is made with.
func (s *Spec) parts() (list []disk.Partition) {
	for _, p := range s.Partitions {
		list = append(list, disk.Partition{Name: p.Name, Size: int64(p.Size), Slots: p.Slots, Type: p.Type})
	}
	return list
}

// loaderSpec is a manufacturer's loader, instead of fastboot.
type loaderSpec struct {
	Version string `yaml:"version"`
	Payload size   `yaml:"payload"` // the largest a message has
	Noise   string `yaml:"noise"`   // what is on the line before anything is said
}
