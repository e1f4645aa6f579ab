package journal

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"jarlid/internal/core/card"
)

// job writes a whole journal with these records behind its begin.
func job(t *testing.T, home, phone, serial string, records ...Record) *Writer {
	t.Helper()
	w, err := Create(home, phone, nil)
	if err != nil {
		t.Fatalf("Create(home, phone): %v", err)
	}
	defer w.Close()
	for _, r := range append([]Record{{Event: Begin, Phone: phone, Serial: serial}}, records...) {
		if err := w.Write(r); err != nil {
			t.Fatalf("w.Write(r): %v", err)
		}
	}
	return w
}

func read(v string) card.Fact { return card.Fact{Value: v, Source: card.Read} }

var (
	recoveryA = card.FactDigest.Of(card.At("recovery", "a"))
	recoveryB = card.FactDigest.Of(card.At("recovery", "b"))
	data      = card.FactData.ID()
)

// TestRecall: what journals say is known, except what an act that was interrupted
// was writing; the serial number tells phones of one name apart.
func TestRecall(t *testing.T) {
	home := t.TempDir()
	first := job(t, home, "dunlin", "7", Record{Event: Act, Title: "one", Touches: IDs{recoveryA}},
		Record{Event: Done, Facts: Facts{recoveryA: read("aa"), recoveryB: read("bb"),
			data: read("encrypted")}}, Record{Event: End})
	job(t, home, "dunlin", "8", Record{Event: Act, Title: "other phone"},
		Record{Event: Done, Facts: Facts{data: read("plain")}})
	job(t, home, "dunlin", "7", Record{Event: Act, Title: "write recovery_b", Touches: IDs{recoveryB}})
	who := Who{Name: "dunlin", Serial: "7"}
	c, damaged, err := Recall(home, who)
	if err != nil || len(damaged) != 0 {
		t.Fatalf("Recall(home, who): got %v, %v", damaged, err)
	}
	if f := c.Get(recoveryA); f.Value != "aa" || f.Source != card.Journal || f.At.IsZero() ||
		f.Job != first.Number {
		t.Errorf("what was done: %+v", f)
	}
	if f := c.Get(recoveryB); f.Known() || f.Why != "a job broke off while it did this: write recovery_b" {
		t.Errorf("what broke off: %+v", f)
	}
	if f := c.Get(data); f.Value != "encrypted" {
		t.Errorf("another phone's journal counts: %q", f.Value)
	}
	// A journal whose last line was cut by a crash is read as far as it goes.
	f, err := os.OpenFile(filepath.Join(first.Dir, fileName), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatalf("os.OpenFile(filepath.Join(first.Dir, fileName), os.O_APPEND|os.O_WRONLY, 0): %v", err)
	}
	f.WriteString(`{"event":"done","facts":{"da`)
	f.Close()
	if c, damaged, err := Recall(home, who); err != nil || len(damaged) != 0 ||
		c.Get(data).Value != "encrypted" {
		t.Errorf("a cut line: %v, %v", damaged, err)
	}
}

// TestBrokenOff: what is left of a job that was interrupted: all of it, or without what is in already.
func TestBrokenOff(t *testing.T) {
	step := func(kind, key string, value any) StepData {
		return StepData{Kind: kind, Title: kind, With: map[string]any{key: value}}
	}
	file := func(kind, path string) StepData { return step(kind, "file", map[string]any{"path": path}) }
	steps := Steps{step("restart", "to", "sideload"), file("sideload", "rom.zip"),
		step("restart", "to", "bootloader"), file("write", "tideline.img"),
		file("write", "tideline.img"), step("restart", "to", "recovery"), file("sideload", "x/extra.zip"),
		step("restart", "to", "recovery")}
	const all = "jarlid sideload rom.zip x/extra.zip --recovery-after tideline.img"
	for n, c := range []struct{ command, then, behind string }{
		{all, "", "rom.zip x/extra.zip"},
		{all, "", "x/extra.zip"},
		{"jarlid recovery install tideline.img", "x/extra.zip", "x/extra.zip"},
		{"jarlid recovery install tideline.img", "x/extra.zip", "x/extra.zip"},
		{"jarlid recovery install tideline.img", "x/extra.zip", "x/extra.zip"},
		{"jarlid go recovery", "x/extra.zip", "x/extra.zip"}, // onto the slot where the ROM landed, and then
		{"jarlid sideload x/extra.zip", "", ""},
		{"jarlid go recovery", "", ""},
	} {
		home := t.TempDir()
		w, err := Create(home, "dunlin", nil)
		if err != nil {
			t.Fatalf("Create(home, 'dunlin'): %v", err)
		}
		for _, r := range []Record{{Event: Begin, Phone: "dunlin", Serial: "7", Command: strings.Fields(all),
			Steps: steps}, {Event: Act, Step: n + 1, Title: steps[n].Title}} {
			if err := w.Write(r); err != nil {
				t.Fatalf("w.Write(r): %v", err)
			}
		}
		w.Close()
		b, err := BrokenOff(home, Who{Name: "dunlin", Serial: "7"})
		if err != nil || b == nil || b.Kind != steps[n].Kind || strings.Join(b.Command, " ") != c.command ||
			strings.Join(b.Then, " ") != c.then || strings.Join(b.Behind, " ") != c.behind {
			t.Errorf("step %d: %+v, %v", n+1, b, err)
			continue
		}
		if landed := map[int]string{1: "jarlid recovery install tideline.img, x/extra.zip",
			6: "jarlid go recovery, "}[n]; landed != "" {
			// The package is in, as the phone says.
			if b.Landed(); strings.Join(b.Command, " ")+", "+strings.Join(b.Then, " ") != landed {
				t.Errorf("step %d, which is done: %+v", n+1, b)
			}
		}
	}
}

