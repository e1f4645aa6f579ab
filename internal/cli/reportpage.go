package cli

import (
	"bytes"
	_ "embed"
	"fmt"
	"html/template"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/image"
	"jarlid/internal/core/place"
	"jarlid/internal/core/spell"
	"jarlid/internal/journal"
	"jarlid/internal/task"
)

//go:embed reportpage.html
var reportText string

var reportTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("report").Parse(reportText))
})

// What the page of a report shows.
type (
	reportPage struct {
		Title, About, Made string
		Good               bool
		Verdict            string
		Phones             []reportPhone
		Said               []journal.Answer
		Several            bool
	}
	reportPhone struct {
		Name, About, Verdict, Error string
		Good                        bool
		Card                        []reportFact
		Parts                       reportParts
		Tasks                       []task.TaskReport
		Jobs                        []reportJob
		Files                       []reportFile
		Findings                    []reportFinding
		Start                       []reportFact
	}
	reportFact struct{ Name, Before, After string }
	reportJob  struct {
		Number, Command, When, Outcome string
		Good                           bool
		Steps                          []reportStep
	}
	reportStep struct {
		Title, Took, Outcome, How string
		Good                      bool
		Answers                   []string
	}
	reportFile    struct{ Name, Size, SHA256 string }
	reportFinding struct{ Severity, Name, Text, Allowed string }
	reportParts   struct {
		Height, Width int
		Heads         []pageNote
		Cells         []reportCell
	}
	reportCell struct {
		Class, Holds, More, Title string // More is a second line
		X, Y, W, TX, HY, MY       float64
	}
)

// reportHTML makes a report as one page that needs nothing else.
func reportHTML(r *task.Report) ([]byte, error) {
	d := reportPage{Title: r.Name, Made: time.Now().Format("2006-01-02 15:04"), Good: true, Said: r.Said,
		Several: len(r.Phones) > 1}
	d.About = fmt.Sprintf("Job %d, begun %s", r.Number, when(r.Began))
	if r.Run {
		d.About = fmt.Sprintf("Run %d of %s, begun %s", r.Number, filepath.Base(r.Sheet), when(r.Began))
	}
	if r.Ended != nil {
		d.About += fmt.Sprintf(", %s long", r.Ended.Sub(r.Began).Round(time.Second))
	}
	if r.Program != "" {
		d.About += ", by jarlid " + r.Program
	}
	good := 0
	for i := range r.Phones {
		p := &r.Phones[i]
		if p.OK {
			good++
		}
		d.Phones = append(d.Phones, reportOf(p))
	}
	d.Good = good == len(r.Phones)
	d.Verdict = "not done"
	switch {
	case d.Good:
		d.Verdict = "done"
	case good > 0:
		d.Verdict = fmt.Sprintf("done on %d of %d", good, len(r.Phones))
	}
	var out bytes.Buffer
	err := reportTemplate().Execute(&out, d)
	return spell.Printable(out.Bytes()), err
}

func reportOf(p *task.PhoneReport) reportPhone {
	out := reportPhone{Name: p.Name, Good: p.OK, Error: p.Error, Tasks: p.Tasks, Verdict: "done"}
	if !p.OK {
		out.Verdict = "not done"
	}
	out.About = strings.Trim(
		strings.Join([]string{before("model ", p.Model), before("serial number ", p.Serial)}, ", "), ", ")
	for _, f := range cardFacts {
		was, is := shown(p.Before, f.fact), shown(p.After, f.fact)
		if was+is != "" {
			out.Card = append(out.Card, reportFact{f.name, was, is})
		}
	}
	out.Parts = partsOf(p)
	files := map[string]bool{}
	for _, j := range p.Jobs {
		out.Jobs = append(out.Jobs, jobOf(j))
		for _, f := range j.Files {
			if files[f.Path] {
				continue
			}
			files[f.Path] = true
			out.Files = append(out.Files, reportFile{filepath.Base(f.Path), image.Size(f.Size),
				sumOfFile(j, f)})
		}
		for _, f := range j.Findings {
			one := reportFinding{Severity: string(f.Severity), Name: f.Name, Text: f.Text}
			if f.Accepted {
				one.Allowed = "allowed by " + f.Name + before("=", f.About)
			} else if f.Severity == finding.Warn {
				one.Allowed = saidYes(j)
			}
			if !slices.Contains(out.Findings, one) {
				out.Findings = append(out.Findings, one)
			}
		}
		if len(j.Command) > 1 && j.Command[1] == "arrive" {
			out.Start = nil
			for _, f := range []struct {
				name string
				id   card.Which
			}{
				{"came up", card.FactCameUp.Of(p.After.Value(card.FactStarted))},
				{"version", card.FactVersion},
				{"build", card.FactBuild},
				{"security patch", card.FactPatch.Of(p.After.Value(card.FactStarted))},
				{"slot", card.FactStarted},
			} {
				if v := p.After.Value(f.id); v != "" {
					out.Start = append(out.Start, reportFact{Name: f.name, After: v})
				}
			}
		}
	}
	return out
}

