package shell

import (
	"fmt"
	"os"
	"strings"
	"testing"
)

// tableIn is the document with the table of commands.
const tableIn = "../../../docs/testing.md"

// TestDocument: docs/testing.md has the table of commands as it is. With UPDATE=1 it is written.
func TestDocument(t *testing.T) {
	const from, to = "<!-- commands: written by internal/phone/shell, TestDocument -->\n",
		"<!-- end of commands -->\n"
	b, err := os.ReadFile(tableIn)
	if err != nil {
		t.Fatalf("os.ReadFile(%v): %v", tableIn, err)
	}
	head, rest, ok := strings.Cut(string(b), from)
	have, tail, ended := strings.Cut(rest, to)
	if !ok || !ended {
		t.Fatalf("%s has no place for the table of commands", tableIn)
	}
	want := "\n| command | purpose | programs | without an answer |\n|---|---|---|---|\n"
	for _, c := range Commands() {
		var called []string
		for _, p := range append([]string{"getprop", "bootctl", "dumpsys", "locksettings", "pm", "blockdev",
			"printf"},
			programs...) {
			for _, w := range strings.FieldsFunc(c.Line, func(r rune) bool {
				return strings.ContainsRune(" \n(;{&|\"", r)
			}) {
				if w == p {
					called = append(called, p)
					break
				}
			}
		}
		want += fmt.Sprintf("| %s | %s | %s | %s |\n", c.Name, c.Purpose, strings.Join(called, ", "),
			c.Without)
	}
	want += "\n"
	if have == want {
		return
	}
	if os.Getenv("UPDATE") == "" {
		t.Fatalf("%s has another table of commands: UPDATE=1 go test ./internal/phone/shell writes it",
			tableIn)
	}
	if err := os.WriteFile(tableIn, []byte(head+from+want+to+tail), 0o644); err != nil {
		t.Fatalf("os.WriteFile(%v): %v", tableIn, err)
	}
}
