// Package engine runs one task on one phone: it locks and reads the phone, has the task
// drafted until nothing is lacking, checks all of it, asks once, and carries it out step
// by step, each with its record in the journal.
package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"jarlid/internal/act"
	"jarlid/internal/bench"
	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
	"jarlid/internal/core/place"
	"jarlid/internal/core/plan"
	"jarlid/internal/files"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/phone"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

// Options say on which phone a job is done, and how.
type Options struct {
	On        string // the phone: bench name, serial number or address; "": the only one here
	SavedCard string // a file with a saved card instead of a phone: everything is checked, nothing done
	Accept    []finding.Accept
	Yes       bool // answers questions, never a stop
	DryRun    bool // goes up to the questions and stops
	NoHands   bool // nobody is at the phone
	Away      bool // which was said, and is not only so without a terminal
	// ByHand opens a phone that does not answer too: a person brings it into a mode.
	ByHand   bool
	Code     string          // what some bootloaders want to be unlocked with
	Wait     time.Duration   // how long a started system is watched for
	Typed    []string        // the command, as it was typed
	Stop     <-chan struct{} // closed when the person wants to stop after the write in progress
	Observer say.Observer
	// Writing is called as a step that changes the phone begins and ends; nil: nobody asks.
	Writing func(on bool)
	// OnOpen is told of the phone as soon as it was read, OnDraft of the draft before it is
	// checked.
	OnOpen  func(*Job)
	OnDraft func(*Draft)
	// Sink opens the journal; nil but for tests.
	Sink journal.OpenSink
	// Agreed is what was said yes to before; nil for nothing.
	Agreed *Agreed
	// Of says which task of which run of a sheet it is; nil for a command by itself.
	Of *journal.Part
	// Sums are digests of files that several jobs send; nil: each makes its own.
	Sums *files.Sums
	// Verifier verifies files for all jobs of this program; nil: each job has its own.
	Verifier *files.Verifier
}

// ErrStopped says that the person stopped the job.
var ErrStopped = act.ErrStopped

// Job is one task's work on one phone.
type Job struct {
	*phone.Session
	Options
	Out   act.Outcome
	Dir   string // the job's folder, once there is one
	Draft *Draft // as it was checked
	Saved string // the name on a saved card; "" for a phone
	// Acted says that something was changed.
	Acted bool

	plan      *plan.Plan
	checked   []finding.Finding
	noted     []string         // notes that were told
	said      []journal.Answer // to the engine's own questions
	scratch   string
	unscratch func()
	unlock    []func()
	locked    []string
	log       *journal.Writer
}

// lockLimit is how long a job waits for one who only looks.
const lockLimit = 10 * time.Second

// to tells about a phone.
func (o *Options) to(phone string) say.To {
	return say.To{Observer: o.Observer, Phone: phone, Nobody: o.NoHands, Away: o.Away}
}

// Open finds the phone that is meant, locks it, connects and reads it. Close lets it go.
// Errors: *phone.NotHereError, *phone.AddressError, *finding.StopError (several-phones,
// phone-busy, not-authorised), and those of the wire.
func Open(ctx context.Context, b *bench.Bench, o Options) (*Job, error) {
	if o.SavedCard != "" {
		return offline(b, o)
	}
	p, err := b.Pick(ctx, o.On)
	if err != nil {
		return unseen(b, o, err)
	}
	j := &Job{Options: o}
	if err := j.lock(ctx, p, p.LockNames()); err != nil {
		return nil, err
	}
	to := o.to(p.Name)
	j.Session, err = p.Reach(ctx, to)
	if err == nil {
		err = j.Read(ctx)
	}
	for n := 0; n < wire.MoreLooks && worthRetry(err) && wire.Pause(ctx, wire.SecondLook) == nil; n++ {
		// One connection that was dropped says nothing yet about the phone.
		if j.Session != nil {
			j.Session.Close()
		}
		if j.Session, err = p.Reach(ctx, to); err == nil {
			err = j.Read(ctx)
		}
	}
	if err == nil {
		err = j.lock(ctx, p, wire.SerialNames(j.Card))
		if err == nil { // before the system is left, and not at every look: it takes a second
			_, err = j.Know(ctx, []card.ID{card.FactAccounts.ID()})
		}
	}
	if err != nil {
		j.Close()
		return unseen(b, o, err)
	}
	j.begin()
	return j, nil
}

// worthRetry tells of errors that a second look may not meet any more.
func worthRetry(err error) bool {
	var away *wire.NotHereError
	var lost *link.LostError
	return errors.As(err, &away) && away.Name != "" || errors.As(err, &lost)
}

func (j *Job) begin() {
	if j.Wait > 0 {
		j.WaitSystem = j.Wait
	}
	if j.OnOpen != nil {
		j.OnOpen(j)
	}
}

// offline opens a saved card.
func offline(b *bench.Bench, o Options) (*Job, error) {
	data, err := files.ReadText(o.SavedCard, card.MaxSaved)
	if err != nil {
		return nil, err
	}
	c, name, err := card.Load([]byte(data))
	if err != nil {
		return nil, &CardError{Path: o.SavedCard, Err: err}
	}
	p := b.Known(name, c.Value(card.FactModel))
	p.Model().Learn(c)
	c.Conclude()
	o.DryRun = true
	j := &Job{Options: o, Session: p.NewSession(c, o.to(name)), Saved: name}
	j.begin()
	return j, nil
}

