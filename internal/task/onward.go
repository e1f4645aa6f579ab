package task

import (
	"errors"
	"slices"
	"strconv"

	"jarlid/internal/core/advice"
	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/screen"
	"jarlid/internal/engine"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
	"jarlid/internal/phone/wire"
)

// atPhone reports whether an error is of the phone: it refused, broke its protocol's rules, was lost, or does
// not know this computer.
func atPhone(err error) bool {
	var refused *link.RefusedError
	var rule *link.ProtocolError
	var lost *link.LostError
	var denied *adb.NotAuthorisedError
	return errors.As(err, &refused) || errors.As(err, &rule) || errors.As(err, &lost) ||
		errors.As(err, &denied)
}

// Onward are the commands that follow one that names none itself: what stopped it is explained, a
// job that was interrupted is resumed, a phone that is not here is looked for, and a phone that is here has a
// likely next command. j is the phone that was opened, nil for none; dir is the folder of the job that was
// begun, "" for none; err is how it ended. None where nothing is to be said.
func (e *Env) Onward(j *engine.Job, dir string, err error) (list []string) {
	var stop *finding.StopError
	var away *wire.NotHereError
	stopped := errors.As(err, &stop)
	if stopped && len(stop.Findings) > 0 {
		list = append(list, e.Command("", "explain", stop.Findings[0].Name))
	}
	// while the phone is away nothing can be resumed
	if c := e.resume(dir); c != "" && !errors.As(err, &away) {
		return append(list, c)
	}
	var refused *link.RefusedError
	switch {
	case len(list) > 0:
		return list
	case errors.As(err, &refused) && len(screen.Find(refused.Message)) > 0:
		return []string{e.Command("", "explain", refused.Message)}
	case stopped: // a question was answered no: the same, once it is to be done
		return []string{e.Again(e.Options.Typed)}
	case errors.As(err, &away), atPhone(err):
		return []string{e.Command("", "bench", "--why")}
	case j != nil && j.Card.Mode() != card.None:
		s := advice.Suggest(j.Card, j.Model())
		if len(s.Words) > 0 && (err == nil || !e.typed(s.Words)) { // else it has just failed
			return []string{e.Command(j.Name, s.Words...)}
		}
		return []string{e.Command(j.Name, "card")}
	}
	var no *NoError
	switch {
	case errors.As(err, &no) && no.Topic != "":
		return []string{e.Command("", "explain", no.Topic)}
	case err != nil:
		return nil
	}
	return []string{"jarlid"}
}

// typed reports whether a command was typed: its first two words.
func (e *Env) typed(words []string) bool {
	n := min(2, len(words))
	return len(e.Options.Typed) > n && slices.Equal(e.Options.Typed[1:n+1], words[:n])
}

// resume is the command that resumes the job of a folder, "" for none or one that was not interrupted.
func (e *Env) resume(dir string) string {
	if dir == "" {
		return ""
	}
	number := strconv.Itoa(journal.NumberOf(dir))
	s, err := ShowJob(e, number)
	if err != nil || s.Again == nil || s.Run != 0 || s.Again.Vain() {
		return ""
	}
	return e.Command("", "jobs", "resume", number)
}

// WithFiles is the command that follows a look at files: with several of them the whole
// evening is worked out. "" where nothing is done with what they are.
func (e *Env) WithFiles(list []*ident.File) string {
	switch len(list) {
	case 0:
		return ""
	case 1:
		if words := advice.ForFile(list[0].Path, list[0]); words != nil {
			return e.Command("", words...)
		}
		return ""
	}
	words, whole := []string{"sheet", "draft"}, false
	for _, f := range list {
		if one := advice.ForFile(f.Path, f); one != nil {
			words = append(words, f.Path)
			whole = whole || f.Kind == ident.FirmwareSet || one[0] == "recovery" || one[0] == "sideload" ||
				one[0] == "fit"
		}
	}
	if !whole {
		return "" // nothing an evening is made of
	}
	return e.Command("", words...)
}
