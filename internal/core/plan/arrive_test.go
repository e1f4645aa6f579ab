package plan

import (
	"strings"
	"testing"

	"jarlid/internal/core/card"
)

// TestJudge: what a start came to, and what is advised.
func TestJudge(t *testing.T) {
	of := func(pairs ...string) *card.Card {
		c := &card.Card{}
		for i := 0; i < len(pairs); i += 2 {
			c.Learn(pairs[i], pairs[i+1], card.Read)
		}
		return c
	}
	rom := "saltmarsh/dunlin/dunlin:14/SM42.260512/1:user/release-keys"
	before := of(card.FactNext, "b", card.FactHolds+"system_b", rom, card.FactHolds+"system_a", "Wickerlight Stock 9.1")
	for _, c := range []struct {
		name                     string
		stage                    Stage
		after                    *card.Card
		want                     Stage
		matches, says, firstSays string
	}{
		{"up", StageFinished, of(card.FactStarted, "b", card.FactVersion, "Saltmarsh OS 4.2", card.FactBuild, "SM42.260512"), StageFinished, "yes", "", ""},
		{"another build", StageFinished, of(card.FactStarted, "b", card.FactVersion, "Other 1", card.FactBuild, "X1"), StageFinished, "no", "another system runs", "jarlid slot"},
		{"the other slot", StageFinished, of(card.FactStarted, "a", card.FactVersion, "Wickerlight Stock 9.1"), StageOtherSlot, "yes", "gave slot b up", "still holds the old system"},
		{"recovery, data encrypted", StageRecovery, of(card.FactData, card.DataEncrypted), StageRecovery, "unknown", "could not read the data", "jarlid wipe userdata"},
		{"recovery, nothing known", StageRecovery, of(), StageRecovery, "unknown", "instead of the system", "if that was not done"},
		{"bootloader", StageBootloader, of(card.FactBootable+"b", "no"), StageBootloader, "unknown", "slot b can't be started any more", "jarlid shelve /vendor/overlay"},
		{"loop", StageLoop, of(), StageLoop, "unknown", "again and again; what was to start is saltmarsh SM42.260512 (release 14)", "jarlid shelve /vendor/overlay"},
		{"nothing seen", StageUnknown, of(), StageUnknown, "unknown", "nobody can tell", "look at its screen"},
	} {
		a := Judge(c.stage, before, c.after)
		first := ""
		if len(a.Advice) > 0 {
			first = a.Advice[0]
		}
		if a.Stage != c.want || a.Matches != c.matches || !strings.Contains(a.Text, c.says) || !strings.Contains(first, c.firstSays) {
			t.Errorf("%s: %+v", c.name, a)
		}
	}
}

// TestShelf: which paths can be moved aside, and which scripts put a recovery back.
func TestShelf(t *testing.T) {
	for path, want := range map[string]string{"/vendor/overlay": "vendor overlay", "/system//app/../app/X": "system app/X", "vendor/overlay": "", "/data/app": "",
		"/vendor": "", "/system/build.prop": "", "/system/bin": "", "/product/app/X": "product app/X"} {
		p, rest, err := ParseShelfPath(path)
		if got := strings.TrimSpace(p + " " + rest); got != want || (err == nil) != (want != "") {
			t.Errorf("%s: %q, %v", path, got, err)
		}
	}
	for script, want := range map[string]bool{
		"#!/system/bin/sh\nif ! applypatch --check EMMC:/dev/block/by-name/recovery:12:ab; then\n  applypatch --bonus /system/etc/recovery-resource.dat\nfi\n": true,
		"dd if=/system/etc/recovery.img of=/dev/block/by-name/recovery\n":                                                                                      true,
		"# applypatch recovery, long ago\necho nothing\n":                                                                                                      false,
		"log -t recovery 'all is well'\n":                                                                                                                      false,
	} {
		if Restores(script) != want {
			t.Errorf("%q: %v", script, !want)
		}
	}
}
