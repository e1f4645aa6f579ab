package e2e

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"jarlid/internal/demo"
	"jarlid/internal/standin/scenario"
	"jarlid/internal/standin/standintest"
)

// answer is what fit says, as far as tests look at it.
type answer struct {
	Verdict string
	Checks  []struct{ Name, Outcome string }
	Todo    []string
	Phone   map[string]any
	Image   struct{ Name string }
	Images  []answer
}

// because gives the names of the checks with an outcome.
func (a answer) because(outcome string) []string {
	var list []string
	for _, k := range a.Checks {
		if k.Outcome == outcome {
			list = append(list, k.Name)
		}
	}
	return list
}

// byHand reads the twenty verdicts out of docs/fit.md: image, phone, the verdict and the
// checks it rests on.
func byHand(t *testing.T) map[[2]string]answer {
	t.Helper()
	_, text, ok := strings.Cut(string(must(os.ReadFile("../../docs/fit.md"))), "## The verdicts")
	if !ok {
		t.Fatal("docs/fit.md has no verdicts")
	}
	var phones []string
	out := map[[2]string]answer{}
	for line := range strings.Lines(text) {
		cells := strings.Split(strings.Trim(strings.TrimSpace(line), "|"), "|")
		if len(cells) != 6 {
			continue
		}
		for i := range cells {
			cells[i] = strings.TrimSpace(cells[i])
		}
		switch name := strings.Trim(cells[0], "`"); {
		case cells[0] == "":
			phones = cells[1:]
		case name != cells[0]:
			for i, c := range cells[1:] {
				verdict, names, _ := strings.Cut(strings.TrimPrefix(c, "**"), "**: ")
				outcome := map[string]string{"does-not-fit": "stop", "fits-with-care": "warn"}[verdict]
				a := answer{Verdict: verdict}
				for _, n := range strings.Split(names, ", ") {
					a.Checks = append(a.Checks, struct{ Name, Outcome string }{n, outcome})
				}
				out[[2]string{name, phones[i]}] = a
			}
		}
	}
	if len(out) != 20 {
		t.Fatalf("docs/fit.md has %d verdicts", len(out))
	}
	return out
}

// generics are the demo's generic systems by the names docs/fit.md gives them.
var generics = map[string]string{
	"arm":   "saltmarsh-gsi-4.2-arm.img.gz",
	"fixed": "saltmarsh-gsi-1.4-arm64-fixed.img.gz",
	"arm64": "saltmarsh-gsi-4.2-arm64.img.gz",
	"new":   "saltmarsh-gsi-6.0-arm64.img.zst",
}

var gsiFolder = sync.OnceValue(func() string {
	dir := filepath.Join(workdir, "gsi")
	if err := demo.MakeGSIs(dir); err != nil {
		panic(err)
	}
	return dir
})

// fits checks all four images and gives the answers by their names in docs/fit.md.
func (l *lab) fits(args ...string) map[string]answer {
	l.Helper()
	cmd := append([]string{"fit", "--json"}, args...)
	for _, file := range generics {
		cmd = append(cmd, filepath.Join(gsiFolder(), file))
	}
	code, out := l.run(cmd...)
	lines := strings.Split(strings.TrimSpace(out), "\n")
	var r answer
	if err := json.Unmarshal([]byte(lines[len(lines)-1]), &r); err != nil || code != 0 && code != 6 ||
		len(r.Images) != 4 {
		l.Fatalf("fit ended with %d, %v:\n%s", code, err, out)
	}
	got := map[string]answer{}
	for _, a := range r.Images {
		for name, file := range generics {
			if file == a.Image.Name {
				got[name] = a
			}
		}
	}
	return got
}

// mode gives what a stand-in is doing.
func (l *lab) mode(phone string) string {
	l.Helper()
	var st struct{ Mode string }
	if err := json.Unmarshal(must(os.ReadFile(filepath.Join(l.dir, phone, "state.json"))), &st); err != nil {
		return "" // just being written
	}
	return st.Mode
}

