package plan

import (
	"strings"
	"testing"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/ota"
	"jarlid/internal/core/image/payload"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
)

func models(t *testing.T) model.Set {
	t.Helper()
	set, err := model.Load(nil)
	if err != nil {
		t.Fatalf("model.Load(): %v", err)
	}
	return set
}

// phone is a dunlin in the bootloader about which everything is known; facts
// are changed by the pairs behind, "" makes one unknown.
func phone(facts ...any) *card.Card {
	c := &card.Card{}
	for _, f := range []struct {
		fact  card.Which
		value string
	}{{card.FactMode, "bootloader"}, {card.FactModel, "dunlin"}, {card.FactUnlocked, "yes"},
		{card.FactSlots, "2"}, {card.FactNext, "a"},
		{card.FactPercent, "80"},
		{card.FactSize.Of(card.At("recovery", "a")), "33554432"},
		{card.FactSize.Of(card.At("recovery", "b")), "33554432"},
		{card.FactData, card.DataFormatted},
		{card.FactBootable.Of("a"), "yes"}, {card.FactBootable.Of("b"), "no"}} {
		c.Learn(f.fact, f.value, card.Read)
	}
	for i := 0; i < len(facts); i += 2 {
		if facts[i+1] == "" {
			c.Forget(facts[i].(card.Which), "")
		} else {
			c.Learn(facts[i].(card.Which), facts[i+1].(string), card.Read)
		}
	}
	c.Conclude()
	return c
}

func recovery(device string) *ident.File {
	f := &ident.File{Path: "/x/tideline.img", Size: 1 << 20, Kind: ident.Recovery, Boot: &boot.Image{},
		Props: map[string]string{}}
	if device != "" {
		f.Props["ro.product.device"] = device
	}
	return f
}

func rom(device string, partitions ...string) *ident.File {
	p := &payload.Payload{}
	for _, name := range partitions {
		p.Partitions = append(p.Partitions, payload.Partition{Name: name})
	}
	return &ident.File{Path: "rom.zip", Size: 9, Kind: ident.OTAAB, Payload: p,
		Package: &ota.Package{Metadata: map[string]string{"pre-device": device}, Payload: p}}
}

func said(list []finding.Finding) string {
	var s []string
	for _, f := range list {
		s = append(s, string(f.Severity)+" "+f.Name)
	}
	return strings.Join(s, ", ")
}

