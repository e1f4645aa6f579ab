package standin_test

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"jarlid/internal/core/image/bcb"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/vbmeta"
	"jarlid/internal/link"
	"jarlid/internal/link/fastboot"
	"jarlid/internal/standin"
	"jarlid/internal/standin/device"
	"jarlid/internal/standin/scenario"
	"jarlid/internal/standin/standintest"
)

func TestMain(m *testing.M) { standintest.Main(m) }

// hand is a person at a phone with a computer that types protocol commands.
type hand struct {
	*testing.T
	*standintest.Phone
}

// withPhone runs a test on a phone in a bubble.
func withPhone(t *testing.T, model string, o device.Options, test func(t *testing.T, h hand)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) { test(t, hand{t, standintest.StartWith(t, model, o)}) })
}

// bootloader connects to it; the caller ends with the connection.
func (h hand) bootloader() (*fastboot.Client, error) {
	conn, err := h.DialContext(h.Context(), "tcp", h.Fastboot)
	if err != nil {
		return nil, err
	}
	wire, err := fastboot.NewTCP(h.Context(), conn)
	if err != nil {
		conn.Close()
		return nil, err
	}
	return fastboot.New(wire), nil
}

// say sends one command in a connection of its own and gives the phone's refusal, "" for none.
func (h hand) say(command string) string {
	h.Helper()
	c, err := h.bootloader()
	if err != nil {
		h.Fatalf("h.bootloader(): %v", err)
	}
	defer c.Close()
	_, err = c.Command(h.Context(), command, time.Minute)
	return h.refusal(command, err)
}

// refusal gives a phone's no, "" for none.
func (h hand) refusal(command string, err error) string {
	h.Helper()
	var no *link.RefusedError
	if errors.As(err, &no) {
		return "refused: " + no.Message
	}
	if err != nil {
		h.Fatalf("%s: %v; want no error", command, err)
	}
	return ""
}

// send downloads an image and gives a command for it.
func (h hand) send(b []byte, command string) string {
	h.Helper()
	c, err := h.bootloader()
	if err != nil {
		h.Fatalf("h.bootloader(): %v", err)
	}
	defer c.Close()
	if err := c.Download(h.Context(), int64(len(b)), bytes.NewReader(b), nil); err != nil {
		return "refused: " + err.Error()
	}
	_, err = c.Command(h.Context(), command, time.Minute)
	return h.refusal(command, err)
}

// variable asks for one.
func (h hand) variable(name string) string {
	h.Helper()
	c, err := h.bootloader()
	if err != nil {
		h.Fatalf("h.bootloader(): %v", err)
	}
	defer c.Close()
	v, _, err := c.GetVar(h.Context(), name)
	if err != nil {
		h.Fatalf("c.GetVar(h.Context(), %v): %v", name, err)
	}
	return v
}

func (h hand) reboot(target string) {
	h.Helper()
	c, err := h.bootloader()
	if err != nil {
		h.Fatalf("h.bootloader(): %v", err)
	}
	defer c.Close()
	if err := c.Reboot(h.Context(), target); err != nil {
		h.Fatalf("c.Reboot(h.Context(), target): %v", err)
	}
	time.Sleep(2 * time.Minute)
}

// stored is what a partition holds.
func (h hand) stored(partition string) []byte {
	h.Helper()
	b, err := os.ReadFile(filepath.Join(h.Dir, "partitions", partition+".img"))
	if err != nil {
		h.Fatalf("os.ReadFile(...): %v", err)
	}
	return b
}

// isUp reports whether the phone's bootloader answers.
func (h hand) isUp() bool {
	c, err := h.bootloader()
	if err == nil {
		c.Close()
	}
	return err == nil
}

func images(t *testing.T, o scenario.OS) map[string][]byte {
	t.Helper()
	set, err := scenario.Images(o, scenario.PhoneOf("dunlin"))
	if err != nil {
		t.Fatalf("scenario.Images(o, scenario.PhoneOf('dunlin')): %v", err)
	}
	return set
}