// TestFit proves the twenty verdicts, that a saved card gives the same ones, that a running
// system never gives another, and that what fits starts when it is flashed and cared for and
// what does not fit does not.
func TestFit(t *testing.T) {
	t.Parallel()
	want := byHand(t)
	for _, k := range kinds {
		t.Run(k.name, func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				kit := kitOf(t, k.name, k.slots)
				p := l.standin(k.name, "--mode", "system")
				var running map[string]answer
				l.allowing(k.name, func() { running = l.fits() })
				for _, fact := range []string{"kernel.config", "vintf.manifest", "vendor.overlays"} {
					if k.name != "turnstone" && running["arm64"].Phone[fact] == nil {
						t.Errorf("the running system does not tell %s", fact)
					}
				}
				l.did(k.name, "", nil, "go", "bootloader", "--yes")
				l.inRecovery(k.name, kit.recovery)
				saved := filepath.Join(l.dir, "card.json")
				l.want(0, nil, "card", "--save", saved)
				got := l.fits()
				for name := range generics {
					w, g := want[[2]string{name, k.name}], got[name]
					outcome := w.Checks[0].Outcome
					if g.Verdict != w.Verdict || !slices.Equal(g.because(outcome), w.because(outcome)) {
						t.Errorf("%s: %s %v, by hand it is %s %v", name, g.Verdict, g.because(outcome),
							w.Verdict, w.because(outcome))
					}
					if r := running[name].Verdict; r != g.Verdict && r != "cannot-tell" {
						t.Errorf("%s: from the running system it is %s, from the recovery %s", name,
							r, g.Verdict)
					}
				}
				alone := l.other("alone")
				for name, a := range alone.fits("--card", saved) {
					if a.Verdict != got[name].Verdict ||
						fmt.Sprint(a.Checks) != fmt.Sprint(got[name].Checks) {
						t.Errorf("%s: with the phone away it is %s %v", name, a.Verdict, a.Checks)
					}
				}
				l.carryOut(k, got)
				p.kill()
			})
		})
	}
}

// carryOut does what answers say has to be done, and looks whether the phone starts: two of them,
// or all where the whole is asked for.
func (l *lab) carryOut(k kind, answers map[string]answer) {
	l.Helper()
	l.want(0, nil, "vbmeta", "loosen", "hashtree", "--yes")
	names := []string{"arm", "fixed", "new", "arm64"}
	for r := seeded(l.T); len(names) > 2 && !*whole && !*cabled; {
		i := r.IntN(len(names))
		names = slices.Delete(names, i, i+1)
	}
	for _, name := range names {
		a := answers[name]
		file := filepath.Join(gsiFolder(), generics[name])
		// What fit knows to stop a start stops the write too.
		flash := []string{"flash", file, "--into", "system", "--yes", "--accept", "verity-would-reject",
			"--accept", "encrypted-data"}
		wantStop := a.Verdict == "does-not-fit" &&
			!slices.Equal(a.because("stop"), []string{"room"})
		_, out := l.run(append(flash, "--dry-run")...)
		if strings.Contains(out, "stop  will-not-run") != wantStop {
			l.Errorf("%s: fit says %s %v, and flash:\n%s", name, a.Verdict, a.because("stop"), out)
		}
		code, out := l.owner(k.name, "", standintest.Owner, append(flash, "--accept", "will-not-run")...)
		if code == 3 && strings.Contains(out, "image-too-big") && a.Verdict == "does-not-fit" {
			continue // it can't even be written
		}
		if code != 0 {
			l.Fatalf("%s: flash ended with %d:\n%s", name, code, out)
		}
		l.did(k.name, "", nil, "go", "recovery", "--yes")
		for _, todo := range a.Todo {
			if strings.HasPrefix(todo, "jarlid shelve ") && slices.Contains(a.because("warn"), "overlays") {
				// it is aside already when an image before needed it
				l.run(append(strings.Fields(todo)[1:], "--yes")...)
			}
		}
		l.want(0, nil, "wipe", "userdata", "--yes")
		l.owner(k.name, "", standintest.Owner, "go", "system", "--wait", "1s", "--yes")
		if a.Verdict != "does-not-fit" {
			l.until(name+" starts", func() bool { return l.mode(k.name) == "system" })
		} else {
			// It restarts until its tries are used up, or for ever.
			l.until(name+" gives up", func() bool {
				m := l.mode(k.name)
				return m == "bootloader" || m == ""
			})
			for range 25 { // a first boot takes a second or two
				if time.Sleep(100 * time.Millisecond); l.mode(k.name) == "system" {
					l.Errorf("%s starts, and fit said that it does not", name)
				}
			}
		}
		l.press(k.name, "volume-down+power")
		l.untilMode(k.name, "bootloader")
		if k.slots > 1 {
			l.want(0, nil, "slot", "use", "a", "--yes", "--accept", "slot-empty") // its tries may be used up
		}
	}
}

