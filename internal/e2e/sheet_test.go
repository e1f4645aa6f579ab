package e2e

import (
	"fmt"
	"hash/maphash"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"jarlid/internal/standin/scenario"
	"jarlid/internal/standin/standintest"
)

// beside copies files into a folder of the lab, as a person has them beside one another.
func (l *lab) beside(paths ...string) (copies []string) {
	l.Helper()
	dir := filepath.Join(l.dir, "files")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		l.Fatalf("os.MkdirAll(%v, 0o755): %v", dir, err)
	}
	for _, p := range paths {
		to := filepath.Join(dir, filepath.Base(p))
		if err := os.WriteFile(to, must(os.ReadFile(p)), 0o644); err != nil {
			l.Fatalf("os.WriteFile(%v, must(os.ReadFile(p)), 0o644): %v", to, err)
		}
		copies = append(copies, to)
	}
	return copies
}

// storedSeed is what makes the sums of holds comparable with each other.
var storedSeed = maphash.MakeSeed()

// holds gives sums of what a stand-in keeps, but for the data, whose keys are made again each time.
func (l *lab) holds(phone string) map[string]uint64 {
	l.Helper()
	time.Sleep(time.Minute) // a merge goes on by itself
	return l.sums(filepath.Join(l.dir, phone, "partitions"), func(rel string) bool {
		return strings.HasPrefix(rel, "userdata") || strings.HasPrefix(rel, "metadata") ||
			filepath.Base(rel) == "record.yaml" // which has the time
	})
}

// evening is a job of the guide: the files it is drafted from, and as it is typed by hand.
type evening struct {
	phone string
	slots int
	goal  string
	files func(l *lab, k kit) []string
	hand  func(k kit, f []string) [][]string
	run   []string            // further words of sheet run
	ready func(l *lab, k kit) // before both
}

