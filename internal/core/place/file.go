// Package place works out what a file and a phone have to do with each other: where a
// file belongs, whether there is room, what a slot holds. It computes only.
package place

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/wrap"
	"jarlid/internal/core/lift"
	"jarlid/internal/core/local"
	"jarlid/internal/core/spell"
	"jarlid/internal/core/verify"
)

// Verified gives the findings about a file that was verified, at most one. label is what a person calls it.
func Verified(label string, f *ident.File, r *verify.Result) []finding.Finding {
	switch {
	case r.Has(verify.Damaged):
		return []finding.Finding{{Name: finding.DamagedFile, Severity: finding.Stop, About: label,
			Final:  true,
			Text:   label + " is damaged: " + faultWords(r, verify.Damaged),
			Remedy: "get the file again, and compare its size or digest with what its source states"}}
	case r.Has(verify.Altered):
		x := finding.Finding{Name: finding.AlteredFile, Severity: finding.Stop, About: label, Named: true,
			Text: label + " is whole, and was changed after it was signed: " + faultWords(r, verify.Altered)}
		accept := "if the change is meant: --accept " + local.Quote(finding.AlteredFile+"="+label)
		switch {
		case f.IsPackage():
			x.Remedy = accept + "; the recovery then asks about the signature, or refuses"
		case f.Kind == ident.App:
			x.Remedy = "get the app as its maker signed it; the system refuses this one"
		default:
			x.Remedy = accept + "; vbmeta must not enforce it (jarlid vbmeta loosen)"
		}
		return []finding.Finding{x}
	}
	return nil
}

// Note puts what verifying a file found into what is known of it: damage, or that it was altered.
func Note(f *ident.File, r *verify.Result) {
	switch {
	case r.Has(verify.Damaged):
		f.Damage = faultWords(r, verify.Damaged)
	case r.Has(verify.Altered):
		f.Altered = faultWords(r, verify.Altered)
	}
}

// Damaged is the finding of a file that err shows to be damaged; nil for errors of another kind, such as
// those of the computer.
func Damaged(label string, err error) *finding.StopError {
	var shown *image.Error
	var digest *lift.DigestError
	var spoiled *lift.SpoiledError
	var trailing *wrap.TrailingError
	if err == nil || image.AboutNoDamage(err) ||
		!errors.As(err, &shown) && !errors.As(err, &digest) && !errors.As(err, &spoiled) &&
			!errors.As(err, &trailing) {
		return nil
	}
	r := &verify.Result{Faults: []verify.Fault{{Kind: verify.Damaged, Text: spell.Error(err)}}}
	return &finding.StopError{Findings: Verified(label, nil, r)}
}

// faultWords joins what disagrees.
func faultWords(r *verify.Result, k verify.Kind) string {
	var list []string
	for _, f := range r.Faults {
		if f.Kind == k && !slices.Contains(list, f.Text) {
			list = append(list, f.Text)
		}
	}
	return strings.Join(list, "; ")
}

// NotContent is the finding about a file that holds nothing a phone could take: a text, a page
// that a download site sent instead of the file, an archive that stays shut; nil for others.
func NotContent(f *ident.File, label string) []finding.Finding {
	if f.Closed != "" {
		return []finding.Finding{{Name: finding.StillWrapped, Severity: finding.Stop, About: label,
			Final: true, Text: label + ": " + f.Closed, Remedy: "name what is inside"}}
	}
	switch f.Kind {
	case ident.ISO, ident.Qcow2, ident.Kernel:
		return []finding.Finding{finding.Stops(finding.WrongDestination, label, label+" is "+f.What()+
			", which no partition of a phone takes as it is", "name the image itself")}
	}
	if f.Kind != ident.Text && f.Kind != ident.Sums {
		return nil
	}
	// Firmware may be a text: a person who names the partition may write it.
	x := finding.Finding{Name: finding.WrongDestination, Severity: finding.Stop, About: label, Named: true,
		Text:   label + " is " + f.What() + ", and nothing that goes onto a phone",
		Remedy: "name the file itself"}
	if f.Page() {
		x.Final = true
		x.Text, x.Remedy = label+" is a web page: the site sent that instead of the file",
			"fetch it again, by the site's own download button, and compare its size or digest"
	}
	return []finding.Finding{x}
}

// Installed is the finding of a package that no partition takes: who installs it. nil for other files.
func Installed(f *ident.File, label string) []finding.Finding {
	var who, command string
	switch f.Kind {
	case ident.Addon:
		who, command = "a recovery", "jarlid sideload "
	case ident.App:
		who, command = "the started system", "jarlid app "
	default:
		return nil
	}
	return []finding.Finding{{Name: finding.WrongDestination, Severity: finding.Stop, About: label,
		Final:  true,
		Text:   label + " is " + f.What() + ": " + who + " installs it, and no partition holds it",
		Remedy: "install it: " + command + local.Quote(f.Path)}}
}

// fileName is how a finding names a file: its last element.
func FileName(p string) string {
	if i := strings.LastIndexAny(p, `/\`); i >= 0 {
		return p[i+1:]
	}
	return p
}

// AreaWords names an area of the phone for a person.
func AreaWords(area string) string {
	switch area {
	case "sd":
		return "the SD card"
	case "storage":
		return "the shared storage"
	case "data":
		return "the data"
	}
	return area // a partition
}

// NotMounted is the finding of an area whose file system is not mounted.
func NotMounted(area string) finding.Finding {
	f := finding.Stops(finding.NotMounted, area, AreaWords(area)+" is not mounted",
		"mount it in the recovery's menu, or use another recovery, then run the command again")
	switch area {
	case "sd":
		f.Remedy = "put an SD card in, or: --to storage"
	case "storage", "data":
	default:
		f.Remedy = "use a recovery that shows it: jarlid recovery install FILE"
	}
	f.Final = true
	return f
}

// ByJob names the job a fact rests on, to stand behind what is said of it; "" for what was
// read, or said by a model file. Whoever is stopped by it can look it up.
func ByJob(facts ...card.Fact) string {
	for _, f := range facts {
		switch {
		case f.Source != card.Journal:
		case f.Job > 0:
			return fmt.Sprintf(" (so says the journal of job %d)", f.Job)
		default:
			return " (so says an earlier journal)"
		}
	}
	return ""
}

// SourceWords says in words where a fact is from.
func SourceWords(f card.Fact) string {
	switch f.Source {
	case card.Model:
		return "the model file says so"
	case card.Journal:
		if f.Job > 0 {
			return fmt.Sprintf("it said so in job %d", f.Job)
		}
		return "it said so before"
	case card.Saved:
		return "the saved card says so"
	}
	return "it says so"
}
