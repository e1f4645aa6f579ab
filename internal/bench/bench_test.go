package bench

import (
	"os"
	"path/filepath"
	"testing"

	"jarlid/internal/core/card"
)

func known(v string) card.Fact { return card.Fact{Value: v, Evidence: card.Read} }

// TestRecall: what journals say is known, except what an act that broke off
// was writing; the serial number tells phones of one name apart.
func TestRecall(t *testing.T) {
	b, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	write := func(phone, serial string, records ...Record) {
		t.Helper()
		j, err := b.newJournal(phone)
		if err != nil {
			t.Fatal(err)
		}
		defer j.close()
		for _, r := range append([]Record{{Event: "begin", Phone: phone, Serial: serial}}, records...) {
			if err := j.write(r); err != nil {
				t.Fatal(err)
			}
		}
	}
	write("dunlin", "7", Record{Event: "act", Title: "one", Touches: []string{"digest.recovery_a"}},
		Record{Event: "done", Facts: map[string]card.Fact{"digest.recovery_a": known("aa"), "digest.recovery_b": known("bb"), "data": known("encrypted")}}, Record{Event: "end"})
	write("dunlin", "8", Record{Event: "act", Title: "other phone"}, Record{Event: "done", Facts: map[string]card.Fact{"data": known("plain")}})
	write("dunlin", "7", Record{Event: "act", Title: "write recovery_b", Touches: []string{"digest.recovery_b"}})
	c, err := b.recall(b.phone(Entry{Name: "dunlin"}), "7")
	if err != nil {
		t.Fatal(err)
	}
	if f := c.Get("digest.recovery_a"); f.Value != "aa" || f.Evidence != card.Journal || f.At.IsZero() {
		t.Errorf("what was done: %+v", f)
	}
	if f := c.Get("digest.recovery_b"); f.Known() || f.Why != "a job broke off while it did this: write recovery_b" {
		t.Errorf("what broke off: %+v", f)
	}
	if c.Value("data") != "encrypted" {
		t.Errorf("another phone's journal counts: %q", c.Value("data"))
	}
	// A journal whose last line was cut by a crash is read as far as it goes.
	path := filepath.Join(b.Home, "jobs")
	dirs, _ := os.ReadDir(path)
	f, err := os.OpenFile(filepath.Join(path, dirs[0].Name(), "journal.jsonl"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	f.WriteString(`{"event":"done","facts":{"da`)
	f.Close()
	if c, err := b.recall(b.phone(Entry{Name: "dunlin"}), "7"); err != nil || c.Value("data") != "encrypted" {
		t.Errorf("a cut line: %v", err)
	}
}

func TestAddresses(t *testing.T) {
	for s, want := range map[string]string{"tcp:192.0.2.7": "tcp:192.0.2.7:5554", "adb:phone": "adb:phone:5555", "tcp:[::1]:99": "tcp:[::1]:99", "adb:[::1]": "adb:[::1]:5555",
		"tcp:": "", "tcp:x:0": "", "tcp:x:99999": "", "usb:1": "", "udp:x": "udp:x:5554", "plain": ""} {
		a, err := ParseAddress(s)
		got := ""
		if err == nil {
			got = a.String()
		}
		if got != want {
			t.Errorf("%s is %q, want %q", s, got, want)
		}
	}
}

// TestList: registering replaces, a damaged list is an error that names it.
func TestList(t *testing.T) {
	b, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	old, now := Entry{Name: "a", Fastboot: "tcp:127.0.0.1:1"}, Entry{Name: "a", Fastboot: "tcp:127.0.0.1:2"}
	for _, e := range []Entry{old, now, {Name: "b", ADB: "adb:127.0.0.1:3"}} {
		if err := b.Register(e); err != nil {
			t.Fatal(err)
		}
	}
	if err := b.Unregister(old); err != nil { // another one has taken its place
		t.Fatal(err)
	}
	list, err := b.Entries()
	if err != nil || len(list) != 2 || list[0] != now {
		t.Errorf("%+v, %v", list, err)
	}
	for _, bad := range []string{"phones: 3", "phones: [{name: x}]", "phones: [{name: x, fastboot: usb}]", "fones: []"} {
		if err := os.WriteFile(b.listPath(), []byte(bad), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := b.Entries(); err == nil {
			t.Errorf("%q is taken", bad)
		}
	}
}
