package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/synctest"

	"jarlid/internal/link/usb/soft"
	"jarlid/internal/standin/scenario"
	"jarlid/internal/standin/standintest"
)

// pathLength is how long the folder's name of a lab is whose lines are broken: where they break
// depends on it.
const pathLength = 90

// passing are parts of a screen that no two runs share.
var passing = []struct{ what, with string }{
	{`\d+(\.\d+)? [KMG]iB/s`, "RATE"},
	{`127\.0\.0\.1:\d+`, "ADDRESS"},
	{`\d{4}-\d\d-\d\d \d\d:\d\d`, "DATE"},
	{` +\n`, "\n"},
}

// TestScreens holds what the main commands show on a terminal, at 80 and 120 columns, to files that
// somebody has read.
func TestScreens(t *testing.T) {
	t.Parallel()
	if *cabled {
		t.Skip("what was read shows phones on the network")
	}
	if os.Getenv(wholeImages) == "" { // what a person sees is as large as in the demo
		c := exec.Command(must(os.Executable()), "-test.run=^TestScreens$",
			fmt.Sprintf("-update=%t", *update))
		c.Env = append(os.Environ(), wholeImages+"=yes")
		if out, err := c.CombinedOutput(); err != nil {
			t.Errorf("the screens, in a process with whole images: %v\n%s", err, out)
		}
		return
	}
	for _, columns := range []int{80, 120} {
		t.Run(fmt.Sprint(columns), func(t *testing.T) {
			t.Parallel()
			synctest.Test(t, func(t *testing.T) {
				dir := t.TempDir()
				if n := pathLength - len(dir) - 1; n > 0 {
					dir = filepath.Join(dir, strings.Repeat("d", n))
				}
				l := &lab{T: t, home: filepath.Join(dir, "home"), dir: dir, net: &standintest.Net{Rate: rate},
					bus: &soft.Bus{Rate: rate}}
				if err := os.MkdirAll(dir, 0o755); err != nil {
					t.Fatalf("os.MkdirAll(%v, 0o755): %v", dir, err)
				}
				l.key()
				l.screens(columns)
			})
		})
	}
}

func (l *lab) screens(columns int) {
	kit := kitOf(l.T, "dunlin", 2)
	paths := l.beside(files.Recovery, files.Package, kit.more.Set, kit.more.GSI)
	recovery, rom, set, gsi := paths[0], paths[1], paths[2], paths[3]
	sheet := filepath.Join(l.dir, "files", "evening.yaml")
	l.standin("dunlin")
	l.columns = columns
	show := func(name string, code int, args ...string) {
		l.Helper()
		out := l.want(code, nil, args...)
		for _, p := range passing {
			out = regexp.MustCompile(p.what).ReplaceAllString(out, p.with)
		}
		out = strings.ReplaceAll(out, l.dir, "LAB")
		for line := range strings.Lines(out) {
			if n := len([]rune(strings.TrimRight(line, "\n"))); n > columns &&
				!strings.Contains(line, "LAB") {
				l.Errorf("%s: %d columns: %q", name, n, line)
			}
		}
		path := filepath.Join("testdata", "screens", fmt.Sprintf("%s-%d.txt", name, columns))
		if *update {
			if err := errorsOf(os.MkdirAll(filepath.Dir(path), 0o755),
				os.WriteFile(path, []byte(out), 0o644)); err != nil {
				l.Fatalf("errorsOf(...): %v", err)
			}
			return
		}
		if want, err := os.ReadFile(path); err != nil || !bytes.Equal([]byte(out), want) {
			l.Errorf("jarlid %s shows something else than %s (-update writes it anew): %v\n%s",
				strings.Join(args, " "), path, err, out)
		}
	}
	show("status", 0)
	show("bench", 0, "bench")
	show("card", 0, "card")
	show("ident", 0, "ident", recovery, rom)
	show("proof", 0, "proof", rom)
	show("explain", 0, "explain", "stuck at 47 percent")
	show("sheet-draft", 0, "sheet", "draft", recovery, rom, "-o", sheet)
	show("sheet-check", 0, "sheet", "check", sheet)
	show("flash", 3, "flash", set)
	show("recovery-install", 0, "recovery", "install", recovery, "--yes")
	l.want(0, nil, "go", "recovery", "--yes")
	show("stopped", 3, "sideload", rom, "--yes")
	show("fit", 0, "fit", gsi)
	show("wipe", 0, "wipe", "userdata", "--yes")
	show("sideload", 0, "sideload", rom, "--yes")
	show("slot", 0, "slot")
	show("jobs", 0, "jobs")
	show("job", 0, "jobs", "show", "2")
}