// TestFitFiles: a phone known by its firmware alone, a system in a set, an add-on, the page,
// and what is no system at all.
func TestFitFiles(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		kit := kitOf(t, "avocet", 2)
		gsi := filepath.Join(gsiFolder(), generics["arm64"])
		page := filepath.Join(l.dir, "page.html")
		out := l.want(6, []string{"no phone is here", "counts as said by you", "nobody can tell yet",
			"room is not known"}, "fit", gsi, "--vendor", kit.more.Set, "--page", page)
		if strings.Contains(out, "FIRMWARE-SET") {
			l.Errorf("the set was given:\n%s", out)
		}
		text := string(must(os.ReadFile(page)))
		for _, s := range []string{"<svg", "cannot-tell", "verified-boot"} {
			if strings.Contains(text, s) == (s == "<svg") { // without the phone nobody knows the room
				t.Errorf("the page and %q:\n%s", s, text)
			}
		}
		for _, s := range []string{"http:", "https:", "src=", "@import"} {
			if strings.Contains(text, s) {
				t.Errorf("the page wants something from elsewhere: %q", s)
			}
		}
		l.want(6, []string{"stop  vndk", "stop  policy", "nor do these fit"}, "fit",
			filepath.Join(gsiFolder(), generics["new"]), "--vendor", kit.more.Set)
		l.want(6, []string{"The image holds a matrix for each level"}, "fit", gsi, "--vendor", kit.more.Set,
			"--explain")
		l.want(6, []string{"extras", "shoreline"}, "fit", gsi, "--vendor", kit.more.Set, "--with",
			kit.more.Addons[0], "--with", kit.more.Addons[1])
		l.want(0, []string{"one of the things jarlid fit weighs"}, "explain", "vndk")
		// Out of a payload; out of super, which also tells the room; a system in an archive.
		l.want(6, []string{"33.0", "room is not known"}, "fit", gsi, "--vendor", kit.more.Package,
			"--details")
		l.standin("avocet").kill()
		if err := os.Remove(filepath.Join(l.home, "bench.yaml")); err != nil {
			t.Fatalf("os.Remove(...): %v", err)
		}
		super := filepath.Join(l.dir, "avocet", "partitions", "super.img")
		var r answer
		l.result(0, &r, "fit", gsi, "--vendor", super, "--page", page)
		if !strings.Contains(string(must(os.ReadFile(page))), "<svg") ||
			!slices.Contains(r.because("warn"), "room") || r.Verdict != "fits-with-care" ||
			!slices.Equal(r.because("unknown"), []string{"kernel", "patch-level", "verified-boot", "data"}) {
			t.Errorf("out of super: %+v", r)
		}
		var packed bytes.Buffer
		z := zip.NewWriter(&packed)
		for name, b := range map[string][]byte{
			"system.img": must(scenario.System(scenario.GSINew, kit.phone)),
			"readme.txt": []byte("a generic system\n")} {
			w := must(z.Create(name))
			must(w.Write(b))
		}
		z.Close()
		l.want(6, []string{"Saltmarsh GSI 6.0", "stop  vndk"}, "fit", l.file("gsi.zip", packed.Bytes()),
			"--vendor", kit.more.Set)
		l.want(4, nil, "fit", gsi)
		l.want(2, []string{"--page shows one image"}, "fit", gsi, gsi, "--vendor", kit.more.Set, "--page",
			page)
		for name, c := range map[string]struct {
			file string
			code int
			says string
		}{
			"a recovery": {kit.recovery, 1, "no ext4 or EROFS file system"},
			"a text":     {l.file("note.txt", []byte("not an image\n")), 3, "note.txt is a text"},
			"a vendor partition": {l.file("vendor.img", l.setImage(kit, "vendor")), 1,
				"that of another partition"},
			"a set": {kit.more.Set, 3, "stop  not-generic"},
			"cut short": {l.file("cut.img.gz", must(os.ReadFile(gsi))[:1<<20]), 3,
				"stop  damaged-file: cut.img.gz is damaged"},
			"a folder": {l.dir, 1, "is a folder"},
		} {
			code, out := l.run("fit", c.file, "--vendor", kit.more.Set)
			if code != c.code || !strings.Contains(out, c.says) {
				t.Errorf("%s ended with %d:\n%s", name, code, out)
			}
		}
		l.want(1, []string{"there is no vendor partition in it"}, "fit", gsi, "--vendor", gsi)
	})
}

