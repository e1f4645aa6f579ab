package e2e

import (
	"os"
	"strings"
	"testing"
	"time"

	"jarlid/internal/bench"
	"jarlid/internal/link/usb"
	"jarlid/internal/link/usb/soft"
)

type seen struct {
	Name, Serial, Mode, Address string
	USB                         *struct {
		Port            string
		Speed           int
		Vendor, Product string
	}
	Stop *struct{ Name string }
}

func (l *lab) here(code int, args ...string) []seen {
	l.Helper()
	var r struct{ Phones []seen }
	l.result(code, &r, append([]string{"bench"}, args...)...)
	return r.Phones
}

// TestCable: a phone that is plugged in is on the bench by itself, under one name in all its
// modes, and a job runs on it over the cable.
func TestCable(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("turnstone", "--usb", "--mode", "bootloader") // a phone with another number in its recovery
		other := l.other("other")                               // where nobody has listed it
		all := other.here(0)
		if len(all) != 1 || all[0].Name != "WL-TS-0102" || all[0].USB == nil || all[0].USB.Port != "1-1" ||
			all[0].USB.Speed != 480 || all[0].USB.Vendor != "1209" {
			t.Fatalf("%+v; unwanted: len(all) != 1 || all[0].Name != 'WL-TS-0102' || all[0].USB == ...", all)
		}
		other.want(0, []string{"is called brook"}, "bench", "name", "usb:1-1", "brook")
		for _, on := range []string{"brook", "WL-TS-0102", "usb:1-1"} {
			if all := other.here(0, "--on", on); len(all) != 1 || all[0].Name != "brook" {
				t.Errorf("--on %s is %+v", on, all)
			}
		}
		other.want(2, []string{"is not an address"}, "bench", "--on", "usb:1-")
		other.want(4, []string{"does not answer"}, "bench", "--on", "usb:1-7")
		for _, bad := range []string{"", "a b", "usb:1-1", "-x"} {
			other.want(2, nil, "bench", "name", "brook", bad)
		}
		kit := kitOf(t, "turnstone", 1)
		other.present = true
		other.want(0, nil, "recovery", "install", kit.recovery, "--yes")
		job := other.begin(true, "", nil, "go", "recovery", "--yes")
		time.Sleep(5 * time.Second)
		l.press("turnstone", "power-long", "volume-up+power")
		<-job.done
		if job.code != 0 {
			t.Fatalf("%s; unwanted: job.code != 0", job.out)
		}
		if all := other.here(0); len(all) != 1 || all[0].Name != "brook" || all[0].Mode != "recovery" {
			t.Errorf("in its recovery: %+v", all)
		}
	})
}

// TestRule: the rule names kinds of interfaces, not manufacturers.
func TestRule(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		out := l.want(0, []string{"ff4201", "ff4203", `TAG+="uaccess"`, "udevadm control --reload"},
			"bench", "--rule")
		if !strings.HasPrefix(out, bench.Rule) || strings.Contains(bench.Rule, "idVendor") ||
			!strings.Contains(out, `ATTRS{idProduct}=="4b4e", ENV{ID_MM_DEVICE_IGNORE}="1"`) {
			t.Errorf("%s; unwanted: !strings.HasPrefix(out, bench.Rule) || ...", out)
		}
	})
}

// raw plugs a device in that is no stand-in.
func (l *lab) raw(port, serial string, functions ...soft.Function) (d *soft.Device, unplug func()) {
	d = soft.NewDevice(soft.Gadget{Vendor: 0x1209, Product: 9, Maker: "Wickerlight", Name: "Dunlin",
		Serial: serial, Functions: functions})
	unplug = l.bus.PlugAt(port, d)
	l.Cleanup(unplug)
	return d, unplug
}