func evenings() map[string]evening {
	rom := func(l *lab, k kit) []string {
		shore, sheet := l.addons(k.phone)
		return append([]string{k.recovery, k.more.Package}, shore, sheet,
			l.file("fieldlog.apk", must(scenario.FieldLog.Package())))
	}
	start := func(rest ...[]string) [][]string {
		return append([][]string{{"go", "system", "--wait", "1s"}, {"arrive", "--wait", "20m"}}, rest...)
	}
	plain := func(k kit, f []string) [][]string {
		return append([][]string{
			{"recovery", "install", f[0]},
			{"go", "recovery"},
			{"wipe", "userdata"},
			{"sideload", f[1], f[2], f[3]},
		}, start([]string{"app", f[4]})...)
	}
	stock := func(k kit, f []string) [][]string {
		return append([][]string{{"flash", f[0], "--accept", "risky-partition"}, {"wipe", "userdata"}},
			start()...)
	}
	relocked := func(k kit, f []string) [][]string {
		return append(append(stock(k, f), []string{"go", "bootloader"}, []string{"relock", "--images", f[0]}),
			start()...)
	}
	set := func(l *lab, k kit) []string { return []string{k.more.Set} }
	gsi := func(l *lab, k kit) []string { return []string{k.recovery, k.more.GSI} }
	inRecovery := func(l *lab, k kit) { l.inRecovery("sanderling", k.recovery) }
	return map[string]evening{
		"turnstone, a system":  {phone: "turnstone", slots: 1, files: rom, hand: plain},
		"sanderling, a system": {phone: "sanderling", slots: 1, files: rom, hand: plain},
		"dunlin, a system":     {phone: "dunlin", slots: 2, files: rom, hand: plain},
		"godwit, a system": {phone: "godwit", slots: 2,
			files: func(l *lab, k kit) []string { return append(rom(l, k), k.more.Overlay) },
			hand: func(k kit, f []string) [][]string {
				return append([][]string{{"flash", f[5], "--into", "@both"}, {"recovery", "install", f[0]},
					{"go", "recovery"},
					{"wipe", "userdata"},
					{"sideload", f[1], "--then", "stay"},
					{"go", "bootloader"},
					{"flash", f[5], "--into", "@b"},
					{"recovery", "install", f[0], "--boot", f[1], "--into", "boot@b"},
					{"go", "recovery"},
					{"sideload", f[2], f[3]}}, start([]string{"app", f[4]})...)
			}},
		"avocet, a system": {phone: "avocet", slots: 2, files: rom,
			hand: func(k kit, f []string) [][]string {
				return append([][]string{
					{"recovery", "install", f[0]},
					{"go", "recovery"},
					{"wipe", "userdata"},
					{"sideload", f[1], f[2], f[3], "--recovery-after", f[0]},
				}, start([]string{"app", f[4]})...)
			}},
		"avocet, a generic system": {phone: "avocet", slots: 2, files: gsi,
			hand: func(k kit, f []string) [][]string {
				return append([][]string{
					{"recovery", "install", f[0]},
					{"go", "recovery"},
					{"vbmeta", "loosen", "hashtree"},
					{"wipe", "userdata"},
					{"flash", f[1], "--into", "system"},
				}, start()...)
			}},
		"sanderling, a generic system over a base": {phone: "sanderling", slots: 1, ready: inRecovery,
			files: func(l *lab, k kit) []string {
				list := []string{k.more.Package, k.more.GSI}
				for _, name := range []string{"extra-2", "extra-1", "extra-3"} {
					list = append(list, l.file(name+".zip",
						must(scenario.Addon{Name: name, Release: "14", Signer: "saltmarsh"}.Package())))
				}
				return list
			},
			hand: func(k kit, f []string) [][]string {
				return append([][]string{{"wipe", "userdata"}, {"sideload", f[0]},
					{"go", "system", "--wait", "1s"},
					{"arrive", "--wait", "20m"},
					{"go", "recovery"},
					{"vbmeta", "loosen", "hashtree"},
					{"wipe", "userdata"},
					{"flash", f[1], "--into", "system"},
					{"go", "recovery"},
					{"sideload", f[3], f[2], f[4]},
					{"shelve", "/vendor/overlay/WickerlightFrame"}}, start()...)
			}},
		"turnstone, its data not encrypted": {phone: "turnstone", slots: 1, ready: func(l *lab, k kit) {
			l.inRecovery("turnstone", k.recovery)
		},
			files: func(l *lab, k kit) []string {
				shore, _ := l.addons(k.phone)
				return []string{k.more.Package, shore}
			},
			hand: func(k kit, f []string) [][]string {
				return append([][]string{{"wipe", "apps", "caches"}, {"sideload", f[0], f[1]}}, start()...)
			}},
		"turnstone, a recovery": {phone: "turnstone", slots: 1, files: func(l *lab, k kit) []string {
			return []string{k.recovery}
		},
			hand: func(k kit, f []string) [][]string {
				return [][]string{{"recovery", "install", f[0]}, {"go", "recovery"}, {"recovery", "hold"}}
			}},
		"turnstone, back to stock": {phone: "turnstone", slots: 1, goal: "stock", files: set, hand: stock},
		"sanderling, back to stock": {phone: "sanderling", slots: 1, goal: "stock", files: set,
			hand: relocked},
		"avocet, back to stock": {phone: "avocet", slots: 2, goal: "stock", files: set, hand: relocked,
			run: []string{"--accept", "risky-partition"}},
	}
}

