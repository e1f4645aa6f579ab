package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
	"jarlid/internal/core/card"
	"jarlid/internal/core/fit"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/model"
)

type fitWish struct {
	vendor, page string
	with         []string
	explain      bool
}

func (a *app) fitCommand() *cobra.Command {
	var w fitWish
	c := &cobra.Command{Use: "fit IMAGE...", Short: "Will this generic system image run on this phone, and why not", Args: words(1, -1, "one or more system images"),
		Long: "Weighs a generic system image against a phone: the one that is here, a saved card (--card), and what its firmware says (--vendor).\n" +
			"Nothing on the phone is changed. Ends with 0 when it fits, with 6 when it does not or when nobody can tell.",
		RunE: func(cmd *cobra.Command, args []string) error { return a.fit(cmd.Context(), args, w) }}
	c.Flags().StringVar(&w.vendor, "vendor", "", "the phone's vendor partition: its image, a super image, a firmware set or a payload")
	c.Flags().StringVar(&w.page, "page", "", "also write the answer as a page of its own: FILE.html")
	c.Flags().StringArrayVar(&w.with, "with", nil, "an add-on that goes on top, weighed too (repeatable)")
	c.Flags().BoolVar(&w.explain, "explain", false, "tell each check at length")
	return c
}

func (a *app) fit(ctx context.Context, args []string, w fitWish) error {
	paths, err := expand(args)
	if err != nil {
		return err
	}
	if w.page != "" && len(paths) > 1 {
		return usage("--page shows one image, and here are %d", len(paths))
	}
	var extras []*ident.File
	for _, p := range w.with {
		f, err := a.identify(unquote(p), ident.Options{})
		if err != nil {
			return err
		}
		extras = append(extras, f)
	}
	c, m, name, err := a.fitPhone(ctx, w.vendor)
	if err != nil {
		return err
	}
	var all []fit.Question
	verdicts := map[string]*fit.Verdict{}
	for _, p := range paths {
		im, err := a.systemImage(ctx, p)
		if err != nil {
			return err
		}
		q := fit.Question{Image: im, Card: c, Model: m, Path: p, Extras: extras}
		verdicts[p] = fit.Judge(q)
		all = append(all, q)
	}
	slices.SortStableFunc(all, func(x, y fit.Question) int { return fit.Better(verdicts[x.Path], verdicts[y.Path]) })
	best := verdicts[all[0].Path]
	a.fitResult(all, verdicts)
	if !a.json {
		if len(all) == 1 {
			a.printFit(best, w.explain)
		} else {
			a.printFits(all, verdicts)
		}
	}
	if w.page != "" {
		if err := writePage(w.page, all[0], best, name); err != nil {
			return err
		}
		a.out.Say(bench.Done, "the page is in %s", w.page)
	}
	if len(best.Todo) > 0 {
		a.next = append(a.next, a.fitNext(best.Todo[0], name))
	}
	if best.Verdict == fit.DoesNotFit {
		a.next = append(a.next, "jarlid explain "+best.Hardest())
	}
	if len(all) > 1 {
		a.next = []string{a.fitNext("jarlid fit "+all[0].Path, name)}
	}
	if best.Verdict == fit.DoesNotFit || best.Verdict == fit.CannotTell {
		return &noError{best.Sentence}
	}
	a.out.Say(bench.Done, "%s", best.Sentence)
	return nil
}

func (a *app) fitNext(command, phone string) string {
	if phone == "" {
		return command
	}
	return a.command(command, phone)
}

// fitPhone gathers what is known of the phone: the one that is here or a saved card, and its
// firmware. name is what it is called on the bench, "" for none.
func (a *app) fitPhone(ctx context.Context, vendor string) (c *card.Card, m *model.Model, name string, err error) {
	c = &card.Card{}
	j, err := a.open(ctx)
	var away *bench.NotHereError
	switch {
	case errors.As(err, &away) && vendor != "" && a.on == "":
		a.out.Say("note", "no phone is here; what its firmware says has to do")
	case err != nil:
		return nil, nil, "", err
	default:
		defer j.Close()
		if err := j.LearnFit(ctx); err != nil {
			return nil, nil, "", err
		}
		c, m, name = j.Card, j.Phone.Model(), j.Phone.Name
	}
	if vendor == "" {
		return c, m, name, nil
	}
	set, err := a.gather(ctx, []string{unquote(vendor)}, false)
	if err != nil {
		return nil, nil, "", err
	}
	defer set.Close()
	err = bench.FactsOfFiles(set, c, func(what string, err error) { a.out.Say("note", "%s: %v", what, err) })
	if err != nil {
		return nil, nil, "", fmt.Errorf("%s: %w", vendor, err)
	}
	a.out.Say(bench.Look, "what %s says of the phone counts as said by you", filepath.Base(vendor))
	return c, m, name, nil
}

