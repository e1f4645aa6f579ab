package e2e

import (
	"encoding/binary"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"jarlid/internal/core/backup"
)

// TestOddSizes: a partition whose size can't be read is there, and so is one of a slot on a phone that
// denies it in has-slot.
func TestOddSizes(t *testing.T) {
	for _, c := range []struct {
		name string
		vars []string
		says string
	}{
		{"in mebibytes", []string{"partition-size:recovery_a", "32M", "partition-size:recovery_b", "32 MiB"},
			"would write"},
		{"in kibibytes", []string{"partition-size:recovery_a", "32768K", "partition-size:recovery_b",
			"32768KB"},
			"would write"},
		{"no number", []string{"partition-size:recovery_a", "-1", "partition-size:recovery_b", "-1",
			"partition-size:userdata", "0x10000000"}, "warn  image-too-big: the size of recovery_a can't " +
			"be read"},
		{"has-slot denies it", []string{"has-slot:recovery", "no", "partition-size:userdata", "0x10000000"},
			"recovery_a"},
		{"it is not there", []string{"has-slot:recovery", "no", "partition-size:recovery_a", "",
			"partition-size:recovery_b", "", "partition-size:userdata", "0x10000000"}, "no-such-partition"},
	} {
		t.Run(c.name, func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				on := badPhone(t, l, "none", nil, c.vars...)
				_, out := l.run("flash", files.Recovery, "--into", "recovery", "--dry-run", "--on", on)
				if !strings.Contains(out, c.says) ||
					strings.Contains(out, "no-such-partition") != (c.says == "no-such-partition") {
					t.Errorf("flash --into recovery does not say %q:\n%s", c.says, out)
				}
			})
		})
	}
}

// TestUnreadOnBench: a phone that answers and can't be read is not called away.
func TestUnreadOnBench(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		on := badPhone(t, l, "getvar", func(_ net.Conn, put func(string)) { put("WHAT") })
		write(l, filepath.Join(l.home, "bench.yaml"), []byte("phones:\n  - name: odd\n    at: ["+on+"]\n"))
		for _, words := range [][]string{{}, {"bench"}} {
			out := l.want(0, []string{"warn  odd could not be read: "}, words...)
			if strings.Contains(out, "does not answer") {
				t.Errorf("jarlid %v calls a phone that answers away:\n%s", words, out)
			}
		}
	})
}

// badPhone is a bootloader that behaves until it is asked to write, over TCP,
// and then does what script says. more are further variables, or other values of them: name, value, ...
func badPhone(t *testing.T, lab *lab, word string, script func(c net.Conn, put func(string)),
	more ...string) string {
	t.Helper()
	l := must(lab.net.Listen("tcp", "127.0.0.1:0"))
	t.Cleanup(func() { l.Close() })
	vars := map[string]string{"product": "dunlin", "serialno": "WL-DU-0666", "unlocked": "yes",
		"max-download-size": "0x4000000", "slot-count": "2", "current-slot": "a",
		"battery-voltage":           "4100mV",
		"has-slot:recovery":         "yes",
		"partition-size:recovery_a": "0x2000000",
		"partition-size:recovery_b": "0x2000000",
		"is-userspace":              "no"}
	for i := 0; i < len(more); i += 2 {
		vars[more[i]] = more[i+1]
	}
	serve := func(c net.Conn) {
		defer c.Close()
		var hello [4]byte
		c.Write([]byte("FB01"))
		io.ReadFull(c, hello[:])
		put := func(s string) { c.Write(append(binary.BigEndian.AppendUint64(nil, uint64(len(s))), s...)) }
		for {
			var h [8]byte
			if _, err := io.ReadFull(c, h[:]); err != nil {
				return
			}
			b := make([]byte, binary.BigEndian.Uint64(h[:]))
			io.ReadFull(c, b)
			verb, arg, _ := strings.Cut(string(b), ":")
			switch {
			case verb == word:
				script(c, put)
				return
			case string(b) == "getvar:all":
				put("OKAY")
			case verb == "getvar":
				put("OKAY" + vars[arg])
			case verb == "download":
				put("DATA" + arg)
				n := must(parseHex(arg))
				for got := int64(0); got < n; {
					io.ReadFull(c, h[:])
					k := int64(binary.BigEndian.Uint64(h[:]))
					io.CopyN(io.Discard, c, k)
					got += k
				}
				put("OKAY")
			default:
				put("FAILunknown command")
			}
		}
	}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			serve(c)
		}
	}()
	return "tcp:" + l.Addr().String()
}

func parseHex(s string) (n int64, err error) {
	for _, r := range s {
		n = n*16 + int64(strings.IndexRune("0123456789abcdef", r))
	}
	return n, nil
}

