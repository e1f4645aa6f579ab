// Package task is the commands as values: one plain struct a command, which says what is
// wished; Load makes its files ready, Prepare works it out for a phone, and Result says what
// came of it. It prints nothing.
package task

import (
	"cmp"
	"context"
	"errors"
	"path/filepath"
	"slices"
	"strings"

	"jarlid/internal/act"
	"jarlid/internal/bench"
	"jarlid/internal/core/advice"
	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/local"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
	"jarlid/internal/core/verify"
	"jarlid/internal/engine"
	"jarlid/internal/files"
	"jarlid/internal/journal"
	"jarlid/internal/say"
)

// Env is what commands are run with.
type Env struct {
	Bench   *bench.Bench
	Options engine.Options
	// MaxMemory bounds what extracting a file may take, in bytes; 0: the usual limit.
	MaxMemory int64
	// Loaded says that work is loaded before it is run, as for several phones at once.
	Loaded bool

	later []func()
}

// Obs tells what goes on that is about no phone in particular.
func (e *Env) Obs() say.To {
	return say.To{Observer: e.Options.Observer, Nobody: e.Options.NoHands, Away: e.Options.Away}
}

// Later has something done at the end, the last first.
func (e *Env) Later(f func()) { e.later = append(e.later, f) }

// Close does what was left for the end.
func (e *Env) Close() {
	for _, f := range slices.Backward(e.later) { // as defer does: files before the folder they are in
		f()
	}
	e.later = nil
}

// UntilStopped ends with the first wish to stop: nothing is changed on a phone meanwhile.
func (e *Env) UntilStopped(ctx context.Context) (context.Context, func()) {
	return act.Awaiting(ctx, e.Options.Stop)
}

// Gather makes files ready to be written; they are put away at the end. single keeps an
// archive as it is.
func (e *Env) Gather(ctx context.Context, single bool, paths ...string) (*files.Material, error) {
	return e.gather(ctx, files.Gathering{Single: single}, paths...)
}

// imagesOf makes the images of a ROM package or set ready, and of whatever else holds some.
func (e *Env) imagesOf(ctx context.Context, path string) (*files.Material, error) {
	return e.gather(ctx, files.Gathering{Inside: true}, path)
}

// lookInto does so for files that are written nowhere.
func (e *Env) lookInto(ctx context.Context, path string) (*files.Material, error) {
	return e.gather(ctx, files.Gathering{Look: true}, path)
}

func (e *Env) gather(ctx context.Context, g files.Gathering, paths ...string) (*files.Material, error) {
	ctx, stop := e.UntilStopped(ctx)
	defer stop()
	g.Home, g.MaxMemory = filepath.Join(e.Bench.Home, "unwrapped"), e.MaxMemory
	g.Working, g.Verifier = e.Working, e.Verifier()
	m, err := files.Gather(ctx, paths, g)
	if err != nil {
		return nil, err
	}
	e.Later(m.Close)
	if m.Held > 0 {
		e.Obs().Say(say.Good, "%d of the set's files compared with the digests it states: they match", m.Held)
	}
	if len(m.Missing) > 0 {
		e.Obs().Say(say.Warn, "the set's digests state %s, which is not in it", strings.Join(m.Missing, ", "))
	}
	return m, err
}

// Verifier verifies files for all that this program does; what it knows is kept in the home folder.
func (e *Env) Verifier() *files.Verifier {
	if e.Options.Verifier == nil {
		e.Options.Verifier = &files.Verifier{Home: e.Bench.Home}
		e.Later(e.Options.Verifier.Save)
	}
	return e.Options.Verifier
}

// verify verifies a file that f identifies (nil: it is identified). One that is damaged is an error at once;
// one that is whole and was changed is told by the engine, and can be accepted. Errors: finding damaged-file.
func (e *Env) verify(ctx context.Context, path string, f *ident.File) error {
	res, err := e.Verifier().Verify(ctx, path, f, e.Working)
	if err != nil || !res.Has(verify.Damaged) {
		return err
	}
	return &finding.StopError{Findings: place.Verified(filepath.Base(path), f, res)}
}

// Damage is the error of a damaged or altered file whose members can be taken out without comparing what
// shows it: a tar, whose appended line or compressed members may have a checksum, and of at most maxSmall
// bytes an app or a package, whose signature covers more than its members. nil for other files.
func (e *Env) Damage(ctx context.Context, path string, f *ident.File) error {
	signed := f.Kind == ident.App || f.IsPackage()
	if (len(f.Wrapped) == 0 || f.Wrapped[0] != "tar") && !(signed && f.Size <= maxSmall) {
		return nil
	}
	res, err := e.Verifier().Verify(ctx, path, f, nil)
	if err != nil || !res.Has(verify.Damaged) && !res.Has(verify.Altered) {
		return err
	}
	return errors.New(place.Verified(filepath.Base(path), f, res)[0].Text)
}

