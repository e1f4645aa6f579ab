package describe

import (
	"slices"
	"strings"

	"jarlid/internal/core/model"
)

// State says how a line of a model file compares with what is known.
type State string

// The states.
const (
	Confirmed    State = "confirmed"    // a phone or a job says the same
	Contradicted State = "contradicted" // another value is reported
	Unconfirmed  State = "unconfirmed"  // none says anything about it
	Missing      State = "missing"      // the file has no such line, and it would be of use
)

// Checked is a line of a model file, compared.
type Checked struct {
	Key   string `json:"key"`
	Value string `json:"value,omitempty"`
	State State  `json:"state"`
	Why   string `json:"why,omitempty"` // the source and how it knows it; of a missing one what it is for
	// Known is what a source says instead, or of what is missing.
	Known string `json:"known,omitempty"`
}

// Check compares a model file with what is known of phones of that model.
func Check(m *model.Model, sources []Known) (list []Checked) {
	for _, l := range lines {
		stated := l.stated(m)
		var said []Statement
		for _, k := range sources {
			said = append(said, l.statements(k)...)
		}
		for _, s := range stated {
			list = append(list, compared(l, s, said))
		}
		if len(stated) > 0 || l.need == "" {
			continue
		}
		c := Checked{Key: strings.TrimSuffix(l.key, "."), State: Missing, Why: l.need}
		if len(said) == 1 {
			c.Known = said[0].Value
		}
		list = append(list, c)
	}
	return list
}

// compared looks for what sources say about one statement.
func compared(l line, s Statement, said []Statement) Checked {
	c := Checked{Key: s.Key, Value: s.Value, State: Unconfirmed}
	about := slices.DeleteFunc(slices.Clone(said), func(o Statement) bool { return o.Key != s.Key })
	for _, o := range about {
		if strings.EqualFold(o.Value, s.Value) {
			c.State, c.Why, c.Known = Confirmed, o.From+": "+o.Why, ""
			return c
		}
		if !l.list && l.key != "hands." && l.key != "model" {
			c.State, c.Known, c.Why = Contradicted, o.Value, o.From+": "+o.Why
		}
	}
	return c
}

// Stated gives the lines of a model file that can be compared, in a file's order.
func Stated(m *model.Model) (list []Statement) {
	for _, l := range lines {
		list = append(list, l.stated(m)...)
	}
	return list
}

// Rows folds the lines of a list, and the lines of a table, into one line each, for people to read.
func Rows(list []Statement) (rows []Statement) {
	for _, s := range list {
		table := ""
		if top, _, below := strings.Cut(s.Key, "."); below && top == "partitions" {
			table = top
		}
		i := slices.IndexFunc(rows, func(r Statement) bool {
			return r.Key == s.Key || table != "" &&
				r.Key == table
		})
		switch {
		case i < 0 && table != "":
			rows = append(rows, Statement{Key: table, Value: strings.TrimPrefix(s.Key, "partitions."),
				From: s.From, Why: s.Why})
		case i < 0:
			s.Value = strings.ReplaceAll(s.Value, "\n", " ")
			rows = append(rows, s)
		case table != "":
			rows[i].Value += ", " + strings.TrimPrefix(s.Key, "partitions.")
		default:
			rows[i].Value += ", " + s.Value
		}
	}
	return rows
}
