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
	before := of(card.FactPut.Of("b"), "yes", card.FactToldStart, "yes", card.FactNext, "b",
		card.FactHolds.Of(card.At("system", "b")),
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
			card.FactBuild, "X1"), StageFinished, "no", "another system runs", ""},
		{"the other slot", StageFinished, before, of(card.FactStarted, "a", card.FactVersion,
			"Wickerlight Stock 9.1"), StageOtherSlot, "unknown", "gave slot b up",
			"a system that was changed"},
		{"a message in misc", StageRecovery, before, of(card.FactData, card.DataEncrypted, card.FactReason,
			"--prompt_and_wipe_data --reason=data_unreadable"), StageRecovery, "unknown",
			"instead of the system", "the system could not use the data: it left --prompt_and_wipe_data " +
				"--reason=data_unreadable in misc for the recovery wipe userdata"},
		{"and the data is plain", StageRecovery, before, of(card.FactData, card.DataPlain, card.FactReason,
			"--prompt_and_wipe_data"), StageRecovery, "unknown", "", "wipe apps caches"},
		{"and the data is formatted", StageRecovery, before, of(card.FactData, card.DataFormatted,
			card.FactReason, "--prompt_and_wipe_data"), StageRecovery, "unknown", "",
			"a system that was changed"},
		{"encrypted by its own system", StageRecovery, before, of(card.FactData, card.DataEncrypted),
			StageRecovery, "unknown", "instead of the system", "a system that was changed"},
		{"encrypted by another", StageRecovery, withFacts(before, card.FactForeign.Of("b"), "yes"),
			of(card.FactData, card.DataEncrypted), StageRecovery, "unknown", "instead of the system",
			"the data is of another system wipe userdata"},
		{"its own job erased the system", StageRecovery, withFacts(before, card.FactHolds.Of(card.At("system",
			"b")), card.Nothing), of(card.FactData, card.DataEncrypted), StageRecovery, "unknown",
			"an earlier job erased the system", ""},
		{"bootloader", StageBootloader, before, of(card.FactBootable.Of("b"), "no"), StageBootloader,
			"unknown", "slot b can't be started any more", "a system that was changed"},
		{"loop under an overlay", StageLoop, withFacts(before, card.FactGeneric.Of("b"), "yes",
			card.FactOverlays, "Frame"), of(), StageLoop, "unknown",
			"again and again; what was to start is saltmarsh SM42.260512 (release 14)",
			"shelve /vendor/overlay/Frame"},
		{"nobody told it to start", StageBootloader, untold, of(), StageBootloader, "unknown",
			"no job told it to start", ""},
		{"an old phone without slots or vbmeta", StageBootloader, single, of(), StageBootloader, "unknown",
			"stands in its bootloader instead of the system", "what is there does not start"},
		{"nothing seen", StageUnknown, before, of(), StageUnknown, "unknown", "nobody can tell", ""},
	} {
		a := Judge(c.stage, c.before, c.after)
		first := ""
		if len(a.Causes) > 0 {
			first = strings.TrimSpace(a.Causes[0].Text + " " + strings.Join(a.Causes[0].Words, " "))
		}
		if a.Stage != c.want || string(a.Matches) != c.matches || !strings.Contains(a.Text, c.says) ||
			!strings.Contains(first, c.firstSays) || (c.firstSays == "") != (first == "") {
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
	foreign := withFacts(put, card.FactForeign.Of("a"), "yes", card.FactData, card.DataEncrypted)
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
		{"encrypted by its own system", withFacts(rec, card.FactData, card.DataEncrypted),
			"sideload PACKAGE"},
		{"the system gave up", withFacts(rec, card.FactData, card.DataEncrypted, card.FactReason,
			"--prompt_and_wipe_data"), "wipe userdata"},
		{"and the data is plain", withFacts(rec, card.FactData, card.DataPlain, card.FactReason,
			"--prompt_and_wipe_data"), "wipe apps caches"},
		{"and the data is formatted", withFacts(rec, card.FactReason, "--prompt_and_wipe_data"), "go system"},
		{"ready", rec, "sideload PACKAGE"},
		{"tried", withFacts(rec, card.FactTemporary, "yes"), "recovery install FILE"},
		{"installed", inRec(put), "go system"},
		{"installed and seen", inRec(withFacts(put, card.FactCameUp.Of("a"), "yes")), "sideload PACKAGE"},
		{"written", put, "go system"},
		{"written over another's data", foreign, "wipe userdata"},
		{"and in the recovery", inRec(foreign), "wipe userdata"},
		{"a generic system under overlays", generic, "go recovery"},
		{"and in the recovery", inRec(generic), "shelve /vendor/overlay/Frame"},
		{"when they are aside", inRec(withFacts(generic, card.FactShelved.Of(card.At("vendor", "a")),
			"/vendor/overlay/Frame")), "go system"},
		{"told to start and not seen", withFacts(put, card.FactToldStart, "yes"), "recovery install FILE"},
		{"a loop", withFacts(put, card.FactFailed.Of("a"), "loop"), "recovery install FILE"},
		{"a loop, a recovery is set", withFacts(put, card.FactFailed.Of("a"), "loop", card.FactSet.Of(
			card.At("recovery", "a")), "tideline.img"), "go recovery"},
		{"a loop, one without a shell is set", withFacts(put, card.FactFailed.Of("a"), "loop",
			card.FactSet.Of(
				card.At("recovery", "a")), "tideline.img", card.FactQuiet.Of(card.At("recovery", "a")),
			"yes"),
			"recovery install FILE"},
		{"a loop, another system on the other slot", withFacts(put, card.FactFailed.Of("a"), "loop",
			card.FactHolds.Of(card.At("system", "b")), "Stock"), "slot use b"},
		{"a loop, in the recovery", inRec(withFacts(put, card.FactFailed.Of("a"), "loop")),
			"sideload PACKAGE"},
		{"no slot can start", used, "flash SET --into @a"},
		{"nor userspace fastboot, which writes the system", withFacts(used,
			card.FactLogical.Of(card.At("system",
				"a")), "yes"), "slot use a"},
		{"an update that is not merged", withFacts(put, card.FactSnapshot, "snapshotted"), "go system"},
		{"and in the recovery", inRec(withFacts(put, card.FactSnapshot, "merging")), "go system"},
		{"over the data of another", withFacts(foreign, card.FactSnapshot, "snapshotted"),
			"wipe userdata --accept format-after-install"},
		{"and the old system is there", withFacts(foreign, card.FactSnapshot, "snapshotted",
			card.FactHolds.Of(card.At("system", "b")), "Stock"), "slot use b --accept merge-pending"},
		{"and its merge has begun", withFacts(foreign, card.FactSnapshot, "merging",
			card.FactHolds.Of(card.At("system", "b")), "Stock"),
			"wipe userdata --accept format-after-install"},
		{"an emptied vendor", withJournal(set, card.FactHolds.Of(card.At("vendor", "a")), card.Nothing),
			"go recovery"},
		{"and another system on the other slot", withJournal(withFacts(put,
			card.FactHolds.Of(card.At("system",
				"b")), "Stock"), card.FactHolds.Of(card.At("vendor", "a")), card.Nothing), "slot use b"},
		{"and in the recovery", inRec(withJournal(put, card.FactHolds.Of(card.At("vendor", "a")),
			card.Nothing)), "sideload PACKAGE"},
		{"installed to a slot that was emptied since", withJournal(withFacts(inRec(put), card.FactNext, "b"),
			card.FactHolds.Of(card.At("system", "b")), card.Nothing), "slot use a"},
		{"and one was written since", withFacts(used, card.FactPut.Of("b"), "yes"), "slot use b"},
		{"not seen", phone(card.FactMode, ""), "go bootloader"},
		{"not seen since it was told to start", phone(card.FactMode, "", card.FactToldStart, "yes"),
			"arrive"},
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

// withJournal is withFacts of what a job did.
func withJournal(c *card.Card, fact card.Which, value string) *card.Card {
	c = c.Clone()
	c.Learn(fact, value, card.Journal)
	return c
}

func withFacts(c *card.Card, facts ...any) *card.Card {
	c = c.Clone()
	for i := 0; i < len(facts); i += 2 {
		c.Learn(facts[i].(card.Which), facts[i+1].(string), card.Read)
	}
	c.Conclude()
	return c
}
