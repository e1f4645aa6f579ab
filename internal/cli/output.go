package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
	"golang.org/x/term"

	"jarlid/internal/bench"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/image"
	"jarlid/internal/core/model"
)

// output is what a person or a script sees of a run. It implements
// bench.Observer.
type output struct {
	w      io.Writer
	in     *bufio.Reader
	json   bool
	colour bool
	live   bool // a terminal: progress on one line
	typed  bool // answers are typed at a terminal, which shows them
	width  int

	mu       sync.Mutex
	bars     *mpb.Progress
	bar      *mpb.Bar
	now      bench.Progress
	lastLine time.Time
}

func newOutput(w io.Writer, in io.Reader, asJSON bool) *output {
	o := &output{w: w, in: bufio.NewReader(in), json: asJSON, width: 100}
	if f, ok := in.(*os.File); ok {
		o.typed = term.IsTerminal(int(f.Fd()))
	}
	f, ok := w.(*os.File)
	if !ok || asJSON || !term.IsTerminal(int(f.Fd())) {
		return o
	}
	o.live = true
	o.colour = os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
	if n, _, err := term.GetSize(int(f.Fd())); err == nil && n > 20 {
		o.width = n
	}
	return o
}

// The colours repeat what the words say: calm for work, clear for ends.
var wordStyles = map[bench.Word]lipgloss.Style{
	bench.Good: lipgloss.NewStyle().Foreground(lipgloss.Color("2")),
	bench.Done: lipgloss.NewStyle().Foreground(lipgloss.Color("2")),
	"care":     lipgloss.NewStyle().Foreground(lipgloss.Color("3")),
	bench.Hand: lipgloss.NewStyle().Foreground(lipgloss.Color("6")),
	bench.Need: lipgloss.NewStyle().Foreground(lipgloss.Color("6")),
	bench.Lost: lipgloss.NewStyle().Foreground(lipgloss.Color("3")),
	"stop":     lipgloss.NewStyle().Foreground(lipgloss.Color("1")),
	bench.Fail: lipgloss.NewStyle().Foreground(lipgloss.Color("1")),
	bench.Next: lipgloss.NewStyle().Foreground(lipgloss.Color("4")),
}

// line writes one line that begins with its word. Long ones go on below the
// text, so that the left column stays one of words.
func (o *output) line(w bench.Word, text string) {
	o.endBar()
	word := string(w)
	if s, ok := wordStyles[w]; ok && o.colour {
		word = s.Render(word)
	}
	const indent = "      "
	for i, part := range wrap(text, o.width-len(indent), o.live) {
		if i == 0 {
			fmt.Fprintf(o.w, "%s  %s\n", word, part)
		} else {
			fmt.Fprintf(o.w, "%s%s\n", indent, part)
		}
	}
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

func (o *output) event(name string, fields map[string]any) {
	fields["event"] = name
	b, err := json.Marshal(fields)
	if err != nil {
		b, _ = json.Marshal(map[string]any{"event": "error", "error": err.Error()})
	}
	fmt.Fprintf(o.w, "%s\n", b)
}

// Say implements bench.Observer.
func (o *output) Say(w bench.Word, format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if o.json {
		o.event("say", map[string]any{"word": w, "text": text})
		return
	}
	o.line(w, text)
}

// Found implements bench.Observer.
func (o *output) Found(f finding.Finding) {
	if o.json {
		o.event("finding", map[string]any{"finding": f})
		return
	}
	text := f.Name + ": " + f.Text
	if f.Accepted {
		text += " (accepted)"
	}
	o.line(bench.Word(f.Severity), text)
	if f.Remedy != "" && !f.Accepted {
		o.line(bench.Need, f.Remedy)
	}
}

// Step implements bench.Observer. In text the lines of the step itself say
// enough.
func (o *output) Step(n, of int, title, state string) {
	if o.json {
		o.event("step", map[string]any{"step": n, "of": of, "title": title, "state": state})
	}
}

// everyLine is how often progress is told on a pipe.
const everyLine = 5 * time.Second

// Work implements bench.Observer.
func (o *output) Work(p bench.Progress) {
	t := time.Now()
	if o.json {
		if p.End || t.Sub(o.lastLine) >= time.Second {
			o.lastLine = t
			o.event("progress", map[string]any{"what": p.What, "note": p.Note, "done": p.Done, "total": p.Total, "rate": p.Rate, "distinct": p.Distinct})
		}
		return
	}
	if !o.live {
		if p.End || !o.lastLine.IsZero() && t.Sub(o.lastLine) >= everyLine {
			o.lastLine = t
			o.line(p.Word, progressText(p))
		} else if o.lastLine.IsZero() || p.Done == 0 {
			o.lastLine = t
		}
		return
	}
	o.mu.Lock()
	o.now = p
	o.mu.Unlock()
	if o.bar == nil {
		o.bars = mpb.New(mpb.WithOutput(o.w), mpb.WithWidth(o.width), mpb.WithRefreshRate(120*time.Millisecond))
		o.bar = o.bars.New(0, mpb.NopStyle(), mpb.BarFillerTrim(), mpb.PrependDecorators(decor.Any(func(decor.Statistics) string {
			o.mu.Lock()
			defer o.mu.Unlock()
			return string(o.now.Word) + "  " + progressText(o.now)
		})))
	}
	if p.End {
		o.endBar()
	}
}

func (o *output) endBar() {
	if o.bar == nil {
		return
	}
	o.bar.SetTotal(-1, true)
	o.bars.Wait()
	o.bar, o.bars = nil, nil
}

func progressText(p bench.Progress) string {
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
		parts = append(parts, clock(p.Left)+" left")
	}
	if p.Whole > 0 && !p.End {
		parts = append(parts, image.SizeOf(p.Distinct, p.Whole)+" seen")
	}
	return strings.Join(parts, "   ")
}

