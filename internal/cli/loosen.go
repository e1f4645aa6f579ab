package cli

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/core/plan"
)

// loosenWish is what loosen and tighten were asked for.
type loosenWish struct {
	loosen          bool
	flag            uint32
	out, from, slot string
	blank           bool
}

func (a *app) vbmetaFlags(verb string) *cobra.Command {
	w := loosenWish{loosen: verb == "loosen"}
	use, short := "loosen hashtree|verification [FILE]", "Switch hash trees or all verification off, in a file or on the phone"
	if !w.loosen {
		use, short = "tighten hashtree|verification [FILE]", "Switch them on again"
	}
	c := &cobra.Command{Use: use, Short: short, Args: words(1, 2, "hashtree or verification, and a file for -o"), ValidArgs: []string{"hashtree", "verification"},
		Long: "With a file and -o: writes a copy of it with the flag changed. Without: changes the top vbmeta of the phone, on both slots, from\n" +
			"the image that is there where it can be read, else from --from FILE. Only the flags change; the signature does not fit any more, which an\n" +
			"unlocked phone forgives and a locked one does not.",
		RunE: func(cmd *cobra.Command, args []string) error {
			flag, ok := plan.Loosening(args[0])
			if !ok {
				return usage("%q is not a flag: hashtree or verification", args[0])
			}
			w.flag = flag
			if len(args) > 1 {
				return a.loosenFile(unquote(args[1]), w)
			}
			return a.loosenPhone(cmd, args, w)
		}}
	c.Flags().StringVarP(&w.out, "output", "o", "", "with a file: where the changed copy goes")
	c.Flags().StringVar(&w.from, "from", "", "the vbmeta image to change and write, where the phone's own can't be read")
	c.Flags().StringVar(&w.slot, "slot", "", "one slot only: a or b")
	if w.loosen {
		c.Flags().BoolVar(&w.blank, "make-blank", false, "write an empty vbmeta made for this, where there is no image to change")
	}
	return c
}

// apply gives the flags as they are to be.
func (w loosenWish) apply(flags uint32) uint32 {
	if w.loosen {
		return flags | w.flag
	}
	return flags &^ w.flag
}

