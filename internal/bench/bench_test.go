package bench

import (
	"errors"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"jarlid/internal/phone"
)

func open(t *testing.T, home, locks string) *Bench {
	t.Helper()
	b, err := Open(Options{Home: home, Locks: locks})
	if err != nil {
		t.Fatalf("Open(...): %v", err)
	}
	return b
}

// TestList: registering replaces, a damaged list is an error that names it.
func TestList(t *testing.T) {
	b := open(t, t.TempDir(), t.TempDir())
	old, now := Entry{Name: "a", At: []string{"tcp:127.0.0.1:1"}},
		Entry{Name: "a", At: []string{"tcp:127.0.0.1:2"}}
	for _, e := range []Entry{old, now, {Name: "b", At: []string{"adb:127.0.0.1:3"}}} {
		if err := b.Register(e); err != nil {
			t.Fatalf("b.Register(e): %v", err)
		}
	}
	if err := b.Unregister(old); err != nil { // another one has taken its place
		t.Fatalf("b.Unregister(old): %v", err)
	}
	list, err := b.Entries()
	if err != nil || len(list) != 2 || !reflect.DeepEqual(list[0], now) {
		t.Errorf("b.Entries(): %+v, %v; unwanted: err != nil || len(list) != 2 || "+
			"!reflect.DeepEqual(list[0], now)", list, err)
	}
	for _, bad := range []string{"phones: 3", "phones: [{name: x}]", "phones: [{name: x, fastboot: usb}]",
		"fones: []"} {
		if err := os.WriteFile(b.listPath(), []byte(bad), 0o600); err != nil {
			t.Fatalf("os.WriteFile(b.listPath(), []byte(bad), 0o600): %v", err)
		}
		if _, err := b.Entries(); err == nil || !strings.Contains(err.Error(), "bench.yaml") {
			t.Errorf("b.Entries(): %q: %v; unwanted: err == nil || !strings.Contains(err.Error(), "+
				"'bench.yaml')", bad, err)
		}
	}
}

// TestLocks: programs with different homes keep out of each other's way, whichever of its
// names a phone is known by, and names that look alike in a file are two.
func TestLocks(t *testing.T) {
	locks := t.TempDir()
	one, two := open(t, t.TempDir(), locks), open(t, t.TempDir(), locks)
	unlock, err := one.lock("address 127.0.0.1:5554", "serial WL-DU-0007")
	if err != nil {
		t.Fatalf("one.lock('address 127.0.0.1:5554', 'serial WL-DU-0007'): %v", err)
	}
	for _, names := range [][]string{
		{"serial WL-DU-0007"},
		{"address 127.0.0.1:5554"},
		{"address 127.0.0.1:9", "serial WL-DU-0007"},
	} {
		if _, err := two.lock(names...); !errors.Is(err, phone.ErrBusy) {
			t.Errorf("two.lock(names): %v: %v; unwanted: !errors.Is(err, phone.ErrBusy)", names, err)
		}
	}
	for _, other := range []string{"serial WL-DU-0008", "serial WL-DU.0007", "serial WL-DU/0007",
		"address 127.0.0.1:9"} {
		free, err := two.lock(other) // a lock that was given up half-way holds nothing
		if err != nil {
			t.Errorf("two.lock(other): %s: %v; want no error", other, err)
			continue
		}
		free()
	}
	unlock()
	free, err := two.lock("serial WL-DU-0007", "address 127.0.0.1:5554")
	if err != nil {
		t.Fatalf("two.lock('serial WL-DU-0007', 'address 127.0.0.1:5554'): %v", err)
	}
	free()
	left, err := filepath.Glob(filepath.Join(locks, "*"))
	if err != nil || len(left) == 0 {
		t.Errorf("the locks are not in the folder that was named: %v, %v", left, err)
	}
}