// TestLocked: a locked phone takes nothing, and what is on it stays as it was.
func TestLocked(t *testing.T) {
	withPhone(t, "dunlin", device.Options{Locked: true, Mode: "bootloader"}, func(t *testing.T, h hand) {
		before := h.stored("boot_a")
		img := images(t, scenario.Saltmarsh)["boot"]
		for _, command := range []string{"erase:userdata", "set_active:b", "flashing lock_critical"} {
			if h.say(command) == "" {
				t.Errorf("locked, it takes %s", command)
			}
		}
		for _, command := range []string{"flash:boot_a", "boot"} {
			if h.send(img, command) == "" {
				t.Errorf("locked, it takes %s", command)
			}
		}
		if !bytes.Equal(h.stored("boot_a"), before) || h.variable("unlocked") != "no" {
			t.Error("it changed")
		}
	})
}

// TestRefuses: what a bootloader can't do it refuses, and does nothing.
func TestRefuses(t *testing.T) {
	withPhone(t, "dunlin", device.Options{Mode: "bootloader"}, func(t *testing.T, h hand) {
		before := h.stored("misc")
		for _, command := range []string{"flash:nosuch", "erase:nosuch", "set_active:c", "set_active:",
			"getvar:", "flash:", "reboot-nowhere", "oem nothing", "upload", "fetch:boot_a"} {
			if got := h.say(command); got == "" && !strings.HasPrefix(command, "getvar") {
				t.Errorf("it takes %q", command)
			}
		}
		if h.send(make([]byte, 8<<20), "flash:misc") == "" {
			t.Error("an image larger than its partition is taken")
		}
		if h.send([]byte("no boot image"), "boot") == "" {
			t.Error("it starts what is no boot image")
		}
		if !bytes.Equal(h.stored("misc"), before) {
			t.Error("misc changed")
		}
		// Of a partition with slots the bare name means the slot that starts next.
		img := images(t, scenario.Saltmarsh)["boot"]
		if no := h.send(img, "flash:boot_b"); no != "" {
			t.Errorf("flash:boot_b: the phone says %q, want no refusal", no)
		}
		if !bytes.HasPrefix(h.stored("boot_b"), img) || bytes.HasPrefix(h.stored("boot_a"), img) {
			t.Error("the image is not on slot b alone")
		}
	})
}

// TestFallsBack: a slot with nothing that starts uses up its tries, and the other one starts;
// choosing it gives the tries back.
func TestFallsBack(t *testing.T) {
	withPhone(t, "dunlin", device.Options{Mode: "bootloader"}, func(t *testing.T, h hand) {
		if no := h.say("set_active:b"); no != "" {
			t.Fatalf("set_active:b: the phone says %q, want no refusal", no)
		}
		if h.variable("current-slot") != "b" || h.variable("slot-unbootable:b") != "no" {
			t.Errorf("chosen, slot b is %s, unbootable %s", h.variable("current-slot"),
				h.variable("slot-unbootable:b"))
		}
		h.reboot("")
		h.Press("volume-down+power")
		time.Sleep(time.Minute)
		if got := h.variable("current-slot"); got != "a" {
			t.Errorf("slot %s is next, and b is empty", got)
		}
		if h.variable("slot-retry-count:b") != "0" || h.variable("slot-unbootable:b") != "yes" {
			t.Errorf("slot b has %s tries left", h.variable("slot-retry-count:b"))
		}
		c, err := bcb.ParseControl(h.stored("misc"))
		if err != nil || c.Slots[1].TriesLeft != 0 || c.Slots[1].Successful {
			t.Errorf("misc says %+v, %v", c, err)
		}
	})
}

