package describe

import (
	"fmt"
	"slices"

	"go.yaml.in/yaml/v3"

	"jarlid/internal/core/card"
	"jarlid/internal/core/place"
)

// part is a partition of a stand-in.
type part struct {
	Name  string `yaml:"name"`
	Size  string `yaml:"size"`
	Slots bool   `yaml:"slots,omitempty"`
	Type  string `yaml:"type,omitempty"`

	bytes int64
}

// practice is what a stand-in is made from (the part "standin" of a model file).
type practice struct {
	Serial      string `yaml:"serial"`
	Start       string `yaml:"start"`
	MaxDownload string `yaml:"max-download"`
	Slots       bool   `yaml:"slot-variables"`
	Recovery    bool   `yaml:"reboot-recovery"`
	Boot        bool   `yaml:"boot"`
	Userspace   bool   `yaml:"userspace,omitempty"`
	Snapshots   bool   `yaml:"snapshots,omitempty"`
	Unlock      string `yaml:"unlock,omitempty"`
	Super       *super `yaml:"super,omitempty"`
	Partitions  []part `yaml:"partitions"`
}

type super struct {
	Group      string   `yaml:"group"`
	GroupSize  string   `yaml:"group-size"`
	Partitions []string `yaml:"partitions"`
}

// NoPartitionsError says that no source names a phone's partitions, or how many slots it has.
type NoPartitionsError struct{ What string }

// Error says what is missing.
func (e *NoPartitionsError) Error() string { return "a phone made of software needs " + e.What }

// usual are partitions that a phone can't be without, with sizes for those that no source names.
var usual = []part{
	{Name: "boot", bytes: 64 << 20}, {Name: "misc", bytes: 1 << 20}, {Name: "userdata", Type: "ext4",
		bytes: 512 << 20}}

// largest is the most a stand-in's owner's data has, in bytes: nobody practises with more.
const largest = 1 << 30

// Practise adds the part for a stand-in. Errors: *NoPartitionsError.
func (d *Draft) Practise(sources []Known) error {
	one := func(key string) string {
		for _, s := range d.Statements {
			if s.Key == key {
				return s.Value
			}
		}
		return ""
	}
	slots := one("slots")
	if slots == "" {
		return &NoPartitionsError{"its number of slots: --slots 1 or --slots 2"}
	}
	var logical []string
	lacks := map[string]bool{}
	for _, s := range d.Statements {
		switch s.Key {
		case "logical":
			logical = append(logical, s.Value)
		case "bootloader.lacks":
			lacks[s.Value] = true
		}
	}
	p := &practice{Serial: "WL-PRACTICE-1", Start: "bootloader", MaxDownload: "0x2000000",
		Slots:    slots != "1",
		Recovery: !lacks["reboot-recovery"], Boot: !lacks["boot"], Unlock: one("bootloader.unlock"),
		Userspace: one("userspace-fastboot") == "yes" || len(logical) > 0}
	if p.Partitions = partsOf(sources, slots != "1"); len(p.Partitions) == 0 {
		return &NoPartitionsError{"the names of its partitions: a firmware set, or a card from its " +
			"bootloader"}
	}
	p.Partitions = slices.DeleteFunc(p.Partitions, func(x part) bool {
		return slices.Contains(logical,
			x.Name)
	})
	for _, u := range usual {
		if !slices.ContainsFunc(p.Partitions, func(x part) bool { return x.Name == u.Name }) {
			u.Slots = u.Name == "boot" && slots != "1"
			p.Partitions = append(p.Partitions, u)
		}
	}
	if len(logical) > 0 {
		p.Snapshots = slots != "1"
		p.grow(logical, one("group-size"), sources)
	}
	for i := range p.Partitions {
		x := &p.Partitions[i]
		if x.Name == "userdata" {
			x.bytes = min(x.bytes, largest)
		}
		x.Size = sizeText(x.bytes)
	}
	d.standin = &yaml.Node{}
	return d.standin.Encode(p)
}

// partsOf gives the physical partitions: from the first card that has a table, otherwise from a set.
func partsOf(sources []Known, slotted bool) (list []part) {
	for _, k := range sources {
		if k.Card == nil {
			continue
		}
		for _, row := range k.Card.Partitions() {
			p := row.Partition()
			if row.Logical || row.Size <= 0 || p.Slot == "b" {
				continue
			}
			list = append(list, part{Name: p.Base, Slots: p.Slot == "a", bytes: row.Size, Type: row.Type})
		}
		if len(list) > 0 {
			return list
		}
	}
	for _, k := range sources {
		if k.Set == nil || len(list) > 0 {
			continue
		}
		for _, name := range k.Set.Images {
			once := name == "super" || name == "userdata" || name == "cache" || name == "misc" ||
				name == "metadata"
			list = append(list, part{Name: name, Slots: slotted && !once, bytes: roomy(k.Set.Sizes[name]),
				Type: map[bool]string{true: "ext4"}[slices.Contains(place.Dynamic, name)]})
		}
	}
	return list
}

// roomy gives a partition's size for an image: half as much again, in whole MiB. Recoveries are larger than
// what a set has in their place.
func roomy(image int64) int64 {
	return max(1<<20, (image+image/2+1<<20-1)>>20<<20)
}

// grow gives the phone its super partition: what is stated, otherwise large enough for the set's images.
func (p *practice) grow(logical []string, group string, sources []Known) {
	n, ok := card.ParseBytes(group)
	if !ok {
		for _, k := range sources {
			for _, name := range logical {
				if k.Set != nil {
					n += roomy(k.Set.Sizes[name])
				}
			}
		}
		n = max(n, 64<<20)
	}
	p.Super = &super{Group: "practice", GroupSize: fmt.Sprint(n), Partitions: logical}
	has := func(x part) bool { return x.Name == "super" }
	if !slices.ContainsFunc(p.Partitions, has) {
		p.Partitions = append(p.Partitions, part{Name: "super"})
	}
	// Snapshots are kept in the owner's data, so super holds the systems of one slot.
	i := slices.IndexFunc(p.Partitions, has)
	p.Partitions[i].bytes = max(p.Partitions[i].bytes, n+4<<20)
}
