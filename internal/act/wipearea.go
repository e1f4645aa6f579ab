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
			err = j.wipeCaches(ctx, &rec)
		case "apps":
			err = j.wipeNames(ctx, "/data", "media", &rec)
		case "storage":
			var dir string
			if dir, err = j.StoragePath(ctx, "storage"); err == nil && dir == "" {
				err = &link.RefusedError{Command: s.Title(), Message: "the storage is not there"}
			}
			if err == nil {
				err = j.wipeNames(ctx, dir, "", &rec)
			}
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

// wipeNames removes everything in a folder but one name, and looks again.
func (j *Actor) wipeNames(ctx context.Context, dir, keep string, rec *Done) error {
	list := func() ([]string, error) {
		text, err := j.Text(ctx, "ls -A "+phone.QuoteShell(dir))
		if err != nil {
			return nil, err
		}
		var names []string
		for line := range strings.SplitSeq(text, "\n") {
			if line != "" && line != keep && line != "lost+found" {
				names = append(names, line)
			}
		}
		return names, nil
	}
	names, err := list()
	if err != nil {
		return err
	}
	for _, n := range names {
		rctx, cancel := context.WithTimeout(ctx, formatLimit)
		out, err := j.Shell(rctx, "rm -rf "+phone.QuoteShell(dir+"/"+n))
		cancel()
		if err != nil {
			return err
		}
		if text := strings.TrimSpace(string(out.Stderr)); text != "" {
			rec.Answers = append(rec.Answers, text)
		}
	}
	left, err := list()
	if err == nil && len(left) > 0 {
		err = &link.RefusedError{Command: "rm -rf", Message: fmt.Sprintf("read back, %s still holds %s", dir,
			strings.Join(left, ", "))}
	}
	return err
}

// wipeCaches wipes the partition for caches, where there is one, and the
// system's compiled code, where the data can be read.
func (j *Actor) wipeCaches(ctx context.Context, rec *Done) error {
	head, err := j.ReadBlock(ctx, "cache", 4096)
	if err != nil {
		return err
	}
	if head != nil {
		err := j.format(ctx, "cache", "/cache", rec)
		var missing *missingError
		if errors.As(err, &missing) {
			return j.tellRecovery(ctx, rec, "--wipe_cache")
		}
		if err != nil {
			return err
		}
	}
	for _, dir := range []string{"/data/dalvik-cache", "/data/cache"} {
		if err := j.Do(ctx, "rm -rf "+dir+"; [ ! -e "+dir+" ]", "rm -rf "+dir); err != nil {
			return err
		}
	}
	return nil
}

// wipeSystem formats a partition of the system and checks what is there then.
func (j *Actor) wipeSystem(ctx context.Context, s *plan.WipeArea, rec *Done) error {
	p, _ := s.Partition()
	if err := j.format(ctx, p.String(), "/"+s.Area, rec); err != nil {
		return err
	}
	b, err := j.ReadBlock(ctx, p.String(), 4096)
	if err != nil {
		return err
	}
	switch super := phone.Ext4Super(b); {
	case super == nil:
		rec.Confirm = journal.PhoneWord
	case super.Mounts != 0:
		return &link.RefusedError{Command: s.Title(),
			Message: "read back, the old file system is still there"}
	}
	return nil
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
