package cli

import (
	"cmp"
	"errors"
	"io/fs"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"jarlid/internal/act"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/local"
	"jarlid/internal/core/spell"
	"jarlid/internal/files"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

func (a *app) sayError(err error, code int) {
	if err == nil {
		return
	}
	var f *finding.StopError
	var u *act.UnknownError
	kept := func() {
		if a.jobDir != "" && code != task.ExitStopped {
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
	case code == task.ExitUsage:
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

// onward names the command that follows, where nothing else has, and the home folder in each of them
// when it was named in this one: what is pasted has to mean the same bench.
func (a *app) onward(err error, code int) {
	var stop *finding.StopError
	found := errors.As(err, &stop) && len(stop.Findings) > 0 // is explained behind a remedy of its own too
	switch {
	case !found && (len(a.next) > 0 || a.bare):
	case !found && (code == task.ExitUsage || errors.Is(err, fs.ErrNotExist)):
		a.next = append(a.next, cmp.Or(a.ran, "jarlid")+" --help")
	case a.env != nil:
		a.next = append(a.next, a.env.Onward(a.phone, a.jobDir, err)...)
	}
	if err != nil && len(a.next) == 0 && !a.bare {
		a.next = append(a.next, cmp.Or(a.ran, "jarlid")+" --help")
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
			return task.Usage("%s has no option -%s", cmd.CommandPath(), name)
		}
		hint := ""
		if near := spell.Near(name, names); len(near) > 0 {
			hint = "; did you mean --" + strings.Join(near, ", or --") + "?"
		}
		return task.Usage("%s has no option --%s%s", cmd.CommandPath(), name, hint)
	case errors.As(err, &empty):
		return task.Usage("say what --%s is: --%s %s", empty.GetFlag().Name, empty.GetFlag().Name,
			placeholder(empty.GetFlag()))
	case errors.As(err, &bad):
		f := bad.GetFlag()
		return task.Usage("--%s takes %s, not %q", f.Name, kinds[f.Value.Type()], bad.GetValue())
	}
	return task.Usage("%v", err)
}

// kinds say what an option of a type takes.
var kinds = map[string]string{
	"int":      "a whole number",
	"int64":    "a whole number",
	"duration": "a time such as 90s or 5m",
	"bool":     "nothing, or =true or =false",
}
