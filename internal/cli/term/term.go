// Package term is what a person or a script sees of a run: lines with their words, tables,
// progress, questions, and the same as JSON.
package term

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
	xterm "golang.org/x/term"

	"jarlid/internal/core/finding"
	"jarlid/internal/core/image"
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
}

// Term is where a run is shown. It implements say.Observer; several phones may use it at
// the same time, each a Term of its own on the same screen.
type Term struct {
	*screen
	phone    string // whose lines these are; "" where there is one phone
	lastLine time.Time
}

// screen is what several phones share.
type screen struct {
	w        io.Writer
	in       *bufio.Reader
	json     bool
	colour   bool
	cursor   bool // it can be moved: TERM is not dumb
	live     bool // a terminal: progress on one line
	typed    bool // answers are typed at a terminal, which shows them
	attended bool
	width    int

	mu      sync.Mutex // over everything below, and over w
	bars    *mpb.Progress
	bar     *mpb.Bar
	nowMu   sync.Mutex // over now alone: the bars read it at any time
	now     say.Progress
	tray    *tray         // a row a phone; nil for none
	asking  bool          // a question is open: lines wait until it is answered
	waiting []string      // those lines
	turn    chan struct{} // one question at a time
}

// New makes one.
func New(o Options) *Term {
	t := &Term{screen: &screen{w: o.Out, in: bufio.NewReader(o.In), json: o.JSON, width: 100, turn: make(chan struct{}, 1)}}
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
	f, ok := o.Out.(*os.File)
	if !ok || o.JSON || !xterm.IsTerminal(int(f.Fd())) {
		return t
	}
	t.live = true
	t.cursor = env("TERM") != "dumb"
	t.colour = env("NO_COLOR") == "" && env("TERM") != "dumb"
	if n, _, err := xterm.GetSize(int(f.Fd())); err == nil && n > 20 {
		t.width = n
	}
	return t
}

// Of is the same screen for the lines of one of several phones, which name it.
func (t *Term) Of(phone string) *Term { return &Term{screen: t.screen, phone: phone} }

// JSON tells whether the run is shown as JSON.
func (t *Term) JSON() bool { return t.json }

// Attended tells whether a person is there.
func (t *Term) Attended() bool { return t.attended }

// Live tells whether it is shown on a terminal.
func (t *Term) Live() bool { return t.live }

// colours repeat what the words say: calm for work, clear for ends. They are the
// terminal's own (ECMA-48, SGR 31 to 36).
var colours = map[say.Word]string{
	say.Good: "32", say.Done: "32", say.Warn: "33", say.Lose: "33", say.Hand: "36", say.Todo: "36", say.Asks: "36", say.Stop: "31", say.Fail: "31", say.Next: "34",
}

