package e2e

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/maphash"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// stood is a stand-in as its folder has it.
type stood struct {
	Mode     string `json:"mode"`
	Started  string `json:"started_slot"`
	Unlocked bool   `json:"unlocked"`
	Snapshot string `json:"snapshot"`
	dir      string
	args     []string          // what was typed
	before   map[string]uint64 // its partitions when the command said what it keeps
	slot     string            // the active one, where it was read before
}

// promise is a line about a phone: what it says, and how the stand-in's folder shows whether that is so.
// holds gives what is not so. A line that the folder can't confirm has the reason in its place.
type promise struct {
	line  string // a regular expression, of the text after the word
	holds func(s *stood, m []string) error
	why   string
	spoil string // a line for the test that makes it fail
}

// partition gives the bytes of a partition; phones without slots have it without a suffix, and a logical one
// is looked for in super.
func (s *stood) partition(name string) []byte {
	for _, n := range []string{name, strings.TrimSuffix(strings.TrimSuffix(name, "_a"), "_b"), "super"} {
		if b, err := os.ReadFile(filepath.Join(s.dir, "partitions", n+".img")); err == nil {
			return b
		}
	}
	return nil
}

// active is the slot that boots next, by the control block in misc (boot_control.h: at 2048 the suffix, magic
// and version in 12 bytes, then two bytes a slot, whose low four bits are the priority).
func (s *stood) active() string {
	if s.slot != "" {
		return s.slot
	}
	b := s.partition("misc")
	if len(b) < 2080 || binary.LittleEndian.Uint32(b[2052:]) != 0x42414342 {
		return ""
	}
	active, most := "", byte(0)
	for i, slot := range []string{"a", "b"} { // then three bits of tries, and one for a slot that has booted
		if info := b[2060+2*i]; info&0xf0 != 0 && info&0xf > most {
			active, most = slot, info&0xf
		}
	}
	return active
}

func (s *stood) isIn(modes ...string) error {
	if !slices.Contains(modes, s.Mode) {
		return fmt.Errorf("it is in %q", s.Mode)
	}
	return nil
}

// runs reports whether a system of a name is on the slot that runs. A merge moves it meanwhile.
func (s *stood) runs(name, slot string) error {
	if slot != "" && s.Started != slot {
		return fmt.Errorf("it runs on slot %q", s.Started)
	}
	at := "system"
	if s.Started != "" {
		at += "_" + s.Started
	}
	if s.Snapshot == "none" && !bytes.Contains(s.partition(at), []byte("ro.build.display.id="+name)) {
		return fmt.Errorf("%s holds no %s", at, name)
	}
	return s.isIn("system")
}

func (s *stood) boots(slot string) error {
	if got := s.active(); got != slot {
		return fmt.Errorf("slot %q is active", got)
	}
	return nil
}

// written reports whether partitions hold what was sent: the typed image, where there is one.
func (s *stood) written(list string) error {
	for _, name := range strings.Split(strings.ReplaceAll(list, " and ", ", "), ", ") {
		b := s.partition(name)
		// the first 4 KiB of super are reserved, the next 4 KiB are its geometry
		if len(b) < 8192 || len(bytes.Trim(b[:8192], "\x00\xff")) == 0 && name != "misc" &&
			name != "userdata" {
			return fmt.Errorf("%s is empty", name)
		}
		var images [][]byte
		for _, w := range s.args {
			if f, err := os.ReadFile(w); err == nil && strings.HasSuffix(w, ".img") && len(f) <= len(b) {
				images = append(images, f)
			}
		}
		sparse := len(images) == 1 && bytes.HasPrefix(images[0], []byte{0x3a, 0xff, 0x26, 0xed})
		// a recovery goes into the ramdisk of another image, so that the image does not begin there
		if len(images) == 1 && !sparse && strings.HasPrefix(name, "recovery") && !bytes.HasPrefix(b,
			images[0]) {
			return fmt.Errorf("%s does not begin with the image", name)
		}
	}
	return nil
}