// systemImage reads the facts of an image, in whatever it is wrapped.
func (a *app) systemImage(ctx context.Context, p string) (*fit.Image, error) {
	f, err := a.identify(p, ident.Options{})
	if err != nil {
		return nil, err
	}
	if f.Short {
		return nil, fmt.Errorf("%s ends too early: %s", p, f.Damage)
	}
	label := filepath.Base(p)
	if len(f.Wrapped) > 0 && f.Wrapped[0] != "sparse" || f.IsArchive() {
		a.out.Say(bench.Look, "%s is wrapped (%s); it is unpacked to a temporary place, since it has to be read at any point", label, strings.Join(append(f.Wrapped, map[bool][]string{true: {string(f.Kind)}}[f.IsArchive()]...), " in "))
	}
	m, err := a.gather(ctx, []string{p}, false)
	if err != nil {
		return nil, err
	}
	defer m.Close()
	var systems []string
	for _, im := range m.Images {
		if len(m.Images) == 1 || len(im.File.GoesTo) > 0 && im.File.GoesTo[0].Partition == "system" {
			systems = append(systems, im.File.Path)
		}
	}
	if len(systems) != 1 {
		return nil, usage("%s holds %d system images; take out the one that is meant: jarlid lift", p, len(systems))
	}
	im, err := bench.ReadSystem(label, systems[0])
	if errors.Is(err, fit.ErrNoFileSystem) {
		err = fmt.Errorf("%w: it is %s", err, f.Words())
	}
	return im, err
}

func (a *app) fitResult(all []fit.Question, verdicts map[string]*fit.Verdict) {
	var list []map[string]any
	for _, q := range all {
		v := verdicts[q.Path]
		list = append(list, map[string]any{"verdict": v.Verdict, "sentence": v.Sentence, "image": q.Image.Facts(), "phone": phoneFacts(q.Card), "checks": v.Checks, "todo": orEmpty(v.Todo)})
	}
	for k, v := range list[0] {
		a.result[k] = v
	}
	if len(list) > 1 {
		a.result["images"] = list
	}
}

// phoneFacts gives a card's facts by name; of the long ones, how long they are.
func phoneFacts(c *card.Card) map[string]any {
	out := map[string]any{}
	for name, f := range c.Facts() {
		switch {
		case !f.Known():
			out[name] = nil
		case name == card.FactManifest || name == card.FactMatrix || name == card.FactKernelConf:
			out[name] = fmt.Sprintf("%d bytes", len(f.Value))
		default:
			out[name] = f.Value
		}
	}
	return out
}

func (a *app) printFit(v *fit.Verdict, explain bool) {
	im := v.Image
	a.out.Say(bench.Look, "%s is %s, release %s, API level %d, patch level %s, %s", im.Label, im.Build, im.Release, im.API, im.Patch, image.Size(im.Size))
	var rows [][]string
	for _, k := range v.Checks {
		rows = append(rows, []string{k.Name, string(k.Outcome), k.Image, k.Phone})
	}
	a.out.table([]string{"CHECK", "IS", "THE IMAGE", "THE PHONE"}, rows)
	for _, k := range v.Checks {
		word := map[fit.Outcome]bench.Word{fit.Stop: "stop", fit.Care: "care", fit.Note: "note", fit.Unknown: bench.Need, fit.Good: bench.Good}[k.Outcome]
		if k.Outcome == fit.Good && !explain {
			continue
		}
		a.out.Say(word, "%s: %s", k.Name, k.Why)
		if t, ok := fit.Explain(k.Name); ok && explain {
			a.out.Say(bench.Look, "%s %s %s", t.Meaning, t.Why, t.Remedy)
		}
	}
	if len(v.Todo) > 0 {
		a.out.Say(bench.Look, "%s", map[bool]string{true: "to find out:", false: "to do, in this order:"}[v.Verdict == fit.CannotTell])
		for i, t := range v.Todo {
			a.out.Say(bench.Look, "%d. %s", i+1, t)
		}
	}
}

func (a *app) printFits(all []fit.Question, verdicts map[string]*fit.Verdict) {
	var rows [][]string
	for _, q := range all {
		v := verdicts[q.Path]
		var because []string
		for _, o := range []fit.Outcome{fit.Stop, fit.Unknown, fit.Care} {
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
	a.out.table([]string{"IMAGE", "VERDICT", "BECAUSE OF"}, rows)
}

func writePage(path string, q fit.Question, v *fit.Verdict, phone string) error {
	b, err := page(q, v, phone)
	if err != nil {
		return err
	}
	return os.WriteFile(path, b, 0o644)
}
