package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/act"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/say"
	"jarlid/internal/task"
)

func (a *app) vbmetaCommand() *cobra.Command {
	c := &cobra.Command{Use: "vbmeta", Short: "Read what verified boot believes, verify the whole chain, " +
		"switch its two flags", Args: noWords,
		RunE: wants("show, check, loosen or tighten")}
	show := &cobra.Command{Use: "show FILE|PARTITION", Short: "Show header, key, flags in words, and every " +
		"descriptor", Args: words(1, 1, "which file, or which partition of the phone"), RunE: a.vbmetaShow}
	var t task.VBMetaCheck
	check := &cobra.Command{Use: "check [FILE --images DIR|ZIP|PAYLOAD]",
		Short: "Verify the whole chain against images, or on the phone",
		Args:  words(0, 1, "which vbmeta image: the top one"),
		Long: "Verifies signatures, the keys of chained images, digests and hash trees by the published " +
			"rules, and says what an unlocked and a\n" +
			"locked phone would do with it. Without a file: what is on the phone, read in a recovery with " +
			"a root shell; that takes minutes.\n" +
			"With --on or --card, the rollback indexes the phone has stored count too, where they are " +
			"known.\n" +
			"Ends with 0 when an unlocked phone starts it, else with 6.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				t.File = args[0]
			}
			return a.vbmetaCheck(cmd, &t)
		}}
	check.Flags().StringVar(&t.Images, "images", "",
		"with a file, the images it answers for: a folder, a zip, a payload, a super image")
	check.Flags().StringVar(&t.Slot, "slot", "", "on the phone: a, b, current or other (default: the one "+
		"that starts next)")
	c.AddCommand(show, check, a.vbmetaFlags(true), a.vbmetaFlags(false))
	return c
}

func (a *app) vbmetaShow(cmd *cobra.Command, args []string) error {
	e, err := a.taskEnv(cmd)
	if err != nil {
		return err
	}
	r, err := (&task.VBMetaShow{Word: args[0]}).Run(cmd.Context(), e)
	if err != nil {
		return err
	}
	if !r.Present {
		a.result = absent{}
		a.say("", say.Good, "this phone has no vbmeta: verified boot of this kind is not there, and "+
			"nothing has to be switched off")
		return nil
	}
	a.result = r
	rows := [][]string{{"made by", r.ReleaseString},
		{"needs libavb", fmt.Sprintf("%d.%d", r.RequiredMajor, r.RequiredMinor)}, {"algorithm", r.Algorithm},
		{"key", r.Key}, {"signature", r.Signature}, {"flags", fmt.Sprintf("%d: %s", r.Flags, r.FlagsWords)},
		{"rollback index", fmt.Sprintf("%d, stored at location %d", r.RollbackIndex,
			r.RollbackIndexLocation)},
		{"size", image.Size(r.Size)}}
	if r.Footer != nil {
		rows = append(rows, []string{"lies in", fmt.Sprintf("the footer of an image of %s, at %d",
			image.Size(r.Footer.OriginalImageSize), r.Footer.VBMetaOffset)})
	}
	a.out.Table([]string{"FIELD", "VALUE"}, rows)
	var about [][]string
	for _, d := range r.Of {
		about = append(about, descriptorRow(d))
	}
	if len(about) > 0 {
		a.out.Table([]string{"DESCRIPTOR", "ABOUT", "SIZE", "WHAT IT STATES"}, about)
	} else {
		a.say("", say.Info, "it has no descriptors: it answers for nothing")
	}
	return nil
}

// absent is the result where there is no verified boot of this kind.
type absent struct {
	Present bool `json:"present"`
}

// descriptorRow gives one descriptor as a row of the table.
func descriptorRow(d *vbmeta.Descriptor) []string {
	kind := task.TagWord(d)
	switch d.Tag {
	case vbmeta.TagHash:
		return []string{kind, d.PartitionName, image.Size(int64(d.ImageSize)),
			fmt.Sprintf("%s %x", d.HashAlgorithm, d.Digest)}
	case vbmeta.TagHashtree:
		fec := "no FEC"
		if d.FECSize > 0 {
			fec = "FEC of " + image.Size(int64(d.FECSize))
		}
		return []string{kind, d.PartitionName, image.Size(int64(d.ImageSize)),
			fmt.Sprintf("%s root %x, tree of %s at %d, blocks of %d, %s", d.HashAlgorithm, d.Digest,
				image.Size(int64(d.TreeSize)), d.TreeOffset, d.DataBlockSize, fec)}
	case vbmeta.TagChain:
		return []string{kind, d.PartitionName, "-", fmt.Sprintf("key %s, rollback index at location %d",
			vbmeta.Fingerprint(d.PublicKey), d.RollbackIndexLocation)}
	case vbmeta.TagProperty:
		return []string{kind, d.Key, "-", d.Value}
	case vbmeta.TagCmdline:
		return []string{kind, "-", "-", d.Value}
	}
	return []string{kind, "-", image.Size(int64(len(d.Raw))), "kept as it is"}
}

