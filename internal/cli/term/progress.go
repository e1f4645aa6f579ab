package term

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"jarlid/internal/core/image"
	"jarlid/internal/say"
)

const (
	// everyLine is how often progress is told on a pipe, and everyEvent in JSON.
	everyLine  = 5 * time.Second
	everyEvent = time.Second
	redraw     = 120 * time.Millisecond
	// leastLeft is the least time left that is worth saying, and leastWait the least wait whose
	// time is shown.
	leastLeft = 2 * time.Second
	leastWait = 2 * time.Second
)

// bar is one line that is redrawn until its work has ended.
type bar struct {
	bars  *mpb.Progress
	bar   *mpb.Bar
	now   say.Progress // under nowMu: it is drawn at any time
	since time.Time    // of a wait
	over  bool
}

// steady lets a frame be drawn over the one before: each line is cleared behind its own text, and
// what stands below it at the end, so that nothing is blank in between.
type steady struct {
	to   io.Writer
	mu   sync.Mutex
	owed bool // the library has cleared a frame in a write of its own, as it does on Windows
}

// eraseBelow and eraseRight are ECMA-48 ED 0 and EL 0: clear to the end of the screen and of the
// line.
const (
	eraseBelow = "\x1b[J"
	eraseRight = "\x1b[K"
)

// Write writes a frame of the library, which clears all of it first.
func (s *steady) Write(frame []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := bytes.Replace(frame, []byte(eraseBelow), nil, 1)
	s.owed = bytes.HasSuffix(frame, []byte(eraseBelow))
	if !s.owed {
		out = append(bytes.ReplaceAll(out, []byte("\n"), []byte(eraseRight+"\n")), eraseBelow...)
	}
	if _, err := s.to.Write(out); err != nil {
		return 0, err
	}
	return len(frame), nil
}

// end clears what was to be cleared when no frame came behind.
func (s *steady) end() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.owed {
		_, _ = s.to.Write([]byte(eraseBelow)) // who reads it is gone, or reads it
	}
	s.owed = false
}

// drawn makes what lines are redrawn with.
func (t *Term) drawn() *mpb.Progress {
	t.steady = &steady{to: t.w}
	return mpb.New(mpb.WithOutput(t.steady), mpb.WithWidth(t.width), mpb.WithRefreshRate(redraw),
		mpb.WithAutoRefresh())
}

// drawnLine adds a line that is redrawn with what text gives.
func drawnLine(bars *mpb.Progress, text func() string, more ...mpb.BarOption) *mpb.Bar {
	return bars.New(0, mpb.NopStyle(), append(more, mpb.BarFillerTrim(),
		mpb.PrependDecorators(decor.Any(func(decor.Statistics) string {
			return text()
		})))...)
}

func (t *Term) work(phone string, p say.Progress) {
	now := time.Now()
	p.What, p.Note = strings.Map(printable, p.What), strings.Map(printable, p.Note)
	if t.tray != nil && !t.json {
		t.row(phone, func(r *row) { r.now = p })
	}
	if t.json {
		if p.End || now.Sub(t.lastLine) >= everyEvent {
			t.lastLine = now
			t.event("progress", phone, p)
		}
		return
	}
	if t.quiet {
		return
	}
	if p.Kind == "" { // those that are told as one are in no column
		t.names.Store(int32(min(max(int(t.names.Load()), wide(p.What), leastName), mostName)))
	}
	if !t.cursor {
		switch {
		case p.End && p.Done == 0 && p.Total > 0: // nothing came of it, and why is said by an error
		case p.End && p.Kind != "":
			t.gathered(p)
		case p.End || !t.lastLine.IsZero() && now.Sub(t.lastLine) >= everyLine:
			t.lastLine = now
			t.line(p.Word, t.progressText(p))
		case t.lastLine.IsZero() || p.Done == 0:
			t.lastLine = now
		}
		return
	}
	if t.tray != nil || t.asking {
		return
	}
	if p.End && p.Kind != "" && p.Done > 0 {
		t.dropBar()
		t.gathered(p)
		return
	}
	if t.bar == nil && !p.End || t.bar != nil && !t.bar.since.IsZero() {
		t.startBar(p, time.Time{})
	}
	t.title(phone, p)
	if t.bar != nil {
		t.nowMu.Lock()
		t.bar.now = p
		t.nowMu.Unlock()
	}
	if p.End {
		t.endBar()
	}
}

// startBar begins a line that is redrawn. since is when a wait began.
func (t *Term) startBar(p say.Progress, since time.Time) {
	if p.Kind == "" || p.Kind != t.pieces.last.Kind {
		t.flush()
	}
	t.endBar()
	b := &bar{bars: t.drawn(), now: p, since: since}
	b.bar = drawnLine(b.bars, func() string {
		t.nowMu.Lock()
		defer t.nowMu.Unlock()
		return t.barText(b)
	})
	t.bar, t.began = b, true
}

