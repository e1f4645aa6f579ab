package e2e

import (
	"strings"
	"testing"
)

// TestCompletion: what a shell is offered is what there is now, for words and for options.
func TestCompletion(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("knot")
		for words, want := range map[string]string{
			"standin press ":           "knot",
			"standin fault knot line-": "line-silent",
			"standin press knot ":      "battery-out",
			"standin run ":             "godwit",
			"standin run knot --mode ": "loader",
			"bench name ":              "knot",
			"wipe ":                    "part:cache",
			"flash x.img --into ":      "@both",
			"slot use ":                "other",
			"backup take ":             "recovery",
			"demo --story ":            "loader",
			"help ":                    "exit-codes",
		} {
			_, out := l.run(append([]string{"__complete"}, strings.Split(words, " ")...)...)
			if !strings.Contains("\n"+out, "\n"+want) {
				t.Errorf("jarlid %soffers no %s:\n%s", words, want, out)
			}
		}
	})
}
