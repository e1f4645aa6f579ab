package act

import (
	"context"
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/plan"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/phone/shell"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

// put sends a file to a storage of the phone and has it hashed there.
func (j *Actor) put(ctx context.Context, s *plan.Put) (Done, error) {
	dir, err := j.Mount(ctx, s.To)
	if err != nil {
		return Done{}, err
	}
	to := path.Join(dir, phoneName(filepath.Base(s.File.Path)))
	rec := Done{Bytes: s.File.Size, Confirm: journal.PhoneWord}
	if lies, sum, err := j.liesThere(ctx, s.File, to); err != nil {
		return rec, err
	} else if lies {
		plan.Apply(s, j.Card)
		j.Out.Stored = append(j.Out.Stored, StoredFile{Path: to, Bytes: s.File.Size, SHA256: sum,
			Confirmed: journal.ReadBack, There: true})
		return Done{SHA256: sum, Confirm: journal.ReadBack}, nil
	}
	if rec.SHA256, err = j.sendFile(ctx, s.File, to, to); err != nil {
		return rec, err
	}
	j.Obs.Say(say.Wait, "the phone makes the digest of what arrived")
	there, err := j.Shell().Digest(ctx, to)
	switch {
	case err != nil:
		return rec, err
	case there != "" && there != rec.SHA256:
		return rec, &link.RefusedError{Command: s.Title(), Message: "what arrived has another digest: " +
			there}
	case there != "":
		rec.Confirm = journal.ReadBack
	}
	plan.Apply(s, j.Card)
	j.Out.Stored = append(j.Out.Stored, StoredFile{Path: to, Bytes: s.File.Size, SHA256: rec.SHA256,
		Confirmed: rec.Confirm})
	return rec, nil
}

// liesThere reports whether the very file is on the phone already, by a digest made there.
func (j *Actor) liesThere(ctx context.Context, f *ident.File, to string) (lies bool, sum string, err error) {
	y, err := j.Sync(ctx)
	if err != nil {
		return false, "", err
	}
	st, err := y.Stat(ctx, to)
	y.Close()
	if err != nil || st.Size != f.Size {
		var lost *link.LostError
		if errors.As(err, &lost) {
			return false, "", err
		}
		return false, "", nil
	}
	there, err := j.Shell().Digest(ctx, to)
	if err != nil || there == "" {
		return false, "", err
	}
	j.Obs.Say(say.Read, "%s is there with the same size; its digest is compared", to)
	sum, _, err = j.Verifier.SHA256(ctx, f.Path, nil)
	return sum == there, sum, err
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
func (j *Actor) installFrom(ctx context.Context, s *plan.InstallFrom) (Done, error) {
	// What is left of an earlier install goes: the new one will not look alike.
	if err := j.Shell().Remove(ctx, lastInstall); err != nil {
		return Done{}, err
	}
	name := phoneName(filepath.Base(s.File.Path))
	from := map[string]string{"storage": "the phone's storage", "sd": "the memory card"}[s.To]
	r := j.Hand("install-from-"+s.To, "On the phone, choose the menu entry that installs a package from "+
		from+".")
	r.Do = append(slices.Clone(r.Do), "The file to choose is "+name+".")
	if r.Hint == "" {
		r.Hint = "Do not choose anything that wipes or formats: the package lies there."
	}
	if err := j.Obs.Hands(r, recordLimit); err != nil {
		return Done{}, err
	}
	next := j.Card.Value(card.FactNext)
	hctx, stop := j.awaiting(ctx)
	defer stop()
	other := record{}
	for end := time.Now().Add(recordLimit); time.Now().Before(end); {
		b, _, err := j.Shell().File(hctx, lastInstall)
		if err != nil && !shell.Unknown(err) {
			return Done{}, Stopped(hctx, err)
		}
		switch r := parseRecord(string(b)); {
		case r.outcome == "":
		case r.of(name):
			return j.fromRecord(ctx, s, r.outcome, next)
		case r != other:
			other = r
			j.Obs.Say(say.Warn, "the recovery has installed another package, %s; %s is still awaited",
				path.Base(r.path), name)
		}
		if err := wire.Pause(hctx, time.Second); err != nil {
			return Done{}, Stopped(hctx, err)
		}
	}
	return Done{}, &UnknownError{Text: "nobody can tell what became of " + name +
		": the recovery wrote no record of its install", Hint: "look at the phone's screen"}
}

// fromRecord is the end of an install the recovery did by itself.
func (j *Actor) fromRecord(ctx context.Context, s *plan.InstallFrom, record, next string) (Done, error) {
	pkg := PackageResult{Path: s.File.Path, Outcome: Failed,
		By: "the recovery's own record says that it failed"}
	if err := j.Reread(ctx); err != nil {
		return Done{}, err
	}
	if record == "1" {
		pkg.Outcome, pkg.By = Installed, "the recovery's own record says so"
		if now := j.Card.Value(card.FactNext); s.File.Kind == ident.OTAAB && now != next {
			pkg.By = fmt.Sprintf("the recovery's own record says so, and slot %s starts next", now)
		}
	} else if errs := j.logErrors(ctx); len(errs) > 0 {
		for _, line := range errs {
			j.Obs.Say(say.Info, "the recovery's log: %s", line)
		}
		pkg.By += ": " + errs[len(errs)-1]
	}
	j.Out.Packages = append(j.Out.Packages, pkg)
	return Done{Confirm: pkg.By}, j.outcome(&plan.Sideload{File: s.File}, &pkg, nil, true)
}
