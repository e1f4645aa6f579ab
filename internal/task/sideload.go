package task

import (
	"cmp"
	"context"
	"errors"
	"path/filepath"
	"slices"

	"jarlid/internal/act"
	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/appsig"
	"jarlid/internal/core/image/zipsig"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
	"jarlid/internal/core/spell"
	"jarlid/internal/engine"
	"jarlid/internal/files"
	"jarlid/internal/journal"
	"jarlid/internal/say"
)

// Sideload sends packages to the recovery, in order: the ROM first, then the add-ons as
// given.
type Sideload struct {
	Packages []string `json:"packages" yaml:"packages"`
	Then     string   `json:"then,omitempty" yaml:"then,omitempty"` // recovery or stay
	// written again behind the ROM
	Recovery string `json:"recovery-after,omitempty" yaml:"recovery-after,omitempty"`

	given    []*ident.File
	ordered  []*ident.File
	why      string
	recovery *ident.File
	rom      string          // the path of the ROM
	inside   *files.Material // of the ROM, for the boot image the recovery goes into
	from     string          // the slot the phone ran on before
}

// What happens after a ROM.
const (
	ThenRecovery = "recovery"
	ThenStay     = "stay"
)

// Sideloaded is its outcome.
type Sideloaded struct {
	Packages []act.PackageResult `json:"packages"`
	Next     *string             `json:"slot_next"`

	Files     []*ident.File `json:"-"` // in the order they were sent
	From      string        `json:"-"` // the slot the phone ran on before
	Restarted bool          `json:"-"` // it was restarted into its recovery behind the ROM
}

// Name implements Work.
func (*Sideload) Name() string { return "sideload" }

// Load reads the packages and the recovery.
func (t *Sideload) Load(ctx context.Context, e *Env) error {
	if t.Then == "" {
		t.Then = ThenRecovery
	}
	if t.Then != ThenRecovery && t.Then != ThenStay {
		return Usage("%q is nothing for --then%s", t.Then,
			spell.NoneOf(string(t.Then), []string{"recovery", "stay"}))
	}
	var err error
	if t.given, err = e.identifyAll(ctx, t.Packages); err != nil {
		return err
	}
	t.ordered, t.why, _ = plan.Packages(t.given)
	if t.Recovery == "" {
		return nil
	}
	rom := slices.IndexFunc(t.ordered, (*ident.File).IsROM)
	if rom < 0 {
		return Usage("--recovery-after writes a recovery behind a ROM, and none of the packages is one")
	}
	m, err := e.Gather(ctx, true, files.Unquote(t.Recovery))
	if err != nil {
		return err
	}
	t.recovery = m.Images[0].File
	e.Obs().Say(say.Info, "%s is %s, written again behind the ROM", filepath.Base(t.Recovery),
		t.recovery.Words())
	if k := t.ordered[rom].Kind; k == ident.OTAAB || k == ident.OTABlock {
		// The boot image it brings may be where the recovery goes.
		t.rom = t.ordered[rom].Path
		t.inside, err = e.imagesOf(ctx, t.rom)
	}
	return err
}

// Configure lets a person bring the phone there.
func (*Sideload) Configure(o *engine.Options) { o.ByHand = true }

// Prepare puts the restarts between the packages.
func (t *Sideload) Prepare(in *engine.Input) (*engine.Draft, error) {
	d := &engine.Draft{}
	t.from = in.Card.Value(card.FactStarted)
	for _, f := range t.given {
		d.Files = append(d.Files, record(f))
	}
	_, _, d.Findings = plan.Packages(t.given)
	var again []plan.Step
	if t.recovery != nil {
		d.Files = append(d.Files, journal.File{Path: t.Recovery, Size: t.recovery.Size})
		var err error
		if again, err = t.again(in, d); err != nil {
			return nil, err
		}
	}
	d.Steps = plan.Install(t.ordered, t.Then == ThenRecovery, again...)
	if len(t.ordered) > 1 {
		t.sayOrder(in, d.Steps)
	}
	return d, nil
}

// again makes the steps that write a recovery behind a ROM. Where it lives in the boot image
// it goes into the one the ROM brings, for the slot it is installed to: with another kernel
// its system would not start.
func (t *Sideload) again(in *engine.Input, d *engine.Draft) ([]plan.Step, error) {
	writes, found, err := plan.RecoveryInstall(t.recovery, place.Target{}, in.Card, in.Model)
	if err != nil {
		return nil, err
	}
	home := place.RecoveryHome(in.Card)
	if home.Form != "ramdisk" || t.inside == nil {
		d.Findings = append(d.Findings, found...)
		return steps(writes), nil
	}
	image, err := imageFor(t.inside, home.Partition, t.rom)
	if err != nil {
		return nil, err
	}
	if to := place.NextInstall(in.Card); to != "" {
		writes = slices.DeleteFunc(writes, func(w *plan.Write) bool { return w.Slot != to })
	}
	made := &engine.Draft{}
	if err := grafted(in, made, home, t.recovery, image, writes); err != nil {
		return nil, err
	}
	d.Findings = append(d.Findings, made.Findings...)
	d.Uses = append(append(d.Uses, made.Uses...), usesOf(t.inside, image)...)
	return made.Steps, nil
}

