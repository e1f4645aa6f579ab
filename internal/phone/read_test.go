package phone

import (
	"testing"
	"time"

	"jarlid/internal/core/card"
)

// TestStale: a charge that was read a while ago counts, an old one and one from the future do not.
func TestStale(t *testing.T) {
	for age, kept := range map[time.Duration]bool{
		time.Minute:      true,
		29 * time.Minute: true,
		31 * time.Minute: false,
		-time.Hour:       false,
	} {
		c := &card.Card{}
		c.Set(card.FactPercent, card.Fact{Value: "80", Source: card.Journal, At: time.Now().Add(-age)})
		c.Set(card.FactUnlocked, card.Fact{Value: "yes", Source: card.Journal, At: time.Now().Add(-age)})
		stale(c)
		if _, known := c.Number(card.FactPercent); known != kept {
			t.Errorf("%v old: known is %v", age, known)
		}
		if yes, _ := c.Yes(card.FactUnlocked); !yes {
			t.Errorf("%v old: what lasts is forgotten", age)
		}
	}
}
