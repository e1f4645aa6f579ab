package e2e

import (
	"crypto/sha256"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"jarlid/internal/standin/scenario"
)

// beside copies files into a folder of the lab, as a person has them beside one another.
func (l *lab) beside(paths ...string) (copies []string) {
	l.Helper()
	dir := filepath.Join(l.dir, "files")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		l.Fatal(err)
	}
	for _, p := range paths {
		to := filepath.Join(dir, filepath.Base(p))
		if err := os.WriteFile(to, must(os.ReadFile(p)), 0o644); err != nil {
			l.Fatal(err)
		}
		copies = append(copies, to)
	}
	return copies
}

// holds gives the digests of what a stand-in keeps, but for the data, whose keys are made anew
// each time.
func (l *lab) holds(phone string) map[string][32]byte {
	l.Helper()
	sums := map[string][32]byte{}
	root := filepath.Join(l.dir, phone, "partitions")
	err := filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		rel := must(filepath.Rel(root, p))
		if strings.HasPrefix(rel, "userdata") || strings.HasPrefix(rel, "metadata") || filepath.Base(rel) == "record.yaml" { // which has the time
			return nil
		}
		sums[filepath.ToSlash(rel)] = sha256.Sum256(must(os.ReadFile(p)))
		return nil
	})
	if err != nil {
		l.Fatal(err)
	}
	return sums
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
		return append([]string{k.recovery, k.more.Package}, shore, sheet, l.file("fieldlog.apk", must(scenario.FieldLog.Package())))
	}
	start := func(rest ...[]string) [][]string {
		return append([][]string{{"go", "system", "--wait", "1s"}, {"arrive", "--wait", "20m"}}, rest...)
	}
	plain := func(k kit, f []string) [][]string {
		return append([][]string{{"recovery", "install", f[0]}, {"go", "recovery"}, {"wipe", "userdata"}, {"sideload", f[1], f[2], f[3]}}, start([]string{"app", f[4]})...)
	}
	stock := func(k kit, f []string) [][]string {
		return append([][]string{{"flash", f[0], "--accept", "risky-partition"}, {"wipe", "userdata"}}, start()...)
	}
	relocked := func(k kit, f []string) [][]string {
		return append(append(stock(k, f), []string{"go", "bootloader"}, []string{"relock", "--images", f[0]}), start()...)
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
				return append([][]string{{"flash", f[5], "--into", "@both"}, {"recovery", "install", f[0]}, {"go", "recovery"}, {"wipe", "userdata"}, {"sideload", f[1], "--then", "stay"}, {"go", "bootloader"},
					{"flash", f[5], "--into", "@b"}, {"recovery", "install", f[0], "--boot", f[1], "--into", "boot@b"}, {"go", "recovery"}, {"sideload", f[2], f[3]}}, start([]string{"app", f[4]})...)
			}},
		"avocet, a system": {phone: "avocet", slots: 2, files: rom,
			hand: func(k kit, f []string) [][]string {
				return append([][]string{{"recovery", "install", f[0]}, {"go", "recovery"}, {"wipe", "userdata"}, {"sideload", f[1], f[2], f[3], "--recovery-after", f[0]}}, start([]string{"app", f[4]})...)
			}},
		"avocet, a generic system": {phone: "avocet", slots: 2, files: gsi,
			hand: func(k kit, f []string) [][]string {
				return append([][]string{{"recovery", "install", f[0]}, {"go", "recovery"}, {"vbmeta", "loosen", "hashtree"}, {"wipe", "userdata"}, {"flash", f[1], "--into", "system"}}, start()...)
			}},
		"sanderling, a generic system over a base": {phone: "sanderling", slots: 1, ready: inRecovery,
			files: func(l *lab, k kit) []string {
				list := []string{k.more.Package, k.more.GSI}
				for _, name := range []string{"extra-2", "extra-1", "extra-3"} {
					list = append(list, l.file(name+".zip", must(scenario.Addon{Name: name, Release: "14", Signer: "saltmarsh"}.Package())))
				}
				return list
			},
			hand: func(k kit, f []string) [][]string {
				return append([][]string{{"wipe", "userdata"}, {"sideload", f[0]}, {"go", "system", "--wait", "1s"}, {"arrive", "--wait", "20m"}, {"go", "recovery"}, {"vbmeta", "loosen", "hashtree"}, {"wipe", "userdata"},
					{"flash", f[1], "--into", "system"}, {"go", "recovery"}, {"sideload", f[3], f[2], f[4]}, {"shelve", "/vendor/overlay/WickerlightFrame"}}, start()...)
			}},
		"turnstone, a recovery": {phone: "turnstone", slots: 1, files: func(l *lab, k kit) []string { return []string{k.recovery} },
			hand: func(k kit, f []string) [][]string {
				return [][]string{{"recovery", "install", f[0]}, {"go", "recovery"}, {"recovery", "hold"}}
			}},
		"turnstone, back to stock":  {phone: "turnstone", slots: 1, goal: "stock", files: set, hand: stock},
		"sanderling, back to stock": {phone: "sanderling", slots: 1, goal: "stock", files: set, hand: relocked},
		"avocet, back to stock":     {phone: "avocet", slots: 2, goal: "stock", files: set, hand: relocked, run: []string{"--accept", "risky-partition"}},
	}
}

// TestSheetEvenings: each evening of the guide, drafted from its files and run as a sheet with two
// typed commands, ends byte for byte as it does by hand.
func TestSheetEvenings(t *testing.T) {
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
			var hand, sheet map[string][32]byte
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
		l.standin(l.modelOf("dunlin", name, "  serial: WL-DU-0007", fmt.Sprintf("  serial: WL-DU-01%02d", i+1)), append([]string{"--as", name}, args...)...)
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
// computer: they stop alone, and the other five are done. What broke off is gone on with, and ends
// as on the others.
func TestTray(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		names := l.many(7)
		l.standin(l.modelOf("dunlin", "d8", "  serial: WL-DU-0007", "  serial: WL-DU-0108"), "--as", "d8", "--mode", "system")
		names = append(names, "d8")
		l.press("d8", "debugging on")
		l.fault("d2", "drop", 40<<20)
		l.fault("d5", "refuse", 30)
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
				t.Errorf("%+v", p)
			}
		}
		if want := map[string]int{"d1": 0, "d2": 5, "d3": 0, "d4": 0, "d5": 5, "d6": 0, "d7": 0, "d8": 3}; !maps.Equal(codes, want) {
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
