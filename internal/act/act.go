// Package act carries out steps, one file a kind, and confirms what was done by reading
// back what the mode can read back. It knows no engine: an act hands further steps back
// as values.
package act

import (
	"context"

	"jarlid/internal/core/finding"
	"jarlid/internal/core/plan"
	"jarlid/internal/files"
	"jarlid/internal/journal"
	"jarlid/internal/phone"
	"jarlid/internal/say"
)

// Actor is what acts work with and on.
type Actor struct {
	*phone.Session
	Out *Outcome
	// Dir is the job's folder: bytes to be put back are kept there.
	Dir string
	// Yes says that nobody is to be asked.
	Yes bool
	// Code is what some bootloaders want to be unlocked with.
	Code string
	// Stop is closed when the person wants to stop after the write in progress.
	Stop <-chan struct{}
	// Sums are digests shared with other jobs; nil for none.
	Sums *files.Sums
	// Verifier knows the digests files had when they were verified.
	Verifier *files.Verifier

	said []journal.Answer
}

// ErrStopped says that the person stopped the job.
var ErrStopped = say.ErrCancelled

// awaiting gives a context for as long as a person is awaited.
func (j *Actor) awaiting(ctx context.Context) (context.Context, func()) { return Awaiting(ctx, j.Stop) }

// Awaiting gives a context that ends with the first wish to stop, which stop is closed for: nothing is under
// way that could break.
func Awaiting(ctx context.Context, stop <-chan struct{}) (context.Context, func()) {
	ctx, cancel := context.WithCancelCause(ctx)
	done := make(chan struct{})
	go func() {
		select {
		case <-stop:
			cancel(ErrStopped)
		case <-done:
		case <-ctx.Done():
		}
	}()
	return ctx, func() { close(done); cancel(nil) }
}

// Stopped turns the end of such a context into ErrStopped where a person wished it.
func Stopped(ctx context.Context, err error) error {
	if err != nil && context.Cause(ctx) == ErrStopped {
		return ErrStopped
	}
	return err
}

// Done is what an act did.
type Done struct {
	Answers []string // the phone's words
	Confirm string   // journal.ReadBack, PhoneWord, NotKnown, or the source in words
	Bytes   int64    // that were sent or written
	SHA256  string   // of them
	Said    []journal.Answer
	// Further are steps that follow from what the act found, to be checked and journaled
	// like any other before they act.
	Further []plan.Step
	// InPlace is how many of the steps after this one Further replaces.
	InPlace int
	// Found are findings about Further that only the act could make.
	Found []finding.Finding
	// Left is what an act did not reach, in words; "" where it did all of it.
	Left string
	// Looked is true for acts that changed nothing.
	Looked bool
	// Rebooted says that the phone took the command to reboot, whatever came after it.
	Rebooted bool
}

// confirm asks the person at the phone and keeps the answer.
func (j *Actor) confirm(question string) (bool, error) {
	yes, err := j.Obs.Confirm(question)
	if err == nil {
		j.said = append(j.said, journal.Answer{Question: question, Answer: map[bool]string{true: "yes",
			false: "no"}[yes]})
	}
	return yes, err
}

// choose asks which of several answers is true and keeps it.
func (j *Actor) choose(question string, options []string) (int, error) {
	n, err := j.Obs.Choose(question, options)
	if err == nil {
		j.said = append(j.said, journal.Answer{Question: question, Answer: options[n]})
	}
	return n, err
}