// setImage gives an image of a phone's firmware set.
func (l *lab) setImage(k kit, name string) []byte {
	l.Helper()
	l.want(0, nil, "lift", k.more.Set, name, "-o", filepath.Join(l.dir, "lifted"))
	return must(os.ReadFile(filepath.Join(l.dir, "lifted", name+".img")))
}

// inUnmapped brings an avocet into a recovery that does not map its logical partitions.
func (l *lab) inUnmapped() {
	l.Helper()
	k := kitOf(l.T, "avocet", 2)
	l.standin("avocet")
	kind := scenario.Tideline
	kind.Traits += "unmapped: true\n"
	l.inRecovery("avocet", l.file("unmapped.img", must(scenario.Recovery(kind, k.phone))))
}

// TestFitUnmapped: a recovery that has not mapped the logical partitions is no phone without
// a vendor partition; they are read by what super says.
func TestFitUnmapped(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.inUnmapped()
		want := byHand(t)
		for name, a := range l.fits() {
			if w := want[[2]string{name, "avocet"}]; a.Verdict != w.Verdict ||
				!slices.Equal(a.because(w.Checks[0].Outcome), w.because(w.Checks[0].Outcome)) {
				t.Errorf("%s: %s %+v; unwanted: a.Verdict != w.Verdict || ...", name, a.Verdict, a.Checks)
			}
		}
		l.want(0, []string{"an unlocked phone starts it"}, "vbmeta", "check")
	})
}

// TestFilesOfUnmapped: files on a partition that the recovery shows no device of are neither there nor
// missing.
func TestFilesOfUnmapped(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.inUnmapped()
		for _, args := range [][]string{{"shelve", "/system/etc/about.txt"}, {"shelve", "/vendor/build.prop"},
			{"unshelve"}} {
			l.want(3, []string{"stop  not-mounted: ", "shows no block device of it",
				"use a recovery that shows it"},
				append(args, "--yes", "--accept", "verity-would-reject")...)
		}
	})
}

// TestFitFromSystem: the steps of fit for a generic system begin in the mode of the phone, and the first ones
// work there.
func TestFitFromSystem(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		l.inRecovery("dunlin", files.Recovery)
		l.want(0, nil, "backup", "take", "misc", "-o", filepath.Join(l.dir, "kept"))
		l.did("dunlin", "", nil, "go", "system", "--yes")
		a := l.fits()["arm64"]
		if len(a.Todo) < 2 || !strings.HasPrefix(a.Todo[0], "jarlid go recovery") ||
			!strings.HasPrefix(a.Todo[1], "jarlid vbmeta loosen") {
			t.Fatalf("in a started system fit ends with %s, and goes on with %q", a.Verdict, a.Todo)
		}
		for _, todo := range a.Todo[:2] {
			l.did("dunlin", "", nil, append(strings.Fields(todo)[1:], "--yes")...)
		}
	})
}
