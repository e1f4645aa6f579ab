package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/model"
	"jarlid/internal/standin"
	"jarlid/internal/standin/scenario"
)

// trouble is a bad state and how a phone comes into it: by commands that are run, keys that are pressed and
// faults that are ordered.
type trouble struct {
	name  string
	state string // the one it begins in
	can   func(p practised) bool
	make  func(w *world, r *rand.Rand)
	// unknown says that no model file describes the phone.
	unknown bool
}

func twoSlots(p practised) bool { return p.slots > 1 }

// troubles are all kinds of bad states.
var troubles = []trouble{
	{name: "interrupted anywhere", state: inBootloader, make: func(w *world, r *rand.Rand) {
		w.interrupted(r, []string{"flash", w.kit.Set}, []string{"recovery", "install", w.kit.recovery},
			[]string{"flash", w.kit.Boot}, []string{"wipe", "userdata"})
	}},
	{name: "an install that was interrupted", state: inRecovery, make: func(w *world, r *rand.Rand) {
		w.interrupted(r, []string{"sideload", w.kit.Package}, []string{"wipe", "userdata"},
			[]string{"sideload", w.kit.Package, w.kit.addon}, []string{"put", w.kit.Package, "--to",
				"storage"},
			[]string{"backup", "take", "boot", "-o", filepath.Join(w.dir, "kept")})
	}},
	{name: "the wrong order", state: inBootloader, make: func(w *world, r *rand.Rand) {
		w.does("recovery", "install", w.kit.recovery)
		w.does("go", "recovery")
		if r.IntN(2) == 0 {
			w.does("sideload", w.kit.addon)
		}
		w.does("sideload", w.kit.Package, "--then", "stay")
		if r.IntN(2) == 0 {
			w.does("go", "system", "--wait", "2m")
		}
	}},
	{name: "data of another system", state: inRecovery, make: func(w *world, r *rand.Rand) {
		w.setOverROM()
		if r.IntN(2) == 0 {
			w.does("go", "system", "--wait", "2m")
		}
	}},
	{name: "a message in misc", state: inRecovery, make: func(w *world, r *rand.Rand) {
		w.setOverROM()
		w.does("go", "system", "--wait", "2m")
		w.byKeys()
		if r.IntN(2) == 0 {
			w.does("recovery", "install", w.kit.recovery)
		}
	}},
	{name: "both slots used up", state: inBootloader, can: twoSlots, make: func(w *world, r *rand.Rand) {
		w.does("flash", w.kit.Set)
		w.does("wipe", "vendor@a", "vendor@b")
		w.does("go", "system", "--wait", "40s")
		if r.IntN(2) == 0 {
			w.does("go", "system", "--wait", "40s")
		}
	}},
	{name: "an emptied system", state: inBootloader, make: func(w *world, r *rand.Rand) {
		if r.IntN(2) == 0 {
			w.does("recovery", "install", w.kit.recovery)
			w.does("go", "recovery")
		}
		if w.kit.slots > 1 {
			w.does("wipe", "system@a", "system@b")
		} else {
			w.does("wipe", "part:system")
		}
		if r.IntN(2) == 0 {
			w.does("go", "system", "--wait", "40s")
		}
	}},
	{name: "a recovery that is gone", state: inRecovery, make: func(w *world, r *rand.Rand) {
		home := scenario.PhoneOf(w.name).RecoveryPartition()
		if r.IntN(2) == 0 {
			w.upWithROM()
		}
		w.does("go", phones[w.which].writes)
		if w.kit.slots > 1 {
			w.does("wipe", "part:"+home+"@a", "part:"+home+"@b")
		} else {
			w.does("wipe", "part:"+home)
		}
		if r.IntN(2) == 0 {
			w.does("go", "recovery")
		}
	}},
	{name: "an update not merged", state: inRecovery, can: func(p practised) bool {
		return p.name == "avocet" || p.name == "godwit"
	}, make: func(w *world, r *rand.Rand) {
		w.does("sideload", w.kit.Package, "--then", "stay")
		if r.IntN(2) == 0 {
			w.press(make(chan struct{}), "power-long")
			time.Sleep(10 * time.Second)
			w.press(make(chan struct{}), "power")
			time.Sleep(2 * time.Second) // the merge takes three
		}
		w.byKeys()
	}},
	{name: "a cable out", state: inRecovery, make: func(w *world, r *rand.Rand) {
		w.order("drop", "--after", fmt.Sprint(1+r.Int64N(8<<20)))
		w.does(w.one(r, []string{"sideload", w.kit.Package}, []string{"wipe", "userdata"},
			[]string{"flash", w.kit.Boot})...)
		w.press(make(chan struct{}), "cable-out")
	}},
	{name: "an empty battery", state: inRecovery, make: func(w *world, r *rand.Rand) {
		w.order("battery", "--after", fmt.Sprint(1+r.Int64N(8<<20)))
		w.does(w.one(r, []string{"sideload", w.kit.Package}, []string{"wipe", "userdata"},
			[]string{"put", w.kit.Package, "--to", "storage"}, []string{"flash", w.kit.Boot})...)
	}},
	{name: "a locked bootloader", state: isLocked, can: func(p practised) bool { return p.name != "knot" },
		make: func(w *world, r *rand.Rand) {
			if r.IntN(2) == 0 {
				w.does("recovery", "install", w.kit.recovery)
			}
		}},
	{name: "an unknown model", state: inBootloader, can: func(p practised) bool { return p.name != "knot" },
		make: func(w *world, r *rand.Rand) {
			if r.IntN(2) == 0 {
				w.does("flash", w.kit.Set)
			}
			if r.IntN(2) == 0 {
				w.does("wipe", "part:system"+map[bool]string{true: "@a"}[w.kit.slots > 1])
			}
		}, unknown: true},
}

