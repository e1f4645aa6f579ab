package term

import (
	"bytes"
	"encoding/json"
	"errors"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
	"jarlid/internal/say"
)

// shown gives what a run prints. On a pipe, or on a terminal of so many columns.
func shown(columns int, typed string, do func(t *Term)) string {
	var out bytes.Buffer
	attended := typed != ""
	t := New(Options{Out: &out, In: strings.NewReader(typed), Attended: &attended, Columns: columns,
		Env: func(name string) string {
			return map[string]string{"NO_COLOR": "1"}[name]
		}})
	do(t)
	return out.String()
}

// TestLines: every line begins with its word of four letters; on a terminal long ones go on
// below the text and none is wider than the window; on a pipe each stays whole.
func TestLines(t *testing.T) {
	for _, w := range say.Words {
		if len(w) != 4 {
			t.Errorf("%q has not four letters", w)
		}
	}
	long := "the bootloader of this phone can't be read back, so what it writes is taken on its word; that " +
		"is said each time, since it is no small matter"
	if got := shown(0, "", func(t *Term) { t.Line(say.Warn, long) }); got != "warn  "+long+"\n" {
		t.Errorf("on a pipe: %q", got)
	}
	for _, columns := range []int{40, 80, 120} {
		got := shown(columns, "", func(t *Term) { t.Line(say.Warn, long) })
		lines := strings.Split(strings.TrimSuffix(got, "\n"), "\n")
		var text []string
		for i, s := range lines {
			head := "warn  "
			if i > 0 {
				head = "      "
			}
			if !strings.HasPrefix(s, head) || len([]rune(s)) > columns {
				t.Errorf("at %d columns: %q", columns, s)
			}
			text = append(text, strings.TrimPrefix(s, head))
		}
		if strings.Join(text, " ") != long {
			t.Errorf("at %d columns words are lost:\n%s", columns, got)
		}
	}
}

// TestNothingMovesTheCursor: what a file, a phone or a question says can't leave its line.
func TestNothingMovesTheCursor(t *testing.T) {
	evil := "name\x1b[2J\r\n\x07\u009b31mred\x7f"
	for what, do := range map[string]func(t *Term){
		"a line": func(t *Term) { t.Line(say.Info, evil) },
		"a finding": func(t *Term) {
			t.Tell(say.Event{Finding: &finding.Finding{Name: "x", Severity: finding.Stop, Text: evil,
				Remedy: evil}})
		},
		"a table":    func(t *Term) { t.Table([]string{"A", "B"}, [][]string{{evil, evil}}) },
		"a question": func(t *Term) { t.Ask(say.Question{Text: evil}) },
		"a choice":   func(t *Term) { t.Ask(say.Question{Text: evil, Options: []string{evil, "b"}}) },
		"hands": func(t *Term) {
			t.Tell(say.Event{Hands: &say.Hands{Recipe: model.Recipe{Do: []string{evil}, Hint: evil}}})
		},
		"progress": func(t *Term) {
			t.Tell(say.Event{Progress: &say.Progress{Word: say.Send, What: evil, Done: 1, End: true}})
		},
	} {
		for _, columns := range []int{0, 80} {
			if what == "progress" && columns > 0 {
				continue // the bars clean up behind themselves with sequences of their own
			}
			got := shown(columns, "1\n", do)
			if columns > 0 {
				got = strings.ReplaceAll(got, "\a", "") // the bell for hands
			}
			if strings.ContainsAny(got, "\x1b\r\x07\x7f\u009b") {
				t.Errorf("%s at %d columns: %q", what, columns, got)
			}
		}
	}
}

