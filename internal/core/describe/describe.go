// Package describe drafts model files from what phones, saved cards, firmware sets and jobs say about a kind
// of phone, and compares model files with that. It computes only.
package describe

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
)

// Known is what one source knows of a kind of phone. Either Card or Set is given.
type Known struct {
	From string     // what a person calls the source: "brook", "dunlin.json", "firmware.zip"
	Card *card.Card // of a phone that is here, or of a saved card; with what its jobs did
	Set  *Set
}

// Set is a firmware set: what its files state, and which images it has.
type Set struct {
	Manifest plan.Manifest
	Devices  []string         // the models that its files name
	Images   []string         // the partitions that it has images of, each once
	Sizes    map[string]int64 // of these images, in bytes
	Slots    int              // how many the phone has, as a person said; 0: nobody did
}

// Statement is one line of a model file, by the path of its key ("recovery.partition"), with its source.
// A key that takes a list has a statement for each element.
type Statement struct {
	Key   string `json:"key"`
	Value string `json:"value"`
	From  string `json:"from"` // the source's name
	Why   string `json:"why"`  // how that source knows it
}

// line is a kind of line of a model file.
type line struct {
	key  string // the path of its key; one that ends in a dot has more keys below
	list bool   // it takes several values
	name bool   // it has names of partitions or variables
	of   func(k Known) []Statement
	in   func(m *model.Model) []string // what a model file states; with keys below: "KEY=VALUE"
	need string                        // what is worse while it is missing; "" where that costs nothing
}

// lines are those that are drafted and compared, in a file's order.
var lines = []line{
	{key: "model", of: ofName, in: func(m *model.Model) []string { return []string{m.Name} }},
	{key: "aliases", list: true, of: ofAliases, in: func(m *model.Model) []string { return m.Aliases }},
	{key: "slots", of: ofSlots, in: func(m *model.Model) []string { return number(m.Slots) },
		need: "without it a sheet can't be checked before a phone is here"},
	{key: "recovery.partition", name: true, of: ofHome, in: func(m *model.Model) []string {
		return text(m.Recovery.Partition)
	}, need: "without it the partition of a recovery is asked for where the phone does not list its " +
		"partitions"},
	{key: "bootloader.lacks", list: true, of: ofRefusals,
		in: func(m *model.Model) []string { return m.Bootloader.Lacks }},
	{key: "bootloader.unlock", of: ofUnlock, in: func(m *model.Model) []string {
		return text(m.Bootloader.Unlock)
	}},
	{key: "loader.usb", list: true, of: ofFact(card.FactLoaderUSB), in: func(m *model.Model) []string {
		if m.Loader == nil {
			return nil
		}
		return m.Loader.USB
	}},
	{key: "userspace-fastboot", of: ofFact(card.FactUserspace), in: func(m *model.Model) []string {
		if m.Userspace == nil {
			return nil
		}
		return []string{card.YesNo(*m.Userspace)}
	}, need: "without it a trial shows whether the phone has userspace fastboot"},
	{key: "partitions.", name: true, of: ofSizes,
		in:   func(m *model.Model) []string { return pairs(m.Partitions) },
		need: "without it no file is compared with its partition before a phone is here"},
	{key: "logical", list: true, name: true, of: ofLogical,
		in: func(m *model.Model) []string { return m.Logical }},
	{key: "group-size", of: ofGroup, in: func(m *model.Model) []string { return bytesOf(m.Group) }},
	{key: "firmware", list: true, name: true, of: ofFirmware,
		in: func(m *model.Model) []string { return m.Firmware }},
	{key: "base.variable", name: true, of: ofBase(0), in: func(m *model.Model) []string {
		return ofBaseOf(m,
			0)
	}},
	{key: "base.min", of: ofBase(1), in: func(m *model.Model) []string { return ofBaseOf(m, 1) }},
	{key: "order", list: true, name: true, of: ofOrder, in: func(m *model.Model) []string { return m.Order }},
	{key: "serial-differs", of: ofSerials, in: func(m *model.Model) []string {
		if !m.SerialDiffers {
			return nil
		}
		return []string{"yes"}
	}},
	{key: "facts.", of: ofFacts, in: func(m *model.Model) []string { return pairs(m.Facts) },
		need: "without it fit and sheets can't be checked before a phone is here"},
	{key: "hands.", of: ofHands, in: recipes,
		need: "without it nothing says which keys bring the phone into a mode; the first job asks"},
}

func text(s string) []string {
	if s == "" {
		return nil
	}
	return []string{s}
}

func number(n int) []string {
	if n == 0 {
		return nil
	}
	return []string{fmt.Sprint(n)}
}

func bytesOf(size string) []string {
	n, ok := card.ParseBytes(size)
	if !ok {
		return nil
	}
	return []string{sizeText(n)}
}

func pairs(of map[string]string) (list []string) {
	for k, v := range of {
		list = append(list, k+"="+v)
	}
	slices.Sort(list)
	return list
}

