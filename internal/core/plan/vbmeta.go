package plan

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
	"jarlid/internal/core/spell"
)

// Verdict is what a verified chain means for starting.
type Verdict struct {
	Unlocked bool   // an unlocked phone starts it
	WhyNot   string // where an unlocked one would stop
	// the fingerprint of the key a locked phone has to trust; "" when it would not start either way
	LockedIfTrusts string
	LockedWhy      string // what keeps a locked one from starting
	// Missing are the partitions whose images were not there: what is said above is about the
	// others alone.
	Missing []string
}

// JudgeChain says whether phones start what a chain describes, by the rules of
// avb_slot_verify.c and of dm-verity: an unlocked phone forgives signatures and digests,
// never a vbmeta that can't be read, and the kernel enforces hash trees unless the top image
// switches them off. known holds the rollback indexes the phone has stored, where they are
// known; a locked phone starts nothing older.
func JudgeChain(c *vbmeta.Chain, known *card.Card) Verdict {
	v := Verdict{Unlocked: true}
	if err := c.Invalid(); err != nil {
		return Verdict{WhyNot: "a vbmeta that can't be used is forgiven by no phone: " + spell.Error(err),
			LockedWhy: spell.Error(err)}
	}
	enforced := c.Top.Flags&(vbmeta.FlagHashtreeDisabled|vbmeta.FlagVerificationDisabled) == 0
	if bad := c.Bad("hashtree"); enforced && len(bad) > 0 {
		v.Unlocked, v.WhyNot = false, "a hash tree is enforced and does not match: "+reason(bad[0])
	}
	low := ""
	for _, check := range rollbackChecks(c, known) {
		if !check.OK {
			low = check.Partition + ": " + check.Why
		}
	}
	switch bad := c.Bad(); {
	case len(c.Top.PublicKey) == 0:
		v.LockedWhy = "nobody signed the top vbmeta"
	case len(bad) > 0:
		v.LockedWhy = reason(bad[0])
	case c.Top.Flags&vbmeta.FlagVerificationDisabled != 0:
		v.LockedWhy = "the top vbmeta switches verification off, which locked phones do not accept"
	case low != "":
		v.LockedWhy = low
	default:
		v.LockedIfTrusts = vbmeta.Fingerprint(c.Top.PublicKey)
	}
	return v
}

// JudgeThere checks the images of a chain that are there, where others may be missing from a
// folder: that says nothing about a phone which has them.
func JudgeThere(c *vbmeta.Chain, known *card.Card) Verdict {
	v := JudgeChain(c.There(), known)
	if v.Missing = c.Missing(); len(v.Missing) > 0 {
		v.LockedIfTrusts, v.LockedWhy = "", cmp.Or(v.LockedWhy, "not every image is there to be verified: "+
			strings.Join(v.Missing, ", "))
	}
	return v
}

// ChainCheck is one thing that was verified of a partition.
type ChainCheck struct {
	Partition string `json:"partition"`
	Kind      string `json:"kind"` // vbmeta, hash, hashtree, fec, rollback
	OK        bool   `json:"ok"`
	Missing   bool   `json:"missing,omitempty"` // the image was not there
	Why       string `json:"why"`
}

// ChainChecks gives everything that was verified, a row each.
func ChainChecks(c *vbmeta.Chain, known *card.Card) []ChainCheck {
	list := []ChainCheck{}
	for _, v := range c.Verdicts {
		k := ChainCheck{Partition: v.Partition, Kind: v.Kind}
		if err := errors.Join(v.Invalid, v.Err); err != nil {
			k.Missing = v.Missing()
			k.Why = strings.TrimPrefix(spell.Error(err), v.Partition+": ")
		} else {
			k.OK = true
			switch {
			case v.Image != nil && len(v.Image.PublicKey) == 0:
				k.Why = "not signed"
			case v.Image != nil:
				k.Why = fmt.Sprintf("%s, key %s, rollback index %d at location %d",
					vbmeta.Algorithms[v.Image.AlgorithmType].Name, vbmeta.Fingerprint(v.Image.PublicKey)[:16],
					v.Image.RollbackIndex, v.Location)
			case v.Kind == "fec":
				k.Why = "its error correction is there; it is not decoded"
			case v.By != "" && v.By != "vbmeta":
				k.Why = "as " + v.By + " says"
			}
		}
		list = append(list, k)
	}
	return append(list, rollbackChecks(c, known)...)
}

// rollbackChecks hold the indexes of a chain against those the phone has stored.
func rollbackChecks(c *vbmeta.Chain, known *card.Card) []ChainCheck {
	var list []ChainCheck
	for _, v := range c.Verdicts {
		stored, told := known.Number(card.FactRollback.Of(fmt.Sprint(v.Location)))
		if v.Image == nil || !told || stored < 0 {
			continue
		}
		k := ChainCheck{Partition: v.Partition, Kind: "rollback", OK: v.Image.RollbackIndex >= uint64(stored)}
		k.Why = fmt.Sprintf("its index %d is not below the %d the phone has stored at location %d",
			v.Image.RollbackIndex, stored, v.Location)
		if !k.OK {
			k.Why = fmt.Sprintf("its rollback index %d is below the %d the phone has stored at location %d",
				v.Image.RollbackIndex, stored, v.Location)
		}
		list = append(list, k)
	}
	return list
}

// signed are partitions whose bytes a vbmeta vouches for as a whole, besides the one the
// recovery lives in.
var signed = []string{"boot", "init_boot", "vendor_boot", "vendor_kernel_boot", "dtbo", "recovery", "pvmfw"}

