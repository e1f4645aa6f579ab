package cli

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
	"jarlid/internal/core/card"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/core/plan"
)

func (a *app) vbmetaCommand() *cobra.Command {
	c := &cobra.Command{Use: "vbmeta", Short: "What verified boot believes: read it, verify the whole chain, switch its two flags", Args: noWords,
		RunE: func(*cobra.Command, []string) error {
			return usage("vbmeta wants a command: show, check, loosen or tighten")
		}}
	show := &cobra.Command{Use: "show FILE|PARTITION", Short: "Header, key, flags in words, and every descriptor", Args: words(1, 1, "a file, or a partition of the phone"), RunE: a.vbmetaShow}
	var images string
	var slot string
	check := &cobra.Command{Use: "check [FILE --images DIR|ZIP|PAYLOAD]", Short: "Verify the whole chain against images, or on the phone", Args: words(0, 1, "the top vbmeta image"),
		Long: "Verifies signatures, the keys of chained images, digests and hash trees by the published rules, and says what an unlocked and a\n" +
			"locked phone would do with it. Without a file: what is on the phone, read in a recovery with a root shell; that takes minutes.\n" +
			"With --on or --card, the rollback indexes the phone has stored count too, where they are known.\n" +
			"Ends with 0 when an unlocked phone starts it, else with 6.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return a.vbmetaCheckPhone(cmd, images, slot)
			}
			return a.vbmetaCheck(cmd.Context(), args[0], images)
		}}
	check.Flags().StringVar(&images, "images", "", "with a file, the images it answers for: a folder, a zip, a payload, a super image")
	check.Flags().StringVar(&slot, "slot", "", "on the phone: a, b, current or other (default: the one that starts next)")
	c.AddCommand(show, check, a.vbmetaFlags("loosen"), a.vbmetaFlags("tighten"))
	return c
}

