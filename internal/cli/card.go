package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"jarlid/internal/bench"
	"jarlid/internal/core/card"
	"jarlid/internal/core/image"
	"jarlid/internal/core/model"
	"jarlid/internal/core/plan"
)

func (a *app) cardCommand() *cobra.Command {
	var save, draft string
	c := &cobra.Command{Use: "card", Short: "Everything known about one phone, each fact with its evidence", Args: noWords,
		RunE: func(cmd *cobra.Command, _ []string) error { return a.showCard(cmd.Context(), save, draft) }}
	c.Flags().StringVar(&save, "save", "", "keep the card in a file, for --card later")
	c.Flags().StringVar(&draft, "new-model", "", "write a draft of a model file from what the phone tells")
	return c
}

func (a *app) showCard(ctx context.Context, save, draft string) error {
	j, err := a.open(ctx)
	if err != nil {
		return err
	}
	defer j.Close()
	c, m := j.Card, j.Phone.Model()
	if err := j.Phone.ReadUnlockAbility(ctx, j.Link, c); err != nil {
		return err
	}
	if err := j.LearnFit(ctx); err != nil {
		return err
	}
	home := plan.RecoveryHome(c, m)
	a.result["facts"] = c.Facts()
	a.result["partitions"] = c.Partitions()
	a.result["recovery_home"] = home
	if m != nil {
		a.result["model"] = map[string]any{"name": m.Name, "title": m.Title, "aliases": m.Aliases, "twins": m.Twins, "quirks": m.Quirks, "ask": m.Ask}
	}
	if !a.json {
		a.printCard(c, m, home)
	}
	if save != "" {
		if err := a.saveCard(save, j); err != nil {
			return err
		}
	}
	if draft != "" {
		if err := a.draftModel(draft, c, home); err != nil {
			return err
		}
	}
	if a.card == "" {
		a.suggest(j)
	}
	return nil
}

func (a *app) printCard(c *card.Card, m *model.Model, home plan.Home) {
	var lines [][]string
	for _, r := range c.Sheet() {
		value, how := "unknown", r.Where
		if r.Where == "in the bootloader" && c.Mode() == card.Bootloader {
			how = "this bootloader does not tell it"
		}
		switch {
		case r.Fact.Known():
			value, how = r.Fact.Value, evidenceOf(r.Fact)
			if r.Name == card.FactGroupMax {
				if n, ok := c.Number(r.Name); ok {
					value = image.Size(n)
				}
			}
		case r.Fact.Why != "":
			how = r.Fact.Why
		}
		lines = append(lines, []string{r.Label, value, how})
	}
	if slots, known := c.Slots(); known && len(slots) == 0 {
		for i := range lines {
			if lines[i][0] == "slots" {
				lines[i][1] = "none: one of everything"
			}
		}
	}
	where := "unknown"
	if home.Partition != "" {
		where = home.Words()
	}
	lines = append(lines, []string{"recovery lives in", where, home.Why})
	a.out.table([]string{"FACT", "VALUE", "KNOWN FROM, OR WHERE IT COULD BE READ"}, lines)
	a.printPartitions(c)
	if m == nil {
		a.out.Say("note", "no model file knows this phone; jarlid card --new-model FILE drafts one")
		return
	}
	if len(m.Aliases) > 0 {
		a.out.Say(bench.Look, "also called %s", strings.Join(m.Aliases, ", "))
	}
	if len(m.Twins) > 0 {
		a.out.Say("note", "looks like %s and is not: their files don't fit", strings.Join(m.Twins, ", "))
	}
	for _, q := range m.Quirks {
		a.out.Say("note", "%s", q)
	}
}

func evidenceOf(f card.Fact) string {
	s := evidenceWords(f.Evidence)
	if f.Evidence == card.Read && f.Mode != card.None {
		return "read in " + string(f.Mode)
	}
	if f.Evidence == card.Saved && !f.At.IsZero() {
		return "saved, read " + f.At.Local().Format("2006-01-02 15:04")
	}
	return s
}