// TestWhyOnCable gives each cause for which a phone on a cable can't be worked with.
func TestWhyOnCable(t *testing.T) {
	t.Parallel()
	serial := soft.Function{Class: 2, SubClass: 2, Protocol: 1, In: 1, Out: 1}
	own := soft.Function{Class: 0xff, SubClass: 0xff, Protocol: 0xff, In: 1, Out: 1}
	disk := soft.Function{Class: 8, SubClass: 6, Protocol: 0x50, In: 1, Out: 1}
	for name, c := range map[string]struct {
		cause string
		code  int
		says  string
		set   func(l *lab)
	}{
		"files only": {"files-only", 4, "debugging is off", func(l *lab) { l.raw("1-3", "X", soft.Files()) }},
		"charging":   {"charging", 4, "no interface that is known", func(l *lab) { l.raw("1-3", "X") }},
		"a mode of its maker's own, since the last look": {"charging", 4, "its maker's own", func(l *lab) {
			l.run("bench", "--why")
			l.raw("1-3", "X", own)
		}},
		"a maker's loader": {"loader", 4, "a maker's loader", func(l *lab) { l.raw("1-3", "X", serial) }},
		"a disk is none":   {"", 4, "none on a cable", func(l *lab) { l.raw("1-3", "X", disk) }},
		"nothing":          {"", 4, "another cable and port", func(l *lab) {}},
		"no permission": {"no-permission", 4, "bench --rule", func(l *lab) {
			l.bus.Denied = []string{"1-3"}
			l.raw("1-3", "X", soft.Phone(usb.ProtocolFastboot))
		}},
		"held": {"held", 4, "end flockwatch (process 1)", func(l *lab) {
			d, _ := l.raw("1-3", "X", soft.Phone(usb.ProtocolADB))
			l.bus.Hold(d, "flockwatch")
		}},
		"deaf": {"offline", 4, "pull the cable and put it back", func(l *lab) {
			l.raw("1-3", "X", soft.Phone(usb.ProtocolADB))
		}},
		"flapping": {"flapping", 4, "came and went", func(l *lab) {
			go func() {
				for range 20 {
					_, unplug := l.raw("1-3", "X", soft.Files())
					time.Sleep(300 * time.Millisecond)
					unplug()
					time.Sleep(100 * time.Millisecond)
				}
			}()
		}},
		"a slow link": {"slow-link", 0, "12 Mbit/s", func(l *lab) {
			l.standin("dunlin", "--usb")
			l.want(0, nil, "standin", "fault", "dunlin", "slow-link")
			time.Sleep(2 * time.Second)
		}},
		"two with one number": {"same-serial", 4, "--on usb:1-3", func(l *lab) {
			l.raw("1-3", "0123", soft.Phone(usb.ProtocolFastboot))
			l.raw("1-4", "0123", soft.Phone(usb.ProtocolFastboot))
			b := must(bench.Open(bench.Options{Home: l.home, Locks: l.dir}))
			if err := b.Register(bench.Entry{Name: "brook", Serial: "0123"}); err != nil {
				l.Fatalf("b.Register(...): %v", err)
			}
		}},
		"one that answers against the rules": {"wrong-protocol", 4, "none of the protocol's words",
			func(l *lab) {
				d, _ := l.raw("1-3", "X", soft.Phone(usb.ProtocolFastboot))
				go func() {
					for {
						if _, err := d.Recv(l.Context(), 1, make([]byte, 512)); err != nil {
							return
						}
						d.Send(l.Context(), 1, []byte("\x1b[2Jwhat?"), false)
					}
				}()
			}},
		"descriptors that lie": {"wrong-protocol", 4, "no pair of bulk endpoints", func(l *lab) {
			d := soft.NewDevice(soft.Gadget{Serial: "X\x1b[2J",
				Raw: []byte("\x12\x01\x00\x02\x00\x00\x00\x40\x09\x12\x09\x00\x00\x01\x01\x02\x03\x01" +
					"\x09\x02\x20\x00\x01\x01\x00\x80\xfa\x09\x04\x00\x00\x02\xff\x42\x03\x04" +
					"\x07\x05\x81\x02\x00\x00\x00\xff\x05\x01")})
			l.Cleanup(l.bus.PlugAt("1-3", d))
		}},
	} {
		t.Run(name, func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				c.set(l)
				var r struct{ Causes []struct{ Cause string } }
				code, out := l.run("bench", "--why")
				if code != c.code || !strings.Contains(strings.ReplaceAll(out, "\n", " "), c.says) ||
					strings.Contains(out, "\x1b") {
					t.Fatalf("it ended with %d:\n%s", code, out)
				}
				if c.cause == "" || name == "flapping" || strings.HasSuffix(name, "last look") {
					return // it is another answer the second time
				}
				l.result(c.code, &r, "bench", "--why")
				if len(r.Causes) != 1 || r.Causes[0].Cause != c.cause {
					t.Errorf("%+v; unwanted: len(r.Causes) != 1 || r.Causes[0].Cause != c.cause\n%s",
						r.Causes, out)
				}
			})
		})
	}
}