// openVBMeta reads the vbmeta of a file, or of a partition of the phone; j is the
// phone it was read from, and open then.
func (a *app) openVBMeta(cmd *cobra.Command, word string) (b []byte, m *vbmeta.Image, footer *vbmeta.Footer, j *bench.Job, err error) {
	f, err := os.Open(unquote(word))
	if err == nil {
		defer f.Close()
		st, err := f.Stat()
		if err != nil {
			return nil, nil, nil, nil, err
		}
		b, m, footer, err = vbmeta.Bytes(f, st.Size())
		if err != nil {
			err = fmt.Errorf("%s: %w", word, err)
		}
		return b, m, footer, nil, err
	}
	if !errors.Is(err, fs.ErrNotExist) || strings.ContainsAny(word, `./\`) {
		return nil, nil, nil, nil, err
	}
	t, err := plan.ParseTarget(word)
	if err != nil {
		return nil, nil, nil, nil, usage("%v", err)
	}
	if j, err = a.job(cmd.Context(), cmd, []string{word}); err != nil {
		return nil, nil, nil, nil, err
	}
	if err := j.Phone.ReadPartition(j.Card, j.Link, t.Partition); err != nil {
		return nil, nil, nil, j, err
	}
	if slot := j.Card.Value(card.FactStarted); t.Slot == "" && slot != "" {
		t.Slot = slot
	}
	slots, err := t.SlotsOf(j.Card)
	if err != nil {
		return nil, nil, nil, j, usage("%v", err)
	}
	name := plan.Suffixed(t.Partition, slots[0])
	if j.Card.Value(card.FactSize+name) == plan.Nothing {
		return nil, nil, nil, j, fmt.Errorf("%s: %w", name, bench.ErrNoPartition)
	}
	b, m, footer, err = j.ReadVBMeta(cmd.Context(), name)
	return b, m, footer, j, err
}

func (a *app) vbmetaShow(cmd *cobra.Command, args []string) error {
	_, m, footer, j, err := a.openVBMeta(cmd, args[0])
	if j != nil {
		defer j.Close()
	}
	if errors.Is(err, bench.ErrNoPartition) && args[0] == "vbmeta" {
		a.out.Say(bench.Good, "this phone has no vbmeta: verified boot of this kind is not there, and nothing has to be switched off")
		a.result["present"] = false
		return nil
	}
	if err != nil {
		return err
	}
	algorithm := vbmeta.Algorithms[m.AlgorithmType].Name
	key := "none: nobody signed it"
	if len(m.PublicKey) > 0 {
		key = vbmeta.Fingerprint(m.PublicKey)
	}
	signature := "good"
	if err := m.Verify(); err != nil {
		signature = err.Error()
	}
	a.result["present"] = true
	for k, v := range map[string]any{"required_libavb_version_major": m.RequiredMajor, "required_libavb_version_minor": m.RequiredMinor, "algorithm_type": algorithm,
		"public_key_sha256": key, "signature": signature, "rollback_index": m.RollbackIndex, "rollback_index_location": m.RollbackIndexLocation, "flags": m.Flags,
		"flags_words": vbmeta.FlagWords(m.Flags), "release_string": m.ReleaseString, "size": m.Size} {
		a.result[k] = v
	}
	rows := [][]string{{"made by", m.ReleaseString}, {"needs libavb", fmt.Sprintf("%d.%d", m.RequiredMajor, m.RequiredMinor)}, {"algorithm", algorithm},
		{"key", key}, {"signature", signature}, {"flags", fmt.Sprintf("%d: %s", m.Flags, vbmeta.FlagWords(m.Flags))},
		{"rollback index", fmt.Sprintf("%d, stored at location %d", m.RollbackIndex, m.RollbackIndexLocation)}, {"size", image.Size(m.Size)}}
	if footer != nil {
		rows = append(rows, []string{"lies in", fmt.Sprintf("the footer of an image of %s, at %d", image.Size(footer.OriginalImageSize), footer.VBMetaOffset)})
	}
	var about [][]string
	list := []map[string]any{}
	for i := range m.Descriptors {
		row, fields := describe(&m.Descriptors[i])
		about, list = append(about, row), append(list, fields)
	}
	a.result["descriptors"] = list
	if a.json {
		return nil
	}
	a.out.table([]string{"FIELD", "VALUE"}, rows)
	if len(about) > 0 {
		a.out.table([]string{"DESCRIPTOR", "ABOUT", "SIZE", "WHAT IT STATES"}, about)
	} else {
		a.out.Say(bench.Look, "it has no descriptors: it answers for nothing")
	}
	return nil
}

// describe gives one descriptor as a row of the table and by its specification's
// names.
func describe(d *vbmeta.Descriptor) (row []string, fields map[string]any) {
	kind := vbmeta.TagNames[d.Tag]
	if kind == "" {
		kind = fmt.Sprintf("unknown (%d)", d.Tag)
	}
	fields = map[string]any{"tag": kind}
	if d.PartitionName != "" {
		fields["partition_name"] = d.PartitionName
	}
	switch d.Tag {
	case vbmeta.TagHash:
		fields["image_size"], fields["hash_algorithm"], fields["salt"], fields["digest"], fields["flags"] = d.ImageSize, d.HashAlgorithm, hex.EncodeToString(d.Salt), hex.EncodeToString(d.Digest), d.Flags
		return []string{kind, d.PartitionName, image.Size(int64(d.ImageSize)), fmt.Sprintf("%s %x", d.HashAlgorithm, d.Digest)}, fields
	case vbmeta.TagHashtree:
		for k, v := range map[string]any{"dm_verity_version": d.DMVerityVersion, "image_size": d.ImageSize, "tree_offset": d.TreeOffset, "tree_size": d.TreeSize, "data_block_size": d.DataBlockSize,
			"hash_block_size": d.HashBlockSize, "fec_num_roots": d.FECNumRoots, "fec_offset": d.FECOffset, "fec_size": d.FECSize, "hash_algorithm": d.HashAlgorithm,
			"salt": hex.EncodeToString(d.Salt), "root_digest": hex.EncodeToString(d.Digest), "flags": d.Flags} {
			fields[k] = v
		}
		fec := "no FEC"
		if d.FECSize > 0 {
			fec = "FEC of " + image.Size(int64(d.FECSize))
		}
		return []string{kind, d.PartitionName, image.Size(int64(d.ImageSize)), fmt.Sprintf("%s root %x, tree of %s at %d, blocks of %d, %s", d.HashAlgorithm, d.Digest, image.Size(int64(d.TreeSize)), d.TreeOffset, d.DataBlockSize, fec)}, fields
	case vbmeta.TagChain:
		fields["rollback_index_location"], fields["public_key_sha256"] = d.RollbackIndexLocation, vbmeta.Fingerprint(d.PublicKey)
		return []string{kind, d.PartitionName, "-", fmt.Sprintf("key %s, rollback index at location %d", vbmeta.Fingerprint(d.PublicKey), d.RollbackIndexLocation)}, fields
	case vbmeta.TagProperty:
		fields["key"], fields["value"] = d.Key, d.Value
		return []string{kind, d.Key, "-", d.Value}, fields
	case vbmeta.TagCmdline:
		fields["kernel_cmdline"], fields["flags"] = d.Value, d.Flags
		return []string{kind, "-", "-", d.Value}, fields
	}
	fields["bytes"] = len(d.Raw)
	return []string{kind, "-", image.Size(int64(len(d.Raw))), "kept as it is"}, fields
}

// partitionFiles opens the images of a set by their partitions' names.
type partitionFiles struct {
	app    *app // closes what was opened
	paths  map[string]string
	images int // how many there are
}

// setOf makes the images of a folder, an archive or a payload ready to be opened; they
// are put away when the program ends.
func (a *app) setOf(ctx context.Context, images string) (*partitionFiles, error) {
	m, err := a.gather(ctx, []string{unquote(images)}, false)
	if err != nil {
		return nil, err
	}
	a.later = append(a.later, m.Close)
	return &partitionFiles{app: a, paths: byPartition(m), images: len(m.Images)}, nil
}

func (p *partitionFiles) source(name string) (io.ReaderAt, int64, error) {
	path, ok := p.paths[name]
	if !ok {
		return nil, 0, fmt.Errorf("no image of %s is among them: %w", name, fs.ErrNotExist)
	}
	r, size, done, err := bench.OpenImage(path)
	if err == nil {
		p.app.later = append(p.app.later, done)
	}
	return r, size, err
}

// byPartition gives the files of a set by the partitions they are named after.
func byPartition(m *bench.Material) map[string]string {
	paths := map[string]string{}
	for _, i := range m.Images {
		paths[bench.NamedAfter(i)] = i.File.Path
	}
	return paths
}

// vbmetaCheckPhone verifies what is on the phone.
func (a *app) vbmetaCheckPhone(cmd *cobra.Command, images, slot string) error {
	if images != "" {
		return usage("--images goes with the vbmeta file it belongs to")
	}
	ctx := cmd.Context()
	j, err := a.job(ctx, cmd, nil)
	if err != nil {
		return err
	}
	defer j.Close()
	if slot == "" {
		slot = j.Card.Value(card.FactNext)
	}
	t, err := plan.ParseTarget("vbmeta@" + slot)
	if slot == "" {
		t, err = plan.Target{Partition: "vbmeta"}, nil
	}
	if err != nil {
		return usage("%v", err)
	}
	slots, err := t.SlotsOf(j.Card)
	if err != nil || len(slots) != 1 {
		return usage("--slot means one slot: a, b, current or other")
	}
	open := j.Partitions(ctx, slots[0])
	if _, _, err := open("vbmeta"); errors.Is(err, bench.ErrNoPartition) {
		a.out.Say(bench.Good, "this phone has no vbmeta: verified boot of this kind is not there")
		a.result["present"] = false
		return nil
	} else if err != nil {
		return err
	}
	a.out.Say(bench.Wait, "reading what slot %s holds and working out its hash trees; this takes minutes on a real phone", orNothing(slots[0]))
	chain, err := vbmeta.VerifyChain(ctx, open, "vbmeta", true)
	if err != nil {
		return err
	}
	return a.sayChain(chain, j.Card)
}

func orNothing(slot string) string {
	if slot == "" {
		return "(there is one only)"
	}
	return slot
}

func (a *app) vbmetaCheck(ctx context.Context, top, images string) error {
	if images == "" {
		return usage("vbmeta check wants --images DIR|ZIP|PAYLOAD, the images it answers for")
	}
	set, err := a.setOf(ctx, images)
	if err != nil {
		return err
	}
	known := &card.Card{}
	if a.card != "" || a.on != "" {
		j, err := a.open(ctx)
		if err != nil {
			return err
		}
		known = j.Card
		j.Close()
	}
	a.out.Say(bench.Look, "verifying %s with %d images; hash trees are worked out whole", filepath.Base(top), set.images)
	set.paths["vbmeta"] = unquote(top)
	chain, err := vbmeta.VerifyChain(ctx, set.source, "vbmeta", true)
	if err != nil {
		return err
	}
	return a.sayChain(chain, known)
}

// sayChain tells what was verified, and what phones make of it; known is what is known of
// the phone it is for.
func (a *app) sayChain(chain *vbmeta.Chain, known *card.Card) error {
	checks := plan.ChainChecks(chain, known)
	var rows [][]string
	for _, k := range checks {
		rows = append(rows, []string{k.Partition, k.Kind, map[bool]string{true: "good", false: "bad"}[k.OK], k.Why})
	}
	verdict := plan.JudgeChain(chain, known)
	a.result["checks"], a.result["unlocked"] = checks, verdict.Unlocked
	a.result["locked_if_trusts"] = nil
	if verdict.LockedIfTrusts != "" {
		a.result["locked_if_trusts"] = verdict.LockedIfTrusts
	}
	if !a.json {
		a.out.table([]string{"PARTITION", "KIND", "IS", "WHY"}, rows)
	}
	if chain.Top != nil {
		a.out.Say(bench.Look, "flags of the top vbmeta: %d, %s", chain.Top.Flags, vbmeta.FlagWords(chain.Top.Flags))
	}
	if verdict.LockedIfTrusts != "" {
		a.out.Say(bench.Look, "a locked phone starts it only if it trusts the key %s", verdict.LockedIfTrusts)
	} else {
		a.out.Say(bench.Look, "no locked phone starts it: %s", verdict.LockedWhy)
	}
	if !verdict.Unlocked {
		return &noError{"an unlocked phone does not start it: " + verdict.WhyNot}
	}
	a.out.Say(bench.Done, "an unlocked phone starts it")
	return nil
}
