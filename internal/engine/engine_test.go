package engine

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/synctest"

	"jarlid/internal/bench"
	"jarlid/internal/bench/benchtest"
	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/ident"
	"jarlid/internal/core/plan"
	"jarlid/internal/files"
	"jarlid/internal/journal"
	"jarlid/internal/say"
	"jarlid/internal/standin/scenario"
	"jarlid/internal/standin/standintest"
)

func TestMain(m *testing.M) { standintest.Main(m) }

// listener is an observer that keeps what it is told and answers as it was made to.
type listener struct {
	told   []say.Event
	asked  []string
	answer int
	nobody bool
}

func (l *listener) Tell(e say.Event) { l.told = append(l.told, e) }
func (l *listener) Ask(q say.Question) (int, error) {
	l.asked = append(l.asked, q.Text)
	if l.nobody {
		return 0, say.ErrNobody
	}
	return l.answer, nil
}

func (l *listener) found(name string) bool {
	return slices.ContainsFunc(l.told, func(e say.Event) bool {
		return e.Finding != nil && e.Finding.Name == name
	})
}

// wish is a task made of a function.
type wish struct {
	prepare func(in *Input) (*Draft, error)
}

func (wish) Name() string                        { return "a wish" }
func (w wish) Prepare(in *Input) (*Draft, error) { return w.prepare(in) }

func draft(steps ...plan.Step) wish {
	return wish{func(*Input) (*Draft, error) { return &Draft{Steps: steps}, nil }}
}

func write(f *ident.File, p, slot string) plan.Step {
	return &plan.Write{File: f, Partition: p, Slot: slot}
}

// rig is a phone on a bench, and a file that may be written to it.
type rig struct {
	*testing.T
	b     *bench.Bench
	phone *standintest.Phone
	img   *ident.File
	bytes []byte
}

// onBench runs a test in a bubble with a dunlin that is listed.
func onBench(t *testing.T, test func(t *testing.T, r *rig)) {
	synctest.Test(t, func(t *testing.T) {
		p := standintest.Start(t, "dunlin")
		r := &rig{T: t, phone: p}
		r.b = benchtest.Open(t, p.Net, bench.Entry{Name: "dunlin", Model: "dunlin", Serial: p.Serial,
			At: []string{"tcp:" + p.Fastboot, "adb:" + p.ADB}})
		var err error
		if r.bytes, err = scenario.Recovery(scenario.Tideline, scenario.PhoneOf("dunlin")); err != nil {
			t.Fatalf("scenario.Recovery(scenario.Tideline, scenario.PhoneOf('dunlin')): %v", err)
		}
		path := filepath.Join(r.b.Home, "recovery.img")
		if err := os.WriteFile(path, r.bytes, 0o644); err != nil {
			t.Fatalf("os.WriteFile(%v, r.bytes, 0o644): %v", path, err)
		}
		if r.img, err = files.Identify(path, ident.Options{}); err != nil {
			t.Fatalf("files.Identify(%v, ...): %v", path, err)
		}
		test(t, r)
	})
}

// run opens the phone and runs a wish.
func (r *rig) run(o Options, w Task) (*Job, error) {
	r.Helper()
	if o.Observer == nil {
		o.Observer = &listener{answer: say.Yes}
	}
	j, err := Open(r.Context(), r.b, o)
	if err != nil {
		r.Fatalf("Open(r.Context(), r.b, o): %v", err)
	}
	defer j.Close()
	return j, j.Run(r.Context(), w)
}

// holds reports whether a partition begins with the image.
func (r *rig) holds(partition string) bool {
	r.Helper()
	b, err := os.ReadFile(filepath.Join(r.phone.Dir, "partitions", partition+".img"))
	if err != nil {
		r.Fatalf("os.ReadFile(...): %v", err)
	}
	return bytes.HasPrefix(b, r.bytes)
}

func (r *rig) jobs() []journal.Entry {
	r.Helper()
	list, err := journal.Jobs(r.b.Home)
	if err != nil {
		r.Fatalf("journal.Jobs(r.b.Home): %v", err)
	}
	return list
}