// erased reports whether partitions are empty.
func (s *stood) erased(list string) error {
	for _, name := range strings.Split(strings.ReplaceAll(list, " and ", ", "), ", ") {
		if b := s.partition(name); len(bytes.Trim(b[:min(len(b), 1<<20)], "\x00\xff")) > 0 &&
			name != "super" &&
			s.own(name) {
			return fmt.Errorf("%s is not empty", name)
		}
	}
	return nil
}

// own reports whether a partition is not a part of super.
func (s *stood) own(name string) bool {
	_, err := os.Stat(filepath.Join(s.dir, "partitions", name+".img"))
	return err == nil
}

// stored are the files of the shared storage, below its folders that a format makes.
func (s *stood) stored(dir string) (list []string) {
	_ = filepath.WalkDir(filepath.Join(s.dir, dir), func(p string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			list = append(list, filepath.Base(p))
		}
		return nil
	})
	return list
}

func (s *stood) emptied() error {
	if list := s.stored("shared"); len(list) > 0 {
		return fmt.Errorf("the storage holds %v", list)
	}
	return nil
}

func (s *stood) holds(name string) error {
	if !slices.Contains(append(s.stored("shared"), s.stored("card")...), name) {
		return fmt.Errorf("its storages hold %v", append(s.stored("shared"), s.stored("card")...))
	}
	return nil
}

// sums hashes the partitions.
func (s *stood) sums() map[string]uint64 {
	sums := map[string]uint64{}
	for _, p := range must(filepath.Glob(filepath.Join(s.dir, "partitions", "*.img"))) {
		sums[strings.TrimSuffix(filepath.Base(p), ".img")] = maphash.Bytes(storedSeed, must(os.ReadFile(p)))
	}
	return sums
}

// kept reports whether partitions are as they were when it was said that they are kept.
func (s *stood) kept(parts ...string) error {
	now := s.sums()
	for name, sum := range s.before {
		base := strings.TrimSuffix(strings.TrimSuffix(name, "_a"), "_b")
		if slices.Contains(parts, base) && now[name] != sum {
			return fmt.Errorf("%s is another one", name)
		}
	}
	return nil
}

