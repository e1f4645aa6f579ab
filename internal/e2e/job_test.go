package e2e

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jarlid/internal/core/card"
	"jarlid/internal/journal"
	"jarlid/internal/standin/scenario"
)

type slotsResult struct {
	Slots []struct {
		Slot       string
		Started    *bool `json:"started_from"`
		Next       *bool `json:"next"`
		Bootable   *bool
		Successful *bool
		Tries      *int `json:"tries_left"`
	}
}

// TestWholeJob walks the whole job as the guide has it and looks, after each
// step, at what is really in the phone's storage.
func TestWholeJob(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.follows = true
		l.standin("dunlin")
		var here struct{ Phones []map[string]any }
		l.result(0, &here, "bench")
		p := here.Phones[0]
		for k, want := range map[string]any{
			"name":      "dunlin",
			"serial":    "WL-DU-0007",
			"model":     "dunlin",
			"mode":      "bootloader",
			"next_slot": "a",
			"unlocked":  true,
		} {
			if p[k] != want {
				t.Errorf("bench: %s is %v, want %v", k, p[k], want)
			}
		}
		var set struct {
			Writes []struct {
				Partition, Slot, SHA256, Confirmed string
				Bytes                              int64
			}
		}
		l.result(0, &set, "recovery", "install", files.Recovery, "--yes")
		img := must(os.ReadFile(files.Recovery))
		sum := sha256.Sum256(img)
		if len(set.Writes) != 2 {
			t.Fatalf("%d writes, want 2", len(set.Writes))
		}
		for i, w := range set.Writes {
			if w.Partition != "recovery" || w.Slot != string("ab"[i]) || w.Bytes != int64(len(img)) ||
				w.SHA256 != hex.EncodeToString(sum[:]) || w.Confirmed != "phone-word" {
				t.Errorf("write %d is %+v", i, w)
			}
			stored := must(os.ReadFile(filepath.Join(l.dir, "dunlin", "partitions", "recovery_"+
				w.Slot+".img")))
			if string(stored[:len(img)]) != string(img) {
				t.Errorf("recovery_%s does not hold the image", w.Slot)
			}
		}
		l.want(0, []string{"Tideline Recovery 3.1 is running"}, "go", "recovery")
		l.want(0, []string{"lose  all apps", "keep  "}, "wipe", "userdata", "--yes")
		var sent struct {
			Packages []struct {
				Outcome  string
				Passes   int
				Served   int64 `json:"bytes_served"`
				Distinct int64 `json:"bytes_distinct"`
			}
			SlotNext string `json:"slot_next"`
		}
		l.result(0, &sent, "sideload", files.Package, "--yes")
		size := must(os.Stat(files.Package)).Size()
		if k := sent.Packages[0]; k.Outcome != "installed" || k.Passes != 2 || k.Distinct != size ||
			k.Served <= size || sent.SlotNext != "b" {
			t.Errorf("sideload: %+v", sent)
		}
		system := must(scenario.System(scenario.Saltmarsh, dunlin))
		stored := must(os.ReadFile(filepath.Join(l.dir, "dunlin", "partitions", "system_b.img")))
		if string(stored[:len(system)]) != string(system) {
			t.Error("system_b does not hold the package's system")
		}
		var s slotsResult
		l.result(0, &s, "slot")
		if b := s.Slots[1]; !*b.Started || !*b.Next || !*b.Bootable || *b.Successful || *s.Slots[0].Started {
			t.Errorf("slot: %+v", s)
		}
		// Nobody is at the phone yet: what came up can't be told, and that is said.
		l.want(0, []string{"can't be seen from here"}, "go", "system", "--wait", "3s")
		stop := l.hands("dunlin", "finish welcome", "debugging on", "allow")
		defer stop()
		l.untilMode("dunlin", "system")
		var up struct {
			Slots []struct{ Slot string }
		}
		l.result(0, &up, "slot")
		var in struct{ Phones []map[string]any }
		l.result(0, &in, "bench")
		if in.Phones[0]["mode"] != "system" {
			t.Errorf("the phone is in %v", in.Phones[0]["mode"])
		}
	})
}

// TestStartedAndNextDiffer looks between install and restart, the one moment
// in which they do.
func TestStartedAndNextDiffer(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		l.want(0, nil, "recovery", "install", files.Recovery, "--yes")
		l.want(0, nil, "go", "recovery")
		l.want(0, nil, "wipe", "userdata", "--yes")
		l.want(0, nil, "sideload", files.Package, "--yes", "--then", "stay")
		var s slotsResult
		l.result(0, &s, "slot")
		if a, b := s.Slots[0], s.Slots[1]; !*a.Started || *a.Next || *b.Started || !*b.Next {
			t.Errorf("after the install and before the restart: %+v", s)
		}
		l.want(0, []string{"note  started from and starts next differ"}, "slot")
		// The restart into sideload mode already goes to the new slot, so the same
		// package again lands on the first one, which is stopped.
		l.want(3, []string{"stop  slot-not-started", "lands on slot b"}, "sideload", files.Package, "--yes",
			"--then", "stay")
		l.want(0, []string{"installed: slot a starts next now"}, "sideload", files.Package, "--yes", "--then",
			"stay", "--accept", "slot-not-started")
	})
}

