package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/image"
	"jarlid/internal/core/plan"
)

func (a *app) flashCommand() *cobra.Command {
	var into string
	c := &cobra.Command{Use: "flash FILE...", Short: "Write images, each to where it belongs; a folder or zip of images as a whole set",
		Long: "Writes images to the partitions they belong to, worked out from what is in them and from the phone.\n" +
			"A folder, an archive or a payload is a firmware set: all of it is checked before the first byte is sent.\n" +
			"A recovery and the maker's firmware go to both slots, everything else to the slot that starts next.",
		Args: words(1, -1, "one or more files"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.flash(cmd, args, into) }}
	c.Flags().StringVar(&into, "into", "", "another destination: PARTITION, PARTITION@SLOT or @SLOT, slot a, b, both, current or other")
	c.RegisterFlagCompletionFunc("into", func(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
		return a.partitionNames(cmd.Context()), cobra.ShellCompDirectiveNoFileComp
	})
	return c
}

// partitionNames completes the partitions of the phone that is here.
func (a *app) partitionNames(ctx context.Context) []string {
	b, err := a.bench()
	if err != nil {
		return nil
	}
	p, err := b.Pick(ctx, a.on)
	if err != nil {
		return nil
	}
	s, err := p.Look(ctx)
	if err != nil {
		return nil
	}
	var names []string
	for _, p := range s.Card.Partitions() {
		names = append(names, p.Name)
	}
	return names
}

// gather makes files ready to be written.
func (a *app) gather(ctx context.Context, paths []string, single bool) (*bench.Material, error) {
	b, err := a.bench()
	if err != nil {
		return nil, err
	}
	ctx, stop := a.untilStopped(ctx)
	defer stop()
	return bench.Gather(ctx, paths, bench.Gathering{Home: filepath.Join(b.Home, "unwrapped"), Single: single,
		Working: func(what string, total int64) (func(int64), func()) {
			w := a.progress(bench.Recv, what, total)
			return w.set, w.end
		}})
}

func (a *app) flash(cmd *cobra.Command, args []string, into string) error {
	ctx := cmd.Context()
	target, err := plan.ParseTarget(into)
	if err != nil {
		return usage("%v", err)
	}
	j, err := a.job(ctx, cmd, args)
	if err != nil {
		return err
	}
	defer j.Close()
	if err := swapped(args, into, j.Card); err != nil {
		return err
	}
	paths, err := expand(args)
	if err != nil {
		return err
	}
	m, err := a.gather(ctx, paths, target.Partition != "")
	if err != nil {
		return err
	}
	defer m.Close()
	if target.Partition != "" && len(m.Images) > 1 {
		return usage("--into %s is for one image, and here are %d", into, len(m.Images))
	}
	list, extra, err := a.place(j, m, target)
	if err != nil {
		return err
	}
	if len(list)+len(extra) == 0 {
		return fmt.Errorf("there is nothing in it to write; jarlid ident %s tells what it is", args[0])
	}
	for _, p := range paths {
		if st, err := os.Stat(p); err == nil {
			j.Files = append(j.Files, bench.FileRecord{Path: p, Size: st.Size()})
		}
	}
	steps := plan.Flash(list, j.Card, j.Phone.Model())
	if len(list) > 0 {
		a.showPlaced(list)
	}
	j.SetWish(extra, steps...)
	return a.runWrites(ctx, j)
}

// swapped finds a file where the partition belongs, or the reverse.
func swapped(args []string, into string, c *card.Card) error {
	f := finding.Finding{Name: finding.ImageAsPartition, Severity: finding.Stop, Final: true}
	known := func(name string) bool { _, ok := c.Number(card.FactSize + name); return ok }
	for i, s := range args {
		if !bench.IsPartitionName(s, known) {
			continue
		}
		f.About, f.Text = s, fmt.Sprintf("%q is a partition of the phone, and no file of that name is here", s)
		f.Remedy = "the file comes first: jarlid flash FILE"
		if rest := append(append([]string(nil), args[:i]...), args[i+1:]...); len(rest) > 0 {
			f.Remedy = fmt.Sprintf("jarlid flash %s --into %s", rest[0], s)
		}
		return &bench.FindingError{Findings: []finding.Finding{f}}
	}
	part, _, _ := strings.Cut(into, "@")
	if st, err := os.Stat(part); part != "" && !known(part) && (err == nil && st.Mode().IsRegular() || strings.ContainsAny(part, `/\`) || strings.HasSuffix(part, ".img")) {
		f.About, f.Text = part, fmt.Sprintf("--into wants a partition, and %q is a file", part)
		f.Remedy = "jarlid flash " + part
		return &bench.FindingError{Findings: []finding.Finding{f}}
	}
	return nil
}

// place works out where every image goes, and in which order.
func (a *app) place(j *bench.Job, m *bench.Material, target plan.Target) ([]plan.Placed, []finding.Finding, error) {
	var list []plan.Placed
	var extra []finding.Finding
	model := j.Phone.Model()
	for _, im := range m.Images {
		if cut := plan.CutShort(im.File); len(cut) > 0 && len(im.File.GoesTo) == 0 {
			extra = append(extra, cut...)
			continue
		}
		var bases []string
		for _, d := range im.File.GoesTo {
			bases = append(bases, d.Partition)
		}
		if home := plan.RecoveryHome(j.Card, model).Partition; home != "" {
			bases = append(bases, home)
		}
		for _, base := range append(append(bases, target.Partition), model.NeededBefore()...) {
			if base == "" {
				continue
			}
			if err := j.Phone.ReadPartition(j.Card, j.Link, base); err != nil {
				return nil, nil, err
			}
		}
		p, err := plan.PlaceImage(im, target, j.Card, model)
		var nowhere *plan.ErrNowhere
		switch {
		case errors.As(err, &nowhere) && m.Set != "":
			a.out.Say("note", "%s is left alone: %s", nowhere.Label, nowhere.What)
			continue
		case err != nil:
			return nil, nil, usage("%v", err)
		}
		list = append(list, p)
	}
	for _, name := range m.Left {
		a.out.Say("note", "%s in the set is no image and is left alone", name)
	}
	list, why := plan.Order(list, m.Manifest.Order, model)
	if m.Set != "" {
		a.out.Say(bench.Look, "%s is a set of %d images; the order: %s", filepath.Base(m.Set), len(list), why)
		var names []string
		for _, r := range m.Manifest.Requires {
			names = append(names, r.Name)
		}
		extra = append(extra, m.Manifest.Check(filepath.Base(m.Set), j.Card, j.Variables(names...), j.Models())...)
	}
	return list, extra, nil
}

// showPlaced shows what goes where, and on what evidence.
func (a *app) showPlaced(list []plan.Placed) {
	if a.json {
		return
	}
	var rows [][]string
	for _, p := range list {
		var where []string
		for _, s := range p.Slots {
			where = append(where, plan.Suffixed(p.Partition, s))
		}
		kind := ""
		if p.Logical {
			kind = ", in super"
		}
		name := p.Label
		if name == "" {
			name = filepath.Base(p.File.Path)
		}
		rows = append(rows, []string{strings.Join(where, ", ") + kind, name, image.Size(p.File.Content()), p.Why})
	}
	a.out.table([]string{"INTO", "FILE", "SIZE", "BECAUSE"}, rows)
}