// cardFacts are the facts a report shows of a phone, before and after.
var cardFacts = []struct {
	name string
	fact card.Name
}{{"unlocked", card.Name(card.FactUnlocked)}, {"starts next", card.Name(card.FactNext)},
	{"system", card.Name(card.FactVersion)},
	{"build", card.Name(card.FactBuild)},
	{"security patch", card.Name(card.FactPatch)},
	{"data", card.Name(card.FactData)},
	{"debugging", card.Name(card.FactDebugging)},
	{"recovery", card.Name(card.FactRecovery)},
	{"bootloader", card.Name(card.FactBootloader)},
	{"radio", card.Name(card.FactRadio)},
	{"backup", card.Name(card.FactBackedUp)}}

// shown gives the value of a fact on a card, of the slot that runs.
func shown(c *card.Card, name card.Name) string {
	d, _ := card.ID{Name: name}.Def()
	return c.Value(c.Shown(d))
}

// sumOfFile is the digest of what was sent of a file, where a step says it.
func sumOfFile(j *task.JobShown, f journal.File) string {
	for _, s := range j.Steps {
		if s.SHA256 != "" && (s.Bytes == f.Size || strings.Contains(s.Title, filepath.Base(f.Path))) {
			return s.SHA256
		}
	}
	return ""
}

// saidYes tells how a warning was gone past.
func saidYes(j *task.JobShown) string {
	for _, q := range j.Said {
		return q.Answer
	}
	return ""
}

func jobOf(j *task.JobShown) reportJob {
	out := reportJob{Number: fmt.Sprint(j.Number), Command: j.Short(), When: when(j.Began),
		Outcome: outcomeWords[j.Outcome], Good: j.Outcome.Good()}
	for _, s := range j.Steps {
		st := reportStep{Title: s.Title, Outcome: strings.ReplaceAll(s.Outcome, "-", " "), How: s.Confirmed,
			Good: s.Outcome == "done"}
		for _, said := range s.Answers {
			if strings.TrimSpace(said) != "" {
				st.Answers = append(st.Answers, said)
			}
		}
		if w, ok := confirmWords[s.Confirmed]; ok {
			st.How = w
		}
		if s.Error != "" {
			st.How = s.Error
		}
		if s.Began != nil && s.Ended != nil {
			st.Took = s.Ended.Sub(*s.Began).Round(time.Second).String()
		}
		if s.Bytes > 0 {
			st.Took += before(", ", image.Size(s.Bytes))
		}
		out.Steps = append(out.Steps, st)
	}
	return out
}

// partsOf draws what is known to are on the phone's partitions, before and after.
func partsOf(p *task.PhoneReport) reportParts {
	const cell, tall, gap, left = 148.0, 34.0, 6.0, 96.0
	rows, cols := gridOf(p)
	var out reportParts
	if len(rows) == 0 {
		return out
	}
	y := 40.0
	for n, c := range []*card.Card{p.Before, p.After} {
		from := left + float64(n)*(float64(len(cols))*(cell+gap)+24)
		title := []string{"before", "after"}[n]
		out.Heads = append(out.Heads, pageNote{from, 13, title})
		for k, slot := range cols {
			if slot == "" {
				continue
			}
			text := "slot " + slot
			if c.Value(card.FactNext) == slot {
				text += ", starts next"
			}
			out.Heads = append(out.Heads, pageNote{from + float64(k)*(cell+gap), 31, text})
		}
	}
	for i, base := range rows {
		top := y + float64(i)*(tall+gap)
		out.Heads = append(out.Heads, pageNote{0, top + 21, base})
		for n, c := range []*card.Card{p.Before, p.After} {
			from := left + float64(n)*(float64(len(cols))*(cell+gap)+24)
			for k, slot := range cols {
				at := card.At(base, slot)
				if slot != "" && !holdsAny(p, at) && holdsAny(p, card.At(base, "")) {
					at = card.At(base, "") // one for both slots
					if k > 0 {
						continue
					}
				}
				x, w := from+float64(k)*(cell+gap), cell
				if at.Slot == "" && len(cols) > 1 {
					w = 2*cell + gap
				}
				out.Cells = append(out.Cells, cellOf(p, c, at, x, top, w))
			}
		}
	}
	out.Width = int(left + 2*float64(len(cols))*(cell+gap) + 24)
	out.Height = int(y + float64(len(rows))*(tall+gap))
	return out
}

