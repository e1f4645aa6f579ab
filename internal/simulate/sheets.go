package main

import (
	"fmt"
	"hash/fnv"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// A whole evening as a sheet, interrupted at one place, and resumed: it has to end as one that
// nothing happened to.

// evening is what an undisturbed run of a phone's sheet comes to, and how much there is to break
// off at.
type evening struct {
	undisturbed
	bytes   int64 // on the wire
	records int   // of journals
}

// SheetPlan is one run of a sheet.
type SheetPlan struct {
	Phone int
	Fault Fault
	Quirk int // of the list quirks
}

func (p SheetPlan) String() string {
	text := fmt.Sprintf("the evening on %s; %v", phones[p.Phone].name, p.Fault)
	if p.Quirk > 0 {
		text += "; its recoveries have " + quirks[p.Quirk]
	}
	return text
}

// sheetFiles are the files an evening is drafted from.
func sheetFiles(k kit) []string {
	list := []string{k.recovery, k.Package, k.addon, k.app}
	if k.Overlay != "" && strings.Contains(k.recovery, "godwit") {
		list = append(list, k.Overlay)
	}
	return list
}

// drafted puts an evening's files beside one another, and the sheet that is drafted from them.
func (w *world) drafted() string {
	dir := filepath.Join(w.dir, "files")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		w.bad("%v", err)
	}
	at := filepath.Join(dir, "evening.yaml")
	words := []string{"sheet", "draft", "-o", at}
	for _, f := range sheetFiles(w.kit) {
		to := filepath.Join(dir, filepath.Base(f))
		if err := os.Link(f, to); err != nil {
			w.bad("%v", err)
		}
		words = append(words, to)
	}
	if code, out := w.run(nil, words...); code != 0 {
		w.bad("no sheet is drafted:\n%s", out)
	}
	return at
}

// evening runs a phone's sheet undisturbed.
func (l *lab) evening(t *testing.T, phone int) (evening, error) {
	got, err := l.once("evening "+phones[phone].name, func() (any, error) {
		var e evening
		err := l.sheetWorld(t, phone, 0, func(w *world) {
			s := w.seams()
			var out string
			if e.code, out = w.run(s, "sheet", "run", w.drafted(), "--yes"); e.code != 0 {
				w.bad("undisturbed, the evening on %s ends with %d:\n%s", w.name, e.code, out)
			}
			e.bytes, e.records = s.bytes, s.records
			time.Sleep(10 * time.Minute) // a merge goes on by itself
			e.mode, e.hashes = w.mode(), w.hashes()
		})
		return e, err
	})
	if err != nil {
		return evening{}, err
	}
	return got.(evening), nil
}

// sheetWorld runs something with a new phone in its bootloader.
func (l *lab) sheetWorld(t *testing.T, phone, quirk int, do func(w *world)) error {
	state, err := l.prepared(t, phone, inBootloader)
	if err != nil {
		return err
	}
	k, err := l.kit(phone)
	if err != nil {
		return err
	}
	dir, err := os.MkdirTemp(l.dir, "sheet-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := copyTree(state, dir); err != nil {
		return err
	}
	l.inBubble(t, dir, phones[phone].name, k, func(w *world) {
		w.quirk = quirks[quirk]
		if err = w.start(); err == nil {
			w.settle(inBootloader)
			do(w)
		}
	})
	return err
}

// mostResumes is how often what was interrupted once may have to be resumed.
const mostResumes = 3

// sheet is one run of a sheet that is interrupted.
func (l *lab) sheet(t *testing.T, p SheetPlan, verbose bool) {
	base, err := l.evening(t, p.Phone)
	if err != nil || base.code != 0 {
		t.Fatalf("%v (%v)", err, p)
	}
	var said strings.Builder
	defer func() {
		if t.Failed() || verbose {
			t.Logf("%v\n%s", p, said.String())
		}
	}()
	err = l.sheetWorld(t, p.Phone, p.Quirk, func(w *world) {
		w.told = func(args []string, code int, out string) {
			fmt.Fprintf(&said, "$ jarlid %s\n%s(%d)\n", strings.Join(args, " "), out, code)
		}
		defer func() { fmt.Fprintf(&said, "the phone:\n%s", w.phone.out) }()
		at := w.drafted()
		seam := w.seams()
		seam.arrange([]Fault{p.Fault}, seam.interrupted, nil)
		code, out := w.run(seam, "sheet", "run", at, "--yes")
		w.plain(out)
		if code == -1 {
			w.locks++
		}
		time.Sleep(10 * time.Minute)
		w.unlocked()
		for n := 0; code != 0; n++ {
			if n == mostResumes {
				w.bad("it does not come to its end")
				return
			}
			if len(w.jobs()) == 0 && n == 0 {
				if _, out := w.run(nil, "jobs"); !strings.Contains(out, "sheet run") {
					code, _ = w.run(nil, "sheet", "run", at, "--yes") // nothing had begun
					continue
				}
			}
			if code, out = w.run(nil, "jobs", "resume", "--yes"); strings.Contains(out,
				"nothing broke off") && code == 0 {
				// only that it ended was not written any more; what it came to is compared with the phone
				break
			}
			w.plain(out)
		}
		time.Sleep(10 * time.Minute)
		now := w.hashes()
		for part, sum := range base.hashes {
			if now[part] != sum {
				w.bad("in the end %s is not what it is after an undisturbed run", part)
			}
		}
		if got := w.mode(); got != base.mode {
			w.bad("in the end it is in %s, undisturbed in %s", got, base.mode)
		}
	})
	if err != nil {
		t.Fatalf("l.sheetWorld(p.Phone, ...): %v", err)
	}
}

// sheetPlans are all places to break off at on a phone: before each record, and at so many instants
// in between; killed at one half, its cable pulled at the other.
func (l *lab) sheetPlans(t *testing.T, phone, instants int) (list []SheetPlan) {
	base, err := l.evening(t, phone)
	if err != nil {
		t.Fatalf("l.evening(phone): %v", err)
	}
	for n := 1; n <= base.records; n++ {
		for _, kind := range []Kind{Kill, Cut} {
			list = append(list, SheetPlan{Phone: phone, Fault: Fault{Kind: kind, Count: n, More: 1}})
		}
	}
	for n := range instants {
		kind := []Kind{Kill, Cut, CtrlC}[n%3]
		list = append(list, SheetPlan{Phone: phone,
			Fault: Fault{Kind: kind, Bytes: 1 + base.bytes*int64(n)/int64(instants),
				More: 1}})
	}
	return list
}

// quirkOf gives every third run a quirk, each in its turn.
func quirkOf(n int) int {
	if n%3 != 0 {
		return 0
	}
	return n / 3 % len(quirks)
}

// someSheetPlans are a seeded sample of them, over all phones.
func (l *lab) someSheetPlans(t *testing.T, seed int64, many int) (list []SheetPlan) {
	h := fnv.New64()
	fmt.Fprint(h, "sheets", seed)
	r := rand.New(rand.NewPCG(h.Sum64(), uint64(seed)))
	names := r.Perm(len(phones))
	for n := range many {
		all := l.sheetPlans(t, names[n%len(names)], 100)
		p := all[r.IntN(len(all))]
		if n%3 == 0 {
			p.Quirk = r.IntN(len(quirks))
		}
		list = append(list, p)
	}
	return slices.Clip(list)
}
