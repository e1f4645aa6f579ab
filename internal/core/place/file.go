// Package place works out what a file and a phone have to do with each other: where a
// file belongs, whether there is room, what a slot holds. It computes only.
package place

import (
	"fmt"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
)

// CutShort is the finding about a file that ends too early.
func CutShort(f *ident.File) []finding.Finding {
	if !f.Short {
		return nil
	}
	return []finding.Finding{{Name: finding.DownloadCutShort, Severity: finding.Stop, About: FileName(f.Path), Final: true,
		Text: f.Damage, Remedy: "fetch the file again and compare its size or digest"}}
}

// NotContent is the finding about a file that holds nothing a phone could take: a text, a page
// that a download site sent instead of the file, an archive that stays shut; nil for others.
func NotContent(f *ident.File, label string) []finding.Finding {
	if f.Closed != "" {
		return []finding.Finding{{Name: finding.StillWrapped, Severity: finding.Stop, About: label, Final: true, Text: label + ": " + f.Closed, Remedy: "name what is inside"}}
	}
	switch f.Kind {
	case ident.ISO, ident.Qcow2, ident.Kernel:
		return []finding.Finding{{Name: finding.WrongDestination, Severity: finding.Stop, About: label,
			Text: label + " is " + f.What() + ", which no partition of a phone takes as it is", Remedy: "name the image itself"}}
	}
	if f.Kind != ident.Text && f.Kind != ident.Sums {
		return nil
	}
	x := finding.Finding{Name: finding.WrongDestination, Severity: finding.Stop, About: label, Final: true,
		Text: label + " is " + f.What() + ", and nothing that goes onto a phone", Remedy: "name the file itself"}
	if f.Page() {
		x.Text, x.Remedy = label+" is a web page: the site sent that instead of the file", "fetch it again, by the site's own download button, and compare its size or digest"
	}
	return []finding.Finding{x}
}

// fileName is how a finding names a file: its last element.
func FileName(p string) string {
	if i := strings.LastIndexAny(p, `/\`); i >= 0 {
		return p[i+1:]
	}
	return p
}

// ByJob names the job a fact rests on, to stand behind what is said of it; "" for what was
// read, or said by a model file. Whoever is stopped by it can look it up.
func ByJob(facts ...card.Fact) string {
	for _, f := range facts {
		switch {
		case f.Evidence != card.Journal:
		case f.Job > 0:
			return fmt.Sprintf(" (so says the journal of job %d)", f.Job)
		default:
			return " (so says an earlier journal)"
		}
	}
	return ""
}

// EvidenceWords says in words where a fact is from.
func EvidenceWords(f card.Fact) string {
	switch f.Evidence {
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
