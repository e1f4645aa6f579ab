package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/core/finding"
	"jarlid/internal/core/fit"
	"jarlid/internal/core/screen"
	"jarlid/internal/core/spell"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

// explained is the result of explain: a finding at length, or what words on a screen mean.
type explained struct {
	Finding  *finding.Text   `json:"finding,omitempty"`
	Meanings *[]screen.Match `json:"meanings,omitempty"`
}

func (a *app) explainCommand() *cobra.Command {
	return &cobra.Command{Use: "explain NAME|\"TEXT\"",
		Short: "Explain a finding, or what a text on the phone's screen means and whether it matters",
		Args:  words(0, -1, "which finding, or the words seen on the screen"),
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return append(finding.Names(), fit.Names()...), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				a.listExplained()
				return nil
			}
			if m, ok := screen.ByName(args[0]); ok && len(args) == 1 {
				return a.sayMeanings([]screen.Match{{Meaning: m, Score: 1}})
			}
			t, ok := finding.Explain(args[0])
			weighed := false
			if !ok {
				t, weighed = fit.Explain(args[0])
			}
			if !ok && !weighed || len(args) > 1 {
				return a.explainText(strings.Join(args, " "))
			}
			a.result = explained{Finding: &t}
			if a.json {
				return nil
			}
			switch {
			case weighed:
				a.say("", say.Info, "%s is one of the things jarlid fit weighs", t.Name)
			case t.Final:
				a.say("", say.Stop, "%s cannot be accepted", t.Name)
			default:
				a.say("", say.Warn, "%s stops a job or asks: --accept %s allows it where it stops, --yes "+
					"answers where it asks", t.Name, t.Name)
			}
			a.say("", say.Info, "%s", t.Meaning)
			a.say("", say.Info, "%s", t.Why)
			a.say("", say.Todo, "%s", t.Remedy)
			return nil
		}}
}

// verdictWords are what a text on a screen asks for, by the word of its line.
var verdictWords = map[screen.Verdict]struct {
	word say.Word
	text string
}{
	screen.Harmless: {say.Good, "harmless"},
	screen.Wait:     {say.Note, "wait for it"},
	screen.Act:      {say.Warn, "something is to be done"},
}

// explainText says what words on a phone's screen mean.
func (a *app) explainText(text string) error {
	list := append([]screen.Match{}, screen.Find(text)...)
	a.result = explained{Meanings: &list}
	if len(list) == 0 {
		if near := nearNames(text); len(near) > 0 {
			a.say("", say.Note, "did you mean the finding %s?", strings.Join(near, ", or "))
			for _, n := range near {
				a.next = append(a.next, "jarlid explain "+n)
			}
		}
		for _, m := range screen.Nearest(text) {
			a.say("", say.Note, "nearest: %s: %s", m.Name, m.Text)
		}
		return task.Usage("nothing is known about %q: there is no finding called so, and the words "+
			"lead to no "+
			"text on a screen; type more of the words you see", text)
	}
	return a.sayMeanings(list)
}

// sayMeanings tells what words may mean, the likeliest first.
func (a *app) sayMeanings(list []screen.Match) error {
	a.result = explained{Meanings: &list}
	for i, m := range list {
		if a.json {
			break
		}
		if i > 0 {
			a.say("", say.Note, "or, if that is not it:")
		}
		v := verdictWords[m.Verdict]
		a.say("", v.word, "%s: %s", m.Name, v.text)
		a.say("", say.Info, "%s", m.Text)
		a.say("", map[bool]say.Word{true: say.Info, false: say.Todo}[m.Verdict == screen.Harmless],
			"%s", m.Do)
		if m.Finding != "" {
			a.say("", say.Note, "it belongs to the finding %s", m.Finding)
		}
	}
	if a.json {
		return nil
	}
	if list[0].Command != "" {
		a.next = append(a.next, list[0].Command)
	} else if list[0].Finding != "" {
		a.next = append(a.next, "jarlid explain "+list[0].Finding)
	}
	return nil
}

// known is everything that can be looked up.
type known struct {
	Findings []string       `json:"findings"`
	Weighed  []string       `json:"weighed"`
	Screens  []screen.Group `json:"screens"`
}

// listExplained lists everything that can be looked up, in groups.
func (a *app) listExplained() {
	k := known{finding.Names(), fit.Names(), screen.Groups()}
	a.result = k
	a.say("", say.Info, "texts on a screen, by what you were doing; type the words you see: jarlid explain "+
		"\"WORDS\"")
	var rows [][]string
	for _, g := range k.Screens {
		rows = append(rows, []string{g.Title, strings.Join(g.Names, ", ")})
	}
	a.out.Table([]string{"WHEN", "NAMES"}, rows)
	a.say("", say.Info, "findings: %s", strings.Join(k.Findings, ", "))
	a.say("", say.Info, "what jarlid fit weighs: %s", strings.Join(k.Weighed, ", "))
}

// nearNames are names of findings that a word was meant to be.
func nearNames(word string) []string {
	return spell.Near(word, append(finding.Names(), fit.Names()...))
}
