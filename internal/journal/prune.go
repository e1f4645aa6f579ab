package journal

import (
	"fmt"
	"os"
	"path/filepath"

	"jarlid/internal/core/card"
)

// Needed reports whether a job still says something that no later job of its phone says: a fact that
// stands as it left it, or bytes that were kept to be put back.
func Needed(jobs []Entry, i int) bool {
	j := &jobs[i]
	if kept, err := filepath.Glob(filepath.Join(escape(j.Dir), previousName+"*"+previousEnd)); err != nil ||
		len(kept) > 0 {
		return true
	}
	with, without := &card.Card{}, &card.Card{}
	w := Who{Name: j.Phone, Serial: j.Serial}
	for k := range jobs {
		o := &jobs[k]
		if !o.Of(w) || o.Damage != nil {
			continue
		}
		o.replay(with)
		if k != i {
			o.replay(without)
		}
	}
	for _, id := range with.IDs() {
		a, b := with.Get(id), without.Get(id)
		if a.Known() != b.Known() || a.Value != b.Value || a.Pending != b.Pending {
			return true
		}
	}
	return false
}

// Remove deletes the folder of a job or of a run.
func Remove(home, dir string) error {
	if filepath.Dir(dir) != filepath.Join(home, "jobs") {
		return fmt.Errorf("%s is no folder of a job", dir)
	}
	return os.RemoveAll(dir)
}