// TestBadPhones: what is against the protocol ends with 5, and the journal says
// in which act.
func TestBadPhones(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, at, says string
		script         func(c net.Conn, put func(string))
	}{
		{"an answer longer than allowed", "flash", "packet of 300 bytes", func(_ net.Conn, put func(string)) {
			put("INFO" + strings.Repeat("x", 296))
		}},
		{"DATA of another size", "download", "were announced", func(_ net.Conn, put func(string)) {
			put("DATA00000001")
		}},
		{"endless INFO", "flash", "more than 20000 lines", func(_ net.Conn, put func(string)) {
			for range 20100 {
				put("INFOstill at it")
			}
		}},
		{"cut in the middle of a frame", "flash", "lost during", func(c net.Conn, _ func(string)) {
			c.Write([]byte("\x00\x00\x00\x00\x00\x00\x00\x40OKA"))
		}},
		{"a word of its own", "flash", "none of the protocol's words", func(_ net.Conn, put func(string)) {
			put("DONE")
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			inLab(t, func(t *testing.T, l *lab) {
				on := badPhone(t, l, c.at, c.script)
				l.want(5, []string{c.says, "what was done stands in"}, "recovery", "install", files.Recovery,
					"--yes", "--on", on)
				j := l.lastJournal()
				if r := j[len(j)-2]; r.Event != "failed" || r.Step != 1 ||
					!strings.Contains(r.Error, c.says) {
					t.Errorf("the journal ends with %+v", r)
				}
			})
		})
	}
	t.Run("a variable list that never ends", func(t *testing.T) {
		inLab(t, func(t *testing.T, l *lab) {
			on := endless(t, l, "getvar:all", true)
			l.want(5, []string{"more than 20000 lines"}, "card", "--on", on)
			if m, _ := filepath.Glob(filepath.Join(l.home, "jobs", "*")); len(m) != 0 {
				t.Error("reading a card wrote a journal")
			}
		})
	})
	t.Run("silence past any limit", func(t *testing.T) {
		inLab(t, func(t *testing.T, l *lab) {
			l.want(5, []string{"kept silent for too long"}, "card", "--on",
				endless(t, l, "getvar:product", false))
		})
	})
	t.Run("a bootloader that hangs when it is asked for all variables", func(t *testing.T) {
		inLab(t, func(t *testing.T, l *lab) {
			l.want(0, []string{"curlew"}, "card", "--on", endless(t, l, "getvar:all", false))
		})
	})
}

// endless lists variables for ever when asked for at, or says nothing then. Its first answer
// comes after five seconds.
func endless(t *testing.T, lab *lab, at string, talks bool) string {
	l := must(lab.net.Listen("tcp", "127.0.0.1:0"))
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				var b [4096]byte
				c.Write([]byte("FB01"))
				io.ReadFull(c, b[:4])
				put := func(s string) error {
					_, err := c.Write(append(binary.BigEndian.AppendUint64(nil, uint64(len(s))), s...))
					return err
				}
				first := true
				for {
					if _, err := io.ReadFull(c, b[:8]); err != nil {
						return
					}
					n := min(int(binary.BigEndian.Uint64(b[:8])), len(b))
					if _, err := io.ReadFull(c, b[:n]); err != nil {
						return
					}
					if first {
						time.Sleep(5 * time.Second)
					}
					first = false
					if strings.Contains(string(b[:n]), at) {
						for talks && put("INFOpartition-size:x:0x1000") == nil {
						}
						io.Copy(io.Discard, c)
						return
					}
					put("OKAY" + map[bool]string{true: "curlew"}[strings.HasSuffix(string(b[:n]),
						"getvar:product")])
				}
			}()
		}
	}()
	return "tcp:" + l.Addr().String()
}

// TestNoShell: a started system that refuses its shell can still be restarted.
func TestNoShell(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin", "--mode", "system")
		l.did("dunlin", "", nil, "card")
		l.fault("dunlin", "refuse", 0, "--for", "2") // what it runs, and who its owner is
		l.want(0, []string{"bootloader"}, "go", "bootloader", "--on", "dunlin")
	})
}

// TestBrokenOff: after a cut the program alone says which job was interrupted where, and the command that
// repeats it; after the repeat it does not.
func TestBrokenOff(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		p := l.standin("dunlin")
		job := []string{"recovery", "install", files.Recovery, "--into", "@a", "--accept",
			"recovery-on-one-slot", "--yes"}
		l.fault("dunlin", "drop", sizeOf(files.Recovery)*3/8)
		code, out := l.run(job...)
		l.broken(code, out)
		out = l.want(0, []string{"note  the last job on dunlin, 000001-dunlin, was interrupted at this: ",
			"to recovery_a", "next  jarlid recovery install " + files.Recovery + " --into @a"})
		if strings.Contains(out, "--yes") || strings.Contains(out, "go recovery") {
			t.Errorf("after a half-written recovery nothing goes there, and no question is answered:\n%s",
				out)
		}
		p.off() // its battery is empty
		out = l.want(0, []string{"note  the last job on dunlin, 000001-dunlin, was interrupted at this: ",
			"the phone is not here", "todo  connect dunlin, charged, and resume it: jarlid recovery " +
				"install " +
				files.Recovery + " --into @a"})
		if strings.Contains(out, "jarlid demo") {
			t.Errorf("with a job to resume the demo is offered:\n%s", out)
		}
		l.standin("dunlin")
		l.want(0, nil, job...)
		if out := l.want(0, nil); strings.Contains(out, "was interrupted") {
			t.Errorf("%s; unwanted: strings.Contains(out, 'broke off')", out)
		}
		l.want(3, []string{"stop"}, "recovery", "install", files.Package)
		if out := l.want(0, nil); strings.Contains(out, "was interrupted") {
			t.Errorf("a job that was stopped before it began did not break off:\n%s", out)
		}
	})
}

