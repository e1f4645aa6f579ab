package task

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/fit"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/filesystem"
	"jarlid/internal/core/local"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
	"jarlid/internal/files"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

// Fit checks generic system images against a phone: the one that is here, a saved card, and
// what its firmware says.
type Fit struct {
	Images []string `json:"images" yaml:"images"`
	// the phone's vendor partition: an image, a super image, a firmware set or a payload
	Vendor string   `json:"vendor,omitempty" yaml:"vendor,omitempty"`
	With   []string `json:"with,omitempty" yaml:"with,omitempty"` // add-ons that go on top
	// Single: only one image can be answered for, as on a page.
	Single bool `json:"-" yaml:"-"`
}

// FitVerdict is the answer about one image.
type FitVerdict struct {
	Verdict  string             `json:"verdict"`
	Sentence string             `json:"sentence"`
	Image    fit.Facts          `json:"image"`
	Phone    map[string]*string `json:"phone"`
	Checks   []fit.Check        `json:"checks"`
	Todo     []string           `json:"todo"`
}

// Fitted are the answers, the best first.
type Fitted struct {
	FitVerdict
	All []FitVerdict `json:"images,omitempty"`

	Questions []fit.Question          `json:"-"`
	Verdicts  map[string]*fit.Verdict `json:"-"` // by path
	Name      string                  `json:"-"` // of the phone on the bench; "" for none
}

// Best is the verdict about the best image.
func (f *Fitted) Best() *fit.Verdict { return f.Verdicts[f.Questions[0].Path] }

// Run checks them. Nothing on the phone is changed.
func (t *Fit) Run(ctx context.Context, e *Env) (*Fitted, error) {
	paths, err := files.Expand(t.Images)
	if err != nil {
		return nil, err
	}
	if t.Single && len(paths) > 1 {
		return nil, Usage("--page shows one image, and here are %d", len(paths))
	}
	var extras []*ident.File
	for _, p := range t.With {
		f, err := files.Identify(files.Unquote(p), ident.Options{})
		if err != nil {
			return nil, err
		}
		extras = append(extras, f)
	}
	r := &Fitted{Verdicts: map[string]*fit.Verdict{}}
	c, m, err := t.phone(ctx, e, r)
	if err != nil {
		return nil, err
	}
	for _, p := range paths {
		im, err := systemImage(ctx, e, p)
		if err != nil {
			return nil, err
		}
		q := fit.Question{Image: im, Card: c, Model: m, Path: p, Vendor: files.Unquote(t.Vendor),
			Extras: extras}
		r.Verdicts[p] = fit.Judge(q)
		r.Questions = append(r.Questions, q)
	}
	slices.SortStableFunc(r.Questions, func(x, y fit.Question) int {
		return fit.Better(r.Verdicts[x.Path], r.Verdicts[y.Path])
	})
	for _, q := range r.Questions {
		v := r.Verdicts[q.Path]
		r.All = append(r.All, FitVerdict{Verdict: v.Verdict, Sentence: v.Sentence, Image: q.Image.Facts(),
			Phone: phoneFacts(q.Card), Checks: v.Checks, Todo: OrEmpty(v.Todo)})
	}
	r.FitVerdict = r.All[0]
	if len(r.All) == 1 {
		r.All = nil
	}
	return r, nil
}

