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
	before := of(card.FactNext, "b", card.FactHolds.Of(card.At("system", "b")), rom, card.FactHolds.Of(card.At("system", "a")), "Wickerlight Stock 9.1")
	for _, c := range []struct {
		name                     string
		stage                    Stage
		after                    *card.Card
		want                     Stage
		matches, says, firstSays string
	}{
		{"up", StageFinished, of(card.FactStarted, "b", card.FactVersion, "Saltmarsh OS 4.2", card.FactBuild, "SM42.260512"), StageFinished, "yes", "", ""},
		{"another build", StageFinished, of(card.FactStarted, "b", card.FactVersion, "Other 1", card.FactBuild, "X1"), StageFinished, "no", "another system runs", "slot"},
		{"the other slot", StageFinished, of(card.FactStarted, "a", card.FactVersion, "Wickerlight Stock 9.1"), StageOtherSlot, "yes", "gave slot b up", "still holds the old system"},
		{"recovery, data encrypted", StageRecovery, of(card.FactData, card.DataEncrypted), StageRecovery, "unknown", "could not read the data", "wipe userdata"},
		{"recovery, nothing known", StageRecovery, of(), StageRecovery, "unknown", "instead of the system", "if that was not done"},
		{"bootloader", StageBootloader, of(card.FactBootable.Of("b"), "no"), StageBootloader, "unknown", "slot b can't be started any more", "shelve /vendor/overlay"},
		{"loop", StageLoop, of(), StageLoop, "unknown", "again and again; what was to start is saltmarsh SM42.260512 (release 14)", "shelve /vendor/overlay"},
		{"nothing seen", StageUnknown, of(), StageUnknown, "unknown", "nobody can tell", "look at its screen"},
	} {
		a := Judge(c.stage, before, c.after)
		first := ""
		if len(a.Advice) > 0 {
			first = strings.TrimSpace(a.Advice[0].Text + " " + strings.Join(a.Advice[0].Words, " "))
		}
		if a.Stage != c.want || string(a.Matches) != c.matches || !strings.Contains(a.Text, c.says) || !strings.Contains(first, c.firstSays) {
			t.Errorf("%s: %+v", c.name, a)
		}
	}
}

// TestSuggest: what a technician would do next.
func TestSuggest(t *testing.T) {
	m := models(t).Find("dunlin")
	set := phone(card.FactDigest.Of(card.At("recovery", "a")), "11")
	rec := phone(card.FactMode, "recovery", card.FactStarted, "a", card.FactData, card.DataFormatted)
	installed := with(rec, card.FactGood.Of("a"), "no")
	installed.Learn(card.FactHolds.Of(card.At("system", "a")), "Saltmarsh", card.Journal)
	for want, c := range map[string]*card.Card{
		"unlock":                phone(card.FactUnlocked, "no"),
		"recovery install FILE": phone(),
		"go recovery":           set,
		"go bootloader":         phone(card.FactMode, "system"),
		"wipe userdata":         with(rec, card.FactData, card.DataEncrypted),
		"sideload PACKAGE":      rec,
		"go system":             installed,
		"":                      phone(card.FactMode, ""),
	} {
		if got := Suggest(c, m); strings.Join(got.Words, " ") != want {
			t.Errorf("%+v, want %q", got, want)
		}
	}
	if got := strings.Join(Suggest(with(rec, card.FactNext, "b"), m).Words, " "); got != "go recovery" {
		t.Errorf("after an install: %q", got)
	}
}

func models(t *testing.T) model.Set {
	t.Helper()
	set, err := model.Load(nil)
	if err != nil {
		t.Fatal(err)
	}
	return set
}

// phone is a dunlin in the bootloader; facts are changed by the pairs behind.
func phone(facts ...any) *card.Card {
	c := &card.Card{}
	for _, f := range []struct {
		fact  card.Which
		value string
	}{{card.FactMode, "bootloader"}, {card.FactModel, "dunlin"}, {card.FactUnlocked, "yes"}, {card.FactSlots, "2"}, {card.FactNext, "a"}} {
		c.Learn(f.fact, f.value, card.Read)
	}
	return with(c, facts...)
}

func with(c *card.Card, facts ...any) *card.Card {
	c = c.Clone()
	for i := 0; i < len(facts); i += 2 {
		c.Learn(facts[i].(card.Which), facts[i+1].(string), card.Read)
	}
	return c
}