// TestAsk: an answer is y or yes; nothing typed is no; nobody there is an error, and nothing
// is read then.
func TestAsk(t *testing.T) {
	for typed, want := range map[string]int{
		"y\n":   say.Yes,
		"YES\n": say.Yes,
		"yes":   say.Yes,
		"\n":    say.No,
		"n\n":   say.No,
		"ja\n":  say.No,
		"yy\n":  say.No,
	} {
		out := shown(0, typed, func(tm *Term) {
			if got, err := tm.Ask(say.Question{Text: "Write it?"}); got != want || err != nil {
				t.Errorf("%q is %d, %v", typed, got, err)
			}
		})
		if !strings.HasPrefix(out, "asks  Write it? [y/N] ") || !strings.HasSuffix(out, "\n") {
			t.Errorf("%q; unwanted: !strings.HasPrefix(out, 'asks Write it? [y/N] ') || ...", out)
		}
	}
	var out bytes.Buffer
	nobody := false
	tm := New(Options{Out: &out, In: strings.NewReader("y\n"), Attended: &nobody})
	if _, err := tm.Ask(say.Question{Text: "Write it?"}); !errors.Is(err, say.ErrNobody) {
		t.Errorf("nobody answered: %v", err)
	}
	// A number that is none of the choices is asked for again.
	shown(0, "7\nx\n\n2\n", func(tm *Term) {
		if got, err := tm.Ask(say.Question{Text: "Which?", Options: []string{"a", "b"}}); got != 1 ||
			err != nil {
			t.Errorf("tm.Ask(...): %d, %v; unwanted: got != 1 || err != nil", got, err)
		}
	})
	shown(0, "7\n", func(tm *Term) {
		if _, err := tm.Ask(say.Question{Text: "Which?", Options: []string{"a", "b"}}); !errors.Is(err,
			say.ErrNobody) {
			t.Errorf("the end of what is typed: %v", err)
		}
	})
}

// TestTable: columns are under their headings and under the text of other lines, an empty cell is
// a dash, and on a terminal the widest column is broken so that the table fits.
func TestTable(t *testing.T) {
	rows := func() [][]string {
		return [][]string{{"userdata", "erased", "all apps, accounts, settings and files go; the next " +
			"system starts as new"}, {"system", "", "what is installed stays"}}
	}
	heading := []string{"AREA", "IS", "WHAT IT MEANS"}
	want := "      AREA       IS       WHAT IT MEANS\n" +
		"      userdata   erased   all apps, accounts, settings and files go; the next system starts " +
		"as new\n" +
		"      system     -        what is installed stays\n"
	if got := shown(0, "", func(t *Term) { t.Table(heading, rows()) }); got != want {
		t.Errorf("%s, want %v", got, want)
	}
	for _, columns := range []int{60, 80, 120} {
		got := shown(columns, "", func(t *Term) { t.Table(heading, rows()) })
		for line := range strings.Lines(got) {
			if n := len([]rune(strings.TrimRight(line, "\n"))); n > columns {
				t.Errorf("%d columns in %d: %q", n, columns, line)
			}
		}
		if words := strings.Fields(got); !strings.Contains(strings.Join(words, " "), "starts as new") {
			t.Errorf("words are lost:\n%s", got)
		}
	}
}

// TestJSON: each line is an object with its event, whatever was told and by how many at the
// same time; the result is the last one, with its own fields and those of the end.
func TestJSON(t *testing.T) {
	var out bytes.Buffer
	tm := New(Options{Out: &out, In: strings.NewReader(""), JSON: true})
	var all sync.WaitGroup
	for _, phone := range []string{"dunlin", "godwit", "avocet"} {
		all.Go(func() {
			to := say.To{Observer: tm, Phone: phone}
			for range 50 {
				to.Say(say.Info, "line\nand \"quotes\"")
				to.Found(finding.Finding{Name: finding.SlotEmpty, Severity: finding.Warn, Text: "x"})
				to.Step(1, 2, "write it", say.Begin)
				to.Work(say.Progress{Word: say.Send, What: "boot_a", Done: 1, Total: 2, End: true})
				to.Hands(model.Recipe{Do: []string{"press"}}, time.Second)
				to.Confirm("Write it?")
				to.Choose("Which?", []string{"a", "b"})
			}
		})
	}
	all.Wait()
	tm.Result(struct {
		Slot *string `json:"slot"`
	}{}, struct {
		OK bool `json:"ok"`
	}{true})
	tm.Result(nil, struct {
		OK bool `json:"ok"`
	}{false})
	count := map[string]int{}
	var last string
	for line := range strings.Lines(out.String()) {
		var e struct{ Event, Phone string }
		if err := json.Unmarshal([]byte(line), &e); err != nil || e.Event == "" {
			t.Fatalf("json.Unmarshal([]byte(line), &e): %q: %v; unwanted: err != nil || e.Event == ''", line,
				err)
		}
		if e.Event != "result" && e.Phone == "" {
			t.Errorf("it does not say which phone: %q", line)
		}
		count[e.Event]++
		if e.Event == "result" && last == "" {
			last = line
		}
	}
	for _, event := range []string{"say", "finding", "step", "progress", "hands", "question", "choice"} {
		if count[event] != 150 {
			t.Errorf("%d lines of %s", count[event], event)
		}
	}
	if last != `{"event":"result","ok":true,"slot":null}`+"\n" {
		t.Errorf("the result is %s", last)
	}
}

