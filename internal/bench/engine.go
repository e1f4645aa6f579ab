package bench

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
	"jarlid/internal/core/plan"
	"jarlid/internal/link"
)

// Word is the word of four letters a line of output begins with.
type Word string

// The words.
const (
	Look Word = "look" // reading
	Need Word = "need" // asked of the person
	Good Word = "good" // a check passed
	Send Word = "send" // work with progress
	Recv Word = "read"
	Wait Word = "wait"
	Hand Word = "hand" // act at the phone
	Kept Word = "kept" // what stays
	Lost Word = "lost" // what goes
	Done Word = "done" // the end
	Fail Word = "fail" // the other end
	Next Word = "next" // the command to go on with
)

// Progress is how far a piece of work is.
type Progress struct {
	Word  Word   `json:"-"`
	What  string `json:"what"`
	Note  string `json:"note,omitempty"` // what the phone is doing
	Done  int64  `json:"done"`           // bytes
	Total int64  `json:"total"`          // bytes; 0: not known
	Rate  int64  `json:"rate"`           // bytes a second
	// Of a package: bytes handed out at least once, of how many; 0 else.
	Distinct int64         `json:"distinct,omitempty"`
	Whole    int64         `json:"whole,omitempty"`
	Left     time.Duration `json:"-"`
	End      bool          `json:"-"` // the last one of this piece
}

// Observer is told what goes on, and asked where a person has to decide.
type Observer interface {
	Say(w Word, format string, args ...any)
	Found(f finding.Finding)
	Step(n, of int, title, state string) // state: begin, done, failed
	Work(p Progress)
	// Ask asks a yes-or-no question; an error when nobody can answer.
	Ask(question string) (bool, error)
	// Choose asks which of several answers is true and gives its number from 0;
	// an error when nobody can answer.
	Choose(question string, options []string) (int, error)
	// Hands shows what to do at the phone.
	Hands(r model.Recipe, wait time.Duration)
}

// FindingError is a job stopped by findings.
type FindingError struct {
	Findings []finding.Finding
	Acted    bool // something had been done before
	Declined bool // a person said no, or nobody was there to say yes
}

// Error names the findings.
func (e *FindingError) Error() string {
	s := ""
	for _, f := range e.Findings {
		if s != "" {
			s += "; "
		}
		s += f.Name + ": " + f.Text
	}
	return s
}

// ErrStopped says that the person stopped the job.
var ErrStopped = errors.New("stopped by hand")

// Job is one command's work on one phone.
type Job struct {
	Phone   *Phone
	Link    *Link
	Card    *card.Card
	Plan    *plan.Plan
	Extra   []finding.Finding // about the wish itself
	Files   []FileRecord
	Command []string
	Accept  []finding.Accept
	Yes     bool
	DryRun  bool
	Obs     Observer
	// Soft is closed by the first Ctrl-C: the write in progress is ended.
	Soft <-chan struct{}
	// Code is what some bootloaders want to be unlocked with.
	Code string
	// WaitSystem is how long a started system is watched for.
	WaitSystem time.Duration

	Writes   []WriteResult
	Packages []PackageResult
	Stored   []StoredFile
	Moves    []Moved
	Apps     []AppResult
	Dir      string // the job's folder, once there is one
	// System is what came up, when the job ended in the system and it showed.
	System *card.Card

	journal *journal
	acted   bool
	checked []finding.Finding
	steps   int
}

// WriteResult is one image written.
type WriteResult struct {
	Partition string `json:"partition"`
	Slot      string `json:"slot,omitempty"`
	Bytes     int64  `json:"bytes"`
	SHA256    string `json:"sha256"`
	Confirmed string `json:"confirmed"`
}

// How an act was confirmed.
const (
	ReadBack  = "read-back"
	PhoneWord = "phone-word"
	NotKnown  = "unknown"
)

// PackageResult is one package sent.
type PackageResult struct {
	Path     string `json:"path"`
	Outcome  string `json:"outcome"` // installed, refused, failed, unknown
	Evidence string `json:"evidence,omitempty"`
	Slot     string `json:"slot_written,omitempty"`
	Passes   int    `json:"passes"`
	Served   int64  `json:"bytes_served"`
	Distinct int64  `json:"bytes_distinct"`
}

