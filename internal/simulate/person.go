package main

import (
	"io"
	"strings"
	"sync"
)

// person answers what is asked: yes; of several phones it is the first; what a screen shows is not told by
// one who does not look.
type person struct {
	looks func() string // gives the number of what the screen shows; nil: does not look
	mu    sync.Mutex
	asks  string // the question whose answers are being listed
}

// hears takes a line of what a program says.
func (p *person) hears(line string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case strings.HasPrefix(line, " "): // one of the answers
	case strings.HasPrefix(line, "asks  ") && !strings.HasPrefix(line, "asks  Its number"):
		p.asks = line
	default:
		p.asks = ""
	}
}

// Read gives one answer.
func (p *person) Read(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case p.asks == "":
		return copy(b, "y\n"), nil
	case strings.Contains(p.asks, "Which of these is "):
		return copy(b, "1\n"), nil
	case p.looks != nil && strings.Contains(p.asks, "What does its screen show?"):
		return copy(b, p.looks()+"\n"), nil
	case p.looks != nil && strings.Contains(p.asks, "What does the phone's screen say?"):
		return copy(b, "4\n"), nil // something that is not in the list
	}
	return 0, io.EOF
}
