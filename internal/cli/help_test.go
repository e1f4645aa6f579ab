package cli

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// helpText is a command's help in so many columns.
func helpText(c *cobra.Command, width int) string {
	p := &helpPage{width: width}
	commandHelp(p, c)
	return p.out.String()
}

// helpOf gives what --help prints.
func helpOf(t *testing.T, args ...string) string {
	t.Helper()
	var out bytes.Buffer
	attended := false
	if code := Run(append(args, "--help"), Config{Stdin: strings.NewReader(""), Stdout: &out, Stderr: &out,
		Attended: &attended, Env: func(string) string {
			return ""
		}}); code != 0 {
		t.Errorf("%v --help ends with %d: %s", args, code, &out)
	}
	return out.String()
}

// TestShortTime: a default time is written without its zeros, and nothing else is left out.
func TestShortTime(t *testing.T) {
	for in, want := range map[string]string{"20m0s": "20m", "1h0m0s": "1h", "90s": "90s", "1m30s": "1m30s",
		"10s": "10s", "64GiB": "64GiB", "10m": "10m"} {
		if got := shortTime(in); got != want {
			t.Errorf("shortTime(%q) = %q, want %q", in, got, want)
		}
	}
	if out := helpOf(t, "arrive"); !strings.Contains(out, "(default: 20m)") {
		t.Errorf("arrive --help does not say that it watches for 20 minutes:\n%s", out)
	}
}

// TestHelp: every command's help fits 80 columns, has an example, begins with what it does, and
// each example is a command that can be typed; every command is in a group.
func TestHelp(t *testing.T) {
	a := &app{}
	root := a.root()
	grouped := map[string]int{}
	for _, g := range groups {
		for _, n := range g.names {
			grouped[n]++
		}
	}
	used := map[string]bool{}
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		path := strings.TrimSpace(strings.TrimPrefix(c.CommandPath(), "jarlid"))
		for _, width := range []int{60, 80, 100} {
			for line := range strings.Lines(helpText(c, width)) {
				if n := len([]rune(strings.TrimSuffix(line, "\n"))); n > width && !strings.Contains(line,
					"  jarlid ") && width >= 80 {
					t.Errorf("%s at %d columns has a line of %d: %q", c.CommandPath(), width, n, line)
				}
			}
		}
		used[path] = true
		if len(examples[path]) == 0 {
			t.Errorf("%s has no example", c.CommandPath())
		}
		for _, e := range examples[path] {
			if len(e) > 78 {
				t.Errorf("the example %q is too long", e)
			}
			var words []string
			for i, part := range strings.Split(e, `"`) { // every second one is quoted
				if i%2 == 1 {
					words = append(words, part)
				} else {
					words = append(words, strings.Fields(part)...)
				}
			}
			found, _, err := (&app{}).root().Find(words[1:])
			if err == nil {
				err = Parses(words[1:])
			}
			if err != nil || found.CommandPath() != c.CommandPath() && !strings.HasPrefix(found.CommandPath(),
				c.CommandPath()+" ") && path != "" {
				t.Errorf("%q can't be typed: %v (%s)", e, err, found.CommandPath())
			}
		}
		c.Flags().VisitAll(func(f *pflag.Flag) {
			if what := placeholder(f); what != "" && strings.EqualFold(what, f.Value.Type()) {
				t.Errorf("%s --%s is said to take a %s", c.CommandPath(), f.Name, what)
			}
		})
		if c.HasParent() && !c.Parent().HasParent() && grouped[c.Name()] != 1 {
			t.Errorf("%s stands in %d groups", c.Name(), grouped[c.Name()])
		}
		for _, s := range c.Commands() {
			walk(s)
		}
	}
	walk(root)
	for path := range examples {
		if !used[path] {
			t.Errorf("there is an example of %q, which is no command", path)
		}
	}
	out := helpOf(t)
	var at []int
	for _, g := range groups {
		at = append(at, strings.Index(out, "\n"+g.title+":\n"))
	}
	if !slices.IsSorted(at) || at[0] < 0 {
		t.Errorf("the groups: %v\n%s", at, out)
	}
	var r struct {
		OK   bool
		Help string
	}
	if err := json.Unmarshal([]byte(helpOf(t, "flash", "--json")), &r); err != nil || !r.OK ||
		!strings.Contains(r.Help, "jarlid flash boot.img") {
		t.Errorf("json.Unmarshal(..., &r): %v %+v", err, r)
	}
}
