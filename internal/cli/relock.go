package cli

import (
	"context"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
	"jarlid/internal/core/card"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/core/plan"
)

func (a *app) relockCommand() *cobra.Command {
	var images string
	c := &cobra.Command{Use: "relock", Short: "Lock the bootloader again: what it costs, and whether the phone will start then", Args: noWords,
		Long: "Locks the bootloader. A locked phone starts only what its maker signed, so it is done only when it is known that the phone holds just\n" +
			"that: the maker's set is named with --images, its chain verified, and each of its images held against what was written to the phone.",
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			step := &plan.Relock{}
			if images != "" {
				if err := a.provenImages(ctx, images, step); err != nil {
					return err
				}
			}
			j, err := a.job(ctx, cmd, args)
			if err != nil {
				return err
			}
			defer j.Close()
			if yes, known := j.Card.Yes(card.FactUnlocked); known && !yes && j.Card.Get(card.FactUnlocked).Evidence == card.Read {
				a.result["unlocked"] = false
				a.out.Say(bench.Done, "the bootloader is locked already; nothing was changed")
				return nil
			}
			j.SetWish(nil, step)
			if err := a.run(ctx, j); err != nil || a.dry {
				return err
			}
			a.result["unlocked"] = false
			a.out.Say(bench.Done, "the bootloader is locked, read back; all data is erased")
			a.next = append(a.next, a.command("jarlid go system", j.Phone.Name))
			return nil
		}}
	c.Flags().StringVar(&images, "images", "", "the maker's firmware set that is on the phone: a folder, a zip, a payload")
	return c
}

// provenImages verifies a set's chain and makes the digests of its images.
func (a *app) provenImages(ctx context.Context, images string, step *plan.Relock) error {
	set, err := a.setOf(ctx, images)
	if err != nil {
		return err
	}
	chain, err := vbmeta.VerifyChain(ctx, set.source, "vbmeta", true)
	if err != nil {
		return err
	}
	verdict := plan.JudgeChain(chain, &card.Card{})
	step.Key, step.Why, step.Images = verdict.LockedIfTrusts, verdict.LockedWhy, map[string]string{}
	if step.Key != "" {
		a.out.Say(bench.Good, "the set verifies, signed with the key %s", step.Key)
	}
	for part, path := range set.paths {
		sum, _, err := bench.FileDigest(ctx, path)
		if err != nil {
			return err
		}
		step.Images[part] = sum
	}
	return nil
}
