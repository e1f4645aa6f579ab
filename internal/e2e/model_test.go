package e2e

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"jarlid/internal/core/card"
	"jarlid/internal/core/describe"
	"jarlid/internal/core/model"
	"jarlid/internal/link/usb"
	"jarlid/internal/link/usb/soft"
	"jarlid/internal/standin"
	"jarlid/internal/standin/scenario"
)

// TestModelFiles: a colleague's files are taken as a whole or not at all, describe and command nothing, and
// are compared with phones; a model of a set and a saved card names both.
func TestModelFiles(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		kit := kitOf(t, "avocet", 2)
		l.standin("avocet", "--mode", "bootloader")
		saved, draft := filepath.Join(l.dir, "avocet.json"), filepath.Join(l.dir, "d.yaml")
		l.want(0, nil, "card", "--save", saved)
		l.want(0, []string{"radio", "the set demands version-bootloader 1.4 or 1.5",
			"avocet.json: its saved card"},
			"model",
			"draft", saved, kit.more.Set, "-o", draft)
		l.want(2, []string{"is there already"}, "model", "draft", "-o", draft)
		l.want(0, []string{"dry run"}, "model", "draft", "-o", draft, "--dry-run")
		l.want(1, []string{"avocet.json is about avocet and wickerlight-9.1-dunlin-firmware.zip about " +
			"dunlin"}, "model",
			"draft", saved, kitOf(t, "dunlin", 2).more.Set, "-o", draft+"2")
		l.want(2, []string{"--slots is 1 or 2"}, "model", "draft", kit.more.Set, "--slots", "3")
		l.want(1, []string{"is no firmware set"}, "model", "draft", kit.recovery)
		l.want(4, nil, "model", "draft", "nowhere")
		l.want(0, []string{"compared with avocet; ", " 0 contradicted"}, "model", "check", draft)
		text := string(must(os.ReadFile(draft)))
		bad := filepath.Join(l.dir, "bad.yaml")
		write(l, bad, []byte(strings.Replace(text, "slots: 2", "slots: 1", 1)))
		l.want(6, []string{"warn  slots is 1 in the file and 2 on the phone"}, "model", "check", bad)
		// Files that would command, or that take another model's name: none of the folder is kept.
		folder := filepath.Join(l.dir, "from a colleague")
		if err := os.Mkdir(folder, 0o755); err != nil {
			t.Fatalf("os.Mkdir(%q): %v", folder, err)
		}
		plover := filepath.Join(folder, "a.yaml")
		write(l, plover, []byte("model: plover\nquirks: [\"beware \\e[2Jof this\"]\n"))
		for content, says := range map[string]string{
			"model: x\nbootloader: {unlock: oem " +
				"format}\n": `"oem format" is not one of flashing unlock, oem unlock`,
			"model: x\nfirmware: [\"a;reboot\"]\n": `"a;reboot" is not a partition's name`,
			"model: x\naliases: [WL-DU]\n":         "so does the one of dunlin",
			"model: plover\n":                      "two files of",
			"model: [":                             "b.yaml",
		} {
			write(l, filepath.Join(folder, "b.yaml"), []byte(content))
			code, out := l.run("model", "add", folder)
			if code == 0 || !strings.Contains(out, says) {
				t.Errorf("model add of %q ended with %d and does not say %q:\n%s", content, code, says, out)
			}
		}
		if err := os.Remove(filepath.Join(folder, "b.yaml")); err != nil {
			t.Fatalf("os.Remove: %v", err)
		}
		l.want(2, []string{"no model, and no model file, \"plover\""}, "model", "show", "plover")
		l.want(0, []string{"plover: kept"}, "model", "add", folder)
		if out := l.want(0, []string{"beware"}, "model", "show", "plover"); strings.Contains(out, "\x1b[2J") {
			t.Errorf("a model file clears the screen: %q", out)
		}
		l.want(2, []string{"is a model file for plover already"}, "model", "add", plover)
		l.want(0, nil, "model", "add", plover, "--over")
		// A phone that is away is known by its jobs.
		l.want(0, nil, "recovery", "install", kit.recovery, "--yes")
	})
}