// TestAllChecksBeforeTheFirstAct: a step whose check stops keeps those before it from acting.
func TestAllChecksBeforeTheFirstAct(t *testing.T) {
	onBench(t, func(t *testing.T, r *rig) {
		seen := &listener{answer: say.Yes}
		_, err := r.run(Options{Observer: seen}, draft(write(r.img, "recovery", "a"),
			write(r.img, "nosuch", "b")))
		var stop *finding.StopError
		if !errors.As(err, &stop) || stop.Acted ||
			!slices.ContainsFunc(stop.Findings, func(f finding.Finding) bool {
				return f.Name == finding.NoSuchPartition
			}) {
			t.Fatalf("r.run(..., ...): %v", err)
		}
		if r.holds("recovery_a") || len(seen.asked) > 0 || len(r.jobs()) > 0 {
			t.Errorf("something was done: asked %v, %d jobs", seen.asked, len(r.jobs()))
		}
	})
}

// TestAccept: a stop is allowed by its name, and by what it is about; by nothing else.
func TestAccept(t *testing.T) {
	for accept, runs := range map[string]bool{
		"":                               false,
		"wrong-destination":              true,
		"wrong-destination=recovery.img": true,
		"wrong-destination=other.img":    false,
		"wrong-model":                    false,
	} {
		onBench(t, func(t *testing.T, r *rig) {
			o := Options{Yes: true, DryRun: true}
			if accept != "" {
				o.Accept = []finding.Accept{finding.ParseAccept(accept)}
			}
			_, err := r.run(o, draft(write(r.img, "boot", "a")))
			if (err == nil) != runs {
				t.Errorf("--accept %q: %v", accept, err)
			}
		})
	}
}

// TestAsking: what is asked names what and where, once; no is no, and nobody is
// not-confirmed. Neither begins a job.
func TestAsking(t *testing.T) {
	onBench(t, func(t *testing.T, r *rig) {
		two := draft(write(r.img, "recovery", "a"), write(r.img, "recovery", "b"))
		no := &listener{answer: say.No}
		_, err := r.run(Options{Observer: no}, two)
		var stop *finding.StopError
		if !errors.As(err, &stop) || !stop.Declined || stop.Acted {
			t.Errorf("no: %v", err)
		}
		if len(no.asked) != 1 || no.asked[0] != "Write recovery.img to recovery_a and recovery_b, on "+
			"dunlin?" {
			t.Errorf("it asks %q", no.asked)
		}
		nobody := &listener{nobody: true}
		if _, err := r.run(Options{Observer: nobody}, two); !errors.As(err, &stop) ||
			stop.Findings[0].Name != finding.NotConfirmed || stop.Acted {
			t.Errorf("nobody: %v", err)
		}
		if len(r.jobs()) > 0 || r.holds("recovery_a") {
			t.Error("a job was begun")
		}
		yes := &listener{nobody: true}
		if _, err := r.run(Options{Observer: yes, Yes: true}, two); err != nil || len(yes.asked) > 0 {
			t.Fatalf("--yes: %v, asked %q", err, yes.asked)
		}
		if said := r.jobs()[0].Records[0].Said; len(said) != 1 || said[0].Answer != "yes, by --yes" {
			t.Errorf("the journal says %+v", said)
		}
	})
}

// TestLacks: what a task lacks is read and it is called again, with that in hand; one that
// lacks something new each time ends.
func TestLacks(t *testing.T) {
	onBench(t, func(t *testing.T, r *rig) {
		calls := 0
		j, err := r.run(Options{Yes: true, DryRun: true}, wish{func(in *Input) (*Draft, error) {
			calls++
			d := &Draft{Nothing: "there is nothing to do"}
			size := card.FactSize.Of(card.At("recovery", "a"))
			d.Lacks.Facts, d.Lacks.Variables = []card.ID{size}, []string{"product"}
			if n, known := in.Card.Number(size); known && n != 32<<20 {
				t.Errorf("recovery_a has %d bytes", n)
			}
			return d, nil
		}})
		if err != nil || calls < 2 || j.Draft.Nothing == "" {
			t.Errorf("%d calls, %v", calls, err)
		}
		n := 0
		_, err = r.run(Options{Yes: true}, wish{func(*Input) (*Draft, error) {
			n++
			d := &Draft{}
			d.Lacks.Facts = []card.ID{card.FactSize.Of(card.At("p"+strings.Repeat("x", n), ""))}
			return d, nil
		}})
		if err == nil || n > 100 {
			t.Errorf("after %d calls: %v", n, err)
		}
		if len(r.jobs()) > 0 {
			t.Error("a job was begun")
		}
	})
}

