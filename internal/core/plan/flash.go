package plan

import (
	"fmt"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/model"
)

// Image is one file to be flashed.
type Image struct {
	File  *ident.File
	Label string // how it is called, when it came out of another file
}

// Placed is an image with its destination.
type Placed struct {
	Image
	Partition string
	Slots     []string
	Why       string
	Logical   bool
	Forced    bool
}

// ErrNowhere says that nobody can tell where a file goes.
type ErrNowhere struct{ Label, What string }

// Error names the file and how to go on.
func (e *ErrNowhere) Error() string {
	return fmt.Sprintf("nobody can tell where %s belongs: it is %s; name the partition with --into", e.Label, e.What)
}

// PlaceImage works out where an image goes on this phone. into, when it names a
// partition, overrules; when it names a slot alone, that counts.
func PlaceImage(im Image, into Target, c *card.Card, m *model.Model) (Placed, error) {
	home := RecoveryHome(c, m)
	p := Placed{Image: im, Partition: into.Partition, Forced: into.Partition != "", Why: "--into says so"}
	slot := into.Slot
	f := im.File
	if p.Partition == "" {
		if len(f.GoesTo) == 0 {
			label := im.Label
			if label == "" {
				label = fileName(f.Path)
			}
			return p, &ErrNowhere{label, f.Kind.Words()}
		}
		d := f.GoesTo[0]
		p.Partition, p.Why = d.Partition, d.Why
		if d.Partition == "recovery" && home.Partition != "" && home.Partition != "recovery" {
			p.Partition, p.Why = home.Partition, fmt.Sprintf("it is a recovery, and this phone keeps its recovery in %s: %s", home.Words(), home.Why)
		}
	} else if _, known := c.Number(card.FactSize + p.Partition); known && baseOf(p.Partition) != p.Partition {
		// The suffix was written by hand.
		if s := p.Partition[len(p.Partition)-1:]; slot == "" {
			slot = s
		}
		p.Partition = baseOf(p.Partition)
	}
	p.Logical = Logical(c, p.Partition)
	if all, known := c.Slots(); known && len(all) == 0 && slot != "" && slot != "both" {
		return p, fmt.Errorf("this phone has no slots, so there is no %s@%s", p.Partition, slot)
	}
	if slotted, known := c.Yes(card.FactSlotted + p.Partition); known && !slotted || !hasSlots(c, p.Partition) {
		p.Slots = []string{""}
		return p, nil
	}
	if all, known := c.Slots(); slot == "" && !(known && len(all) == 0) {
		// A recovery and the maker's firmware belong on both slots, everything else
		// to the slot that is being made ready.
		slot = "current"
		if f.HoldsRecovery() && p.Partition == home.Partition || m != nil && slices.Contains(m.Firmware, p.Partition) || ident.Risky(p.Partition) {
			slot = "both"
		}
	}
	slots, err := Target{Partition: p.Partition, Slot: slot}.SlotsOf(c)
	p.Slots = slots
	return p, err
}

// hasSlots is false for a partition that is known to be there once only.
func hasSlots(c *card.Card, base string) bool {
	_, plain := c.Number(card.FactSize + base)
	_, a := c.Number(card.FactSize + base + "_a")
	return !plain || a
}

// usual is the order in which partitions are written when nobody says another:
// firmware, what starts, the systems, and what vouches for them last.
var usual = []string{"bootloader", "radio", "modem", "dtbo", "dtb", "vendor_boot", "init_boot", "boot", "recovery", "super",
	"vendor", "odm", "system_ext", "product", "system", "vbmeta_vendor", "vbmeta_system", "vbmeta"}

// Order sorts images in the order they are written: as the set's manifest has
// it, else as the model file has it, else the usual one. Logical partitions
// come after all others, since they need another mode.
func Order(list []Placed, manifest []string, m *model.Model) (sorted []Placed, why string) {
	order, why := manifest, "as the set's manifest has it"
	if len(order) == 0 && m != nil && len(m.Order) > 0 {
		order, why = m.Order, "as the model file has it"
	}
	if len(order) == 0 {
		order, why = usual, "firmware first, then what starts, then the systems, and last what vouches for them"
	}
	rank := func(p Placed) int {
		n := slices.Index(order, p.Partition)
		if n < 0 {
			n = len(order) + slices.Index(usual, p.Partition)
		}
		if p.Logical {
			n += 1 << 20
		}
		return n
	}
	sorted = slices.Clone(list)
	slices.SortStableFunc(sorted, func(a, b Placed) int { return rank(a) - rank(b) })
	return sorted, why
}