// TestCableRefused: what keeps a program from the cable is a finding of every command.
func TestCableRefused(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin", "--usb")
		for _, args := range [][]string{
			{"slot"},
			{"card"},
			{"recovery", "install", files.Recovery, "--yes"},
			{"wipe", "userdata", "--yes"},
			{"go", "recovery"},
			{"backup", "take", "-o", l.dir + "/kept"},
		} {
			l.bus.Denied = []string{"1-1"}
			l.want(3, []string{"stop  no-permission", "bench --rule"}, args...)
			l.bus.Denied, l.bus.Undriven = nil, []string{"1-1"}
			l.want(3, []string{"stop  no-driver", "WinUsb Device"}, args...)
			l.bus.Undriven = nil
			l.want(0, nil, "standin", "fault", "dunlin", "held")
			time.Sleep(2 * time.Second)
			l.want(3, []string{"stop  held-by-another", "another program"}, args...)
			l.want(0, nil, "standin", "fault", "dunlin", "clear")
			time.Sleep(2 * time.Second)
		}
		l.bus.Undriven = []string{"1-1"}
		l.want(4, []string{"is plugged in, and this system has no driver for it", "warn  dunlin, no-driver",
			"Windows has no WinUSB driver"}, "bench", "--why")
		l.bus.Undriven, l.bus.Denied = nil, []string{"1-1"}
		if all := l.here(0); len(all) != 1 || all[0].Stop == nil || all[0].Stop.Name != "no-permission" {
			t.Errorf("%+v; unwanted: len(all) != 1 || all[0].Stop == nil || all[0].Stop.Name != ...", all)
		}
		if n := len(l.journals()); n != 0 {
			t.Errorf("%d jobs were begun", n)
		}
	})
}

// TestBarred: what keeps a program from a phone that it waits for may pass; what lasts is told by its name,
// and teaches nothing about the phone.
func TestBarred(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin", "--usb")
		deny := func() { l.bus.Deny("1-1") }
		allow := func() { l.bus.Deny() }
		const rights = "no-permission: this user may not use dunlin"
		l.did("dunlin", "", nil, "go", "system", "--wait", "90s", "--yes")
		l.did("dunlin", "", nil, "go", "bootloader", "--yes")
		deny()
		l.want(3, []string{"stop  " + rights}, "slot")
		allow()
		// A restart into the system is done, whether or not it can be checked.
		for _, lasts := range []bool{false, true} {
			said := "warn  " + rights
			if !lasts {
				said = "Wickerlight Stock 9.1, build WL91.210301, is running"
				time.AfterFunc(5*time.Second, allow)
			}
			if out := l.atLine("restarting into system", deny, 0, "go", "system", "--wait", "90s",
				"--yes"); !strings.Contains(out, said) || strings.Contains(out, "debugging is off") {
				t.Errorf("lasts: %v\n%s", lasts, out)
			}
			if !lasts {
				l.did("dunlin", "", nil, "go", "bootloader", "--yes")
			}
		}
		time.AfterFunc(time.Minute, allow)
		l.want(0, []string{"warn  " + rights, "Wickerlight Stock 9.1 is up"}, "arrive")
		// A recovery that could not be checked is none without a shell; nor is one nobody went to.
		quiet := func() string {
			var c struct {
				Facts map[string]struct{ Value string }
			}
			l.result(0, &c, "card")
			return c.Facts["recovery.quiet:recovery_a"].Value
		}
		l.did("dunlin", "", nil, "go", "bootloader", "--yes")
		before := quiet()
		l.press("dunlin", "cable-out")
		l.present = true
		l.want(0, []string{"was to be brought into its recovery by hand; it can't be seen"}, "go", "recovery",
			"--yes", "--on", "dunlin")
		l.present = false
		l.press("dunlin", "cable-in")
		time.Sleep(3 * time.Second)
		if now := quiet(); now != before {
			t.Errorf("whether the recovery has no shell: %q, before %q", now, before)
		}
		// Whoever is at the phone is told meanwhile, and can put it right.
		l.press("dunlin", "cable-out")
		time.AfterFunc(time.Minute, func() { l.pressed("dunlin", "cable-in") })
		time.AfterFunc(2*time.Minute, allow)
		if out := l.atLine("hand  ", deny, 0, "go", "bootloader", "--yes", "--on",
			"dunlin"); !strings.Contains(out, "warn  "+rights) ||
			!strings.Contains(out, "the phone is in bootloader") {
			t.Errorf("go bootloader without the right does not warn and wait:\n%s", out)
		}
		l.want(0, nil, "recovery", "install", files.Recovery, "--yes")
		l.want(0, nil, "go", "recovery")
		l.want(0, nil, "wipe", "userdata", "--yes")
		if out := l.atLine("send  ", deny, 1, "sideload", files.Package, "--then", "stay",
			"--yes"); !strings.Contains(out, "warn  "+rights) ||
			!strings.Contains(out, "nobody can tell yet") {
			t.Errorf("a restart without the right does not warn, or claims to know its end:\n%s", out)
		}
		allow()
		if now := quiet(); now != "no" {
			t.Errorf("whether the recovery has no shell: %q", now)
		}
	})
}