func errorsOf(list ...error) error {
	for _, err := range list {
		if err != nil {
			return err
		}
	}
	return nil
}

// example is a command that a person is shown.
type example struct{ where, text string }

// examples are the commands in the help, the README and the guide.
func (l *lab) examples() (list []example) {
	var walk func(path []string)
	walk = func(path []string) {
		var r struct{ Help string }
		_, out := l.run(append(slices.Clone(path), "--help", "--json")...)
		if err := json.Unmarshal([]byte(out), &r); err != nil {
			l.Fatalf("json.Unmarshal([]byte(out), &r): %v: %v; want no error", path, err)
		}
		section := ""
		for line := range strings.Lines(r.Help) {
			line = strings.TrimRight(line, "\n")
			text, indented := strings.CutPrefix(line, "  ")
			switch {
			case !indented:
				section = line
			case section == "For example:":
				list = append(list, example{"help " + strings.Join(path, " "), text})
			case strings.HasSuffix(section, ":") &&
				!slices.Contains([]string{"Usage:", "Options:", "Everywhere:"}, section) &&
				(len(path) == 0 || section == "Commands:"):
				if name := strings.Fields(text); !strings.HasPrefix(text, " ") && len(name) > 0 {
					walk(append(slices.Clone(path), name[0]))
				}
			}
		}
	}
	walk(nil)
	for _, name := range []string{"README.md", "docs/guide.md"} {
		for line := range strings.Lines(string(must(os.ReadFile(filepath.Join("../..", name))))) {
			text, indented := strings.CutPrefix(line, "    ")
			text = strings.TrimPrefix(strings.TrimSpace(text), "./")
			text, _, _ = strings.Cut(text, "   ") // what it does stands behind it
			text, _, _ = strings.Cut(text, " #")
			if indented && strings.HasPrefix(text, "jarlid ") {
				list = append(list, example{name, strings.TrimSpace(text)})
			}
		}
	}
	return list
}

// TestExamples runs each command that help, README and guide show, up to its questions: it is one
// that can be typed, with files of the kind it names.
func TestExamples(t *testing.T) {
	t.Parallel()
	const hands = 3 // who share the typing
	for hand := range hands {
		t.Run(fmt.Sprint(hand), func(t *testing.T) { typeExamples(t, hand, hands) })
	}
}

