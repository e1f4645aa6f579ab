package term

import (
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"jarlid/internal/say"
)

// longGone is after what time somebody who typed a command may have left the screen.
const longGone = 10 * time.Second

// Ask implements say.Observer. What others tell meanwhile is shown when it was answered.
func (t *Term) Ask(q say.Question) (int, error) {
	select {
	case t.turn <- struct{}{}:
	case <-t.cancel:
		return 0, say.ErrCancelled
	}
	defer func() { <-t.turn }()
	t.mu.Lock()
	if t.phone != "" && !t.json && !strings.Contains(q.Text, t.phone) {
		q.Text = t.phone + ": " + q.Text
	}
	if t.json {
		event := "question"
		switch {
		case len(q.Options) > 0:
			event = "choice"
		case q.Reply != nil:
			event = "words"
		}
		t.event(event, q.Phone, struct {
			Text    string   `json:"text"`
			Options []string `json:"options,omitempty"`
		}{q.Text, q.Options})
	} else {
		t.fold()
		t.flush()
		t.endBar()
		t.untitled()
		if time.Since(t.typedAt) > longGone {
			t.ring()
		}
	}
	if !t.json && len(q.Options) > 0 {
		for i, part := range t.parts(q.Text) {
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
	t.asking, t.typedAt = false, time.Now()
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
			head := t.paint(colours[say.Asks], string(say.Asks)) + "  "
			choice := " [y/N]"
			if q.Reply != nil {
				choice = ""
			}
			for _, part := range t.parts(q.Text + choice) {
				if head == indent {
					fmt.Fprintln(t.w)
				}
				fmt.Fprint(t.w, head+part)
				head = indent
			}
			fmt.Fprint(t.w, " ")
		}
		text, err := t.answer()
		if err != nil {
			return 0, err
		}
		if q.Reply != nil {
			*q.Reply = text
			return say.Yes, nil
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

// typedLine reads what is typed. A question that is cancelled leaves the reading behind: it ends with the
// program.
func (t *Term) typedLine() (string, error) {
	select {
	case <-t.cancel:
		return "", say.ErrCancelled
	default:
	}
	type typed struct {
		text string
		err  error
	}
	ch := make(chan typed, 1)
	go func() {
		text, err := t.in.ReadString('\n')
		ch <- typed{text, err}
	}()
	select {
	case l := <-ch:
		return l.text, l.err
	case <-t.cancel:
		return "", say.ErrCancelled
	}
}

// answer reads a line; say.ErrNobody where nobody types any.
func (t *Term) answer() (string, error) {
	var text string
	err := io.EOF
	if t.attended {
		text, err = t.typedLine()
	}
	if err == say.ErrCancelled {
		if !t.json {
			fmt.Fprintln(t.w)
		}
		return "", err
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
