package act

import (
	"context"
	"fmt"
	"reflect"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/plan"
	"jarlid/internal/journal"
)

// kind is what belongs to one kind of step.
type kind struct {
	name string
	// act does it, reporting progress, and changes what is known on the card.
	act func(context.Context, *Actor, plan.Step) (Done, error)
	// confirm reads back what this mode can read back, and says which it was; nil where the
	// act itself is how it is known.
	confirm func(context.Context, *Actor, plan.Step, Done) (string, error)
	// form is the step as it is in a journal.
	form func(plan.Step) any
	// result keeps what it came to for the result of its command; nil where its act does, or where nothing is
	// told of it.
	result func(*Outcome, plan.Step, Done)
}

// of makes a kind's functions out of those for its own type of step.
func of[S plan.Step](name string, act func(*Actor, context.Context, S) (Done, error),
	confirm func(*Actor, context.Context, S, Done) (string, error), form func(S) any,
	result func(*Outcome, S, Done)) kind {
	k := kind{name: name,
		act:  func(ctx context.Context, j *Actor, s plan.Step) (Done, error) { return act(j, ctx, s.(S)) },
		form: func(s plan.Step) any { return form(s.(S)) }}
	if confirm != nil {
		k.confirm = func(ctx context.Context, j *Actor, s plan.Step, d Done) (string, error) {
			return confirm(j, ctx, s.(S), d)
		}
	}
	if result != nil {
		k.result = func(o *Outcome, s plan.Step, d Done) { result(o, s.(S), d) }
	}
	return k
}

// file is a file in a journal.
func file(f *ident.File) journal.File {
	if f == nil {
		return journal.File{}
	}
	return journal.File{Path: f.Path, Size: f.Size}
}

func records(files []*ident.File) (list []journal.File) {
	for _, f := range files {
		list = append(list, file(f))
	}
	return list
}

// The forms of steps in a journal.
type (
	modeForm struct {
		From card.Mode `json:"from"`
		To   card.Mode `json:"to"`
	}
	onForm struct {
		Partition card.Partition `json:"partition"`
	}
	slotForm struct {
		Slot string `json:"slot"`
	}
	roomForm struct {
		Partition card.Partition `json:"partition"`
		Need      int64          `json:"need"` // bytes
	}
	fileForm struct {
		File journal.File `json:"file"`
	}
	appForm struct {
		File  journal.File   `json:"file"`
		Parts []journal.File `json:"parts,omitempty"`
	}
	writeForm struct {
		File      journal.File   `json:"file"`
		Partition card.Partition `json:"partition"`
		Recovery  bool           `json:"recovery,omitempty"`
		Logical   bool           `json:"logical,omitempty"`
		Shell     bool           `json:"shell,omitempty"`
		Keep      bool           `json:"keep,omitempty"`
	}
	graftForm struct {
		File journal.File     `json:"file"`
		Into []card.Partition `json:"into"`
	}
	putForm struct {
		File journal.File `json:"file"`
		To   string       `json:"to"`
	}
	areaForm struct {
		Area string `json:"area"`
		Slot string `json:"slot,omitempty"`
	}
	copyForm struct {
		From card.Partition `json:"from"`
		To   card.Partition `json:"to"`
	}
	moveForm struct {
		Paths []string `json:"paths"`
		Back  bool     `json:"back,omitempty"`
	}
	restoreForm struct {
		Dir   string `json:"dir"`
		Files int    `json:"files"`
	}
	relockForm struct {
		Images map[string]string `json:"images,omitempty"` // digests by partition
	}
	noForm struct{}
)