// TestNumbersOrder: a clock that goes back does not let an old job speak last, whatever the
// folders' names sort like, and a number is never given twice.
func TestNumbersOrder(t *testing.T) {
	home := t.TempDir()
	for i := range 3 {
		synctest.Test(t, func(t *testing.T) { // each begins in the year 2000 again
			time.Sleep(time.Duration(3-i) * time.Hour)
			job(t, home, "dunlin", "7", Record{Event: Act},
				Record{Event: Done, Facts: Facts{data: read([]string{"plain", "encrypted", "formatted"}[i])}})
		})
	}
	c, _, err := Recall(home, Who{Name: "dunlin", Serial: "7"})
	if err != nil || c.Get(data).Value != "formatted" {
		t.Errorf("Recall(home, ...): %+v, %v; unwanted: err != nil || c.Get(data).Value != 'formatted'",
			c.Get(data), err)
	}
	jobs, err := Jobs(home)
	if err != nil || len(jobs) != 3 {
		t.Fatalf("Jobs(home): got %v, %v", jobs, err)
	}
	if err := os.RemoveAll(jobs[2].Dir); err != nil {
		t.Fatalf("os.RemoveAll(jobs[2].Dir): %v", err)
	}
	if w := job(t, home, "dunlin", "7"); w.Number != 4 {
		t.Errorf("a number whose folder is gone is given again: %d", w.Number)
	}
	// Seven digits come behind six.
	if err := os.WriteFile(filepath.Join(home, "jobs", numberName), []byte("999999\n"), 0o600); err != nil {
		t.Fatalf("os.WriteFile(..., []byte('999999\\n'), 0o600): %v", err)
	}
	job(t, home, "dunlin", "7", Record{Event: Act}, Record{Event: Done, Facts: Facts{data: read("plain")}})
	if c, _, err := Recall(home, Who{Name: "dunlin", Serial: "7"}); err != nil ||
		c.Get(data).Value != "plain" {
		t.Errorf("Recall(home, ...): %+v, %v; unwanted: err != nil || c.Get(data).Value != 'plain'",
			c.Get(data), err)
	}
}

// TestDamage: a line that can't be read, wherever it is but a cut last one, makes that
// phone's facts unknown and is named; other phones go on.
func TestDamage(t *testing.T) {
	done := Record{Event: Done, Facts: Facts{data: read("encrypted")}}
	for name, harm := range map[string]func(lines []string) []string{
		"a line in the middle": func(l []string) []string { l[1] = `{"event":"act","ste`; return l },
		"a last one with its end": func(l []string) []string {
			l[len(l)-1] = "nonsense"
			return append(l, "")
		},
		"a newer form": func(l []string) []string {
			l[0] = strings.Replace(l[0], `"form":3`, `"form":9`, 1)
			return l
		},
		"no form": func(l []string) []string {
			l[0] = strings.Replace(l[0], `"form":3,`, ``, 1)
			return l
		},
		"no begin": func(l []string) []string { return l[1:] },
		"an endless line": func(l []string) []string {
			l[1] = `{"title":"` + strings.Repeat("x", maxLine) + `"}`
			return l
		},
		"a fact unheard of": func(l []string) []string {
			l[2] = strings.Replace(l[2], `"data"`, `"nothing-of-the-kind"`, 1)
			return l
		},
	} {
		t.Run(name, func(t *testing.T) {
			home := t.TempDir()
			job(t, home, "dunlin", "7", Record{Event: Act}, done, Record{Event: End})
			w := job(t, home, "dunlin", "7", Record{Event: Act}, done, Record{Event: End})
			job(t, home, "godwit", "9", Record{Event: Act}, done, Record{Event: End})
			path := filepath.Join(w.Dir, fileName)
			b, err := os.ReadFile(path)
			if err != nil {
				t.Fatalf("os.ReadFile(%v): %v", path, err)
			}
			lines := harm(strings.Split(strings.TrimSpace(string(b)), "\n"))
			if err := os.WriteFile(path, []byte(strings.Join(lines, "\n")), 0o600); err != nil {
				t.Fatalf("os.WriteFile(%v, []byte(strings.Join(lines, '\\n')), 0o600): %v", path, err)
			}
			c, damaged, err := Recall(home, Who{Name: "dunlin", Serial: "7"})
			if err != nil || len(damaged) != 1 || damaged[0].Dir != w.Dir || damaged[0].Line < 1 {
				t.Fatalf("Recall(home, ...): %v, %v", damaged, err)
			}
			if f := c.Get(data); f.Known() || !strings.Contains(f.Why, filepath.Base(w.Dir)) {
				t.Errorf("Recall(home, ...): %+v; unwanted: f.Known() || !strings.Contains(f.Why, "+
					"filepath.Base(w.Dir))", f)
			}
			if c, damaged, err := Recall(home, Who{Name: "godwit", Serial: "9"}); err != nil ||
				len(damaged) != 0 || c.Get(data).Value != "encrypted" {
				t.Errorf("another phone: %+v, %v, %v", c.Get(data), damaged, err)
			}
		})
	}
}

