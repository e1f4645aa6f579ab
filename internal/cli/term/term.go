// Package term is what a person or a script sees of a run: lines with their words, tables,
// progress, questions, and the same as JSON.
package term

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	xterm "golang.org/x/term"

	"jarlid/internal/core/finding"
	"jarlid/internal/say"
)

// Options say how a run is shown.
type Options struct {
	Out  io.Writer
	In   io.Reader
	JSON bool
	Env  func(string) string // the environment; nil: the process's
	// Attended says that a person types the answers; nil: when In is a terminal.
	Attended *bool
	// Columns is the width of the terminal that Out is; 0: what the system says of Out.
	Columns int
	// Asked is called when something is to be done at a phone; nil: nobody waits for that.
	Asked func()
	// Cancel is closed when the person wishes to stop: an open question ends with that.
	Cancel  <-chan struct{}
	Quiet   bool // only findings, what is to be done at the phone, questions and the end
	Details bool // what else is folded is told at length
}

// Term is where a run is shown. It implements say.Observer; several phones may use it at
// the same time, each a Term of its own on the same screen.
type Term struct {
	*screen
	phone    string // whose lines these are; "" where there is one phone
	lastLine time.Time
}

// whole lets no two writes into each other: the bars are drawn by a goroutine of their own, and the
// title is told meanwhile.
type whole struct {
	mu sync.Mutex
	w  io.Writer
}

// Write writes b in one piece.
func (w *whole) Write(b []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.w.Write(b)
}

// screen is what several phones share.
type screen struct {
	w        io.Writer
	in       *bufio.Reader
	json     bool
	quiet    bool
	details  bool
	live     bool // a terminal: lines are fitted to its width
	cursor   bool // a terminal that is told more than text: colours, lines that are redrawn
	typed    bool // answers are typed at a terminal, which shows them
	attended bool
	asked    func()
	cancel   <-chan struct{}
	width    int

	mu      sync.Mutex // over everything below, and over w
	bar     *bar
	steady  *steady
	nowMu   sync.Mutex   // over what is drawn alone: it is read at any time
	names   atomic.Int32 // how wide the names of work were so far; read by who draws
	pieces  gathering
	window  window
	typedAt time.Time     // when somebody last typed something: at the start, or an answer
	began   bool          // something was written
	blank   bool          // the last line is empty, or an end
	tray    *tray         // a row a phone; nil for none
	asking  bool          // a question is open: lines wait until it is answered
	waiting []string      // those lines
	turn    chan struct{} // one question at a time
}

// New makes one.
func New(o Options) *Term {
	t := &Term{screen: &screen{w: &whole{w: o.Out}, in: bufio.NewReader(o.In), json: o.JSON, asked: o.Asked,
		cancel:  o.Cancel,
		quiet:   o.Quiet,
		details: o.Details,
		width:   100,
		turn:    make(chan struct{}, 1),
		typedAt: time.Now()}}
	env := o.Env
	if env == nil {
		env = os.Getenv
	}
	if f, ok := o.In.(*os.File); ok {
		t.typed = xterm.IsTerminal(int(f.Fd()))
	}
	t.attended = t.typed
	if o.Attended != nil {
		t.attended = *o.Attended
	}
	if o.Columns == 0 {
		o.Columns = Columns(o.Out)
	}
	if o.JSON || o.Columns == 0 {
		return t
	}
	t.live, t.width = true, o.Columns
	t.cursor = env("TERM") != "dumb" && env("NO_COLOR") == ""
	t.window = windowOf(env)
	return t
}

// Of is the same screen for the lines of one of several phones, which name it.
func (t *Term) Of(phone string) *Term { return &Term{screen: t.screen, phone: phone} }

// JSON reports whether the run is shown as JSON.
func (t *Term) JSON() bool { return t.json }

// Attended reports whether a person is there.
func (t *Term) Attended() bool { return t.attended }

// Drawn reports whether lines are redrawn: then nothing may be written beside them.
func (t *Term) Drawn() bool { return t.cursor && !t.json }

// Details reports whether what is folded else is told at length.
func (t *Term) Details() bool { return t.details }

// Quiet reports whether only findings, hands, questions and the end are shown.
func (t *Term) Quiet() bool { return t.quiet }

// colours repeat what the words say: calm for work, clear for ends. They are the
// terminal's own (ECMA-48, SGR 31 to 36).
var colours = map[say.Word]string{
	say.Good: "32",
	say.Done: "32",
	say.Warn: "33",
	say.Lose: "33",
	say.Hand: "36",
	say.Todo: "36",
	say.Asks: "36",
	say.Stop: "31",
	say.Fail: "31",
	say.Next: "34",
}

func (t *Term) paint(code, text string) string {
	if !t.cursor || code == "" {
		return text
	}
	return "\x1b[" + code + "m" + text + "\x1b[0m"
}

const indent = "      " // below the text, so that the left column stays one of words

// Line writes one line that begins with its word. Long ones go on below the text.
func (t *Term) Line(w say.Word, text string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.line(w, text)
}

