package act

import (
	"context"
	"fmt"
	"path"
	"path/filepath"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/plan"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/phone"
	"jarlid/internal/say"
)

// put sends a file to a storage of the phone and has it hashed there.
func (j *Job) put(ctx context.Context, s *plan.Put) (Done, error) {
	dir, err := j.StoragePath(ctx, s.To)
	if err != nil {
		return Done{}, err
	}
	if dir == "" {
		return Done{}, &link.RefusedError{Command: s.Title(), Message: "the storage is not there any more"}
	}
	to := path.Join(dir, phoneName(filepath.Base(s.File.Path)))
	rec := Done{Bytes: s.File.Size, Confirm: journal.PhoneWord}
	if rec.SHA256, err = j.sendFile(ctx, s.File, to, to); err != nil {
		return rec, err
	}
	j.Obs.Say(say.Wait, "the phone makes the digest of what arrived")
	there, err := j.DigestThere(ctx, to)
	switch {
	case err != nil:
		return rec, err
	case there != "" && there != rec.SHA256:
		return rec, &link.RefusedError{Command: s.Title(), Message: "what arrived has another digest: " + there}
	case there != "":
		rec.Confirm = journal.ReadBack
	}
	plan.Apply(s, j.Card)
	j.Out.Stored = append(j.Out.Stored, StoredFile{Path: to, Bytes: s.File.Size, SHA256: rec.SHA256, Confirmed: rec.Confirm})
	return rec, nil
}

// phoneName makes a file name that every storage takes: cards are often FAT.
func phoneName(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || strings.ContainsRune(`"*/:<>?\|`, r) {
			return '_'
		}
		return r
	}, s)
}

// recordLimit is how long a person and the recovery may take to install a
// package from the phone's storage.
const recordLimit = 30 * time.Minute

// installFrom shows what to choose and waits for the recovery's own record.
func (j *Job) installFrom(ctx context.Context, s *plan.InstallFrom) (Done, error) {
	before, err := j.Text(ctx, "cat /tmp/last_install")
	if err != nil {
		return Done{}, err
	}
	if before != "" { // of an earlier install: the new one will not look alike
		if _, err := j.Text(ctx, "rm -f /tmp/last_install"); err != nil {
			return Done{}, err
		}
	}
	from := map[string]string{"storage": "the phone's storage", "sd": "the memory card"}[s.To]
	r := j.Hand("install-from-"+s.To, "On the phone, choose the menu entry that installs a package from "+from+", and choose "+filepath.Base(s.File.Path)+".")
	if r.Hint == "" {
		r.Hint = "Do not choose anything that wipes or formats: the package lies there."
	}
	if err := j.Obs.Hands(r, recordLimit); err != nil {
		return Done{}, err
	}
	next := j.Card.Value(card.FactNext)
	for end := time.Now().Add(recordLimit); time.Now().Before(end); {
		text, err := j.Text(ctx, "cat /tmp/last_install")
		if err != nil {
			return Done{}, err
		}
		if lines := strings.Split(text, "\n"); len(lines) > 1 {
			return j.fromRecord(ctx, s, strings.TrimSpace(lines[1]), next)
		}
		if err := phone.Pause(ctx, time.Second); err != nil {
			return Done{}, err
		}
	}
	return Done{}, &UnknownError{Text: "nobody can tell what became of the package: the recovery wrote no record of an install", Hint: "look at the phone's screen"}
}

// fromRecord is the end of an install the recovery did by itself.
func (j *Job) fromRecord(ctx context.Context, s *plan.InstallFrom, record, next string) (Done, error) {
	pkg := PackageResult{Path: s.File.Path, Outcome: Failed, Evidence: "the recovery's own record says that it failed"}
	if err := j.Reread(ctx); err != nil {
		return Done{}, err
	}
	if record == "1" {
		pkg.Outcome, pkg.Evidence = Installed, "the recovery's own record says so"
		if now := j.Card.Value(card.FactNext); s.File.Kind == ident.OTAAB && now != next {
			pkg.Evidence = fmt.Sprintf("the recovery's own record says so, and slot %s starts next", now)
		}
	}
	j.Out.Packages = append(j.Out.Packages, pkg)
	return Done{Confirm: pkg.Evidence}, j.outcome(&plan.Sideload{File: s.File}, &pkg, nil, true)
}
