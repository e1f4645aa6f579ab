package cli

import (
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/plan"
)

func (a *app) putCommand() *cobra.Command {
	var to string
	var install bool
	c := &cobra.Command{Use: "put FILE --to storage|sd", Short: "Put a package onto the phone itself, its digest checked there",
		Long: "Sends a file to the shared storage or the memory card of a phone in recovery or with its system started, and\n" +
			"compares the digest of what arrived. With --install it then says what to choose on the phone and waits for the\n" +
			"recovery's own record of the install.",
		Args: words(1, 1, "one file"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.put(cmd, args, to, install) }}
	c.Flags().StringVar(&to, "to", "", "where: storage (the shared storage) or sd (a memory card)")
	c.Flags().BoolVar(&install, "install", false, "then have it installed from there, by hand at the phone")
	c.RegisterFlagCompletionFunc("to", cobra.FixedCompletions(plan.Storages, cobra.ShellCompDirectiveNoFileComp))
	return c
}

func (a *app) put(cmd *cobra.Command, args []string, to string, install bool) error {
	ctx := cmd.Context()
	if !slices.Contains(plan.Storages, to) {
		return usage("put wants --to %s, not %q", strings.Join(plan.Storages, " or "), to)
	}
	paths, err := expand(args)
	if err != nil {
		return err
	}
	if len(paths) != 1 {
		return usage("put takes one file, %s means %d", args[0], len(paths))
	}
	f, err := a.identify(paths[0], ident.Options{})
	if err != nil {
		return err
	}
	j, err := a.job(ctx, cmd, args)
	if err != nil {
		return err
	}
	defer j.Close()
	a.out.Say(bench.Look, "%s is %s, %s", filepath.Base(f.Path), f.Words(), image.Size(f.Size))
	if err := j.Phone.ReadStorage(ctx, j.Link, j.Card, to); err != nil {
		return err
	}
	j.Files = []bench.FileRecord{{Path: f.Path, Size: f.Size}}
	steps := []plan.Step{&plan.Put{File: f, To: to}}
	if install {
		if j.Card.Mode() != card.Recovery {
			return usage("--install wants the phone in its recovery: jarlid go recovery")
		}
		if err := j.Phone.ReadTrusted(ctx, j.Link, j.Card); err != nil {
			return err
		}
		steps = append(steps, &plan.InstallFrom{File: f, To: to})
	}
	j.SetWish(nil, steps...)
	err = a.run(ctx, j)
	a.result["stored"], a.result["packages"] = orEmpty(j.Stored), orEmpty(j.Packages)
	if err != nil || a.dry {
		return err
	}
	for _, s := range j.Stored {
		a.out.Say(bench.Done, "%s lies at %s, %s", filepath.Base(f.Path), s.Path,
			map[string]string{bench.ReadBack: "its digest read there matches", bench.PhoneWord: "taken on the phone's word: it has no tool to make a digest"}[s.Confirmed])
	}
	if install {
		a.out.Say(bench.Done, "%s is installed", filepath.Base(f.Path))
		a.suggest(j)
	}
	return nil
}
