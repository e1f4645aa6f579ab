package act

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/plan"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/phone"
	"jarlid/internal/phone/shell"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

// wipeArea erases an area through the recovery's shell, or by hand.
func (j *Actor) wipeArea(ctx context.Context, s *plan.WipeArea) (Done, error) {
	rec := Done{Confirm: journal.ReadBack}
	var err error
	if !j.Connected() || j.Card.Value(card.FactRoot) != "yes" {
		if s.Area == "caches" && j.Yes {
			j.Obs.Say(say.Note, "nobody is here to wipe the caches in the recovery's menu; they stay, and "+
				"the next start sorts them out")
			return Done{Confirm: journal.NotKnown}, nil
		}
		rec, err = j.wipeByHand(s)
	} else {
		switch s.Area {
		case "caches":
			err = j.wipeCaches(ctx, s.Along, &rec)
		case "apps":
			err = j.wipeFolder(ctx, phone.AreaData, "media", &rec)
		case "storage":
			err = j.wipeFolder(ctx, phone.AreaStorage, "", &rec)
		default:
			err = j.wipeSystem(ctx, s, &rec)
		}
	}
	if err != nil {
		return rec, err
	}
	plan.Apply(s, j.Card)
	return rec, nil
}

// wipeFolder removes everything in an area's folder but one name, and looks again.
func (j *Actor) wipeFolder(ctx context.Context, area, keep string, rec *Done) error {
	dir, err := j.Mount(ctx, area)
	if err != nil {
		return err
	}
	list := func() (left []string, err error) {
		names, is, err := j.Shell().Folder(ctx, dir)
		if err == nil && !is {
			err = &link.RefusedError{Command: "list " + dir, Message: "it is no folder that can be read"}
		}
		for _, n := range names {
			if n != keep && n != "lost+found" {
				left = append(left, n)
			}
		}
		return left, err
	}
	names, err := list()
	if err != nil {
		return err
	}
	for _, n := range names {
		err := j.Shell().Remove(ctx, dir+"/"+n)
		var refused *link.RefusedError
		if errors.As(err, &refused) {
			rec.Answers = append(rec.Answers, refused.Message)
		} else if err != nil {
			return err
		}
	}
	left, err := list()
	if err == nil && len(left) > 0 {
		err = &link.RefusedError{Command: "rm -rf", Message: fmt.Sprintf("read back, %s still holds %s", dir,
			strings.Join(left, ", "))}
	}
	return err
}

// wipeCaches wipes the partition for caches, where there is one, and the system's compiled code, where the
// data is mounted. Where neither is there it is an error, unless it goes along with another task.
func (j *Actor) wipeCaches(ctx context.Context, along bool, rec *Done) error {
	_, err := j.format(ctx, card.At("cache", ""), "/cache", rec)
	var none *shell.NoMakerError
	if errors.As(err, &none) {
		return j.tellRecovery(ctx, rec, "--wipe_cache")
	}
	partition := err == nil
	if err != nil && !errors.Is(err, wire.ErrNoPartition) {
		return err
	}
	dir, err := j.Mount(ctx, phone.AreaData)
	var not *phone.NotMountedError
	switch {
	case errors.As(err, &not) && partition:
		rec.Left = "the compiled code in the data: " + not.Error()
		return nil
	case errors.As(err, &not) && along:
		rec.Confirm = journal.NotKnown
		j.Obs.Say(say.Note, "no caches were wiped: there is no cache partition, and %v", not)
		return nil
	}
	if err != nil {
		return err
	}
	for _, name := range []string{"dalvik-cache", "cache"} {
		if err := j.Shell().Remove(ctx, dir+"/"+name); err != nil {
			return err
		}
	}
	return nil
}

// wipeSystem formats a partition of the system and checks what is there then.
func (j *Actor) wipeSystem(ctx context.Context, s *plan.WipeArea, rec *Done) error {
	p, _ := s.Partition()
	sure, err := j.format(ctx, p, "/"+s.Area, rec)
	if !sure {
		rec.Confirm = journal.PhoneWord
	}
	return err
}

// wipeByHand has a person do it in the recovery's menu.
func (j *Actor) wipeByHand(s *plan.WipeArea) (Done, error) {
	choose := map[string]string{"caches": `the entry that wipes the caches`,
		"apps":    `the entry that erases apps and settings`,
		"storage": `the entry that erases the storage`,
		"system":  `the entry that erases the system partition`,
		"vendor":  `the entry that erases the vendor partition`}[s.Area]
	r := j.Hand("wipe-"+s.Area, "On the phone, under the menu for wiping, choose "+choose+".")
	if r.Hint == "" {
		r.Hint = map[string]string{"caches": `Do not choose the entry that formats all data.`,
			"apps":    `Do not choose the one that formats all data: the storage would go too.`,
			"storage": `Nothing else: the other entries erase apps or the system.`}[s.Area]
	}
	return j.doneByHand(r, "Does the phone say that it was done?", s.Title())
}
