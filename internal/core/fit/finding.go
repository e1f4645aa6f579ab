package fit

import (
	"strings"

	"jarlid/internal/core/finding"
	"jarlid/internal/core/local"
	"jarlid/internal/core/place"
)

// Findings gives what a verdict means for writing the image: what keeps it from starting
// stops, what decides and is not known asks. Room is checked where it is made.
func (v *Verdict) Findings(path string) []finding.Finding {
	f := finding.Finding{Name: finding.WontRun, Severity: finding.Stop, About: place.FileName(path),
		Remedy: "jarlid fit " + local.Quote(path)}
	var why []string
	for _, k := range v.Checks {
		if k.Outcome == Stop && k.Name != "room" {
			why = append(why, k.Name+": "+k.Why)
		}
	}
	switch {
	case len(why) > 0:
		f.Text = "it will not run on this phone; " + strings.Join(why, "; ")
	case v.Verdict == CannotTell:
		f.Name, f.Severity, f.Text = finding.FitUnknown, finding.Warn, v.Sentence
	default:
		return nil
	}
	return []finding.Finding{f}
}

// Care gives what wants care beyond what the write itself is checked by, a line each, and what is
// not known in one.
func (v *Verdict) Care() (list []string) {
	if v.Verdict == DoesNotFit {
		return nil
	}
	var unknown []string
	for _, k := range v.Checks {
		switch {
		case k.Name == "data" || k.Name == "verified-boot" || k.Name == "room":
		case k.Outcome == Warn:
			list = append(list, k.Name+": "+k.Why)
		case k.Outcome == Unknown:
			unknown = append(unknown, k.Name)
		}
	}
	if len(unknown) > 0 {
		list = append(list, "not known: "+strings.Join(unknown, ", "))
	}
	return list
}