func (a *app) vbmetaCheck(cmd *cobra.Command, t *task.VBMetaCheck) error {
	e, err := a.taskEnv(cmd)
	if err != nil {
		return err
	}
	r, err := t.Run(cmd.Context(), e)
	if err != nil {
		return err
	}
	if !r.Present {
		a.result = absent{}
		a.say("", say.Good, "this phone has no vbmeta: verified boot of this kind is not there")
		return nil
	}
	a.result = r
	var rows [][]string
	for _, k := range r.Checks {
		is := map[bool]string{true: "good", false: "bad"}[k.OK]
		if k.Missing && len(r.Missing) > 0 {
			is = "missing"
		}
		rows = append(rows, []string{k.Partition, k.Kind, is, k.Why})
	}
	a.out.Table([]string{"PARTITION", "KIND", "IS", "WHY"}, rows)
	if r.Top != nil {
		a.say("", say.Info, "flags of the top vbmeta: %d, %s", r.Top.Flags, vbmeta.FlagWords(r.Top.Flags))
	}
	if r.LockedIfTrusts != nil {
		a.say("", say.Info, "a locked phone starts it only if it trusts the key %s", *r.LockedIfTrusts)
	} else {
		a.say("", say.Info, "no locked phone starts it: %s", r.Verdict.LockedWhy)
	}
	if !r.Unlocked {
		a.next = append(a.next, "jarlid explain "+finding.VerityRejects)
		return &task.NoError{Text: "an unlocked phone does not start it: " + r.Verdict.WhyNot}
	}
	if len(r.Missing) > 0 {
		return &act.UnknownError{Text: "nobody can tell whether a phone starts it: what is there is good, " +
			"and these are missing: " + strings.Join(r.Missing, ", "),
			Hint: "name a folder, archive or payload that holds them too"}
	}
	a.say("", say.Done, "an unlocked phone starts it")
	return nil
}

func (a *app) vbmetaFlags(off bool) *cobra.Command {
	t := task.Flags{Off: off}
	use, short := "loosen hashtree|verification [FILE]",
		"Switch hash trees or all verification off, in a file or on the phone"
	if !off {
		use, short = "tighten hashtree|verification [FILE]", "Switch them on again"
	}
	c := &cobra.Command{Use: use, Short: short,
		Args:      words(1, 2, "which switch: hashtree or verification, and perhaps a file"),
		ValidArgs: []string{"hashtree", "verification"},
		Long: "With a file and -o: writes a copy of it with the flag changed. Without: changes the top " +
			"vbmeta of the phone, on both slots, from\n" +
			"the image that is there where it can be read, else from --from FILE. Only the flags change; " +
			"the signature does not fit any more, which an\n" +
			"unlocked phone forgives and a locked one does not.",
		RunE: func(cmd *cobra.Command, args []string) error {
			t.Flag = task.Flag(args[0])
			if len(args) > 1 {
				t.File = args[1]
				return a.flagsInFile(cmd, &t)
			}
			return a.run(cmd, &t)
		}}
	c.Flags().StringVarP(&t.Output, "output", "o", "", "with a file: where the changed copy goes")
	c.Flags().StringVar(&t.From, "from", "", "the vbmeta image to change and write, where the phone's own "+
		"can't be read")
	c.Flags().StringVar(&t.Slot, "slot", "", "one slot only: a or b")
	if off {
		c.Flags().BoolVar(&t.Blank, "make-blank", false,
			"write an empty vbmeta made for this, where there is no image to change")
	}
	return c
}

// showFlags shows where vbmeta was written, and where what was there is kept.
func (a *app) showFlags(t *task.Flags, e end) {
	j := e.job
	if j != nil {
		a.result = t.Result(j)
	}
	if !e.done {
		return
	}
	if r := t.Result(j); r.Kept != "" {
		a.say(j.Name, say.Keep, "what was there before: %s", r.Kept)
	}
	a.sayWrites(j)
	a.suggest(j)
}

func (a *app) flagsInFile(cmd *cobra.Command, t *task.Flags) error {
	e, err := a.taskEnv(cmd)
	if err != nil {
		return err
	}
	r, err := t.InFile(cmd.Context(), e)
	if err != nil {
		return err
	}
	a.result = r
	a.say("", say.Done, "%s written; only its flags differ from %s", t.Output, base(t.File))
	return nil
}