// TestSheetEvenings: each evening of the guide, drafted from its files and run as a sheet with two
// typed commands, ends byte for byte as it does by hand.
func TestSheetEvenings(t *testing.T) {
	t.Parallel()
	names := slices.Sorted(maps.Keys(evenings()))
	if !*whole {
		r := seeded(t)
		r.Shuffle(len(names), func(i, j int) { names[i], names[j] = names[j], names[i] })
		names = names[:4]
		t.Logf("with -seed %d: %v; -whole takes all", *seed, names)
	}
	for _, name := range names {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			e := evenings()[name]
			var hand, sheet map[string]uint64
			t.Run("both", func(t *testing.T) {
				t.Run("by hand", func(t *testing.T) {
					inLab(t, func(t *testing.T, l *lab) {
						k := kitOf(t, e.phone, e.slots)
						l.standin(e.phone)
						if e.ready != nil {
							e.ready(l, k)
						}
						for _, words := range e.hand(k, l.beside(e.files(l, k)...)) {
							l.did(e.phone, "", nil, append(words, "--yes")...)
						}
						hand = l.holds(e.phone)
					})
				})
				t.Run("as a sheet", func(t *testing.T) {
					inLab(t, func(t *testing.T, l *lab) {
						k := kitOf(t, e.phone, e.slots)
						l.standin(e.phone)
						if e.ready != nil {
							e.ready(l, k)
						}
						at := filepath.Join(l.dir, "files", "evening.yaml")
						words := append([]string{"sheet", "draft", "-o", at}, l.beside(e.files(l, k)...)...)
						if e.goal != "" {
							words = append(words, "--for", e.goal)
						}
						l.want(0, nil, words...)
						l.did(e.phone, "", nil, append([]string{"sheet", "run", at, "--yes"}, e.run...)...)
						sheet = l.holds(e.phone)
					})
				})
			})
			for _, p := range slices.Sorted(maps.Keys(hand)) {
				if hand[p] != sheet[p] {
					t.Errorf("%s is another one", p)
				}
			}
			if len(hand) != len(sheet) || len(hand) == 0 {
				t.Errorf("%d files by hand, %d by a sheet", len(hand), len(sheet))
			}
		})
	}
}

// many starts stand-ins of one kind, each with a serial number of its own, and gives their names.
func (l *lab) many(n int, args ...string) (names []string) {
	l.Helper()
	for i := range n {
		name := fmt.Sprintf("d%d", i+1)
		l.standin(l.modelOf("dunlin", name, "  serial: WL-DU-0007", fmt.Sprintf("  serial: WL-DU-01%02d",
			i+1)), append([]string{"--as", name}, args...)...)
		names = append(names, name)
	}
	return names
}

type ranResult struct {
	Run    int
	Exit   int
	Phones []struct {
		Name  string
		OK    bool
		Exit  int
		Job   int
		Tasks []struct {
			N             int
			Task, Outcome string
		}
	}
}

// traySheet is a whole job for dunlins, written by hand.
func (l *lab) traySheet(more string) string {
	l.Helper()
	l.beside(files.Recovery, files.Package)
	return l.file("files/tray.yaml", []byte(`sheet: 1
name: A tray of loggers
models: [dunlin]
conditions: {unlocked: true}
files:
  recovery: `+filepath.Base(files.Recovery)+`
  rom: `+filepath.Base(files.Package)+`
tasks:
  - recovery install: recovery
  - go: recovery
  - wipe: userdata
  - sideload: [rom]
`+more))
}

