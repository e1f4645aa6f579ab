package term

import (
	"fmt"
	"slices"
	"strings"

	"github.com/vbauerster/mpb/v8"

	"jarlid/internal/core/image"
	"jarlid/internal/say"
)

// tray is a table that is redrawn: a row a phone. On a pipe and in JSON there is none, and each
// line names its phone.
type tray struct {
	rows  []*row
	bars  *mpb.Progress // nil while the rows are not drawn
	lines []*mpb.Bar
}

// row is one phone, as it is shown.
type row struct {
	phone string
	n, of int    // task
	title string // of the task
	now   say.Progress
	hand  bool
	end   string // how it ended; "" while it is under way
	good  bool
}

// loud are the words that are above a tray's rows; the rest is in the rows.
var loud = []say.Word{say.Warn, say.Stop, say.Todo, say.Hand, say.Asks, say.Lose, say.Fail, say.Next}

// kept are the words that --quiet leaves.
var kept = append([]say.Word{say.Note, say.Open, say.Done}, loud...)

// shows reports whether a line is shown: above a tray, and in a quiet run, only what matters is.
func (t *Term) shows(w say.Word) bool {
	if t.quiet && !slices.Contains(kept, w) {
		return false
	}
	return t.tray == nil || t.phone == "" || slices.Contains(loud, w)
}

// Tray begins to show a row a phone, until the returned function is called.
func (t *Term) Tray(phones []string) (end func()) {
	if !t.Drawn() {
		return func() {}
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.flush()
	t.endBar()
	t.tray = &tray{}
	for _, p := range phones {
		t.tray.rows = append(t.tray.rows, &row{phone: p})
	}
	t.unfold()
	return func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.fold()
		t.tray = nil
	}
}

// unfold draws the rows.
func (t *Term) unfold() {
	if t.tray == nil || t.tray.bars != nil {
		return
	}
	t.tray.bars = t.drawn()
	names := 0
	for _, r := range t.tray.rows {
		names = max(names, wide(r.phone))
	}
	for _, r := range t.tray.rows {
		t.tray.lines = append(t.tray.lines, drawnLine(t.tray.bars, func() string {
			t.nowMu.Lock()
			defer t.nowMu.Unlock()
			return t.painted(r.text(names, t.width))
		}, mpb.BarRemoveOnComplete()))
	}
}

// fold takes the rows off the screen.
func (t *Term) fold() {
	if t.tray == nil || t.tray.bars == nil {
		return
	}
	for _, b := range t.tray.lines {
		b.SetTotal(-1, true)
	}
	t.tray.bars.Wait()
	t.steady.end()
	t.tray.bars, t.tray.lines = nil, nil
}

// painted colours the word a row begins with.
func (t *Term) painted(row string) string {
	word := row[:min(4, len(row))]
	return t.paint(colours[say.Word(word)], word) + row[len(word):]
}

// row changes the row of a phone.
func (t *Term) row(phone string, change func(*row)) {
	if t.tray == nil {
		return
	}
	t.nowMu.Lock()
	defer t.nowMu.Unlock()
	for _, r := range t.tray.rows {
		if r.phone == phone || r.phone == t.phone {
			change(r)
			return
		}
	}
}

// TaskBegins says which task of how many a phone is at.
func (t *Term) TaskBegins(n, of int, title string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.row(t.phone, func(r *row) { r.n, r.of, r.title, r.now, r.hand = n, of, title, say.Progress{}, false })
}

// Ended says how a phone's tasks ended.
func (t *Term) Ended(good bool, how string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.row(t.phone, func(r *row) { r.end, r.good, r.hand, r.now = how, good, false, say.Progress{} })
}

// Waits says whether a phone waits for a person.
func (t *Term) Waits(hand bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.row(t.phone, func(r *row) { r.hand = hand })
}

// text is a row in at most width columns.
func (r *row) text(names, width int) string {
	word := string(say.Wait)
	task, what := "", r.title
	if r.n > 0 {
		task = fmt.Sprintf("%d of %d", r.n, r.of)
	}
	switch {
	case r.end != "":
		word, what = string(say.Fail), r.end
		if r.good {
			word = string(say.Done)
		}
	case r.hand:
		word, what = string(say.Hand), r.title+": somebody at the phone"
	case r.now.What != "" && !r.now.End:
		word, what = string(r.now.Word), r.now.What
		if r.now.Note != "" {
			what = r.now.Note
		}
		switch {
		case honest(r.now):
			what += "  " + drawnBar(r.now.Done, r.now.Total, trayBar) + "  " + image.SizeOf(r.now.Done,
				r.now.Total)
		case r.now.Whole > 0:
			what += "  " + image.SizeOf(r.now.Distinct, r.now.Whole) + " seen"
		}
		if r.now.Rate > 0 {
			what += "  " + image.Size(r.now.Rate) + "/s"
		}
	case r.n == 0:
		what = "is next"
	}
	return short(strings.Map(printable, fmt.Sprintf("%s  %s  %-7s  %s", word, padded(r.phone, names), task,
		what)), width)
}
