package phone_test

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"jarlid/internal/bench"
	"jarlid/internal/bench/benchtest"
	"jarlid/internal/core/card"
	"jarlid/internal/link/fastboot"
	"jarlid/internal/phone"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
	"jarlid/internal/standin"
	"jarlid/internal/standin/device"
	"jarlid/internal/standin/scenario"
	"jarlid/internal/standin/standintest"
)

func TestMain(m *testing.M) { standintest.Main(m) }

// silent is an observer that keeps the words it is told.
type silent struct{ said []string }

func (s *silent) Tell(e say.Event)              { s.said = append(s.said, e.Text) }
func (s *silent) Ask(say.Question) (int, error) { return 0, say.ErrNobody }

// rig is one phone on a bench.
type rig struct {
	*testing.T
	b       *bench.Bench
	standin *standintest.Phone
}

func onBench(t *testing.T, name string, o device.Options, test func(r *rig)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		p := standintest.StartWith(t, name, o)
		b := benchtest.Open(t, p.Net, bench.Entry{Name: name, Model: name, At: []string{"tcp:" + p.Fastboot,
			"adb:" + p.ADB}})
		test(&rig{t, b, p})
	})
}

// read gives a session with everything read that this mode reports.
func (r *rig) read() *phone.Session {
	r.Helper()
	p, err := r.b.Pick(r.Context(), "")
	if err != nil {
		r.Fatalf("r.b.Pick(r.Context(), ''): %v", err)
	}
	s, err := p.Reach(r.Context(), say.To{Observer: &silent{}, Phone: p.Name})
	if err != nil {
		r.Fatalf("p.Reach(r.Context(), ...): %v", err)
	}
	if err := s.Read(r.Context()); err != nil {
		r.Fatalf("s.Read(r.Context()): %v", err)
	}
	var all []card.ID
	for _, d := range card.Defs {
		switch d.By {
		case card.ByNothing:
			all = append(all, card.ID{Name: d.Name})
		case card.BySlots:
			all = append(all, card.ID{Name: d.Name, Key: "a"}, card.ID{Name: d.Name, Key: "b"})
		case card.ByPartitions:
			for _, name := range []string{"boot", "boot_a", "system_a", "vbmeta_a", "nosuch_a"} {
				all = append(all, card.ID{Name: d.Name, Key: name})
			}
		}
	}
	if _, err := s.Know(r.Context(), all); err != nil {
		r.Fatalf("s.Know(r.Context(), all): %v", err)
	}
	return s
}

// tideline writes the third-party recovery where the phone keeps its own, and starts it.
func (r *rig) tideline(name, partition string) {
	r.Helper()
	img, err := scenario.Recovery(scenario.Tideline, scenario.PhoneOf(name))
	if err != nil {
		r.Fatalf("scenario.Recovery(scenario.Tideline, scenario.PhoneOf(name)): %v", err)
	}
	path := filepath.Join(r.standin.Dir, "partitions", partition+".img")
	b, err := os.ReadFile(path)
	if err != nil {
		r.Fatalf("os.ReadFile(%v): %v", path, err)
	}
	copy(b, img)
	if err := os.WriteFile(path, b, 0o644); err != nil {
		r.Fatalf("os.WriteFile(%v, b, 0o644): %v", path, err)
	}
	r.standin.Press("volume-up+power")
	time.Sleep(time.Minute)
}

var hexDigest = regexp.MustCompile(`^[0-9a-f]{64}$`)

// fits reports whether a value is of a fact's kind.
func fits(k card.Kind, v string) bool {
	if v == card.Nothing {
		return true
	}
	switch k {
	case card.YesNoK:
		return v == "yes" || v == "no"
	case card.Number, card.Bytes:
		_, err := strconv.ParseInt(v, 10, 64)
		return err == nil
	case card.Digest:
		return hexDigest.MatchString(v)
	}
	return true
}

// TestTableOfFacts holds what phones are really read for to the table of facts: each is
// declared, of its kind, and readable in the mode it was read in, as the table says.
func TestTableOfFacts(t *testing.T) {
	read := map[card.Mode]map[card.Name]bool{}
	look := func(r *rig, want card.Mode) {
		s := r.read()
		defer s.Close()
		if s.Mode() != want {
			r.Fatalf("it is in %s, want %s", s.Mode(), want)
		}
		if read[want] == nil {
			read[want] = map[card.Name]bool{}
		}
		for _, i := range s.Card.IDs() {
			f := s.Card.Get(i)
			d, ok := i.Def()
			if !ok {
				r.Errorf("%s is in no table", i)
				continue
			}
			if f.Source != card.Read {
				continue
			}
			read[want][i.Name] = true
			if !slices.Contains(d.Modes, want) {
				r.Errorf("%s was read in %s, and the table has it in %v", i, want, d.Modes)
			}
			if !fits(d.Kind, f.Value) {
				r.Errorf("%s is %q, and the table calls it a %s", i, f.Value, d.Kind)
			}
			if f.At.IsZero() || f.Mode != want {
				r.Errorf("%s does not say when and where it was read: %+v", i, f)
			}
		}
	}
	for _, name := range []string{"turnstone", "sanderling", "dunlin", "godwit", "avocet"} {
		onBench(t, name, device.Options{Mode: "bootloader"}, func(r *rig) { look(r, card.Bootloader) })
	}
	onBench(t, "avocet", device.Options{Mode: "bootloader"}, func(r *rig) {
		c := r.client()
		if err := c.Reboot(r.Context(), "fastboot"); err == nil {
			time.Sleep(time.Minute)
		}
		c.Close()
		if s := r.read(); s.Mode() == card.Fastbootd {
			s.Close()
			look(r, card.Fastbootd)
		} else {
			s.Close()
		}
	})
	for name, home := range map[string]string{
		"turnstone":  "recovery",
		"sanderling": "lifeboat",
		"dunlin":     "recovery_a",
	} {
		onBench(t, name, device.Options{Mode: "bootloader"}, func(r *rig) {
			r.tideline(name, home)
			look(r, card.Recovery)
		})
	}
	onBench(t, "dunlin", device.Options{Mode: "system"}, func(r *rig) {
		for _, key := range []string{"finish welcome", "debugging on"} {
			if _, err := standin.Press(r.Context(), r.standin.Net, r.standin.Control,
				[]string{key}); err != nil && !strings.Contains(err.Error(), "finish") {
				r.Log(key, err)
			}
		}
		time.Sleep(time.Minute)
		go func() {
			time.Sleep(5 * time.Second)
			standin.Press(r.Context(), r.standin.Net, r.standin.Control, []string{"allow"})
		}()
		look(r, card.System)
	})
	// What a person is told can be read in a mode is read there.
	for mode, least := range map[card.Mode]int{card.Bootloader: 12, card.Recovery: 15, card.System: 15} {
		if n := len(read[mode]); n < least {
			t.Errorf("only %d facts were read in %s", n, mode)
		}
	}
	for _, n := range []card.Plain{card.FactSerial, card.FactUnlocked, card.FactProduct} {
		if !read[card.Bootloader][card.Name(n)] {
			t.Errorf("no bootloader told %s", n)
		}
	}
}