// TestTwins: two phones of one model lie side by side, each with its own job; which is meant is
// never guessed, not even where both report one serial number.
func TestTwins(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin", "--usb")
		model := string(must(os.ReadFile("../core/model/models/dunlin.yaml")))
		twin := l.file("twin.yaml",
			[]byte(strings.Replace(model, "serial: WL-DU-0007", "serial: WL-DU-0008", 1)))
		l.standin(twin, "--usb", "--as", "twin")
		if all := l.here(0); len(all) != 2 || all[0].Serial == all[1].Serial {
			t.Fatalf("%+v; unwanted: len(all) != 2 || all[0].Serial == all[1].Serial", all)
		}
		l.want(3, []string{"several-phones"}, "slot")
		one := l.begin(false, "", nil, "recovery", "install", files.Recovery, "--yes", "--on", "dunlin")
		two := l.begin(false, "", nil, "recovery", "install", files.Recovery, "--yes", "--on", "twin")
		<-one.done
		<-two.done
		if one.code != 0 || two.code != 0 {
			t.Fatalf("%s; unwanted: one.code != 0 || two.code != 0\n%s", one.out, two.out)
		}
		// Both go and come back at once.
		one = l.begin(false, "", nil, "go", "recovery", "--on", "dunlin")
		two = l.begin(false, "", nil, "go", "recovery", "--on", "twin")
		<-one.done
		<-two.done
		if one.code != 0 || two.code != 0 || !strings.Contains(one.out.String(), "WL-DU-0007") ||
			!strings.Contains(two.out.String(), "WL-DU-0008") {
			t.Fatalf("%s; unwanted: one.code != 0 || two.code != 0 || ...\n%s", one.out, two.out)
		}
	})
}

// TestOneNumber: two that report one serial number are told apart by their sockets.
func TestOneNumber(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.raw("1-3", "0123", soft.Phone(usb.ProtocolFastboot))
		l.raw("1-4", "0123", soft.Phone(usb.ProtocolFastboot))
		l.bus.Denied = []string{"1-3", "1-4"} // they are not asked
		if all := l.here(0); len(all) != 2 || all[0].Name != "usb:1-3" || all[1].Name != "usb:1-4" {
			t.Errorf("%+v; unwanted: len(all) != 2 || all[0].Name != 'usb:1-3' || all[1].Name != ...", all)
		}
		l.want(3, []string{"several-phones"}, "slot")
	})
}

