package plan

import (
	"jarlid/internal/core/card"
)

// ByHand tells whether a step is known beforehand to need somebody at the phone, and gives
// the name of the recipe; "" where it needs nobody, or where only trying shows it.
func ByHand(s Step, c *card.Card) (recipe string) {
	switch s := s.(type) {
	case *Unlock:
		return "unlock"
	case *Relock:
		return "relock"
	case *InstallFrom:
		return "install-from-" + s.To
	case *Restart:
		if s.From == card.Recovery && s.To == card.Sideload {
			tried, _ := c.Yes(card.FactTemporary) // a restart would end it
			if root, known := c.Yes(card.FactRoot); tried || known && !root {
				return string(s.To)
			}
			return ""
		}
		if s.To == card.Loader && s.From != card.Loader || s.From == card.Loader && s.To != card.Loader &&
			s.To != card.System {
			return string(s.To) // a maker's loader is entered and left by keys
		}
		word := RestartCommand(s.To)
		if word == "" || s.From != card.Bootloader && s.From != card.Fastbootd {
			return ""
		}
		if yes, known := c.Yes(card.FactCommand.Of(word)); known && !yes {
			return string(s.To)
		}
	}
	return ""
}
