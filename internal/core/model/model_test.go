package model

import (
	"testing"
	"testing/fstest"
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
		"model: x\nslots: many\n"} {
		if _, err := Parse([]byte(bad)); err == nil {
			t.Errorf("%q is taken", bad)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("model: dunlin\naliases: [WL-DU]\nhands:\n  recovery: {do: [press]}\n"))
	f.Fuzz(func(t *testing.T, b []byte) { Parse(b) })
}
