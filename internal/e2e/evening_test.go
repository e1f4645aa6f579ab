package e2e

import (
	"bufio"
	"errors"
	"io"
	"os/exec"
	"strings"
	"testing"
	"time"

	"jarlid/internal/standin/scenario"
)

// owner runs jarlid with somebody at the phone who does what it asks for: what to
// press stands behind a piece of the text that asks. answers are typed.
func (l *lab) owner(phone string, answers string, does map[string][]string, args ...string) (int, string) {
	l.Helper()
	cmd := l.command(args...)
	cmd.Stdin = strings.NewReader(answers)
	out, err := cmd.StdoutPipe()
	if err != nil {
		l.Fatal(err)
	}
	cmd.Stderr = cmd.Stdout
	if err := cmd.Start(); err != nil {
		l.Fatal(err)
	}
	done := make(chan struct{})
	defer time.AfterFunc(90*time.Second, func() { cmd.Process.Kill() }).Stop()
	var text strings.Builder
	r := bufio.NewReader(out)
	for {
		line, err := r.ReadString('\n')
		text.WriteString(line)
		for asks, keys := range does {
			if strings.HasPrefix(line, "hand  ") && strings.Contains(line, asks) {
				go l.pressing(done, phone, keys)
			}
		}
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			l.Fatal(err)
		}
	}
	err = cmd.Wait()
	close(done)
	if cmd.ProcessState.ExitCode() < 0 {
		l.Fatalf("jarlid %s did not end:\n%s", strings.Join(args, " "), text.String())
	}
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return exit.ExitCode(), text.String()
	}
	if err != nil {
		l.Fatal(err)
	}
	return 0, text.String()
}

// pressing presses keys one after the other, each as soon as the phone takes it.
func (l *lab) pressing(done chan struct{}, phone string, keys []string) {
	time.Sleep(300 * time.Millisecond) // nobody is faster
	for _, k := range keys {
		for l.command("standin", "press", phone, k).Run() != nil {
			select {
			case <-done:
				return
			case <-time.After(100 * time.Millisecond):
			}
		}
	}
}

// menus are what the owner does for each thing asked for.
var menus = map[string][]string{
	"From the computer":     {"apply update", "from the computer"},
	`choose "Recovery"`:     {"volume-up+power"},
	"hold volume up":        {"volume-up+power"},
	"From the card":         {"apply update", "from the card"},
	`switch "Debugging" on`: {"finish welcome", "debugging on", "allow"},
	`answer "Allow"`:        {"allow"},
	"choose \"Format data":  {"wipe", "format data"},
	"wipes the caches":      {"wipe", "wipe caches"},
	"old volume down":       {"volume-down+power"},
	"Press power for":       {"start"},
	"question on the phone": {"yes"},
}

// did runs jarlid with the owner at the phone and wants it to end well.
func (l *lab) did(phone, answers string, texts []string, args ...string) string {
	l.Helper()
	code, out := l.owner(phone, answers, menus, args...)
	if code != 0 {
		l.Fatalf("jarlid %s ended with %d:\n%s", strings.Join(args, " "), code, out)
	}
	for _, s := range texts {
		if !strings.Contains(out, s) {
			l.Fatalf("jarlid %s does not say %q:\n%s", strings.Join(args, " "), s, out)
		}
	}
	return out
}

// addons gives two add-ons for a phone, signed by who makes the ROM, so that its
// own recovery takes them too.
func (l *lab) addons(p scenario.Phone) (string, string) {
	shore, sheet := scenario.Shoreline, scenario.Countsheet
	shore.ABI, shore.Signer = p.ABI, "saltmarsh"
	return l.file("shoreline.zip", must(shore.Package())), l.file("countsheet.zip", must(sheet.Package()))
}

// firstStart starts the new system, watches it arrive, and puts the observers' apps
// onto it.
func (l *lab) firstStart(name, says string) {
	l.Helper()
	l.want(0, nil, "go", "system", "--wait", "1s", "--yes")
	l.did(name, "", []string{"it is what was installed", says + " is up"}, "arrive", "--wait", "60s")
	log := l.file("fieldlog.apk", must(scenario.FieldLog.Package()))
	tide := l.file("tidetool.apk", must(scenario.TideTool.Package()))
	if scenario.PhoneOf(name).ABI == scenario.TideTool.ABI {
		l.want(0, []string{"installed: fieldlog.apk, tidetool.apk"}, "app", log, tide)
	} else {
		l.want(3, []string{"stop  wrong-arch"}, "app", log, tide)
		l.want(5, []string{"its programs are for another processor (Failure [INSTALL_FAILED_NO_MATCHING_ABIS"}, "app", tide, "--accept", "wrong-arch")
		l.want(0, []string{"installed: fieldlog.apk"}, "app", log)
	}
	newer := scenario.FieldLog
	newer.MinSDK = 99
	l.want(3, []string{"stop  wrong-system-version"}, "app", l.file("newer.apk", must(newer.Package())))
	l.want(3, []string{"stop  not-an-app"}, "app", l.file("no.txt", []byte("a text\n")))
}