// TestVerifies: unlocked, a phone forgives a signature and never a hash tree; a vbmeta that
// can't be read it never forgives.
func TestVerifies(t *testing.T) {
	stock, rom := images(t, scenario.Stock), images(t, scenario.Saltmarsh)
	loose, err := vbmeta.WithFlags(stock["vbmeta"], vbmeta.FlagHashtreeDisabled)
	if err != nil {
		t.Fatalf("vbmeta.WithFlags(stock['vbmeta'], vbmeta.FlagHashtreeDisabled): %v", err)
	}
	changed := bytes.Clone(stock["system"])
	changed[len(changed)/2] ^= 1
	other, err := scenario.Boot(scenario.Saltmarsh, scenario.PhoneOf("dunlin"))
	if err != nil {
		t.Fatalf("scenario.Boot(scenario.Saltmarsh, scenario.PhoneOf('dunlin')): %v", err)
	}
	for what, c := range map[string]struct {
		write  map[string][]byte
		starts bool
	}{
		"as it came":                      {nil, true},
		"another maker's boot image":      {map[string][]byte{"boot_a": other}, true},
		"a changed block of the system":   {map[string][]byte{"system_a": changed}, false},
		"the same, its tree not enforced": {map[string][]byte{"system_a": changed, "vbmeta_a": loose}, true},
		"a vbmeta of garbage":             {map[string][]byte{"vbmeta_a": []byte("garbage")}, false},
		"a whole other system": {map[string][]byte{
			"boot_a":   rom["boot"],
			"system_a": rom["system"],
			"vendor_a": rom["vendor"],
			"vbmeta_a": rom["vbmeta"],
			"userdata": nil,
			"metadata": nil,
		}, true},
		"the same over the old one's data": {map[string][]byte{
			"boot_a":   rom["boot"],
			"system_a": rom["system"],
			"vendor_a": rom["vendor"],
			"vbmeta_a": rom["vbmeta"],
		}, false},
	} {
		withPhone(t, "dunlin", device.Options{Mode: "bootloader"}, func(t *testing.T, h hand) {
			for name, b := range c.write {
				no := ""
				if b == nil {
					no = h.say("erase:" + name)
				} else {
					no = h.send(b, "flash:"+name)
				}
				if no != "" {
					t.Fatalf("%s: %s: %s; unwanted: no != ''", what, name, no)
				}
			}
			h.reboot("")
			up := !h.isUp()
			if up { // what runs is no bootloader; a recovery that asks to erase the data is none either
				reply, err := standin.Press(t.Context(), h.Net, h.Control, []string{"volume-down+power"})
				if err != nil {
					t.Fatalf("standin.Press(h.Net, h.Control, ...): %v", err)
				}
				screen := strings.Join(reply.Screen, "\n")
				up = !strings.Contains(screen, "did not start") && !strings.Contains(screen,
					"could not use the data")
			}
			if up != c.starts {
				t.Errorf("%s: it starts: %v", what, up)
			}
		})
	}
}

// TestTemporary: a recovery that is started without being written is gone after a restart.
func TestTemporary(t *testing.T) {
	withPhone(t, "dunlin", device.Options{Mode: "bootloader"}, func(t *testing.T, h hand) {
		img, err := scenario.Recovery(scenario.Tideline, scenario.PhoneOf("dunlin"))
		if err != nil {
			t.Fatalf("scenario.Recovery(scenario.Tideline, scenario.PhoneOf('dunlin')): %v", err)
		}
		if _, err := boot.Parse(bytes.NewReader(img), int64(len(img))); err != nil {
			t.Fatalf("boot.Parse(bytes.NewReader(img), int64(len(img))): %v", err)
		}
		before := [][]byte{h.stored("recovery_a"), h.stored("recovery_b"), h.stored("boot_a")}
		if no := h.send(img, "boot"); no != "" {
			t.Fatalf("sending boot: the phone says %q, want no refusal", no)
		}
		time.Sleep(2 * time.Minute)
		conn, err := h.DialContext(t.Context(), "tcp", h.ADB)
		if err != nil {
			t.Fatalf("its recovery does not answer: %v", err)
		}
		conn.Close()
		for i, name := range []string{"recovery_a", "recovery_b", "boot_a"} {
			if !bytes.Equal(h.stored(name), before[i]) {
				t.Errorf("%s was written", name)
			}
		}
	})
}