func (a *app) loosenFile(path string, w loosenWish) error {
	if w.out == "" {
		return usage("with a file, -o OUT says where the changed copy goes; the file itself stays as it is")
	}
	b, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	_, m, footer, err := vbmeta.Bytes(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	if why := plan.TopOnly(m, footer, ""); why != "" {
		return usage("%s: %s", path, why)
	}
	changed, err := vbmeta.WithFlags(b, w.apply(m.Flags))
	if err != nil {
		return err
	}
	if err := os.WriteFile(w.out, changed, 0o644); err != nil {
		return err
	}
	a.sayFlags(m.Flags, w.apply(m.Flags))
	a.sayCost(m.Flags, w.apply(m.Flags), len(m.PublicKey) > 0)
	a.result["flags"], a.result["path"] = w.apply(m.Flags), w.out
	a.out.Say(bench.Done, "%s written; only its flags differ from %s", w.out, filepath.Base(path))
	return nil
}

func (a *app) sayFlags(before, after uint32) {
	a.out.Say(bench.Look, "flags before: %d, %s; after: %d, %s", before, vbmeta.FlagWords(before), after, vbmeta.FlagWords(after))
}

// sayCost tells what changed flags mean.
func (a *app) sayCost(before, after uint32, signed bool) {
	if before == after {
		a.out.Say("note", "they are like that already")
		return
	}
	if signed {
		a.out.Say("note", "the signature covers the flags and does not fit any more: an unlocked phone starts it and warns, a locked one refuses it")
	}
	a.out.Say("note", "the data stays readable; a stock update puts its own vbmeta back; before locking the phone again everything has to be the maker's")
}

func (a *app) loosenPhone(cmd *cobra.Command, args []string, w loosenWish) error {
	ctx := cmd.Context()
	if w.out != "" {
		return usage("-o goes with a file")
	}
	if w.slot != "" && w.slot != "a" && w.slot != "b" {
		return usage("--slot is a or b, not %q", w.slot)
	}
	j, err := a.job(ctx, cmd, args)
	if err != nil {
		return err
	}
	defer j.Close()
	if err := j.Phone.ReadPartition(j.Card, j.Link, "vbmeta"); err != nil {
		return err
	}
	target := plan.Target{Partition: "vbmeta", Slot: w.slot}
	if w.slot == "" {
		target.Slot = "both"
	}
	slots, err := target.SlotsOf(j.Card)
	if err != nil {
		return usage("%v", err)
	}
	dir, err := a.scratch()
	if err != nil {
		return err
	}
	var steps []plan.Step
	same, kept := true, false
	for _, slot := range slots {
		s, changed, err := a.loosenSlot(cmd, j, w, slot, dir)
		if errors.Is(err, bench.ErrNoPartition) {
			a.out.Say(bench.Good, "this phone has no vbmeta: nothing is enforced by it, and nothing has to be switched off")
			return nil
		}
		if errors.Is(err, bench.ErrEmptySlot) {
			a.out.Say("note", "%s is empty and left alone; what is installed there brings its own", plan.Suffixed("vbmeta", slot))
			continue
		}
		if err != nil {
			return err
		}
		same, kept = same && !changed, kept || s.Previous != nil
		steps = append(steps, s)
	}
	if len(steps) == 0 {
		return usage("no slot of this phone holds a vbmeta to change; name one with --from FILE")
	}
	if same {
		a.out.Say(bench.Done, "nothing has to be changed")
		a.result["writes"] = []bench.WriteResult{}
		return nil
	}
	plan.WriteHere(j.Card, steps)
	j.SetWish(nil, steps...)
	err = a.runWrites(ctx, j)
	if err == nil && kept && !a.dry {
		a.out.Say(bench.Kept, "what was there before: %s", j.Dir)
	}
	return err
}

// loosenSlot makes the changed image of one slot and the step that writes it.
func (a *app) loosenSlot(cmd *cobra.Command, j *bench.Job, w loosenWish, slot, dir string) (*plan.Write, bool, error) {
	name := plan.Suffixed("vbmeta", slot)
	if j.Card.Value(card.FactSize+name) == plan.Nothing {
		return nil, false, bench.ErrNoPartition
	}
	old, m, footer, err := j.ReadVBMeta(cmd.Context(), name)
	previous := old
	switch {
	case err == nil && w.from == "":
	case w.from != "":
		var data []byte
		if data, err = os.ReadFile(unquote(w.from)); err == nil {
			old, m, footer, err = vbmeta.Bytes(bytes.NewReader(data), int64(len(data)))
		}
		if err != nil {
			return nil, false, fmt.Errorf("%s: %w", w.from, err)
		}
	case errors.Is(err, bench.ErrNoPartition), errors.Is(err, bench.ErrEmptySlot) && !w.blank:
		return nil, false, err
	case w.blank:
		if old, err = vbmeta.Blank(); err != nil {
			return nil, false, err
		}
		a.out.Say("care", "%s gets an empty vbmeta, which answers for nothing: what a locked phone or a stock update needs is not in it", name)
		if m, err = vbmeta.Parse(bytes.NewReader(old), int64(len(old))); err != nil {
			return nil, false, err
		}
	default:
		a.next = append(a.next, a.command("jarlid vbmeta "+map[bool]string{true: "loosen", false: "tighten"}[w.loosen]+" "+map[uint32]string{1: "hashtree", 2: "verification"}[w.flag]+" --from FILE", j.Phone.Name))
		return nil, false, fmt.Errorf("the vbmeta on %s can't be read to change it (%w): name the image it was written from with --from FILE, or read it in a recovery with a root shell", name, err)
	}
	if why := plan.TopOnly(m, footer, ""); why != "" {
		return nil, false, usage("%s", why)
	}
	flags := w.apply(m.Flags)
	a.out.Say(bench.Look, "%s:", name)
	a.sayFlags(m.Flags, flags)
	if slot != "b" { // once is enough
		a.sayCost(m.Flags, flags, len(m.PublicKey) > 0)
	}
	changed, err := vbmeta.WithFlags(old, flags)
	if err != nil {
		return nil, false, err
	}
	path := filepath.Join(dir, name+".img")
	if err := os.WriteFile(path, changed, 0o644); err != nil {
		return nil, false, err
	}
	f, err := a.identify(path, ident.Options{})
	if err != nil {
		return nil, false, err
	}
	return &plan.Write{File: f, Label: "the changed vbmeta", Partition: "vbmeta", Slot: slot, Forced: true, Known: true, Previous: previous}, flags != m.Flags || w.from != "" || w.blank, nil
}