func (t *Term) paint(code, text string) string {
	if !t.colour || code == "" {
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

func (t *Term) line(w say.Word, text string) {
	if !t.shows(w) {
		return
	}
	t.endBar()
	if t.phone != "" && !strings.HasPrefix(text, t.phone) {
		text = t.phone + ": " + text
	}
	for i, part := range wrap(text, t.width-len(indent), t.live) {
		if i == 0 {
			t.print(t.paint(colours[w], string(w)) + "  " + part)
		} else {
			t.print(indent + part)
		}
	}
}

// Say tells a sentence about a phone, "" for none.
func (t *Term) Say(phone string, w say.Word, format string, args ...any) {
	t.Tell(say.Event{Phone: phone, Word: w, Text: fmt.Sprintf(format, args...)})
}

// Plain writes a line without a word, in text alone.
func (t *Term) Plain(text string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if !t.json {
		t.endBar()
		t.print(text)
	}
}

// print writes a line: above the rows of a tray, and behind a question that is open.
func (t *Term) print(text string) {
	switch {
	case t.asking:
		t.waiting = append(t.waiting, text)
	case t.tray != nil && t.bars != nil:
		_, _ = t.bars.Write([]byte(text + "\n")) // it fails once the rows have ended, with the run
	default:
		fmt.Fprintln(t.w, text)
	}
}

// Wrap breaks a text at blanks into lines of at most width.
func Wrap(text string, width int) []string { return wrap(text, width, true) }

// Width is how wide the terminal is that w goes to, 80 where it is none.
func Width(w io.Writer) int {
	if f, ok := w.(*os.File); ok {
		if n, _, err := xterm.GetSize(int(f.Fd())); err == nil && n >= 40 {
			return n
		}
	}
	return 80
}

// wrap breaks a text at blanks. On a pipe a line stays whole, for scripts.
func wrap(text string, width int, live bool) []string {
	text = strings.Map(printable, text)
	if !live || len([]rune(text)) <= width {
		return []string{text}
	}
	var lines []string
	cur := ""
	for _, word := range strings.Split(text, " ") {
		if cur != "" && len([]rune(cur))+1+len([]rune(word)) > width {
			lines = append(lines, cur)
			cur = word
			continue
		}
		if cur != "" {
			cur += " "
		}
		cur += word
	}
	return append(lines, cur)
}

// printable keeps what a phone or a file says from moving the cursor.
func printable(r rune) rune {
	if r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0 {
		return ' '
	}
	return r
}

// Event writes one line of JSON: the fields of v behind the event's name. v is a struct, or
// nil. In text it writes nothing.
func (t *Term) Event(name, phone string, v any) {
	if !t.json {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.event(name, phone, v)
}

func (t *Term) event(name, phone string, v any) {
	head, err := json.Marshal(struct {
		Event string `json:"event"`
		Phone string `json:"phone,omitempty"`
	}{name, phone})
	body := []byte("{}")
	if err == nil && v != nil {
		body, err = json.Marshal(v)
	}
	if err != nil {
		fmt.Fprintf(t.w, "{\"event\":\"error\",\"error\":%q}\n", err.Error())
		return
	}
	fmt.Fprintf(t.w, "%s\n", joined(head, body))
}

// joined puts the fields of JSON objects into one.
func joined(objects ...[]byte) []byte {
	out := []byte("{")
	for _, o := range objects {
		inner := o[1 : len(o)-1]
		if len(inner) == 0 {
			continue
		}
		if len(out) > 1 {
			out = append(out, ',')
		}
		out = append(out, inner...)
	}
	return append(out, '}')
}

// Result writes the last line of JSON: the command's typed result and how it ended.
func (t *Term) Result(result, ending any) {
	t.mu.Lock()
	defer t.mu.Unlock()
	body, err := []byte("{}"), error(nil)
	if result != nil {
		body, err = json.Marshal(result)
	}
	end, eerr := json.Marshal(ending)
	if err != nil || eerr != nil || body[0] != '{' {
		t.event("result", "", ending)
		return
	}
	t.event("result", "", json.RawMessage(joined(end, body)))
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
		t.event("say", e.Phone, struct {
			Word say.Word `json:"word"`
			Text string   `json:"text"`
		}{e.Word, e.Text})
	default:
		t.line(e.Word, e.Text)
	}
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

const (
	// everyLine is how often progress is told on a pipe, and everyEvent in JSON.
	everyLine  = 5 * time.Second
	everyEvent = time.Second
	redraw     = 120 * time.Millisecond
)

func (t *Term) work(phone string, p say.Progress) {
	now := time.Now()
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
	if !t.live {
		switch {
		case p.End && p.Done == 0 && p.Total > 0: // nothing came of it, and why is said by an error
		case p.End || !t.lastLine.IsZero() && now.Sub(t.lastLine) >= everyLine:
			t.lastLine = now
			t.line(p.Word, progressText(p))
		case t.lastLine.IsZero() || p.Done == 0:
			t.lastLine = now
		}
		return
	}
	if t.tray != nil || t.asking {
		return
	}
	t.nowMu.Lock()
	t.now = p
	t.nowMu.Unlock()
	if t.bar == nil && !p.End {
		t.bars = mpb.New(mpb.WithOutput(t.w), mpb.WithWidth(t.width), mpb.WithRefreshRate(redraw))
		t.bar = t.bars.New(0, mpb.NopStyle(), mpb.BarFillerTrim(), mpb.PrependDecorators(decor.Any(func(decor.Statistics) string {
			t.nowMu.Lock()
			defer t.nowMu.Unlock()
			return string(t.now.Word) + "  " + progressText(t.now)
		})))
	}
	if p.End {
		t.endBar()
	}
}

// EndBar ends a bar that is drawn.
func (t *Term) EndBar() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.endBar()
}

func (t *Term) endBar() {
	if t.bar == nil || t.tray != nil {
		return
	}
	t.bar.SetTotal(-1, true)
	t.bars.Wait()
	t.bar, t.bars = nil, nil
}

func progressText(p say.Progress) string {
	parts := []string{p.What}
	if p.Note != "" && !p.End {
		parts[0] = p.Note // the line above says of what
	}
	if p.Total > 0 {
		parts = append(parts, image.SizeOf(p.Done, p.Total))
	} else if p.Done > 0 {
		parts = append(parts, image.Size(p.Done))
	}
	if p.Rate > 0 {
		parts = append(parts, image.Size(p.Rate)+"/s")
	}
	if !p.End && p.Left > 0 {
		parts = append(parts, Clock(p.Left)+" left")
	}
	if p.Whole > 0 && !p.End {
		parts = append(parts, image.SizeOf(p.Distinct, p.Whole)+" seen")
	}
	return strings.Join(parts, "   ")
}

// Clock writes a duration as 1:02 or 1:02:03.
func Clock(d time.Duration) string {
	s := int(d.Round(time.Second).Seconds())
	if s >= 3600 {
		return fmt.Sprintf("%d:%02d:%02d", s/3600, s/60%60, s%60)
	}
	return fmt.Sprintf("%d:%02d", s/60, s%60)
}

// Ask implements say.Observer. What others tell meanwhile is shown when it was answered.
func (t *Term) Ask(q say.Question) (int, error) {
	t.turn <- struct{}{}
	defer func() { <-t.turn }()
	t.mu.Lock()
	if t.phone != "" && !t.json && !strings.Contains(q.Text, t.phone) {
		q.Text = t.phone + ": " + q.Text
	}
	if t.json {
		event := "question"
		if len(q.Options) > 0 {
			event = "choice"
		}
		t.event(event, q.Phone, struct {
			Text    string   `json:"text"`
			Options []string `json:"options,omitempty"`
		}{q.Text, q.Options})
	} else {
		t.fold()
		t.endBar()
	}
	if !t.json && len(q.Options) > 0 {
		for i, part := range wrap(q.Text, t.width-len(indent), t.live) {
			head := t.paint(colours[say.Asks], string(say.Asks)) + "  "
			if i > 0 {
				head = indent
			}
			fmt.Fprintln(t.w, head+part)
		}
		for i, s := range q.Options {
			fmt.Fprintf(t.w, "%s%d  %s\n", indent, i+1, strings.Map(printable, s))
		}
	}
	t.asking = !t.json
	t.mu.Unlock()
	n, err := t.answered(q)
	t.mu.Lock()
	defer t.mu.Unlock()
	t.asking = false
	waited := t.waiting
	t.waiting = nil
	t.unfold()
	for _, text := range waited {
		t.print(text)
	}
	return n, err
}

// answered reads answers until one counts.
func (t *Term) answered(q say.Question) (int, error) {
	if len(q.Options) == 0 {
		if !t.json {
			fmt.Fprintf(t.w, "%s  %s [y/N] ", t.paint(colours[say.Asks], string(say.Asks)), strings.Map(printable, q.Text))
		}
		text, err := t.answer()
		if err != nil {
			return 0, err
		}
		switch strings.ToLower(text) {
		case "y", "yes":
			return say.Yes, nil
		}
		return say.No, nil
	}
	for {
		if !t.json {
			fmt.Fprintf(t.w, "%s  Its number: ", t.paint(colours[say.Asks], string(say.Asks)))
		}
		text, err := t.answer()
		if err != nil {
			return 0, err
		}
		if n, err := strconv.Atoi(text); err == nil && n >= 1 && n <= len(q.Options) {
			return n - 1, nil
		}
	}
}

// answer reads a line; say.ErrNobody where nobody types any.
func (t *Term) answer() (string, error) {
	var text string
	err := io.EOF
	if t.attended {
		text, err = t.in.ReadString('\n')
	}
	if err == nil || text != "" {
		if !t.typed && !t.json {
			fmt.Fprintln(t.w)
		}
		return strings.TrimSpace(text), nil
	}
	if !t.json {
		fmt.Fprintln(t.w)
	}
	return "", say.ErrNobody
}

func (t *Term) hands(phone string, h say.Hands) {
	r := h.Recipe
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
			s += fmt.Sprintf(" (waiting %s)", Clock(h.Wait))
		}
		t.line(say.Hand, s)
	}
	if r.Hint != "" {
		t.line(say.Note, r.Hint)
	}
	if t.live {
		fmt.Fprint(t.w, "\a")
	}
}