// TestDamagedTexts: what a person writes or edits, with the mistakes made there: each is told with
// its place and in words that are no library's, which holds for all that is told.
func TestDamagedTexts(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		l.standin("dunlin")
		kept, card := filepath.Join(l.dir, "kept"), filepath.Join(l.dir, "card.json")
		l.want(0, nil, "recovery", "install", files.Recovery, "--yes")
		l.want(0, nil, "go", "recovery", "--yes")
		l.want(0, nil, "backup", "take", "boot", "-o", kept)
		l.want(0, nil, "card", "--save", card)
		broken := map[string]string{"": "", "a list without its end": "a: [\n", "two colons": "a: b: c\n",
			"a tab":        "a:\n\t- b\n",
			"a number":     "7\n",
			"a list":       "- a\n",
			"no such name": "adress: x\n",
			"twice":        "a: 1\na: 2\n",
			"no text":      "\x00\x01",
			"an alias":     "a: *b\n",
			"a quotation":  "a: \"b\n",
			"JSON":         "{\"form\": 3",
			"of another type": "{\"form\": [], \"phones\": 3, \"model\": {}, \"items\": x, \"sheet\": [], " +
				"\"tasks\": 1}"}
		for _, c := range []struct {
			file string
			args []string
			may  []int // what else than 1
		}{
			// an empty list is one
			{filepath.Join(l.home, "bench.yaml"), []string{"card", "--on", "dunlin"}, []int{4}},
			{filepath.Join(l.home, "models", "mine.yaml"), []string{"card", "--on", "dunlin"}, nil},
			{card, []string{"flash", files.Recovery, "--card", card}, []int{2}},
			{filepath.Join(kept, backup.Name), []string{"backup", "restore", "boot", "-o", kept, "--yes"},
				[]int{2, 3}},
			{filepath.Join(l.dir, "one.yaml"), []string{"sheet", "check", filepath.Join(l.dir, "one.yaml")},
				[]int{2}},
			{filepath.Join(l.dir, "mine.yaml"), []string{"standin", "run", filepath.Join(l.dir, "mine.yaml"),
				"--at", filepath.Join(l.dir, "mine")}, []int{2}},
		} {
			whole, err := os.ReadFile(c.file)
			for name, text := range broken {
				if err := os.MkdirAll(filepath.Dir(c.file), 0o755); err != nil {
					t.Fatalf("os.MkdirAll(filepath.Dir(c.file), 0o755): %v", err)
				}
				write(l, c.file, []byte(text))
				if code, out := l.run(c.args...); code != 1 && !slices.Contains(c.may, code) ||
					!strings.Contains(out, "fail  ") && !strings.Contains(out, "stop  ") {
					t.Errorf("%s with %s: %d\n%s", filepath.Base(c.file), name, code, out)
				} else {
					t.Logf("%s with %s: %s", filepath.Base(c.file), name, out)
				}
			}
			if err != nil {
				os.Remove(c.file)
			} else {
				write(l, c.file, whole)
			}
		}
		l.want(0, nil, "card", "--on", "dunlin")
	})
}

// TestIdentFolder: a folder is what is in it; what is damaged comes last, goes nowhere, and is in no next
// command.
func TestIdentFolder(t *testing.T) {
	inLab(t, func(t *testing.T, l *lab) {
		dir := filepath.Join(l.dir, "folder")
		if err := os.Mkdir(dir, 0o755); err != nil {
			t.Fatalf("os.Mkdir(%q): %v", dir, err)
		}
		rec := must(os.ReadFile(files.Recovery))
		write(l, filepath.Join(dir, "a.img"), rec[:len(rec)/2])
		write(l, filepath.Join(dir, "b.img"), rec)
		out := l.want(6, []string{"1 of 2 files are damaged", "next  jarlid recovery install"}, "ident", dir)
		if strings.Index(out, "a.img") < strings.Index(out, "b.img") || strings.Contains(out, "good  a.img") {
			t.Errorf("the damaged file is not last, or called good:\n%s", out)
		}
	})
}
