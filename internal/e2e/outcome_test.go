package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"jarlid/internal/standin/scenario"
	"jarlid/internal/standin/standintest"
)

// TestOutcomes: what is told is what happened, and no state is without a way on.
func TestOutcomes(t *testing.T) {
	t.Parallel()
	quiet := func(l *lab) string {
		return l.file("quiet.img", must(scenario.Recovery(scenario.SaltmarshRecovery, dunlin)))
	}
	// unseen leaves the phone in a recovery without a shell, where it can't be seen.
	unseen := func(l *lab) {
		l.standin("dunlin")
		l.want(0, nil, "recovery", "install", quiet(l), "--yes")
		l.want(0, []string{"can't be seen"}, "go", "recovery")
	}
	some(t, 5, map[string]func(l *lab){
		"a recovery that nobody sees": func(l *lab) {
			unseen(l)
			l.want(3, []string{"hands-needed"}, "go", "recovery")
			out := l.did("dunlin", "y\n", []string{"If the recovery's menu is on the screen already",
				"as you say"}, "go", "recovery")
			if strings.Contains(out, "took the restart") {
				l.Errorf("nobody restarted it by command:\n%s", out)
			}
			code, out := l.owner("dunlin", "n\n", standintest.Owner, "go", "recovery")
			if code != 1 || !strings.Contains(out, "did not come up, as you say") ||
				strings.Contains(out, "done  ") {
				l.Errorf("the person says no: %d\n%s", code, out)
			}
			code, out = l.owner("dunlin", "", standintest.Owner, "go", "recovery", "--yes")
			if code != 0 || strings.Contains(out, "done  ") || !strings.Contains(out, "nobody can tell") {
				l.Errorf("nobody was asked: %d\n%s", code, out)
			}
		},
		"its data, by its own menu": func(l *lab) {
			unseen(l)
			out := l.did("dunlin", "y\ny\ny\ny\n", []string{`choose "All data"`,
				"as you say; nobody can read that back"}, "wipe", "userdata", "--accept", "account-lock")
			if strings.Contains(out, "bootloader") && strings.Contains(out, "hand  Hold") {
				l.Errorf("it goes by way of the bootloader:\n%s", out)
			}
			if strings.Contains(out, "done  the data") {
				l.Errorf("nobody has confirmed it:\n%s", out)
			}
		},
		"Ctrl-C while a person is awaited": func(l *lab) {
			l.standin("turnstone")
			began := time.Now()
			var j *job
			hands := make(chan struct{})
			j = l.begin(true, "", func(line string) {
				if strings.HasPrefix(line, "hand  ") {
					select {
					case hands <- struct{}{}:
					case <-time.After(time.Second):
					}
				}
			}, "go", "recovery")
			<-hands
			j.interrupt <- struct{}{}
			<-j.done
			if took := time.Since(began); j.code != 3 || took > 20*time.Second {
				l.Errorf("it ended with %d after %v:\n%s", j.code, took, j.out)
			}
		},
		"installed, and the restart was lost on its way": func(l *lab) {
			l.readyForPackages(files.Recovery)
			once := sync.OnceFunc(func() { l.net.Cut() })
			j := l.begin(false, "", func(line string) {
				if strings.HasPrefix(line, "good  installed:") {
					once()
				}
			}, "sideload", files.Package, "--yes")
			<-j.done
			if out := j.out.String(); j.code != 0 || strings.Contains(out, "does not start") ||
				!strings.Contains(out, "came up on slot b") {
				l.Errorf("it ended with %d:\n%s", j.code, out)
			}
		},
		"installed, and the phone is gone": func(l *lab) {
			p := l.standin("dunlin")
			l.want(0, nil, "recovery", "install", files.Recovery, "--yes")
			l.want(0, nil, "go", "recovery")
			l.want(0, nil, "wipe", "userdata", "--yes")
			var gone sync.WaitGroup
			once := sync.OnceFunc(func() { gone.Go(p.kill) })
			j := l.begin(false, "", func(line string) {
				if strings.HasPrefix(line, "good  installed:") {
					once()
				}
			}, "sideload", files.Package, "--yes")
			<-j.done
			gone.Wait()
			out := j.out.String()
			if j.code == 0 || !strings.Contains(out, "only the restart is missing") ||
				!strings.Contains(out, "next  jarlid go recovery") ||
				strings.Contains(out, "next  jarlid sideload") {
				l.Errorf("it ended with %d:\n%s", j.code, out)
			}
			l.standin("dunlin")
			// It is in its recovery, started from the new slot: the restart that broke is not repeated.
			if out := l.want(0, []string{"was interrupted", "next  jarlid go system"}); strings.Contains(out,
				"jarlid sideload") {
				l.Errorf("it is to be installed once more:\n%s", out)
			}
		},
		"an add-on that is refused": func(l *lab) {
			l.readyForPackages(files.Recovery)
			l.want(0, nil, "sideload", files.Package, "--yes")
			a := scenario.Countsheet
			a.Device = "godwit"
			f := l.file("countsheet-godwit.zip", must(a.Package()))
			if out := l.want(5, []string{"this package is for godwit"}, "sideload", f, "--yes", "--accept",
				"wrong-model"); strings.Contains(out, "before it read the payload") {
				l.Errorf("an add-on has no payload:\n%s", out)
			}
			l.want(0, nil, "put", f, "--to", "storage", "--yes", "--accept", "wrong-model")
			code, out := l.owner("dunlin", "", standintest.Owner, "put", f, "--to", "storage", "--install",
				"--yes", "--accept", "wrong-model")
			if code != 5 || !strings.Contains(out, "this package is for godwit") ||
				!strings.Contains(out, "The file to choose is countsheet-godwit.zip") ||
				!strings.Contains(out, "its digest is compared") {
				l.Errorf("the same by hand ended with %d:\n%s", code, out)
			}
		},
		"no slot can start": func(l *lab) {
			l.standin("dunlin")
			l.want(0, nil, "wipe", "system@both", "--yes")
			l.run("go", "system", "--wait", "60s", "--yes", "--accept", "slot-empty")
			l.untilMode("dunlin", "bootloader")
			l.want(0, []string{"no slot can start", "next  jarlid flash SET"})
			set := []string{"flash", kitOf(l.T, "dunlin", 2).more.Set, "--into", "@a", "--yes", "--accept",
				"encrypted-data"}
			l.want(0, nil, set...)
			l.want(0, []string{"slot a was written since", "next  jarlid slot use a"})
			if out := l.want(0, nil, "slot", "use", "a", "--yes"); strings.Contains(out, "stop  ") {
				l.Errorf("choosing it is what gives its tries back:\n%s", out)
			}
			l.want(0, []string{"next  jarlid go system"})
		},
		"a start that nobody saw is no failure": func(l *lab) {
			l.standin("dunlin")
			l.want(0, nil, "wipe", "userdata", "--yes")
			l.want(0, []string{"next  jarlid arrive"}, "go", "system", "--wait", "1s", "--yes")
			l.want(0, []string{"nobody has seen: restart into system"}, "jobs", "show", "2")
			var r struct{ Phones []struct{ OK bool } }
			l.result(0, &r, "jobs", "show", "2", "--page", filepath.Join(l.dir, "page.html"))
			if len(r.Phones) != 1 || !r.Phones[0].OK {
				l.Errorf("the report of a job whose end was not seen has %+v, want one phone that is good", r)
			}
			l.want(0, []string{"there is nothing to go on with"}, "jobs", "resume", "2")
		},
		"a start nobody ordered, and one that loops": func(l *lab) {
			kit := kitOf(l.T, "sanderling", 1)
			l.standin("sanderling")
			l.want(6, []string{"no job told it to start its system", "next  jarlid go system"}, "arrive",
				"--wait", "20s")
			l.inRecovery("sanderling", kit.recovery)
			l.want(0, nil, "vbmeta", "loosen", "hashtree", "--yes")
			l.want(0, nil, "wipe", "userdata", "--yes")
			l.did("sanderling", "", nil, "flash", kit.more.GSI, "--yes")
			l.want(0, []string{"next  jarlid go recovery", "overlays"})
			l.want(0, nil, "go", "recovery")
			l.want(0, []string{"next  jarlid shelve /vendor/overlay/WickerlightFrame"})
			l.want(0, nil, "go", "system", "--wait", "1s", "--yes")
			code, out := l.owner("sanderling", "3\n", standintest.Owner, "arrive", "--wait", "5s")
			if code != 6 || !strings.Contains(out, "shelve /vendor/overlay/WickerlightFrame") {
				l.Errorf("a loop ended with %d:\n%s", code, out)
			}
			l.did("sanderling", "", nil, "go", "recovery", "--yes")
			l.want(0, []string{"next  jarlid shelve /vendor/overlay/WickerlightFrame"})
			l.want(0, nil, "shelve", "/vendor/overlay/WickerlightFrame", "--yes")
			l.want(0, []string{"next  jarlid go system"})
			l.want(0, nil, "go", "system", "--wait", "1s", "--yes")
			l.did("sanderling", "", nil, "arrive", "--wait", "60s")
			l.want(0, nil, "go", "recovery", "--yes")
			if out := l.want(0, nil); strings.Contains(out, "go system") {
				l.Errorf("it was seen running:\n%s", out)
			}
		},
		"a recovery without the image it wants": func(l *lab) {
			kit := kitOf(l.T, "godwit", 2)
			l.standin("godwit")
			_, out := l.run("recovery", "install", kit.recovery, "--into", "boot", "--yes")
			if !strings.Contains(out, "pre-image-missing") {
				l.Fatalf("%s; unwanted: !strings.Contains(out, 'pre-image-missing')", out)
			}
			_, out = l.run("go", "recovery", "--yes")
			if !strings.Contains(out, "need an image of their own in dtbo_a") ||
				!strings.Contains(out, "jarlid flash DTBO-IMAGE") {
				l.Errorf("nothing says why it did not come up:\n%s", out)
			}
		},
		"the patch level of what was installed": func(l *lab) {
			kit := kitOf(l.T, "dunlin", 2)
			l.standin("dunlin", "--mode", "system")
			l.did("dunlin", "", nil, "go", "bootloader")
			l.want(0, []string{"security patch           2021-03-01", "Wickerlight Stock 9.1"}, "card")
			l.want(0, nil, "recovery", "install", files.Recovery, "--yes")
			l.want(0, nil, "go", "recovery", "--yes")
			l.want(0, nil, "wipe", "userdata", "--yes")
			l.want(0, nil, "sideload", kit.more.Package, "--yes")
			l.want(0, nil, "go", "bootloader")
			// as the package's metadata states it: post-security-patch-level
			out := l.want(0, []string{"security patch           2026-05-01               journal"}, "card")
			if strings.Contains(out, "Stock 9.1") || strings.Contains(out, "2021-03-01") {
				l.Errorf("the card shows what was there before the install:\n%s", out)
			}
		},
		"a backup with nothing in it": func(l *lab) {
			l.standin("dunlin")
			l.want(0, nil, "recovery", "install", files.Recovery, "--yes")
			l.want(0, nil, "go", "recovery", "--yes")
			out := l.want(3, []string{"not-mounted"}, "backup", "take", "storage", "-o", l.dir+"/kept")
			if strings.Contains(out, "done  ") {
				l.Errorf("nothing was read:\n%s", out)
			}
		},
		"a phone left out, and a task that is not for the other": func(l *lab) {
			l.standin("dunlin")
			l.standin(l.model("other", "serial: WL-DU-0007", "serial: WL-DU-0008"), "--as", "second",
				"--locked")
			sheet := l.sheetOf("", "  - recovery install: recovery\n  - go: recovery\n    when: {slots: 1}\n")
			l.want(3, []string{"second: locked-bootloader", "done  dunlin: 1 task done, 1 not for this phone",
				"done on 1 of 2 phones"}, "sheet", "run", sheet, "--yes", "--on", "dunlin,second")
			var jobs struct {
				Jobs []struct{ Sheet, Outcome string }
			}
			l.result(0, &jobs, "jobs")
			for _, j := range jobs.Jobs {
				if want := map[bool]string{true: "done", false: "stopped"}[j.Sheet == ""]; j.Outcome != want {
					l.Errorf("jarlid jobs lists %+v, want %s", j, want)
				}
			}
			l.want(0, []string{"done  dunlin: 1 task done, 1 not for this phone",
				"fail  second: locked-bootloader"}, "jobs", "show", "1")
			var run struct {
				Phones []struct {
					Name string
					OK   bool
				}
			}
			l.result(0, &run, "jobs", "show", "1")
			page := filepath.Join(l.dir, "report.html")
			l.want(0, nil, "jobs", "show", "1", "--page", page)
			text := string(must(os.ReadFile(page)))
			if len(run.Phones) != 2 || run.Phones[1].Name != "second" || run.Phones[1].OK ||
				!strings.Contains(text, "second") || !strings.Contains(text, "done on 1 of 2") {
				l.Errorf("%+v in JSON, and the page is\n%s", run.Phones, text)
			}
		},
		"stopped after the phone rebooted": func(l *lab) {
			l.standin("dunlin") // whose system does not know this computer's key
			out := l.want(7, []string{"the phone does not answer", "stopped on the way"}, "app",
				l.file("fieldlog.apk", must(scenario.FieldLog.Package())), "--yes")
			if strings.Contains(out, "nothing was changed") {
				l.Errorf("the phone is in another mode than before:\n%s", out)
			}
		},
		"what runs for now only": func(l *lab) {
			l.standin("dunlin")
			l.want(0, nil, "recovery", "try", files.Recovery, "--yes")
			l.want(0, []string{"written nowhere", "next  jarlid recovery install FILE"})
		},
		"two programs, one phone": func(l *lab) {
			l.standin("dunlin")
			img := l.file("large.img", bigRecovery(8<<20))
			l.fault("dunlin", "stall", 4<<20, "--for", "50")
			j := l.begin(false, "", nil, "recovery", "install", img, "--yes")
			time.Sleep(5 * time.Second)
			l.want(3, []string{"another jarlid is working on dunlin: jarlid recovery install", "(process "},
				"slot")
			<-j.done
		},
		"a line that was dropped once": func(l *lab) {
			l.standin("dunlin")
			l.want(0, nil, "standin", "fault", "dunlin", "drop-next")
			l.want(0, []string{"BOOTABLE"}, "slot")
		},
		"two phones with one serial number": func(l *lab) {
			l.standin("dunlin")
			l.standin(l.model("other", "title: Wickerlight Dunlin", "title: Wickerlight Dunlin, the other"),
				"--as", "second")
			if *cabled { // nothing but the socket tells them apart there
				l.want(0, []string{"several-phones: dunlin could be any of these: usb:1-1, usb:1-2"})
				return
			}
			l.want(0, []string{"dunlin and second report one serial number, WL-DU-0007"})
			l.want(0, nil, "recovery", "install", files.Recovery, "--yes", "--on", "dunlin")
			if out := l.want(0, nil, "card", "--json", "--on", "second"); strings.Contains(out,
				"recovery.set:recovery_a") {
				l.Errorf("what was done to the one is known of the other:\n%s", out)
			}
			l.want(0, []string{"recovery.set:recovery_a"}, "card", "--json", "--on", "dunlin")
		},
		"hands that are not ours": func(l *lab) {
			l.standin("dunlin")
			list := string(must(os.ReadFile(filepath.Join(l.home, "bench.yaml"))))
			at := list[strings.Index(list, "control: ")+len("control: "):]
			address, token, _ := strings.Cut(strings.TrimSpace(at[:strings.IndexByte(at, '\n')]), "/")
			if len(token) < 20 {
				l.Fatalf("%q has no token", at)
			}
			for path, want := range map[string]int{
				"/press":                    http.StatusNotFound,
				"/" + token[1:] + "x/press": http.StatusNotFound,
				"/" + token + "/press":      http.StatusOK,
			} {
				c := &http.Client{Transport: &http.Transport{DialContext: l.net.DialContext,
					DisableKeepAlives: true}}
				resp := must(c.Post("http://"+address+path, "application/json",
					strings.NewReader(`{"press":[]}`)))
				resp.Body.Close()
				if resp.StatusCode != want {
					l.Errorf("%s answers %d, want %d", path, resp.StatusCode, want)
				}
			}
		},
		"what is no file": func(l *lab) {
			l.standin("dunlin")
			pipe := filepath.Join(l.dir, "pipe.img")
			if err := mkfifo(pipe); err != nil {
				l.Skip(err)
			}
			for _, words := range [][]string{
				{"ident", pipe},
				{"flash", pipe},
				{"recovery", "install", pipe},
				{"sideload", pipe},
				{"put", pipe, "--to", "sd"},
				{"fit", pipe},
				{"vbmeta", "show", pipe},
				{"lift", pipe, "-o", l.dir + "/out"},
				{"proof", pipe},
				{"card", "--card", pipe},
			} {
				if code, out := l.run(words...); code == 0 || !strings.Contains(out, "and no file") {
					l.Errorf("%v ended with %d:\n%s", words, code, out)
				}
			}
			list := filepath.Join(l.home, "bench.yaml")
			kept := must(os.ReadFile(list))
			if err := os.WriteFile(list, slices.Concat(kept, []byte(strings.Repeat("# large\n", 1<<20))),
				0o600); err != nil {
				l.Fatalf("os.WriteFile(list, ..., 0o600): %v", err)
			}
			l.want(1, []string{"what is wanted here has at most 4.0 MiB"}, "bench")
			if err := os.WriteFile(list, kept, 0o600); err != nil {
				l.Fatalf("os.WriteFile(list, kept, 0o600): %v", err)
			}
			// A link where the list is written meanwhile leads nowhere.
			victim := l.file("victim", []byte("mine"))
			if err := os.Symlink(victim, list+".new"); err != nil {
				l.Fatalf("os.Symlink(victim, list+'.new'): %v", err)
			}
			l.want(0, nil, "bench", "name", "dunlin", "tray-4")
			if b := must(os.ReadFile(victim)); string(b) != "mine" {
				l.Errorf("the link was followed: %q", b)
			}
		},
	})
}
