package fit

import (
	"fmt"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/local"
	"jarlid/internal/core/model"
	"jarlid/internal/core/vintf"
)

// Outcome is the outcome of one check.
type Outcome string

// The outcomes. Unknown is an answer of its own, never a pass.
const (
	Good    Outcome = "good"
	Note    Outcome = "note"
	Warn    Outcome = "warn"
	Stop    Outcome = "stop"
	Unknown Outcome = "unknown"
)

// Check is one rule's answer, with the values on both sides.
type Check struct {
	Name    string  `json:"name"`
	Outcome Outcome `json:"outcome"`
	Image   string  `json:"image"`
	Phone   string  `json:"phone"`
	Why     string  `json:"why"`
}

// The verdicts.
const (
	Fits       = "fits"
	FitsCare   = "fits-with-care"
	DoesNotFit = "does-not-fit"
	CannotTell = "cannot-tell"
)

// Verdict is the answer for one image on one phone.
type Verdict struct {
	Verdict  string   `json:"verdict"`
	Sentence string   `json:"sentence"`
	Image    *Image   `json:"-"`
	Checks   []Check  `json:"checks"`
	Todo     []string `json:"todo"` // commands, in order; what is missing when nobody can tell
}

// order is how bad an outcome is, the worst first.
var order = []Outcome{Stop, Unknown, Warn, Note, Good}

// WorstFirst gives the checks with the worst first, those of one outcome as they are.
func (v *Verdict) WorstFirst() []Check {
	return slices.SortedStableFunc(slices.Values(v.Checks), func(a, b Check) int {
		return slices.Index(order, a.Outcome) - slices.Index(order, b.Outcome)
	})
}

// Question is what is weighed: an image against a phone.
type Question struct {
	Image  *Image
	Card   *card.Card
	Model  *model.Model
	Path   string        // how the image is named in commands
	Vendor string        // and what was given of the phone's own images; "" for nothing
	Extras []*ident.File // add-ons that go on top

	device *vintf.Manifest // the phone's, once it was read
	damage error           // or why it can't be
}

// rule is one check. Deciding ones keep a system from starting when they fail; where such
// a one can't be told, neither can the verdict.
type rule struct {
	name     string
	deciding bool
	weigh    func(q *Question) Check
}

// rules is the whole table, in the order of the page.
var rules = []rule{
	{"treble", true, treble},
	{"cpu", true, cpu},
	{"binder", true, binder},
	{"start-style", true, startStyle},
	{"vendor-hals", true, vendorHALs},
	{"framework-hals", false, frameworkHALs},
	{"kernel", false, kernelRule},
	{"vndk", true, vndk},
	{"policy", true, policy},
	{"api-level", true, apiLevel},
	{"patch-level", false, patchLevel},
	{"room", true, room},
	{"verified-boot", false, verifiedBoot},
	{"data", false, data},
	{"base", false, baseRule},
	{"overlays", false, overlaysRule},
	{"extras", false, extras},
}

// Names are the names of the checks, in their order.
func Names() []string {
	var list []string
	for _, r := range rules {
		list = append(list, r.name)
	}
	return list
}

