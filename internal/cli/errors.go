package cli

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"jarlid/internal/act"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/local"
	"jarlid/internal/core/spell"
	"jarlid/internal/engine"
	"jarlid/internal/files"
	"jarlid/internal/phone"
	"jarlid/internal/say"
	"jarlid/internal/task"
	"jarlid/internal/task/sheet"
)

// asFinding turns what a mode lacks into the finding it is.
func asFinding(err error) error {
	var lack *phone.LackError
	var stop *finding.StopError
	if errors.As(err, &lack) && !errors.As(err, &stop) {
		return &finding.StopError{Findings: []finding.Finding{lack.Finding()}}
	}
	return err
}

func (a *app) sayError(err error, code int) {
	if err == nil {
		return
	}
	var f *finding.StopError
	var u *act.UnknownError
	kept := func() {
		if a.jobDir != "" && code != exitStopped {
			a.out.Line(say.Info, "what was done stands in "+a.jobDir)
		}
	}
	var coded *codedError
	switch {
	case errors.As(err, &coded):
		kept()
		a.out.Line(say.Fail, coded.text)
	case errors.As(err, &f):
		a.sayStopped(f, kept)
	case errors.As(err, &u):
		if u.Hint != "" {
			a.out.Line(say.Todo, u.Hint)
		}
		kept()
		a.out.Line(say.Fail, u.Text)
	case code == exitUsage:
		a.out.Line(say.Fail, spell.Error(err))
	default:
		kept()
		a.out.Line(say.Fail, spell.Error(err))
	}
}

// sayStopped says what stopped it; kept says where what was done stands.
func (a *app) sayStopped(f *finding.StopError, kept func()) {
	if !f.Told { // found before any job could tell it
		for _, one := range f.Findings {
			a.out.Tell(say.Event{Finding: &one})
		}
	}
	text := "stopped, nothing was changed"
	if f.Acted {
		text = "stopped on the way, the journal says what was done"
	}
	if f.Declined {
		text = "not gone on with, nothing was changed"
		if f.Acted {
			text = "not gone on with; the journal says what was done"
		}
	}
	kept()
	a.out.Line(say.Fail, text)
}

// onward names the command to go on with, where nothing else has, and the home folder in each of them
// when it was named in this one: what is pasted has to mean the same bench.
func (a *app) onward(err error, code int) {
	var stop *finding.StopError
	found := errors.As(err, &stop) && len(stop.Findings) > 0 // is explained behind a remedy of its own too
	switch {
	case !found && (len(a.next) > 0 || a.bare):
	case !found && (code == exitUsage || errors.Is(err, fs.ErrNotExist)):
		a.next = append(a.next, cmp.Or(a.ran, "jarlid")+" --help")
	case a.env != nil:
		a.next = append(a.next, a.env.Onward(a.phone, a.jobDir, err)...)
	}
	if a.home == "" || files.Unquote(a.home) == a.Env("JARLID_HOME") {
		return
	}
	for i, n := range a.next {
		if !strings.Contains(n, " --home ") && !strings.HasPrefix(n, "jarlid explain ") &&
			!strings.HasSuffix(n, " --help") {
			a.next[i] += " --home " + local.Quote(a.home)
		}
	}
}

func exitCode(err error) int {
	var f *finding.StopError
	var away *phone.NotHereError
	var usage *task.UsageError
	var address *phone.AddressError
	var sums *files.NotSumsError
	var saved *engine.CardError
	var mode *phone.WrongModeError
	var no *noError
	var coded *codedError
	var form *sheet.FormError
	switch {
	case errors.As(err, &coded):
		return coded.code
	case err == nil:
		return exitDone
	case errors.As(err, &f):
		if f.Acted {
			return exitMidway
		}
		return exitStopped
	case errors.Is(err, say.ErrCancelled), errors.Is(err, context.Canceled):
		return exitStopped
	case errors.As(err, &usage), errors.As(err, &address), errors.As(err, &sums), errors.As(err, &saved),
		errors.As(err, &form):
		return exitUsage
	case errors.As(err, &no):
		return exitNo
	case errors.As(err, &away):
		return exitNoPhone
	case task.AtPhone(err), errors.As(err, &mode):
		return exitPhone
	}
	return exitWrong
}

// noError is the answer no of a command that answers a question.
type noError struct{ text string }

func (e *noError) Error() string { return e.text }

func usage(format string, args ...any) error {
	return &task.UsageError{Text: say.Text(format, args...)}
}

// flagError says what is wrong with an option in our words.
func flagError(cmd *cobra.Command, err error) error {
	var unknown *pflag.NotExistError
	var empty *pflag.ValueRequiredError
	var bad *pflag.InvalidValueError
	switch {
	case errors.As(err, &unknown):
		var names []string
		cmd.Flags().VisitAll(func(f *pflag.Flag) {
			if !f.Hidden {
				names = append(names, f.Name)
			}
		})
		name := unknown.GetSpecifiedName()
		if unknown.GetSpecifiedShortnames() != "" {
			return usage("%s has no option -%s", cmd.CommandPath(), name)
		}
		hint := ""
		if near := spell.Near(name, names); len(near) > 0 {
			hint = "; did you mean --" + strings.Join(near, ", or --") + "?"
		}
		return usage("%s has no option --%s%s", cmd.CommandPath(), name, hint)
	case errors.As(err, &empty):
		return usage("say what --%s is: --%s %s", empty.GetFlag().Name, empty.GetFlag().Name,
			placeholder(empty.GetFlag()))
	case errors.As(err, &bad):
		f := bad.GetFlag()
		return usage("--%s takes %s, not %q", f.Name, kinds[f.Value.Type()], bad.GetValue())
	}
	return usage("%v", err)
}

// kinds say what an option of a type takes.
var kinds = map[string]string{
	"int":      "a whole number",
	"int64":    "a whole number",
	"duration": "a time such as 90s or 5m",
	"bool":     "nothing, or =true or =false",
}
