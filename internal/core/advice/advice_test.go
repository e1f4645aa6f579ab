package advice

import (
	"strings"
	"testing"

	"jarlid/internal/core/card"
	"jarlid/internal/core/model"
)

// TestJudge: what a start came to, and what is advised.
func TestJudge(t *testing.T) {
	of := func(pairs ...any) *card.Card {
		c := &card.Card{}
		for i := 0; i < len(pairs); i += 2 {
			c.Learn(pairs[i].(card.Which), pairs[i+1].(string), card.Read)
		}
		return c
	}
	rom := "saltmarsh/dunlin/dunlin:14/SM42.260512/1:user/release-keys"
	before := of(card.FactToldStart, "yes", card.FactNext, "b", card.FactHolds.Of(card.At("system", "b")),
		rom, card.FactHolds.Of(card.At("system", "a")), "Wickerlight Stock 9.1")
	untold := withFacts(before, card.FactToldStart, "no")
	single := of(card.FactToldStart, "yes", card.FactSlots, "1", card.FactTreble, "no")
	for _, c := range []struct {
		name                     string
		stage                    Stage
		before, after            *card.Card
		want                     Stage
		matches, says, firstSays string
	}{
		{"up", StageFinished, before, of(card.FactStarted, "b", card.FactVersion, "Saltmarsh OS 4.2",
			card.FactBuild, "SM42.260512"), StageFinished, "yes", "", ""},
		{"another build", StageFinished, before, of(card.FactStarted, "b", card.FactVersion, "Other 1",
			card.FactBuild, "X1"), StageFinished, "no", "another system runs", "slot"},
		{"the other slot", StageFinished, before, of(card.FactStarted, "a", card.FactVersion,
			"Wickerlight Stock 9.1"), StageOtherSlot, "yes", "gave slot b up", "still holds the old system"},
		{"recovery, data encrypted", StageRecovery, before, of(card.FactData, card.DataEncrypted),
			StageRecovery, "unknown", "could not read the data", "wipe userdata"},
		{"recovery, nothing known", StageRecovery, before, of(), StageRecovery, "unknown",
			"instead of the system", "if that was not done"},
		{"bootloader", StageBootloader, before, of(card.FactBootable.Of("b"), "no"), StageBootloader,
			"unknown", "slot b can't be started any more", "shelve /vendor/overlay"},
		{"loop", StageLoop, before, of(), StageLoop, "unknown",
			"again and again; what was to start is saltmarsh SM42.260512 (release 14)",
			"shelve /vendor/overlay"},
		{"nobody told it to start", StageBootloader, untold, of(), StageBootloader, "unknown",
			"no job told it to start", "go system"},
		{"an old phone without slots or vbmeta", StageBootloader, single, of(), StageBootloader, "unknown",
			"stands in its bootloader instead of the system", "data of another system"},
		{"nothing seen of it", StageUnknown, single, of(), StageUnknown, "unknown", "nobody can tell",
			"what it is card"},
		{"nothing seen", StageUnknown, before, of(), StageUnknown, "unknown", "nobody can tell",
			"look at its screen"},
	} {
		a := Judge(c.stage, c.before, c.after)
		first := ""
		if len(a.Advice) > 0 {
			first = strings.TrimSpace(a.Advice[0].Text + " " + strings.Join(a.Advice[0].Words, " "))
		}
		if a.Stage != c.want || string(a.Matches) != c.matches || !strings.Contains(a.Text, c.says) ||
			!strings.Contains(first, c.firstSays) {
			t.Errorf("%s: %+v; unwanted: a.Stage != c.want || string(a.Matches) != c.matches || ...", c.name,
				a)
		}
	}
}

