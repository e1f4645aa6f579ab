package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/cli/term"
	"jarlid/internal/core/card"
	"jarlid/internal/core/image"
	"jarlid/internal/core/spell"
	"jarlid/internal/engine"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

func (a *app) flashCommand() *cobra.Command {
	var t task.Flash
	c := &cobra.Command{Use: "flash FILE...", Short: "Write images, each to where it belongs; a folder or " +
		"zip as a whole set",
		Long: "Writes images to the partitions they belong to, worked out from what is in them and from " +
			"the phone.\n" +
			"A folder, an archive or a payload is a firmware set: all of it is checked before the first " +
			"byte is sent.\n" +
			"A recovery with a partition of its own and the maker's firmware go to both slots, everything " +
			"else to the slot that starts next.",
		Args: words(1, -1, "which files to write"),
		RunE: func(cmd *cobra.Command, args []string) error {
			t.Files = args
			return a.run(cmd, &t)
		}}
	c.Flags().StringVar(&t.Into, "into", "", "another destination: PARTITION, PARTITION@SLOT or @SLOT, "+
		"slot a, b, both, current or other")
	c.Flags().StringSliceVar(&t.Without, "without", nil,
		"leave this image of a set out: its partition or file name (repeatable)")
	c.Flags().StringSliceVar(&t.Only, "only", nil,
		"of a set, write this image alone: its partition or file name (repeatable)")
	a.maxMemory(c)
	return c
}

// showFlashed shows what was written.
func (a *app) showFlashed(t *task.Flash, e end) {
	j := e.job
	if j != nil {
		a.result = t.Result(j)
	}
	if !e.done {
		return
	}
	if len(j.Out.Writes) == 0 && len(j.Out.Kept) > 0 { // a loader's table
		a.say(j.Name, say.Keep, "the table that was there: %s", j.Out.Kept[0])
		a.say(j.Name, say.Done, "the loader's table of partitions is written, and read again")
	}
	a.sayWrites(j)
	a.suggest(j)
}

// shown shows what a draft is about, before it is checked.
func (a *app) shown(d *engine.Draft) {
	switch v := d.View.(type) {
	case task.FlashView:
		a.showPlaced(v)
	case task.WipeView:
		a.showAreas(d, v)
	case task.UnlockView:
		a.showBefore(v)
	}
}

// fewPlaced is up to how many files each has its reason told.
const fewPlaced = 3

// showPlaced shows what goes where, and on what source.
func (a *app) showPlaced(v task.FlashView) {
	var rows [][]string
	folded, weak := 0, 0
	for _, p := range v.Placed {
		var where []string
		for _, s := range p.Slots {
			where = append(where, card.At(p.Partition, s).String())
		}
		kind := ""
		if p.Logical {
			kind = ", in super"
		}
		name := p.Label
		if name == "" {
			name = base(p.File.Path)
		}
		row := []string{strings.Join(where, ", ") + kind, name, image.Size(p.File.Content()), p.Why}
		if p.Sure() && len(v.Placed) > fewPlaced && !a.details {
			row[3] = " "
			folded++
		} else if !p.Sure() { // what should be checked comes first
			rows = slices.Insert(rows, weak, row)
			weak++
			continue
		}
		rows = append(rows, row)
	}
	a.out.Show(term.Table{Head: []string{"INTO", "FILE", "SIZE", "BECAUSE"}, Rows: rows, Second: 3})
	if folded > 0 {
		a.say("", say.Good, "%s where what is in it says; --details tells why", spell.Counted(folded, "file")+
			map[bool]string{true: " goes", false: " go"}[folded == 1])
	}
}
