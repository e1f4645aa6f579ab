package bench

import (
	"errors"
	"slices"
	"testing"

	"jarlid/internal/link/usb"
	"jarlid/internal/link/usb/soft"
	"jarlid/internal/phone/wire"
)

// TestNames: phones on cables have their serial number for a name, or their socket where that is
// shared or lacking; a name that was given stays, in every mode; a name is one phone's.
func TestNames(t *testing.T) {
	bus := &soft.Bus{}
	for port, serial := range map[string]string{"1-1": "A", "1-2": "0123", "1-3": "0123", "1-4": ""} {
		t.Cleanup(bus.PlugAt(port,
			soft.NewDevice(soft.Gadget{Serial: serial,
				Functions: []soft.Function{soft.Phone(usb.ProtocolFastboot)}})))
	}
	t.Cleanup(bus.PlugAt("1-5",
		soft.NewDevice(soft.Gadget{Serial: "DISK", Functions: []soft.Function{soft.Files()}})))
	b, err := Open(Options{Home: t.TempDir(), Locks: t.TempDir(), Cable: bus})
	if err != nil {
		t.Fatalf("Open(...): %v", err)
	}
	names := func() []string {
		t.Helper()
		list, err := b.Phones()
		if err != nil {
			t.Fatalf("b.Phones(): %v", err)
		}
		var out []string
		for _, p := range list {
			out = append(out, p.Name)
		}
		return out
	}
	if got := names(); !slices.Equal(got, []string{"A", "usb:1-2", "usb:1-3", "usb:1-4"}) {
		t.Errorf("Open(...): %v; unwanted: !slices.Equal(got, []string{'A', 'usb:1-2', 'usb:1-3', "+
			"'usb:1-4'})", got)
	}
	name := func(on, as string) error {
		t.Helper()
		p, err := b.Pick(t.Context(), on)
		if err != nil {
			t.Fatalf("b.Pick(on): %v", err)
		}
		return b.Rename(p, as)
	}
	if name("A", "brook") != nil || name("usb:1-4", "pond") != nil || name("brook", "stream") != nil {
		t.Error("they can't be named")
	}
	var taken *takenError
	if err := name("usb:1-2", "pond"); !errors.As(err, &taken) {
		t.Errorf("a name twice: %v", err)
	}
	if got := names(); !slices.Equal(got, []string{"stream", "pond", "usb:1-2", "usb:1-3"}) {
		t.Errorf("Open(...): %v", got)
	}
	// What it reports in another mode.
	if err := b.sameAs("A", "A-recovery"); err != nil {
		t.Fatalf("b.sameAs('A', 'A-recovery'): %v", err)
	}
	if p, err := b.Pick(t.Context(), "A-recovery"); err != nil || p.Name != "stream" {
		t.Errorf("b.Pick('A-recovery'): %+v, %v; unwanted: err != nil || p.Name != 'stream'", p, err)
	}
	if !b.other(wire.New(b.host(), "pond", "", nil), "A") || b.other(wire.New(b.host(), "stream", "A", nil),
		"A") {
		t.Error("whose number it is")
	}
}
