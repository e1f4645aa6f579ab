package e2e

import (
	"bytes"
	"os"
	"strings"
	"testing"

	"jarlid/internal/standin/scenario"
)

// broken makes sure that a job that met a fault says so, in its end and in its
// journal, and claims nothing.
func (l *lab) broken(code int, out string) {
	l.Helper()
	if code != 5 && code != 1 {
		l.Fatalf("it ended with %d:\n%s", code, out)
	}
	job := l.lastJournal()
	if end := job[len(job)-1]; end.Event != "end" || end.Error == "" {
		l.Errorf("the journal's end says %q, %q", end.Event, end.Error)
	}
	begun, done := len(job[0].Steps), 0
	for _, r := range job {
		switch r.Event {
		case "done":
			done++
		case "act":
			begun = max(begun, r.Step)
		}
	}
	if done >= begun {
		l.Errorf("all %d steps are said to be done:\n%s", done, out)
	}
}

// TestFaults walks the faults on every kind of phone: the cable is pulled at every
// tenth of a write and of each pass of a package and at each command in between, the
// battery dies, the recovery says that it failed, the storage is full. Each time the journal
// says what is so, and the same command done again ends well.
func TestFaults(t *testing.T) {
	t.Parallel()
	for _, k := range kinds {
		t.Run(k.name, func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				kit := kitOf(t, k.name, k.slots)
				l.standin(k.name)
				if k.name == "godwit" {
					l.want(0, nil, "flash", kit.more.Overlay, "--into", "@both", "--yes")
				}
				set := []string{"recovery", "install", kit.recovery, "--yes"}
				size := must(os.Stat(kit.recovery)).Size()
				for _, tenth := range sample(t, 1, 10, 3) {
					l.fault(k.name, "drop", int64(k.slots)*size*tenth/10)
					code, out := l.run(set...)
					l.broken(code, out)
				}
				// Every command on the way, until there are none left to drop.
				pulled := 0
				for after := int64(4); ; after += stride(t) {
					l.fault(k.name, "drop-next", after)
					before := len(l.journals())
					code, out := l.run(set...)
					if code == 0 && (pulled > 0 || after > 40) {
						break
					}
					if code != 0 && len(l.journals()) > before {
						// else it was lost while it was checked: nothing had begun
						l.broken(code, out)
						pulled++
					}
					if after > 200 {
						t.Fatal("it never ends well")
					}
				}
				if *whole && pulled == 0 {
					t.Error("no step was ever broken off")
				}
				l.fault(k.name, "clear", 0)
				want := must(os.ReadFile(kit.recovery))
				holding := "both"
				if k.home == "boot" {
					holding = "a" // the recovery goes into what is there, and slot b is empty
				}
				for _, p := range onSlots(k.home, k.slots, holding) {
					if !bytes.HasPrefix(l.stored(k.name, p), want) {
						t.Errorf("%s does not hold the recovery", p)
					}
				}
				if k.name == "turnstone" {
					l.later(k.name, "volume-up+power")
				}
				l.want(0, nil, "go", "recovery")
				l.want(0, nil, "wipe", "userdata", "--yes")

				l.fault(k.name, "full", 0)
				l.want(3, []string{"stop  no-room"}, "put", kit.more.Package, "--to", "storage", "--yes")
				l.fault(k.name, "clear", 0)

				rom := must(os.Stat(kit.more.Package)).Size()
				send := []string{"sideload", kit.more.Package, "--yes", "--then", "stay"}
				passes := int64(2)
				if k.slots == 1 && k.name == "turnstone" {
					passes = 1
				}
				next := func() string {
					var c struct {
						Facts map[string]struct{ Value string }
					}
					l.result(0, &c, "card")
					return c.Facts["slot.next"].Value
				}
				before := next()
				for _, tenth := range sample(t, 1, 10*passes, 3) {
					l.fault(k.name, "drop", rom*tenth/10)
					code, out := l.run(send...)
					l.broken(code, out)
					if got := next(); got != before {
						t.Errorf("after a cable that was pulled slot %s is next, it was %s", got, before)
					}
				}
				l.fault(k.name, "fail-at-end", 0)
				code, out := l.run(send...)
				l.broken(code, out)
				if got := next(); got != before {
					t.Errorf("after an install that failed slot %s is next, it was %s", got, before)
				}
				l.fault(k.name, "battery", rom*passes*3/4)
				code, out = l.run(send...)
				l.broken(code, out)
				l.press(k.name, "charge", "volume-up+power")
				l.untilMode(k.name, "recovery")
				// And all of it again, without a fault.
				l.want(0, nil, send...)
				system := onSlots("system", k.slots, "both")
				image := must(scenario.Images(scenario.Saltmarsh, kit.phone))["system"]
				if k.name != "avocet" && !bytes.HasPrefix(l.stored(k.name, system[len(system)-1]), image) {
					t.Error("the system is not the package's")
				}
				if k.slots > 1 && next() != "b" {
					t.Error("slot b is not next")
				}
				l.want(0, nil, "go", "system", "--wait", "1s", "--yes")
				l.did(k.name, "", []string{"Saltmarsh OS 4.2 is up"}, "arrive", "--wait", "60s")
			})
		})
	}
}

// TestLostRestart: the connection breaks as the phone is told to restart, so that it never hears of it. It is
// told again where it shows up as it was, and what is said of it is so.
func TestLostRestart(t *testing.T) {
	for _, c := range []struct {
		phone, from, to, fault string
		args                   []string
	}{
		{"dunlin", "bootloader", "system", "drop-next", []string{"--wait", "1s"}},
		{"dunlin", "bootloader", "recovery", "drop-next", nil},
		{"dunlin", "recovery", "system", "drop-next", []string{"--wait", "1s"}},
		{"dunlin", "recovery", "bootloader", "drop-next", nil},
		{"dunlin", "recovery", "sideload", "drop-next", nil},
		{"turnstone", "recovery", "system", "drop-next", []string{"--wait", "90s"}},
		{"knot", "loader", "system", "drop", []string{"--wait", "1s"}},
		{"knot", "recovery", "system", "drop-next", []string{"--wait", "1s"}},
	} {
		t.Run(c.phone+" "+c.from+" "+c.to, func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				l.standin(c.phone)
				if c.from == "recovery" {
					l.did(c.phone, "", nil, "recovery", "install",
						kitOf(t, c.phone, map[string]int{"dunlin": 2, "turnstone": 1,
							"knot": 1}[c.phone]).recovery, "--yes")
					l.did(c.phone, "", nil, "go", "recovery", "--yes")
				}
				out := l.atLine("restarting into "+c.to, func() {
					l.want(0, nil, "standin", "fault", c.phone, c.fault)
				}, 0, append([]string{"go", c.to, "--yes"}, c.args...)...)
				l.until("the phone gets there", func() bool { return l.mode(c.phone) == c.to })
				if c.fault == "drop-next" && !strings.Contains(out, "is sent on into "+c.to) {
					// else it may have heard it
					t.Errorf("it was not told again\n%s", out)
				}
			})
		})
	}
}