// Working tells how far a piece of work on files is. Those of one kind, a verb as "extracted", that
// end one after the other are told as one.
func (e *Env) Working(kind, what string, total int64) (moved func(int64), end func()) {
	m := say.NewPiece(e.Obs(), say.Read, kind, what, total)
	return m.Reach, m.End
}

// Scratch makes a temporary folder that is gone at the end.
func (e *Env) Scratch() (string, error) {
	dir, done, err := files.Scratch("")
	if err == nil {
		e.Later(done)
	}
	return dir, err
}

// Open opens the phone that is meant.
func (e *Env) Open(ctx context.Context) (*engine.Job, error) {
	j, err := engine.Open(ctx, e.Bench, e.Options)
	if err == nil {
		e.Later(j.Close)
	}
	return j, err
}

// Command writes a command and its arguments so that it can be pasted; phone is what it is
// about, "" for none.
func (e *Env) Command(phone string, words ...string) string {
	list := []string{"jarlid"}
	for _, w := range words {
		list = append(list, local.Quote(w))
	}
	switch {
	case words[0] == "explain" || e.Options.SavedCard != "" || phone == "":
	case e.Options.On != "":
		list = append(list, "--on", local.Quote(e.Options.On))
	default:
		list = append(list, "--on", local.Quote(phone))
	}
	return strings.Join(list, " ")
}

// Again writes a command that was typed before as it is typed again.
func (e *Env) Again(typed []string) string {
	var list []string
	for _, w := range typed {
		if w != "--json" && w != "--yes" { // a question is answered each time
			list = append(list, local.Quote(w))
		}
	}
	return strings.Join(list, " ")
}

// Suggest gives the likely next command for a phone, and why; nothing when there is none.
func (e *Env) Suggest(name string, c *card.Card, m *model.Model) (command, why string) {
	s := advice.Suggest(c, m)
	if len(s.Words) == 0 {
		return "", ""
	}
	return e.Command(name, s.Words...), s.Why
}

// singleFile wants words on the command line to mean singleFile file.
func singleFile(command, word string) (string, error) {
	paths, err := files.Expand([]string{word})
	if err != nil {
		return "", err
	}
	if len(paths) != 1 {
		return "", Usage("%s wants one file, %s means %d", command, word, len(paths))
	}
	return paths[0], nil
}

// identify says what a file is, and tells it.
func (e *Env) identify(ctx context.Context, path string) (*ident.File, error) {
	ctx, stop := e.UntilStopped(ctx)
	defer stop()
	f, err := files.Identify(path, ident.Options{})
	if err != nil {
		return nil, err
	}
	if err := e.verify(ctx, path, f); err != nil {
		return nil, err
	}
	words := f.Words()
	if f.App != nil {
		words = f.App.Words()
	}
	e.Obs().Say(say.Info, "%s is %s, %s", filepath.Base(path), words, image.Size(f.Size))
	return f, nil
}

// identifyAll identifies the files that words on the command line mean, in their order.
func (e *Env) identifyAll(ctx context.Context, words []string) (list []*ident.File, err error) {
	paths, err := files.Expand(words)
	for _, p := range paths {
		f, err := e.identify(ctx, p)
		if err != nil {
			return nil, err
		}
		list = append(list, f)
	}
	return list, err
}

// usesOf is the image of a set that is at path, as a file that another one is made from.
func usesOf(m *files.Material, path string) (list []plan.Sent) {
	for _, im := range m.Images {
		if im.File.Path == path {
			list = append(list, plan.Sent{File: im.File, Label: cmp.Or(im.Label, filepath.Base(path))})
		}
	}
	return list
}

func record(f *ident.File) journal.File { return journal.File{Path: f.Path, Size: f.Size} }

// Known gives a fact's value for JSON, nil when unknown.
func Known(c *card.Card, w card.Which) *string {
	if v := c.Value(w); v != "" {
		return &v
	}
	return nil
}

// knownYes gives a yes-or-no fact for JSON, nil when unknown.
func knownYes(c *card.Card, w card.Which) *bool {
	if yes, ok := c.Yes(w); ok {
		return &yes
	}
	return nil
}

// OrEmpty keeps an empty list from becoming null in JSON.
func OrEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// Written is the part of a result that is about images.
type Written struct {
	Writes []act.WriteResult `json:"writes"`
}

func written(j *engine.Job) Written { return Written{OrEmpty(j.Out.Writes)} }
