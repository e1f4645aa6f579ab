package plan

import (
	"fmt"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
	"jarlid/internal/core/spell"
)

// Areas are what can be wiped, but for part:NAME.
var Areas = []string{"userdata", "caches", "apps", "storage", "system", "vendor"}

// AreaRow is one line of the table shown before a wipe.
type AreaRow struct {
	Area       string   `json:"area"`
	Partitions []string `json:"partitions,omitempty"`
	Erased     bool     `json:"erased"`
	How        string   `json:"how,omitempty"` // erased, formatted or deleted; empty for what stays
	Why        string   `json:"why"`
}

// ParseArea reads AREA, AREA@SLOT or part:NAME[@SLOT].
func ParseArea(s string) (area string, t place.Target, err error) {
	rest, part := strings.CutPrefix(s, "part:")
	t, err = place.ParseTarget(rest)
	if err != nil {
		return "", t, err
	}
	if part {
		if t.Partition == "" {
			return "", t, fmt.Errorf("%q names no partition: part:NAME", s)
		}
		return "part", t, nil
	}
	if !slices.Contains(Areas, t.Partition) {
		return "", t, fmt.Errorf("%q is not an area to wipe%s", t.Partition,
			spell.NoneOf(t.Partition, append(slices.Clone(Areas), "part:NAME")))
	}
	return t.Partition, t, nil
}

// PartitionsOf gives the partitions an area may mean, for their sizes to be
// read.
func PartitionsOf(area string, t place.Target) []string {
	switch area {
	case "userdata":
		return []string{"userdata", "metadata"}
	case "caches":
		return []string{"cache"}
	case "system", "vendor":
		return []string{area}
	case "part":
		return []string{t.Partition}
	}
	return nil
}

// Wipe gives the steps that wipe an area, its lines of the table, and the
// findings about the wish itself. The error says that the wish is not complete.
func Wipe(area string, t place.Target, c *card.Card) (steps []Step, rows []AreaRow, found []finding.Finding,
	err error) {
	if c.Mode() == card.Recovery && area != "userdata" && area != "part" &&
		!((area == "system" || area == "vendor") && place.Logical(c, area)) {
		steps, rows, err := wipeInRecovery(area, t, c)
		return steps, rows, nil, err
	}
	switch area {
	case "userdata":
		row := AreaRow{Area: area, Erased: true, How: "formatted", Partitions: []string{"userdata"},
			Why: "all apps, accounts, settings and files go; the next system starts as new"}
		if c.Value(card.FactSize.Of(card.At("metadata", ""))) != card.Nothing &&
			c.Get(card.FactSize.Of(card.At("metadata", ""))).Known() {
			row.Partitions = append(row.Partitions, "metadata")
			row.Why += "; metadata holds its keys"
		}
		if c.Mode() == card.Bootloader || c.Mode() == card.Fastbootd {
			row.How = "erased" // the next start formats it
		}
		return []Step{&FormatData{Menu: c.Mode() == card.Recovery && c.Value(card.FactRoot) != "yes"}},
			[]AreaRow{row}, nil, nil
	case "apps", "storage":
		f := finding.Finding{Name: finding.RecoveryOnly, Severity: finding.Stop, About: area, Final: true,
			Text: area + " lie in the data; only a recovery can tell them from the rest",
			Remedy: "jarlid go recovery, and choose it in its menu; all of the data goes with: jarlid wipe " +
				"userdata"}
		return nil, []AreaRow{{Area: area, Why: f.Text}}, []finding.Finding{f}, nil
	case "caches":
		if _, known := c.Number(card.FactSize.Of(card.At("cache", ""))); !known {
			f := finding.Finding{Name: finding.RecoveryOnly, Severity: finding.Stop, About: area, Final: true,
				Text: "this phone has no partition for caches; they lie in the data, which only a " +
					"recovery can tell apart",
				Remedy: "jarlid go recovery, and choose it in its menu"}
			return nil, []AreaRow{{Area: area, Why: f.Text}}, []finding.Finding{f}, nil
		}
		return []Step{&Erase{Area: area, Partition: "cache"}},
			[]AreaRow{{Area: area, Erased: true, How: "erased", Partitions: []string{"cache"},
				Why: meaning("cache")}}, nil,
			nil
	}
	slots, err := wipeSlots(t, c)
	if err != nil {
		return nil, nil, nil, err
	}
	row := AreaRow{Area: area, Erased: true, How: "erased", Why: meaning(t.Partition)}
	if area == "part" {
		row.Area = "part:" + t.Partition
	}
	for _, s := range slots {
		e := &Erase{Area: row.Area, Partition: t.Partition, Slot: s, Logical: place.Logical(c, t.Partition)}
		steps, row.Partitions = append(steps, e), append(row.Partitions, e.Name().String())
	}
	if c.Mode() == card.Bootloader && place.Logical(c, t.Partition) {
		steps = append(steps, &Restart{To: card.Bootloader})
	}
	return steps, []AreaRow{row}, nil, nil
}