// printPartitions shows the partition table, both slots in one line.
func (a *app) printPartitions(c *card.Card) {
	list := c.Partitions()
	if len(list) == 0 {
		a.out.Say(bench.Look, "the partitions are not told in this mode; the bootloader tells them")
		return
	}
	var lines [][]string
	seen := map[string]bool{}
	for _, p := range list {
		base, slots := p.Name, ""
		if b, ok := strings.CutSuffix(p.Name, "_a"); ok {
			base, slots = b, "a"
			if _, both := c.Number(card.FactSize + b + "_b"); both {
				slots = "a, b"
			}
		} else if b, ok := strings.CutSuffix(p.Name, "_b"); ok {
			base, slots = b, "b"
		}
		if seen[base] {
			continue
		}
		seen[base] = true
		kind := p.Type
		if p.Logical {
			kind = "logical, in super"
		}
		lines = append(lines, []string{base, slots, image.Size(p.Size), kind})
	}
	a.out.Say(bench.Look, "its partitions, as far as they are told:")
	a.out.table([]string{"PARTITION", "SLOTS", "SIZE", "TYPE"}, lines)
}

func (a *app) saveCard(path string, j *bench.Job) error {
	b, err := j.Card.Save(j.Phone.Name)
	if err != nil {
		return err
	}
	if err := os.WriteFile(path, b, 0o644); err != nil {
		return err
	}
	a.out.Say(bench.Done, "the card is kept in %s; commands take it with --card %s", path, path)
	return nil
}

// draftModel writes what the phone tells as a model file to be completed.
func (a *app) draftModel(path string, c *card.Card, home plan.Home) error {
	if _, err := os.Stat(path); !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s is there already; name another file", path)
	}
	text, err := plan.DraftModel(c, home, yaml.Marshal)
	if err != nil {
		return err
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		return err
	}
	home2, err := a.homeDir()
	if err != nil {
		return err
	}
	a.out.Say(bench.Done, "a draft is in %s; complete it, then put it into %s", path, filepath.Join(home2, "models"))
	return nil
}

func (a *app) unlockCommand() *cobra.Command {
	var code string
	c := &cobra.Command{Use: "unlock", Short: "Open the bootloader: what it costs, what to press, whether it is open", Args: noWords,
		RunE: func(cmd *cobra.Command, args []string) error { return a.unlock(cmd, args, code) }}
	c.Flags().StringVar(&code, "code", "", "the code some makers give out for it")
	return c
}

func (a *app) unlock(cmd *cobra.Command, args []string, code string) error {
	ctx := cmd.Context()
	j, err := a.job(ctx, cmd, args)
	if err != nil {
		return err
	}
	defer j.Close()
	if yes, known := j.Card.Yes(card.FactUnlocked); known && yes && j.Card.Get(card.FactUnlocked).Evidence == card.Read {
		a.result["unlocked"] = true
		a.out.Say(bench.Done, "the bootloader is open already; nothing was changed")
		a.suggest(j)
		return nil
	}
	if err := j.Phone.ReadUnlockAbility(ctx, j.Link, j.Card); err != nil {
		return err
	}
	if m := j.Phone.Model(); m != nil {
		for _, s := range m.Bootloader.Before {
			a.out.Say(bench.Need, "before: %s", s)
		}
		if m.Bootloader.Code != "" && code == "" {
			return usage("this bootloader wants a code: --code CODE. %s", m.Bootloader.Code)
		}
	}
	j.Code = code
	j.SetWish(nil, &plan.Unlock{Ask: j.Phone.Model().Questions()})
	if err := a.run(ctx, j); err != nil || a.dry {
		return err
	}
	a.result["unlocked"] = true
	a.out.Say(bench.Done, "the bootloader is open, read back; all data is erased")
	a.out.Say("note", "debugging is off again: after the next start of the system, go through its welcome and switch it on")
	a.suggest(j)
	return nil
}
