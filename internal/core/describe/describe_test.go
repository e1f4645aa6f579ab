package describe

import (
	"errors"
	"strings"
	"testing"
	"unicode"

	"go.yaml.in/yaml/v3"

	"jarlid/internal/core/card"
	"jarlid/internal/core/model"
	"jarlid/internal/core/plan"
)

// cardOf makes the card of a phone in its bootloader from facts by their names: "partition.size:boot_a=9".
func cardOf(facts ...string) *card.Card {
	c := &card.Card{}
	c.Learn(card.FactMode, string(card.Bootloader), card.Read)
	for _, f := range facts {
		name, value, _ := strings.Cut(f, "=")
		id, err := card.ParseID(name)
		if err != nil {
			panic(err)
		}
		c.Learn(id, value, card.Read)
	}
	c.Conclude()
	return c
}

// setOf makes a firmware set by its two manifests.
func setOf(info, order string, images ...string) *Set {
	s := &Set{Images: images, Sizes: map[string]int64{}}
	s.Manifest.ParseInfo(info)
	s.Manifest.ParseOrder(order)
	for _, r := range s.Manifest.Requires {
		if r.Name == "product" {
			s.Devices = r.Values
		}
	}
	return s
}

var plover = []string{"model=plover", "product=plover_board", "partition.size:boot_a=16777216",
	"partition.size:boot_b=16777216", "partition.size:misc=1000", "partition.size:modem_a=2048",
	"partition.size:modem_b=4096", "vndk=31", "bootloader.command:boot=no", "serial.other=9"}

// TestDraft: what sources say becomes the lines of a model file that states the same when it is read.
func TestDraft(t *testing.T) {
	for _, c := range []struct {
		name    string
		sources []Known
		want    string // lines of the file, comments aside, with commas between
		asks    string // in a question
	}{
		{name: "a phone", sources: []Known{{From: "brook", Card: cardOf(plover...)}},
			want: "model: plover,aliases: [plover_board],slots: 2,partition: boot,lacks: [boot]," +
				"boot@both: 16MiB,misc: \"1000\",modem@a: 2KiB,modem@b: 4KiB,serial-differs: true,vndk: " +
				"\"31\""},
		{name: "a set", sources: []Known{{From: "set.zip", Set: setOf("require board=plover\n"+
			"require version-baseband=2.0|1.9\n", "flash boot\nreboot fastboot\nflash system\n", "boot",
			"system",
			"modem", "recovery")}},
			want: "model: plover,partition: recovery,logical: [system],firmware: [modem]," +
				"variable: version-baseband,min: \"1.9\",order: [boot, system]"},
		{name: "a phone and a set", sources: []Known{{From: "brook", Card: cardOf("model=plover",
			"partition.size:boot=9", "partition.size:recovery=9")}, {From: "set.zip", Set: setOf(
			"require product=plover\n", "", "boot", "recovery")}},
			want: "slots: 1,partition: recovery,boot: \"9\""},
		{name: "two phones that differ", sources: []Known{{From: "brook", Card: cardOf("model=plover",
			"partition.size:boot=9")}, {From: "marsh", Card: cardOf("model=plover", "partition.size:boot_a=9",
			"partition.size:boot_b=9")}},
			want: "boot@both: \"9\"", asks: "what is slots: 1 (brook: boot is there without a slot " +
				"suffix), or 2"},
		{name: "a set for twins", sources: []Known{{From: "brook", Card: cardOf("model=plover")},
			{From: "set.zip", Set: setOf("require product=plover|dotterel\n", "", "boot")}},
			want: "model: plover", asks: "set.zip is for dotterel too"},
		{name: "keys that a person named", sources: []Known{{From: "brook", Card: cardOf("model=plover",
			"hands:bootloader=Hold both volume keys: \"now\" # really")}},
			want: `- 'Hold both volume keys: "now" # really'`},
		{name: "an older unlock command", sources: []Known{{From: "brook", Card: cardOf("model=plover",
			"bootloader.command:flashing unlock=no")}}, want: "unlock: oem unlock"},
	} {
		d, err := Of(c.sources)
		if err != nil {
			t.Errorf("drafting from %s: %v", c.name, err)
			continue
		}
		text, err := d.Text()
		if err != nil {
			t.Errorf("%s can't be written: %v", c.name, err)
		}
		plain := ""
		for line := range strings.Lines(text) {
			body, _, _ := strings.Cut(line, " # brook: ")
			body, _, _ = strings.Cut(body, " # marsh: ")
			plain += strings.TrimSpace(body) + "\n"
		}
		for _, want := range strings.Split(strings.ReplaceAll(c.want, ", ", "\x00"), ",") {
			if want = strings.ReplaceAll(want, "\x00", ", "); !strings.Contains("\n"+plain, "\n"+want+"\n") {
				t.Errorf("%s lacks %q:\n%s", c.name, want, text)
			}
		}
		if got := strings.Join(d.Questions, "\n"); c.asks == "" && got != "" || !strings.Contains(got,
			c.asks) ||
			!strings.Contains(text, c.asks) {
			t.Errorf("%s asks %q, want %q", c.name, got, c.asks)
		}
	}
}

