package journal

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
)

// TestLedger: the last job of a phone names a transfer that was interrupted, until it is over; one
// that ended, that was only begun to be written, or that belongs to another phone, is none.
func TestLedger(t *testing.T) {
	home := t.TempDir()
	begin := func(phone, serial string) *Ledger {
		t.Helper()
		w, err := Create(home, phone, nil)
		if err != nil {
			t.Fatalf("Create(home, phone): %v", err)
		}
		if err := w.Write(Record{Event: Begin, Phone: phone, Serial: serial}); err != nil {
			t.Fatalf("w.Write(...): %v", err)
		}
		w.Close()
		l, err := OpenLedger(w.Dir)
		if err != nil {
			t.Fatalf("OpenLedger(w.Dir): %v", err)
		}
		return l
	}
	broken := func(who Who) (Transfer, bool) {
		t.Helper()
		b, ok, err := Broken(home, who)
		if err != nil {
			t.Fatalf("Broken(home, who): %v", err)
		}
		return b, ok
	}
	brook := Who{Name: "brook", Serial: "B", Also: []string{"A"}} // in its recovery
	if _, ok := broken(brook); ok {
		t.Error("without a job")
	}
	l := begin("brook", "A")
	if err := errors.Join(l.Note(5<<30, 3<<30), l.f.Close()); err != nil { // and the program is killed
		t.Fatalf("errors.Join(l.Note(5<<30, 3<<30), l.f.Close()): %v", err)
	}
	if b, ok := broken(brook); !ok || b.Announced != 5<<30 || b.Taken != 3<<30 {
		t.Errorf("%+v %v; unwanted: !ok || b.Announced != 5<<30 || b.Taken != 3<<30", b, ok)
	}
	if _, ok := broken(Who{Name: "other", Serial: "O"}); ok {
		t.Error("another phone's")
	}
	b, _ := broken(brook)
	if err := b.Over(); err != nil {
		t.Fatalf("b.Over(): %v", err)
	}
	if _, ok := broken(brook); ok {
		t.Error("it is over")
	}
	ended := begin("brook", "A")
	if ended.Note(100, 10) != nil || ended.Note(0, 0) != nil || ended.Close() != nil {
		t.Error("it can't be noted")
	}
	if _, err := os.Stat(filepath.Join(home, "jobs", "000002-brook", ledgerName)); err == nil {
		t.Error("a job without an open transfer keeps a ledger")
	}
	for _, text := range []string{"", "announced 0000", "announced 0000000000000001 taken 0000000000000002\n",
		"\x00\x00"} {
		cut := begin("brook", "A")
		if err := os.WriteFile(cut.f.Name(), []byte(text), 0o600); err != nil {
			t.Fatalf("os.WriteFile(cut.f.Name(), []byte(text), 0o600): %v", err)
		}
		if b, ok := broken(brook); ok {
			t.Errorf("%q is %+v", text, b)
		}
		cut.f.Close()
	}
	var none *Ledger
	if none.Note(1, 1) != nil || none.Close() != nil {
		t.Error("no ledger keeps nothing")
	}
}
