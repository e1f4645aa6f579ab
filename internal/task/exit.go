package task

import (
	"context"
	"errors"
	"slices"

	"jarlid/internal/core/finding"
	"jarlid/internal/engine"
	"jarlid/internal/files"
	"jarlid/internal/phone"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

// The program's exit codes.
const (
	ExitDone    = 0
	ExitWrong   = 1 // failed, or the outcome is unknown
	ExitUsage   = 2
	ExitStopped = 3 // stopped by a finding, by "no" or by Ctrl-C, nothing changed
	ExitNoPhone = 4
	ExitPhone   = 5 // the phone refused or was lost on the way
	ExitNo      = 6 // the answer is no
	ExitMidway  = 7 // stopped after something was changed
)

// UsageError is a wish that can't be right, whatever the phone: words that contradict each
// other, or that mean nothing.
type UsageError struct{ Text string }

// Error gives the text.
func (e *UsageError) Error() string { return e.Text }

// ExitCode is that of wrong usage.
func (e *UsageError) ExitCode() int { return ExitUsage }

// Usage makes a UsageError.
func Usage(format string, args ...any) error { return &UsageError{say.Text(format, args...)} }

// NoError is the answer no of a command that answers a question.
type NoError struct {
	Text  string
	Topic string // what explain says more of; "" for nothing
}

// Error gives the answer.
func (e *NoError) Error() string { return e.Text }

// ExitCode is that of a no.
func (e *NoError) ExitCode() int { return ExitNo }

// Exit gives the exit code of an error. One that knows its own, by a method ExitCode, decides it.
func Exit(err error) int {
	var own interface{ ExitCode() int }
	var stop *finding.StopError
	var away *wire.NotHereError
	var address *wire.AddressError
	var sums *files.NotSumsError
	var saved *engine.CardError
	var mode *phone.WrongModeError
	switch {
	case err == nil:
		return ExitDone
	case errors.As(err, &own):
		return own.ExitCode()
	case errors.As(err, &stop) && stop.Acted:
		return ExitMidway
	case errors.As(err, &stop), errors.Is(err, say.ErrCancelled), errors.Is(err, context.Canceled):
		return ExitStopped
	case errors.As(err, &address), errors.As(err, &sums), errors.As(err, &saved):
		return ExitUsage
	case errors.As(err, &away):
		return ExitNoPhone
	case atPhone(err), errors.As(err, &mode):
		return ExitPhone
	}
	return ExitWrong
}

// exits are the codes that decide that of several phones: the first of them that occurred.
var exits = []int{ExitWrong, ExitMidway, ExitPhone, ExitNoPhone, ExitStopped}

// Worst gives the exit code of several phones from those of each.
func Worst(codes []int) int {
	for _, e := range exits {
		if slices.Contains(codes, e) {
			return e
		}
	}
	return slices.Max(append(codes, ExitDone))
}

// AsFinding turns an error that is a finding into a stop; other errors stay.
func AsFinding(err error) error { return finding.AsStop(err, false) }