// barText is a bar's line as it is now.
func (t *Term) barText(b *bar) string {
	word := t.paint(colours[b.now.Word], string(b.now.Word)) + "  "
	if b.since.IsZero() {
		return word + short(t.progressText(b.now), t.width-len(indent))
	}
	text := b.now.What
	if d := time.Since(b.since); d >= leastWait && !b.over {
		text += "   " + clockWords(d)
	}
	return word + text
}

// waits shows how long something lasts that is only waited for, until the next line. It tells
// whether it does: a long text stands as it is.
func (t *Term) waits(text string) bool {
	if !t.cursor || t.tray != nil || t.asking || wide(text) > t.width-len(indent)-len("   0:00:00") {
		return false
	}
	p := say.Progress{Word: say.Wait, What: strings.Map(printable, text)}
	t.startBar(p, time.Now())
	t.title(t.phone, p)
	return true
}

// EndBar ends a line that is redrawn.
func (t *Term) EndBar() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.flush()
	t.endBar()
	t.untitled()
}

func (t *Term) endBar() {
	b := t.bar
	if b == nil || t.tray != nil {
		return
	}
	t.nowMu.Lock()
	b.over = true
	t.nowMu.Unlock()
	b.bar.SetTotal(-1, true)
	b.bars.Wait()
	t.steady.end()
	t.bar = nil
}

// dropBar ends a line that is redrawn and takes it off the screen.
func (t *Term) dropBar() {
	b := t.bar
	if b == nil || t.tray != nil {
		return
	}
	b.bar.Abort(true)
	b.bars.Wait()
	t.steady.end()
	t.bar = nil
}

// gathering is finished pieces of one kind, which are one line in the end.
type gathering struct {
	by    *Term // whose they are
	last  say.Progress
	n     int
	bytes int64
}

// gathered counts a finished piece among those of its kind.
func (t *Term) gathered(p say.Progress) {
	if t.pieces.last.Kind != p.Kind {
		t.flush()
	}
	t.pieces.by, t.pieces.last = t, p
	t.pieces.n++
	t.pieces.bytes += p.Done
}

// flush tells what was gathered.
func (t *Term) flush() {
	g := t.pieces
	t.pieces = gathering{}
	switch {
	case g.n == 1:
		g.by.line(g.last.Word, t.progressText(g.last))
	case g.n > 1:
		g.by.line(g.last.Word, fmt.Sprintf("%s %d files, %s", g.last.Kind, g.n, image.Size(g.bytes)))
	}
}

const (
	barWide             = 16
	trayBar             = 12
	barFull             = "▪"
	barEmpty            = "·"
	leastName, mostName = 16, 28 // names within are aligned: those of most partitions
	sizeWide            = 9      // "123.4 MiB"
)

// drawnBar is so much of a whole as a bar of so many characters.
func drawnBar(done, total int64, columns int) string {
	full := min(max(int(float64(done)/float64(total)*float64(columns)), 0), columns)
	return strings.Repeat(barFull, full) + strings.Repeat(barEmpty, columns-full)
}

// honest reports whether a bar and a percentage say the truth: not of a package, which the phone
// reads more than once and leaves off where it likes.
func honest(p say.Progress) bool { return p.Total > 0 && p.Whole == 0 }

func (t *Term) progressText(p say.Progress) string {
	name := p.What
	if p.Note != "" && !p.End {
		name = p.Note // the line above says of what
	}
	aligned := func(text string, columns int) string {
		if !t.live { // a script cuts it at its blanks
			return text
		}
		return padded(text, columns)
	}
	parts := []string{aligned(name, int(t.names.Load()))}
	if honest(p) && !p.End && t.cursor {
		parts = append(parts, drawnBar(p.Done, p.Total, barWide), fmt.Sprintf("%3d %%", percent(p)))
	}
	switch {
	case p.End && p.Done >= p.Total && p.Done > 0:
		parts = append(parts, aligned(image.Size(p.Done), sizeWide))
	case p.Total > 0:
		parts = append(parts, image.SizeOf(p.Done, p.Total))
	case p.Done > 0:
		parts = append(parts, image.Size(p.Done))
	}
	if p.Rate > 0 {
		parts = append(parts, image.Size(p.Rate)+"/s")
	}
	if !p.End && p.Left >= leastLeft && honest(p) {
		parts = append(parts, clockWords(p.Left)+" left")
	}
	if p.Whole > 0 && !p.End {
		parts = append(parts, image.SizeOf(p.Distinct, p.Whole)+" seen")
	}
	return strings.TrimRight(strings.Join(parts, "   "), " ")
}

func percent(p say.Progress) int {
	return min(max(int(float64(p.Done)/float64(p.Total)*100), 0), 100)
}

// clockWords writes a duration as 1:02 or 1:02:03.
func clockWords(d time.Duration) string {
	s := int(d.Round(time.Second).Seconds())
	if s >= 3600 {
		return fmt.Sprintf("%d:%02d:%02d", s/3600, s/60%60, s%60)
	}
	return fmt.Sprintf("%d:%02d", s/60, s%60)
}
