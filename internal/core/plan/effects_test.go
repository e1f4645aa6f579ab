package plan

import (
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"jarlid/internal/core/backup"
	"jarlid/internal/core/card"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/core/place"
)

// TestSends: a step that has a file sends it, so that the file is verified before anything acts.
func TestSends(t *testing.T) {
	file := reflect.TypeFor[*ident.File]()
	for _, c := range everyStep() {
		s := c.step
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

// stepCase is a step and what is to be known of it, worked out from what it does. Partitions are separated
// by spaces.
type stepCase struct {
	step    Step
	writes  string // partitions whose contents it changes
	looks   bool   // it changes nothing on the phone
	hand    string // recipe for somebody at the phone
	decides string // "what=how"
	ends    bool   // it ends what was decided before
	bytes   int64  // that it sends, files being of 20 MiB
	seconds int
}

// everyStep gives one of each kind of step, by a file of 20 MiB: a second to send, two and a half to install.
func everyStep() []stepCase {
	const n = 20 << 20
	img := &ident.File{Path: "x.img", Size: n, Kind: ident.Ext4}
	top := &ident.File{Path: "vbmeta.img", Size: n, Kind: ident.VBMeta, VBMeta: &vbmeta.Image{}}
	ab := rom("dunlin", "boot", "system", "vendor", "vbmeta")
	ab.Size = n
	block := &ident.File{Path: "b.zip", Size: n, Kind: ident.OTABlock,
		GoesTo: []ident.Destination{{Partition: "system"}, {Partition: "boot"}}}
	files := &backup.Item{Files: []backup.File{{Bytes: n / 2}, {Bytes: n / 2}}}
	w := &Write{File: img, Partition: "boot", Slot: "a"}
	write := func(f *ident.File, base, slot, name string) stepCase {
		return stepCase{step: &Write{File: f, Partition: base, Slot: slot}, writes: name,
			decides: "writes " + name + "=" + f.Path, bytes: n, seconds: 3}
	}
	return []stepCase{
		{step: &Restart{To: card.Recovery}, looks: true, ends: true, seconds: 45},
		{step: &Restart{To: card.System}, looks: true, ends: true, seconds: 300},
		{step: &Restart{To: card.Loader}, looks: true, ends: true, hand: "loader", seconds: 45},
		{step: &FormatData{}, writes: "userdata", seconds: 22},
		{step: &Activate{Slot: "b"}, decides: "chooses a slot=", seconds: 2},
		write(img, "boot", "a", "boot_a"),
		write(top, "vbmeta", "a", "vbmeta_a"),
		write(img, "system", "a", "system_a"),
		write(img, "vendor", "b", "vendor_b"),
		write(img, "misc", "", "misc"),
		{step: &MakeRoom{Partition: "system", Slot: "a", Need: 25}, writes: "product_a", seconds: 2},
		{step: &Try{File: img}, looks: true, bytes: n, seconds: 48},
		{step: &InstallApp{File: img}, bytes: n, seconds: 4},
		{step: &WipeArea{Area: "system", Slot: "a"}, writes: "system_a", seconds: 22},
		{step: &WipeArea{Area: "caches"}, seconds: 22},
		{step: &Erase{Partition: "userdata"}, writes: "userdata", seconds: 22},
		{step: &Erase{Partition: "vendor", Slot: "a"}, writes: "vendor_a", seconds: 22},
		{step: &Unlock{}, writes: "userdata", hand: "unlock", seconds: 67},
		{step: &Relock{}, writes: "userdata", hand: "relock", seconds: 67},
		{step: &Graft{File: img, Into: []*Write{w, w}}, bytes: 2 * n, seconds: 51},
		{step: &Put{File: img, To: "sd"}, bytes: n, seconds: 3},
		{step: &InstallFrom{File: block, To: "sd"}, writes: "system boot", hand: "install-from-sd",
			seconds: 4},
		{step: &RestoreFiles{Item: files}, bytes: n, seconds: 3},
		{step: &CopySlot{Partition: "vendor", From: "b"}, writes: "vendor_a", seconds: 5},
		{step: &Shelve{}, seconds: 2},
		{step: &WriteTable{File: img}, seconds: 2},
		{step: &Sideload{File: ab}, writes: "boot_b system_b vendor_b vbmeta_b", bytes: n, seconds: 4},
		{step: &Sideload{File: block}, writes: "system boot", bytes: n, seconds: 4},
	}
}

// TestEveryStep holds what each kind of step states of itself against what is worked out above.
func TestEveryStep(t *testing.T) {
	c := phone(card.FactSize.Of(card.At("vendor", "b")), "62914560") // 60 MiB
	for _, want := range everyStep() {
		s := want.step
		bytes, takes := s.Estimate(c)
		d := s.Decides()
		decides := ""
		if d.What != "" {
			decides = d.What + "=" + d.How
		}
		got := stepCase{step: s, writes: want.writes, looks: !s.Changes(), hand: s.ByHand(c),
			decides: decides,
			ends:    d.Ends, bytes: bytes, seconds: int(takes / time.Second)}
		if got != want {
			t.Errorf("%T says of itself\n%+v, want\n%+v", s, got, want)
		}
		expected := takes
		if want.hand != "" {
			expected += time.Minute
		}
		if _, takes := Expect(s, c); takes != expected {
			t.Errorf("%s is expected to take %s, want %s", s.Title(), takes, expected)
		}
	}
	kinds := map[string]bool{}
	for _, c := range everyStep() {
		kinds[reflect.TypeOf(c.step).Elem().Name()] = true
	}
	for _, name := range stepNames(t) {
		if !kinds[name] {
			t.Errorf("the kind of step %s has no case in everyStep", name)
		}
	}
}

// stepNames reads the kinds of steps there are out of the package's source: the types with a title.
func stepNames(t *testing.T) (names []string) {
	t.Helper()
	paths, err := filepath.Glob("*.go")
	for _, path := range paths {
		b, readErr := os.ReadFile(path)
		if readErr != nil {
			err = readErr
		}
		for _, m := range regexp.MustCompile(
			`(?m)^func \((?:\w+ )?\*(\w+)\) Title\(\) string`).FindAllSubmatch(b, -1) {
			names = append(names, string(m[1]))
		}
	}
	if err != nil || len(names) < 19 {
		t.Fatalf("reading the kinds of steps out of the source: %d found, want at least 19; %v", len(names),
			err)
	}
	return names
}

// TestEffectsOfWriting walks the table of facts: for every kind of step, each fact learnt
// from the contents of a partition it writes is set again or forgotten, in what is known
// afterwards and in what a journal says nobody knows meanwhile.
func TestEffectsOfWriting(t *testing.T) {
	for _, c := range everyStep() {
		s, writes := c.step, c.writes
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
				before.Set(i, card.Fact{Value: "of before, " + i.String(), Source: card.Journal})
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