// fullDisk takes so many bytes, and then nothing more.
type fullDisk struct {
	room  int
	wrote bytes.Buffer
}

var errFull = errors.New("no space left on device")

func (d *fullDisk) Write(b []byte) (int, error) {
	n := min(len(b), d.room-d.wrote.Len())
	d.wrote.Write(b[:n])
	if n < len(b) {
		return n, errFull
	}
	return n, nil
}
func (*fullDisk) Sync() error  { return nil }
func (*fullDisk) Close() error { return nil }

// TestWriteError: what can't be written is an error that stays, so that nothing is done
// which the journal does not know of.
func TestWriteError(t *testing.T) {
	disk := &fullDisk{room: 700}
	w, err := Create(t.TempDir(), "dunlin", func(string) (Sink, error) { return disk, nil })
	if err != nil {
		t.Fatalf("Create(t.TempDir(), 'dunlin', ...): %v", err)
	}
	for n := range 20 {
		err = w.Write(Record{Event: Act, Title: strings.Repeat("x", 100)})
		if err != nil {
			if n == 0 {
				t.Fatalf("w.Write(...): %v", err)
			}
			break
		}
	}
	var we *WriteError
	if !errors.As(err, &we) || !errors.Is(err, errFull) || we.Dir != w.Dir {
		t.Fatalf("Create(t.TempDir(), 'dunlin', ...): %v", err)
	}
	disk.room = 1 << 20 // somebody made room: there is a hole in the journal all the same
	if again := w.Write(Record{Event: End}); again != err || w.Err() != err {
		t.Errorf("it goes on behind a hole: %v", again)
	}
}

// TestBeginSaysVersions: every journal names the program and the form it was written in.
func TestBeginSaysVersions(t *testing.T) {
	w := job(t, t.TempDir(), "dunlin", "7")
	b, err := os.ReadFile(filepath.Join(w.Dir, fileName))
	if err != nil {
		t.Fatalf("os.ReadFile(filepath.Join(w.Dir, fileName)): %v", err)
	}
	var r struct {
		Form, Number int
		Program      string
	}
	if err := json.Unmarshal(bytes.TrimSpace(b), &r); err != nil || r.Form != Form || r.Number != 1 ||
		r.Program != Version() || r.Program == "" {
		t.Errorf("json.Unmarshal(bytes.TrimSpace(b), &r): %s: %v", b, err)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"event":"begin","form":3}` + "\n" +
		`{"event":"done","facts":{"digest:boot_a":{"value":"x"}}}` + "\n"))
	f.Add([]byte(`{"event":"begin","form":3,"steps":[{"kind":"write"}]}` + "\n" +
		`{"event":"act","touches":["digest:boot_a"]}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		home := t.TempDir()
		dir := filepath.Join(home, "jobs", "000001-x")
		if err := os.MkdirAll(dir, 0o700); err != nil {
			t.Fatalf("os.MkdirAll(%v, 0o700): %v", dir, err)
		}
		if err := os.WriteFile(filepath.Join(dir, fileName), b, 0o600); err != nil {
			t.Fatalf("os.WriteFile(filepath.Join(dir, fileName), b, 0o600): %v", err)
		}
		if _, _, err := Recall(home, Who{Name: "x"}); err != nil {
			t.Errorf("a journal that can't be read keeps every phone from working: %v", err)
		}
	})
}
