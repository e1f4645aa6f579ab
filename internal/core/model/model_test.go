package model

import (
	"testing"
	"testing/fstest"

	"jarlid/internal/core/card"
)

func TestLoad(t *testing.T) {
	set, err := Load(fstest.MapFS{
		"mine.yaml": {Data: []byte("model: dunlin\naliases: [WL-DU-LITE]\nslots: 2\n")}})
	if err != nil {
		t.Fatalf("Load(...): %v", err)
	}
	if m := set.Find("wl-du-lite"); m == nil || m.Name != "dunlin" || set.Find("dunlin") != m {
		t.Error("the person's own file does not come before the built-in one")
	}
	for _, c := range []struct {
		a, b        string
		same, known bool
	}{
		{"dunlin", "WL-DU", true, true},
		{"dunlin", "WL-DU-LITE", true, true},
		{"heron", "HERON", true, true},
		{"heron", "egret", false, false},
		{"dunlin", "egret", false, true},
	} {
		if same, known := set.Same(c.a, c.b); same != c.same || known != c.known {
			t.Errorf("%s and %s: same %v, known %v", c.a, c.b, same, known)
		}
	}
	var none *Model
	if none.RecoveryPartition() != "recovery" {
		t.Error("without a model the recovery has no usual place")
	}
	for _, bad := range []string{"", "model: x\nalliases: [y]\n", "title: x\n", "model: [",
		"model: x\nslots: many\n", "model: x\nbootloader: {unlock: oem format}\n",
		"model: x\nbase: {variable: \"all; reboot\"}\n", "model: x\nlogical: [\"system; rm\"]\n",
		"model: x\nrecovery: {partition: ../boot}\n", "model: x\npartitions: {boot@c: 1MiB}\n",
		"model: x\npartitions: {boot@both: large}\n"} {
		if _, err := Parse([]byte(bad)); err == nil {
			t.Errorf("%q is taken", bad)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("model: dunlin\naliases: [WL-DU]\nhands:\n  recovery: {do: [press]}\n"))
	f.Fuzz(func(t *testing.T, b []byte) { Parse(b) })
}

// TestPartitions: a model file's table of partitions is known of each phone of that model.
func TestPartitions(t *testing.T) {
	m, err := Parse([]byte("model: x\npartitions: {boot@both: 16MiB, modem@a: 4096, misc: 1KiB}\n"))
	if err != nil {
		t.Fatalf("Parse: %v", err)
	}
	c := &card.Card{}
	m.Learn(c)
	for p, want := range map[string]string{"boot_a": "16777216", "boot_b": "16777216", "modem_a": "4096",
		"modem_b": "", "misc": "1024"} {
		if got := c.Value(card.FactSize.Of(card.Part(p))); got != want {
			t.Errorf("%s has %q bytes, want %q", p, got, want)
		}
	}
}