// gridOf gives the partitions that are drawn, in their order, and the slots.
func gridOf(p *task.PhoneReport) (rows, cols []string) {
	bases := map[string]bool{}
	slots := map[string]bool{}
	for _, c := range []*card.Card{p.Before, p.After} {
		for _, i := range c.IDs() {
			d, ok := i.Def()
			if !ok || d.Name != card.Name(card.FactHolds) && d.Name != card.Name(card.FactSet) &&
				d.Name != card.Name(card.FactDigest) {
				continue
			}
			at := card.Part(i.Key)
			bases[at.Base], slots[at.Slot] = true, true
		}
	}
	for _, b := range append(append([]string{}, partOrder...), slices.Sorted(maps.Keys(bases))...) {
		if bases[b] && !slices.Contains(rows, b) {
			rows = append(rows, b)
		}
	}
	cols = []string{""}
	if slots["a"] || slots["b"] {
		cols = []string{"a", "b"}
	}
	return rows, cols
}

// cellOf is one partition as a card knows it: marked where the later card knows it otherwise.
func cellOf(p *task.PhoneReport, c *card.Card, at card.Partition, x, top, w float64) reportCell {
	class, text := "part", heldIn(c, at)
	if text == "" {
		class, text = "free", "unknown"
	} else if c == p.After && heldIn(p.Before, at) != text {
		class = "new"
	}
	one, two := fitted(text, w)
	rc := reportCell{Class: class, Holds: one, Title: at.String() + ": " + text, X: x, Y: top,
		W: w, TX: x + 8, HY: top + 21}
	if two != "" {
		rc.HY, rc.More, rc.MY = top+14, two, top+28
	}
	return rc
}

// partOrder is how partitions are in the picture: as they take part in a start.
var partOrder = []string{"radio", "vbmeta", "boot", "init_boot", "vendor_boot", "recovery", "dtbo", "super",
	"system", "product", "vendor", "misc", "metadata", "userdata"}

func holdsAny(p *task.PhoneReport, at card.Partition) bool {
	return heldIn(p.Before, at) != "" || heldIn(p.After, at) != ""
}

// heldIn says what a partition holds, as far as it is known.
func heldIn(c *card.Card, at card.Partition) string {
	for _, f := range []card.Fact{c.Get(card.FactHolds.Of(at)), c.Get(card.FactSet.Of(at))} {
		if f.Known() && f.Value != "" {
			return place.ShortBuild(f.Value)
		}
	}
	if f := c.Get(card.FactDigest.Of(at)); f.Known() && !f.Pending && len(f.Value) >= 12 {
		return "SHA-256 " + f.Value[:12] + "..."
	}
	return ""
}

// fitted fits a text into its cell, in two lines where one is too short, and cuts what is longer still:
// letters of this size are some 7 units wide.
func fitted(s string, w float64) (one, two string) {
	most := int((w - 12) / 7.1)
	cut := func(s string) string {
		if r := []rune(s); len(r) > most {
			return string(r[:most-1]) + "…"
		}
		return s
	}
	for _, word := range strings.Fields(s) {
		switch longer := strings.TrimSpace(one + " " + word); {
		case two == "" && (one == "" || len([]rune(longer)) <= most):
			one = longer
		default:
			two = strings.TrimSpace(two + " " + word)
		}
	}
	return cut(one), cut(two)
}