// does runs a command with everything allowed; it may fail.
func (w *world) does(words ...string) { w.run(nil, append(slices.Clone(words), accepts...)...) }

// byKeys brings the phone by its keys into the mode that images are written in.
func (w *world) byKeys() {
	p := phones[w.which]
	w.press(make(chan struct{}), p.keys[p.writes]...)
}

// setOverROM writes the stock firmware over the ROM's data.
func (w *world) setOverROM() {
	w.upWithROM()
	w.does("go", phones[w.which].writes)
	w.does("flash", w.kit.Set)
}

func (w *world) one(r *rand.Rand, of ...[]string) []string { return of[r.IntN(len(of))] }

// interrupted runs one of some commands, and kills it or presses Ctrl-C.
func (w *world) interrupted(r *rand.Rand, of ...[]string) {
	seam := w.seams()
	f := Fault{Kind: []Kind{Kill, CtrlC, Cut}[r.IntN(3)], More: 1 + r.IntN(2)}
	if r.IntN(2) == 0 && f.Kind != Cut {
		f.Count = 1 + r.IntN(8)
	} else {
		f.Bytes = 1 + r.Int64N(12<<20)
	}
	seam.arrange([]Fault{f}, seam.interrupted, nil)
	if code, _ := w.run(seam, append(w.one(r, of...), accepts...)...); code == -1 {
		w.locks++
	}
}

// upWithROM installs the ROM, and starts it, so that the data is of it.
func (w *world) upWithROM() {
	w.does("sideload", w.kit.Package)
	w.does("go", "system", "--wait", "2m")
	w.does("card")
}

// makeUnknown makes a phone that no model file describes, and its kit.
func (l *lab) makeUnknown(phone int, dir string) (k kit, file string, err error) {
	p := phones[phone]
	b, err := model.Source(p.name)
	if err != nil {
		return k, "", err
	}
	var kept []string
	for line := range strings.Lines(string(b)) {
		key, _, _ := strings.Cut(line, ":")
		switch key {
		case "aliases", "twins":
			continue
		case "model", "  product":
			line = key + ": wader" + p.name + "\n"
		}
		kept = append(kept, line)
	}
	text := strings.Join(kept, "")
	m, err := model.Parse([]byte(text))
	if err != nil {
		return k, "", err
	}
	described, err := standin.Described(m)
	if err != nil {
		return k, "", err
	}
	file = filepath.Join(dir, "wader"+p.name+".yaml")
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		return k, "", err
	}
	k, err = makeKit(filepath.Join(dir, "kit"), described, p.slots)
	return k, file, err
}
