package plan

import (
	"strings"
	"testing"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/vbmeta"
)

// TestTrees: whether another image keeps a slot from starting, by what is known of
// its vbmeta.
func TestTrees(t *testing.T) {
	known := func(pairs ...string) *card.Card {
		c := phone(card.FactModel, "dunlin")
		for i := 0; i < len(pairs); i += 2 {
			c.Learn(pairs[i], pairs[i+1], card.Journal)
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
		{"nothing known", &Write{File: image(""), Partition: "system", Slot: "a"}, known(), "care verity-would-reject"},
		{"no vbmeta at all", &Write{File: image(""), Partition: "system", Slot: "a"}, known(card.FactSize+"vbmeta_a", Nothing), ""},
		{"trees are off", &Write{File: image(""), Partition: "system", Slot: "a"}, known(card.FactFlags+"vbmeta_a", "1"), ""},
		{"off on the other slot", &Write{File: image(""), Partition: "system", Slot: "a"}, known(card.FactFlags+"vbmeta_b", "1"), "care verity-would-reject"},
		{"on, the very tree", &Write{File: image("A"), Partition: "system", Slot: "a"}, known(card.FactFlags+"vbmeta_a", "0", card.FactTreeRoot+"system_a", "41"), ""},
		{"on, another tree", &Write{File: image("B"), Partition: "system", Slot: "a"}, known(card.FactFlags+"vbmeta_a", "0", card.FactTreeRoot+"system_a", "41"), "stop verity-would-reject"},
		{"on, the image says nothing", &Write{File: image(""), Partition: "system", Slot: "a"}, known(card.FactFlags+"vbmeta_a", "0", card.FactTreeRoot+"system_a", "41"), "care verity-would-reject"},
		{"its vbmeta is written too", &Write{File: image("B"), Partition: "system", Slot: "a", Sealed: true}, known(card.FactFlags+"vbmeta_a", "0"), ""},
		{"no partition with a tree", &Write{File: image(""), Partition: "boot", Slot: "a"}, known(), ""},
	} {
		if got := said(c.w.treeFinding(c.c)); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
	// A delta builds on the maker's recovery.
	pkg := rom("dunlin", "recovery")
	pkg.Package.Payload.MinorVersion = 6
	c := known(card.FactStarted, "a", card.FactNext, "a", card.FactDigest+"recovery_a", "x", card.FactHolds+"recovery_a", "Tideline Recovery 3.1", card.FactData, card.DataFormatted)
	if got := said((&Sideload{File: pkg}).Check(c, set.Find("dunlin"), set)); !strings.Contains(got, "stop stock-update-needs-stock-recovery") {
		t.Errorf("a delta over another recovery: %q", got)
	}
	c.Set(card.FactDigest+"recovery_a", card.Fact{})
	if got := said((&Sideload{File: pkg}).Check(c, set.Find("dunlin"), set)); strings.Contains(got, "stock-update") {
		t.Errorf("a delta over the maker's: %q", got)
	}
}
