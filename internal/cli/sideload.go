package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/act"
	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/place"
	"jarlid/internal/engine"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

func (a *app) sideloadCommand() *cobra.Command {
	var t task.Sideload
	c := &cobra.Command{Use: "sideload PACKAGE...", Short: "Send packages to the recovery in order, and " +
		"find out what became of each", Args: words(1, -1, "which packages, in their order"),
		Long: "Sends packages one after the other: the ROM first, then the add-ons as given. On phones " +
			"with slots the phone restarts\n" +
			"into recovery between the two, so that add-ons land on the new slot.",
		RunE: func(cmd *cobra.Command, args []string) error {
			t.Packages = args
			return a.run(cmd, &t)
		}}
	c.Flags().StringVar(&t.Recovery, "recovery-after", "",
		"write this recovery again behind the ROM, before any add-on")
	c.Flags().StringVar(&t.Then, "then", task.ThenRecovery,
		"after a ROM: recovery (restart into it, on the slot that was installed) or stay")
	a.complete(c, "then", cobra.FixedCompletions([]string{task.ThenRecovery, task.ThenStay},
		cobra.ShellCompDirectiveNoFileComp))
	return c
}

// showSideloaded shows the outcome of each package.
func (a *app) showSideloaded(t *task.Sideload, e end) {
	j, err := e.job, e.err
	if j == nil {
		return
	}
	r := t.Result(j)
	a.result = r
	for i, p := range r.Packages {
		a.say(j.Name, say.Info, "%s: the phone read %s of %s, %s in all, in %s", base(p.Path),
			image.Size(p.Distinct), image.Size(r.Files[i].Size), image.Size(p.Served), passes(p.Passes))
	}
	if !e.done {
		if last := len(r.Packages) - 1; err != nil && !errors.Is(err, engine.ErrStopped) && last >= 0 &&
			r.Packages[last].Outcome != act.Installed {
			a.sayRest(j, r.Files, len(r.Packages))
			a.lookAfter(j)
		}
		if err != nil && !errors.Is(err, engine.ErrStopped) {
			a.sayMissing(j, r)
		}
		return
	}
	a.sayInstalled(j, r)
	a.suggest(j)
}

// lookAfter names the command that shows the result of an install whose end was not seen: the slots, where
// the phone reports them in its mode.
func (a *app) lookAfter(j *engine.Job) {
	slots, _ := j.Card.Slots()
	switch {
	case len(slots) < 2:
	case j.Connected():
		a.next = append(a.next, a.env.Command(j.Name, "slot"))
	default:
		a.next = append(a.next, a.env.Command(j.Name, "go", string(place.ImageMode(j.Card, j.Model()))))
	}
}

// sayMissing says what an install that was interrupted behind its packages still wants: what was
// installed is not installed again.
func (a *app) sayMissing(j *engine.Job, r task.Sideloaded) {
	var done []string
	for _, p := range r.Packages {
		if p.Outcome != act.Installed {
			return
		}
		done = append(done, base(p.Path))
	}
	if len(done) == 0 {
		return
	}
	rest := r.Files[len(done):]
	missing := "only the restart is missing"
	if len(rest) > 0 {
		missing = "what comes behind it is missing"
	}
	a.say(j.Name, say.Good, "%s: installed; %s", strings.Join(done, ", "), missing)
	if len(rest) == 0 {
		a.next = append(a.next, a.env.Command(j.Name, "go", "recovery"))
		return
	}
	words := []string{"sideload"}
	for _, f := range rest {
		words = append(words, f.Path)
	}
	a.next = append(a.next, a.env.Command(j.Name, words...))
}

// sayRest names what was not sent after a package failed.
func (a *app) sayRest(j *engine.Job, files []*ident.File, sent int) {
	var rest []string
	for _, f := range files[min(sent, len(files)):] {
		rest = append(rest, base(f.Path))
	}
	if len(rest) > 0 {
		a.say(j.Name, say.Note, "not sent: %s", strings.Join(rest, ", "))
	}
}

func (a *app) sayInstalled(j *engine.Job, r task.Sideloaded) {
	ab := slices.ContainsFunc(r.Files, func(f *ident.File) bool { return f.Kind == ident.OTAAB })
	switch {
	case !ab || !r.Restarted:
	case !j.Connected():
		a.say(j.Name, say.Warn, "the phone took the restart into recovery and can't be seen from here: the "+
			"recovery on that slot has no shell")
	default:
		a.sayLanded(j, r.From)
	}
	var names []string
	for _, f := range r.Files {
		names = append(names, base(f.Path))
	}
	verb := "is"
	if len(names) > 1 {
		verb = "are"
	}
	where := ""
	if slot := j.Card.Value(card.FactStarted); slot != "" {
		where = ", on slot " + slot
	}
	if ab {
		where = "; slot " + orUnknown(r.Next) + " starts next"
	}
	a.say(j.Name, say.Done, "%s %s installed%s", strings.Join(names, ", "), verb, where)
}

// sayLanded says, after a restart into recovery, whether the phone came up on the slot it
// should, and whether the recovery there is the one that was installed. from is the slot it
// ran on before, "" when nothing was installed.
func (a *app) sayLanded(j *engine.Job, from string) {
	started := j.Card.Get(card.FactStarted)
	if started.Source != card.Read {
		return
	}
	if from != "" && started.Value != from {
		a.say(j.Name, say.Good, "the phone came up on slot %s; before the install it ran on slot %s",
			started.Value, from)
	} else if from != "" {
		a.say(j.Name, say.Info, "the phone came up on slot %s, as before", started.Value)
	}
	running := j.Card.Value(card.FactRecovery)
	home := card.At(place.RecoveryHome(j.Card).Partition, started.Value)
	written, set := j.Card.Get(card.FactHolds.Of(home)), j.Card.Get(card.FactSet.Of(home)).Known()
	switch {
	case running == "":
	case set && written.Known() && written.Value != running:
		j.Obs.Found(finding.Warns(finding.RecoveryReplaced, home.String(), "the recovery that runs is "+
			running+", "+written.Value+" was installed before", "jarlid recovery install FILE"))
	case set && written.Value == running:
		a.say(j.Name, say.Good, "%s is still there on slot %s", running, started.Value)
	default:
		a.say(j.Name, say.Info, "the recovery that runs is %s", running)
	}
}

// passes says how often a package was read through.
func passes(n int) string {
	if n == 1 {
		return "1 pass"
	}
	return fmt.Sprintf("%d passes", n)
}