// promises are the lines of commands that work on one phone. Each line that begins with done or keep is among
// them.
var promises = []promise{
	{line: `^(\S+(?: Recovery)? \S+) is running(?:, and written nowhere.*)?$`,
		spoil: "Tideline Recovery 3.1 is running",
		holds: func(s *stood, _ []string) error { return s.isIn("recovery") }},
	{line: `^the phone is in (\S+)$`, spoil: "the phone is in bootloader",
		holds: func(s *stood, m []string) error { return s.isIn(m[1]) }},
	{line: `^(.+), build \S+, is running(?: from slot (.))?$`,
		spoil: "Saltmarsh OS 4.2, build SM42.260512, is running",
		holds: func(s *stood, m []string) error { return s.runs(m[1], m[2]) }},
	{line: `^(.+) is up(?: from slot (.))?$`, spoil: "Saltmarsh OS 4.2 is up from slot b",
		holds: func(s *stood, m []string) error { return s.runs(m[1], m[2]) }},
	{line: `^([a-z_, ]+) written, (?:taken on the phone's word|read back, it matches).*$`,
		spoil: "boot_a and recovery_a written, read back, it matches",
		holds: func(s *stood, m []string) error { return s.written(m[1]) }},
	{line: `^\S+ is (?:erased|formatted) \(([a-z_, ]+)\)$`, spoil: "part:boot is erased (boot_a)",
		holds: func(s *stood, m []string) error {
			if strings.Contains(m[0], "formatted") {
				return s.written(m[1])
			}
			return s.erased(m[1])
		}},
	{line: `^the data is (?:formatted|erased); the next system starts as new.*$`,
		spoil: "the data is formatted; the next system starts as new, with debugging off",
		holds: func(s *stood, _ []string) error { return s.emptied() }},
	{line: `^storage wiped$`, spoil: "storage wiped", holds: func(s *stood,
		_ []string) error {
		return s.emptied()
	}},
	{line: `^.* installed(?:, on slot .)?(?:; slot (.) starts next)?$`,
		spoil: "rom.zip is installed; slot b starts next",
		holds: func(s *stood, m []string) error {
			if m[1] == "" {
				return nil
			}
			return s.boots(m[1])
		}},
	{line: `^slot (.) starts next; its tries are full again.*$`,
		spoil: "slot b starts next; its tries are full again, and it counts as not yet proven",
		holds: func(s *stood, m []string) error { return s.boots(m[1]) }},
	{line: `^installed: slot (.) starts next now, before it was slot .$`,
		spoil: "installed: slot b starts next now, before it was slot a",
		holds: func(s *stood, m []string) error { return s.boots(m[1]) }},
	{line: `^the bootloader is (open|locked)` +
		`(?:, read back; all data is erased| already; nothing was changed|, as you say.*)$`,
		spoil: "the bootloader is open, read back; all data is erased",
		holds: func(s *stood, m []string) error {
			if s.Unlocked != (m[1] == "open") {
				return fmt.Errorf("unlocked: %v", s.Unlocked)
			}
			return nil
		}},
	{line: `^(\S+) (?:lies there|lay there already), .*$`, spoil: "/sdcard/rom.zip lies there, its digest " +
		"read there matches",
		holds: func(s *stood, m []string) error { return s.holds(filepath.Base(m[1])) }},
	{line: `^.+ is still there on slot (.)$`, spoil: "Tideline Recovery 3.1 is still there on slot a",
		holds: func(s *stood, m []string) error {
			if s.Started != m[1] {
				return fmt.Errorf("it runs on slot %q", s.Started)
			}
			return s.isIn("recovery")
		}},
	{line: `^the phone came up on slot (.); before the install it ran on slot .$`,
		spoil: "the phone came up on slot b; before the install it ran on slot a",
		holds: func(s *stood, m []string) error {
			if s.Started != m[1] {
				return fmt.Errorf("it runs on slot %q", s.Started)
			}
			return nil
		}},
	{line: `^[\d.]+ (?:[KMG]iB|bytes) of \S+ in (\S+), the digests in (\S+)$`,
		spoil: "1.0 MiB of dunlin in /a, the digests in /a/b",
		holds: func(_ *stood, m []string) error {
			_, err := os.Stat(m[2])
			return err
		}},
	{line: `^the system, the recovery and the bootloader$`, spoil: "the system, the recovery and the " +
		"bootloader",
		holds: func(s *stood, _ []string) error {
			return s.kept("system", "vendor", "product", "recovery", "boot", "vendor_boot", "radio", "super")
		}},
	{line: `^the system and the bootloader$`, spoil: "the system and the bootloader",
		holds: func(s *stood, _ []string) error { return s.kept("system", "vendor", "radio") }},
	{line: `^the recovery and the bootloader$`, spoil: "the recovery and the bootloader",
		holds: func(s *stood, _ []string) error { return s.kept("recovery", "radio") }},
	{line: `^(\S+) \S+, (in its bootloader|in recovery|with its system running)(?:, model \S+)?` +
		`(?:, (unlocked|locked))?(?:, started from slot (.))?(?:, slot (.) is next)?(?:,.*)?$`,
		spoil: "dunlin WL-DU-0007, in recovery, unlocked, started from slot a, slot a is next, Tideline " +
			"Recovery 3.1",
		holds: func(s *stood, m []string) error {
			if m[1] != filepath.Base(s.dir) && s.Mode != "off" {
				return nil // one of several phones
			}
			if m[3] != "" && s.Unlocked != (m[3] == "unlocked") {
				return fmt.Errorf("unlocked: %v", s.Unlocked)
			}
			if m[4] != "" && m[4] != s.Started {
				return fmt.Errorf("it runs on slot %q", s.Started)
			}
			if m[5] != "" && m[5] != s.active() {
				return fmt.Errorf("slot %q is active", s.active())
			}
			return s.isIn(map[string]string{"in its bootloader": "bootloader", "in recovery": "recovery",
				"with its system running": "system"}[m[2]])
		}},
	{line: `^the bootloader$`, spoil: "the bootloader",
		holds: func(s *stood, _ []string) error { return s.kept("radio", "modem") }},

	{line: `^(?:a memory card|shared storage: .*|apps, accounts and settings)$`,
		why: "the stand-in's files are compared by TestAreas and TestCard"},
	{line: `^the table that (?:is|was) there.*$`, why: "it is a file of the job's folder"},
	{line: `^what was there before: .*$`, why: "it is a file of the job's folder"},
	{line: `^the phone took the restart; which system comes up is not waited for$`,
		why: "nothing is said of where it is"},
	{line: `^the restart into its (?:recovery|system) was taken; nobody has seen which .*$`,
		why: "nothing is said of where it is"},
	{line: `^its recovery is on the screen, as you say.*$`, why: "a person said it"},
	{line: `^installed: .*$`, why: "apps are in the memory of the stand-in's system"},
	{line: `^(?:caches|apps) wiped.*$`, why: "TestAreas reads the file system"},
	{line: `^the files are back in the shared storage$`, why: "TestBackupStorage compares them"},
	{line: `^\S+ is (?:moved aside|back) on .*$`, why: "TestShelve reads the file system"},
	{line: `^(?:there is none here|nothing (?:has to be changed|is moved aside|is to be moved)|` +
		`this phone has no vbmeta).*$`,
		why: "nothing was done"},
	{line: `^the loader's table of partitions is written, and read again$`,
		why: "TestKnotTable compares its bytes"},
	{line: `^\S+ is the same on both slots, their digests match: .*$`, why: "TestSlotCopy compares them"},
	{line: `^the phone's screen shows it, and its card does once a system has booted$`,
		why: "a code to unlock by"},
	{line: `^(?:dry run: .*|nothing stops it; nothing was touched)$`, why: "nothing was done"},
	{line: `^the card is kept in .*$`, why: "a file of this computer"},
	{line: `^(?:\S+: )?(?:all )?\d+ tasks? done.*$`, why: "its tasks say what is so"},
}

