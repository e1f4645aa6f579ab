package plan

import (
	"fmt"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

// Flash gives the steps that write images in the given order.
func Flash(list []place.Placed, c *card.Card, m *model.Model) []Step {
	home := place.RecoveryHome(c)
	var steps []Step
	logical := false
	sealed := slices.ContainsFunc(list, func(p place.Placed) bool { return p.Partition == "vbmeta" })
	system := slices.ContainsFunc(list, func(p place.Placed) bool {
		return p.Partition == "system" || p.Partition == "super"
	})
	for _, p := range list {
		for _, slot := range p.Slots {
			if p.Logical {
				logical = true
				steps = append(steps, &MakeRoom{Partition: p.Partition, Slot: slot, Need: p.File.Content()})
			}
			steps = append(steps, &Write{File: p.File, Label: p.Label, Partition: p.Partition, Slot: slot,
				Forced:  p.Forced,
				Sealed:  sealed,
				System:  system,
				OneSlot: p.OneSlot,
				Logical: p.Logical,
				Home:    home,
				Ask:     m.Questions()})
		}
	}
	if logical && c.Mode() == card.Bootloader {
		steps = append(steps, &Restart{To: card.Bootloader}) // back to where it came from
	}
	return steps
}

// here lets an image be written through the root shell of the recovery that runs, where
// there is one: without a restart, and read back. Sparse images are extracted by a bootloader
// alone, and logical partitions by userspace fastboot.
func here(c *card.Card, w *Write) *Write {
	root, _ := c.Yes(card.FactRoot)
	w.Shell = root && c.Mode() == card.Recovery && !w.Logical && w.File.Inside == 0
	return w
}

// RecoveryInstall gives the steps that write a recovery: to every slot unless the
// target says otherwise, and the findings about the choice itself. Errors:
// *finding.StopError.
func RecoveryInstall(f *ident.File, t place.Target, c *card.Card, m *model.Model) ([]*Write,
	[]finding.Finding, error) {
	home := place.HomeFor(c, f)
	forced := t.Partition != ""
	switch {
	case t.Partition == "":
		t.Partition = home.Partition
	case home.Rests == card.Usual && !place.OfSystem(card.Part(t.Partition).Base):
		home = place.HomeSaid(card.Part(t.Partition).Base) // what is concluded is no reason against it
	}
	if t.Partition == "" {
		return nil, nil, finding.Stopped(finding.DestinationUnknown, "recovery",
			"nobody can tell where this phone keeps its recovery: "+home.Why,
			"name the partition with --into")
	}
	slots := []string{""}
	if all, known := c.Slots(); !known && forced && t.Slot == "" {
		named := card.Part(t.Partition) // as it is: a bootloader refuses what it does not have
		t.Partition, slots = named.Base, []string{named.Slot}
	} else if known && len(all) == 0 || place.HasSlots(c, t.Partition) {
		var err error
		if slots, err = t.SlotsOf(c); err != nil {
			return nil, nil, err
		}
	}
	var writes []*Write
	for _, slot := range slots {
		writes = append(writes, here(c, &Write{File: f, Partition: t.Partition, Slot: slot, Recovery: true,
			Forced: forced, Home: home, Ask: m.Questions(), Keep: true}))
	}
	if all, _ := c.Slots(); len(all) > len(slots) && slots[0] != "" {
		return writes, []finding.Finding{finding.Warns(finding.RecoveryOnOneSlot, slots[0],
			fmt.Sprintf("the recovery goes to slot %s only; after a ROM install the phone starts "+
				"from the other one, without it", slots[0]), "leave out --into, then it goes to both")}, nil
	}
	return writes, nil, nil
}

// Restore gives the step that writes an image that was read from this partition before:
// what it is need not be checked. label says what it is called.
func Restore(f *ident.File, p card.Partition, label string, c *card.Card, m *model.Model) *Write {
	return here(c, &Write{File: f, Label: label, Partition: p.Base, Slot: p.Slot, Forced: true, Known: true,
		Logical: place.Logical(c, p.Base), Home: place.RecoveryHome(c)})
}

// WriteVBMeta gives the step that writes a top vbmeta whose flags were changed; what was
// there is kept.
func WriteVBMeta(f *ident.File, slot string, c *card.Card) *Write {
	return here(c, &Write{File: f, Label: "the changed vbmeta", Partition: "vbmeta", Slot: slot, Forced: true,
		Known: true, Keep: true})
}

// Manifest is what a firmware set says of itself, in the platform's two files:
// android-info.txt (what it demands) and fastboot-info.txt (the order).
type Manifest struct {
	Requires []Requirement
	Order    []string
	Logical  []string // of Order, those that are written in userspace fastboot
}

// Requirement is one line of android-info.txt: require NAME=VALUE|VALUE, or
// reject for the reverse.
type Requirement struct {
	Name   string // product, version-bootloader, partition-exists, ...
	Values []string
	Reject bool
}

// ParseInfo reads android-info.txt (as the platform's fastboot.cpp does).
func (m *Manifest) ParseInfo(text string) {
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		r := Requirement{}
		switch {
		case strings.HasPrefix(line, "require-for-product:"):
			continue // of one product among several that share the set
		case strings.HasPrefix(line, "require "):
			line = line[len("require "):]
		case strings.HasPrefix(line, "reject "):
			line, r.Reject = line[len("reject "):], true
		}
		name, value, ok := strings.Cut(line, "=")
		if !ok || strings.HasPrefix(line, "#") {
			continue
		}
		r.Name = strings.TrimSpace(name)
		if r.Name == "board" {
			r.Name = "product"
		}
		for v := range strings.SplitSeq(value, "|") {
			r.Values = append(r.Values, strings.TrimSpace(v))
		}
		m.Requires = append(m.Requires, r)
	}
}