func typeExamples(t *testing.T, hand, hands int) {
	inLab(t, func(t *testing.T, l *lab) {
		more := kitOf(t, "dunlin", 2).more
		avocet := kitOf(t, "avocet", 2)
		l.standin("dunlin")
		card := filepath.Join(l.dir, "dunlin.json")
		l.want(0, nil, "card", "--save", card)
		sheet := filepath.Join(l.dir, "files", "evening.yaml")
		l.want(0, nil, append([]string{"sheet", "draft", "-o", sheet},
			l.beside(files.Recovery, files.Package)...)...)
		l.want(0, nil, "recovery", "install", files.Recovery, "--yes")
		l.want(0, nil, "go", "recovery", "--yes")
		kept := filepath.Join(l.dir, "kept")
		l.want(0, nil, "wipe", "userdata", "--yes")
		l.want(0, nil, "backup", "take", "boot@both", "storage", "-o", kept)
		file := func(name string, b []byte) string { return l.file(name, b) }
		vbmeta := filepath.Join(l.dir, "lifted", "vbmeta.img")
		l.want(0, nil, "lift", more.Set, "vbmeta", "boot", "-o", filepath.Dir(vbmeta))
		apk := file("fieldlog.apk", must(scenario.FieldLog.Package()))
		empty := file("empty.txt", []byte("x"))
		// What stands for a name in a command, by a part of it; the first that fits.
		stands := []struct{ part, path string }{
			{"avocet-firmware", avocet.more.Set},
			{"dunlin-firmware", more.Set},
			{"avocet.json", card},
			{"desk.json", card},
			{"dunlin.json", card},
			{"firmware", avocet.more.Set},
			{"SET", more.Set},
			{"GSI", more.GSI},
			{"gsi", more.GSI},
			{"tideline", files.Recovery},
			{"recovery.img", files.Recovery},
			{"boot.img", filepath.Join(filepath.Dir(vbmeta), "boot.img")},
			{"vbmeta.img", vbmeta},
			{"SHA256SUMS", empty},
			{"release.pem", empty},
			{".apk", apk},
			{"shoreline", more.Addons[0]},
			{"countsheet", more.Addons[1]},
			{".zip", files.Package},
			{"evening.yaml", sheet},
			{"first.yaml", sheet},
			{"codes.csv", file("codes.csv", []byte("name,code\ndunlin,1\n"))},
			{"plover.yaml", file("plover.yaml", []byte("model: plover\n"))},
			{"sparsechunk", more.GSI},
			{"system.img", more.GSI},
			{"dtbo", files.Recovery},
			{"old.img", files.Recovery},
			{"*.img", files.Recovery},
			{"practice/files/*", files.Recovery},
		}
		for i, s := range stands { // all of them in one folder, as a sheet needs its files
			stands[i].path = filepath.Join(l.dir, "files", filepath.Base(s.path))
			if err := os.Link(s.path, stands[i].path); err != nil && !os.IsExist(err) {
				t.Fatalf("os.Link(s.path, stands[i].path): %v", err)
			}
		}
		out := filepath.Join(l.dir, "out")
		shown := l.examples()
		if len(shown) < 120 {
			t.Errorf("only %d examples were found", len(shown))
		}
		ran := map[string]int{}
		for _, e := range shown {
			args := typed(strings.Split(e.text, "|")[0])[1:]
			writes := false // the word behind is written, not read
			for i, w := range args {
				name := strings.TrimPrefix(w, "~/downloads/")
				switch {
				case writes:
					args[i] = filepath.Join(out, fmt.Sprint(len(ran)), filepath.Base(w))
					switch {
					case args[0] == "backup" && args[1] == "restore":
						args[i] = kept
					case args[0] == "sheet":
						args[i] = filepath.Join(l.dir, "files", filepath.Base(w))
					}
				case w == "12":
					args[i] = "2"
				case name == "brook" || name == "brook,marsh" || strings.HasPrefix(name, "usb:"):
					args[i] = "dunlin"
				case strings.ContainsAny(name, ".*/") || name == strings.ToUpper(name) && len(name) > 2 &&
					!strings.HasPrefix(name, "-"):
					for _, s := range stands {
						if strings.Contains(name, s.part) && !strings.HasPrefix(name, "/") &&
							!strings.Contains(name, ": ") {
							args[i] = s.path
							break
						}
					}
				}
				writes = args[0] != "bench" &&
					slices.Contains([]string{"-o", "--output", "--save", "--page", "--at"}, w) || w == "man"
			}
			key := strings.Join(args, " ")
			if ran[key]++; ran[key] > 1 || len(args) == 0 || slices.Contains([]string{"demo", "standin"},
				args[0]) && !slices.Contains(args, "--list") || slices.Contains(args, "--watch") {
				continue // told whole by a test of their own, or run until they are ended
			}
			if len(ran)%hands != hand {
				continue
			}
			if err := os.MkdirAll(filepath.Join(out, fmt.Sprint(len(ran)-1)), 0o755); err != nil {
				t.Fatalf("os.MkdirAll(..., 0o755): %v", err)
			}
			l.columns = 0
			code, got := l.run(append(args, "--dry-run", "--no-hands", "--yes")...)
			if code == 2 || strings.Contains(got, "no such file") {
				t.Errorf("%s: %q (run as %v) ends with %d:\n%s", e.where, e.text, args, code, got)
			}
		}
		t.Logf("%d examples, %d different: %v", len(shown), len(ran), len(slices.Collect(maps.Keys(ran))))
	})
}
