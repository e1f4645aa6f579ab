package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"jarlid/internal/act"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/spell"
	"jarlid/internal/engine"
	"jarlid/internal/journal"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
	"jarlid/internal/task"
	"jarlid/internal/task/sheet"
)

// tray is the phones of a run: each with its own lock, session and lines.
type tray struct {
	*app
	members []*member
	turns   *turns
	sheet   *sheet.Ready
	open    map[string]error // those that could not be begun with, and why
}

// member is one phone of a tray: a run of the program of its own, on the same screen.
type member struct {
	*app
	name string
	base engine.Options
	free func()
}

func (a *app) newTray() *tray { return &tray{app: a, turns: &turns{}} }

// phonesOf takes --on apart: names, serial numbers and addresses of phones. Addresses alone are
// one phone, as everywhere.
func phonesOf(on string) []string {
	parts := strings.Split(on, ",")
	if !slices.ContainsFunc(parts, func(s string) bool { return !wire.IsAddress(strings.TrimSpace(s)) }) {
		return []string{on}
	}
	for i := range parts {
		parts[i] = strings.TrimSpace(parts[i])
	}
	return slices.DeleteFunc(parts, func(s string) bool { return s == "" })
}

// gatherTray finds the phones that are meant: those that are named, all that are here, or the only
// one.
func (a *app) gatherTray(cmd *cobra.Command, all bool) (*tray, error) {
	t := a.newTray()
	ctx := cmd.Context()
	switch {
	case all && a.on != "":
		return nil, task.Usage("--all is every phone that is here, --on names some: one of the two")
	case all:
		here, _, err := a.env.Bench.Look(ctx)
		if err != nil {
			return nil, err
		}
		if len(here) == 0 {
			return nil, &wire.NotHereError{Text: "no phone is here"}
		}
		for _, s := range here {
			t.add(s.Name, s.Name, len(here) > 1)
		}
	case a.on != "":
		words := phonesOf(a.on)
		seen := map[string]string{}
		for _, w := range words {
			p, err := a.env.Bench.Pick(ctx, w)
			if err != nil {
				return nil, err
			}
			if other, had := seen[p.Name]; had {
				return nil, task.Usage("%s and %s are one phone", other, w)
			}
			seen[p.Name] = w
			t.add(p.Name, w, len(words) > 1)
		}
	default:
		p, err := a.env.Bench.Pick(ctx, "")
		if err != nil {
			return nil, err
		}
		t.add(p.Name, p.Name, false)
	}
	return t, nil
}

// add puts a phone on the tray; on is what it is found by.
func (t *tray) add(name, on string, several bool) {
	a := t.app
	bench, free := a.env.Bench.Keeping()
	m := &member{name: name, free: free}
	m.app = &app{Config: a.Config, request: a.request, display: display{out: a.out, json: a.json},
		stops: a.stops}
	m.on, m.typed, m.card = on, nil, ""
	if several {
		m.out = a.out.Of(name)
	}
	m.base = a.env.Options
	m.base.On, m.base.Observer = on, &phoneObserver{to: m, turns: t.turns, at: len(t.members)}
	m.base.OnOpen, m.base.OnDraft = nil, m.shown
	m.env = &task.Env{Bench: bench, Options: m.base, MaxMemory: a.env.MaxMemory, Loaded: true}
	t.members = append(t.members, m)
}

func (t *tray) close() {
	for _, m := range t.members {
		m.env.Close()
		m.free()
	}
}

func (t *tray) of(name string) *member {
	for _, m := range t.members {
		if m.name == name {
			return m
		}
	}
	return nil
}

// check opens a phone, finds out where it begins, and checks what is to be done.
func (t *tray) judge(ctx context.Context, m *member, run *journal.Run) (*sheet.Phone, error) {
	defer m.env.Close()
	j, err := m.open(ctx)
	if err != nil {
		return nil, err
	}
	m.opened(j)
	p := &sheet.Phone{Name: j.Name, Env: m.env, Options: m.base}
	m.name = j.Name
	if run != nil {
		if p.From, p.Rest, err = t.sheet.Left(ctx, run, j); err != nil {
			return nil, err
		}
		m.say(m.name, say.Info, "%s of %d are done on %s", spell.Counted(p.From, "task"), len(t.sheet.Tasks),
			m.name)
	}
	if p.Judged, err = t.sheet.Judge(ctx, j, p.From, p.Rest); err != nil {
		return nil, err
	}
	p.Serial, p.Model = p.Judged.Serial, p.Judged.Model
	return p, nil
}