// TestMoved: a phone that is put into another socket is followed by its serial number; one whose
// number is another there too is asked about, and without a person it is not taken.
func TestMoved(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		model   string
		attends bool
		answer  string
		code    int
		says    string
	}{
		"by its number": {"dunlin", false, "", 0, "Tideline Recovery 3.1 is running"},
		"asked, yes":    {"sanderling", true, "1\n", 0, "Which of these is sanderling?"},
		"asked, no":     {"sanderling", true, "2\n", 4, "Which of these is sanderling?"},
		"nobody there":  {"sanderling", false, "", 4, "did not show up"},
	} {
		t.Run(name, func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				kit := kitOf(t, c.model, map[string]int{"dunlin": 2, "sanderling": 1}[c.model])
				l.standin(c.model, "--usb")
				l.present = true
				l.want(0, nil, "recovery", "install", kit.recovery, "--yes")
				l.want(0, nil, "standin", "fault", c.model, "replug") // it comes up unseen
				job := l.begin(c.attends, c.answer, nil, "go", "recovery", "--yes")
				time.Sleep(20 * time.Second)
				l.want(0, nil, "standin", "press", c.model, "cable-elsewhere", "cable-in")
				<-job.done
				if job.code != c.code || !strings.Contains(job.out.String(), c.says) {
					t.Errorf("it ended with %d:\n%s", job.code, job.out)
				}
			})
		})
	}
}

// TestCommandedOn: a person who is asked to bring a phone into its recovery and brings it into the
// bootloader has done enough, where that takes the command.
func TestCommandedOn(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin", "--usb")
		l.want(0, nil, "recovery", "install", files.Recovery, "--yes")
		l.press("dunlin", "power-long")
		l.until("it is gone", func() bool {
			_, out := l.run("bench")
			return strings.Contains(out, "does not answer")
		})
		job := l.begin(true, "", nil, "go", "recovery", "--on", "dunlin")
		time.Sleep(3 * time.Second)
		began := time.Now()
		l.press("dunlin", "volume-down+power")
		<-job.done
		if job.code != 0 || !strings.Contains(job.out.String(),
			"showed up in bootloader and is sent on into recovery") || time.Since(began) > 15*time.Second {
			t.Errorf("it ended with %d after %v:\n%s", job.code, time.Since(began), job.out)
		}
	})
}

// TestBadCables: a phone whose descriptors lie, or that answers against the rules, ends every
// command with exit 5, and nothing it says is printed raw.
func TestBadCables(t *testing.T) {
	t.Parallel()
	for name, answer := range map[string]string{
		"garbage":            "\x1b[2J\x00\xff",
		"a length that lies": "DATAffffffff",
		"nothing":            "",
	} {
		t.Run(name, func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				d, _ := l.raw("1-3", "X\x1b[2J", soft.Phone(usb.ProtocolFastboot))
				go func() {
					for {
						if _, err := d.Recv(t.Context(), 1, make([]byte, 4096)); err != nil {
							return
						}
						if answer != "" {
							d.Send(t.Context(), 1, []byte(answer), false)
						}
					}
				}()
				code, out := l.run("slot", "--on", "usb:1-3")
				if code != 5 || strings.ContainsAny(out, "\x1b\x00") {
					t.Errorf("it ended with %d:\n%q", code, out)
				}
			})
		})
	}
}

// TestCableFaults: an endpoint that halts, and answers that are cut or garbled, end with a name,
// and the repeat ends well.
func TestCableFaults(t *testing.T) {
	t.Parallel()
	for _, fault := range []string{"halt", "short-answer", "garbage", "stall"} {
		t.Run(fault, func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				l.standin("dunlin", "--usb")
				size := sizeOf(files.Recovery)
				for _, after := range []int64{1, size * 3 / 8, size * 9 / 8} {
					l.fault("dunlin", fault, after, "--for", "3")
					code, out := l.run("recovery", "install", files.Recovery, "--yes")
					if code != 0 && code != 4 && code != 5 || strings.Contains(out, "\x1b") {
						t.Errorf("%s after %d: it ended with %d:\n%s", fault, after, code, out)
					}
				}
				l.want(0, nil, "standin", "fault", "dunlin", "clear")
				l.want(0, nil, "recovery", "install", files.Recovery, "--yes")
			})
		})
	}
}
