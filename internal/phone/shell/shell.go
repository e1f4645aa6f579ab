// Package shell is everything that is asked of a phone's shell: the table of command lines, how they are
// framed, and what their answers mean. No other package holds a command line.
package shell

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"jarlid/internal/link"
	"jarlid/internal/link/adb"
)

// Sender sends a command line to a phone's shell. The phone may be silent for quiet at most.
type Sender interface {
	Shell(ctx context.Context, line string, quiet time.Duration) (adb.Output, error)
	// SplitsStreams reports whether the phone keeps errors apart from answers (shell protocol version 2).
	SplitsStreams() bool
}

// Shell is the shell of one phone.
type Shell struct{ to Sender }

// New gives the shell at the other end of a connection.
func New(to Sender) *Shell { return &Shell{to} }

// Command is one row of the table of commands.
type Command struct {
	Name    string
	Purpose string
	Line    string // as it is sent; $1, $2 and so on are its arguments
	Answer  string // the form of the answer
	Without string // what Jar Lid does where the answer is missing or can't be read
	// Quiet is the longest silence; 0: 20 seconds.
	Quiet time.Duration
	// Changes says that the command changes the phone: its errors are part of the answer.
	Changes bool
}

const (
	quietRead = 20 * time.Second
	// quietLong is for commands that write: formatting and copying are silent for minutes.
	quietLong = 10 * time.Minute
	// quietProbe is how long a shell may take to show that it still answers.
	quietProbe = 5 * time.Second
)

// answer is what a command printed between its marks.
type answer struct {
	out  []byte
	errs string // what it printed as errors; "" where the phone does not keep them apart
	code int    // exit status
}

// text gives the answer without the line breaks at its end.
func (a answer) text() string { return strings.TrimRight(string(a.out), "\n") }

func (a answer) lines() []string { return strings.Split(a.text(), "\n") }

// says gives what explains a failure: the errors, otherwise the answer.
func (a answer) says() string {
	if text := strings.TrimSpace(a.errs); text != "" {
		return text
	}
	if text := strings.TrimSpace(string(a.out)); text != "" {
		return text
	}
	return fmt.Sprintf("exit status %d without a word", a.code)
}

// UnreadError says that a shell's answer is missing or can't be read. The phone is there.
type UnreadError struct {
	Command string // the name of the row
	Said    string // the shell's words, "" for none
}

// Error gives the command and the shell's words.
func (e *UnreadError) Error() string {
	if e.Said == "" {
		return "the phone's shell did not answer (" + e.Command + ")"
	}
	return fmt.Sprintf("the answer of the phone's shell can't be read (%s): %.200s", e.Command, e.Said)
}

// Unknown reports whether an error leaves a fact unknown, and the phone is there: its shell refused or can't
// be read.
func Unknown(err error) bool {
	var unread *UnreadError
	var refused *link.RefusedError
	return errors.As(err, &unread) || errors.As(err, &refused)
}

// Quote quotes a word for a shell.
func Quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// mark is one end of a frame. Its two halves are sent apart, so that a shell that repeats what it was sent
// does not print it.
type mark struct{ a, b string }

func newMark() mark {
	var b [12]byte
	_, _ = rand.Read(b[:]) // never fails (crypto/rand)
	s := hex.EncodeToString(b[:])
	return mark{s[:12], s[12:]}
}

func (m mark) sent() string { return "'" + m.a + "''" + m.b + "'" }

func (m mark) printed() string { return m.a + m.b }

// frame makes the line that is sent: arguments, a mark, the command, another mark with its exit status.
func (c *Command) frame(begin, end mark, split bool, args []string) string {
	var b strings.Builder
	b.WriteString("set --")
	for _, a := range args {
		b.WriteString(" " + Quote(a))
	}
	b.WriteString("; echo " + begin.sent() + "; ")
	errs := ""
	switch {
	case split:
		b.WriteString("echo " + begin.sent() + " >&2; ")
	case c.Changes:
		errs = " 2>&1"
	default:
		errs = " 2>/dev/null"
	}
	b.WriteString("{ " + c.Line + "\n}" + errs + "; c=$?; echo; echo " + end.sent() + " $c")
	return b.String()
}

// ask sends a command and gives what it printed between its marks. Errors: *link.RefusedError of a phone
// without a shell, *UnreadError, *link.LostError.
func (s *Shell) ask(ctx context.Context, c *Command, args ...string) (answer, error) {
	begin, end := newMark(), newMark()
	quiet := c.Quiet
	if quiet == 0 {
		quiet = quietRead
	}
	out, err := s.to.Shell(ctx, c.frame(begin, end, s.to.SplitsStreams(), args), quiet)
	if errors.Is(err, link.ErrSilent) && ctx.Err() == nil && c != alive {
		if _, perr := s.ask(ctx, alive); perr == nil {
			return answer{}, &UnreadError{Command: c.Name}
		}
	}
	if err != nil {
		return answer{}, named(c, err)
	}
	a, ok := unframe(out, begin.printed(), end.printed())
	if !ok {
		said := strings.TrimSpace(string(out.Stderr))
		if said == "" {
			said = strings.TrimSpace(string(out.Stdout))
		}
		return answer{}, &UnreadError{c.Name, said}
	}
	return a, nil
}

// named puts a command's name in place of its text.
func named(c *Command, err error) error {
	var lost *link.LostError
	if errors.As(err, &lost) {
		return &link.LostError{During: "a shell command (" + c.Name + ")", Err: lost.Err}
	}
	return err
}

// unframe takes what is between the marks. A terminal between that writes CR LF for every LF is undone.
func unframe(out adb.Output, begin, end string) (a answer, ok bool) {
	all := out.Stdout
	at := lineOf(all, begin)
	if at < 0 {
		return a, false
	}
	all = all[at+len(begin):]
	if bytes.HasPrefix(all, []byte("\r\n")) {
		all = bytes.ReplaceAll(all, []byte("\r\n"), []byte("\n"))
	}
	rest, cut := bytes.CutPrefix(all, []byte("\n"))
	to := bytes.LastIndex(rest, []byte("\n"+end+" "))
	if !cut || to < 0 {
		return a, false
	}
	code, _, _ := strings.Cut(string(rest[to+1+len(end)+1:]), "\n")
	n, err := strconv.Atoi(strings.TrimSpace(code))
	if err != nil {
		return a, false
	}
	_, errs, found := strings.Cut(strings.ReplaceAll(string(out.Stderr), "\r\n", "\n"), begin+"\n")
	if !found {
		errs = string(out.Stderr)
	}
	return answer{out: rest[:to], errs: errs, code: n}, true
}

// lineOf finds a mark that has a line to itself; -1 where there is none.
func lineOf(b []byte, mark string) int {
	for from := 0; ; {
		at := bytes.Index(b[from:], []byte(mark))
		if at < 0 {
			return -1
		}
		at += from
		after := b[at+len(mark):]
		if (at == 0 || b[at-1] == '\n') && (bytes.HasPrefix(after, []byte("\n")) ||
			bytes.HasPrefix(after, []byte("\r\n"))) {
			return at
		}
		from = at + len(mark)
	}
}

// do sends a command that changes something. Errors: *link.RefusedError with the shell's words where it does
// not end with 0.
func (s *Shell) do(ctx context.Context, what string, c *Command, args ...string) error {
	a, err := s.ask(ctx, c, args...)
	if err == nil && a.code != 0 {
		err = &link.RefusedError{Command: what, Message: a.says()}
	}
	return err
}