// Redraw begins the screen anew on a terminal.
func (t *Term) Redraw() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.live {
		fmt.Fprint(t.w, "\x1b[H\x1b[2J")
	}
}

// tableGap is the blanks between two columns.
const tableGap = 3

// Table prints rows under a heading line, columns aligned. On a terminal the last
// column is broken at blanks so that the table fits; on a pipe rows stay whole. In JSON it
// prints nothing.
func (t *Term) Table(heading []string, rows [][]string) {
	if t.json {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.tray != nil && t.phone != "" {
		return // its rows say what there is to know
	}
	t.endBar()
	all := append([][]string{heading}, rows...)
	widths := make([]int, len(heading))
	for _, r := range all {
		for i := range r {
			if r[i] = strings.Map(printable, r[i]); r[i] == "" {
				r[i] = "-"
			}
			widths[i] = max(widths[i], len([]rune(r[i])))
		}
	}
	last := len(heading) - 1
	before := 0
	for _, w := range widths[:last] {
		before += w + tableGap
	}
	const least = 16 // a narrower last column is not readable
	for n, r := range all {
		var line strings.Builder
		for i, cell := range r[:last] {
			line.WriteString(cell + strings.Repeat(" ", widths[i]-len([]rune(cell))+tableGap))
		}
		for i, part := range wrap(r[last], max(t.width-before, least), t.live) {
			if i > 0 {
				line.WriteString("\n" + strings.Repeat(" ", before))
			}
			line.WriteString(part)
		}
		text := line.String()
		if n == 0 {
			text = t.paint("1", text)
		}
		if t.phone != "" {
			text = t.phone + "   " + text
		}
		t.print(text)
	}
}