// kinds is the table: every kind of step, by its type.
var kinds = map[reflect.Type]kind{
	reflect.TypeFor[*plan.Restart](): of("restart", (*Actor).restart, nil,
		func(s *plan.Restart) any { return modeForm{s.From, s.To} }, (*Outcome).restarted),
	reflect.TypeFor[*plan.Write](): of("write", (*Actor).writeImage, (*Actor).readBack,
		writeData, (*Outcome).wrote),
	reflect.TypeFor[*plan.WriteTable](): of("write-table", (*Actor).writeTable, (*Actor).tableRead,
		func(s *plan.WriteTable) any { return fileForm{file(s.File)} }, nil),
	reflect.TypeFor[*plan.Graft](): of("graft", (*Actor).graft, nil,
		graftData, nil),
	reflect.TypeFor[*plan.FormatData](): of("format-data", (*Actor).formatData, nil,
		func(*plan.FormatData) any { return noForm{} }, (*Outcome).formatted),
	reflect.TypeFor[*plan.Sideload](): of("sideload", (*Actor).sideload, nil,
		func(s *plan.Sideload) any { return fileForm{file(s.File)} }, nil),
	reflect.TypeFor[*plan.Activate](): of("activate", (*Actor).activate, (*Actor).activated,
		func(s *plan.Activate) any { return slotForm{s.Slot} }, nil),
	reflect.TypeFor[*plan.Put](): of("put", (*Actor).put, nil,
		func(s *plan.Put) any { return putForm{file(s.File), s.To} }, nil),
	reflect.TypeFor[*plan.InstallFrom](): of("install-from", (*Actor).installFrom, nil,
		func(s *plan.InstallFrom) any { return putForm{file(s.File), s.To} }, nil),
	reflect.TypeFor[*plan.MakeRoom](): of("make-room", (*Actor).makeRoom, (*Actor).roomMade,
		func(s *plan.MakeRoom) any { return roomForm{s.Name(), s.Need} }, nil),
	reflect.TypeFor[*plan.Try](): of("try", (*Actor).try, nil,
		func(s *plan.Try) any { return fileForm{file(s.File)} }, nil),
	reflect.TypeFor[*plan.Erase](): of("erase", (*Actor).erase, nil,
		func(s *plan.Erase) any { return onForm{s.Name()} }, (*Outcome).erased),
	reflect.TypeFor[*plan.Unlock](): of("unlock", (*Actor).unlock, nil,
		func(*plan.Unlock) any { return noForm{} }, nil),
	reflect.TypeFor[*plan.Relock](): of("relock", (*Actor).relock, nil,
		func(s *plan.Relock) any { return relockForm{s.Images} }, nil),
	reflect.TypeFor[*plan.InstallApp](): of("install-app", (*Actor).installApp, (*Actor).appInstalled,
		func(s *plan.InstallApp) any { return appForm{file(s.File), records(s.Parts)} },
		(*Outcome).appInstalled),
	reflect.TypeFor[*plan.RestoreFiles](): of("restore-files", (*Actor).restoreFiles, nil,
		func(s *plan.RestoreFiles) any { return restoreForm{s.Dir, len(s.Item.Files)} }, nil),
	reflect.TypeFor[*plan.CopySlot](): of("copy-slot", (*Actor).copySlot, nil,
		func(s *plan.CopySlot) any { return copyForm{s.Source(), s.Target()} }, (*Outcome).copied),
	reflect.TypeFor[*plan.Shelve](): of("shelve", (*Actor).shelve, nil,
		shelveData, nil),
	reflect.TypeFor[*plan.WipeArea](): of("wipe-area", (*Actor).wipeArea, nil,
		func(s *plan.WipeArea) any { return areaForm{s.Area, s.Slot} }, (*Outcome).wiped),
}

func writeData(s *plan.Write) any {
	return writeForm{file(s.File), s.Name(), s.Recovery, s.Logical, s.Shell, s.Keep}
}

func graftData(s *plan.Graft) any {
	g := graftForm{File: file(s.File)}
	for _, w := range s.Into {
		g.Into = append(g.Into, w.Name())
	}
	return g
}

func shelveData(s *plan.Shelve) any {
	m := moveForm{Back: s.Back}
	for _, i := range s.Items {
		m.Paths = append(m.Paths, i.Path)
	}
	return m
}

// Data gives a step as it is in a journal.
func Data(s plan.Step) journal.StepData {
	k := kinds[reflect.TypeOf(s)]
	d := journal.StepData{Kind: k.name, Title: s.Title()}
	if k.form != nil {
		d.With = k.form(s)
	}
	return d
}

// Run carries out a step and confirms it.
func Run(ctx context.Context, j *Actor, s plan.Step) (Done, error) {
	k, ok := kinds[reflect.TypeOf(s)]
	if !ok {
		return Done{}, fmt.Errorf("no way to carry out the step %q", s.Title())
	}
	j.said = nil
	d, err := k.act(ctx, j, s)
	if err == nil && k.confirm != nil {
		d.Confirm, err = k.confirm(ctx, j, s, d)
	}
	if err == nil && k.result != nil {
		k.result(j.Out, s, d)
	}
	d.Said = j.said
	return d, err
}
