package e2e

import (
	"crypto/sha256"
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
