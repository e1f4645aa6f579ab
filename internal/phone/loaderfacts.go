package phone

import (
	"context"
	"strconv"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/link/usb"
	"jarlid/internal/phone/wire"
)

// loaderFacts are the loader's facts that have a name of ours; the rest are shown as they are.
var loaderFacts = map[string]func(c *card.Card, v string){
	"unlocked":           func(c *card.Card, v string) { learnYes(c, card.FactUnlocked, v) },
	"verifies":           func(c *card.Card, v string) { learnYes(c, card.FactVerifies, v) },
	"battery":            func(c *card.Card, v string) { learnNumber(c, card.FactPercent, v) },
	"battery.millivolts": func(c *card.Card, v string) { learnNumber(c, card.FactMillivolts, v) },
	"slots":              func(c *card.Card, v string) { learnNumber(c, card.FactSlots, v) },
}

func learnRead(c *card.Card, f card.Which, v string) {
	c.Set(f, card.Fact{Value: v, Source: card.Read, Mode: card.Loader, At: now()})
}

func learnYes(c *card.Card, f card.Which, v string) {
	if yes, ok := card.ParseYes(v); ok {
		learnRead(c, f, map[bool]string{true: "yes", false: "no"}[yes])
	}
}

func learnNumber(c *card.Card, f card.Which, v string) {
	if n, err := strconv.Atoi(v); err == nil && n >= 0 {
		learnRead(c, f, strconv.Itoa(n))
	}
}

// readLoader reads what a loader reports: who it is, how the phone is, and the table of partitions.
func (s *Session) readLoader(ctx context.Context, l wire.Reporter) error {
	for name, f := range map[string]card.Plain{
		"product": card.FactProduct,
		"serial":  card.FactSerial,
		"loader":  card.FactBootloader,
		"screen":  card.FactScreen,
	} {
		s.learn(f, strings.TrimSpace(usb.Text(l.Hello()[name])))
	}
	if d, here := s.Device(s.Address()); here {
		s.learn(card.FactLoaderUSB, d.Numbers())
	}
	told, err := l.Told(ctx)
	if err != nil {
		return err
	}
	for name, v := range told {
		if learn := loaderFacts[name]; learn != nil {
			learn(s.Card, v)
		}
	}
	return s.readLoaderTable(ctx)
}

func (s *Session) readLoaderTable(ctx context.Context) error {
	table, err := s.Table(ctx)
	if err != nil {
		return err
	}
	c := s.Card
	s.spelt, s.sizes = nil, map[card.Partition]int64{} // it may be another table
	for _, p := range table {
		at, ok := s.told(p.Name)
		if !ok {
			continue
		}
		s.sizes[at] = p.Size
		learnRead(c, card.FactSize.Of(at), strconv.FormatInt(p.Size, 10))
		learnRead(c, card.FactNumber.Of(at), strconv.Itoa(p.Number))
		if p.Type != "" {
			learnRead(c, card.FactType.Of(at), p.Type)
		}
	}
	return nil
}
