package sheet

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"jarlid/internal/core/finding"
	"jarlid/internal/engine"
	"jarlid/internal/files"
	"jarlid/internal/host"
	"jarlid/internal/journal"
	"jarlid/internal/task"
)

// In a sheet the output of a backup names a series: a folder that holds a finished backup is never written
// again, and a later run makes one of its own beside it. Later tasks of the run and its resumes use that one.

// folderOf is where a phone's output goes in this run, by the folder its task names.
func (r *Ready) folderOf(phone, word string) string {
	folder := r.output(word)
	r.mu.Lock()
	defer r.mu.Unlock()
	if to, ok := r.outputs[phone+"\x00"+folder]; ok {
		return to
	}
	return folder
}

// goesTo notes that a phone's output goes to another folder than the one its task names.
func (r *Ready) goesTo(phone, folder, to string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.outputs == nil {
		r.outputs = map[string]string{}
	}
	r.outputs[phone+"\x00"+folder] = to
}

// series gives a backup that is about to be taken a folder of its own, where the one it names holds a
// finished one, and records that in the run. It reports whether the task has to be made again.
func (r *Ready) series(log *journal.RunWriter, phone string, n int, m *Made) (bool, error) {
	t, ok := m.Task.(*task.BackupTake)
	if !ok || !files.Finished(t.Output) {
		return false, nil
	}
	to := fmt.Sprintf("%s-%d", t.Output, log.Number)
	if err := log.Write(journal.RunRecord{Event: journal.Output, Phone: phone, Task: n, Folder: t.Output,
		To: to}); err != nil {
		return false, err
	}
	r.goesTo(phone, t.Output, to)
	return true, nil
}

// recalled takes up which folders a run that is resumed has given its phones.
func (r *Ready) recalled(run *journal.Run) {
	for _, x := range run.Records {
		if x.Event == journal.Output {
			r.goesTo(x.Phone, x.Folder, x.To)
		}
	}
}

// laterKnown is a task whose files only come to be when one before it is done.
type laterKnown struct{ open string }

func (laterKnown) Name() string { return "" }

// Load implements task.Work.
func (laterKnown) Load(context.Context, *task.Env) error { return nil }

// Foresee implements foreseer.
func (l laterKnown) Foresee(*engine.Ahead) (*engine.Foreseen, error) {
	return &engine.Foreseen{Open: []string{l.open}}, nil
}

// takenBefore gives what stands for a restore of what a task before it will have taken; nil for others.
func (r *Ready) takenBefore(i int, m *Made, made map[int][]*Made) *Made {
	back, ok := m.Task.(*task.BackupRestore)
	if !ok {
		return nil
	}
	for n := range i {
		for _, o := range made[n] {
			if t, ok := o.Task.(*task.BackupTake); ok && t.Output == back.Output {
				return &Made{Task: laterKnown{fmt.Sprintf("what the backup of task %d holds is known once "+
					"it is taken", n+1)}, Words: m.Words}
			}
		}
	}
	return nil
}

// Share finds outputs that several phones would write: they are findings of each of those phones.
func Share(all []*Judged) {
	by := map[string][]*Judged{}
	for _, j := range all {
		for _, o := range j.Outputs {
			key := filepath.Clean(o)
			if host.Folds {
				key = strings.ToLower(key)
			}
			by[key] = append(by[key], j)
		}
	}
	for dir, list := range by {
		if len(list) < 2 {
			continue
		}
		var names []string
		for _, j := range list {
			names = append(names, j.Name)
		}
		slices.Sort(names)
		f := finding.Stopped(finding.OutputShared, dir,
			fmt.Sprintf("%s would all write to %s, and only the last one's would be there",
				strings.Join(names, ", "), dir),
			"give each a folder of its own: put ${name} or ${serial} into the task's output").Findings[0]
		for _, j := range list {
			if !slices.ContainsFunc(j.Holds, func(o Found) bool { return o.Finding == f }) {
				j.Holds, j.Runs = append(j.Holds, Found{Finding: f}), false
			}
		}
	}
}