// client talks to the bootloader beside the session.
func (r *rig) client() *fastboot.Client {
	r.Helper()
	conn, err := r.standin.DialContext(r.Context(), "tcp", r.standin.Fastboot)
	if err != nil {
		r.Fatalf("r.standin.DialContext(r.Context(), 'tcp', r.standin.Fastboot): %v", err)
	}
	wire, err := fastboot.NewTCP(r.Context(), conn)
	if err != nil {
		r.Fatalf("fastboot.NewTCP(r.Context(), conn): %v", err)
	}
	return fastboot.New(wire)
}

// TestLacks: what a wire can't do is a finding that names the mode, and nothing is sent.
func TestLacks(t *testing.T) {
	onBench(t, "dunlin", device.Options{Mode: "bootloader"}, func(r *rig) {
		s := r.read()
		defer s.Close()
		_, shell := s.Shell().User(r.Context())
		_, sync := s.Sync(r.Context())
		_, inst := s.Installer()
		for what, err := range map[string]error{"a shell": shell, "files": sync, "packages": inst} {
			var lack *phone.LackError
			if !errors.As(err, &lack) {
				t.Errorf("%s in a bootloader: %v", what, err)
				continue
			}
			if f := lack.Finding(); f.Name != "not-in-this-mode" || !strings.Contains(f.Text, "bootloader") ||
				f.Remedy == "" {
				t.Errorf("%s: %+v; unwanted: f.Name != 'not-in-this-mode' || !strings.Contains(f.Text, ...",
					what, f)
			}
		}
		if s.HasShell() || s.HasFiles() || !s.HasLoader() || s.RootRecovery() {
			t.Error("it says of itself that it can")
		}
	})
	onBench(t, "dunlin", device.Options{Mode: "bootloader"}, func(r *rig) {
		r.tideline("dunlin", "recovery_a")
		s := r.read()
		defer s.Close()
		var lack *phone.LackError
		if _, err := s.Write(r.Context(), "boot_a", bytes.NewReader(nil), 0, nil); !errors.As(err, &lack) {
			t.Errorf("a recovery takes images: %v", err)
		}
		if _, err := s.SetActive(r.Context(), "b"); !errors.As(err, &lack) {
			t.Errorf("a recovery takes commands of a bootloader: %v", err)
		}
		if !s.HasShell() || !s.RootRecovery() {
			t.Error("a recovery with a root shell says that it has none")
		}
	})
}

// TestDevices reads a partition through a recovery's shell, at any place, as often as wanted.
func TestDevices(t *testing.T) {
	onBench(t, "dunlin", device.Options{Mode: "bootloader"}, func(r *rig) {
		r.tideline("dunlin", "recovery_a")
		want, err := os.ReadFile(filepath.Join(r.standin.Dir, "partitions", "boot_a.img"))
		if err != nil {
			t.Fatalf("os.ReadFile(...): %v", err)
		}
		s := r.read()
		defer s.Close()
		path := filepath.Join(t.TempDir(), "boot.img")
		if err := s.SaveTo(r.Context(), card.At("boot", "a"), path); err != nil {
			t.Fatalf("s.SaveTo(r.Context(), card.At('boot', 'a'), %v): %v", path, err)
		}
		if got, err := os.ReadFile(path); err != nil || !bytes.Equal(got, want) {
			t.Errorf("%d bytes of %d came back the same: %v", len(got), len(want), err)
		}
		open := s.Partitions(r.Context(), "a")
		dev, size, err := open("boot")
		if err != nil || size != int64(len(want)) {
			t.Fatalf("open('boot'): got %v, %v", size, err)
		}
		for _, at := range []int64{0, 1, 4095, 1<<20 - 1, size - 7} {
			b := make([]byte, 7)
			if _, err := dev.ReadAt(b, at); err != nil || !bytes.Equal(b, want[at:at+7]) {
				t.Errorf("at %d: %x, %v", at, b, err)
			}
		}
		if _, err := dev.ReadAt(make([]byte, 1), size); err == nil {
			t.Error("it reads beyond its end")
		}
		if _, _, err := open("nosuch"); !errors.Is(err, wire.ErrNoPartition) {
			t.Errorf("a partition that is not there: %v", err)
		}
	})
}
