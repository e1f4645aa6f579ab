package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/engine"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

// end is how work on a phone came to its end.
type end struct {
	job  *engine.Job // nil where no phone was opened
	err  error
	done bool // something was done: not so for a dry run, or where there was nothing to do
}

// nothing reports whether there was nothing to do.
func (e end) nothing() bool {
	return e.err == nil && e.job != nil && e.job.Draft != nil && e.job.Draft.Nothing != ""
}

// run carries out work on the phone that is meant, and shows how it came to its end.
func (a *app) run(cmd *cobra.Command, w task.Work) error {
	e, err := a.taskEnv(cmd)
	if err != nil {
		return err
	}
	defer a.hold()()
	j, err := e.Run(cmd.Context(), w)
	a.ended(w, j, err)
	return err
}

// ended shows how work came to its end, but for its error.
func (a *app) ended(w task.Work, j *engine.Job, err error) {
	e := end{job: j, err: err}
	if j != nil {
		a.jobDir = j.Dir
	}
	switch {
	case err != nil || j == nil || j.Draft == nil: // work that is no plan shows itself what it came to
	case e.nothing():
		a.say(j.Name, say.Done, "%s", j.Draft.Nothing)
	case j.DryRun:
		a.say(j.Name, say.Done, "dry run: everything was checked, nothing was changed")
		a.next = append(a.next, a.env.Again(slices.DeleteFunc(slices.Clone(a.env.Options.Typed),
			func(w string) bool { return strings.HasPrefix(w, "--dry-run") })))
		for i, title := range j.Titles() {
			a.say(j.Name, say.Info, "step %d would %s", i+1, title)
		}
	default:
		e.done = true
	}
	a.showEnd(w, e)
}

// showEnd shows what is to be said of one kind of work.
func (a *app) showEnd(w task.Work, e end) {
	switch t := w.(type) {
	case *task.RecoveryInstall:
		a.showInstalled(t, e)
	case *task.RecoveryTry:
		a.showTried(t, e)
	case *task.RecoveryHold:
		a.showMoved(e, false, t.Result)
	case *task.Flash:
		a.showFlashed(t, e)
	case *task.Sideload:
		a.showSideloaded(t, e)
	case *task.Wipe:
		a.showWiped(t, e)
	case *task.Put:
		a.showPut(t, e)
	case *task.App:
		a.showApps(t, e)
	case *task.Flags:
		a.showFlags(t, e)
	case *task.BackupTake:
		a.showTaken(t, e.err)
	case *task.BackupRestore:
		a.showRestored(t, e)
	case *task.Shelve:
		a.showMoved(e, t.Back, t.Result)
	case *task.Go:
		a.showGone(t, e)
	case *task.SlotUse:
		a.showChosen(t, e)
	case *task.SlotCopy:
		a.showCopied(t, e)
	case *task.Unlock:
		a.showUnlocked(t, e)
	case *task.Relock:
		a.showLocked(t, e)
	case *task.Arrive:
		a.showArrived(t.Result())
	default:
		panic("the end of " + w.Name() + " is shown nowhere") // a test runs every command a sheet may have
	}
}
