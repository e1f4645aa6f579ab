package bench

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/plan"
)

// Previous gives the files in which jobs kept what was on partitions of this phone
// before they wrote them, the newest of each, by the partition's name.
func (j *Job) Previous(base string) (map[string]string, error) {
	dirs, err := os.ReadDir(filepath.Join(j.Phone.bench.Home, "jobs"))
	if err != nil {
		return nil, err
	}
	slices.Reverse(dirs) // by date and number: the newest first
	out := map[string]string{}
	serial := j.Card.Value(card.FactSerial)
	for _, d := range dirs {
		dir := filepath.Join(j.Phone.bench.Home, "jobs", d.Name())
		files, err := filepath.Glob(filepath.Join(dir, "previous-"+base+"*.img"))
		if err != nil || len(files) == 0 {
			continue
		}
		records, err := ReadJournal(filepath.Join(dir, "journal.jsonl"))
		if err != nil || len(records) == 0 || records[0].Serial != serial && records[0].Phone != j.Phone.Name {
			continue
		}
		for _, f := range files {
			name := strings.TrimSuffix(strings.TrimPrefix(filepath.Base(f), "previous-"), ".img")
			if _, newer := out[name]; !newer && (name == base || name == base+"_a" || name == base+"_b") {
				out[name] = f
			}
		}
	}
	return out, nil
}

// KeepPrevious reads what is on the partitions that steps write, where this mode can,
// so that it is kept under the job.
func (j *Job) KeepPrevious(ctx context.Context, steps []plan.Step) error {
	if !rootRecovery(j.Link, j.Card) {
		return nil
	}
	for _, s := range steps {
		w, ok := s.(*plan.Write)
		if !ok || w.Previous != nil {
			continue
		}
		b, err := j.graftBase(ctx, graftWish{}, w.Name())
		if err != nil {
			return err
		}
		w.Previous = b
	}
	return nil
}