var lineOf = regexp.MustCompile(`^(done|keep|good|info)  (.*)$`)

// looking are the commands after which a phone is as they say at their beginning; "" is jarlid alone.
var looking = []string{"", "card", "slot"}

// promiseLines are their expressions.
var promiseLines = func() (list []*regexp.Regexp) {
	for _, c := range promises {
		list = append(list, regexp.MustCompile(c.line))
	}
	return list
}()

// promiseOf finds what a line claims.
func promiseOf(text string) (c *promise, m []string) {
	for i := range promises {
		if m = promiseLines[i].FindStringSubmatch(text); m != nil {
			return &promises[i], m
		}
	}
	return nil, nil
}

// atOnePhone are the commands whose lines are about the one phone they work on. A sheet says more than one
// thing of a phone one after the other.
var atOnePhone = []string{"go", "flash", "recovery", "wipe", "slot", "sideload", "put", "app", "backup",
	"shelve",
	"unshelve", "unlock", "relock", "arrive"}

var phoneLine = regexp.MustCompile(`(?m)^info  (\S+) (?:\S+, (?:in|with|waiting)|does not answer)`)

// phoneOf reads the one stand-in that a command worked on.
func (l *lab) phoneOf(args []string, out string) *stood {
	command := ""
	if len(args) > 0 && !strings.HasPrefix(args[0], "-") {
		command = args[0]
	}
	if l.net == nil || !slices.Contains(append(atOnePhone, looking...), command) || slices.ContainsFunc(args,
		func(w string) bool {
			return slices.Contains([]string{"--json", "--dry-run", "--card", "--help"},
				w)
		}) {
		return nil
	}
	m := phoneLine.FindStringSubmatch(out)
	if m == nil || l.columns > 0 {
		return nil
	}
	s := &stood{dir: filepath.Join(l.dir, m[1]), args: args}
	b, err := os.ReadFile(filepath.Join(s.dir, "state.json"))
	if err != nil || json.Unmarshal(b, s) != nil {
		return nil
	}
	return s
}

