package cli

import (
	"os"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/cli/term"
	"jarlid/internal/core/fit"
	"jarlid/internal/core/image"
	"jarlid/internal/core/spell"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

// fitShow says how an answer is shown.
type fitShow struct {
	page    string
	explain bool
}

func (a *app) fit(cmd *cobra.Command, args []string, t *task.Fit, w fitShow) error {
	t.Images = args
	t.Single = w.page != ""
	e, err := a.taskEnv(cmd)
	if err != nil {
		return err
	}
	r, err := t.Run(cmd.Context(), e)
	if err != nil {
		return err
	}
	a.result = r
	best := r.Best()
	if len(r.Questions) == 1 {
		a.printFit(best, w.explain, len(t.With) > 0)
	} else {
		a.printFits(r.Questions, r.Verdicts)
	}
	if w.page != "" {
		if err := writePage(w.page, r.Questions[0], best, r.Name); err != nil {
			return err
		}
		a.say(r.Name, say.Info, "the page is in %s", w.page)
	}
	if len(best.Todo) > 0 {
		a.next = append(a.next, a.fitNext(best.Todo[0], r.Name))
	}
	if best.Verdict == fit.DoesNotFit {
		a.next = append(a.next, "jarlid explain "+best.Hardest())
	}
	if len(r.Questions) > 1 {
		a.next = []string{e.Command(r.Name, "fit", r.Questions[0].Path)}
	}
	if best.Verdict == fit.DoesNotFit || best.Verdict == fit.CannotTell {
		return &task.NoError{Text: best.Sentence}
	}
	a.say(r.Name, say.Done, "%s", best.Sentence)
	return nil
}

// fitNext names the phone in what is to be done first.
func (a *app) fitNext(todo, name string) string {
	words, ok := strings.CutPrefix(todo, "jarlid ")
	if !ok {
		return todo
	}
	return a.env.Command(name, strings.Fields(words)...)
}

func (a *app) fitCommand() *cobra.Command {
	var t task.Fit
	var w fitShow
	c := &cobra.Command{Use: "fit IMAGE...", Short: "Weigh whether a generic system will run on this " +
		"phone, and why not", Args: words(1, -1, "which system images"),
		Long: "Weighs a generic system image against a phone: the one that is here, a saved card (--card), " +
			"and what its firmware says (--vendor).\n" +
			"Nothing on the phone is changed. Ends with 0 when it fits, with 6 when it does not or when " +
			"nobody can tell.",
		RunE: func(cmd *cobra.Command, args []string) error { return a.fit(cmd, args, &t, w) }}
	c.Flags().StringVar(&t.Vendor, "vendor", "", "the phone's vendor partition: its image, a super image, "+
		"a firmware set or a payload")
	c.Flags().StringVar(&w.page, "page", "", "also write the answer as a page of its own: FILE.html")
	c.Flags().StringArrayVar(&t.With, "with", nil, "an add-on that goes on top, weighed too (repeatable)")
	c.Flags().BoolVar(&w.explain, "explain", false, "tell each check at length")
	a.maxMemory(c)
	return c
}

// printFit shows one answer. extras: add-ons were named, and are not folded.
func (a *app) printFit(v *fit.Verdict, explain, extras bool) {
	if a.json {
		return
	}
	im := v.Image
	a.say("", say.Info, "%s is %s, release %s, API level %d, patch level %s, %s", im.Label, im.Build,
		im.Release, im.API, im.Patch, image.Size(im.Size))
	var rows [][]string
	var good []string
	checks := v.WorstFirst()
	for _, k := range checks {
		if k.Outcome == fit.Good {
			good = append(good, k.Name)
			if !explain && !a.details && (k.Name != "extras" || !extras) {
				continue
			}
		}
		rows = append(rows, []string{k.Name, string(k.Outcome), k.Image, k.Phone})
	}
	if len(rows) > 0 {
		a.out.Show(term.Table{Head: []string{"CHECK", "IS", "THE IMAGE", "THE PHONE"}, Rows: rows, Second: 2})
	}
	if len(good) > 0 {
		a.say("", say.Good, "%s good: %s", spell.Counted(len(good), "check"), strings.Join(good, ", "))
	}
	for _, k := range checks {
		word := map[fit.Outcome]say.Word{
			fit.Stop:    say.Stop,
			fit.Warn:    say.Warn,
			fit.Note:    say.Note,
			fit.Unknown: say.Open,
			fit.Good:    say.Good,
		}[k.Outcome]
		if k.Outcome == fit.Good && !explain {
			continue
		}
		a.say("", word, "%s: %s", k.Name, k.Why)
		if t, ok := fit.Explain(k.Name); ok && explain {
			a.say("", say.Info, "%s %s %s", t.Meaning, t.Why, t.Remedy)
		}
	}
	if len(v.Todo) > 0 {
		a.say("", say.Info, "%s", map[bool]string{true: "to find out:",
			false: "to do, in this order:"}[v.Verdict == fit.CannotTell])
		for i, t := range v.Todo {
			a.say("", say.Info, "%d. %s", i+1, t)
		}
	}
}

func (a *app) printFits(all []fit.Question, verdicts map[string]*fit.Verdict) {
	var rows [][]string
	for _, q := range all {
		v := verdicts[q.Path]
		var because []string
		for _, o := range []fit.Outcome{fit.Stop, fit.Unknown, fit.Warn} {
			var names []string
			for _, k := range v.Checks {
				if k.Outcome == o {
					names = append(names, k.Name)
				}
			}
			if len(names) > 0 {
				because = append(because, string(o)+": "+strings.Join(names, ", "))
			}
			if o == fit.Stop && len(names) > 0 {
				break
			}
		}
		rows = append(rows, []string{q.Image.Label, v.Verdict, strings.Join(because, "; ")})
	}
	a.out.Table([]string{"IMAGE", "VERDICT", "BECAUSE OF"}, rows)
}

func writePage(path string, q fit.Question, v *fit.Verdict, phone string) error {
	b, err := page(q, v, phone)
	if err != nil {
		return err
	}
	return os.WriteFile(path, b, 0o644)
}
