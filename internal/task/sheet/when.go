package sheet

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/image"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

// whenFacts are what decides for which phones a task is; "" where it is not known.
var whenFacts = map[string]func(c *card.Card, m *model.Model) string{
	"slots": func(c *card.Card, _ *model.Model) string {
		slots, known := c.Slots()
		if !known {
			return ""
		}
		return strconv.Itoa(max(len(slots), 1))
	},
	"recovery": func(c *card.Card, m *model.Model) string { return place.RecoveryHome(c).Partition },
	"treble":   func(c *card.Card, _ *model.Model) string { return c.Value(card.FactTreble) },
	"cpu":      func(c *card.Card, _ *model.Model) string { return c.Value(card.FactCPU) },
	"vndk":     func(c *card.Card, _ *model.Model) string { return c.Value(card.FactVNDK) },
	"model": func(c *card.Card, m *model.Model) string {
		if m != nil {
			return m.Name
		}
		return c.Value(card.FactModel)
	},
	"super": func(c *card.Card, m *model.Model) string {
		switch {
		case place.There(c, "super") || m != nil && len(m.Logical) > 0:
			return "yes"
		case m != nil:
			return "no"
		}
		return ""
	},
}

// whenNames are the names of what a task's when can ask for.
func whenNames() []string { return slices.Sorted(maps.Keys(whenFacts)) }

// fits reports whether a task is for a phone, and what would have to be known to tell.
func (t *Task) fits(c *card.Card, m *model.Model, all model.Set) (yes bool, unknown []string) {
	yes = true
	for _, w := range t.When {
		have := whenFacts[w.Fact](c, m)
		if have == "" {
			unknown = append(unknown, w.Fact)
			continue
		}
		if !slices.ContainsFunc(w.OneOf, func(want string) bool {
			same := false
			if w.Fact == "model" {
				same, _ = all.Same(want, have)
			}
			return same || strings.EqualFold(want, have)
		}) {
			yes = false
		}
	}
	return yes, unknown
}

// Found is a finding, and where in the sheet it comes from.
type Found struct {
	finding.Finding
	Line int `json:"line"`
}

// modelFits compares the phone's model with those the sheet is for.
func (s *Sheet) modelFits(c *card.Card, m *model.Model, all model.Set) []Found {
	if len(s.Models) == 0 {
		return nil
	}
	have := whenFacts["model"](c, m)
	same := slices.ContainsFunc(s.Models, func(w string) bool {
		is, _ := all.Same(w, have)
		return is || strings.EqualFold(w, have)
	})
	f := finding.Stops(finding.WrongModel, s.Name, fmt.Sprintf("the sheet is for %s, this phone is %s",
		strings.Join(s.Models, " or "),
		have), "draft one for this phone: jarlid sheet draft FILES")
	if have == "" {
		f.Severity, f.Text = finding.Warn,
			fmt.Sprintf("the sheet is for %s, and the phone does not say which model it is",
				strings.Join(s.Models, " or "))
	}
	if !same {
		return []Found{{f, 1}}
	}
	return nil
}

// holds gives the findings about what a phone has to be like before the first task.
func (s *Sheet) holds(c *card.Card, m *model.Model, all model.Set) (list []Found) {
	add := func(key string, severity finding.Severity, format string, args ...any) {
		list = append(list, Found{finding.Finding{Name: finding.ConditionNotMet, Severity: severity,
			About: key, Text: fmt.Sprintf(format, args...),
			Remedy: "bring the phone into that state, or change the condition in the sheet"},
			s.Conditions.At[key].Line})
	}
	check := func(key, have, want string, met bool) {
		switch {
		case have == "":
			add(key, finding.Warn, "the sheet wants %s, and that can't be known in this mode", want)
		case !met:
			add(key, finding.Stop, "the sheet wants %s, and it is %s", want, have)
		}
	}
	k := s.Conditions
	list = s.modelFits(c, m, all)
	if k.Unlocked != nil {
		have := c.Value(card.FactUnlocked)
		word := map[string]string{"yes": "unlocked", "no": "locked"}
		want := map[bool]string{true: "yes", false: "no"}[*k.Unlocked]
		check("unlocked", word[have], "the bootloader to be "+word[want], have == want)
	}
	if k.Battery > 0 {
		n, known := c.Number(card.FactPercent)
		have := ""
		if known {
			have = fmt.Sprintf("at %d %%", n)
		} else if enough, told := c.Yes(card.FactCharged); told {
			have = "too low, as the bootloader says"
			if enough { // it tells no number, but its own verdict
				have, n, known = "enough, as the bootloader says", 100, true
			}
		}
		check("battery", have, fmt.Sprintf("at least %d %% in the battery", k.Battery),
			known && int(n) >= k.Battery)
	}
	if k.Base != "" {
		have := c.Value(card.FactBase)
		least, most, span := strings.Cut(k.Base, "..")
		met := have == k.Base
		if span {
			met = (least == "" || card.CompareVersions(have, least) >= 0) &&
				(most == "" || card.CompareVersions(have, most) <= 0)
		}
		check("base", have, "the maker's firmware "+k.Base, met)
	}
	if k.Slot != "" {
		have := c.Value(card.FactNext)
		check("slot", have, "slot "+k.Slot+" to be the one that starts next", have == k.Slot)
	}
	for _, where := range slices.Sorted(maps.Keys(k.Free)) {
		n, known := c.Number(card.FactFree.Of(where))
		have := ""
		if known {
			have = image.Size(n)
		}
		check("free", have, image.Size(k.Free[where])+" free in "+where, n >= k.Free[where])
	}
	return list
}
