package files

import (
	"errors"
	"path/filepath"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/local"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
	"jarlid/internal/say"
)

// Grafts are the steps that write rebuilt images, and what was found on the way.
type Grafts struct {
	Writes []*plan.Write
	Found  []finding.Finding
}

// NothingToGraft is the error of a recovery for which no slot holds an image that it could go into.
func NothingToGraft(home place.Home, recovery string, c *card.Card) error {
	into := home.Partition
	if slots, _ := c.Slots(); len(slots) > 1 {
		into += "@both"
	}
	return finding.Stopped(finding.NothingThere, home.Partition,
		"no slot of this phone holds an image the recovery could go into",
		"write the file whole: jarlid flash "+local.Quote(recovery)+" --into "+into)
}

// GraftAll makes the images of all slots that have one, from the recovery in a file and
// the images they go into (files, by partition), in the folder dir, and the steps that put
// them there.
func GraftAll(obs say.To, home place.Home, recovery string, into []*plan.Write,
	contents map[card.Partition]string, dir string, c *card.Card) (*Grafts, error) {
	ramdisk, err := ramdiskOf(recovery)
	if err != nil {
		return nil, err
	}
	made := &Grafts{}
	for _, w := range into {
		room, _ := c.Number(card.FactSize.Of(w.Name()))
		g, err := graftOne(Grafting{Home: home, Into: w.Name(), Room: room, Ramdisk: ramdisk,
			Base:    contents[w.Name()],
			Packing: func(why string) { obs.Say(say.Wait, "%s", why) }}, dir)
		if errors.Is(err, ErrEmptySlot) {
			obs.Say(say.Note, "%s is empty and left alone; what is installed there brings its own", w.Name())
			continue
		}
		if err != nil {
			return nil, err
		}
		if g.Packed != "" {
			obs.Say(say.Note, "the ramdisk: %s", g.Packed)
		}
		made.Found = append(made.Found, plan.LostFindings(w.Name().String(), g.Lost)...)
		n := *w
		n.Made = true
		n.Label = "the rebuilt image with " + filepath.Base(recovery)
		if n.File, err = Identify(g.Path, ident.Options{}); err != nil {
			return nil, err
		}
		obs.Say(say.Good, "%s: the recovery's ramdisk is in it, everything else is as it was; read again "+
			"and compared", w.Name())
		made.Writes = append(made.Writes, &n)
	}
	return made, nil
}