// phone gathers what is known of the phone: the one that is here or a saved card, and its
// firmware.
func (t *Fit) phone(ctx context.Context, e *Env, r *Fitted) (*card.Card, *model.Model, error) {
	c := &card.Card{}
	var m *model.Model
	j, err := e.Open(ctx)
	var away *wire.NotHereError
	var stop *finding.StopError
	switch {
	case errors.As(err, &away) && t.Vendor != "" && e.Options.On == "":
		e.Obs().Say(say.Note, "no phone is here; what its firmware says has to do")
	case errors.As(err, &stop) && t.Vendor != "" && e.Options.On == "":
		e.Obs().Say(say.Note, "%s; what the firmware says has to do", stop.Findings[0].Text)
	case err != nil:
		return nil, nil, err
	default:
		if _, err := j.Know(ctx, []card.ID{card.FactVendor.ID()}); err != nil {
			return nil, nil, err
		}
		c, m, r.Name = j.Card, j.Model(), j.Name
	}
	if t.Vendor == "" {
		return c, m, nil
	}
	set, err := e.lookInto(ctx, files.Unquote(t.Vendor))
	if err != nil {
		return nil, nil, err
	}
	if model := c.Value(card.FactModel); model != "" {
		for _, im := range set.Images {
			for _, device := range im.File.Models() {
				if same, known := e.Bench.Models.Same(device, model); known && !same {
					return nil, nil, finding.Stopped(finding.WrongModel, filepath.Base(t.Vendor),
						fmt.Sprintf("%s is for %s, this phone is %s", filepath.Base(t.Vendor), device, model),
						"name this phone's own firmware, or leave the phone out: --vendor alone tells of "+
							"the phone it is made for")
				}
			}
		}
	}
	if err := files.FactsOfFiles(set, c, func(what string, err error) {
		e.Obs().Say(say.Note, "%s: %v", what, err)
	}); err != nil {
		return nil, nil, fmt.Errorf("%s: %w", t.Vendor, err)
	}
	e.Obs().Say(say.Info, "what %s says of the phone counts as said by you", filepath.Base(t.Vendor))
	return c, m, nil
}

// systemImage reads the facts of an image, in whatever it is wrapped.
func systemImage(ctx context.Context, e *Env, p string) (*fit.Image, error) {
	f, err := files.Identify(p, ident.Options{MaxMemory: e.MaxMemory})
	if err != nil {
		return nil, err
	}
	if no := place.NotContent(f, filepath.Base(p)); no != nil {
		return nil, &finding.StopError{Findings: no}
	}
	if f.Short {
		return nil, fmt.Errorf("%s ends too early: %s", p, f.Damage)
	}
	label := filepath.Base(p)
	wraps := []string{}
	if len(f.Wrapped) > 0 {
		wraps = append(wraps, f.Wrapping())
	}
	if f.IsArchive() {
		wraps = append(wraps, string(f.Kind))
	}
	if len(f.Wrapped) > 0 && f.Wrapped[0] != "sparse" || f.IsArchive() {
		e.Obs().Say(say.Info, "%s is wrapped (%s); it is unwrapped to a temporary place, since it has to "+
			"be read at any point", label, strings.Join(wraps, " in "))
	}
	m, err := e.lookInto(ctx, p)
	if err != nil {
		return nil, err
	}
	var systems []string
	for _, im := range m.Images {
		if len(m.Images) == 1 || len(im.File.GoesTo) > 0 && im.File.GoesTo[0].Partition == "system" {
			systems = append(systems, im.File.Path)
		}
	}
	if len(systems) != 1 {
		return nil, Usage("%s holds %d system images; take out the one that is meant: jarlid lift", p,
			len(systems))
	}
	im, err := files.ReadSystem(label, systems[0])
	if err == nil && im.Device != "" && !ident.IsGeneric(im.Device) {
		return nil, finding.Stopped(finding.NotGeneric, label,
			fmt.Sprintf("%s is %s, a system made for %s; what is weighed here are generic systems, made "+
				"for no phone in particular", label, place.ShortBuild(im.Build), im.Device),
			"write it with the rest of its set: jarlid flash "+local.Quote(p))
	}
	if errors.Is(err, filesystem.ErrNone) {
		err = fmt.Errorf("%w: it is %s", err, f.Words())
	}
	return im, err
}

// phoneFacts gives a card's facts by name; of the long ones, how long they are.
func phoneFacts(c *card.Card) map[string]*string {
	long := []card.ID{card.FactManifest.ID(), card.FactMatrix.ID(), card.FactKernelConf.ID()}
	out := map[string]*string{}
	for _, i := range c.IDs() {
		f := c.Get(i)
		v := f.Value
		switch {
		case !f.Known():
			out[i.String()] = nil
			continue
		case slices.Contains(long, i):
			v = fmt.Sprintf("%d bytes", len(v))
		}
		out[i.String()] = &v
	}
	return out
}