// wipeSlots wants the slot to be named where there are slots: which system goes
// is not guessed.
func wipeSlots(t place.Target, c *card.Card) ([]string, error) {
	if slotted, known := c.Yes(card.FactSlotted.Of(card.At(t.Partition, ""))); known && !slotted ||
		!place.HasSlots(c, t.Partition) {
		return []string{""}, nil
	}
	// A partition that is on no slot is not asked for: the step says that it is not there.
	var missing []string
	there := false
	for _, slot := range card.EverySlot {
		size := card.FactSize.Of(card.At(t.Partition, slot))
		if c.Value(size) == card.Nothing {
			missing = append(missing, slot)
		}
		_, is := c.Number(size)
		there = there || is
	}
	if len(missing) > 0 && !there && t.Slot == "" {
		return missing[:1], nil
	}
	if slots, known := c.Slots(); known && len(slots) > 1 && t.Slot == "" {
		return nil, finding.Stopped(finding.NameTheSlot, t.Partition,
			fmt.Sprintf("this phone has %s on each slot, and which goes is not guessed", t.Partition),
			fmt.Sprintf("say which: %s@%s, @booted, @other or @both", t.Partition, slots[0]))
	}
	return t.SlotsOf(c)
}

// Stays gives the lines of what is not erased, so that nobody has to guess.
func Stays(erased []AreaRow, c *card.Card, m *model.Model) []AreaRow {
	gone := func(base string) bool {
		return slices.ContainsFunc(erased, func(r AreaRow) bool {
			return slices.ContainsFunc(r.Partitions, func(p string) bool { return card.Part(p).Base == base })
		})
	}
	var rows []AreaRow
	add := func(area, base, why string) {
		if !gone(base) {
			rows = append(rows, AreaRow{Area: area, Why: why})
		}
	}
	wiped := func(area string) bool {
		return slices.ContainsFunc(erased, func(r AreaRow) bool { return r.Area == area })
	}
	switch {
	case wiped("apps") && wiped("storage"):
	case wiped("apps"):
		rows = append(rows, AreaRow{Area: "storage", Why: "files in shared storage stay"})
	case wiped("storage"):
		rows = append(rows, AreaRow{Area: "apps", Why: "apps, accounts and settings stay"})
	default:
		add("userdata", "userdata", "apps, accounts, settings and files stay")
	}
	if _, known := c.Number(card.FactSize.Of(card.At("cache", ""))); known && !wiped("caches") {
		add("caches", "cache", "they stay")
	}
	stays := "what is installed stays"
	if slots, _ := c.Slots(); len(slots) > 1 {
		stays += ", on every slot"
	}
	add("system", "system", stays)
	if treble := c.Value(card.FactTreble); treble != "no" {
		add("vendor", "vendor", "the maker's drivers stay")
	}
	if home := place.RecoveryHome(c); home.Partition != "" {
		add("recovery", home.Partition, "it stays, in "+home.Words())
	}
	return append(rows, AreaRow{Area: "memory card", Why: "it is left alone"})
}
