package plan

import (
	"errors"
	"strings"
	"testing"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/vbmeta"
)

// TestTrees: whether another image keeps a slot from starting, by what is known of
// its vbmeta.
func TestTrees(t *testing.T) {
	known := func(pairs ...any) *card.Card {
		c := phone(card.FactModel, "dunlin")
		for i := 0; i < len(pairs); i += 2 {
			c.Learn(pairs[i].(card.Which), pairs[i+1].(string), card.Journal)
		}
		return c
	}
	image := func(root string) *ident.File {
		f := &ident.File{Path: "system.img", Size: 9, Kind: ident.Ext4}
		if root != "" {
			f.Tree = &vbmeta.Descriptor{Digest: []byte(root)}
		}
		return f
	}
	set := models(t)
	for _, c := range []struct {
		name string
		w    *Write
		c    *card.Card
		want string
	}{
		{"nothing known", &Write{File: image(""), Partition: "system", Slot: "a"}, known(),
			"warn verity-would-reject"},
		{"no vbmeta at all", &Write{File: image(""), Partition: "system", Slot: "a"},
			known(card.FactSize.Of(card.At("vbmeta", "a")), card.Nothing), ""},
		{"trees are off", &Write{File: image(""), Partition: "system", Slot: "a"},
			known(card.FactFlags.Of(card.At("vbmeta", "a")), "1"), ""},
		{"off on the other slot", &Write{File: image(""), Partition: "system", Slot: "a"},
			known(card.FactFlags.Of(card.At("vbmeta", "b")), "1"), "warn verity-would-reject"},
		{"on, the very tree", &Write{File: image("A"), Partition: "system", Slot: "a"},
			known(card.FactFlags.Of(card.At("vbmeta", "a")), "0",
				card.FactTreeRoot.Of(card.At("system", "a")), "41"), ""},
		{"on, another tree", &Write{File: image("B"), Partition: "system", Slot: "a"},
			known(card.FactFlags.Of(card.At("vbmeta", "a")), "0",
				card.FactTreeRoot.Of(card.At("system", "a")), "41"), "stop verity-would-reject"},
		{"on, the image says nothing", &Write{File: image(""), Partition: "system", Slot: "a"},
			known(card.FactFlags.Of(card.At("vbmeta", "a")), "0",
				card.FactTreeRoot.Of(card.At("system", "a")), "41"), "stop verity-would-reject"},
		{"on, and which tree is not known", &Write{File: image(""), Partition: "system", Slot: "a"},
			known(card.FactFlags.Of(card.At("vbmeta", "a")), "0"), "warn verity-would-reject"},
		{"a phone older than verified boot", &Write{File: image(""), Partition: "system", Slot: "a"},
			known(card.FactTreble, "no"), ""},
		{"what was there before, under another tree", &Write{File: image("B"), Partition: "system", Slot: "a",
			Known: true}, known(card.FactFlags.Of(card.At("vbmeta", "a")), "0",
			card.FactTreeRoot.Of(card.At("system", "a")), "41"), "stop verity-would-reject"},
		{"its vbmeta is written too", &Write{File: image("B"), Partition: "system", Slot: "a", Sealed: true},
			known(card.FactFlags.Of(card.At("vbmeta", "a")), "0"), ""},
		{"no partition with a tree", &Write{File: image(""), Partition: "boot", Slot: "a"}, known(), ""},
	} {
		if got := said(c.w.treeFinding(c.c)); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
	enforcing := *set.Find("dunlin")
	enforcing.Bootloader.Enforces = true
	for _, c := range []struct {
		name string
		w    *Write
		c    *card.Card
		want string
	}{
		{"a recovery", &Write{File: image(""), Partition: "recovery", Slot: "a"},
			known(card.FactSize.Of(card.At("vbmeta", "a")), "65536"), "note not-as-signed"},
		{"where nothing is verified", &Write{File: image(""), Partition: "boot", Slot: "a"},
			known(card.FactFlags.Of(card.At("vbmeta", "a")), "2"), ""},
		{"without a vbmeta", &Write{File: image(""), Partition: "boot"},
			known(card.FactSize.Of(card.At("vbmeta", "")), card.Nothing), ""},
		{"with its vbmeta", &Write{File: image(""), Partition: "boot", Slot: "a", Sealed: true},
			known(card.FactSize.Of(card.At("vbmeta", "a")), "65536"), ""},
		{"an old vbmeta", &Write{File: &ident.File{VBMeta: &vbmeta.Image{RollbackIndex: 5}},
			Partition: "vbmeta",
			Slot:      "a",
			Sealed:    true}, known(card.FactSize.Of(card.At("vbmeta", "a")), "65536",
			card.FactRollback.Of("0"), "6"), "note rollback-low"},
		{"as old as it is", &Write{File: &ident.File{VBMeta: &vbmeta.Image{RollbackIndex: 6}},
			Partition: "vbmeta",
			Slot:      "a"}, known(card.FactSize.Of(card.At("vbmeta", "a")), "65536",
			card.FactRollback.Of("0"), "6"), ""},
	} {
		if got := said(c.w.chainFindings(c.c, set.Find("dunlin"))); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
		if got := said(c.w.chainFindings(c.c, &enforcing)); got != strings.Replace(c.want, "note",
			"stop", 1) {
			t.Errorf("%s, where it is enforced: %q", c.name, got)
		}
	}
	chain := &vbmeta.Chain{Top: &vbmeta.Image{PublicKey: []byte("k"), RollbackIndex: 5}}
	chain.Verdicts = []vbmeta.Verdict{{Partition: "vbmeta", Kind: "vbmeta", Image: chain.Top},
		{Partition: "system", Kind: "fec", Err: errors.New("not there")}}
	for stored, starts := range map[string]bool{"": true, "5": true, "6": false} {
		if v := JudgeChain(chain, known(card.FactRollback.Of("0"), stored)); !v.Unlocked ||
			(v.LockedIfTrusts != "") != starts {
			t.Errorf("stored %q: %+v", stored, v)
		}
	}
	// A delta builds on the manufacturer's recovery.
	pkg := rom("dunlin", "recovery")
	pkg.Package.Payload.MinorVersion = 6
	c := known(card.FactStarted, "a", card.FactNext, "a", card.FactDigest.Of(card.At("recovery", "a")), "x",
		card.FactHolds.Of(card.At("recovery", "a")), "Tideline Recovery 3.1", card.FactData,
		card.DataFormatted)
	if got := said((&Sideload{File: pkg}).Check(c, set.Find("dunlin"), set)); !strings.Contains(got,
		"stop stock-update-needs-stock-recovery") {
		t.Errorf("a delta over another recovery: %q", got)
	}
	c.Set(card.FactDigest.Of(card.At("recovery", "a")), card.Fact{})
	if got := said((&Sideload{File: pkg}).Check(c, set.Find("dunlin"), set)); strings.Contains(got,
		"stock-update") {
		t.Errorf("a delta over the maker's: %q", got)
	}
}