// Flash gives the steps that write images in the given order.
func Flash(list []Placed, c *card.Card, m *model.Model) []Step {
	home := RecoveryHome(c, m)
	var steps []Step
	logical := false
	sealed := slices.ContainsFunc(list, func(p Placed) bool { return p.Partition == "vbmeta" })
	for _, p := range list {
		for _, slot := range p.Slots {
			if p.Logical {
				logical = true
				steps = append(steps, &MakeRoom{Partition: p.Partition, Slot: slot, Need: p.File.Content()})
			}
			steps = append(steps, &Write{File: p.File, Label: p.Label, Partition: p.Partition, Slot: slot, Forced: p.Forced, Sealed: sealed, Logical: p.Logical, Home: home, Ask: m.Questions()})
		}
	}
	if logical && c.Mode() == card.Bootloader {
		steps = append(steps, &Restart{To: card.Bootloader}) // back to where it came from
	}
	return steps
}

// RecoverySet gives the steps that write a recovery: to every slot unless the
// target says otherwise, and the findings about the choice itself.
func RecoverySet(f *ident.File, t Target, c *card.Card, m *model.Model) ([]Step, []finding.Finding, error) {
	home := RecoveryHome(c, m)
	forced := t.Partition != ""
	if t.Partition == "" {
		t.Partition = home.Partition
	}
	if t.Partition == "" {
		return nil, nil, fmt.Errorf("nobody can tell where this phone keeps its recovery: %s; name the partition with --into", home.Why)
	}
	slots := []string{""}
	if _, known := c.Slots(); known || hasSlots(c, t.Partition) {
		var err error
		if slots, err = t.SlotsOf(c); err != nil {
			return nil, nil, err
		}
	}
	var steps []Step
	for _, slot := range slots {
		steps = append(steps, &Write{File: f, Partition: t.Partition, Slot: slot, Recovery: true, Forced: forced, Home: home, Ask: m.Questions()})
	}
	if all, _ := c.Slots(); len(all) > len(slots) {
		return steps, []finding.Finding{{Name: finding.RecoveryOnOneSlot, Severity: finding.Care, About: slots[0],
			Text:   fmt.Sprintf("the recovery goes to slot %s only; after a ROM install the phone starts from the other one, without it", slots[0]),
			Remedy: "leave out --into, then it goes to both"}}, nil
	}
	return steps, nil, nil
}

// Manifest is what a firmware set says of itself, in the platform's two files:
// android-info.txt (what it demands) and fastboot-info.txt (the order).
type Manifest struct {
	Requires []Requirement
	Order    []string
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

// ParseOrder reads the flash lines of fastboot-info.txt.
func (m *Manifest) ParseOrder(text string) {
	for line := range strings.Lines(text) {
		if f := strings.Fields(line); len(f) > 1 && f[0] == "flash" {
			words := slices.DeleteFunc(f[1:], func(s string) bool { return strings.HasPrefix(s, "-") })
			if len(words) > 0 {
				m.Order = append(m.Order, words[0])
			}
		}
	}
}

// Check holds a set's demands against the phone. values are the phone's
// variables by their names, as far as it told them.
func (m *Manifest) Check(set string, c *card.Card, values map[string]string, all model.Set) []finding.Finding {
	var list []finding.Finding
	for _, r := range m.Requires {
		demand := strings.Join(r.Values, " or ")
		switch {
		case r.Name == "product":
			list = append(list, m.product(set, r, c, all)...)
		case r.Name == "partition-exists":
			for _, v := range r.Values {
				if !r.Reject && c.Value(card.FactSize+v) == Nothing {
					list = append(list, finding.Finding{Name: finding.NoSuchPartition, Severity: finding.Stop, About: v, Text: "the set is for phones with a partition " + v})
				}
			}
		default:
			have := values[r.Name]
			f := finding.Finding{Name: finding.BaseVersion, Severity: finding.Stop, About: r.Name, Remedy: "look in the maker's notes which firmware comes before this set"}
			switch {
			case have == "":
				f.Severity = finding.Care
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
	return []finding.Finding{{Name: finding.WrongModel, Severity: finding.Stop, About: set,
		Text: fmt.Sprintf("the set is for %s, this phone is %s", strings.Join(r.Values, " or "), strings.Join(slices.Compact(have), ", ")), Remedy: "fetch the set made for this phone"}}
}