// TestPractise: a phone of which there is nothing but its firmware set can be practised on today.
func TestPractise(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		kit := kitOf(t, "dunlin", 2)
		file := filepath.Join(l.dir, "practice.yaml")
		l.want(1, []string{"needs its number of slots: --slots 1 or --slots 2"}, "standin", "draft",
			kit.more.Set)
		l.want(0, []string{"next  jarlid standin run"}, "standin", "draft", kit.more.Set, "--slots", "2",
			"-o", file)
		m := must(model.Parse(must(os.ReadFile(file))))
		if m.Name != "dunlin" || m.Slots != 2 {
			t.Fatalf("the set's model is %s with %d slots", m.Name, m.Slots)
		}
		l.standin(file, "--usb", "--mode", "bootloader")
		l.want(0, []string{"would write"}, "recovery", "install", kit.recovery, "--dry-run")
		l.want(0, nil, "recovery", "install", kit.recovery, "--yes")
		l.did("dunlin", "", []string{"Tideline Recovery 3.1 is running"}, "go", "recovery", "--yes")
	})
}

// TestKeysAsked: which keys bring a phone into a mode is asked once, shown the next time, and part of its
// model file; without an answer it is not asked again.
func TestKeysAsked(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		u := undescribedOf(0) // whose loader knows no reboot
		l.standin(l.file(u.name()+".yaml", []byte(u.file())), "--usb")
		tech := l.other("technician")
		tech.want(0, nil, "bench", "name", "usb:1-1", u.name())
		recovery := l.file("tideline.img", must(scenario.Recovery(scenario.Tideline,
			must(standin.Described(must(model.Parse([]byte(u.file()))))))))
		tech.want(0, nil, "recovery", "install", recovery, "--yes")
		out := tech.byOwnerSaying(u, "hold power\x1b[2J and up\n", "go", "recovery")
		if !strings.Contains(out, "Which keys or entries did that?") {
			t.Fatalf("the keys are not asked for:\n%s", out)
		}
		tech.byOwnerSaying(u, "\n", "go", "loader")
		again := tech.byOwnerSaying(u, "", "go", "recovery")
		if strings.Contains(again, "Which keys") || !strings.Contains(again, "hand  hold power [2J and up") {
			t.Errorf("the keys are asked for again, or not shown:\n%s", again)
		}
		if out := tech.byOwnerSaying(u, "", "go", "loader"); strings.Contains(out, "Which keys") {
			t.Errorf("what was not answered is asked again:\n%s", out)
		}
		tech.want(0, []string{"hands.recovery", "hold power"}, "model", "draft", "-o", filepath.Join(l.dir,
			"m.yaml"))
	})
}

// TestIdentity: numbers that identify nothing are no phone's name; a bootloader that calls itself otherwise
// is another phone, and nothing of the first is taken for the second.
func TestIdentity(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		u := undescribedOf(1)
		text := u.file()
		stand := func(file string) *phone {
			return l.standin(l.file(u.name()+".yaml", []byte(file)), "--usb")
		}
		nameless := strings.Replace(text, "serial: WL-W-1", "serial: 0123456789ABCDEF", 1)
		p := stand(nameless)
		tech := l.other("technician")
		var c struct{ Facts map[string]card.Fact }
		tech.result(0, &c, "card")
		if f := c.Facts["serial"]; f.Known() || !strings.Contains(f.Why, "0123456789ABCDEF") {
			t.Errorf("its serial number is %+v", f)
		}
		tech.want(0, []string{"usb:1-1"}, "bench")
		tech.want(0, nil, "recovery", "install", files.Recovery, "--yes", "--accept", "wrong-model")
		tech.want(0, []string{"recovery_a"}, "jobs", "show", "1")
		p.kill()
		// Another phone in the same socket, without a number too.
		other := strings.NewReplacer("model: "+u.name(), "model: dotterel").Replace(nameless)
		l.standin(l.file("dotterel.yaml", []byte(other)), "--usb")
		tech.want(0, []string{"calls itself dotterel now and " + u.name() + " in an earlier job"}, "card")
		tech.result(0, &c, "card")
		for name, f := range c.Facts {
			if f.Source == card.Journal {
				t.Errorf("%s of the other phone is known: %+v", name, f)
			}
		}
	})
}