// TaskBegins implements sheet.Observer.
func (t *tray) TaskBegins(p *sheet.Phone, n, of int, title string) {
	m := t.of(p.Name)
	m.typed, m.next, m.jobDir = p.Env.Options.Typed[1:], nil, ""
	m.out.TaskBegins(n, of, title)
	if m.json {
		m.out.Event("task", m.name, struct {
			N    int    `json:"n"`
			Of   int    `json:"of"`
			Task string `json:"task"`
		}{n, of, title})
		return
	}
	m.say(m.name, say.Info, "task %d of %d: %s", n, of, title)
}

// TaskEnds implements sheet.Observer.
func (t *tray) TaskEnds(p *sheet.Phone, w task.Work, j *engine.Job, err error) {
	m := t.of(p.Name)
	m.ended(w, j, err)
	t.turns.leave(m.name)
	m.out.Waits(false)
}

// TaskSkipped implements sheet.Observer.
func (t *tray) TaskSkipped(p *sheet.Phone, n int, title, why string) {
	m := t.of(p.Name)
	m.say(m.name, say.Info, "task %d, %s, %s", n, title, why)
}

// PhoneEnds implements sheet.Observer.
func (t *tray) PhoneEnds(p *sheet.Phone, o *sheet.PhoneOutcome, err error) {
	m := t.of(p.Name)
	t.turns.leave(m.name)
	if t.app.json {
		t.app.out.Event("phone", p.Name, o)
	}
	if err == nil {
		outcomes := make([]string, len(o.Tasks))
		for i, x := range o.Tasks {
			outcomes[i] = x.Outcome
		}
		m.out.Ended(true, tasksDone(outcomes))
		m.say(m.name, say.Done, "%s: %s", m.name, tasksDone(outcomes))
		return
	}
	at := ""
	for _, x := range o.Tasks {
		if x.Outcome == journal.TaskFailed || x.Outcome == journal.TaskStopped {
			at = fmt.Sprintf("task %d, %s: ", x.N, x.Task)
		}
	}
	m.out.Ended(false, at+spell.Error(err))
	m.sayFailed(at, err)
}

// tasksDone says by their outcomes how many tasks were done on a phone, and how many were not for it.
func tasksDone(list []string) string {
	skipped := 0
	for _, x := range list {
		if x == journal.TaskSkipped {
			skipped++
		}
	}
	if skipped == 0 {
		return "all " + spell.Counted(len(list), "task") + " done"
	}
	return fmt.Sprintf("%s done, %d not for this phone", spell.Counted(len(list)-skipped, "task"), skipped)
}

// sayFailed tells why a phone's tasks ended; at says where.
func (m *member) sayFailed(at string, err error) {
	var stop *finding.StopError
	var unknown *act.UnknownError
	switch {
	case errors.As(err, &stop):
		if !stop.Told {
			for _, f := range stop.Findings {
				m.out.Tell(say.Event{Phone: m.name, Finding: &f})
			}
		}
		m.say(m.name, say.Fail, "%sstopped on %s", at, m.name)
	case errors.As(err, &unknown):
		m.say(m.name, say.Fail, "%s%s", at, unknown.Text)
		if unknown.Hint != "" {
			m.say(m.name, say.Todo, "%s", unknown.Hint)
		}
	default:
		m.say(m.name, say.Fail, "%s%v", at, err)
	}
}

// codedError is the end of a run on several phones, with the exit code that decides.
type codedError struct {
	code  int
	text  string
	cause error // nil where the text says it all
}

// Unwrap gives the cause.
func (e *codedError) Unwrap() error { return e.cause }

// Error gives the text.
func (e *codedError) Error() string { return e.text }

// ExitCode is the code that decides.
func (e *codedError) ExitCode() int { return e.code }

// left are the phones that are not run on; opened are those that could be opened.
func (t *tray) left(opened []*sheet.Phone) (list []sheet.LeftOut) {
	for _, m := range t.members {
		err, ok := t.open[m.name]
		if !ok {
			continue
		}
		p := sheet.LeftOut{RunPhone: journal.RunPhone{Name: m.name, On: m.on}, Err: task.AsFinding(err)}
		for _, o := range opened {
			if o.Name == m.name {
				p.Serial, p.Model = o.Serial, o.Model
			}
		}
		list = append(list, p)
	}
	return list
}