// TestEvenings does the whole evening on each phone with slots: format, ROM,
// restart, two add-ons, first start, apps.
func TestEvenings(t *testing.T) {
	t.Run("dunlin", func(t *testing.T) {
		l := newLab(t)
		l.standin("dunlin")
		shore, sheet := l.addons(dunlin)
		l.inRecovery("dunlin", files.Recovery)
		l.want(0, nil, "wipe", "userdata", "--yes")
		l.want(0, []string{"slot b starts next"}, "sideload", files.Package, shore, sheet, "--yes")
		l.firstStart("dunlin", "Saltmarsh OS 4.2")
		var r struct {
			Stage, Version, Build, Slot, Matches string
			Patch                                string `json:"security_patch"`
		}
		l.result(0, &r, "arrive")
		if r.Stage != "finished" || r.Version != "Saltmarsh OS 4.2" || r.Build != "SM42.260512" || r.Slot != "b" || r.Matches != "yes" || r.Patch != "2026-05-01" {
			t.Errorf("%+v", r)
		}
	})
	t.Run("godwit, its recovery tried", func(t *testing.T) {
		l := newLab(t)
		kit := kitOf(t, "godwit", 2)
		l.standin("godwit")
		shore, sheet := l.addons(kit.phone)
		l.want(0, nil, "flash", kit.more.Overlay, "--into", "@both", "--yes")
		l.want(0, nil, "recovery", "try", kit.recovery, "--yes")
		l.want(0, nil, "wipe", "userdata", "--yes")
		// A restart would end it, so it is put into sideload mode from its menu.
		l.did("godwit", "", []string{"written nowhere and would be gone"}, "sideload", kit.more.Package, "--then", "stay", "--yes")
		l.want(0, nil, "go", "bootloader", "--yes")
		l.want(0, nil, "flash", kit.more.Overlay, "--into", "@b", "--yes") // the ROM brought the maker's
		l.want(0, nil, "recovery", "try", kit.recovery, "--yes")
		l.did("godwit", "", nil, "sideload", shore, sheet, "--yes")
		l.firstStart("godwit", "Saltmarsh OS 4.2")
	})
	t.Run("godwit, its recovery set", func(t *testing.T) {
		l := newLab(t)
		kit := kitOf(t, "godwit", 2)
		l.standin("godwit")
		shore, sheet := l.addons(kit.phone)
		l.want(0, nil, "flash", kit.more.Overlay, "--into", "@both", "--yes")
		l.want(0, nil, "recovery", "try", kit.recovery, "--yes")
		l.want(0, []string{"boot_a written"}, "recovery", "set", kit.recovery, "--yes")
		l.want(0, nil, "go", "recovery")
		l.want(0, nil, "wipe", "userdata", "--yes")
		// The ROM brings the maker's overlays, which the recovery would stay black over: it
		// goes into the ROM's own boot image, the overlays before it.
		l.want(0, nil, "sideload", kit.more.Package, "--then", "stay", "--yes")
		l.want(0, nil, "go", "bootloader", "--yes")
		l.want(0, nil, "flash", kit.more.Overlay, "--into", "@b", "--yes")
		l.want(0, []string{"boot_b written"}, "recovery", "set", kit.recovery, "--boot", kit.more.Package, "--into", "boot@b", "--yes")
		l.want(0, []string{"Tideline Recovery 3.1 is running"}, "go", "recovery", "--yes")
		l.want(0, nil, "sideload", shore, sheet, "--yes")
		rom := must(scenario.Images(scenario.Saltmarsh, kit.phone))["boot"]
		if got := l.stored("godwit", "boot_b"); string(parts(t, got)["kernel"]) != string(parts(t, rom)["kernel"]) {
			t.Error("slot b does not have the ROM's kernel")
		}
		l.firstStart("godwit", "Saltmarsh OS 4.2")
	})
	t.Run("avocet, its recovery set again behind the ROM", func(t *testing.T) {
		l := newLab(t)
		kit := kitOf(t, "avocet", 2)
		l.standin("avocet")
		shore, sheet := l.addons(kit.phone)
		l.inRecovery("avocet", kit.recovery)
		l.want(0, nil, "wipe", "userdata", "--yes")
		l.want(0, []string{"set again behind the ROM", "Tideline Recovery 3.1 is still there on slot b"}, "sideload", kit.more.Package, sheet, shore, "--recovery", kit.recovery, "--yes")
		l.firstStart("avocet", "Saltmarsh OS 4.2")
	})
	for name, slots := range map[string]int{"dunlin": 2, "godwit": 2, "avocet": 2} {
		t.Run(name+", a recovery without a shell", func(t *testing.T) {
			l := newLab(t)
			kit := kitOf(t, name, slots)
			pkg := kit.more.Package
			l.standin(name)
			shore, sheet := l.addons(kit.phone)
			l.want(0, nil, "wipe", "userdata", "--yes")
			l.want(0, nil, "recovery", "set", l.file("quiet.img", must(scenario.Recovery(scenario.SaltmarshRecovery, kit.phone))), "--yes")
			l.want(0, []string{"can't be seen"}, "go", "recovery")
			// The owner says each time what the screen shows.
			l.did(name, "y\n1\n1\n1\n", []string{"What does the phone's screen say?", "you said that the phone's screen says so", "are installed"}, "sideload", pkg, shore, sheet)
			l.did(name, "", nil, "go", "bootloader")
			l.want(0, []string{"slot b is next"}, "slot")
			if !l.added(name, "system_b", "Countsheet") || !l.added(name, "system_b", "ShorelineApps") {
				t.Error("the add-ons are not on the new slot")
			}
			l.firstStart(name, "Saltmarsh OS 4.2")
		})
	}
}