// TestSharedNumber: two phones that reported one number are known by their sockets from then on.
func TestSharedNumber(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		plug := func(port string) func() {
			return l.bus.PlugAt(port, soft.NewDevice(soft.Gadget{Serial: "WL-SAME",
				Functions: []soft.Function{soft.Phone(usb.ProtocolFastboot)}}))
		}
		one, two := plug("1-1"), plug("1-2")
		l.run("bench")
		two()
		if out := string(must(os.ReadFile(filepath.Join(l.home, "bench.yaml")))); !strings.Contains(out,
			"WL-SAME") {
			t.Errorf("that the number is shared is not kept:\n%s", out)
		}
		one()
	})
}

// TestRefusedAgain: what a bootloader refused is tried again once its version is another one.
func TestRefusedAgain(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		u := undescribedOf(1)
		u.lacks = "boot"
		text := strings.Replace(u.file(), "  max-download:", "  variables: {version-bootloader: \"1.0\"}\n "+
			" max-download:", 1)
		file := l.file(u.name()+".yaml", []byte(text))
		p := l.standin(file, "--usb")
		tech := l.other("technician")
		tech.run("recovery", "try", files.Recovery, "--yes", "--accept", "wrong-model")
		refused := func() string {
			var c struct{ Facts map[string]card.Fact }
			tech.result(0, &c, "card")
			return c.Facts["bootloader.command:boot"].Value
		}
		if got := refused(); got != "no" {
			t.Errorf("the refused command is remembered as %q", got)
		}
		var c struct{ Facts map[string]card.Fact }
		tech.result(0, &c, "card")
		if f := c.Facts["bootloader.variable:variant"]; f.Value != "no" || f.Source != card.Journal {
			t.Errorf("a variable that was refused in a job is %+v, and is asked for again", f)
		}
		p.kill()
		write(l, file, []byte(strings.Replace(text, `"1.0"`, `"1.1"`, 1)))
		l.standin(file, "--usb")
		tech.result(0, &c, "card")
		if f := c.Facts["bootloader.variable:variant"]; f.Source != card.Read {
			t.Errorf("with another bootloader a refused variable is not asked for: %+v", f)
		}
		if got := refused(); got != "" {
			t.Errorf("with another bootloader the command is remembered as %q", got)
		}
	})
}

// TestModelsAgree compares each line of the built-in model files with what their stand-ins show in their
// modes.
func TestModelsAgree(t *testing.T) {
	// What no phone reports: names people use, what only a set states, and what a person does.
	silent := []string{"aliases", "firmware", "base.variable", "base.min", "hands.", "order",
		"facts.treble", "facts.first.stage", "bootloader.lacks", "bootloader.unlock", "loader.usb"}
	cases := map[string]func(*lab){}
	for _, k := range kinds {
		cases[k.name] = func(l *lab) {
			kit := kitOf(l.T, k.name, k.slots)
			l.standin(k.name, "--mode", "system")
			l.allowing(k.name, func() { l.did(k.name, "", nil, "go", "bootloader", "--yes") })
			l.inRecovery(k.name, kit.recovery)
			l.want(0, nil, "backup", "take", "misc", "-o", filepath.Join(l.dir,
				"kept")) // a job keeps what was read
			if slices.Contains(k.modes, "fastbootd") {
				l.want(0, nil, "go", "fastbootd", "--yes")
			}
			var r struct{ Lines []describe.Checked }
			l.result(0, &r, "model", "check", k.name)
			confirmed := 0
			for _, c := range r.Lines {
				quiet := slices.ContainsFunc(silent, func(s string) bool {
					return strings.HasPrefix(c.Key,
						s)
				})
				switch {
				case c.State == describe.Confirmed:
					confirmed++
				case c.State == describe.Missing, quiet:
				case k.name == "turnstone" &&
					c.Key == "facts.api.first": // its system is older than the property
				case c.State == describe.Unconfirmed && c.Key == "userspace-fastboot" && c.Value == "no":
					// nothing but a trial shows that it has none
				default:
					l.Errorf("%s: %s %s is %s (%s %s)", k.name, c.Key, c.Value, c.State, c.Known, c.Why)
				}
			}
			if confirmed < 4 {
				l.Errorf("only %d lines of %s are confirmed: %+v", confirmed, k.name, r.Lines)
			}
		}
	}
	some(t, 1, cases)
}