func clock(d time.Duration) string {
	s := int(d.Round(time.Second).Seconds())
	if s >= 3600 {
		return fmt.Sprintf("%d:%02d:%02d", s/3600, s/60%60, s%60)
	}
	return fmt.Sprintf("%d:%02d", s/60, s%60)
}

// errNobody says that a question had nobody to answer it.
var errNobody = errors.New("a question was asked and nobody is here to answer it")

// Ask implements bench.Observer.
func (o *output) Ask(question string) (bool, error) {
	if o.json {
		o.event("question", map[string]any{"text": question})
	} else {
		o.endBar()
		fmt.Fprintf(o.w, "%s  %s [y/N] ", bench.Need, question)
	}
	text, err := o.in.ReadString('\n')
	if err != nil && text == "" {
		if !o.json {
			fmt.Fprintln(o.w)
		}
		return false, errNobody
	}
	if !o.typed && !o.json {
		fmt.Fprintln(o.w)
	}
	switch strings.ToLower(strings.TrimSpace(text)) {
	case "y", "yes":
		return true, nil
	}
	return false, nil
}

// Choose implements bench.Observer.
func (o *output) Choose(question string, options []string) (int, error) {
	if o.json {
		o.event("choice", map[string]any{"text": question, "options": options})
	} else {
		o.endBar()
		o.line(bench.Need, question)
		for i, s := range options {
			fmt.Fprintf(o.w, "      %d  %s\n", i+1, s)
		}
	}
	for {
		if !o.json {
			fmt.Fprintf(o.w, "%s  Its number: ", bench.Need)
		}
		text, err := o.in.ReadString('\n')
		if err != nil && text == "" {
			if !o.json {
				fmt.Fprintln(o.w)
			}
			return 0, errNobody
		}
		if !o.typed && !o.json {
			fmt.Fprintln(o.w)
		}
		if n, err := strconv.Atoi(strings.TrimSpace(text)); err == nil && n >= 1 && n <= len(options) {
			return n - 1, nil
		}
	}
}

// Hands implements bench.Observer.
func (o *output) Hands(r model.Recipe, wait time.Duration) {
	if o.json {
		o.event("hands", map[string]any{"do": r.Do, "wait_seconds": int(wait.Seconds()), "hint": r.Hint})
		return
	}
	bell := ""
	if o.live {
		bell = "\a"
	}
	for i, s := range r.Do {
		if i == len(r.Do)-1 {
			s += fmt.Sprintf(" (waiting %s)", clock(wait))
		}
		o.line(bench.Hand, s)
	}
	if r.Hint != "" {
		o.line("note", r.Hint)
	}
	fmt.Fprint(o.w, bell)
}

// tableGap is the blanks between two columns.
const tableGap = 3

// table prints rows under a heading line, columns aligned. On a terminal the last
// column is broken at blanks so that the table fits; on a pipe rows stay whole.
func (o *output) table(heading []string, rows [][]string) {
	o.endBar()
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
	for _, r := range all {
		var line strings.Builder
		for i, cell := range r[:last] {
			line.WriteString(cell + strings.Repeat(" ", widths[i]-len([]rune(cell))+tableGap))
		}
		for i, part := range wrap(r[last], max(o.width-before, least), o.live) {
			if i > 0 {
				line.WriteString("\n" + strings.Repeat(" ", before))
			}
			line.WriteString(part)
		}
		fmt.Fprintln(o.w, line.String())
	}
}