func recipes(m *model.Model) (list []string) {
	for name, r := range m.Hands {
		list = append(list, name+"="+strings.Join(r.Do, "\n"))
	}
	slices.Sort(list)
	return list
}

// said gives a fact of the phone that does not come from a model file, and its source in words.
func said(c *card.Card, w card.Which) (value, why string) {
	f := c.Get(w)
	if !f.Known() || f.Pending || f.Source == card.Model ||
		f.Source == card.Concluded && f.Rests == card.Model {
		return "", ""
	}
	switch f.Source {
	case card.Concluded:
		return f.Value, f.Why
	case card.Journal:
		return f.Value, fmt.Sprintf("job %d", f.Job)
	case card.Saved:
		return f.Value, "its saved card"
	case card.Said:
		return f.Value, "a person said so"
	}
	return f.Value, "read " + f.Mode.Def().Words
}

// ofFact gives a fact as it is.
func ofFact(w card.Which) func(Known) []Statement {
	return func(k Known) []Statement {
		if k.Card == nil {
			return nil
		}
		if v, why := said(k.Card, w); v != "" {
			return []Statement{{Value: v, Why: why}}
		}
		return nil
	}
}

// ofName gives what the phone calls itself, or the model that a set names first.
func ofName(k Known) []Statement {
	if k.Card == nil {
		for _, d := range k.Set.Devices {
			return []Statement{{Value: strings.ToLower(d), Why: "its files name it"}}
		}
		return nil
	}
	// The model may be known from its file alone, which is no reason to call it otherwise.
	if v := cmp.Or(k.Card.Value(card.FactModel), k.Card.Value(card.FactProduct)); v != "" {
		return []Statement{{Value: strings.ToLower(v), Why: "it reports this name"}}
	}
	return nil
}

func ofAliases(k Known) (list []Statement) {
	if k.Card == nil {
		for _, d := range k.Set.Devices {
			list = append(list, Statement{Value: d, Why: "its files name it"})
		}
		return list
	}
	if v, why := said(k.Card, card.FactProduct); v != "" {
		list = append(list, Statement{Value: v, Why: why})
	}
	return list
}

func ofSlots(k Known) []Statement {
	if k.Card == nil {
		if k.Set.Slots == 0 {
			return nil
		}
		return []Statement{{Value: fmt.Sprint(k.Set.Slots), Why: "you said so"}}
	}
	v, why := said(k.Card, card.FactSlots)
	if v == "0" {
		v = "1"
	}
	if v == "" {
		return nil
	}
	return []Statement{{Value: v, Why: why}}
}

// ofHome gives where the recovery lives: where a job installed one, otherwise what follows from the
// partitions.
func ofHome(k Known) []Statement {
	c := k.Card
	if c == nil {
		c = &card.Card{}
		if k.Set.Slots > 0 {
			c.Learn(card.FactSlots, fmt.Sprint(k.Set.Slots), card.Said)
		}
		for _, p := range k.Set.Images {
			c.Learn(card.FactSize.Of(card.At(p, "")), "1", card.Saved)
		}
	} else {
		for _, i := range c.IDs() {
			if i.Name == card.Name(card.FactSet) {
				if v, why := said(c, i); v != "" {
					return []Statement{{Value: card.Part(i.Key).Base, Why: why + " installed " + v +
						" there"}}
				}
			}
		}
	}
	c = c.Clone()
	if c.Get(card.FactHome).Source == card.Model { // what would be known without the file
		c.Set(card.FactHome, card.Fact{})
	}
	c.Conclude()
	h := place.RecoveryHome(c)
	if h.Partition == "" {
		return nil
	}
	if k.Set != nil && h.Rests == card.Saved {
		h.Why = "the set has an image of it"
	}
	return []Statement{{Value: h.Partition, Why: h.Why}}
}

func ofRefusals(k Known) (list []Statement) {
	if k.Card == nil {
		return nil
	}
	for _, i := range k.Card.IDs() {
		if v, why := said(k.Card, i); i.Name == card.Name(card.FactCommand) && v == "no" &&
			i.Key != model.Unlocks[0] {
			list = append(list, Statement{Value: i.Key, Why: "refused as unknown: " + why})
		}
	}
	return list
}

func ofUnlock(k Known) []Statement {
	if k.Card == nil {
		return nil
	}
	if v, why := said(k.Card, card.FactCommand.Of(model.Unlocks[0])); v == "no" {
		return []Statement{{Value: model.Unlocks[1], Why: "the bootloader does not know " +
			model.Unlocks[0] + ": " + why}}
	}
	return nil
}

// ofSizes gives the partitions with their sizes, NAME@both where both slots have one of the same size. What
// is in super is left out: a system's installation changes it.
func ofSizes(k Known) (list []Statement) {
	if k.Card == nil {
		return nil
	}
	for _, row := range k.Card.Partitions() {
		p := row.Partition()
		_, why := said(k.Card, card.FactSize.Of(p))
		if why == "" || row.Logical {
			continue
		}
		key := p.Base
		if p.Slot != "" {
			other := card.FactSize.Of(p.On(card.Other(p.Slot)))
			n, known := k.Card.Number(other)
			switch {
			case !known || n != row.Size:
				key += "@" + p.Slot
			case p.Slot != "a":
				continue
			default:
				key += "@both"
			}
		}
		list = append(list, Statement{Key: key, Value: sizeText(row.Size), Why: why})
	}
	return list
}

