package place

import (
	"slices"

	"jarlid/internal/core/card"
)

// releases are the properties that say which release a system is of ("Build" in the platform's
// compatibility definition), and the facts they are; earlier ones count first.
var releases = []struct {
	fact  card.BySlot
	props []string
}{
	{card.FactRelease, []string{"ro.build.version.release", "ro.system.build.version.release"}},
	{card.FactPatch, []string{"ro.build.version.security_patch"}},
	{card.FactLevel, []string{"ro.build.version.sdk", "ro.system.build.version.sdk"}},
}

// LearnRelease gives the facts about its release that a system's properties state, for the slot
// it is on.
func LearnRelease(props map[string]string, slot string, learn func(w card.Which, value string)) {
	for _, r := range releases {
		for _, name := range r.props {
			if v := props[name]; v != "" {
				learn(r.fact.Of(slot), v)
				break
			}
		}
	}
}

// releaseFact gives the fact a property of the system is, on the slot that runs.
func releaseFact(c *card.Card, property string) (card.ID, bool) {
	for _, r := range releases {
		if slices.Contains(r.props, property) {
			return r.fact.Of(c.Running()), true
		}
	}
	return card.ID{}, false
}
