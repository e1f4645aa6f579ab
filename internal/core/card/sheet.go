package card

import (
	"encoding/json"
	"fmt"
	"slices"
	"sort"
)

// Row is one fact as a card shows it.
type Row struct {
	Section string // identity, lock, slots, firmware, system, battery
	Label   string
	ID      ID
	Fact    Fact
	Where   string // for an unknown one: where it could be read
}

// Sheet gives the facts every card shows, unknown ones too. What a phone without
// slots can't have is left out.
func (c *Card) Sheet() []Row {
	slots, told := c.Slots()
	var rows []Row
	for _, d := range Defs {
		switch i := (ID{Name: d.Name}); {
		case d.Label == "" || i == FactScreen.ID() && !c.Get(i).Known():
			// only a manufacturer's loader has it
		case told && len(slots) == 0 && (i == FactStarted.ID() || i == FactNext.ID() ||
			i == FactSnapshot.ID()):
		default:
			i = c.Shown(d)
			if yes, known := c.Yes(FactUnlocked); i == FactMayUnlock.ID() && known && yes {
				continue
			}
			rows = append(rows, Row{Section: d.Section, Label: d.Label, ID: i, Fact: c.Get(i),
				Where: d.Where})
		}
	}
	if f := c.Get(FactOtherSerial); f.Known() {
		i := slices.IndexFunc(rows, func(r Row) bool { return r.ID == FactSerial.ID() })
		rows = slices.Insert(rows, i+1, Row{Section: "identity", Label: "serial in another mode",
			ID: FactOtherSerial.ID(), Fact: f})
	}
	return rows
}

// Shown gives the one fact of a kind that is shown: of slots the booted one's, of rollback indexes that of
// the top image.
func (c *Card) Shown(d Def) ID {
	switch d.By {
	case ByWords:
		return ID{d.Name, "0"}
	case BySlots:
		return ID{d.Name, c.Running()}
	}
	return ID{Name: d.Name}
}

// TableRow is one line of the partition table.
type TableRow struct {
	Name    string `json:"name"`
	Size    int64  `json:"size"` // bytes
	Type    string `json:"type,omitempty"`
	Logical bool   `json:"logical"`
	Holds   string `json:"holds,omitempty"`
	Number  *int64 `json:"number,omitempty"` // in the table of a manufacturer's loader
}

// Partition gives the partition a row is about.
func (r TableRow) Partition() Partition { return Part(r.Name) }

// Partitions gives the partition table, as far as it is known, sorted by name.
func (c *Card) Partitions() []TableRow {
	var list []TableRow
	for i := range c.facts {
		n, known := c.Number(i)
		if i.Name != Name(FactSize) || !known {
			continue
		}
		p := Part(i.Key)
		logical, _ := c.Yes(FactLogical.Of(p))
		row := TableRow{Name: i.Key, Size: n, Type: c.Value(FactType.Of(p)), Logical: logical,
			Holds: c.Value(FactHolds.Of(p))}
		if number, told := c.Number(FactNumber.Of(p)); told {
			row.Number = &number
		}
		list = append(list, row)
	}
	sort.Slice(list, func(i, k int) bool { return list[i].Name < list[k].Name })
	return list
}

// Form is the number of the layout a saved card has.
const Form = 3

const form = "jarlid card 3" // Form's

type saved struct {
	Form  string          `json:"form"`
	Name  string          `json:"name,omitempty"`
	Facts map[string]Fact `json:"facts"`
}

// Save writes a card to be kept; name is what the phone is called on the bench.
func (c *Card) Save(name string) ([]byte, error) {
	b, err := json.MarshalIndent(saved{form, name, c.Facts()}, "", "  ")
	return append(b, '\n'), err
}

// MaxSaved is the size up to which a saved card is read, in bytes.
const MaxSaved = 4 << 20

// Load reads a saved card: what it knows is known from then on by the source
// saved.
func Load(b []byte) (c *Card, name string, err error) {
	if len(b) > MaxSaved {
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
	for text, f := range s.Facts {
		i, err := ParseID(text)
		if err != nil {
			return nil, "", fmt.Errorf("this card can't be read: %w", err)
		}
		if f.Source == Concluded {
			continue
		}
		if f.Known() {
			f.Source = Saved
		}
		c.Set(i, f)
	}
	c.Conclude()
	return c, s.Name, nil
}