// sayOrder shows in which order packages are sent, and why.
func (t *Sideload) sayOrder(in *engine.Input, steps []plan.Step) {
	in.Notes.Say(say.Info, "the order: %s", t.why)
	n := 0
	for _, s := range steps {
		switch s := s.(type) {
		case *plan.Sideload:
			n++
			in.Notes.Say(say.Info, "%d. %s", n, filepath.Base(s.File.Path))
		case *plan.WipeArea:
			in.Notes.Say(say.Note, "then the caches of the old system are wiped")
		case *plan.Restart:
			if s.To == card.Recovery && n < len(t.ordered) && t.ordered[n-1].Kind == ident.OTAAB {
				in.Notes.Say(say.Note, "then a restart into recovery: the ROM goes to the other slot, and "+
					"what comes next has to land there too")
			}
		}
	}
}

// Result is its outcome.
func (t *Sideload) Result(j *engine.Job) Sideloaded {
	return Sideloaded{Packages: OrEmpty(j.Out.Packages), Next: Known(j.Card, card.FactNext), Files: t.ordered,
		From: t.from, Restarted: t.Then == ThenRecovery || len(t.ordered) > 1}
}

// Put sends files to a storage of the phone.
type Put struct {
	Files   []string `json:"files" yaml:"files"`
	To      string   `json:"to" yaml:"to"` // storage or sd
	Install bool     `json:"install,omitempty" yaml:"install,omitempty"`

	files []*ident.File
}

// Stored is its outcome.
type Stored struct {
	Stored   []act.StoredFile    `json:"stored"`
	Packages []act.PackageResult `json:"packages"`
}

// Name implements Work.
func (*Put) Name() string { return "put" }

// Load reads the files.
func (t *Put) Load(ctx context.Context, e *Env) error {
	if !slices.Contains(plan.Storages, t.To) {
		return Usage("say where the files are to lie: --to storage or --to sd%s",
			spell.DidYouMean(t.To, plan.Storages))
	}
	var err error
	if t.files, err = e.identifyAll(ctx, t.Files); err != nil {
		return err
	}
	names := map[string]string{}
	for _, f := range t.files {
		if other, ok := names[f.Name()]; ok {
			return Usage("%s and %s have one name, and would be one file there", other, f.Path)
		}
		names[f.Name()] = f.Path
	}
	if t.Install {
		t.files, _, _ = plan.Packages(t.files)
	}
	return nil
}

// Prepare makes the steps.
func (t *Put) Prepare(in *engine.Input) (*engine.Draft, error) {
	d := &engine.Draft{}
	for _, f := range t.files {
		d.Files = append(d.Files, record(f))
		d.Steps = append(d.Steps, &plan.Put{File: f, To: t.To})
	}
	if !t.Install {
		return d, nil
	}
	if in.Card.Mode() != card.Recovery {
		return nil, notIn(in, "--install", "the phone's recovery", "go", "recovery")
	}
	_, _, d.Findings = plan.Packages(t.files)
	for _, f := range t.files {
		d.Steps = append(d.Steps, &plan.InstallFrom{File: f, To: t.To})
	}
	return d, nil
}

// Result is its outcome.
func (t *Put) Result(j *engine.Job) Stored {
	return Stored{Stored: OrEmpty(j.Out.Stored), Packages: OrEmpty(j.Out.Packages)}
}

// App installs app packages on the started system.
type App struct {
	Files []string `json:"files" yaml:"files"`

	files []plan.AppFile
}

// Apps is its outcome.
type Apps struct {
	Apps []act.AppResult `json:"apps"`
}

// Name implements Work.
func (*App) Name() string { return "app" }

// Load reads the packages.
func (t *App) Load(ctx context.Context, e *Env) error {
	all, err := e.identifyAll(ctx, t.Files)
	for _, f := range all {
		file := plan.AppFile{File: f}
		if f.Kind == ident.App && f.App != nil {
			// One that was changed after it was signed is a finding of every file that is sent.
			p, err := files.ReadPackage(ctx, f.Path)
			switch {
			case errors.Is(err, appsig.ErrUnsigned):
				file.Unsigned = filepath.Base(f.Path) + ": " + cmp.Or(errors.Unwrap(err), err).Error()
			case err == nil:
				file.Signer = zipsig.Fingerprint(p.Signature.Current()[0].Cert)
			}
		}
		t.files = append(t.files, file)
	}
	return err
}

// Prepare makes the steps.
func (t *App) Prepare(*engine.Input) (*engine.Draft, error) {
	d := &engine.Draft{}
	for _, f := range t.files {
		d.Files = append(d.Files, record(f.File))
	}
	for _, s := range plan.AppsOf(t.files) {
		d.Steps = append(d.Steps, s)
	}
	return d, nil
}

// Result is its outcome.
func (t *App) Result(j *engine.Job) Apps { return Apps{OrEmpty(j.Out.Apps)} }
