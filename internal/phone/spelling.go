package phone

import (
	"context"
	"strings"

	"jarlid/internal/core/card"
)

// told takes a partition's name as this wire has it, and gives it as the card does. It is false
// for a second one whose name differs in its letters' case alone: the one in small letters counts,
// else the first in their order, and the other is never touched.
func (s *Session) told(name string) (card.Partition, bool) {
	p := card.Part(name)
	key := p.String()
	if have, ok := s.spelt[key]; ok && have != name && (have == key || name != key && have < name) {
		return p, false
	}
	if s.spelt == nil {
		s.spelt = map[string]string{}
	}
	s.spelt[key] = name
	return p, true
}

// learnNames reads how a recovery with a root shell spells its partitions' names; elsewhere it does nothing.
func (s *Session) learnNames(ctx context.Context) error {
	if s.spelt != nil || !s.RootRecovery() {
		return nil
	}
	text, err := s.Text(ctx, "ls "+devicePath+" 2>/dev/null")
	if err != nil {
		return err
	}
	s.spelt = map[string]string{}
	for name := range strings.FieldsSeq(text) {
		s.told(name)
	}
	return nil
}

// Spelling gives a partition's name, which is in small letters in the card, as this wire has it. Of one
// that is there on slots the name without them is spelt as those with them are.
func (s *Session) Spelling(p card.Partition) string { return s.spell(p.String()) }

func (s *Session) spell(name string) string {
	if as, ok := s.spelt[name]; ok {
		return as
	}
	p := card.Part(name)
	if as, ok := s.spelt[p.Base]; ok && p.Slot != "" {
		return card.At(as, p.Slot).String()
	}
	for _, slot := range []string{"a", "b"} {
		if as, ok := s.spelt[name+"_"+slot]; ok {
			return as[:len(name)]
		}
	}
	return name
}