// chainFindings: what is written and not as the vbmeta on the phone was signed over, or
// older than what the phone has stored. An unlocked phone starts it and warns, unless its
// model file knows better.
func (w *Write) chainFindings(c *card.Card, m *model.Model) []finding.Finding {
	top := card.At("vbmeta", w.Slot)
	flags, told := c.Number(card.FactFlags.Of(top))
	size, there := c.Number(card.FactSize.Of(top))
	if w.Known || w.Sealed && w.Partition != "vbmeta" || told && flags&vbmeta.FlagVerificationDisabled != 0 ||
		!told && (!there || size == 0) {
		return nil
	}
	f := finding.Notes(finding.NotAsSigned, w.Partition,
		"the phone's vbmeta does not vouch for it, as is usual for what is not the maker's own; ", "")
	locked := "with its warning"
	switch v := w.File.VBMeta; {
	case w.Partition == "vbmeta" && v != nil:
		stored, told := c.Number(card.FactRollback.Of(fmt.Sprint(v.RollbackIndexLocation)))
		if !told || stored < 0 || v.RollbackIndex >= uint64(stored) {
			return nil
		}
		f.Name = finding.RollbackLow
		f.Text = fmt.Sprintf("its rollback index %d is below the %d the phone has stored; ", v.RollbackIndex,
			stored)
		locked = "a locked one never again"
	case !slices.Contains(signed, w.Partition) && w.Partition != w.Home.Partition:
		return nil
	}
	if m == nil || !m.Bootloader.Enforces {
		f.Text += "an unlocked phone starts it all the same, " + locked
		return []finding.Finding{f}
	}
	f.Severity, f.Remedy = finding.Stop, "jarlid vbmeta loosen verification"
	f.Text += "the model file says that this bootloader enforces verified boot although it is unlocked: it " +
		"would not start"
	return []finding.Finding{f}
}

// reason says what is wrong with a partition, its name first and once.
func reason(v vbmeta.Verdict) string {
	return v.Partition + ": " + strings.TrimPrefix(v.Err.Error(), v.Partition+": ")
}

// Loosening says which flags a word means.
func Loosening(word string) (flag uint32, ok bool) {
	flag, ok = map[string]uint32{"hashtree": vbmeta.FlagHashtreeDisabled,
		"verification": vbmeta.FlagVerificationDisabled}[word]
	return flag, ok
}

// TopOnly says why an image is no top vbmeta, in which alone flags count; "" when it
// may be one.
func TopOnly(m *vbmeta.Image, footer *vbmeta.Footer, partition string) string {
	switch {
	case footer != nil:
		return "it is the vbmeta in the footer of a partition's image; flags count only in the " +
			"partition vbmeta"
	case strings.HasPrefix(partition, "vbmeta_") && card.Part(partition).Base != "vbmeta":
		return partition + " is chained from the partition vbmeta, and flags count only there: jarlid " +
			"vbmeta loosen hashtree"
	case m.RollbackIndexLocation != 0:
		return fmt.Sprintf("its rollback index is stored at location %d, so it is chained from another; "+
			"flags count only in the top one, the partition vbmeta", m.RollbackIndexLocation)
	}
	return ""
}

// treeFinding: an image with another hash tree than the enforced one keeps the slot
// from starting. It is known only where the vbmeta of the slot was read or written by
// Jar Lid; an image that brings the very tree is no matter.
func (w *Write) treeFinding(c *card.Card) []finding.Finding {
	if !slices.Contains(place.Shelvable, w.Partition) || w.Sealed {
		return nil
	}
	flags, there := c.Get(card.FactFlags.Of(card.At("vbmeta", w.Slot))), c.Get(card.FactTreeRoot.Of(w.Name()))
	f := finding.Finding{Name: finding.VerityRejects, Severity: finding.Stop, About: w.Name().String(),
		Remedy: "jarlid vbmeta loosen hashtree"}
	switch {
	case withoutVBMeta(c, w.Slot):
		return nil
	case flags.Known() && flags.Value != "0":
		return nil
	case w.root() != "" && w.root() == there.Value:
		return nil
	case flags.Known() && there.Known() && w.root() != "":
		f.Text = fmt.Sprintf("the vbmeta on the phone enforces another hash tree for %s than this image's; "+
			"the slot will not start%s", w.Partition, place.ByJob(there, flags))
	case flags.Known() && there.Known():
		f.Text = fmt.Sprintf("the vbmeta on the phone enforces a hash tree for %s, and this image has "+
			"none: unless it is the very image that tree was made of, the slot will not start%s", w.Partition,
			place.ByJob(there, flags))
	case w.Known:
		return nil // it was there before, and nothing says that another tree is enforced now
	case flags.Known():
		f.Severity = finding.Warn
		f.Text = fmt.Sprintf("the vbmeta on the phone enforces hash trees, and nobody can tell in this "+
			"mode which one for %s: another system than the one that belongs to it keeps the slot from "+
			"starting", w.Partition)
	default:
		f.Severity = finding.Warn
		f.Text = fmt.Sprintf("nobody can tell in this mode whether the vbmeta on the phone enforces a hash "+
			"tree for %s; if it does, another image keeps the slot from starting", w.Partition)
	}
	return []finding.Finding{f}
}

// withoutVBMeta tells of phones that have no verified boot of this kind: no such partition, or
// made before it: it came after the split of system and vendor ("Verified Boot" and "Treble" in
// the platform's documentation).
func withoutVBMeta(c *card.Card, slot string) bool {
	treble, told := c.Yes(card.FactTreble)
	return c.Value(card.FactSize.Of(card.At("vbmeta", slot))) == card.Nothing || told && !treble
}

// root is the root digest the image's own footer states for its tree.
func (w *Write) root() string {
	if w.File.Tree == nil {
		return ""
	}
	return fmt.Sprintf("%x", w.File.Tree.Digest)
}