// OfModel gives a job on no phone but what a model file says of one: as if it were in its
// bootloader, unlocked, with slot a next.
func OfModel(b *bench.Bench, o Options, m *model.Model) *Job {
	c := &card.Card{}
	c.Set(card.FactMode, card.Fact{Value: string(card.Bootloader), Source: card.Said})
	c.Learn(card.FactModel, m.Name, card.Said)
	c.Learn(card.FactUnlocked, "yes", card.Said)
	if m.Slots > 1 {
		c.Learn(card.FactNext, "a", card.Said)
	}
	p := b.Known(m.Name, m.Name)
	m.Learn(c)
	c.Conclude()
	o.DryRun = true
	j := &Job{Options: o, Session: p.NewSession(c, o.to(m.Name)), Saved: m.Name}
	j.begin()
	return j
}

// CardError is a saved card that can't be read.
type CardError struct {
	Path string
	Err  error
}

// Error names the file.
func (e *CardError) Error() string { return e.Path + ": " + e.Err.Error() }

// Unwrap gives the cause.
func (e *CardError) Unwrap() error { return e.Err }

// unseen opens a phone that does not answer, for a person to bring it into a mode, where
// that is wanted and it can be told which phone is meant; cause is the error otherwise.
func unseen(b *bench.Bench, o Options, cause error) (*Job, error) {
	var away *wire.NotHereError
	if !o.ByHand || !errors.As(cause, &away) {
		return nil, cause
	}
	p, err := b.Unseen(o.On)
	if err != nil || p == nil {
		return nil, cause
	}
	j := &Job{Options: o, Session: p.NewSession(&card.Card{}, o.to(p.Name))}
	if err := j.lock(context.Background(), p, p.LockNames()); err != nil {
		return nil, err
	}
	if err := j.Recall(); err != nil {
		j.Close()
		return nil, err
	}
	j.Card.Set(card.FactMode, card.Fact{Why: "it does not answer"})
	j.begin()
	return j, nil
}

// lock locks the phone under further names; whoever only looks is waited for.
func (j *Job) lock(ctx context.Context, p *phone.Phone, names []string) error {
	names = slices.DeleteFunc(names, func(n string) bool { return slices.Contains(j.locked, n) })
	if len(names) == 0 {
		return nil
	}
	for end := time.Now().Add(lockLimit); ; {
		unlock, err := p.Lock(names...)
		if err == nil {
			j.unlock, j.locked = append(j.unlock, unlock), append(j.locked, names...)
			return nil
		}
		if !errors.Is(err, phone.ErrBusy) {
			return err
		}
		if !time.Now().Before(end) {
			return p.Busy()
		}
		if err := wire.Pause(ctx, lockLimit/50); err != nil {
			return err
		}
	}
}

// Close lets the phone go and removes what was made for the job.
func (j *Job) Close() {
	if j.Session != nil {
		j.Session.Close()
	}
	for _, unlock := range slices.Backward(j.unlock) {
		unlock()
	}
	j.unlock = nil
	if j.scratch != "" {
		j.unscratch()
	}
}

// Scratch gives a temporary folder that is gone when the job is closed.
func (j *Job) Scratch() (string, error) {
	var err error
	if j.scratch == "" {
		j.scratch, j.unscratch, err = files.Scratch("")
	}
	return j.scratch, err
}

// Offline reports whether there is a saved card instead of a phone.
func (j *Job) Offline() bool { return j.Saved != "" || j.SavedCard != "" }

// damaged are the findings about journals that can't be read.
func (j *Job) damaged() []finding.Finding {
	var list []finding.Finding
	for _, d := range j.Damaged {
		list = append(list, finding.Warns(finding.JournalDamaged, d.Dir,
			fmt.Sprintf("%v; what that job did, and what earlier ones told, is not known", d),
			"read the phone itself first: jarlid card, jarlid slot"))
	}
	return list
}

// Input is what a task is prepared from. It is only read.
type Input struct {
	Card   *card.Card
	Model  *model.Model
	Models model.Set
	Phone  string // its name on the bench
	Seen   bool   // it answers
	// What earlier rounds wanted, as far as it could be had.
	Contents  map[card.Partition]Content
	Located   map[string]place.Item
	Shelved   []place.Item
	Restorers []place.Item
	Variables map[string]string
	asked     map[string]bool // the variables that were
	// Previous are files in which jobs kept what was on partitions before, by base.
	Previous func(base string) (map[card.Partition]string, error)
	// Scratch is a folder for what the task makes.
	Scratch string
	// Notes collects what is told before anything is checked.
	Notes say.To
	Dry   bool
	// Ahead says that the card is foreseen: what a phone holds can't be read yet.
	Ahead bool
}

// Content is what a partition holds: a file with it, or why it can't be had.
type Content struct {
	Path string
	Err  error
}

// Draft is a task worked out for a phone.
type Draft struct {
	Steps    []plan.Step
	Findings []finding.Finding // about the wish itself
	Files    []journal.File
	Uses     []plan.Sent // files that steps' images were made from
	Lacks    Lacks
	// Nothing says that there is nothing to do, and why; no job is begun then.
	Nothing string
	// View is what is shown before the questions, for whoever shows it.
	View any

	notes []say.Event
}

// Lacks are what a draft needs to know and that has to be read from the phone.
type Lacks struct {
	Facts     []card.ID
	Contents  []card.Partition
	Paths     []string // of the phone's system, to be located
	Aside     bool     // Paths are looked for among what was moved aside
	Shelved   bool
	Restorers bool
	Variables []string
}

// Task is one command's wish.
type Task interface {
	// Name is the command's name.
	Name() string
	// Prepare works the task out. It reads nothing from the phone: what it lacks it
	// names, and it is called again when that was read. An error that what the draft lacks
	// could change comes with the draft.
	Prepare(in *Input) (*Draft, error)
}