// TestTray: eight phones at once. One is pulled off its cable, one refuses, one does not know this
// computer: they stop alone, and the other five are done. What was interrupted is resumed, and ends
// as on the others.
func TestTray(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		names := l.many(7)
		l.standin(l.modelOf("dunlin", "d8", "  serial: WL-DU-0007", "  serial: WL-DU-0108"), "--as", "d8",
			"--mode", "system")
		names = append(names, "d8")
		l.press("d8", "debugging on")
		l.fault("d2", "drop", 2*sizeOf(files.Recovery)+sizeOf(files.Package)*2/5)
		l.fault("d5", "fail-at-end", 0)
		sheet := l.traySheet("")
		var r ranResult
		l.result(5, &r, "sheet", "run", sheet, "--on", strings.Join(names, ","), "--yes")
		codes := map[string]int{}
		for _, p := range r.Phones {
			codes[p.Name] = p.Exit
			done := 0
			for _, x := range p.Tasks {
				if x.Outcome == "done" {
					done++
				}
			}
			if p.OK != (p.Exit == 0) || p.OK && (done != 4 || p.Job == 0) {
				t.Errorf("%+v; unwanted: p.OK != (p.Exit == 0) || p.OK && (done != 4 || p.Job == 0)", p)
			}
		}
		if want := map[string]int{
			"d1": 0,
			"d2": 5,
			"d3": 0,
			"d4": 0,
			"d5": 5,
			"d6": 0,
			"d7": 0,
			"d8": 3,
		}; !maps.Equal(codes, want) {
			t.Fatalf("%v, want %v", codes, want)
		}
		l.want(0, []string{"run 1 of A tray of loggers", "jarlid jobs resume 1"})
		out := l.want(0, []string{"run 1 of A tray of loggers", "d5", "d2"}, "jobs", "resume", "--yes")
		if strings.Contains(out, "d1: ") || strings.Contains(out, "d8") {
			t.Errorf("it goes on with phones that are done, or were never begun:\n%s", out)
		}
		want := l.holds("d1")
		for _, n := range []string{"d2", "d5", "d7"} {
			for p, sum := range l.holds(n) {
				if want[p] != sum && p != "misc.img" {
					t.Errorf("%s of %s is another one than that of d1", p, n)
				}
			}
		}
		l.want(0, []string{"there is nothing to go on with"}, "jobs", "resume", "1")
		for _, j := range l.journals() {
			if j[0].Of == nil || j[0].Of.Run != 1 {
				t.Errorf("a job is not of the run: %v", j[0].Command)
			}
		}
	})
}

// sheetOf writes a sheet with tasks for dunlin beside its files.
func (l *lab) sheetOf(head, tasks string) string {
	l.Helper()
	l.beside(files.Recovery, files.Package)
	return l.file("files/one.yaml", []byte("sheet: 1\nname: One\n"+head+"files: {recovery: "+
		filepath.Base(files.Recovery)+", rom: "+filepath.Base(files.Package)+"}\ntasks:\n"+tasks))
}