// TestNothingTouched: a dry run and every stop leave storage and journal as
// they were.
func TestNothingTouched(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		before := must(os.ReadFile(filepath.Join(l.dir, "dunlin", "partitions", "recovery_b.img")))
		l.want(0, []string{"nothing was changed", "write tideline-3.1-dunlin.img to recovery_b"}, "recovery",
			"install", files.Recovery, "--dry-run")
		l.want(0, []string{"a dry run ends here"}, "wipe", "userdata", "--dry-run")
		l.want(3, []string{"not-confirmed"}, "wipe", "userdata")
		after := must(os.ReadFile(filepath.Join(l.dir, "dunlin", "partitions", "recovery_b.img")))
		if string(before) != string(after) {
			t.Error("a dry run changed the phone")
		}
		if j := l.journals(); len(j) != 0 {
			t.Errorf("%d journals were written", len(j))
		}
	})
}

// TestAddresses: phones that are on no list are reached by their addresses.
func TestAddresses(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		var here struct{ Phones []struct{ Address string } }
		l.result(0, &here, "bench")
		other := l.other("other")
		other.want(0, []string{"in its bootloader"}, "slot", "--on", here.Phones[0].Address)
		other.want(0, []string{"recovery_a and recovery_b written"}, "recovery", "install", files.Recovery,
			"--yes", "--on", here.Phones[0].Address)
		other.want(4, []string{"does not answer"}, "slot", "--on", "tcp:127.0.0.1:1")
		other.want(2, []string{"not an address"}, "slot", "--on", "tcp:127.0.0.1:99999")
		if !*cabled { // on a cable it is found by itself
			other.want(4, []string{"no phone"}, "slot")
		}
		other.want(4, []string{"no phone on the bench is called"}, "slot", "--on", "godwit")
	})
}

// TestWrongWords: wrong usage ends with 2 and a sentence.
func TestWrongWords(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		for _, c := range []struct {
			text string
			args []string
		}{
			{"has no command \"flsh\"", []string{"flsh"}},
			{"has no option --nope", []string{"bench", "--nope"}},
			{"say which recovery: its file", []string{"recovery", "install"}},
			{"not an area to wipe", []string{"wipe", "everything"}},
			{"not a mode", []string{"go", "home"}},
			{"is not a slot", []string{"recovery", "install", files.Recovery, "--into", "recovery@c"}},
			{"there is no finding called", []string{"explain", "nothing"}},
			{"say where its storage lies: --at DIR", []string{"standin", "run", "dunlin"}},
			{"there is no model", []string{"standin", "run", "heron", "--at", filepath.Join(l.dir, "x")}},
		} {
			l.want(2, []string{"fail  ", c.text}, c.args...)
			var r struct {
				OK   bool
				Exit int
			}
			l.result(2, &r, c.args...)
			if r.OK || r.Exit != 2 {
				t.Errorf("%v: the result says %+v", c.args, r)
			}
		}
		l.want(1, []string{"no such file"}, "ident", filepath.Join(l.dir, "missing.img"))
		l.want(0, []string{"I don't know this file", "first bytes: 00017a"}, "ident",
			l.file("raw.img", []byte("\x00\x01z")))
	})
}

// TestFilesThatAreNotThere: whichever option names a file, the sentence names it too, and no
// call of the system.
func TestFilesThatAreNotThere(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		none, folder := filepath.Join(l.dir, "none.img"), l.dir
		for _, args := range [][]string{
			{"ident", none},
			{"proof", none},
			{"lift", none, "-o", l.dir},
			{"flash", none},
			{"recovery", "install", none},
			{"recovery", "try", none},
			{"sideload", none},
			{"put", none, "--to", "sd"},
			{"app", none},
			{"fit", none},
			{"fit", files.Recovery, "--vendor", none},
			{"fit", files.Recovery, "--with", none},
			{"slot", "--card", none},
			{"vbmeta", "show", none},
			{"vbmeta", "check", none, "--images", folder},
			{"vbmeta", "loosen", "hashtree", "--from", none},
			{"proof", files.Package, "--signer", none},
			{"proof", files.Package, "--keys-of", none},
			{"relock", "--images", none},
			{"recovery", "install", files.Recovery, "--boot", none},
			{"sideload", files.Package, "--recovery-after", none},
			{"backup", "restore", "boot", "-o", none},
			{"standin", "run", none + ".yaml", "--at", folder},
		} {
			code, out := l.run(args...)
			if code == 0 || !strings.Contains(out, none) {
				t.Errorf("%v ended with %d and does not name the file:\n%s", args, code, out)
			}
			for _, call := range []string{"open " + none, "stat " + none, "lstat ", "read " + none,
				"no such file or directory"} {
				if strings.Contains(out, call) {
					t.Errorf("%v speaks of %q:\n%s", args, call, out)
				}
			}
		}
	})
}

// TestWipeInBootloader erases both partitions the data lives in, and says that
// nobody could read that back.
func TestWipeInBootloader(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		l.want(3, []string{"lose  all apps", "not-confirmed"}, "wipe", "userdata")
		l.want(0, []string{"the data is erased"}, "wipe", "userdata", "--yes")
		for _, name := range []string{"userdata", "metadata"} {
			b := must(os.ReadFile(filepath.Join(l.dir, "dunlin", "partitions", name+".img")))
			if strings.Trim(string(b), "\x00") != "" {
				t.Errorf("%s was not erased", name)
			}
		}
		j := l.lastJournal()
		if done := j[len(j)-2]; done.Event != "done" || done.Confirm != journal.PhoneWord ||
			done.Facts[card.FactData.ID()].Value != "formatted" {
			t.Errorf("the journal says %+v", done)
		}
		// The stock system starts as new: nothing is left of the owner's settings.
		l.want(0, []string{"can't be seen from here"}, "go", "system", "--wait", "4s")
	})
}