// TestTurnstoneEvening: an old phone, its stock script held, areas wiped with the
// package kept on the card, ROM from the card and an add-on.
func TestTurnstoneEvening(t *testing.T) {
	l := newLab(t)
	kit := kitOf(t, "turnstone", 1)
	l.standin("turnstone")
	shore, _ := l.addons(kit.phone)
	l.inRecovery("turnstone", kit.recovery)
	l.want(0, []string{"/system/bin/install-recovery.sh on system puts the maker's recovery back", "moved aside"}, "recovery", "hold")
	// It is held: the stock system starts and leaves the recovery alone.
	before := l.stored("turnstone", "recovery")
	l.did("turnstone", "", []string{"Wickerlight Stock 9.1"}, "go", "system", "--yes", "--wait", "30s")
	l.want(0, nil, "go", "bootloader")
	if string(before) != string(l.stored("turnstone", "recovery")) {
		t.Error("the stock system put its recovery back all the same")
	}
	l.later("turnstone", "volume-up+power")
	l.want(0, []string{"Tideline Recovery 3.1 is running"}, "go", "recovery")
	l.want(0, []string{"there is none here"}, "recovery", "hold")
	l.want(0, nil, "put", kit.more.Package, "--to", "sd", "--yes")
	l.want(0, []string{"system is erased"}, "wipe", "apps", "caches", "system", "--yes")
	l.did("turnstone", "", []string{"is installed"}, "put", kit.more.Package, "--to", "sd", "--install", "--yes")
	l.did("turnstone", "", []string{"is installed"}, "sideload", shore, "--yes")
	l.firstStart("turnstone", "Saltmarsh OS 4.2")
}

// TestSanderlingEvening: a base ROM and its first start, a generic system written
// whole, numbered extras in their order, and a loop that ends when the maker's overlay is
// moved aside.
func TestSanderlingEvening(t *testing.T) {
	l := newLab(t)
	kit := kitOf(t, "sanderling", 1)
	l.standin("sanderling")
	l.inRecovery("sanderling", kit.recovery)
	l.want(3, []string{"stop  verity-would-reject"}, "shelve", "/vendor/overlay/WickerlightFrame")
	l.want(0, nil, "wipe", "userdata", "--yes")
	l.want(0, nil, "sideload", kit.more.Package, "--yes")
	l.firstStart("sanderling", "Saltmarsh OS 4.2")
	l.want(0, nil, "go", "bootloader")
	l.want(0, nil, "flash", kit.more.GSI, "--into", "system", "--yes")
	l.want(0, nil, "go", "recovery")
	var extras []string
	for _, name := range []string{"extra-1", "extra-2", "extra-3"} {
		extras = append(extras, l.file(name+".zip", must(scenario.Addon{Name: name, Release: "14", Signer: "saltmarsh"}.Package())))
	}
	l.want(3, []string{"stop  order-broken"}, "sideload", extras[1], extras[0], extras[2], "--yes")
	l.want(0, []string{"are installed"}, append([]string{"sideload", "--yes"}, extras...)...)
	l.want(0, nil, "go", "system", "--wait", "1s", "--yes")
	code, out := l.owner("sanderling", "3\n", menus, "arrive", "--wait", "5s")
	if code != 6 || !strings.Contains(out, "jarlid shelve /vendor/overlay") || !strings.Contains(out, "again and again") {
		t.Fatalf("a loop ended with %d:\n%s", code, out)
	}
	l.did("sanderling", "", nil, "go", "recovery", "--yes")
	var moved struct{ Moved []struct{ From, To string } }
	l.result(0, &moved, "shelve", "/vendor/overlay/WickerlightFrame")
	if len(moved.Moved) != 1 || moved.Moved[0].From != "/overlay/WickerlightFrame" {
		t.Errorf("%+v", moved)
	}
	l.want(0, nil, "go", "system", "--wait", "1s", "--yes")
	l.did("sanderling", "", []string{"Saltmarsh GSI 4.2 is up"}, "arrive", "--wait", "60s")
	// And back: the overlay is there again, and the loop with it.
	l.want(0, nil, "go", "recovery")
	l.want(0, []string{"/vendor/overlay/WickerlightFrame is back"}, "unshelve")
	l.want(0, nil, "go", "system", "--wait", "1s", "--yes")
	if code, _ := l.run("arrive", "--wait", "5s"); code == 0 {
		t.Error("it starts with the overlay")
	}
}