// TestSheetRules: what a sheet may not do, and what keeps it from running.
func TestSheetRules(t *testing.T) {
	t.Parallel()
	const install = "  - recovery install: recovery\n"
	some(t, 4, map[string]func(l *lab){
		"damaged-file, by the sheet": func(l *lab) {
			l.standin("dunlin")
			at := filepath.Join(l.dir, "files", "drafted.yaml")
			l.want(0, nil, append([]string{"sheet", "draft", "-o", at}, l.beside(files.Recovery)...)...)
			path := filepath.Join(l.dir, "files", filepath.Base(files.Recovery))
			b := must(os.ReadFile(path))
			b[len(b)-1] ^= 1
			write(l, path, b)
			l.want(3, []string{"stop  damaged-file", "its sha256 is", "the sheet states",
				"nothing was changed"}, "sheet", "run", at, "--yes")
			l.want(6, []string{"stop  damaged-file"}, "sheet", "check", at)
			remove(l, path)
			l.want(3, []string{"is not there"}, "sheet", "run", at, "--yes")
			l.want(0, []string{"all 3 tasks done"}, "sheet", "run", at, "--yes", "--file", "recovery="+
				files.Recovery)
			if n := len(l.journals()); n == 0 {
				l.Error("nothing was journaled")
			}
		},
		"condition-not-met": func(l *lab) {
			l.standin("dunlin")
			l.want(3, []string{"stop  condition-not-met: the sheet wants slot b to be the one that starts " +
				"next, and it is a"}, "sheet", "run", l.sheetOf("conditions: {slot: b}\n", install), "--yes")
			l.want(3, []string{"stop  condition-not-met", "to be locked, and it is unlocked"}, "sheet", "run",
				l.sheetOf("conditions: {unlocked: false}\n", install), "--yes")
			l.want(3, []string{"stop  wrong-model: the sheet is for godwit or avocet, this phone is dunlin"},
				"sheet", "run", l.sheetOf("models: [godwit, avocet]\n", install), "--yes")
			l.want(3, []string{"stop  open-question: which one?"}, "sheet", "run",
				l.sheetOf("open: [\"which one?\"]\n", install), "--yes")
			l.want(0, []string{"condition-not-met", "(accepted)", "all 1 task done"}, "sheet", "run",
				l.sheetOf("conditions: {slot: b}\n", install), "--yes", "--accept", "condition-not-met=slot")
		},
		"no-task-fits": func(l *lab) {
			l.standin("dunlin")
			sheet := l.sheetOf("", "  - recovery install: recovery\n    when: {slots: 1}\n  - go: "+
				"recovery\n    when: {super: yes}\n")
			l.want(3, []string{"stop  no-task-fits"}, "sheet", "run", sheet, "--yes")
			l.want(6, []string{"stop  no-task-fits"}, "sheet", "check", sheet, "--models", "dunlin")
			l.want(0, []string{"nothing stops it"}, "sheet", "check", sheet, "--models", "turnstone",
				"--accept", "wrong-model")
		},
		"tasks-contradict": func(l *lab) {
			l.standin("dunlin")
			other := l.sheetOf("", "  - slot use: b\n    accept: [{finding: slot-empty, because: a "+
				"test}]\n  - slot use: a\n")
			l.want(6, []string{"stop  tasks-contradict: task 2 chooses a slot, which task 1 had done " +
				"otherwise"}, "sheet", "check", other)
			l.want(6, []string{"stop  task-impossible", "(task 1, line 5)"}, "sheet", "check",
				l.sheetOf("", "  - backup restore: {items: boot, output: nowhere}\n"))
		},
		"allowed by its name alone": func(l *lab) {
			l.standin("dunlin")
			sheet := l.sheetOf("", "  - slot use: b\n    accept: [{finding: slot-empty, because: it is "+
				"only tried}]\n")
			l.want(3, []string{"stop  slot-empty", "--yes does not allow a stop, --accept slot-empty does"},
				"sheet", "run", sheet, "--yes")
			code, out := l.owner("dunlin", "n\n", nil, "sheet", "run", sheet)
			l.check(3, []string{"because it is only tried. Allow it?", "stop  slot-empty"}, code, out, nil)
			code, out = l.owner("dunlin", "y\ny\n", nil, "sheet", "run", sheet)
			l.check(0, []string{"Allow it?", "(accepted)", "all 1 task done"}, code, out, nil)
			if n := strings.Count(out, "asks  "); n != 2 {
				l.Errorf("it asks %d times:\n%s", n, out)
			}
		},
		"one question for everything": func(l *lab) {
			l.standin("dunlin")
			sheet := l.sheetOf("ask: [\"Is it the right phone?\"]\n",
				install+"  - go: recovery\n  - wipe: userdata\n  - sideload: {packages: rom, then: stay}\n")
			l.want(3, []string{"stop  not-confirmed: nobody is here to answer: Is it the right phone?"},
				"sheet", "run", sheet)
			code, out := l.owner("dunlin", "y\nn\n", nil, "sheet", "run", sheet)
			l.check(3, []string{"Run One on dunlin?", "nothing was changed"}, code, out, nil)
			if n := len(l.journals()); n > 0 {
				l.Errorf("%d jobs were begun", n)
			}
			code, out = l.owner("dunlin", "y\ny\n", nil, "sheet", "run", sheet)
			l.check(0, []string{"all 4 tasks done"}, code, out, nil)
			if n := strings.Count(out, "asks  "); n != 2 {
				l.Errorf("it asks %d times:\n%s", n, out)
			}
			page := filepath.Join(l.dir, "report.html")
			l.want(0, []string{"done  ", "one page that needs nothing else"}, "jobs", "show", "1", "--page",
				page)
			text := string(must(os.ReadFile(page)))
			for _, w := range []string{"<svg", "slot b, starts next", "Tideline Recovery 3.1", "sideload rom",
				"account-lock", "Run One on dunlin?", "WL-DU-0007"} {
				if !strings.Contains(text, w) {
					l.Errorf("the report lacks %q", w)
				}
			}
			for _, w := range []string{"http:", "https:", "<script", "src=", "@import"} {
				if strings.Contains(text, w) {
					l.Errorf("the report wants something from elsewhere: %q", w)
				}
			}
			l.want(2, []string{"say how old: --older 90d"}, "jobs", "prune")
			l.want(2, []string{"is no age"}, "jobs", "prune", "--older", "soon")
			l.want(0, []string{"nothing is to be deleted"}, "jobs", "prune", "--older", "90d")
			for range 3 { // of which the later ones tell all that the first ones do
				l.want(0, nil, "go", "bootloader", "--yes")
				l.want(0, nil, "go", "recovery", "--yes")
			}
			time.Sleep(100 * 24 * time.Hour)
			before := len(l.journals())
			l.want(0, []string{" deleted, "}, "jobs", "prune", "--older", "90d", "--yes")
			if after := len(l.journals()); after >= before || after == 0 {
				l.Errorf("%d jobs before, %d after: what a job alone knows stays", before, after)
			}
			l.want(0, []string{"Tideline Recovery 3.1"}, "card", "--on", "dunlin")
		},
		"the code is kept nowhere": func(l *lab) {
			l.standin(l.model("coded", "slots: 2", "slots: 2\nbootloader: {code: on a card in the box}"),
				"--as", "coded", "--locked")
			table := l.file("codes.csv", []byte("name,code\ncoded,SECRET-4711\n"))
			sheet := l.sheetOf("", "  - unlock: {code: \"${code}\"}\n")
			l.want(6, []string{"task-impossible", "${code}"}, "sheet", "check", sheet)
			code, out := l.owner("coded", "", standintest.Owner, "sheet", "run", sheet, "--table",
				table, "--yes")
			// this one knows no code
			l.check(5, []string{"the phone refused \"oem unlock (the code)\""}, code, out, nil)
			code, more := l.owner("coded", "", standintest.Owner, "unlock", "--code", "SECRET-4711", "--yes")
			l.check(5, nil, code, more, nil)
			if strings.Contains(out+more, "SECRET") {
				l.Errorf("the code is told:\n%s%s", out, more)
			}
			err := filepath.WalkDir(l.home, func(p string, d fs.DirEntry, err error) error {
				if err == nil && d.Type().IsRegular() && strings.Contains(string(must(os.ReadFile(p))),
					"SECRET") {
					l.Errorf("the code stands in %s", p)
				}
				return err
			})
			if err != nil {
				l.Errorf("filepath.WalkDir(l.home, ...): %v", err)
			}
		},
		"the phone stays locked between tasks": func(l *lab) {
			l.standin("dunlin")
			sheet := l.sheetOf("", install+"  - go: recovery\n  - wipe: userdata\n  - go: bootloader\n")
			seen := 0
			other := func() {
				if code, out := l.run("slot", "use", "a", "--yes"); code != 3 ||
					!strings.Contains(out, "phone-busy") {
					l.Errorf("%d; unwanted: code != 3 || !strings.Contains(out, 'phone-busy')\n%s", code, out)
				}
				seen++
			}
			l.fault("dunlin", "stall", sizeOf(files.Recovery)*3/2, "--for", "30")
			l.whenAsked("task 1 of 4", other, "sheet", "run", sheet, "--yes")
			if seen == 0 {
				l.Error("nobody came in between")
			}
		},
		"cards": func(l *lab) {
			l.standin("dunlin")
			card := filepath.Join(l.dir, "d.json")
			l.want(0, nil, "card", "--save", card)
			sheet := l.sheetOf("", install+"  - go: recovery\n  - wipe: userdata\n  - sideload: rom\n")
			type judged struct {
				Runs  bool
				Tasks []struct {
					N, Line int
					Task    string
				}
				Lost, Open []string
				Bytes      int64
				Seconds    int
			}
			var all struct{ Phones []judged }
			l.result(0, &all, "sheet", "check", sheet, "--cards", card, "--models", "dunlin")
			if len(all.Phones) != 2 {
				l.Fatalf("sheet check gives %+v, want two phones", all)
			}
			r := all.Phones[0]
			if !r.Runs || len(r.Tasks) != 4 || r.Tasks[3].Line != 8 ||
				r.Tasks[3].Task != "sideload rom" || len(r.Lost) == 0 || r.Bytes < 2*sizeOf(files.Recovery)+
				sizeOf(files.Package) || r.Seconds < 60 {
				l.Errorf("%+v; unwanted: !r.Runs || len(r.Tasks) != 4 || ...", r)
			}
			// What an order does is foreseen: a ROM over data that was not formatted.
			l.want(0, []string{"warn  encrypted-data", "(task 3, line 7)"}, "sheet", "check",
				l.sheetOf("", install+"  - go: recovery\n  - sideload: rom\n"), "--cards", card)
			l.want(6, []string{"stop  slot-empty", "(task 2, line 6)"}, "sheet", "check",
				l.sheetOf("", install+"  - slot use: other\n"), "--cards", card)
		},
	})
}

