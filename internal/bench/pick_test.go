package bench_test

import (
	"errors"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"jarlid/internal/bench"
	"jarlid/internal/bench/benchtest"
	"jarlid/internal/core/finding"
	"jarlid/internal/phone/wire"
	"jarlid/internal/standin/device"
	"jarlid/internal/standin/standintest"
)

func TestMain(m *testing.M) { standintest.Main(m) }

// twoPhones runs a test with a dunlin that is on and a godwit that may be.
func twoPhones(t *testing.T, test func(t *testing.T, b *bench.Bench, dunlin, godwit *standintest.Phone)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		net := &standintest.Net{}
		dunlin := standintest.StartWith(t, "dunlin", device.Options{Net: net, Mode: "bootloader"})
		godwit := standintest.StartWith(t, "godwit", device.Options{Net: net, Mode: "bootloader"})
		entry := func(name string, p *standintest.Phone) bench.Entry {
			return bench.Entry{Name: name, Serial: p.Serial, At: []string{"tcp:" + p.Fastboot,
				"adb:" + p.ADB}}
		}
		b := benchtest.Open(t, net, entry("left", dunlin), entry("right", godwit))
		test(t, b, dunlin, godwit)
	})
}

// TestPick: a phone is meant by its name, its serial number or an address; without a word the
// only one that is here is, and of two none is ever guessed.
func TestPick(t *testing.T) {
	twoPhones(t, func(t *testing.T, b *bench.Bench, dunlin, godwit *standintest.Phone) {
		for on, want := range map[string]string{
			"left": "left", "right": "right", dunlin.Serial: "left", godwit.Serial: "right",
			"tcp:" + dunlin.Fastboot:               "left",
			"adb:" + godwit.ADB:                    "right",
			"udp:192.0.2.1,tcp:" + godwit.Fastboot: "right",
			"tcp:192.0.2.9":                        "192.0.2.9-5554", // on no list: called by its address
		} {
			if p, err := b.Pick(t.Context(), on); err != nil || p.Name != want {
				t.Errorf("--on %s is %+v, %v; want %s", on, p, err, want)
			}
		}
		var away *wire.NotHereError
		if _, err := b.Pick(t.Context(), "heron"); !errors.As(err, &away) ||
			!strings.Contains(err.Error(), "left, right") {
			t.Errorf("a name nobody has: %v", err)
		}
		var bad *wire.AddressError
		if _, err := b.Pick(t.Context(), "tcp:x:0"); !errors.As(err, &bad) {
			t.Errorf("an address that is none: %v", err)
		}
		var stop *finding.StopError
		if _, err := b.Pick(t.Context(), ""); !errors.As(err, &stop) ||
			stop.Findings[0].Name != finding.SeveralPhones || !strings.Contains(err.Error(), "left, right") {
			t.Errorf("of two: %v", err)
		}
		godwit.Press("power-long")
		time.Sleep(time.Minute)
		if p, err := b.Pick(t.Context(), ""); err != nil || p.Name != "left" {
			t.Errorf("the only one: %+v, %v", p, err)
		}
		here, absent, err := b.Look(t.Context())
		if err != nil || len(here) != 1 || here[0].Name != "left" || strings.Join(absent, " ") != "right" {
			t.Errorf("b.Look(): %+v, %v, %v", here, absent, err)
		}
		dunlin.Press("power-long")
		time.Sleep(time.Minute)
		if _, err := b.Pick(t.Context(), ""); !errors.As(err, &away) ||
			!strings.Contains(err.Error(), "left, right") {
			t.Errorf("none is here: %v", err)
		}
		// For a person to bring it up by hand it may still be told which one is meant.
		if p, err := b.Unseen("right"); err != nil || p == nil || p.Name != "right" {
			t.Errorf("b.Unseen('right'): %+v, %v; unwanted: err != nil || p == nil || p.Name != 'right'", p,
				err)
		}
		if p, err := b.Unseen(""); err != nil || p != nil {
			t.Errorf("of two that are off %+v is meant, %v", p, err)
		}
	})
}

// TestLookLocks: whoever looks keeps off a phone somebody works on, and off that one only.
func TestLookLocks(t *testing.T) {
	twoPhones(t, func(t *testing.T, b *bench.Bench, dunlin, _ *standintest.Phone) {
		p, err := b.Pick(t.Context(), "left")
		if err != nil {
			t.Fatalf("b.Pick('left'): %v", err)
		}
		unlock, err := p.Lock("serial " + dunlin.Serial) // the other program knows it by another address
		if err != nil {
			t.Fatalf("p.Lock('serial ' + dunlin.Serial): %v", err)
		}
		other, err := bench.Open(bench.Options{Home: b.Home, Locks: locksOf(t, b), Dial: dunlin.Net})
		if err != nil {
			t.Fatalf("bench.Open(...): %v", err)
		}
		here, _, err := other.Look(t.Context())
		if err != nil || len(here) != 2 {
			t.Fatalf("other.Look(): %+v, %v; unwanted: err != nil || len(here) != 2", here, err)
		}
		for _, s := range here {
			if s.Busy != (s.Name == "left") || s.Busy && s.Mode != "" {
				t.Errorf("%s: busy %v, mode %q", s.Name, s.Busy, s.Mode)
			}
		}
		causes, err := other.Why(t.Context(), "left")
		if err != nil || len(causes) != 1 || causes[0].Cause != "busy" {
			t.Errorf("other.Why('left'): %+v, %v; unwanted: err != nil || len(causes) != 1 || "+
				"causes[0].Cause != 'busy'", causes, err)
		}
		unlock()
		if here, _, err = other.Look(t.Context()); err != nil || here[0].Busy || here[1].Busy {
			t.Errorf("let go, %+v, %v", here, err)
		}
	})
}

// locksOf is the folder of a bench's locks: the one its lock made a file in.
func locksOf(t *testing.T, b *bench.Bench) string {
	t.Helper()
	list, err := filepath.Glob(filepath.Join(filepath.Dir(filepath.Dir(b.Home)), "*", "*", "serial*"))
	if err != nil || len(list) == 0 {
		t.Fatalf("no lock was made: %v, %v", list, err)
	}
	return filepath.Dir(list[0])
}
