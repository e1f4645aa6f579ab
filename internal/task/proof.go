package task

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"

	"jarlid/internal/core/finding"
	"jarlid/internal/core/image/sums"
	"jarlid/internal/core/proof"
	"jarlid/internal/core/spell"
	"jarlid/internal/files"
	"jarlid/internal/say"
)

// Proof verifies files: against digests that are stated, and by what they carry themselves.
type Proof struct {
	Paths   []string
	Against []string // files of digests, and pasted digests
	Signers []string // files of certificates that are trusted
	KeysOf  string   // a recovery whose keys are trusted
	Over    string   // an app that the files would take the place of
	// Show is called with each file's result; several: there are others.
	Show func(r *proof.Result, several bool)

	stated  []files.Stated
	trusted map[string][]*x509.Certificate
	before  *proof.Package
}

// Proven is the result.
type Proven struct {
	Files []*proof.Result `json:"files"`
}

// Run verifies all of them. Where no digests are stated, a file of digests means the files it lists. Errors:
// *NoError where one does not match, is not listed or is missing.
func (p *Proof) Run(ctx context.Context, e *Env) (*Proven, error) {
	r := &Proven{Files: []*proof.Result{}}
	var err error
	if p.stated, err = files.ReadSums(p.Against); err != nil {
		return r, err
	}
	if p.trusted, err = files.ReadTrusted(p.Signers, p.KeysOf); err != nil {
		return r, err
	}
	ctx, cancel := e.UntilStopped(ctx)
	defer cancel()
	if p.Over != "" {
		if p.before, err = files.ReadPackage(ctx, p.Over); err != nil {
			return r, err
		}
	}
	paths, lists := p.Paths, map[string]files.Stated{}
	if len(p.stated) == 0 {
		paths, lists = listed(paths)
	}
	notRead := 0
	for _, path := range paths {
		res, err := p.one(ctx, e, path, lists)
		switch list, of := lists[path]; {
		case err == nil:
		case ctx.Err() != nil:
			return r, ctx.Err()
		case of && errors.Is(err, fs.ErrNotExist):
			res = &proof.Result{Path: path, Verdict: proof.Missing, Against: list.From,
				Checks: []proof.Check{}}
		default:
			if !errors.Is(err, fs.ErrNotExist) {
				err = fmt.Errorf("%s: %w", path, err)
			}
			e.Obs().Say(say.Fail, "%v", err)
			notRead++
			continue
		}
		r.Files = append(r.Files, res)
		p.Show(res, len(paths) > 1)
	}
	return r, ended(r.Files, len(paths), notRead)
}

// listed puts the files that a file of digests lists in its place, once each. of says for each of them which
// list that was.
func listed(paths []string) (all []string, of map[string]files.Stated) {
	of = map[string]files.Stated{}
	for _, path := range paths {
		names, stated := files.Listed(path)
		if len(names) == 0 {
			all = append(all, path)
			continue
		}
		for _, name := range names {
			if _, double := of[name]; !double {
				of[name], all = stated[name], append(all, name)
			}
		}
	}
	return all, of
}

// ended is the answer about all of them: no, where one is not what it should be; not known, where nothing was
// there to compare one with.
func ended(list []*proof.Result, of, notRead int) error {
	count, refused := map[proof.Verdict]int{}, 0
	for _, r := range list {
		if count[r.Verdict]++; r.Verdict == proof.Mismatch && r.Refused() {
			refused++
		}
	}
	answer := func(n int, one, more string) string { return spell.SomeOf(n, of, "file", one, more) }
	switch bad := count[proof.Mismatch]; {
	case bad > 0 && bad == refused:
		return &NoError{answer(bad, "would not be accepted", "would not be accepted"), finding.DamagedFile}
	case bad > 0:
		return &NoError{answer(bad, "does not match", "do not match"), finding.DamagedFile}
	case count[proof.Missing] > 0:
		return &NoError{answer(count[proof.Missing], "is missing", "are missing"), finding.DamagedFile}
	case count[proof.NotListed] > 0:
		return &NoError{Text: answer(count[proof.NotListed], "is not listed", "are not listed")}
	case notRead > 0:
		return errors.New(answer(notRead, "could not be read", "could not be read"))
	case count[proof.Unchecked] > 0:
		return errors.New(answer(count[proof.Unchecked], "has nothing to verify it with",
			"have nothing to verify them with"))
	}
	return nil
}

// one verifies a file. lists are the files of digests it was found in.
func (p *Proof) one(ctx context.Context, e *Env, path string, lists map[string]files.Stated) (*proof.Result,
	error) {
	f, size, err := files.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	folder := files.BesideOf(path)
	defer folder.Close()
	w := proof.Wish{Trusted: p.trusted, Over: p.before, Beside: folder}
	stated := p.stated
	if list, of := lists[path]; of {
		stated = []files.Stated{list}
	} else if len(stated) == 0 {
		stated = files.Beside(path, func(err error) {
			e.Obs().Say(say.Warn, "the digests beside it can't be read: %v", err)
		})
	}
	var from, in []string
	for _, s := range stated {
		mine := s.List
		if !s.Loose {
			mine = sums.For(s.List, path)
			w.Others, in = append(w.Others, s.List...), append(in, s.From)
		}
		if w.Listed = w.Listed || !s.Aside || len(mine) > 0; len(mine) > 0 {
			from = append(from, s.From)
		}
		w.Sums = append(w.Sums, mine...)
	}
	w.Against, w.In = strings.Join(from, ", "), strings.Join(in, ", ")
	var end func()
	w.Moved, end = e.Working("digested", filepath.Base(path), size)
	defer end()
	return proof.Run(ctx, f, size, path, w)
}
