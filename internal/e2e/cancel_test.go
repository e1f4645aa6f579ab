package e2e

import (
	"maps"
	"strings"
	"testing"
	"time"

	"jarlid/internal/task/sheet"
)

// TestCancelEveryCommand: a Ctrl-C at the question of any command ends it with nothing changed, no job that
// would have to be resumed, and a phone that the next command can use.
func TestCancelEveryCommand(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		kit := kitOf(t, "dunlin", 2)
		l.standin("dunlin")
		l.inRecovery("dunlin", files.Recovery)
		l.want(0, nil, "wipe", "userdata", "--yes")
		l.want(0, nil, "backup", "take", "boot@a", "-o", l.dir+"/kept")
		l.want(0, nil, "shelve", "/system/etc/about.txt", "--yes", "--accept", "verity-would-reject")
		const none = "asks nothing: "
		rows := map[string][]string{ // the words that lead to a question, or why there is none
			"recovery try":     {none, "what it starts is written nowhere"},
			"recovery install": {"recovery", "install", files.Recovery},
			"recovery hold":    {none, "this phone's system restores no recovery"},
			"flash":            {"flash", kit.more.Boot, "--into", "boot@a"},
			"sideload":         {"sideload", files.Package, "--accept", "encrypted-data"},
			"wipe":             {"wipe", "caches"},
			"put":              {"put", files.Recovery, "--to", "storage"},
			"app":              {none, "it takes the started system"},
			"vbmeta loosen":    {"vbmeta", "loosen", "hashtree"},
			"vbmeta tighten":   {none, "everything is enforced already"},
			"backup take":      {none, "it only reads"},
			"backup restore":   {"backup", "restore", "boot@a", "-o", l.dir + "/kept"},
			"shelve":           {"shelve", "/vendor/build.prop", "--accept", "verity-would-reject"},
			"unshelve":         {"unshelve", "/system/etc/about.txt", "--accept", "verity-would-reject"},
			"go":               {none, "restarting changes nothing"},
			"slot use":         {none, "it takes the bootloader, and slot b is empty"},
			"slot copy":        {"slot", "copy", "boot"},
			"unlock":           {none, "it is unlocked already"},
			"relock":           {none, "what is on it is not the stock firmware"},
			"arrive":           {none, "it only looks"},
		}
		before := l.holds("dunlin")
		asked := 0
		for _, name := range sheet.Commands() {
			words := rows[name]
			if words == nil {
				t.Errorf("no row for %s", name)
				continue
			}
			if words[0] == none {
				continue
			}
			j := l.begin(true, nothing, nil, words...)
			for range 600 {
				if strings.Contains(j.out.String(), "[y/N]") {
					break
				}
				time.Sleep(pressEvery)
			}
			select {
			case <-j.done:
				t.Errorf("%s ended without a question:\n%s", name, j.out)
				continue
			default:
			}
			asked++
			pressed := time.Now()
			j.interrupt <- struct{}{}
			<-j.done
			if took := time.Since(pressed); took > time.Second { // of the bubble's time
				t.Errorf("%s took %v to end", name, took)
			}
			if out := j.out.String(); j.code != 3 ||
				!strings.Contains(out, "cancelled; nothing was changed") ||
				strings.Contains(out, "jobs resume") {
				t.Errorf("%s ended with %d:\n%s", name, j.code, out)
			}
			if code, out := l.run("bench"); code != 0 || strings.Contains(out, "was interrupted") ||
				strings.Contains(out, "is working on it") {
				t.Errorf("after %s:\n%s", name, out)
			}
		}
		if asked < 10 {
			t.Errorf("only %d commands asked", asked)
		}
		if after := l.holds("dunlin"); !maps.Equal(before, after) {
			t.Error("the phone was changed")
		}
	})
}
