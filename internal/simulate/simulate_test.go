package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jarlid/internal/journal"
	"jarlid/internal/standin/standintest"
)

var shared, cabled *lab

func TestMain(m *testing.M) {
	os.Exit(func() int {
		standintest.Light()
		dir, err := os.MkdirTemp("", "jarlid-simulate-")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(dir)
		shared, cabled = newLab(dir), newLab(filepath.Join(dir, "cabled"))
		cabled.cable = true
		return m.Run()
	}())
}

// TestTenSeeds: ten runs, each with a seed of its own.
func TestTenSeeds(t *testing.T) {
	for seed := range int64(10) {
		t.Run(plan(seed+1, 0).String(), func(t *testing.T) {
			t.Parallel()
			shared.run(t, plan(seed+1, 0), false)
		})
	}
}

// TestOnCables: some runs with the phone on a cable, and an evening whose cable is pulled as the phone is
// told to restart, which found that it was taken to have heard of it.
func TestOnCables(t *testing.T) {
	// a program killed behind its greeting left a phone that heard no other any more
	plans := []Plan{plan(88, 286)}
	for seed := range int64(4) {
		plans = append(plans, plan(seed+1, 1))
	}
	for _, p := range plans {
		t.Run(p.String(), func(t *testing.T) {
			t.Parallel()
			cabled.run(t, p, false)
		})
	}
	p := SheetPlan{Phone: 1, Fault: Fault{Kind: Cut, Count: 7, More: 1}, Quirk: 3}
	t.Run(p.String(), func(t *testing.T) {
		t.Parallel()
		cabled.sheet(t, p, false)
	})
}

// found are runs that failed once, before what they found was mended.
var found = []struct {
	seed int64
	n    int
}{
	{1, 336},  // a move that was made before the journal could say so: the repeat found nothing to move
	{1, 433},  // what was started has a recovery that does not listen
	{1, 819},  // a cut cable told in the words of a library
	{1, 1215}, // a ROM installed again from the slot that is not next lands in another recovery
}

// TestFound runs them again.
func TestFound(t *testing.T) {
	for _, f := range found {
		t.Run(plan(f.seed, f.n).String(), func(t *testing.T) {
			t.Parallel()
			shared.run(t, plan(f.seed, f.n), false)
		})
	}
}

// TestPlan: a run is the same each time, and every story and fault comes up.
func TestPlan(t *testing.T) {
	stories2, faults := map[int]bool{}, map[Kind]bool{}
	for n := range 400 {
		p := plan(7, n)
		if p.String() != plan(7, n).String() {
			t.Fatalf("%v and %v", p, plan(7, n))
		}
		stories2[p.Story] = true
		for _, f := range p.Faults {
			faults[f.Kind] = true
		}
	}
	if len(stories2) != len(stories) || len(faults) != len(kinds) {
		t.Errorf("%d of %d stories, %d of %d faults", len(stories2), len(stories), len(faults), len(kinds))
	}
}