// Judge checks an image against a phone.
func Judge(q Question) *Verdict {
	q.Card = q.Card.Clone()
	derive(q.Card)
	v := &Verdict{Image: q.Image}
	worst := map[Outcome][]string{}
	var undecided []string
	for _, r := range rules {
		k := r.weigh(&q)
		k.Name = r.name
		v.Checks = append(v.Checks, k)
		worst[k.Outcome] = append(worst[k.Outcome], r.name)
		if k.Outcome == Unknown && r.deciding {
			undecided = append(undecided, r.name)
		}
	}
	list := func(names []string) string { return strings.Join(names, ", ") }
	switch {
	case len(worst[Stop]) > 0:
		v.Verdict = DoesNotFit
		v.Sentence = fmt.Sprintf("%s will not run on this phone: %s", q.Image.Label, v.hardest().Why)
		if more := worst[Stop][1:]; len(more) > 0 {
			v.Sentence += "; nor do these fit: " + list(more)
		}
	case len(undecided) > 0:
		v.Verdict = CannotTell
		v.Sentence = fmt.Sprintf("nobody can tell yet whether %s will run on this phone: %s not known",
			q.Image.Label, list(undecided)+map[bool]string{true: " is", false: " are"}[len(undecided) == 1])
		v.Todo = missing(&q)
		return v
	case len(worst[Warn])+len(worst[Unknown]) > 0:
		v.Verdict = FitsCare
		v.Sentence = fmt.Sprintf("%s should run on this phone, with care for %s", q.Image.Label,
			list(append(slices.Clone(worst[Warn]), worst[Unknown]...)))
	default:
		v.Verdict = Fits
		v.Sentence = q.Image.Label + " should run on this phone"
	}
	if v.Verdict != DoesNotFit {
		v.Todo = todo(&q, v)
	}
	return v
}

// hardest is the first check that stops, as the rules stand.
func (v *Verdict) hardest() Check {
	for _, k := range v.Checks {
		if k.Outcome == Stop {
			return k
		}
	}
	return Check{}
}

// Hardest names the first check that stops.
func (v *Verdict) Hardest() string { return v.hardest().Name }

// Outcome gives the outcome of a check.
func (v *Verdict) Outcome(name string) Outcome {
	for _, k := range v.Checks {
		if k.Name == name {
			return k.Outcome
		}
	}
	return ""
}

// Better orders verdicts, the best first: by the answer, then by how much has to be cared
// for.
func Better(a, b *Verdict) int {
	rank := []string{Fits, FitsCare, CannotTell, DoesNotFit}
	if n := slices.Index(rank, a.Verdict) - slices.Index(rank, b.Verdict); n != 0 {
		return n
	}
	count := func(v *Verdict) (n int) {
		for _, k := range v.Checks {
			n += map[Outcome]int{Stop: 100, Warn: 1, Unknown: 1}[k.Outcome]
		}
		return n
	}
	return count(a) - count(b)
}

// todo gives the commands that bring the image onto the phone, in their order.
func todo(q *Question, v *Verdict) []string {
	var list []string
	if o := v.Outcome("verified-boot"); o == Warn || o == Unknown {
		if q.Card.Mode() != card.Recovery { // whose root shell reads the vbmeta that is changed
			list = append(list, "jarlid go recovery")
		}
		list = append(list, "jarlid vbmeta loosen hashtree")
	}
	needs := func(name string) bool { o := v.Outcome(name); return o == Warn || o == Unknown }
	if needs("data") { // before the system that made it is gone
		list = append(list, "jarlid wipe userdata")
	}
	list = append(list, "jarlid flash "+local.Quote(q.Path)+" --into system")
	if needs("overlays") || len(q.Extras) > 0 {
		list = append(list, "jarlid go recovery")
	}
	if names := q.Card.Value(card.FactOverlays); needs("overlays") && names != "" {
		for _, n := range strings.Split(names, ",") {
			list = append(list, "jarlid shelve /vendor/overlay/"+n)
		}
	}
	for _, f := range q.Extras {
		list = append(list, "jarlid sideload "+local.Quote(f.Path))
	}
	return append(list, "jarlid go system", "jarlid arrive")
}

// missing says how to get what is not known. What was given of the phone's own images is given again.
func missing(q *Question) []string {
	again := "jarlid fit " + local.Quote(q.Path)
	switch given := again + " --vendor " + local.Quote(q.Vendor); {
	case q.Vendor != "" && q.Card.Mode() == card.Recovery:
		return nil
	case q.Vendor != "":
		return []string{"jarlid go recovery", given}
	}
	if q.Card.Mode() == card.Recovery {
		return []string{again + " --vendor VENDOR-IMAGE"}
	}
	return []string{"jarlid go recovery", again, again + " --vendor FIRMWARE-SET"}
}