// Whole is Line for a text whose digest is what was asked for.
func (t *Term) Whole(w say.Word, text string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.json {
		t.event("say", "", eventLine{w, text})
		return
	}
	t.write(w, text)
}

func (t *Term) line(w say.Word, text string) {
	if !t.details && w != say.Next && w != say.Todo { // what is typed stays whole
		text = shortDigests(text)
	}
	t.write(w, text)
}

func (t *Term) write(w say.Word, text string) {
	if !t.shows(w) {
		return
	}
	t.flush()
	t.endBar()
	end := w == say.Done || w == say.Fail
	if end && t.phone == "" && t.began && !t.blank {
		t.print("")
	}
	if w == say.Wait && t.waits(text) {
		return
	}
	if t.phone != "" && !strings.HasPrefix(text, t.phone) {
		text = t.phone + ": " + text
	}
	for i, part := range t.parts(text) {
		if i == 0 {
			t.print(t.paint(colours[w], string(w)) + "  " + part)
		} else {
			t.print(indent + part)
		}
	}
	t.blank = end
}

// parts is a text in lines that fit; on a pipe it stays whole, for scripts.
func (t *Term) parts(text string) []string {
	if !t.live {
		return []string{strings.Map(printable, text)}
	}
	return Wrap(text, t.width-len(indent))
}

// Say tells a sentence about a phone, "" for none.
func (t *Term) Say(phone string, w say.Word, format string, args ...any) {
	t.Tell(say.Event{Phone: phone, Word: w, Text: say.Text(format, args...)})
}

// Prose writes a paragraph without a word, in text alone, with what stands before its first line.
func (t *Term) Prose(head, text string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.json {
		return
	}
	t.flush()
	t.endBar()
	text = strings.Map(printable, text)
	parts := []string{text}
	if t.live {
		parts = Wrap(text, min(t.width, mostProse)-len(indent))
	}
	for i, part := range parts {
		if i > 0 {
			head = ""
		}
		part = padded(head, len(indent)) + part
		t.print(t.paint("1", part))
	}
}

// mostProse is how wide prose is at most: longer lines are hard to read.
const mostProse = 100

// Plain writes a line without a word, in text alone.
func (t *Term) Plain(text string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if !t.json {
		t.flush()
		t.endBar()
		t.print(text)
	}
}

// print writes a line: above the rows of a tray, and behind a question that is open.
func (t *Term) print(text string) {
	t.began, t.blank = true, text == ""
	switch {
	case t.asking:
		t.waiting = append(t.waiting, text)
	case t.tray != nil && t.tray.bars != nil:
		_, _ = t.tray.bars.Write([]byte(text + "\n")) // it fails once the rows have ended, with the run
	default:
		fmt.Fprintln(t.w, text)
	}
}

// Tell implements say.Observer.
func (t *Term) Tell(e say.Event) {
	t.mu.Lock()
	defer t.mu.Unlock()
	switch {
	case e.Finding != nil:
		t.found(e.Phone, *e.Finding)
	case e.Step != nil:
		if t.json {
			t.event("step", e.Phone, struct {
				Step  int       `json:"step"`
				Of    int       `json:"of"`
				Title string    `json:"title"`
				State say.State `json:"state"`
			}{e.Step.N, e.Step.Of, e.Step.Title, e.Step.State})
		} // in text the lines of the step itself say enough
	case e.Progress != nil:
		t.work(e.Phone, *e.Progress)
	case e.Hands != nil:
		t.hands(e.Phone, *e.Hands)
	case t.json:
		t.event("say", e.Phone, eventLine{e.Word, e.Text})
	default:
		t.line(e.Word, e.Text)
	}
}

// eventLine is a sentence in JSON.
type eventLine struct {
	Word say.Word `json:"word"`
	Text string   `json:"text"`
}

func (t *Term) found(phone string, f finding.Finding) {
	if t.json {
		t.event("finding", phone, struct {
			Finding finding.Finding `json:"finding"`
		}{f})
		return
	}
	text := f.Name + ": " + f.Text
	if f.Accepted {
		text += " (accepted)"
	}
	t.line(say.Word(f.Severity), text)
	if f.Remedy != "" && !f.Accepted {
		t.line(say.Todo, f.Remedy)
	}
}

func (t *Term) hands(phone string, h say.Hands) {
	r := h.Recipe
	if t.asked != nil {
		t.asked()
	}
	if t.json {
		t.event("hands", phone, struct {
			Do   []string `json:"do"`
			Wait int      `json:"wait_seconds"`
			Hint string   `json:"hint"`
		}{r.Do, int(h.Wait.Seconds()), r.Hint})
		return
	}
	for i, s := range r.Do {
		if i == len(r.Do)-1 {
			s += fmt.Sprintf(" (waiting %s)", clockWords(h.Wait))
		}
		t.line(say.Hand, s)
	}
	if r.Hint != "" {
		t.line(say.Note, r.Hint)
	}
	t.ring()
}