// Outcomes of a package.
const (
	Installed = "installed"
	Refused   = "refused"
	Failed    = "failed"
)

// Close lets the phone go.
func (j *Job) Close() { j.Link.Close() }

// Offline gives a job on a saved card instead of a phone: everything is checked,
// nothing can be done.
func (b *Bench) Offline(name string, c *card.Card, obs Observer) *Job {
	p := b.phone(Entry{Name: name, Model: c.Value(card.FactModel)})
	p.model.Learn(c)
	return &Job{Phone: p, Card: c, Obs: obs, DryRun: true}
}

// Run checks the whole job, asks, and carries it out. Errors: *FindingError;
// *link.RefusedError, *link.LostError, *link.ProtocolError, *WrongModeError
// and *NotHereError from the phone; ErrStopped.
func (j *Job) Run(ctx context.Context) error {
	if err := j.judge(); err != nil || j.DryRun {
		return err
	}
	unlock, err := j.Phone.Lock()
	if err != nil {
		return err
	}
	defer unlock()
	if j.journal, err = j.Phone.bench.newJournal(j.Phone.Name); err != nil {
		return err
	}
	defer j.journal.close()
	j.Dir = j.journal.dir
	begin := Record{Event: "begin", Command: j.Command, Phone: j.Phone.Name, Serial: j.Card.Value(card.FactSerial),
		Model: j.Card.Value(card.FactModel), Files: j.Files, Found: j.checked, Facts: lasting(j.Card)}
	for _, s := range j.Plan.Steps {
		begin.Steps = append(begin.Steps, s.Title())
	}
	if err := j.journal.write(begin); err != nil {
		return err
	}
	err = j.carryOut(ctx)
	end := Record{Event: "end"}
	if err != nil {
		end.Error = err.Error()
	}
	if werr := j.journal.write(end); err == nil {
		err = werr
	}
	return err
}

// judge runs all checks and asks what has to be asked.
func (j *Job) judge() error {
	j.checked = finding.Apply(append(append([]finding.Finding(nil), j.Extra...), j.Plan.Check(j.Card)...), j.Accept)
	for _, f := range j.checked {
		j.Obs.Found(f)
	}
	if stops := finding.Blocking(j.checked); len(stops) > 0 {
		return &FindingError{Findings: stops}
	}
	lost, kept := j.Plan.Cost()
	for _, s := range lost {
		j.Obs.Say(Lost, "%s", s)
	}
	for _, s := range kept {
		j.Obs.Say(Kept, "%s", s)
	}
	asks := finding.Asking(j.checked)
	if len(asks) == 0 && len(lost) == 0 {
		return nil
	}
	question := "Go on?"
	if len(lost) > 0 {
		question = "All this is lost. Go on?"
	}
	if j.DryRun {
		j.Obs.Say(Need, "%s (a dry run ends here)", question)
		return nil
	}
	return j.ask(question, asks)
}

func (j *Job) ask(question string, asks []finding.Finding) error {
	if j.Yes {
		return nil
	}
	yes, err := j.Obs.Ask(question)
	if err != nil {
		return err
	}
	if !yes {
		return &FindingError{Findings: asks, Acted: j.acted, Declined: true}
	}
	return nil
}

// carryOut acts step by step.
func (j *Job) carryOut(ctx context.Context) error {
	for i, s := range j.Plan.Steps {
		j.steps = i + 1
		select {
		case <-j.Soft:
			j.journal.write(Record{Event: "interrupted", Step: i + 1, Title: s.Title()})
			return ErrStopped
		default:
		}
		if err := j.checkAgain(s); err != nil {
			return err
		}
		if err := j.journal.write(Record{Event: "act", Step: i + 1, Title: s.Title(), Touches: s.Touches(j.Card)}); err != nil {
			return err
		}
		j.Obs.Step(i+1, len(j.Plan.Steps), s.Title(), "begin")
		before := j.Card.Clone()
		done, err := j.act(ctx, s)
		if err != nil {
			j.Obs.Step(i+1, len(j.Plan.Steps), s.Title(), "failed")
			r := Record{Event: "failed", Step: i + 1, Title: s.Title(), Error: err.Error(), Answers: done.Answers, Bytes: done.Bytes, SHA256: done.SHA256}
			if werr := j.journal.write(r); werr != nil {
				return errors.Join(err, werr)
			}
			return err
		}
		j.acted = true
		done.Event, done.Step, done.Title = "done", i+1, s.Title()
		done.Facts = changed(before, j.Card)
		if err := j.journal.write(done); err != nil {
			return err
		}
		j.Obs.Step(i+1, len(j.Plan.Steps), s.Title(), "done")
	}
	return nil
}