// upheld compares what a command claimed with the stand-in's folder.
func (l *lab) upheld(args []string, code int, out string, h *hearing) {
	l.Helper()
	s := l.phoneOf(args, out)
	if s == nil || code != 0 {
		return
	}
	s.before = h.before
	for line := range strings.Lines(out) {
		m := lineOf.FindStringSubmatch(strings.TrimSuffix(line, "\n"))
		if m == nil {
			continue
		}
		if m[1] == "info" && len(args) > 0 && (!slices.Contains(looking, args[0]) || len(args) > 1 &&
			!strings.HasPrefix(args[1], "-")) {
			continue // it is said before anything is done
		}
		c, words := promiseOf(m[2])
		switch {
		case c == nil && (m[1] == "done" || m[1] == "keep"):
			l.Errorf("jarlid %s claims what promise_test.go does not know: %s", strings.Join(args, " "), line)
		case c != nil && c.holds != nil:
			at := s
			if m[1] == "info" && h.met != nil { // it may go on by itself since then
				at = h.met
			}
			if err := c.holds(at, words); err != nil {
				l.Errorf("jarlid %s claims what is not so: %sbut %v\n%s", strings.Join(args, " "), line, err,
					out)
			}
		}
	}
}

// hearing is what is read of the phone while a command speaks.
type hearing struct {
	met    *stood            // when its line was said
	before map[string]uint64 // its partitions, when it was said what is kept
}

// hears gives what a command's lines go to.
func (l *lab) hears(args []string) (hear func(line string), h *hearing) {
	h = &hearing{}
	var said strings.Builder
	return func(line string) {
		said.WriteString(line + "\n")
		if h.met == nil && strings.HasPrefix(line, "info  ") {
			if h.met = l.phoneOf(args, said.String()); h.met != nil {
				h.met.slot = h.met.active()
			}
		}
		if h.before == nil && h.met != nil && strings.HasPrefix(line, "keep  the ") {
			h.before = h.met.sums()
		}
	}, h
}

// TestPromisesFail: each claim that is compared with a stand-in's folder is found out where that is another
// one.
func TestPromisesFail(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.readyForPackages(files.Recovery)
		s := l.phoneOf([]string{"go"}, "info  dunlin WL-DU-0007, in recovery\n")
		if s == nil {
			t.Fatal("l.phoneOf() finds no stand-in")
		}
		s.before = s.sums()
		s.before["radio"] = 1 // of phones that have one
		s.before["radio"] = 0 // which a dunlin has not
		spoilt := *s
		spoilt.dir, spoilt.Mode, spoilt.Started = t.TempDir(), "off", "x"
		for _, p := range []string{"partitions/misc", "partitions/boot_a", "partitions/recovery_a",
			"partitions/radio", "partitions/system_a", "partitions/vendor_a", "shared/left"} {
			path := filepath.Join(spoilt.dir, p+".img")
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				t.Fatalf("os.MkdirAll(%s): %v", filepath.Dir(path), err)
			}
			other := bytes.Repeat([]byte{0x5a}, 8192)
			if p == "partitions/recovery_a" {
				other = make([]byte, 8192)
			}
			if err := os.WriteFile(path, other, 0o644); err != nil {
				t.Fatalf("os.WriteFile(%s): %v", path, err)
			}
		}
		for _, c := range promises {
			if c.holds == nil {
				if c.why == "" {
					t.Errorf("%s has neither a check nor a reason", c.line)
				}
				continue
			}
			of, m := promiseOf(c.spoil)
			if of == nil || of.line != c.line {
				t.Errorf("%q is no line of %s", c.spoil, c.line)
				continue
			}
			locked := spoilt
			locked.Unlocked = !spoilt.Unlocked
			if c.holds(&spoilt, m) == nil && c.holds(&locked, m) == nil {
				t.Errorf("%q is believed of another phone", c.spoil)
			}
		}
	})
}
