// Package internal holds the test of the house's floors.
package internal

import (
	"os/exec"
	"strings"
	"testing"
)

// floors, from the top down. A package may import packages of its own floor
// and of those below.
var floors = []string{"cmd/jarlid", "internal/cli", "internal/demo", "internal/bench", "internal/standin", "internal/link", "internal/core"}

// forbidden are imports a floor may not have, whatever the way: core computes
// only, and standin never looks at who works on it.
var forbidden = map[string][]string{
	"internal/core":    {"net", "net/http", "os/exec", "github.com/spf13/cobra", "golang.org/x/term", "os/signal"},
	"internal/standin": {"jarlid/internal/bench", "jarlid/internal/cli", "github.com/spf13/cobra", "os/exec"},
	"internal/link":    {"os/exec", "github.com/spf13/cobra"},
	"internal/bench":   {"os/exec", "github.com/spf13/cobra"},
	"internal/cli":     {"os/exec"},
}

func floorOf(pkg string) (int, string) {
	for i, f := range floors {
		if pkg == "jarlid/"+f || strings.HasPrefix(pkg, "jarlid/"+f+"/") {
			return i, f
		}
	}
	return -1, ""
}

func TestFloors(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}} {{join .Imports \" \"}}", "jarlid/...").Output()
	if err != nil {
		t.Fatal(err)
	}
	seen := 0
	for line := range strings.Lines(string(out)) {
		fields := strings.Fields(line)
		at, floor := floorOf(fields[0])
		if at < 0 {
			continue // only tests live there
		}
		seen++
		for _, imp := range fields[1:] {
			if to, name := floorOf(imp); to >= 0 && to < at {
				t.Errorf("%s, on the floor %s, imports %s from the floor %s above it", fields[0], floor, imp, name)
			}
			for _, f := range forbidden[floor] {
				if imp == f {
					t.Errorf("%s may not import %s", fields[0], imp)
				}
			}
		}
	}
	if seen < 20 {
		t.Errorf("only %d packages were looked at", seen)
	}
}
