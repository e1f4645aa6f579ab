package e2e

import (
	"maps"
	"regexp"
	"slices"
	"strings"
	"testing"

	"jarlid/internal/core/card"
)

// unknowns are sentences that say a fact is unknown, and the facts that contradict them: any of a name, where
// it has keys. What a sentence says of the moment after a task is about no fact of now.
var unknowns = []struct{ says, fact string }{
	{`does not (tell|report) its processor`, "cpu.abi"},
	{`which programs the phone runs is told by`, "cpu.abi"},
	{`where this phone keeps its recovery`, "partition.size:recovery"},
	{`does not (tell|report) its partitions`, "partition.size"},
	{`the partitions are not told in this mode`, "partition.size"},
	{`no (separate )?vendor partition`, "partition.size:vendor"},
	{`does not tell in this mode how full its battery is`, "battery.percent"},
	{`nobody can tell in this mode whether accounts are signed in`, "accounts"},
	{`nobody can tell in this mode whether the data is`, "data"},
	{`how many slots|whether it has slots`, "slot.count"},
	{`the kernel's version is told by`, "kernel.version"},
	{`nobody can tell which slot starts next`, "slot.next"},
	{`the vendor's manifest says what it offers`, "vintf.manifest"},
	{`no model file describes`, "model from a file"},
}

// disagreeing gives the lines of an output that say a fact is unknown which is on the card.
func disagreeing(out string, facts map[string]card.Fact) (lines []string) {
	for line := range strings.Lines(out) {
		if strings.Contains(line, "(task ") { // of a moment later
			continue
		}
		for _, u := range unknowns {
			if !regexp.MustCompile(u.says).MatchString(line) {
				continue
			}
			for _, name := range slices.Sorted(maps.Keys(facts)) {
				slotless := strings.TrimSuffix(strings.TrimSuffix(name, "_a"), "_b")
				if (slotless == u.fact || strings.HasPrefix(name, u.fact+":")) && facts[name].Known() {
					lines = append(lines, strings.TrimSpace(line)+" | "+name+" is "+facts[name].Value)
				}
			}
		}
	}
	return lines
}

// TestUnknownIsUnknown: in every mode of every stand-in, nothing is called unknown that the card shows.
func TestUnknownIsUnknown(t *testing.T) {
	if got := disagreeing("warn  wrong-arch: and the phone does not tell its processor in this mode\n",
		map[string]card.Fact{"cpu.abi": {Value: "arm64-v8a", Source: card.Read}}); len(got) != 1 {
		t.Fatalf("a sentence that contradicts the card is not found: %q", got)
	}
	cases := map[string]func(*lab){}
	for _, k := range kinds {
		cases[k.name] = func(l *lab) {
			kit := kitOf(l.T, k.name, k.slots)
			l.standin(k.name, "--mode", "system")
			look := func(where string) {
				l.Helper()
				var c struct{ Facts map[string]card.Fact }
				l.result(0, &c, "card")
				for _, cmd := range [][]string{{"card"}, {"fit", kit.more.GSI}, {"flash", kit.more.Set,
					"--dry-run"},
					{"sideload", kit.more.Package, "--dry-run"}, {"recovery", "install", kit.recovery,
						"--dry-run"},
					{"wipe", "userdata", "--dry-run"}, {"flash", kit.more.GSI, "--into", "system",
						"--dry-run"},
					{"sideload", kit.more.Addons[0], "--dry-run"}, {"slot"}} {
					_, out := l.run(cmd...)
					for _, line := range disagreeing(out, c.Facts) {
						l.Errorf("%s %s, jarlid %s: %s", k.name, where, strings.Join(cmd, " "), line)
					}
				}
			}
			l.allowing(k.name, func() { look("in its system") })
			l.did(k.name, "", nil, "go", "bootloader", "--yes")
			look("in its bootloader")
			l.inRecovery(k.name, kit.recovery)
			look("in its recovery")
			if slices.Contains(k.modes, "fastbootd") {
				l.want(0, nil, "go", "fastbootd", "--yes")
				look("in userspace fastboot")
			}
		}
	}
	for seed := range 10 {
		u := undescribedOf(seed)
		cases[u.name()] = func(l *lab) {
			l.standin(l.file(u.name()+".yaml", []byte(u.file())), "--usb")
			if u.first == "system" {
				l.byOwner(u, "card") // allows this computer
			}
			var c struct{ Facts map[string]card.Fact }
			l.result(0, &c, "card")
			gsi := l.beside(gsiFolder() + "/" + generics["arm64"])[0]
			for _, cmd := range [][]string{{"card"}, {"fit", gsi}, {"flash", gsi, "--into", "system",
				"--dry-run"},
				{"wipe", "userdata", "--dry-run"}, {"slot"}} {
				_, out := l.run(cmd...)
				for _, line := range disagreeing(out, c.Facts) {
					l.Errorf("%s, jarlid %s: %s", u.name(), strings.Join(cmd, " "), line)
				}
			}
		}
	}
	some(t, 2, cases)
}