// TestProgressOnAPipe: a line every few seconds, and one at the end of each piece of work.
func TestProgressOnAPipe(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		out := shown(0, "", func(tm *Term) {
			m := say.NewMeter(say.To{Observer: tm}, say.Send, "boot_a", 100<<20)
			for n := range int64(100) {
				time.Sleep(250 * time.Millisecond) // 25 seconds in all
				m.Set(n << 20)
			}
			m.Set(100 << 20)
			m.End()
			m.End()
			none := say.NewMeter(say.To{Observer: tm}, say.Read, "vbmeta_a", 64<<10)
			none.End()
		})
		lines := strings.Split(strings.TrimSpace(out), "\n")
		if len(lines) < 4 || len(lines) > 7 {
			t.Errorf("%d lines:\n%s", len(lines), out)
		}
		if last := lines[len(lines)-1]; !strings.HasPrefix(last, "send  boot_a   100.0 MiB   4.0 MiB/s") {
			t.Errorf("it ends with %q", last)
		}
		if strings.Contains(out, "vbmeta_a") {
			t.Errorf("work that did not begin is shown:\n%s", out)
		}
	})
}

// TestTrayRows: a row is one line that begins with its word, is no wider than the window, and says
// which phone is at which task, how far it is, and whether it waits for a person.
func TestTrayRows(t *testing.T) {
	send := say.Progress{Word: say.Send, What: "recovery_a", Done: 7 << 20, Total: 14 << 20, Rate: 40 << 20}
	for _, c := range []struct {
		r    row
		want string
	}{
		{row{phone: "d1"}, "wait  d1           is next"},
		{row{phone: "d1", n: 2, of: 7, title: "sideload rom"}, "wait  d1  2 of 7   sideload rom"},
		{row{phone: "d1", n: 1, of: 7, title: "flash", now: send},
			"send  d1  1 of 7   recovery_a  ▪▪▪▪▪▪······  7.0 of 14.0 MiB  40.0 MiB/s"},
		{row{phone: "d1", n: 3, of: 7, title: "go recovery", hand: true},
			"hand  d1  3 of 7   go recovery: somebody at the phone"},
		{row{phone: "d1", n: 7, of: 7, end: "all 7 tasks done", good: true},
			"done  d1  7 of 7   all 7 tasks done"},
		{row{phone: "d1", n: 4, of: 7, end: "the phone was lost"}, "fail  d1  4 of 7   the phone was lost"},
	} {
		if got := c.r.text(2, 100); got != c.want {
			t.Errorf("%q, want %q", got, c.want)
		}
		for _, columns := range []int{30, 40, 80} {
			if got := c.r.text(2, columns); len([]rune(got)) > columns ||
				!strings.HasPrefix(c.want, strings.TrimSuffix(got, "…")) {
				t.Errorf("at %d columns: %q", columns, got)
			}
		}
	}
}

// TestSeveralPhones: on a pipe each line names its phone, also those that are told while a question
// is open, which come behind it; a line that begins with the name has it once.
func TestSeveralPhones(t *testing.T) {
	got := shown(0, "y\n", func(t *Term) {
		a, b := t.Of("d1"), t.Of("d2")
		a.Say("d1", say.Info, "ready")
		b.Say("d2", say.Info, "d2 is here")
		a.Table([]string{"X"}, [][]string{{"1"}})
		t.asking = true
		b.Say("d2", say.Warn, "meanwhile")
		t.asking = false
		n, err := a.Ask(say.Question{Phone: "d1", Text: "Go on?"})
		if n != say.Yes || err != nil {
			a.Say("d1", say.Fail, "%d %v", n, err)
		}
	})
	want := "info  d1: ready\ninfo  d2 is here\n      d1   X\n      d1   1\nasks  d1: Go on? [y/N] \nwarn  " +
		"d2: meanwhile\n"
	if got != want {
		t.Errorf("%q, want %q", got, want)
	}
}