// TestDraftOfNothing: without a name, or with two, there is no model file.
func TestDraftOfNothing(t *testing.T) {
	if _, err := Of([]Known{{From: "x", Card: cardOf()}}); !errors.Is(err, ErrNameless) {
		t.Errorf("a phone without a name: %v", err)
	}
	var other *OtherModelError
	if _, err := Of([]Known{{From: "brook", Card: cardOf("model=plover")},
		{From: "marsh", Card: cardOf("model=dotterel")}}); !errors.As(err, &other) {
		t.Errorf("two models: %v", err)
	}
	if _, err := Of([]Known{{From: "brook", Card: cardOf("model=plover", "product=msm_board")},
		{From: "set", Set: &Set{Devices: []string{"msm_board"}}}}); err != nil {
		t.Errorf("a set for the phone's board: %v", err)
	}
}

// TestCheck: each line of a model file is confirmed, contradicted or neither, and what is missing is named.
func TestCheck(t *testing.T) {
	m, err := model.Parse([]byte("model: plover\nslots: 1\naliases: [plover_board, other]\n" +
		"partitions: {boot@both: 16MiB, misc: 2MiB}\nfacts: {vndk: \"31\", treble: \"yes\"}\n"))
	if err != nil {
		t.Fatalf("model.Parse: %v", err)
	}
	got := map[string]State{}
	for _, c := range Check(m, []Known{{From: "brook", Card: cardOf(plover...)}}) {
		got[c.Key+"="+c.Value] = c.State
	}
	for line, want := range map[string]State{"model=plover": Confirmed, "slots=1": Contradicted,
		"aliases=plover_board": Confirmed, "aliases=other": Unconfirmed,
		"partitions.boot@both=16MiB": Confirmed,
		"partitions.misc=2MiB":       Contradicted, "facts.vndk=31": Confirmed,
		"facts.treble=yes":    Unconfirmed,
		"recovery.partition=": Missing, "hands=": Missing} {
		if got[line] != want {
			t.Errorf("%s is %q, want %q", line, got[line], want)
		}
	}
	for _, c := range Check(m, nil) {
		if c.State == Confirmed || c.State == Contradicted {
			t.Errorf("with no phone %s is %s", c.Key, c.State)
		}
	}
}

// TestPractise: the part for a stand-in has the partitions, with what no phone is without.
func TestPractise(t *testing.T) {
	sources := []Known{{From: "set.zip", Set: setOf("require product=plover\n",
		"flash boot\nreboot fastboot\n"+
			"flash system\n", "boot", "vendor_boot", "system")}}
	d, err := Of(sources)
	if err != nil {
		t.Fatalf("Of: %v", err)
	}
	var lacks *NoPartitionsError
	if err := d.Practise(sources); !errors.As(err, &lacks) {
		t.Errorf("without a number of slots: %v", err)
	}
	sources[0].Set.Slots = 2
	if d, err = Of(sources); err != nil {
		t.Fatalf("Of: %v", err)
	}
	if err := d.Practise(sources); err != nil {
		t.Fatalf("Practise: %v", err)
	}
	text, err := d.Text()
	if err != nil {
		t.Fatalf("Text: %v", err)
	}
	var file struct {
		Standin practice
	}
	if err := yaml.Unmarshal([]byte(text), &file); err != nil {
		t.Fatalf("reading it: %v", err)
	}
	var names []string
	for _, p := range file.Standin.Partitions {
		names = append(names, p.Name)
	}
	if got := strings.Join(names, " "); got != "boot vendor_boot misc userdata super" ||
		file.Standin.Super == nil {
		t.Errorf("its partitions are %s:\n%s", got, text)
	}
}

// FuzzDraft: whatever a phone and a set report, the draft is a model file, and can be shown.
func FuzzDraft(f *testing.F) {
	f.Add("plover", "board: x\n# y", "31\nslots: 9", "partition\x1b[2J")
	f.Add("- a", "!!python", "{}", "&a *a")
	f.Fuzz(func(t *testing.T, name, product, value, images string) {
		c := cardOf()
		c.Learn(card.FactModel, name, card.Read)
		c.Learn(card.FactProduct, product, card.Read)
		c.Learn(card.FactVNDK, value, card.Read)
		c.Learn(card.FactKeysFor.Of("bootloader"), value, card.Said)
		c.Learn(card.FactCommand.Of(images), "no", card.Journal)
		var m plan.Manifest
		m.ParseOrder(images)
		d, err := Of([]Known{{From: product, Card: c}, {From: value, Set: &Set{Manifest: m,
			Images: strings.Fields(images)}}})
		if err != nil {
			return
		}
		text, err := d.Text()
		if err != nil {
			t.Fatalf("Text of a draft from %q and %q: %v\n%s", name, images, err, text)
		}
		for _, r := range text {
			if unicode.IsControl(r) && r != '\n' {
				t.Fatalf("the draft has %q:\n%s", r, text)
			}
		}
	})
}
