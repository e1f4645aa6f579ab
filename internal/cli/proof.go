package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/core/image/apk"
	"jarlid/internal/core/proof"
	"jarlid/internal/core/spell"
	"jarlid/internal/files"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

// proofCommand: are the files whole, and whose are they.
func (a *app) proofCommand() *cobra.Command {
	p := &task.Proof{}
	c := &cobra.Command{Use: "proof FILE...", Short: "Verify files: digests, signatures, and what they " +
		"carry themselves", Args: words(1, -1, "which files"),
		RunE: func(cmd *cobra.Command, args []string) error {
			p.Paths = args
			return a.proof(cmd.Context(), p)
		}}
	c.Flags().StringArrayVar(&p.Against, "against", nil,
		"a file of digests, or a digest as pasted (repeatable)")
	c.Flags().StringArrayVar(&p.Signers, "signer", nil, "a certificate you trust (PEM or DER; repeatable)")
	c.Flags().StringVar(&p.KeysOf, "keys-of", "", "a recovery image whose own keys count as trusted")
	c.Flags().StringVar(&p.Over, "over", "", "an app: would the files be accepted in its place")
	return c
}

func (a *app) proof(ctx context.Context, p *task.Proof) error {
	var err error
	if p.Paths, err = files.Expand(p.Paths); err != nil {
		return err
	}
	e, err := a.taskEnv(nil)
	if err != nil {
		return err
	}
	p.Show = a.printProof
	r, err := p.Run(ctx, e)
	a.result = r
	if err == nil {
		a.next = append(a.next, e.Command("", append([]string{"ident"}, p.Paths...)...))
	}
	return err
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
		case proof.Mismatch, proof.Missing:
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
	if r.SHA256 != "" {
		a.out.Whole(say.Info, of+"SHA-256 "+r.SHA256) // it is what was asked for
	}
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
		if r.ListedAs != "" {
			text += ", listed as " + base(r.ListedAs)
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
	case proof.Missing:
		if len(r.Checks) > 0 {
			a.say("", say.Fail, "%s: a piece is missing; do not use the others without it", name)
			break
		}
		a.say("", say.Fail, "%s: %s lists it, and it is not there", name, r.Against)
	case proof.Unchecked:
		a.say("", say.Warn, "%s: there was nothing to verify it with; --against FILE or DIGEST", name)
	}
}
