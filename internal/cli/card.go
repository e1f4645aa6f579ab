package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

func (a *app) cardCommand() *cobra.Command {
	var save string
	c := &cobra.Command{Use: "card", Short: "Show everything known about one phone, each fact with its " +
		"source", Args: noWords,
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := a.taskEnv(cmd)
			if err != nil {
				return err
			}
			return a.showCard(cmd.Context(), e, save)
		}}
	c.Flags().StringVar(&save, "save", "", "keep the card in a file, for --card later")
	return c
}

func (a *app) showCard(ctx context.Context, e *task.Env, save string) error {
	r, err := task.ShowCard(ctx, e)
	if err != nil {
		return err
	}
	a.result = r
	a.printCard(r)
	if save != "" {
		if err := r.Save(save); err != nil {
			return err
		}
		a.say(r.Job.Name, say.Done, "the card is kept in %s; commands take it with --card %s", save, save)
	}
	if a.card == "" {
		a.suggest(r.Job)
	}
	return nil
}

func (a *app) printCard(r *task.CardShown) {
	if a.json {
		return
	}
	c := r.Job.Card
	var lines [][]string
	section, folded := "", 0
	for _, row := range c.Sheet() {
		if !row.Fact.Known() && !a.details {
			folded++
			continue
		}
		if row.Section != section {
			section = row.Section
			lines = append(lines, []string{strings.ToUpper(section[:1]) + section[1:]})
		}
		value, how := "unknown", row.Where
		if row.Where == card.InBootloader && c.Mode() == card.Bootloader {
			how = "this bootloader does not tell it"
		}
		switch {
		case row.Fact.Known():
			value, how = row.Fact.Value, sourceOf(row.Fact)
			if n, ok := c.Number(row.ID); ok {
				switch row.ID {
				case card.FactGroupMax.ID():
					value = image.Size(n)
				case card.FactPercent.ID():
					value = fmt.Sprintf("%d %%", n)
				case card.FactMillivolts.ID():
					value = fmt.Sprintf("%.2f V", float64(n)/1000)
				}
			}
			if slots, told := c.Slots(); row.ID == card.FactSlots.ID() && told && len(slots) == 0 {
				value = "none: one of everything"
			}
		case row.Fact.Why != "":
			how = row.Fact.Why
		}
		lines = append(lines, []string{"  " + row.Label, value, how})
	}
	where := "unknown"
	if r.Home.Partition != "" {
		where = r.Home.Words()
	}
	lines = append(lines, []string{"Recovery"}, []string{"  lives in", where, r.Home.Why})
	a.out.Table([]string{"FACT", "VALUE", map[bool]string{true: "KNOWN FROM, OR WHERE IT COULD BE READ",
		false: "KNOWN FROM"}[a.details]}, lines)
	if folded > 0 {
		a.say("", say.Open, "%d unknown in this mode; jarlid card --details says where each could be read",
			folded)
	}
	a.printPartitions(c)
	for _, f := range r.Contradicted {
		r.Job.Obs.Found(f)
	}
	a.printModel(r.Model)
}

// printModel shows names, twins and quirks of a model file.
func (a *app) printModel(m *task.ModelInfo) {
	if m == nil {
		a.say("", say.Note, "no model file describes this phone; none is needed (jarlid model draft writes "+
			"one)")
		return
	}
	if len(m.Aliases) > 0 {
		a.say("", say.Info, "also called %s", strings.Join(m.Aliases, ", "))
	}
	if len(m.Twins) > 0 {
		a.say("", say.Note, "looks like %s and is not: their files don't fit", strings.Join(m.Twins, ", "))
	}
	for _, q := range m.Quirks {
		a.say("", say.Note, "%s", q)
	}
}

func sourceOf(f card.Fact) string {
	if f.Source == card.Read && f.Mode != card.None {
		return string(f.Mode)
	}
	if f.Source == card.Saved && !f.At.IsZero() {
		return "saved " + f.At.Local().Format("2006-01-02 15:04")
	}
	if f.Source == card.Concluded {
		return "concluded: " + f.Why
	}
	return sourceWords(f.Source)
}

// printPartitions shows the partition table, both slots in one line.
func (a *app) printPartitions(c *card.Card) {
	list := c.Partitions()
	if len(list) == 0 {
		text := "the partitions are not told in this mode"
		if m := c.Mode(); !m.Def().Early {
			text += "; the bootloader tells them"
		}
		a.say("", say.Info, "%s", text)
		return
	}
	var lines [][]string
	head := []string{"PARTITION", "SLOTS", "SIZE", "TYPE"}
	numbered := slices.ContainsFunc(list, func(r card.TableRow) bool { return r.Number != nil })
	if numbered { // a manufacturer's loader shows them so, and takes them in place of the name
		head = append(head, "NUMBER")
	}
	seen := map[string]bool{}
	for _, row := range list {
		p := row.Partition()
		if seen[p.Base] {
			continue
		}
		seen[p.Base] = true
		slots := p.Slot
		if _, both := c.Number(card.FactSize.Of(p.On(card.Other(p.Slot)))); both && p.Slot == "a" {
			slots = "a, b"
		}
		kind := row.Type
		if row.Logical {
			kind = "logical, in super"
		}
		line := []string{p.Base, slots, image.Size(row.Size), kind}
		if numbered {
			number := ""
			if row.Number != nil {
				number = fmt.Sprint(*row.Number)
			}
			line = append(line, number)
		}
		lines = append(lines, line)
	}
	a.say("", say.Info, "its partitions, as far as they are told:")
	a.out.Table(head, lines)
}
