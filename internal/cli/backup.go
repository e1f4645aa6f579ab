package cli

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/core/backup"
	"jarlid/internal/core/image"
	"jarlid/internal/core/spell"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

func (a *app) backupCommand() *cobra.Command {
	c := &cobra.Command{Use: "backup", Short: "Keep partitions and the shared storage in a folder with " +
		"digests, and write them back", Args: noWords,
		RunE: wants("take or restore")}
	var dir string
	take := &cobra.Command{Use: "take [ITEM...]",
		Short: "Read partitions and the shared storage into a folder",
		Long: "Items are partitions (boot, boot@a, boot@both) and storage. Without any: every partition a " +
			"phone needs to start, and the\n" +
			"shared storage where it can be read. The same command resumes an interrupted backup; a " +
			"finished one is never written again.",
		RunE: func(cmd *cobra.Command, args []string) error {
			a.keeps = true
			return a.run(cmd, &task.BackupTake{Items: args, Output: dir})
		}}
	restore := &cobra.Command{Use: "restore ITEM...",
		Short: "Write named items of a backup to the phone again",
		Args:  words(1, -1, "which items to restore, by their names in the backup"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.run(cmd, &task.BackupRestore{Items: args, Output: dir})
		}}
	for _, s := range []*cobra.Command{take, restore} {
		s.Flags().StringVarP(&dir, "output", "o", "", "folder of the backup (needed)")
	}
	c.AddCommand(take, restore)
	return c
}

// showTaken shows what is in the folder of a backup.
func (a *app) showTaken(t *task.BackupTake, err error) {
	r := t.Result()
	if r == nil {
		return
	}
	a.result = r
	total := int64(0)
	var rows [][]string
	for _, i := range r.Items {
		total += i.Bytes
		what := i.SHA256
		if i.Name == backup.Storage {
			what = fmt.Sprintf("%s, each with its own in %s", spell.Counted(len(i.Files), "file"),
				backup.Name)
			if len(i.Files) == 1 {
				what = "one file, its own in " + backup.Name
			}
		}
		rows = append(rows, []string{i.Name, image.Size(i.Bytes), i.File, what})
	}
	if len(rows) > 0 {
		a.out.Table([]string{"ITEM", "SIZE", "FILE", "SHA-256"}, rows)
	}
	if len(r.Without) > 0 {
		a.say(r.Phone, say.Note, "not in it: %s", strings.Join(r.Without, ", "))
	}
	if err != nil {
		if len(r.Items) > 0 {
			a.say(r.Phone, say.Note, "the same command resumes it")
		}
		return
	}
	a.say(r.Phone, say.Done, "%s of %s in %s, the digests in %s", image.Size(total), r.Phone, t.Output,
		filepath.Join(t.Output, backup.Name))
}

// showRestored shows what was written back from a backup.
func (a *app) showRestored(t *task.BackupRestore, e end) {
	if e.job == nil {
		return
	}
	r := t.Result(e.job)
	a.result = r
	if !e.done {
		return
	}
	a.sayWrites(e.job)
	if r.Storage {
		a.say(e.job.Name, say.Done, "the files are back in the shared storage")
	}
	a.suggest(e.job)
}
