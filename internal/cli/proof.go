package cli

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/core/image/apk"
	"jarlid/internal/core/image/sums"
	"jarlid/internal/core/proof"
	"jarlid/internal/core/spell"
	"jarlid/internal/files"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

// proven is the result of proof.
type proven struct {
	Files []*proof.Result `json:"files"`
}

// proofCommand: are the files whole, and whose are they.
func (a *app) proofCommand() *cobra.Command {
	var against, signers []string
	var recovery, over string
	c := &cobra.Command{Use: "proof FILE...", Short: "Verify files: digests, signatures, and what they " +
		"carry themselves", Args: words(1, -1, "which files"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.proof(cmd.Context(), args, against, signers, recovery, over)
		}}
	c.Flags().StringArrayVar(&against, "against", nil,
		"a file of digests, or a digest as pasted (repeatable)")
	c.Flags().StringArrayVar(&signers, "signer", nil, "a certificate you trust (PEM or DER; repeatable)")
	c.Flags().StringVar(&recovery, "keys-of", "", "a recovery image whose own keys count as trusted")
	c.Flags().StringVar(&over, "over", "", "an app: would the files be accepted in its place")
	return c
}

func (a *app) proof(ctx context.Context, args, against, signers []string, recovery, over string) error {
	paths, err := files.Expand(args)
	if err != nil {
		return err
	}
	stated, err := files.ReadSums(against)
	if err != nil {
		return err
	}
	trusted, err := files.ReadTrusted(signers, recovery)
	if err != nil {
		return err
	}
	e, err := a.taskEnv(nil)
	if err != nil {
		return err
	}
	ctx, cancel := e.UntilStopped(ctx)
	defer cancel()
	var before *proof.Package
	if over != "" {
		if before, err = files.ReadPackage(ctx, over); err != nil {
			return err
		}
	}
	r := &proven{Files: []*proof.Result{}}
	a.result = r
	mismatch, refused, notRead := 0, 0, 0
	for _, path := range paths {
		res, err := a.proofOne(ctx, path, stated, trusted, before)
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if !errors.Is(err, fs.ErrNotExist) {
				err = fmt.Errorf("%s: %w", path, err)
			}
			a.say("", say.Fail, "%v", err)
			notRead++
			continue
		}
		r.Files = append(r.Files, res)
		a.printProof(res, len(paths) > 1)
		if res.Verdict == proof.Mismatch {
			mismatch++
			if res.Refused() {
				refused++
			}
		}
	}
	if mismatch > 0 && mismatch == refused {
		return &task.NoError{Text: spell.SomeOf(refused, len(paths), "file", "would not be accepted",
			"would not be accepted")}
	}
	if mismatch > 0 {
		return &task.NoError{Text: spell.SomeOf(mismatch, len(paths), "file", "does not match",
			"do not match")}
	}
	if notRead > 0 {
		return errors.New(spell.SomeOf(notRead, len(paths), "file", "could not be read", "could not be read"))
	}
	a.next = append(a.next, e.Command("", append([]string{"ident"}, paths...)...))
	return nil
}

func (a *app) proofOne(ctx context.Context, path string, stated []files.Stated,
	trusted map[string][]*x509.Certificate, over *proof.Package) (*proof.Result, error) {
	f, size, err := files.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	w := proof.Wish{Trusted: trusted, Over: over}
	if len(stated) == 0 {
		stated = files.Beside(path, func(err error) {
			a.say("", say.Warn, "the digests beside it can't be read: %v", err)
		})
	}
	var from []string
	for _, s := range stated {
		w.Listed = true
		mine := s.List
		if !s.Loose {
			mine = sums.For(s.List, path)
		}
		if len(mine) > 0 {
			from = append(from, s.From)
		}
		w.Sums = append(w.Sums, mine...)
	}
	w.Against = strings.Join(from, ", ")
	moved, end := a.env.Working("digested", base(path), size)
	w.Moved = moved
	defer end()
	return proof.Run(ctx, f, size, path, w)
}

// printProof shows the outcome of one file; several: there are others, so each line names its own.
func (a *app) printProof(r *proof.Result, several bool) {
	if a.json {
		return
	}
	name := base(r.Path)
	of := ""
	if several {
		of = name + ": "
	}
	var good []string
	for _, c := range r.Checks {
		switch c.Verdict {
		case proof.Match:
			good = append(good, c.What)
		case proof.Mismatch:
			a.say("", say.Stop, "%s%s: %s", of, c.What, c.Why)
		default:
			a.say("", say.Note, "%s%s: %s", of, c.What, c.Why)
		}
	}
	switch {
	case len(good) > 1 && !a.details:
		a.say("", say.Good, "%s%s good: %s", of, spell.Counted(len(good), "check"), strings.Join(good, ", "))
	default:
		for _, what := range good {
			a.say("", say.Good, "%s%s", of, what)
		}
	}
	a.printSigner(r, of)
	a.out.Whole(say.Info, of+"SHA-256 "+r.SHA256) // it is what was asked for
	a.printVerdict(r, name)
}

// printSigner shows who signed an app or a package.
func (a *app) printSigner(r *proof.Result, of string) {
	if r.App != nil {
		a.say("", say.Info, "%s%s, signed by scheme %s", of,
			(&apk.App{Name: r.App.Name, Version: r.App.Version, Called: r.App.VersionName}).Words(),
			strings.Join(r.App.Schemes, ", "))
		for _, k := range r.App.Keys {
			if len(k.Before) > 0 {
				a.say("", say.Info, "%sby scheme %s its key took the place of %d before it, the first with "+
					"the certificate SHA-256 %s", of, k.Scheme, len(k.Before), k.Before[0])
			}
		}
	}
	if r.Signer != nil {
		a.say("", say.Info, "%ssigned by %s, certificate SHA-256 %s", of, r.Signer.Name, r.Signer.SHA256)
		if r.Signer.Trusted == nil && !r.Replaces() {
			how := "--signer FILE or --keys-of IMAGE"
			if r.App != nil {
				how = "--signer FILE, or --over the app you have"
			}
			a.say("", say.Note, "whether that signer is to be trusted was not asked: %s", how)
		}
	}
}

// printVerdict shows the result of all checks.
func (a *app) printVerdict(r *proof.Result, name string) {
	switch r.Verdict {
	case proof.Match:
		text := name + ": matches"
		if r.Against != "" {
			text += " " + r.Against
		} else {
			text += " what it says of itself"
		}
		a.say("", say.Done, "%s", text)
	case proof.Mismatch:
		if r.Refused() {
			a.say("", say.Fail, "%s: it is whole, and would not be accepted", name)
			break
		}
		a.say("", say.Fail, "%s: does not match; do not use it", name)
	case proof.NotListed:
		a.say("", say.Warn, "%s: no digest is listed for it", name)
	case proof.Unchecked:
		a.say("", say.Warn, "%s: there was nothing to check it against; --against FILE or DIGEST", name)
	}
}