func write(l *lab, path string, b []byte) {
	l.Helper()
	if err := os.WriteFile(path, b, 0o644); err != nil {
		l.Fatalf("os.WriteFile(%v, b, 0o644): %v", path, err)
	}
}

func remove(l *lab, path string) {
	l.Helper()
	if err := os.Remove(path); err != nil {
		l.Fatalf("os.Remove(%v): %v", path, err)
	}
}

// TestTrayStops: Ctrl-C ends every phone, after its write where there is one, and the run is resumed later;
// where nobody is at the phones, what wants hands is stopped before the first byte.
func TestTrayStops(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.many(2)
		l.standin("turnstone")
		sheet := l.traySheet("")
		var once sync.Once
		var j *job
		j = l.begin(false, "", func(line string) {
			if strings.Contains(line, "d2: task 4 of 4") {
				once.Do(func() { j.interrupt <- struct{}{} })
			}
		}, "sheet", "run", sheet, "--on", "d1,d2", "--yes")
		<-j.done
		if out := j.out.String(); j.code != 7 || strings.Contains(out, "all 4 tasks done") {
			t.Fatalf("%d; unwanted: j.code != 7 || strings.Contains(out, 'all 4 tasks done')\n%s",
				j.code, out)
		}
		l.want(0, []string{"on d1, d2", "jarlid jobs resume 1"})
		l.want(0, []string{"done on all 2 phones"}, "jobs", "resume", "--yes")
		if a, b := l.holds("d1"), l.holds("d2"); !maps.Equal(a, b) && a["boot_b.img"] != b["boot_b.img"] {
			t.Error("they are not alike in the end")
		}
		by := l.file("files/hands.yaml", []byte("sheet: 1\nname: By its keys\ntasks:\n  - go: recovery\n"))
		l.want(3, []string{"stop  hands-needed: to restart into recovery somebody has to be at the phone: " +
			"Hold power", "nothing was changed"}, "sheet", "run", by, "--on", "turnstone", "--yes")
		l.want(0, []string{"task 1 wants somebody at the phone"}, "sheet", "check", by, "--on", "turnstone")
		l.want(6, []string{"stop  hands-needed"}, "sheet", "check", by, "--on", "turnstone", "--no-hands")
		l.want(0, []string{"dry run: everything was checked"}, "sheet", "run", sheet, "--on", "d1", "--yes",
			"--dry-run")
	})
}

// file writes a file and gives its path.
func (l *lab) file(name string, b []byte) string {
	l.Helper()
	path := filepath.Join(l.dir, name)
	if err := os.WriteFile(path, b, 0o644); err != nil {
		l.Fatalf("os.WriteFile(%v, b, 0o644): %v", path, err)
	}
	return path
}
