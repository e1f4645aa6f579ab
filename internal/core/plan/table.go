package plan

import (
	"fmt"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/local"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

// WriteTable writes another table of partitions to a manufacturer's loader, and keeps the one that is there
// before. Nothing else changes it.
type WriteTable struct {
	base
	File *ident.File
}

// Sends is the table.
func (w *WriteTable) Sends() []Sent { return sent(w.File) }

// Title says what is done.
func (w *WriteTable) Title() string {
	return fmt.Sprintf("write %s to the loader's table of partitions", place.FileName(w.File.Path))
}

// Estimate implements Step: a table is a few lines.
func (*WriteTable) Estimate(*card.Card) (int64, time.Duration) {
	return 0, expectStep
}

// Modes: the loader alone.
func (*WriteTable) Modes() []card.Mode { return []card.Mode{card.Loader} }

// Check: it is allowed by its name alone.
func (w *WriteTable) Check(c *card.Card, _ *model.Model, _ model.Set) []finding.Finding {
	name := place.FileName(w.File.Path)
	list := []finding.Finding{{Name: finding.TableWouldChange, Severity: finding.Stop, About: name,
		Named: true,
		Text: name + " is a table of partitions: with a wrong one nothing on the phone is found again, " +
			"and its loader may not start",
		Remedy: "write the images alone; only with the maker's own table of this very model: --accept " +
			"table-would-change=" + local.Quote(name)}}
	return append(append(list, lockFinding(c)...), batteryFinding(c)...)
}

// Touches is everything the old table told.
func (*WriteTable) Touches(c *card.Card) (list []card.ID) {
	for _, row := range c.Partitions() {
		list = append(list, card.FactSize.Of(row.Partition()).ID(), card.FactType.Of(row.Partition()).ID(),
			card.FactNumber.Of(row.Partition()).ID())
	}
	return list
}

// Cost: what is elsewhere by the new table.
func (*WriteTable) Cost() (lost, kept []string) {
	return []string{"what lies in another place by the new table"},
		[]string{"the table that is there, beside the journal"}
}
