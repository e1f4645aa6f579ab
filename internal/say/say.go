// Package say is what is told while work goes on: the words a line begins
// with, progress, what a person has to do, and questions, all as values. It
// prints nothing; whoever implements Observer does.
package say

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
	"jarlid/internal/core/spell"
)

// Word is the word of four letters a line of output begins with.
type Word string

// The words. Note, Warn and Stop are those of findings.
const (
	Info Word = "info" // what was read
	Good Word = "good" // a check passed
	Note Word = Word(finding.Note)
	Warn Word = Word(finding.Warn)
	Stop Word = Word(finding.Stop)
	Todo Word = "todo" // the remedy
	Open Word = "open" // a fact that is missing
	Lose Word = "lose" // what goes
	Keep Word = "keep" // what stays
	Asks Word = "asks" // a question
	Send Word = "send" // work with progress
	Read Word = "read"
	Wait Word = "wait"
	Hand Word = "hand" // act at the phone
	Done Word = "done" // the end
	Fail Word = "fail" // the other end
	Next Word = "next" // the command that follows
)

// Words are all of them.
var Words = []Word{Info, Good, Note, Warn, Stop, Todo, Open, Lose, Keep, Asks, Send, Read, Wait, Hand, Done,
	Fail, Next}

// Progress is how far a piece of work is.
type Progress struct {
	Word Word   `json:"-"`
	What string `json:"what"`
	// of work on many files that is told as one: its verb, as "extracted"; "" else
	Kind  string `json:"-"`
	Note  string `json:"note,omitempty"` // what the phone is doing
	Done  int64  `json:"done"`           // bytes
	Total int64  `json:"total"`          // bytes; 0: not known
	Rate  int64  `json:"rate"`           // bytes per second
	// Of a package: bytes handed out at least once, of how many; 0 otherwise.
	Distinct int64         `json:"distinct,omitempty"`
	Whole    int64         `json:"whole,omitempty"`
	Left     time.Duration `json:"-"`
	End      bool          `json:"-"` // the last one of this piece
}

// State is how far a step is.
type State string

// The states of a step.
const (
	Begin    State = "begin"
	Finished State = "done"
	Failed   State = "failed"
)

// Step is one step of a job.
type Step struct {
	N, Of int // counted from 1
	Title string
	State State
}

// Hands is what a person has to do at the phone, and for how long it is waited.
type Hands struct {
	Recipe model.Recipe
	Wait   time.Duration
	// Later says that the phone has to come up by itself before it can be done.
	Later bool
}

// Event is one thing that is told, about one phone. Exactly one of Text,
// Finding, Step, Progress and Hands is set.
type Event struct {
	Phone    string // its name on the bench; "" for what is about none
	Word     Word   // of a Text
	Text     string
	Finding  *finding.Finding
	Step     *Step
	Progress *Progress
	Hands    *Hands
}

// Question is asked where a person has to decide, yes or no or one of Options, or knows something.
type Question struct {
	Phone   string
	Text    string
	Options []string // none: yes or no
	Reply   *string  // where an answer in words is put; nil for other questions
}

// Answers to a question of yes or no. Of one with options the answer is the
// option's number, counted from 0.
const (
	No  = 0
	Yes = 1
)

// ErrNobody says that a question had nobody to answer it.
var ErrNobody = errors.New("a question was asked and nobody is here to answer it")

// ErrCancelled says that the person wishes to stop: at a question, in a wait, or between two writes.
var ErrCancelled = errors.New("cancelled")

// Observer is told what goes on, and asked where a person has to decide.
// Several phones may use one at the same time.
type Observer interface {
	Tell(Event)
	// Ask gives the answer's number. Errors: ErrNobody, ErrCancelled.
	Ask(Question) (int, error)
}

// To tells an observer about one phone.
type To struct {
	Observer
	Phone  string
	Nobody bool // nobody is at the phone
	Away   bool // and that was said: what it shows is not even asked
}

// Say tells a sentence.
func (t To) Say(w Word, format string, args ...any) {
	if t.Observer == nil {
		return // nobody listens
	}
	t.Tell(Event{Phone: t.Phone, Word: w, Text: Text(format, args...)})
}

// Text puts a sentence together. Errors in it are said in a person's words.
func Text(format string, args ...any) string {
	for i, a := range args {
		if err, ok := a.(error); ok && err != nil {
			args = slices.Clone(args)
			args[i] = spell.Error(err)
		}
	}
	return fmt.Sprintf(format, args...)
}

// Found tells a finding.
func (t To) Found(f finding.Finding) { t.Tell(Event{Phone: t.Phone, Finding: &f}) }

// Step tells how far a step is.
func (t To) Step(n, of int, title string, state State) {
	t.Tell(Event{Phone: t.Phone, Step: &Step{N: n, Of: of, Title: title, State: state}})
}

// Work tells how far a piece of work is.
func (t To) Work(p Progress) { t.Tell(Event{Phone: t.Phone, Progress: &p}) }

// Hands shows what to do at the phone. Where nobody is, that is the finding hands-needed,
// at once, with what would have to be done.
func (t To) Hands(r model.Recipe, wait time.Duration) error {
	if t.Nobody {
		return finding.Stopped(finding.HandsNeeded, t.Phone, "nobody is at the phone to do this: "+
			strings.Join(r.Do, " "), "run it again in a terminal, with somebody at the phone")
	}
	t.Tell(Event{Phone: t.Phone, Hands: &Hands{Recipe: r, Wait: wait}})
	return nil
}

// HandsLater shows what there will be to do once the phone has come up. Nobody has to be there.
func (t To) HandsLater(r model.Recipe, wait time.Duration) {
	if !t.Nobody {
		t.Tell(Event{Phone: t.Phone, Hands: &Hands{Recipe: r, Wait: wait, Later: true}})
	}
}

// Confirm asks a question of yes or no.
func (t To) Confirm(question string) (bool, error) {
	n, err := t.Ask(Question{Phone: t.Phone, Text: question})
	return n == Yes && err == nil, err
}

// Words asks for an answer in a person's own words, "" for none; they are kept as one line. Where it was said
// that nobody is at the phone the error is ErrNobody.
func (t To) Words(question string) (reply string, err error) {
	if t.Nobody || t.Away {
		return "", ErrNobody
	}
	_, err = t.Ask(Question{Phone: t.Phone, Text: question, Reply: &reply})
	return strings.Join(strings.Fields(string(spell.Printable([]byte(reply)))), " "), err
}

// Choose asks which of several answers is true and gives its number from 0. They are about what the phone
// shows, or which it is: where it was said that nobody is at it the error is ErrNobody, at once. Answers may
// also come from a pipe.
func (t To) Choose(question string, options []string) (int, error) {
	if t.Away {
		return 0, ErrNobody
	}
	return t.Ask(Question{Phone: t.Phone, Text: question, Options: options})
}
