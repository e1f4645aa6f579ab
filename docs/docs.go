// Package docs is what is written for a person, as the program itself shows it.
package docs

import (
	_ "embed" // the guide
	"strings"
)

//go:embed guide.md
var guide string

// Section gives the text below a heading of the guide, in Markdown; "" where there is none of that
// name.
func Section(heading string) string {
	_, rest, found := strings.Cut(guide, "\n## "+heading+"\n")
	if !found {
		return ""
	}
	body, _, _ := strings.Cut(rest, "\n## ")
	return strings.Trim(body, "\n")
}