// TestShownColumns: text is measured by the columns it takes, the widest column gives way first,
// words are broken last, and where the screen is narrow the columns that are said to are in a
// line of their own, with their names.
func TestShownColumns(t *testing.T) {
	head := []string{"PARTITION", "DIGEST", "BECAUSE"}
	rows := func() [][]string {
		return [][]string{
			{"boot_a", strings.Repeat("0123456789abcdef", 4),
				"what is in it says so, and nothing speaks against it"},
			{"鸟_a", "é", "鸟鸟鸟鸟"},
			{"Part two"},
			{"x", "y", "z"},
		}
	}
	for _, columns := range []int{60, 80, 99, 120} {
		got := shown(columns, "", func(t *Term) { t.Show(Table{Head: head, Rows: rows(), Second: 2}) })
		if strings.Contains(got, "BECAUSE") != (columns >= 100) ||
			strings.Contains(got, "because: what is in it") == (columns >= 100) {
			t.Errorf("at %d columns:\n%s", columns, got)
		}
		for line := range strings.Lines(got) {
			if n := wide(strings.TrimRight(line, "\n")); n > columns || !strings.HasPrefix(line, "      ") {
				t.Errorf("%d columns in %d: %q", n, columns, line)
			}
		}
		if !strings.Contains(got, "\n      Part two\n") ||
			!strings.Contains(strings.NewReplacer("\n", "", " ", "").Replace(got), "0123456789abcdef") {
			t.Errorf("at %d columns:\n%s", columns, got)
		}
	}
	// "鸟" takes two columns each: x is in the same column behind both.
	got := shown(80, "", func(t *Term) {
		t.Table([]string{"A", "B"}, [][]string{{"鸟鸟", "x"}, {"abcd", "x"}, {"e\u0301", "x"}})
	})
	if want := "      A      B\n      鸟鸟   x\n      abcd   x\n      e\u0301      x\n"; got != want {
		t.Errorf("%q, want %q", got, want)
	}
}

// drawn is what a terminal with a cursor gets.
func drawn(env map[string]string, do func(t *Term)) string {
	var out bytes.Buffer
	do(New(Options{Out: &out, In: strings.NewReader(""), Columns: 80, Env: func(name string) string {
		return env[name]
	}}))
	return out.String()
}

// TestCursorCodes: pipes, NO_COLOR and a dumb terminal get text alone, whatever is told; others get
// colours, one line that is drawn over the one before, and a title that is taken back.
func TestCursorCodes(t *testing.T) {
	everything := func(tm *Term) {
		defer tm.EndBar()
		defer tm.Watch()()
		tm.Redraw()
		tm.Line(say.Stop, "it does not fit")
		tm.Table([]string{"X"}, [][]string{{"good"}})
		tm.Line(say.Wait, "restarting")
		time.Sleep(3 * time.Second)
		m := say.NewMeter(say.To{Observer: tm, Phone: "dunlin"}, say.Send, "boot_a", 100<<20)
		for n := range int64(20) {
			m.Set(n * 5 << 20)
			time.Sleep(time.Second)
		}
		m.End()
		tm.Tell(say.Event{Hands: &say.Hands{Recipe: model.Recipe{Do: []string{"press"}}}})
		defer tm.Tray([]string{"d1"})()
	}
	synctest.Test(t, func(t *testing.T) {
		for _, env := range []map[string]string{{"TERM": "dumb"}, {"TERM": "xterm", "NO_COLOR": "1"}} {
			if got := drawn(env, everything); strings.ContainsAny(got, "\x1b\r\a") ||
				!strings.Contains(got, "restarting\n") {
				t.Errorf("%v: %q; unwanted: strings.ContainsAny(got, '\\x1b\\r\\a') || "+
					"!strings.Contains(got, ...", env, got)
			}
		}
		if got := shown(0, "", everything); strings.ContainsAny(got, "\x1b\r\a") {
			t.Errorf("on a pipe: %q", got)
		}
		got := drawn(map[string]string{"TERM": "xterm-256color"}, everything)
		for _, want := range []string{"\x1b[31mstop\x1b[0m", "\x1b[1mX\x1b[0m", saveTitle, restoreTitle,
			"0:02", "50 %", "\a", alternate, primary, "▪▪▪▪▪▪▪▪········"} {
			if !strings.Contains(got, want) {
				t.Errorf("a terminal gets no %q: %q", want, got)
			}
		}
		if strings.Contains(got, "\x1b]9;") || strings.Count(got, saveTitle) != strings.Count(got,
			restoreTitle) {
			t.Errorf("%q; unwanted: strings.Contains(got, '\\x1b]9;') || strings.Count(got, ...", got)
		}
		// No frame is cleared before it is drawn: what comes behind going up is text, but for the
		// tray's, which goes off the screen.
		for _, frame := range strings.Split(got, "\x1b[1A")[1:] {
			if frame != eraseBelow+primary+restoreTitle && strings.HasPrefix(frame, eraseBelow) ||
				strings.HasPrefix(frame, eraseRight) {
				t.Errorf("a frame is blank first: %q", frame[:min(len(frame), 60)])
			}
		}
		if got := drawn(map[string]string{"WT_SESSION": "1"}, everything); !strings.Contains(got,
			"\x1b]9;4;1;50\x1b\\") || !strings.Contains(got, "\x1b]9;4;0;0") {
			t.Errorf("the taskbar: %q", got)
		}
	})
}

