package advice

import (
	"slices"
	"strings"
	"testing"

	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/model"
)

// TestWorkOut: which tasks, in which order, on each kind of phone; what can't be known is asked
// and what belongs to another phone is left out. Whole evenings, from real files, run in e2e.
func TestWorkOut(t *testing.T) {
	all, err := model.Load(nil)
	if err != nil {
		t.Fatalf("model.Load(): %v", err)
	}
	file := func(name string, kind ident.Kind, device string, more ...string) *Given {
		f := &ident.File{Path: name + ".img", Kind: kind, Props: map[string]string{},
			Details: map[string]any{}}
		if device != "" {
			f.Props["ro.product.device"] = device
		}
		for i := 0; i+1 < len(more); i += 2 {
			f.Props[more[i]] = more[i+1]
		}
		return &Given{Name: name, File: f}
	}
	shell := []string{"ro.debuggable", "1"}
	recovery := func(device string) *Given { return file("recovery", ident.Recovery, device, shell...) }
	for _, c := range []struct {
		name, model string
		goal        Goal
		files       []*Given
		want        string // the tasks
		open, left  string
	}{
		{"a recovery alone", "dunlin", "", []*Given{recovery("dunlin")},
			"recovery install; go; recovery hold", "", ""},
		{"in a boot image's ramdisk nothing is held", "godwit", "", []*Given{recovery("godwit")},
			"recovery install; go", "dtbo", ""},
		{"a ROM", "sanderling", "", []*Given{recovery("sanderling"), file("rom", ident.OTABlock, "")},
			"recovery install; go; backup take; wipe; sideload; go; arrive", "", ""},
		{"a ROM that brings its recovery", "avocet", "",
			[]*Given{recovery("avocet"), file("rom", ident.OTAAB, ""), file("app", ident.App, "")},
			"recovery install; go; backup take; wipe; sideload; go; arrive; app", "", ""},
		{"a recovery without a shell", "dunlin", "", []*Given{file("recovery", ident.Recovery, "dunlin"),
			file("rom", ident.OTAAB, "")}, "wipe; recovery install; go; sideload; go; arrive", "", ""},
		{"for another phone", "dunlin", "", []*Given{recovery("godwit"), file("rom", ident.OTAAB, "")},
			"backup take; wipe; sideload; go; arrive", "which recovery",
			"is for godwit, this phone is dunlin"},
		{"two ROMs", "dunlin", "", []*Given{recovery("dunlin"), file("rom", ident.OTAAB, ""),
			file("other", ident.OTAAB, "")}, "recovery install; go; backup take; wipe; sideload; go; arrive",
			"rom.img and other.img are both a ROM", ""},
		{"nobody knows what", "dunlin", "", []*Given{recovery("dunlin"), file("thing", ident.Unknown, "")},
			"recovery install; go; recovery hold", "what is thing.img for?", ""},
		{"a generic system where none runs", "turnstone", "",
			[]*Given{recovery("turnstone"), file("gsi", ident.Ext4, "generic")},
			"recovery install; go; backup take; wipe; flash; go; arrive", "no separate vendor partition", ""},
		{"a generic system", "dunlin", "",
			[]*Given{recovery("dunlin"), file("gsi", ident.Ext4, "generic_arm64")},
			"recovery install; go; backup take; vbmeta loosen; wipe; flash; go; arrive", "", ""},
		{"stock without a set", "dunlin", GoalStock, []*Given{recovery("dunlin")}, "", "which firmware set",
			"has no place in this evening"},
		{"apps alone", "dunlin", "", []*Given{file("app", ident.App, "")}, "app", "", ""},
	} {
		facts := &card.Card{}
		m := all.Find(c.model)
		m.Learn(facts)
		e := WorkOut(c.files, c.goal, facts, m, all)
		var got []string
		for _, p := range e.Tasks {
			got = append(got, p.Command)
			if p.Why == "" {
				t.Errorf("%s: %s has no reason", c.name, p.Command)
			}
		}
		if strings.Join(got, "; ") != c.want {
			t.Errorf("%s: %s, want %s", c.name, strings.Join(got, "; "), c.want)
		}
		for text, list := range map[string][]string{c.open: e.Open, c.left: e.Left} {
			if (text == "") != (len(list) == 0) && !(c.open == c.left) ||
				!strings.Contains(strings.Join(list, "; "), text) {
				t.Errorf("%s: %q, and it should say %q", c.name, list, text)
			}
		}
		if wipes := slices.Contains(got, "wipe"); wipes != (len(e.Asks) == 1) {
			t.Errorf("%s: accounts are asked about before a wipe: %q", c.name, e.Asks)
		}
	}
}