// TestFindings: the same rule on a known and an unknown fact.
func TestFindings(t *testing.T) {
	write := func(f *ident.File) Step {
		return &Write{File: f, Partition: "recovery", Slot: "b", Recovery: true}
	}
	big, plain := recovery("dunlin"), recovery("dunlin")
	big.Size, plain.Kind = 1<<30, ident.Boot
	for _, c := range []struct {
		name string
		step Step
		card *card.Card
		want string
	}{
		{"all is well", write(recovery("dunlin")), phone(), ""},
		{"an alias", write(recovery("WL-DU")), phone(), ""},
		{"the twin", write(recovery("godwit")), phone(), "stop wrong-model"},
		{"a name nobody knows", write(recovery("heron")), phone(card.FactModel, "egret"), "warn wrong-model"},
		{"no name", write(recovery("")), phone(), "warn wrong-model"},
		{"locked", write(recovery("dunlin")), phone(card.FactUnlocked, "no"), "stop locked-bootloader"},
		{"perhaps locked", write(recovery("dunlin")), phone(card.FactUnlocked, ""), "warn locked-bootloader"},
		{"battery by percent", write(recovery("dunlin")), phone(card.FactPercent, "29"), "stop battery-low"},
		{"battery by verdict", write(recovery("dunlin")), phone(card.FactPercent, "", card.FactCharged, "no"),
			"stop battery-low"},
		{"battery by voltage", write(recovery("dunlin")), phone(card.FactPercent, "", card.FactMillivolts,
			"3599"), "stop battery-low"},
		{"enough by voltage", write(recovery("dunlin")), phone(card.FactPercent, "", card.FactMillivolts,
			"3600"), ""},
		{"battery unknown", write(recovery("dunlin")), phone(card.FactPercent, ""), "warn battery-low"},
		{"too big", write(big), phone(), "stop image-too-big"},
		{"no such partition", write(recovery("dunlin")), phone(card.FactSize.Of(card.At("recovery", "b")),
			card.Nothing), "stop no-such-partition"},
		{"size unknown", write(recovery("dunlin")), phone(card.FactSize.Of(card.At("recovery", "b")), ""),
			"warn no-such-partition"},
		{"not a recovery", write(plain), phone(), "stop not-a-recovery"},
		{"formatted", &Sideload{File: rom("dunlin", "boot")}, phone(), ""},
		{"encrypted", &Sideload{File: rom("dunlin", "boot")}, phone(card.FactData, card.DataEncrypted),
			"stop encrypted-data"},
		{"perhaps encrypted", &Sideload{File: rom("dunlin", "boot")}, phone(card.FactData, ""),
			"warn encrypted-data"},
		{"its own recovery", &Sideload{File: rom("dunlin", "boot", "recovery")}, phone(),
			"warn recovery-replaced"},
		{"recovery on one slot", &Sideload{File: rom("dunlin", "boot")},
			phone(card.FactDigest.Of(card.At("recovery", "a")), "x"), "warn recovery-on-one-slot"},
		{"not a package", &Sideload{File: recovery("dunlin")}, phone(), "stop not-a-package"},
		{"a slot that can start", &Activate{Slot: "a"}, phone(), ""},
		{"an empty slot", &Activate{Slot: "b"}, phone(), "stop slot-empty"},
		{"formatting without a shell", &FormatData{}, phone(card.FactMode, "recovery", card.FactRoot, "no"),
			"note no-root-shell"},
		{"formatting with one", &FormatData{}, phone(card.FactMode, "recovery", card.FactRoot, "yes"), ""},
		{"an empty slot, and none can start", &Activate{Slot: "b"}, phone(card.FactBootable.Of("a"), "no",
			card.FactBootable.Of("b"), "no"), "warn slot-empty"},
		{"a recovery, and no slot can start", &Restart{To: card.Recovery}, phone(card.FactBootable.Of("a"),
			"no",
			card.FactBootable.Of("b"), "no"), "stop slot-empty"},
		{"userspace fastboot, and no slot can start", &Restart{To: card.Fastbootd}, phone(
			card.FactBootable.Of("a"), "no", card.FactBootable.Of("b"), "no"), "stop slot-empty"},
		{"an unknown slot", &Activate{Slot: "b"}, phone(card.FactBootable.Of("b"), ""), "warn slot-empty"},
	} {
		if got := said(c.step.Check(c.card, models(t).Find("dunlin"), models(t))); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

// TestCompile: restarts come between steps, and every step is checked by what
// the ones before it leave.
func TestCompile(t *testing.T) {
	set := models(t)
	c := phone(card.FactData, card.DataEncrypted)
	titles := func(p *Plan) string {
		var s []string
		for _, st := range p.Steps {
			s = append(s, st.Title())
		}
		return strings.Join(s, "; ")
	}
	p := Compile(c, set.Find("dunlin"), set, &Sideload{File: rom("dunlin", "boot")},
		&Restart{To: card.Recovery})
	if got, want := titles(p), "restart into recovery; restart into sideload; install rom.zip; restart "+
		"into recovery"; got != want {
		t.Errorf("%s, want %v", got, want)
	}
	if got := said(p.Check(c)); got != "stop encrypted-data" {
		t.Errorf("without formatting: %s", got)
	}
	p = Compile(c, set.Find("dunlin"), set, &FormatData{}, &Sideload{File: rom("dunlin", "boot")},
		&Restart{To: card.System})
	if got, want := titles(p), "erase all data; restart into recovery; restart into sideload; install "+
		"rom.zip; restart into system"; got != want {
		t.Errorf("%s, want %v", got, want)
	}
	if got := said(p.Check(c)); got != "warn account-lock, note no-backup" {
		t.Errorf("with formatting: %s", got)
	}
	if c.Value(card.FactData) != card.DataEncrypted {
		t.Error("checking changed the facts")
	}
}

// TestTargets: what a slot means on this phone, and in the bootloader, where
// none is running.
func TestTargets(t *testing.T) {
	one := phone(card.FactSlots, "1")
	unknown := phone(card.FactSlots, "", card.FactSize.Of(card.At("recovery", "a")), "",
		card.FactSize.Of(card.At("recovery", "b")), "")
	running := phone(card.FactStarted, "b")
	for _, c := range []struct {
		text string
		card *card.Card
		want string
	}{
		{"recovery", phone(), "a b"},
		{"recovery@both", phone(), "a b"},
		{"recovery@b", phone(), "b"},
		{"@booted", phone(), "a"},
		{"@active", phone(), "a"},
		{"@other", phone(), "b"},
		{"@booted", running, "b"},
		{"@active", running, "a"},
		{"@other", running, "error"}, // other than which
		{"@current", phone(), "error"},
		{"boot", one, ""},
		{"boot@both", one, ""},
		{"boot@a", one, "error"},
		{"boot", unknown, "error"},
		{"boot@c", phone(), "error"},
		{"boot@", phone(), "error"},
		{"boot@booted", phone(card.FactNext, ""), "error"},
		{"boot@active", phone(card.FactStarted, "b", card.FactNext, ""), "error"},
	} {
		target, err := place.ParseTarget(c.text)
		var slots []string
		if err == nil {
			slots, err = target.SlotsOf(c.card)
		}
		got := strings.Join(slots, " ")
		if err != nil {
			got = "error"
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q (%v)", c.text, got, c.want, err)
		}
	}
}

// TestAccept: by name, by name and what, never a final one.
func TestAccept(t *testing.T) {
	list := []finding.Finding{
		{Name: "a", About: "x", Severity: finding.Stop},
		{Name: "a", About: "y", Severity: finding.Stop},
		{Name: "b", Severity: finding.Stop, Final: true},
	}
	for text, want := range map[string]int{"a": 1, "a=x": 2, "b": 3, "c": 3} {
		if got := len(finding.Blocking(
			finding.Apply(list, []finding.Accept{finding.ParseAccept(text)}))); got != want {
			t.Errorf("%s leaves %d stops, want %d", text, got, want)
		}
	}
	for _, n := range finding.Names() {
		if e, ok := finding.Explain(n); !ok || e.Meaning == "" || e.Why == "" || e.Remedy == "" {
			t.Errorf("%s is not explained", n)
		}
	}
}

// TestSummary: a question names what is done and where, from the steps themselves: a comma or " to " in the
// name of a file changes nothing.
func TestSummary(t *testing.T) {
	file := func(path string) *ident.File { return &ident.File{Path: path, Kind: ident.Boot} }
	write := func(path, base, slot string) *Write {
		return &Write{File: file(path), Partition: base, Slot: slot, Label: path}
	}
	for _, c := range []struct {
		name  string
		steps []Step
		want  string
	}{
		{"none", nil, ""},
		{"one", []Step{&FormatData{}}, "erase all data"},
		{"a comma in a name", []Step{write("a, b.img", "boot", "a"), &FormatData{}},
			"write a, b.img to boot_a and erase all data"},
		{"both slots", []Step{write("a.img", "boot", "a"), write("a.img", "boot", "b")},
			"write a.img to boot_a and boot_b"},
		{"two files that begin alike", []Step{write("a", "boot", "a"), write("a to boot.img", "boot", "b")},
			"write a to boot_a and write a to boot.img to boot_b"},
		{"one left over", []Step{write("a", "boot", "a"), write("b", "dtbo", "a"), write("c", "radio", "a"),
			&FormatData{}}, "write a to boot_a, write b to dtbo_a, write c to radio_a and erase all data"},
		{"more than are named", []Step{write("a", "boot", "a"), write("b", "dtbo", "a"),
			write("c", "radio", "a"),
			write("d", "misc", ""), &FormatData{}},
			"write a to boot_a, write b to dtbo_a, write c to radio_a and 2 more"},
	} {
		if got := Summary(c.steps, 3); got != c.want {
			t.Errorf("%s: the summary is %q, want %q", c.name, got, c.want)
		}
	}
}
