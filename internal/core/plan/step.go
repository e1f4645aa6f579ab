package plan

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
	"jarlid/internal/core/spell"
)

// Step is one thing done to a phone.
type Step interface {
	// Title says in a few words what is done.
	Title() string
	// Modes are the modes it can be done in, the preferred one first; none:
	// in any.
	Modes() []card.Mode
	// Needs are the facts it is checked by that have to be read where they can be.
	Needs(c *card.Card, m *model.Model) []card.ID
	// Check gives the findings from the facts. It is called for all steps
	// before the first one acts, and again just before this one does.
	Check(c *card.Card, m *model.Model, all model.Set) []finding.Finding
	// Effects changes the facts as the step will change the phone, beyond what
	// follows from Writes.
	Effects(c *card.Card)
	// Writes are the partitions whose contents the step changes as a whole:
	// everything learnt from them is unknown then, unless Effects knows better.
	Writes(c *card.Card) []card.Partition
	// Touches are further facts nobody can know while the step is under way.
	Touches(c *card.Card) []card.ID
	// Cost says what is lost and what is kept.
	Cost() (lost, kept []string)
	// Installs is the package that it has a recovery install; nil for none.
	Installs() *ident.File
	// Sends are the files whose bytes go to the phone. Each is verified before anything acts.
	Sends() []Sent
	// Changes reports whether it changes what is on the phone, so that it is asked for.
	Changes() bool
	// ByHand is the name of the recipe for somebody at the phone, where the step is known beforehand to need
	// one; "" where it needs nobody, or where only trying shows it.
	ByHand(c *card.Card) string
	// Estimate gives how many bytes it sends, and about how long it takes by itself.
	Estimate(c *card.Card) (bytes int64, takes time.Duration)
	// Decides is what it decides that another task of a sheet may decide otherwise.
	Decides() Decision
}

// What a step keeps, as it is shown.
const (
	keptSystem     = "the system"
	keptRecovery   = "the recovery"
	keptBootloader = "the bootloader"
	keptApps       = "apps, accounts and settings"
	keptStorage    = "shared storage: pictures, downloads, files"
	keptMemoryCard = "a memory card"
)

// What a step loses, where another one may keep it.
const (
	lostApps    = "all apps, accounts and settings"
	lostStorage = "everything in shared storage: pictures, downloads, files, a package lying there"
)

// Aimed is a step that does something to one of several destinations.
type Aimed interface {
	Step
	// Aim is what it does, and to where: "write boot.img", "boot_a".
	Aim() (does, to string)
}

// aimed is the title of such a step.
func aimed(s Aimed) string {
	does, to := s.Aim()
	return does + " to " + to
}

// Summary says in a few words what steps do. Neighbours that do the same to several destinations are one, and
// what is more than most is counted.
func Summary(steps []Step, most int) string {
	var does []string
	var to [][]string
	for _, s := range steps {
		what, at := s.Title(), []string(nil)
		if a, ok := s.(Aimed); ok {
			does, to := a.Aim()
			what, at = does, []string{to}
		}
		if n := len(does) - 1; at != nil && n >= 0 && does[n] == what && to[n] != nil {
			to[n] = append(to[n], at...)
			continue
		}
		does, to = append(does, what), append(to, at)
	}
	for i := range does {
		if to[i] != nil {
			does[i] += " to " + spell.And(to[i])
		}
	}
	if n := len(does) - most; n > 1 {
		does = append(does[:most:most], fmt.Sprintf("%d more", n))
	}
	return spell.And(does)
}

// Decision is what a step decides. Two tasks of a sheet that decide one thing differently, without a boot
// between them, contradict each other.
type Decision struct {
	What string // in words behind "task 3", as "writes boot_a"; "" for nothing
	How  string // equal for equal decisions; "" never is
	Ends bool   // the phone boots: what was decided before can't be undone any more
}

// Sent is a file that a step sends.
type Sent struct {
	File  *ident.File
	Label string // what a person calls it
	// Made says that Jar Lid made it from verified files, or read it from this phone: a footer or signature
	// that belongs to other contents is no news then.
	Made bool
}

// sent is a file that is called by its own name.
func sent(f *ident.File) []Sent { return []Sent{{File: f, Label: place.FileName(f.Path)}} }

// base is the parts of a step that most steps leave empty.
type base struct{}

func (base) Modes() []card.Mode { return nil }

func (base) Check(*card.Card, *model.Model, model.Set) []finding.Finding {
	return nil
}

func (base) Effects(*card.Card) {}

func (base) Writes(*card.Card) []card.Partition { return nil }

func (base) Touches(*card.Card) []card.ID { return nil }

func (base) Cost() (lost, kept []string) { return nil, nil }

// Installs implements Step: no package.
func (base) Installs() *ident.File { return nil }

func (base) Sends() []Sent { return nil }

func (base) Changes() bool { return true }

func (base) ByHand(*card.Card) string { return "" }

func (base) Decides() Decision { return Decision{} }

// modelFinding holds a file against the phone's model.
func modelFinding(f *ident.File, c *card.Card, m *model.Model, all model.Set) []finding.Finding {
	want := f.Models()
	have := c.Value(card.FactModel)
	if have == "" {
		have = c.Value(card.FactProduct)
	}
	if len(want) == 0 && anyPhone(f) {
		return nil
	}
	if len(want) == 0 || have == "" {
		text := place.FileName(f.Path) + " does not say for which phone it is"
		if have == "" {
			text = "the phone does not say which model it is, " + place.FileName(f.Path) + " is for " +
				strings.Join(want, " or ")
		}
		if len(want) == 0 && have == "" {
			text = "neither the file nor the phone says which model it is"
		}
		return []finding.Finding{finding.Warns(finding.WrongModel, place.FileName(f.Path), text,
			"make sure yourself that the file is for this very phone")}
	}
	if m != nil {
		for _, w := range want {
			if slices.ContainsFunc(m.Twins, func(t string) bool { return strings.EqualFold(t, w) }) {
				return []finding.Finding{finding.Stops(finding.WrongVariant, place.FileName(f.Path),
					fmt.Sprintf("the file is for %s, a twin of this phone (%s) that is built "+
						"differently inside", w, have), "fetch the file made for "+have)}
			}
		}
	}
	doubt := false
	for _, w := range want {
		same, known := all.Same(w, have)
		if same {
			return nil
		}
		doubt = doubt || !known
	}
	text := fmt.Sprintf("the file is for %s, this phone is %s", strings.Join(want, " or "), have)
	sev := finding.Stop
	if doubt {
		// Neither name is in a model file: it may be another spelling.
		sev, text = finding.Warn, text+", and no model file says whether that is the same"
	}
	return []finding.Finding{{Name: finding.WrongModel, Severity: sev, About: place.FileName(f.Path),
		Text:   text,
		Remedy: "fetch the file made for " + have}}
}

// anyPhone tells of images that never say for which phone they are, so that
// their silence means nothing.
func anyPhone(f *ident.File) bool {
	switch f.Kind {
	case ident.VBMeta, ident.DTBO, ident.DTB, ident.Super, ident.F2FS, ident.VendorKernelBoot:
		return true
	}
	// A kernel alone, as on phones with init_boot, is generic too.
	if f.Kind == ident.Boot && f.Boot != nil && f.Boot.Section("ramdisk").Size == 0 {
		return true
	}
	return f.Generic()
}