// refused makes the end of a run: its result, and the exit code of all phones.
func (t *tray) refused(ran *sheet.Ran) error {
	a := t.app
	if ran == nil {
		ran = &sheet.Ran{Sheet: t.sheet.Name, Phones: []sheet.PhoneOutcome{}}
	}
	var codes []int
	good := 0
	var away []string
	for _, m := range t.members {
		if err, ok := t.open[m.name]; ok {
			ran.Phones = append(ran.Phones, sheet.PhoneOutcome{Name: m.name, Exit: task.Exit(err),
				Tasks: []sheet.TaskOutcome{}})
			away = append(away, m.name)
		}
	}
	broken := false
	for _, p := range ran.Phones {
		codes = append(codes, p.Exit)
		if p.OK {
			good++
		}
		broken = broken || !p.OK && p.Job > 0 && p.Exit != task.ExitStopped
	}
	a.result = ran
	if ran.Run > 0 {
		a.next = append(a.next, a.env.Command("", "jobs", "show", fmt.Sprint(ran.Run)))
		if broken {
			a.next = []string{a.env.Command("", "jobs", "resume", fmt.Sprint(ran.Run))}
		}
	}
	for _, name := range away { // of phones that nothing was done on, the first
		if len(a.next) == 0 {
			a.next = a.env.Onward(nil, "", task.AsFinding(t.open[name]))
		}
	}
	if good == len(ran.Phones) {
		if good > 1 {
			a.say("", say.Done, "%s: done on all %d phones", t.sheet.Name, good)
		}
		return nil
	}
	if len(ran.Phones) == 1 && len(away) == 1 {
		if err := t.open[away[0]]; task.Exit(err) != task.ExitStopped {
			return &codedError{task.Exit(err), t.sheet.Name + ": nothing was done", nil}
		}
		return &codedError{task.ExitStopped, "stopped, nothing was changed", nil}
	}
	return &codedError{task.Worst(codes), fmt.Sprintf("%s: done on %d of %s", t.sheet.Name, good,
		spell.Counted(len(ran.Phones), "phone")), nil}
}

// turns is where the person is: at one phone at a time. Whoever needs hands waits for a turn; the
// next one is the nearest on the tray, so that nobody runs to and fro, and no phone's keys are
// taken for another's.
type turns struct {
	mu      sync.Mutex
	name    string // whose turn it is; "" for nobody's
	at      int    // where the person is
	waiting []*turn
}

type turn struct {
	name    string
	at      int
	granted chan struct{}
}

// come waits for a phone's turn.
func (d *turns) come(name string, at int, stop <-chan struct{}) {
	d.mu.Lock()
	if d.name == "" || d.name == name {
		d.name, d.at = name, at
		d.mu.Unlock()
		return
	}
	t := &turn{name, at, make(chan struct{})}
	d.waiting = append(d.waiting, t)
	d.mu.Unlock()
	select {
	case <-t.granted:
	case <-stop:
		d.mu.Lock()
		defer d.mu.Unlock()
		d.waiting = slices.DeleteFunc(d.waiting, func(o *turn) bool { return o == t })
	}
}

// leave ends a phone's turn and gives it to the nearest one that waits.
func (d *turns) leave(name string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.name != name {
		return
	}
	d.name = ""
	if len(d.waiting) == 0 {
		return
	}
	near := func(t *turn) int { return max(t.at-d.at, d.at-t.at) }
	next := slices.MinFunc(d.waiting, func(a, b *turn) int { return near(a) - near(b) })
	d.waiting = slices.DeleteFunc(d.waiting, func(o *turn) bool { return o == next })
	d.name, d.at = next.name, next.at
	close(next.granted)
}

// phoneObserver is where a phone's job tells what goes on.
type phoneObserver struct {
	to    *member
	turns *turns
	at    int
}

// Tell implements say.Observer. What is to be done at a phone waits for its turn; it ends when
// the phone goes on.
func (s *phoneObserver) Tell(e say.Event) {
	switch {
	case e.Hands != nil && !e.Hands.Later:
		s.turns.come(s.to.name, s.at, s.to.stop)
		s.to.out.Waits(true)
	case e.Step != nil, e.Progress != nil && (e.Progress.Word == say.Send || e.Progress.Word == say.Read):
		s.turns.leave(s.to.name)
		s.to.out.Waits(false)
	}
	s.to.out.Tell(e)
}

// Ask implements say.Observer.
func (s *phoneObserver) Ask(q say.Question) (int, error) {
	s.turns.come(s.to.name, s.at, s.to.stop)
	s.to.out.Waits(true)
	defer s.to.out.Waits(false)
	return s.to.out.Ask(q)
}