// TestSuggest: what a technician would do next.
func TestSuggest(t *testing.T) {
	m := models(t).Find("dunlin")
	set := phone(card.FactSet.Of(card.At("recovery", "a")), "tideline.img")
	rec := phone(card.FactMode, "recovery", card.FactStarted, "a", card.FactData, card.DataFormatted)
	put := phone(card.FactPut.Of("a"), "yes", card.FactHolds.Of(card.At("system", "a")), "Saltmarsh OS 4.2")
	used := withFacts(put, card.FactBootable.Of("a"), "no", card.FactBootable.Of("b"), "no",
		card.FactFailed.Of("a"), "loop")
	generic := withFacts(put, card.FactGeneric.Of("a"), "yes", card.FactOverlays, "Frame")
	inRec := func(c *card.Card) *card.Card {
		return withFacts(c, card.FactMode, "recovery", card.FactStarted, "a", card.FactRoot, "yes")
	}
	for _, c := range []struct {
		what string
		c    *card.Card
		want string
	}{
		{"locked", phone(card.FactUnlocked, "no"), "unlock"},
		{"nothing done", phone(), "recovery install FILE"},
		{"a recovery was set", set, "go recovery"},
		{"the maker's was written", phone(card.FactDigest.Of(card.At("recovery", "a")), "11"),
			"recovery install FILE"},
		{"the system runs", phone(card.FactMode, "system"), "go bootloader"},
		{"the system starts", phone(card.FactMode, "system", card.FactBooted, "no"), "arrive"},
		{"encrypted", withFacts(rec, card.FactData, card.DataEncrypted), "wipe userdata"},
		{"ready", rec, "sideload PACKAGE"},
		{"tried", withFacts(rec, card.FactTemporary, "yes"), "recovery install FILE"},
		{"installed", inRec(put), "go system"},
		{"installed and seen", inRec(withFacts(put, card.FactCameUp.Of("a"), "yes")), "sideload PACKAGE"},
		{"written", put, "go system"},
		{"written over another's data", withFacts(put, card.FactForeign.Of("a"), "yes", card.FactData,
			card.DataEncrypted), "wipe userdata"},
		{"and in the recovery", inRec(withFacts(put, card.FactForeign.Of("a"), "yes", card.FactData,
			card.DataEncrypted)), "wipe userdata"},
		{"a generic system under overlays", generic, "go recovery"},
		{"and in the recovery", inRec(generic), "shelve /vendor/overlay/Frame"},
		{"when they are aside", inRec(withFacts(generic, card.FactShelved.Of(card.At("vendor", "a")),
			"/vendor/overlay/Frame")), "go system"},
		{"a loop", withFacts(put, card.FactFailed.Of("a"), "loop"), "go recovery"},
		{"a loop, another system on the other slot", withFacts(put, card.FactFailed.Of("a"), "loop",
			card.FactHolds.Of(card.At("system", "b")), "Stock"), "slot use b"},
		{"a loop, in the recovery", inRec(withFacts(put, card.FactFailed.Of("a"), "loop")),
			"sideload PACKAGE"},
		{"no slot can start", used, "flash SET"},
		{"and one was written since", withFacts(used, card.FactPut.Of("b"), "yes"), "slot use b"},
		{"not seen", phone(card.FactMode, ""), ""},
	} {
		if got := Suggest(c.c, m); strings.Join(got.Words, " ") != c.want {
			t.Errorf("%s: %+v, want %q", c.what, got, c.want)
		}
	}
	if got := strings.Join(Suggest(withFacts(rec, card.FactNext, "b"), m).Words, " "); got != "go recovery" {
		t.Errorf("after an install: %q", got)
	}
}

func models(t *testing.T) model.Set {
	t.Helper()
	set, err := model.Load(nil)
	if err != nil {
		t.Fatalf("model.Load(): %v", err)
	}
	return set
}

// phone is a dunlin in the bootloader; facts are changed by the pairs behind.
func phone(facts ...any) *card.Card {
	c := &card.Card{}
	for _, f := range []struct {
		fact  card.Which
		value string
	}{
		{card.FactMode, "bootloader"},
		{card.FactModel, "dunlin"},
		{card.FactUnlocked, "yes"},
		{card.FactSlots, "2"},
		{card.FactNext, "a"},
	} {
		c.Learn(f.fact, f.value, card.Read)
	}
	return withFacts(c, facts...)
}

func withFacts(c *card.Card, facts ...any) *card.Card {
	c = c.Clone()
	for i := 0; i < len(facts); i += 2 {
		c.Learn(facts[i].(card.Which), facts[i+1].(string), card.Read)
	}
	c.Conclude()
	return c
}