// TestChecksCanFail: each check finds what it is there for.
func TestChecksCanFail(t *testing.T) {
	flash := Plan{Story: 0, Phone: 2}
	dir := t.TempDir()
	state, err := shared.prepared(t, flash.Phone, inBootloader)
	if err != nil {
		t.Fatalf("shared.prepared(flash.Phone, inBootloader): %v", err)
	}
	k, err := shared.kit(flash.Phone)
	if err != nil {
		t.Fatalf("shared.kit(flash.Phone): %v", err)
	}
	base, err := shared.baseline(t, flash)
	if err != nil {
		t.Fatalf("shared.baseline(flash): %v", err)
	}
	if err := copyTree(state, dir); err != nil {
		t.Fatalf("copyTree(state, %v): %v", dir, err)
	}
	shared.inBubble(t, dir, "dunlin", k, func(w *world) {
		var said []string
		w.complain = func(text string) { said = append(said, text) }
		complains := func(what, about string, check func()) {
			t.Helper()
			said = nil
			check()
			if (about == "") != (len(said) == 0) || !strings.Contains(strings.Join(said, "\n"), about) {
				t.Errorf("%s: it complains %q, want one about %q", what, said, about)
			}
		}
		if err := w.start(); err != nil {
			t.Fatalf("w.start(): %v", err)
		}
		w.settle(inBootloader)
		if code, out := w.run(nil, w.words(stories[0])...); code != 0 {
			t.Fatalf("%s; unwanted: code != 0", out)
		}
		complains("what was written", "", w.holdsWhatItSays)
		held := w.hashes()
		complains("a damaged file that is refused", "", func() { w.untouched(3, len(w.jobs()), held) })
		complains("a damaged file that is written", "acted", func() { w.untouched(3, len(w.jobs())-1, held) })
		complains("done with a damaged file", "done with", func() { w.untouched(0, len(w.jobs()), held) })
		held["boot_a"]++
		complains("a phone that was changed", "was changed for", func() {
			w.untouched(3, len(w.jobs()), held)
		})
		boot := filepath.Join(w.at(), "partitions", "boot_a.img")
		f, err := os.OpenFile(boot, os.O_RDWR, 0)
		if err != nil {
			t.Fatalf("os.OpenFile(boot, os.O_RDWR, 0): %v", err)
		}
		if _, err := f.WriteAt([]byte("x"), 5000); err != nil {
			t.Fatalf("f.WriteAt([]byte('x'), 5000): %v", err)
		}
		f.Close()
		complains("another byte", "says that boot_a holds what was sent", w.holdsWhatItSays)
		complains("words of a library", "a person reads", func() {
			w.plain("fail  read tcp: use of closed network connection")
		})
		complains("our own words", "", func() { w.plain("fail  the connection ended") })
		complains("the repeat mends it", "", func() { w.again(stories[0], base) })
		other := base
		other.code = 7
		complains("another end", "the repeat ends with 0, undisturbed it is 7", func() {
			w.again(stories[0], other)
		})
		other = base
		other.hashes = map[string]uint64{"vendor_a": 0}
		complains("another byte somewhere", "after the repeat vendor_a is not", func() {
			w.again(stories[0], other)
		})
		complains("nothing is locked", "", w.unlocked)
		// An act that nothing is said of.
		log, err := journal.Create(w.home(), "somebody-else", nil)
		if err != nil {
			t.Fatalf("journal.Create(w.home(), 'somebody-else'): %v", err)
		}
		for _, r := range []journal.Record{{Event: journal.Begin, Phone: "somebody-else"},
			{Event: journal.Act, Step: 1, Title: "write"}} {
			if err := log.Write(r); err != nil {
				t.Fatalf("log.Write(r): %v", err)
			}
		}
		log.Close()
		complains("an act nobody knows of", "nothing says so", func() { w.journaled(1, 0) })
	})
}

// TestSheets: a whole evening that was interrupted ends as one that nothing happened to, when it was gone
// on with: a seeded sample. go run ./internal/simulate -sheets takes every place.
func TestSheets(t *testing.T) {
	for _, p := range shared.someSheetPlans(t, 3, 1) {
		t.Run(p.String(), func(t *testing.T) {
			t.Parallel()
			shared.sheet(t, p, false)
		})
	}
}

// TestWalks: who does what is advised, and nothing more, comes to a running system. Four a day, in
// turn; go run ./internal/simulate -walks 40 takes all of them, and others.
func TestWalks(t *testing.T) {
	day := int(time.Now().Unix() / (24 * 60 * 60))
	for i := range 4 {
		c := circles[(4*day+i)%len(circles)]
		p := walkOf(c.seed, c.n)
		t.Run(p.String(), func(t *testing.T) {
			t.Parallel()
			shared.walk(t, p, false)
		})
	}
}