// TestEnds: an end stands behind an empty line, once; finished pieces of one kind are one line; a
// quiet run tells findings, hands and the end alone.
func TestEnds(t *testing.T) {
	tell := func(tm *Term) {
		to := say.To{Observer: tm}
		tm.Line(say.Info, "looked at")
		for _, name := range []string{"a.img", "b.img"} {
			m := say.NewPiece(to, say.Read, "unwrapped", "unwrapping "+name, 5<<20)
			m.Set(5 << 20)
			m.End()
		}
		to.Found(finding.Finding{Name: "x", Severity: finding.Warn, Text: "odd", Remedy: "look"})
		tm.Line(say.Done, "one")
		tm.Line(say.Done, "two")
		tm.Line(say.Next, "jarlid")
	}
	if got, want := shown(0, "", tell), "info  looked at\nread  unwrapped 2 files, 10.0 MiB\nwarn  x: "+
		"odd\ntodo  look\n\ndone  one\ndone  two\nnext  jarlid\n"; got != want {
		t.Errorf("%q, want %v", got, want)
	}
	var out bytes.Buffer
	tell(New(Options{Out: &out, In: strings.NewReader(""), Quiet: true}))
	if got, want := out.String(), "warn  x: odd\ntodo  look\n\ndone  one\ndone  two\nnext  "+
		"jarlid\n"; got != want {
		t.Errorf("quiet: %q", got)
	}
}

// TestShortDigests: a digest is short where a person reads it, and whole in a file's name, in what is
// typed, with --details, and where it was asked for.
func TestShortDigests(t *testing.T) {
	const sum = "6c5ac23e701b69dee1c297acfd35c74e195c0122e3109de5ee2d053e0c7e8595"
	for text, want := range map[string]string{
		"SHA-256 " + sum:               "SHA-256 6c5ac23e701b69de…",
		sum + ", the descriptor says.": "6c5ac23e701b69de…, the descriptor says.",
		"it is (" + sum + ").":         "it is (6c5ac23e701b69de…).",
		"kept in x/" + sum + ".img":    "kept in x/" + sum + ".img",
		"da39a3ee":                     "da39a3ee",
		"x-" + sum:                     "x-" + sum,
	} {
		if got := shortDigests(text); got != want {
			t.Errorf("%q: %q, want %v", text, got, want)
		}
	}
	got := shown(0, "", func(t *Term) {
		t.Line(say.Info, sum)
		t.Line(say.Next, sum)
		t.Whole(say.Info, sum)
		t.Table([]string{"X"}, [][]string{{sum}})
	})
	if want := "info  6c5ac23e701b69de…\nnext  " + sum + "\ninfo  " + sum +
		"\n      X\n      6c5ac23e701b69de…\n"; got != want {
		t.Errorf("%q, want %v", got, want)
	}
}

// TestPiecesOfOne: on a terminal too finished pieces of one kind are one line, and it is of the
// phone whose they are, whoever speaks next.
func TestPiecesOfOne(t *testing.T) {
	got := drawn(map[string]string{"TERM": "xterm"}, func(tm *Term) {
		a, b := tm.Of("d1"), tm.Of("d2")
		for range 2 {
			m := say.NewPiece(say.To{Observer: a}, say.Read, "digested", "recovery.img", 5<<20)
			m.Set(5 << 20)
			m.End()
		}
		b.Line(say.Info, "is here")
		tm.EndBar()
	})
	if !strings.Contains(got, "d1: digested 2 files, 10.0 MiB\n") ||
		!strings.Contains(got, "info  d2: is here\n") || strings.Contains(got, "d2: digested") {
		t.Errorf("%q; unwanted: !strings.Contains(got, 'd1: digested 2 files, 10.0 MiB\\n') || ...", got)
	}
}
