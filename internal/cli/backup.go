package cli

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
	"jarlid/internal/core/backup"
	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/plan"
)

func (a *app) backupCommand() *cobra.Command {
	c := &cobra.Command{Use: "backup", Short: "Partitions and shared storage into a folder with digests, and back", Args: noWords,
		RunE: func(*cobra.Command, []string) error { return usage("backup wants a command: take or put-back") }}
	var dir string
	take := &cobra.Command{Use: "take [ITEM...]", Short: "Read partitions and the shared storage into a folder",
		Long: "Items are partitions (boot, boot@a, boot@both) and storage. Without any: every partition a phone needs to start, and the\n" +
			"shared storage where it can be read. An interrupted one goes on where it was.",
		RunE: func(cmd *cobra.Command, args []string) error { return a.backupTake(cmd, args, dir) }}
	back := &cobra.Command{Use: "put-back ITEM...", Short: "Write named items of a backup to the phone again", Args: words(1, -1, "the items to put back"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.backupPutBack(cmd, args, dir) }}
	for _, s := range []*cobra.Command{take, back} {
		s.Flags().StringVarP(&dir, "output", "o", "", "folder of the backup (needed)")
	}
	c.AddCommand(take, back)
	return c
}

func (a *app) backupTake(cmd *cobra.Command, args []string, dir string) error {
	if dir == "" {
		return usage("backup take wants -o DIR, the folder to put it into")
	}
	j, err := a.job(cmd.Context(), cmd, args)
	if err != nil {
		return err
	}
	defer j.Close()
	if j.Link == nil || j.Card.Mode() == card.Bootloader || j.Card.Mode() == card.Sideload {
		a.next = append(a.next, a.command("jarlid go recovery", j.Phone.Name))
		return usage("in this mode (%s) nothing can be read; a recovery with a root shell reads everything, a started system the shared storage", orUnknown(known(j.Card, card.FactMode)))
	}
	unlock, err := j.Phone.Lock()
	if err != nil {
		return err
	}
	defer unlock()
	a.setWorking(true)
	m, err := j.TakeBackup(cmd.Context(), bench.BackupWish{Dir: dir, Words: args})
	a.setWorking(false)
	var usage *bench.UsageError
	if m == nil || errors.As(err, &usage) {
		return err
	}
	a.result["items"], a.result["without"], a.result["folder"] = orEmpty(m.Items), orEmpty(m.Without), dir
	total := int64(0)
	var rows [][]string
	for _, i := range m.Items {
		total += i.Bytes
		what := i.SHA256
		if i.Name == backup.Storage {
			what = fmt.Sprintf("%d files, each with its own in %s", len(i.Files), backup.Name)
			if len(i.Files) == 1 {
				what = "one file, its own in " + backup.Name
			}
		}
		rows = append(rows, []string{i.Name, image.Size(i.Bytes), i.File, what})
	}
	if !a.json && len(rows) > 0 {
		a.out.table([]string{"ITEM", "SIZE", "FILE", "SHA-256"}, rows)
	}
	if len(m.Without) > 0 {
		a.out.Say("note", "not in it: %s", strings.Join(m.Without, ", "))
	}
	if err != nil {
		a.out.Say("note", "the same command goes on where this one ended")
		return err
	}
	a.out.Say(bench.Done, "%s of %s in %s, the digests in %s", image.Size(total), j.Phone.Name, dir, filepath.Join(dir, backup.Name))
	return nil
}