// sizeText writes a size as model files have it, exactly: 16MiB, 64KiB, or bytes.
func sizeText(n int64) string {
	switch {
	case n > 0 && n%(1<<20) == 0:
		return fmt.Sprintf("%dMiB", n>>20)
	case n > 0 && n%(1<<10) == 0:
		return fmt.Sprintf("%dKiB", n>>10)
	}
	return fmt.Sprint(n)
}

func ofLogical(k Known) (list []Statement) {
	if k.Card == nil {
		for _, p := range k.Set.Manifest.Logical {
			list = append(list, Statement{Value: p, Why: "its order writes it in userspace fastboot"})
		}
		return list
	}
	for _, i := range k.Card.IDs() {
		if i.Name != card.Name(card.FactLogical) {
			continue
		}
		base := card.Part(i.Key).Base
		if v, why := said(k.Card, i); v == "yes" && !slices.ContainsFunc(list, func(s Statement) bool {
			return s.Value == base
		}) {
			list = append(list, Statement{Value: base, Why: why})
		}
	}
	return list
}

func ofGroup(k Known) []Statement {
	list := ofFact(card.FactGroupMax)(k)
	for i := range list {
		list[i].Value = bytesOf(list[i].Value)[0]
	}
	return list
}

// ofFirmware gives the partitions of a set that no system has: those the manufacturer's firmware consists of.
func ofFirmware(k Known) (list []Statement) {
	if k.Set == nil {
		return nil
	}
	for _, p := range k.Set.Images {
		if !place.OfSystem(p) {
			list = append(list, Statement{Value: p, Why: "the set has an image of it, and no system does"})
		}
	}
	return list
}

// ofBase gives the version of the firmware that a set demands: the variable's name, and the lowest value.
func ofBase(what int) func(Known) []Statement {
	return func(k Known) []Statement {
		if k.Set == nil {
			return nil
		}
		for _, r := range k.Set.Manifest.Requires {
			if strings.HasPrefix(r.Name, "version-") && !r.Reject && len(r.Values) > 0 {
				return []Statement{{Value: []string{r.Name, slices.Min(r.Values)}[what],
					Why: "the set demands " + r.Name + " " + strings.Join(r.Values, " or ")}}
			}
		}
		return nil
	}
}

func ofBaseOf(m *model.Model, what int) []string {
	if m.Base == nil {
		return nil
	}
	return text([]string{m.Base.Variable, m.Base.Min}[what])
}

func ofOrder(k Known) (list []Statement) {
	if k.Set == nil {
		return nil
	}
	for _, p := range k.Set.Manifest.Order {
		list = append(list, Statement{Value: p, Why: "its order"})
	}
	return list
}

func ofSerials(k Known) []Statement {
	if list := ofFact(card.FactOtherSerial)(k); len(list) > 0 {
		return []Statement{{Value: "yes", Why: "it reported two numbers: " + list[0].Why}}
	}
	return nil
}

// kept are facts of the phone that not every mode reports, and that files are compared with.
var kept = []card.Plain{card.FactCPU, card.FactTreble, card.FactVNDK, card.FactFirstAPI, card.FactFirstStage}

func ofFacts(k Known) (list []Statement) {
	for _, f := range kept {
		for _, s := range ofFact(f)(k) {
			s.Key = f.ID().String()
			list = append(list, s)
		}
	}
	return list
}

func ofHands(k Known) (list []Statement) {
	if k.Card == nil {
		return nil
	}
	for _, i := range k.Card.IDs() {
		if v, why := said(k.Card, i); i.Name == card.Name(card.FactKeysFor) && v != "" {
			list = append(list, Statement{Key: i.Key, Value: v, Why: why})
		}
	}
	return list
}

// statements gives what a source says about one kind of line, with whole keys.
func (l line) statements(k Known) []Statement {
	list := slices.DeleteFunc(l.of(k), func(s Statement) bool {
		name := s.Value
		if strings.HasPrefix(l.key, "partitions.") {
			name, _, _ = strings.Cut(s.Key, "@")
		}
		return l.name && !model.IsName(name) // a model file has none of these
	})
	list = slices.DeleteFunc(list, func(s Statement) bool { return plain(s.Value) == "" })
	for i := range list {
		list[i].From = k.From
		list[i].Key = l.key + list[i].Key
	}
	return list
}

// stated gives what a model file states about one kind of line.
func (l line) stated(m *model.Model) (list []Statement) {
	for _, s := range l.in(m) {
		x := Statement{Key: l.key, Value: s}
		if strings.HasSuffix(l.key, ".") {
			key, value, _ := strings.Cut(s, "=")
			x.Key, x.Value = l.key+key, value
		}
		list = append(list, x)
	}
	return list
}