// checkAgain checks a step just before it acts, with what is known by then.
// What was answered before is not asked twice.
func (j *Job) checkAgain(s plan.Step) error {
	var fresh []finding.Finding
	for _, f := range finding.Apply(s.Check(j.Card, j.Plan.Model, j.Plan.Models), j.Accept) {
		known := false
		for _, o := range j.checked {
			known = known || o.Name == f.Name && o.About == f.About && o.Severity == f.Severity
		}
		if !known {
			j.Obs.Found(f)
			fresh = append(fresh, f)
			j.checked = append(j.checked, f)
		}
	}
	if stops := finding.Blocking(fresh); len(stops) > 0 {
		j.journal.write(Record{Event: "stopped", Title: s.Title(), Found: stops})
		return &FindingError{Findings: stops, Acted: j.acted}
	}
	if asks := finding.Asking(fresh); len(asks) > 0 {
		if err := j.ask("Go on?", asks); err != nil {
			j.journal.write(Record{Event: "stopped", Title: s.Title(), Found: asks})
			return err
		}
	}
	return nil
}

// passing are facts that are true only for the moment they were read in; a
// journal does not keep them.
func passing(name string) bool {
	switch name {
	case card.FactMode, card.FactReason, card.FactRecovery, card.FactRoot, card.FactDownload, card.FactTrusts:
		return true
	}
	for _, p := range []string{"battery.", card.FactFS, card.FactTree, card.FactFree, card.FactLying} {
		if strings.HasPrefix(name, p) {
			return true
		}
	}
	return false
}

// lasting are the facts read just now that stay true until a job changes
// them, so that they are known in modes that don't tell them.
func lasting(c *card.Card) map[string]card.Fact {
	out := map[string]card.Fact{}
	for name, f := range c.Facts() {
		for _, p := range []string{card.FactBase, card.FactBootloader, card.FactRadio, card.FactSize, card.FactType, card.FactLogical, card.FactSlotted,
			card.FactGroupMax, card.FactCPU, card.FactTreble, card.FactVNDK, card.FactFirstAPI, card.FactVariant, card.FactSerial, card.FactAccounts, card.FactLock, card.FactCrypto, card.FactDebugging} {
			if f.Evidence == card.Read && (name == p || strings.HasSuffix(p, ".") && strings.HasPrefix(name, p)) {
				out[name] = f
			}
		}
	}
	return out
}

// changed gives the facts a step has changed.
func changed(before, after *card.Card) map[string]card.Fact {
	out := map[string]card.Fact{}
	for name, f := range after.Facts() {
		old := before.Get(name)
		if !passing(name) && (old.Value != f.Value || old.Known() != f.Known()) {
			out[name] = f
		}
	}
	return out
}

// act carries out one step, confirms it and puts its effects on the card.
func (j *Job) act(ctx context.Context, s plan.Step) (Record, error) {
	switch s := s.(type) {
	case *plan.Restart:
		return j.restart(ctx, s)
	case *plan.Write:
		return j.writeImage(ctx, s)
	case *plan.Rebuild:
		return j.rebuild(ctx, s)
	case *plan.FormatData:
		return j.formatData(ctx, s)
	case *plan.Sideload:
		return j.sideload(ctx, s)
	case *plan.Activate:
		return j.activate(ctx, s)
	case *plan.Put:
		return j.put(ctx, s)
	case *plan.InstallFrom:
		return j.installFrom(ctx, s)
	case *plan.MakeRoom:
		return j.makeRoom(ctx, s)
	case *plan.Try:
		return j.try(ctx, s)
	case *plan.Erase:
		return j.erase(ctx, s)
	case *plan.Relock:
		return j.relock(ctx)
	case *plan.InstallApp:
		return j.installApp(ctx, s)
	case *plan.RestoreFiles:
		return j.restoreFiles(ctx, s)
	case *plan.CopySlot:
		return j.copySlot(ctx, s)
	case *plan.Shelve:
		return j.shelve(ctx, s)
	case *plan.WipeArea:
		return j.wipeArea(ctx, s)
	case *plan.Unlock:
		return j.unlock(ctx, s)
	}
	return Record{}, fmt.Errorf("no way to carry out the step %q", s.Title())
}

