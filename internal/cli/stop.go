package cli

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"jarlid/internal/cli/term"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/spell"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

// writes counts the steps under way that change a phone, of all phones of a run.
type writes struct {
	mu    sync.Mutex
	now   int
	began bool // one did
}

func (w *writes) set(on bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if on {
		w.now, w.began = w.now+1, true
	} else {
		w.now--
	}
}

func (w *writes) state() (now, began bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.now > 0, w.began
}

// patience is how long a command has to end once it is told to: what does not end by then is left behind.
const patience = 700 * time.Millisecond

// interrupts makes the first Ctrl-C end the command: at once where no phone is being changed, otherwise
// after the write in progress; the second one ends it at once. late is closed when a command that was told
// to end has not.
func (a *app) interrupts(done <-chan struct{}, late chan<- struct{}, cancel func()) {
	atOnce := func() {
		cancel()
		select {
		case <-time.After(patience):
			close(late)
		case <-done:
		}
	}
	select {
	case <-a.Interrupts:
	case <-a.Closing:
		close(a.stop)
		atOnce()
		return
	case <-done:
		return
	}
	writing, _ := a.writes.state()
	close(a.stop)
	if !writing {
		atOnce()
		return
	}
	const text = "stopping after the write in progress; press Ctrl-C again to stop at once"
	if a.out != nil && a.out.Drawn() { // above what is redrawn there
		a.out.Line(say.Note, text)
	} else {
		fmt.Fprintln(a.Stderr, "\n"+string(say.Note)+"  "+text)
	}
	select {
	case <-a.Interrupts:
	case <-a.Closing:
	case <-done:
		return
	}
	atOnce()
}

// hold keeps the window and the computer from stopping a job until it is released.
func (a *app) hold() (release func()) {
	if a.Hold == nil {
		return func() {}
	}
	return a.Hold()
}

// stopping reports whether the person wishes to stop.
func (a *app) stopping() bool {
	select {
	case <-a.stop:
		return true
	default:
		return false
	}
}

// cancelled gives the error and the exit code of a command that the person stopped. A step that failed by
// itself after something was changed keeps its own error.
func (a *app) cancelled(err error) (int, error) {
	_, began := a.writes.state()
	var stop *finding.StopError
	switch {
	case !began && a.keeps:
		return task.ExitStopped,
			&codedError{task.ExitStopped, "cancelled; what was written on this computer so far " +
				"is kept", &finding.StopError{Declined: true}}
	case !began:
		return task.ExitStopped, &codedError{task.ExitStopped, "cancelled; nothing was changed",
			&finding.StopError{Declined: true}}
	case errors.Is(err, say.ErrCancelled), errors.Is(err, context.Canceled), errors.As(err, &stop) &&
		stop.Declined:
		return task.ExitMidway, &codedError{task.ExitMidway,
			"stopped by Ctrl-C on the way; the journal says what was done", nil}
	}
	return task.Exit(err), err
}

// abandon ends a command that does not end by itself: it hangs in the computer, as on a disk that does not
// answer. What it holds is not touched any more.
func (a *app) abandon(json bool) int {
	code, err := a.cancelled(say.ErrCancelled)
	said := make(chan struct{})
	go func() {
		defer close(said)
		out := term.New(term.Options{Out: a.Stdout, In: a.Stdin, JSON: json, Env: a.Env, Columns: a.Columns})
		if json {
			out.Result(nil, ending{Exit: code, Error: spell.Error(err)})
			return
		}
		out.Line(say.Fail, spell.Error(err))
	}()
	select {
	case <-said:
	case <-time.After(patience / 4): // nobody reads what it says
	}
	return code
}