// ParseOrder reads the flash lines of fastboot-info.txt, and where the phone is rebooted into userspace
// fastboot between them.
func (m *Manifest) ParseOrder(text string) {
	userspace := false
	for line := range strings.Lines(text) {
		f := strings.Fields(line)
		if len(f) < 2 {
			continue
		}
		if f[0] == "reboot" {
			userspace = f[1] == "fastboot"
		}
		words := slices.DeleteFunc(f[1:], func(s string) bool { return strings.HasPrefix(s, "-") })
		if f[0] != "flash" || len(words) == 0 {
			continue
		}
		m.Order = append(m.Order, words[0])
		if userspace {
			m.Logical = append(m.Logical, words[0])
		}
	}
}

// Check holds a set's demands against the phone. values are the phone's
// variables by their names, as far as it told them.
func (m *Manifest) Check(set string, c *card.Card, values map[string]string,
	all model.Set) []finding.Finding {
	var list []finding.Finding
	for _, r := range m.Requires {
		demand := strings.Join(r.Values, " or ")
		switch {
		case r.Name == "product":
			list = append(list, m.product(set, r, c, all)...)
		case r.Name == "partition-exists":
			for _, v := range r.Values {
				if !r.Reject && c.Value(card.FactSize.Of(card.Part(v))) == card.Nothing {
					list = append(list, finding.Stops(finding.NoSuchPartition, v,
						"the set is for phones with a partition "+v, ""))
				}
			}
		default:
			have := values[r.Name]
			f := finding.Finding{Name: finding.BaseVersion, Severity: finding.Stop, About: r.Name,
				Remedy: "look in the maker's notes which firmware comes before this set"}
			switch {
			case have == "":
				f.Severity = finding.Warn
				f.Text = fmt.Sprintf("the set demands %s %s, and the phone does not tell it", r.Name, demand)
			case slices.Contains(r.Values, have) == r.Reject:
				f.Text = fmt.Sprintf("the set demands %s %s, the phone has %s", r.Name, demand, have)
				if r.Reject {
					f.Text = fmt.Sprintf("the set is not for %s %s, which the phone has", r.Name, have)
				}
			default:
				continue
			}
			list = append(list, f)
		}
	}
	return list
}

func (m *Manifest) product(set string, r Requirement, c *card.Card, all model.Set) []finding.Finding {
	have := []string{c.Value(card.FactModel), c.Value(card.FactProduct)}
	hit := slices.ContainsFunc(r.Values, func(v string) bool {
		return slices.ContainsFunc(have, func(h string) bool {
			same, _ := all.Same(v, h)
			return h != "" && same
		})
	})
	if hit != r.Reject {
		return nil
	}
	return []finding.Finding{finding.Stops(finding.WrongModel, set,
		fmt.Sprintf("the set is for %s, this phone is %s", strings.Join(r.Values, " or "),
			strings.Join(slices.Compact(have), ", ")), "fetch the set made for this phone")}
}