// full is a disk that takes so many records, and then nothing more.
type full struct {
	journal.Sink
	left *int
}

var errFull = errors.New("no space left on device")

func (f full) Write(b []byte) (int, error) {
	if *f.left == 0 {
		return 0, errFull
	}
	*f.left--
	return f.Sink.Write(b)
}

// TestJournalFull: nothing is done that the journal can't know of, wherever its disk is full:
// the job ends there, and says so.
func TestJournalFull(t *testing.T) {
	// begin, act, done, act, done, end
	for records := range 6 {
		onBench(t, func(t *testing.T, r *rig) {
			left := records
			sink := func(path string) (journal.Sink, error) {
				f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
				return full{f, &left}, err
			}
			_, err := r.run(Options{Yes: true, Sink: sink}, draft(write(r.img, "recovery", "a"),
				write(r.img, "recovery", "b")))
			var we *journal.WriteError
			if !errors.As(err, &we) || !errors.Is(err, errFull) {
				t.Errorf("after %d records: %v", records, err)
			}
			if a, b := r.holds("recovery_a"), r.holds("recovery_b"); a != (records >= 2) ||
				b != (records >= 4) {
				t.Errorf("after %d records recovery_a is written: %v, recovery_b: %v", records, a, b)
			}
			// What was under way is not known to the next job.
			c, _, err := journal.Recall(r.b.Home, journal.Who{Name: "dunlin", Serial: r.phone.Serial})
			if err != nil {
				t.Fatalf("journal.Recall(r.b.Home, ...): %v", err)
			}
			if known := c.Get(card.FactDigest.Of(card.At("recovery", "b"))).Known(); known != (records >= 5) {
				t.Errorf("after %d records recovery_b counts as known: %v", records, known)
			}
		})
	}
}

// failing is a disk whose file can't be closed, or flushed for the last time.
type failing struct {
	journal.Sink
	syncs *int // that work; < 0: all of them
	close bool
}

func (f failing) Sync() error {
	if *f.syncs == 0 {
		return errFull
	}
	*f.syncs--
	return f.Sink.Sync()
}

func (f failing) Close() error {
	err := f.Sink.Close()
	if f.close {
		err = errFull
	}
	return err
}

// TestRecordsLost: a job whose journal or ledger could not be closed, or flushed for the last time, has
// failed, whatever it has done.
func TestRecordsLost(t *testing.T) {
	for _, c := range []struct {
		name   string
		syncs  int // begin, act, done, end: the last is the fourth
		close  bool
		ledger bool
		fails  bool
	}{
		{"nothing", -1, false, false, false},
		{"the last flush", 3, false, false, true},
		{"the journal's close", -1, true, false, true},
		{"the ledger's close", -1, false, true, true},
	} {
		onBench(t, func(t *testing.T, r *rig) {
			syncs := c.syncs
			sink := func(path string) (journal.Sink, error) {
				f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
				return failing{f, &syncs, c.close}, err
			}
			breaks := &onWrite{listener: &listener{answer: say.Yes}, do: func() {
				for _, path := range r.ledgers() {
					if c.ledger {
						_ = os.Remove(path)
						_ = os.Mkdir(path, 0o700)
					}
				}
			}}
			_, err := r.run(Options{Observer: breaks, Yes: true, Sink: sink},
				draft(write(r.img, "recovery", "a")))
			if (err != nil) != c.fails {
				t.Errorf("r.run(..., ...): %s: %v; unwanted: (err != nil) != c.fails", c.name, err)
			}
			if !r.holds("recovery_a") {
				t.Errorf("%s: it was not written", c.name)
			}
		})
	}
}

// ledgers are the files of transfers that are there.
func (r *rig) ledgers() []string {
	list, _ := filepath.Glob(filepath.Join(r.b.Home, "jobs", "*", "transfer"))
	return list
}

