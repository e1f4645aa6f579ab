package act

import (
	"context"
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/ota"
	"jarlid/internal/core/plan"
	"jarlid/internal/files"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
	"jarlid/internal/phone"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

const (
	// quietLimit is how long a recovery may ask for nothing while it installs.
	quietLimit = 30 * time.Minute
	// quietBack is how long one is looked for that is known to have no shell.
	quietBack = 3 * time.Second
	// backLimit is how long a recovery may take to come back from sideload
	// mode to its menu.
	backLimit = 15 * time.Second
)

// sideload sends one package and finds out its outcome.
func (j *Actor) sideload(ctx context.Context, s *plan.Sideload) (Done, error) {
	src, err := j.Verifier.Source(s.File.Path, s.File.Size)
	if err != nil {
		return Done{}, err
	}
	defer src.Close()
	hctx, cancel := context.WithCancel(ctx)
	defer cancel()
	sum := j.Sums.Digest(hctx, src)
	reading := newReading(s.File)
	closing, err := j.serve(ctx, src, reading, filepath.Base(s.File.Path))
	rec := Done{Bytes: reading.Served, Answers: []string{string(closing)}}
	pkg := PackageResult{Path: s.File.Path, Outcome: Unknown, Passes: reading.Pass, Served: reading.Served,
		Distinct: reading.Distinct}
	var lost *link.LostError
	if err != nil && !errors.As(err, &lost) {
		cancel()
		_, _ = sum()
		j.Out.Packages = append(j.Out.Packages, pkg)
		return rec, err
	}
	digestText, derr := sum()
	if derr == nil {
		derr = src.Sent(digestText)
	}
	if derr != nil {
		j.Out.Packages = append(j.Out.Packages, pkg)
		return rec, derr
	}
	rec.SHA256 = digestText
	j.say(closing, lost)
	if lost != nil && reading.Whole() {
		lost = nil // many recoveries drop the link when they have finished
	}
	next := j.Card.Value(card.FactNext)
	seen := j.comeBack(ctx, s.File.Name(), lost == nil)
	ab := s.File.Kind == ident.OTAAB
	j.weigh(&pkg, ab, closing, reading, next, seen)
	if ab && pkg.Outcome == Installed {
		pkg.Slot = j.Card.Value(card.FactNext)
	} else if pkg.Outcome == Installed {
		pkg.Slot = j.Card.Value(card.FactStarted)
	}
	if pkg.Outcome == Unknown {
		if err := j.askOutcome(&pkg); err != nil {
			j.Out.Packages = append(j.Out.Packages, pkg)
			return rec, err
		}
	}
	for _, line := range seen.errors {
		j.Obs.Say(say.Info, "the recovery's log: %s", line)
	}
	rec.Answers = append(rec.Answers, seen.errors...)
	rec.Confirm = pkg.By
	j.Out.Packages = append(j.Out.Packages, pkg)
	return rec, j.outcome(s, &pkg, lost, seen.back)
}

func newReading(f *ident.File) *ota.Reading {
	var off, size int64
	if f.Package != nil {
		off, size = f.Package.PayloadOffset, f.Package.PayloadSize
	}
	return ota.NewReading(f.Size, adb.SideloadBlock, off, size)
}

// serve gives the phone the package, block by block or whole.
func (j *Actor) serve(ctx context.Context, src *files.Source, reading *ota.Reading, label string) (
	adb.Closing, error) {
	var m *say.Meter // drawn once the phone asks for something
	defer func() {
		if m != nil {
			m.End()
		}
	}()
	pass := 0
	served := func(off, n int64) {
		if m == nil {
			m = say.NewMeter(j.Obs, say.Send, label, src.Size)
		}
		reading.Ask(off, n)
		what, done, total := reading.Doing()
		if reading.Pass != pass {
			pass = reading.Pass
			m.Again()
		}
		m.Describe(what, total, reading.Distinct, src.Size)
		m.Set(done)
	}
	to, err := j.Installer()
	if err != nil {
		return adb.ClosedMute, err
	}
	closing, err := to.Sideload(ctx, src, src.Size, quietLimit, func(off, n int64) {
		if m == nil { // what people panic about; a phone that takes the whole package asks for no blocks
			j.Obs.Say(say.Note, "the phone asks for the package in blocks, for some more than once, and may "+
				"stop early: no percentage of it would be true, so none is shown")
		}
		served(off, n)
	})
	var refused *link.RefusedError
	if !errors.As(err, &refused) {
		return closing, err
	}
	// Old phones know only the service that takes the whole file at once.
	j.Obs.Say(say.Info, "this phone does not ask for blocks; it takes the whole package at once, as old "+
		"ones do")
	return adb.ClosedMute, to.SideloadWhole(ctx, src, src.Size, quietLimit, served)
}

// say tells the phone's closing word for what it is.
func (j *Actor) say(closing adb.Closing, lost *link.LostError) {
	switch {
	case lost != nil:
		j.Obs.Say(say.Info, "the connection ended: %s", lost.Words())
	case closing == adb.ClosedDone:
		j.Obs.Say(say.Info, `the phone's closing word is "done"; some recoveries say that whatever happened`)
	case closing == adb.ClosedFail:
		j.Obs.Say(say.Info, `the phone's closing word is "failed"`)
	default:
		j.Obs.Say(say.Info, "the phone closed the session without a word, as some recoveries do")
	}
}

// after is what a recovery shows when it has come back from sideload mode.
type after struct {
	back   bool     // it can be seen at all; recoveries without a shell never are
	errors []string // the last errors of its log
	record string   // its own record of the install: "1" done, "0" failed, "" none
}

// comeBack waits for the recovery to return to its menu and reads its log, its record of the install and
// its slots there. ended says that it came to the end of the package: one that is not seen any more after
// that has no shell, another may be off its cable.
func (j *Actor) comeBack(ctx context.Context, name string, ended bool) after {
	var a after
	j.Gone(ctx) // what comes next is done by hand unless the recovery shows up
	limit := backLimit
	if j.quiet(j.Card, j.Card.Value(card.FactStarted)) {
		limit = quietBack
	}
	w, err := j.Await(ctx, limit, true, card.Recovery)
	if err != nil {
		var away *wire.NotHereError
		var stopped *finding.StopError
		switch {
		case errors.As(err, &away) && ended:
			j.learnQuiet(j.Card, j.Card.Value(card.FactStarted))
		case errors.As(err, &stopped):
			phone.WarnOf(j.Obs, stopped)
		}
		return a
	}
	j.Use(w)
	if j.Reread(ctx) != nil {
		return a
	}
	a.back = true
	a.errors = j.logErrors(ctx)
	if b, ok, err := j.Shell().File(ctx, lastInstall); err == nil && ok {
		if r := parseRecord(string(b)); r.of(name) {
			a.record = r.outcome
		}
	}
	return a
}

// logErrors gives the last errors of the recovery's log.
func (j *Actor) logErrors(ctx context.Context) (list []string) {
	b, _, err := j.Shell().File(ctx, "/tmp/recovery.log")
	if err != nil {
		return nil
	}
	for line := range strings.Lines(string(b)) {
		// The platform's recovery marks errors with "E:".
		if line = strings.TrimSpace(line); strings.HasPrefix(line, "E:") {
			list = append(list, strings.TrimSpace(line[2:]))
		}
	}
	return list[max(0, len(list)-5):]
}

// lastInstall is where the platform's recovery writes the path of the package it installed and,
// in the second line, 1 or 0 (TEMPORARY_INSTALL_FILE in install.cpp).
const lastInstall = "/tmp/last_install"

// record is a recovery's own record of an install.
type record struct {
	path    string
	outcome string // "1" done, "0" failed, "" none
}

func parseRecord(text string) record {
	lines := strings.Split(text, "\n")
	if len(lines) < 2 {
		return record{}
	}
	return record{strings.TrimSpace(lines[0]), strings.TrimSpace(lines[1])}
}

// of reports whether the record is that of a package: a sideloaded one has the service's name for
// it (kSideloadHostFilename in the platform's fuse_sideload.h), others their own; one whose
// record names no file is taken for it.
func (r record) of(name string) bool {
	base := path.Base(r.path)
	return !strings.HasSuffix(strings.ToLower(base), ".zip") || base == "package.zip" || base == name ||
		base == phoneName(name)
}

// weigh decides the outcome of a package: what the phone reports alone never makes
// it installed.
func (j *Actor) weigh(pkg *PackageResult, ab bool, closing adb.Closing, reading *ota.Reading, before string,
	a after) {
	next, running := j.Card.Get(card.FactNext), j.Card.Get(card.FactStarted)
	read := a.back && next.Source == card.Read && running.Source == card.Read
	switch {
	case closing == adb.ClosedFail && ab && reading.Pass < 2:
		pkg.Outcome, pkg.By = Refused, "the phone said that it failed, before it read the payload to "+
			"write it"
	case closing == adb.ClosedFail:
		pkg.Outcome, pkg.By = Failed, "the phone said that it failed"
	case ab && read && before != "" && next.Value != before:
		pkg.Outcome, pkg.By = Installed, fmt.Sprintf("slot %s starts next now, before it was slot %s",
			next.Value, before)
	case a.record == "0":
		pkg.Outcome, pkg.By = Failed, "the recovery's own record says that it failed"
	case !ab && a.record == "1":
		pkg.Outcome, pkg.By = Installed, "the recovery's own record says so"
	case !ab: // it chooses no slot, so the slots say nothing
	case read && next.Value == running.Value:
		pkg.Outcome, pkg.By = Failed, fmt.Sprintf("slot %s, which is running, still starts next",
			next.Value)
	case read && a.record == "1":
		pkg.Outcome, pkg.By = Installed,
			fmt.Sprintf("the recovery's own record says so, and slot %s starts next", next.Value)
	}
	if pkg.Outcome != Installed && len(a.errors) > 0 {
		pkg.By = strings.TrimPrefix(pkg.By+": "+a.errors[len(a.errors)-1], ": ")
	}
}

// askOutcome has the person at the phone say what its screen says, when nothing
// else tells. Unattended, it stays unknown. Errors: ErrStopped.
func (j *Actor) askOutcome(pkg *PackageResult) error {
	if j.Yes {
		return nil
	}
	n, err := j.choose("Nothing else tells what became of it. What does the phone's screen say?", []string{
		"that it was installed, that it finished, or that it succeeded",
		"that it failed, was aborted, or an error",
		"that the signature can't be verified",
		"something else, or nothing"})
	switch {
	case errors.Is(err, ErrStopped):
		return err
	case err != nil:
	case n == 0:
		pkg.Outcome, pkg.By = Installed, "you said that the phone's screen says so"
	case n == 1:
		pkg.Outcome, pkg.By = Failed, "you said that the phone's screen says that it failed"
	case n == 2:
		pkg.Outcome, pkg.By = Refused, "you said that the phone's screen says that the signature "+
			"can't be verified"
	}
	return nil
}

// outcome turns the outcome into the step's end and its effects.
func (j *Actor) outcome(s *plan.Sideload, pkg *PackageResult, lost *link.LostError, back bool) error {
	switch pkg.Outcome {
	case Installed:
		j.Obs.Say(say.Good, "installed: %s", pkg.By)
		read := j.Card
		j.Card = read.Clone()
		plan.Apply(s, j.Card)
		for _, f := range []card.Plain{card.FactMode, card.FactStarted, card.FactNext} {
			if back { // else only the effects tell
				j.Card.Set(f, read.Get(f))
			}
		}
		return nil
	case Refused, Failed:
		return &link.RefusedError{Command: s.Title(), Message: pkg.By}
	}
	switch {
	case lost != nil && back:
		return fmt.Errorf("the connection broke in the middle of the package, so it is not installed: %w",
			lost)
	case lost != nil:
		return lost
	case back:
		return &UnknownError{Text: "nobody can tell whether the package was installed: the phone says " +
			"nothing about its slots"}
	}
	return &UnknownError{Text: "nobody can tell yet whether the package was installed: this recovery can't " +
		"be read",
		Hint: "look at the phone's screen; then bring it into the bootloader, where jarlid slot shows " +
			"which slot starts next"}
}