func (a *app) backupPutBack(cmd *cobra.Command, args []string, dir string) error {
	ctx := cmd.Context()
	if dir == "" {
		return usage("backup put-back wants -o DIR, the folder of the backup")
	}
	m, err := bench.ReadBackup(dir)
	if err != nil {
		return err
	}
	var items []*backup.Item
	for _, w := range args {
		list := m.Find(w)
		if len(list) == 0 {
			var names []string
			for _, i := range m.Items {
				names = append(names, i.Name)
			}
			return usage("the backup has no %s; there is: %s", w, strings.Join(names, ", "))
		}
		items = append(items, list...)
	}
	j, err := a.job(ctx, cmd, args)
	if err != nil {
		return err
	}
	defer j.Close()
	var found []finding.Finding
	var steps []plan.Step
	for _, i := range items {
		if err := bench.ProveBackup(ctx, dir, i); err != nil {
			found = append(found, finding.Finding{Name: finding.BackupDamaged, Severity: finding.Stop, About: i.Name, Final: true, Text: err.Error(), Remedy: "take another copy of the folder"})
			continue
		}
		a.out.Say(bench.Good, "%s is as it was taken, %s", i.Name, image.Size(i.Bytes))
		if i.Name == backup.Storage {
			if err := j.Phone.ReadStorage(ctx, j.Link, j.Card, "storage"); err != nil {
				return err
			}
			steps = append(steps, &plan.RestoreFiles{Dir: filepath.Join(dir, i.File), Item: i})
			continue
		}
		w, err := a.putBack(j, dir, i)
		if err != nil {
			return err
		}
		steps = append(steps, w)
		j.Files = append(j.Files, bench.FileRecord{Path: w.File.Path, Size: w.File.Size})
	}
	found = append(found, m.Check(j.Card, items)...)
	j.SetWish(found, steps...)
	err = a.runWrites(ctx, j)
	if err == nil && !a.dry && slices.ContainsFunc(items, func(i *backup.Item) bool { return i.Name == backup.Storage }) {
		a.out.Say(bench.Done, "the files are back in the shared storage")
	}
	return err
}

// putBack makes the step that writes a partition's image.
func (a *app) putBack(j *bench.Job, dir string, i *backup.Item) (*plan.Write, error) {
	f, err := a.identify(filepath.Join(dir, i.File), ident.Options{})
	if err != nil {
		return nil, err
	}
	base, slot := i.Name, ""
	if slots, _ := j.Card.Slots(); len(slots) > 0 {
		for _, s := range slots {
			if b, ok := strings.CutSuffix(i.Name, "_"+s); ok {
				base, slot = b, s
			}
		}
	}
	if err := j.Phone.ReadPartition(j.Card, j.Link, base); err != nil {
		return nil, err
	}
	return &plan.Write{File: f, Label: i.Name + " of the backup", Partition: base, Slot: slot, Forced: true, Known: true,
		Logical: plan.Logical(j.Card, base), Home: plan.RecoveryHome(j.Card, j.Phone.Model())}, nil
}

func (a *app) slotCopy() *cobra.Command {
	var from string
	c := &cobra.Command{Use: "copy [PARTITION...]", Short: "Mirror firmware to the other slot, proven by digests",
		Long: "Copies partitions from the slot that runs to the other one, on the phone itself, and compares the digests of both. Without\n" +
			"names: the maker's firmware, as the model file lists it. Needs a recovery with a root shell.",
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			if from != "" && from != "a" && from != "b" {
				return usage("--from is a or b, not %q", from)
			}
			j, err := a.inRecovery(ctx, cmd, args)
			if err != nil {
				return err
			}
			defer j.Close()
			if slots, known := j.Card.Slots(); known && len(slots) < 2 {
				return usage("%s has one of everything: there is no other slot", j.Phone.Name)
			}
			if from == "" {
				from = j.Card.Value(card.FactStarted)
			}
			names := args
			if len(names) == 0 {
				names = j.Phone.Model().Firmware
			}
			if len(names) == 0 || from == "" {
				return usage("name the partitions to copy, and the slot with --from: no model file lists this phone's firmware")
			}
			var steps []plan.Step
			var both []string
			for _, n := range names {
				s := &plan.CopySlot{Partition: n, From: from}
				steps, both = append(steps, s), append(both, s.Source(), s.Target())
			}
			if err := j.LearnDevices(ctx, both...); err != nil {
				return err
			}
			j.SetWish(nil, steps...)
			err = a.run(ctx, j)
			a.result["writes"] = orEmpty(j.Writes)
			if err != nil || a.dry {
				return err
			}
			for _, w := range j.Writes {
				a.out.Say(bench.Done, "%s is the same on both slots, %s", w.Partition, map[string]string{bench.ReadBack: "their digests match: " + w.SHA256,
					bench.PhoneWord: "on the phone's word"}[w.Confirmed])
			}
			return nil
		}}
	c.Flags().StringVar(&from, "from", "", "the slot to copy from: a or b (default: the one that runs)")
	return c
}