// TestSoftStop: a wish to stop ends the job behind the step in progress.
func TestSoftStop(t *testing.T) {
	onBench(t, func(t *testing.T, r *rig) {
		soft := make(chan struct{})
		seen := &listener{answer: say.Yes}
		stopper := &onWrite{listener: seen, do: func() {
			select {
			case <-soft:
			default:
				close(soft)
			}
		}}
		_, err := r.run(Options{Observer: stopper, Yes: true, Stop: soft},
			draft(write(r.img, "recovery", "a"), write(r.img, "recovery", "b")))
		if !errors.Is(err, ErrStopped) || !r.holds("recovery_a") || r.holds("recovery_b") {
			t.Errorf("r.run(..., ...): %v", err)
		}
		var events []string
		for _, rec := range r.jobs()[0].Records {
			events = append(events, string(rec.Event))
		}
		if got := strings.Join(events, " "); got != "begin act done interrupted end" {
			t.Errorf("the journal has %q", got)
		}
	})
}

// onWrite does something when a write begins.
type onWrite struct {
	*listener
	do func()
}

func (o *onWrite) Tell(e say.Event) {
	o.listener.Tell(e)
	if e.Progress != nil && e.Progress.Word == say.Send {
		o.do()
	}
}

// TestOffline: on a saved card everything is checked and nothing done, asked for or not.
func TestOffline(t *testing.T) {
	onBench(t, func(t *testing.T, r *rig) {
		j, err := r.run(Options{Yes: true, DryRun: true}, draft(write(r.img, "recovery", "a")))
		if err != nil {
			t.Fatalf("r.run(...): %v", err)
		}
		saved, err := j.Card.Save("dunlin")
		if err != nil {
			t.Fatalf("j.Card.Save('dunlin'): %v", err)
		}
		path := filepath.Join(r.b.Home, "card.json")
		if err := os.WriteFile(path, saved, 0o644); err != nil {
			t.Fatalf("os.WriteFile(%v, saved, 0o644): %v", path, err)
		}
		seen := &listener{answer: say.Yes}
		o := Options{SavedCard: path, Yes: true, Observer: seen}
		if j, err := r.run(o, draft(write(r.img, "recovery", "a"))); err != nil || !j.Offline() ||
			r.holds("recovery_a") || len(r.jobs()) > 0 {
			t.Errorf("r.run(o, ...): %v", err)
		}
		if _, err := r.run(o, draft(write(r.img, "nosuch", "a"))); err == nil {
			t.Error("a partition that is not there passes")
		}
		if err := os.WriteFile(path, []byte("{}"), 0o644); err != nil {
			t.Fatalf("os.WriteFile(%v, ..., 0o644): %v", path, err)
		}
		var bad *CardError
		if _, err := Open(t.Context(), r.b, o); !errors.As(err, &bad) || bad.Path != path {
			t.Errorf("a file that is no card: %v", err)
		}
	})
}

// TestDamagedJournal: a journal that can't be read is asked about and named; the phone goes on.
func TestDamagedJournal(t *testing.T) {
	onBench(t, func(t *testing.T, r *rig) {
		if _, err := r.run(Options{Yes: true}, draft(write(r.img, "recovery", "a"))); err != nil {
			t.Fatalf("r.run(...): %v", err)
		}
		path := filepath.Join(r.jobs()[0].Dir, "journal.jsonl")
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatalf("os.ReadFile(%v): %v", path, err)
		}
		if err := os.WriteFile(path, bytes.Replace(b, []byte(`{"at"`), []byte(`{at`), 2), 0o600); err != nil {
			t.Fatalf("os.WriteFile(%v, ..., 0o600): %v", path, err)
		}
		seen := &listener{answer: say.Yes}
		j, err := r.run(Options{Observer: seen}, draft(write(r.img, "recovery", "b")))
		if err != nil || !seen.found(finding.JournalDamaged) || len(seen.asked) != 1 {
			t.Errorf("%v, asked %v", err, seen.asked)
		}
		if j.Card.Get(card.FactDigest.Of(card.At("recovery", "a"))).Known() {
			t.Error("what that job wrote counts as known")
		}
	})
}