// Variables are the phone's fastboot variables by name, as far as it told
// them; nil in other modes.
func (j *Job) Variables(names ...string) map[string]string {
	if j.Link == nil || j.Link.vars == nil {
		return nil
	}
	for _, n := range names {
		j.Link.vars.get(n)
	}
	return j.Link.vars.listed
}

// reread reads the card anew over the open link and keeps what a step knows
// better.
func (j *Job) reread(ctx context.Context) error {
	c, err := j.Phone.Read(ctx, j.Link)
	if err != nil {
		return err
	}
	c.Merge(j.Card)
	c.Set(card.FactMode, card.Fact{Value: string(j.Link.Mode), Evidence: card.Read, Mode: j.Link.Mode, At: now()})
	j.Card = c
	return nil
}

// sameSerial makes sure that what came back is the phone that went away.
func (p *Phone) sameSerial(before, after *card.Card) error {
	if p.model != nil && p.model.SerialDiffers {
		return nil
	}
	a, b := before.Get(card.FactSerial), after.Get(card.FactSerial)
	if a.Evidence == card.Read && b.Evidence == card.Read && a.Value != b.Value {
		return &link.LostError{During: "the restart", Err: fmt.Errorf("another phone answers at its place: %s instead of %s", b.Value, a.Value)}
	}
	return nil
}

// SetWish puts the wish: the steps compiled for the phone as it is.
func (j *Job) SetWish(extra []finding.Finding, steps ...plan.Step) {
	j.Extra = append(j.Extra, extra...)
	j.Plan = plan.Compile(j.Card, j.Phone.Model(), j.Phone.bench.Models, steps...)
}

// NewJob connects to the phone and reads it.
func (p *Phone) NewJob(ctx context.Context, obs Observer) (*Job, error) {
	l, err := p.Open(ctx, obs)
	if err != nil {
		return nil, err
	}
	c, err := p.Read(ctx, l)
	if err == nil {
		err = readOwner(ctx, l, c) // before the system is left, and not at every look: it takes a second
	}
	if err != nil {
		l.Close()
		return nil, err
	}
	return &Job{Phone: p, Link: l, Card: c, Obs: obs, WaitSystem: time.Minute}, nil
}

// Unseen gives a job on a phone that does not answer, so that a person can bring
// it into a mode by hand: the one that is named, or the only one listed. nil when
// it can't be told which is meant.
func (b *Bench) Unseen(on string, obs Observer) (*Job, error) {
	list, err := b.phones()
	if err != nil {
		return nil, err
	}
	if on != "" {
		list = named(list, on)
	}
	if len(list) != 1 {
		return nil, nil
	}
	p := list[0]
	c, err := b.recall(p, p.Serial)
	if err != nil {
		return nil, err
	}
	p.model.Learn(c)
	c.Set(card.FactMode, card.Fact{Why: "it does not answer"})
	return &Job{Phone: p, Card: c, Obs: obs, WaitSystem: time.Minute}, nil
}

// allowLimit is how long the owner has to allow this computer's key.
const allowLimit = 2 * time.Minute

// Open connects to the phone. One that does not know this computer's key is
// shown it, and the owner's answer awaited; without one that is the finding
// not-authorised.
func (p *Phone) Open(ctx context.Context, obs Observer) (*Link, error) {
	l, err := p.Connect(ctx, nil)
	if denied := notAuthorised(err); denied == nil {
		return l, err
	} else if obs == nil {
		return nil, p.deniedError(denied.Fingerprint)
	}
	return p.offerKey(ctx, obs, allowLimit)
}

// Models gives the models that are known.
func (j *Job) Models() model.Set { return j.Phone.bench.Models }
