package plan

import (
	"reflect"
	"slices"
	"strings"
	"testing"

	"jarlid/internal/core/backup"
	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/core/place"
)

// TestSends: a step that has a file sends it, so that the file is verified before anything acts.
func TestSends(t *testing.T) {
	file := reflect.TypeFor[*ident.File]()
	for s := range everyStep() {
		v := reflect.ValueOf(s).Elem()
		for i := range v.NumField() {
			if v.Field(i).Type() != file || v.Field(i).IsNil() {
				continue
			}
			f := v.Field(i).Interface().(*ident.File)
			if !slices.ContainsFunc(s.Sends(), func(x Sent) bool { return x.File == f && x.Label != "" }) {
				t.Errorf("%s (%T) does not say that it sends %s", s.Title(), s, f.Path)
			}
		}
	}
}

// everyStep gives one of each kind of step, and the partitions whose contents it
// changes, worked out from what it does.
func everyStep() map[Step]string {
	img := &ident.File{Path: "x.img", Size: 9, Kind: ident.Ext4}
	top := &ident.File{Path: "vbmeta.img", Size: 9, Kind: ident.VBMeta, VBMeta: &vbmeta.Image{}}
	ab, block := rom("dunlin", "boot", "system", "vendor", "vbmeta"),
		&ident.File{Path: "b.zip", Kind: ident.OTABlock, GoesTo: []ident.Destination{{Partition: "system"},
			{Partition: "boot"}}}
	w := &Write{File: img, Partition: "boot", Slot: "a"}
	return map[Step]string{
		&Restart{To: card.Recovery}: "",
		&FormatData{}:               "userdata",
		&Activate{Slot: "b"}:        "",
		w:                           "boot_a",
		&Write{File: top, Partition: "vbmeta", Slot: "a"}:   "vbmeta_a",
		&Write{File: img, Partition: "system", Slot: "a"}:   "system_a",
		&Write{File: img, Partition: "vendor", Slot: "b"}:   "vendor_b",
		&Write{File: img, Partition: "misc"}:                "misc",
		&MakeRoom{Partition: "system", Slot: "a", Need: 25}: "product_a",
		&Try{File: img}:                           "",
		&InstallApp{File: img}:                    "",
		&WipeArea{Area: "system", Slot: "a"}:      "system_a",
		&WipeArea{Area: "caches"}:                 "",
		&Erase{Partition: "userdata"}:             "userdata",
		&Erase{Partition: "vendor", Slot: "a"}:    "vendor_a",
		&Unlock{}:                                 "userdata",
		&Relock{}:                                 "userdata",
		&Graft{File: img, Into: []*Write{w}}:      "",
		&Put{File: img, To: "sd"}:                 "",
		&InstallFrom{File: block, To: "sd"}:       "system boot",
		&RestoreFiles{Item: &backup.Item{}}:       "",
		&CopySlot{Partition: "vendor", From: "b"}: "vendor_a",
		&Shelve{}:              "",
		&WriteTable{File: img}: "",
		&Sideload{File: ab}:    "boot_b system_b vendor_b vbmeta_b",
		&Sideload{File: block}: "system boot",
	}
}

// TestEffectsOfWriting walks the table of facts: for every kind of step, each fact learnt
// from the contents of a partition it writes is set anew or forgotten, in what is known
// afterwards and in what a journal says nobody knows meanwhile.
func TestEffectsOfWriting(t *testing.T) {
	for s, writes := range everyStep() {
		before := phone(card.FactStarted, "a", card.FactGroupMax, "40",
			card.FactSize.Of(card.At("product", "a")), "20", card.FactLogical.Of(card.At("product", "a")),
			"yes",
			card.FactLogical.Of(card.At("system", "a")), "yes", card.FactSize.Of(card.At("system", "a")),
			"20")
		running := before.Running()
		var learnt []card.ID
		for _, d := range card.Defs {
			for _, key := range map[card.Keyed][]string{card.ByNothing: {""}, card.BySlots: {"", "a", "b"},
				card.ByWords: {"storage"},
				card.ByPartitions: {"boot_a", "boot_b", "boot", "system_a", "system_b", "system", "vendor_a",
					"vendor_b", "vbmeta_a", "vbmeta_b", "vbmeta", "product_a", "misc", "userdata"}}[d.By] {
				i := card.ID{Name: d.Name, Key: key}
				if len(d.From) == 0 || before.Get(i).Known() {
					continue
				}
				before.Set(i, card.Fact{Value: "of before, " + i.String(), Evidence: card.Journal})
				learnt = append(learnt, i)
			}
		}
		after := before.Clone()
		unsure := Unsure(s, before)
		Apply(s, after)
		got := s.Writes(before)
		if place.Names(got) != spaced(writes) {
			t.Errorf("%s writes %s, want %s", s.Title(), place.Names(got), writes)
		}
		for _, i := range learnt {
			from := slices.ContainsFunc(got, func(p card.Partition) bool { return i.LearntFrom(p, running) })
			if from && after.Get(i).Value == before.Get(i).Value {
				t.Errorf("%s: %s is still %q", s.Title(), i, after.Get(i).Value)
			}
			if from && !slices.Contains(unsure, i) {
				t.Errorf("%s: while it acts %s counts as known", s.Title(), i)
			}
		}
	}
}

func spaced(s string) string {
	var list []card.Partition
	for _, name := range strings.Fields(s) {
		list = append(list, card.Part(name))
	}
	return place.Names(list)
}
