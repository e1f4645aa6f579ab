package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"jarlid/internal/cli"
	"jarlid/internal/core/model"
	"jarlid/internal/journal"
	"jarlid/internal/link/usb/soft"
	"jarlid/internal/standin/scenario"
	"jarlid/internal/standin/standintest"
)

// lab makes worlds: a phone and a home in the state a story begins in, made once and copied.
type lab struct {
	dir   string
	cable bool // its phones are on cables

	mu    sync.Mutex
	kits  map[string]*sync.Mutex
	ready map[string]any

	counts struct {
		sync.Mutex
		stories, faults map[string]int
		ended           map[int]int
	}
}

func newLab(dir string) *lab {
	l := &lab{dir: dir, kits: map[string]*sync.Mutex{}, ready: map[string]any{}}
	l.counts.stories, l.counts.faults, l.counts.ended = map[string]int{}, map[string]int{}, map[int]int{}
	return l
}

// once makes something the first time it is wanted. It is made outside of bubbles.
func (l *lab) once(name string, make func() (any, error)) (any, error) {
	l.mu.Lock()
	m := l.kits[name]
	if m == nil {
		m = &sync.Mutex{}
		l.kits[name] = m
	}
	l.mu.Unlock()
	m.Lock()
	defer m.Unlock()
	l.mu.Lock()
	got, ok := l.ready[name]
	l.mu.Unlock()
	if ok {
		return got, nil
	}
	got, err := make()
	if err == nil {
		l.mu.Lock()
		l.ready[name] = got
		l.mu.Unlock()
	}
	return got, err
}

// world is one home folder and one phone.
type world struct {
	t     *testing.T
	dir   string
	net   *standintest.Net
	bus   *soft.Bus // where the phone is on a cable
	name  string
	which int // of the phones
	kit   kit
	locks int // the folder of locks: another one after a kill, which lets go of them
	phone *process
	ended int // how the disturbed run did
	quirk string
	looks func() string // answers what a screen shows; nil: no answer
	file  string        // the model file of a phone that only the stand-in knows; "" for one of the models
	told  func(args []string, code int, out string)
	// complain is told what is not as it should be; nil: the test is.
	complain func(text string)
}

func (w *world) bad(format string, args ...any) {
	if w.complain != nil {
		w.complain(fmt.Sprintf(format, args...))
		return
	}
	w.t.Errorf(format, args...)
}

// process is a command under way.
type process struct {
	out       *standintest.Output
	done      chan struct{}
	code      int
	ended     bool // it came to its end, and was not killed
	interrupt chan struct{}
}

func (w *world) home() string { return filepath.Join(w.dir, "home") }

// at is the folder of the phone's storage.
func (w *world) at() string { return filepath.Join(w.dir, w.name) }

// begin starts a command; s is nil for one that nothing happens to.
func (w *world) begin(s *seams, line func(string), args ...string) *process {
	p := &process{out: &standintest.Output{}, done: make(chan struct{}), interrupt: make(chan struct{}, 4)}
	attended := true
	person := &person{looks: w.looks}
	p.out.OnLine = func(text string) {
		person.hears(text)
		if line != nil {
			line(text)
		}
	}
	c := cli.Config{Stdin: person, Stdout: p.out, Stderr: p.out, Attended: &attended, Interrupts: p.interrupt,
		Locks: filepath.Join(w.dir, fmt.Sprint("locks-", w.locks)),
		Dial:  w.net,
		Net:   w.net,
		Env: func(name string) string {
			return map[string]string{"NO_COLOR": "1"}[name]
		}}
	if w.bus != nil {
		c.Cable, c.Ports, c.Plug = w.bus, w.bus.Ports(), w.bus
	}
	if s != nil {
		c.Dial, c.Sink = s, s.openSink
		if s.cable != nil {
			c.Cable, c.Ports = s.cable, s.ports
		}
	}
	args = append(slices.Clone(args), "--home", w.home())
	go func() {
		defer close(p.done)
		p.code = cli.Run(args, c)
		p.ended = true
	}()
	return p
}

// keyless is what is said where no keys are known that lead into a mode.
var keyless = regexp.MustCompile(`^hand  Bring the phone into (\w+) with its keys or its menu; no model file`)

// mostTime is how long a command may take, in virtual time: the longest limits are below it.
const mostTime = 4 * time.Hour

// run runs a command with somebody at the phone and gives its exit code, -1 for one that was
// killed, and what it said.
func (w *world) run(s *seams, args ...string) (code int, out string) {
	stop := make(chan struct{})
	var pressing sync.WaitGroup
	p := w.begin(s, func(line string) {
		for asks, keys := range standintest.Owner {
			if strings.HasPrefix(line, "hand  ") && strings.Contains(line, asks) {
				pressing.Go(func() { w.press(stop, keys...) })
			}
		}
		if to := keyless.FindStringSubmatch(line); to != nil { // known from elsewhere
			pressing.Go(func() { w.press(stop, phones[w.which].keys[to[1]]...) })
		}
	}, args...)
	if s != nil {
		w.arm(s, p)
	}
	select {
	case <-p.done:
	case <-time.After(mostTime):
		w.bad("jarlid %s does not come to its end:\n%s", strings.Join(args, " "), p.out)
		p.interrupt <- struct{}{}
		p.interrupt <- struct{}{}
		<-p.done
	}
	close(stop)
	pressing.Wait()
	if code = p.code; !p.ended {
		code = -1
	}
	if w.told != nil {
		w.told(args, code, p.out.String())
	}
	return code, p.out.String()
}

func (w *world) arm(s *seams, p *process) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.interrupt = func() {
		select {
		case p.interrupt <- struct{}{}:
		default:
		}
	}
}

// press presses keys, each as soon as the phone takes it, for a minute at most.
func (w *world) press(stop <-chan struct{}, keys ...string) {
	time.Sleep(300 * time.Millisecond)
	for _, k := range keys {
		for end := time.Now().Add(time.Minute); time.Now().Before(end); {
			p := w.begin(nil, nil, "standin", "press", w.name, k)
			if <-p.done; p.code == 0 {
				break
			}
			select {
			case <-stop:
				return
			case <-time.After(100 * time.Millisecond):
			}
		}
	}
}

// model gives what the phone is made by: its name, or a model file with its quirk.
func (w *world) model() (string, error) {
	if w.file != "" {
		return w.file, nil
	}
	if w.quirk == "" {
		return w.name, nil
	}
	b, err := model.Source(w.name)
	if err != nil {
		return "", err
	}
	path := filepath.Join(w.dir, w.name+".yaml")
	text := strings.Replace(string(b), "standin:\n", "standin:\n  quirks: {"+w.quirk+"}\n", 1)
	return path, os.WriteFile(path, []byte(text), 0o644)
}

// start starts the phone in its storage, and waits until it can be reached.
func (w *world) start(args ...string) error {
	if w.bus != nil {
		args = append(slices.Clone(args), "--usb")
	}
	name, err := w.model()
	if err != nil {
		return err
	}
	ready := make(chan struct{})
	once := sync.OnceFunc(func() { close(ready) })
	w.phone = w.begin(nil, func(line string) {
		if strings.Contains(line, "its storage is in") {
			once()
		}
	}, append([]string{"standin", "run", name, "--at", w.at(), "--as", w.name}, args...)...)
	select {
	case <-ready:
		return nil
	case <-w.phone.done:
		return fmt.Errorf("the phone does not start: %s", w.phone.out)
	}
}

// off ends the phone in order, as between two evenings.
func (w *world) off() {
	if w.phone != nil {
		w.phone.interrupt <- struct{}{}
		<-w.phone.done
	}
}

// mode is what the phone is running, by its own word.
func (w *world) mode() string {
	var st struct{ Mode string }
	b, err := os.ReadFile(filepath.Join(w.at(), "state.json"))
	if err != nil || json.Unmarshal(b, &st) != nil {
		return ""
	}
	return st.Mode
}

// until waits for a mode, for a minute at most.
func (w *world) until(mode string) bool {
	for end := time.Now().Add(time.Minute); w.mode() != mode; time.Sleep(100 * time.Millisecond) {
		if time.Now().After(end) {
			return false
		}
	}
	return true
}

// stored is the first bytes of what a partition holds; nil where it is in super.
func (w *world) stored(partition string) []byte {
	b, err := os.ReadFile(filepath.Join(w.at(), "partitions", partition+".img"))
	if err != nil {
		return nil
	}
	return b
}

// inBubble runs something in a bubble of virtual time, with a world in the folder dir.
func (l *lab) inBubble(t *testing.T, dir, name string, k kit, do func(w *world)) {
	which := slices.IndexFunc(phones, func(p practised) bool { return p.name == name })
	synctest.Test(t, func(t *testing.T) {
		w := &world{t: t, dir: dir, net: &standintest.Net{Rate: 400 << 20}, name: name, which: which, kit: k}
		if l.cable {
			w.bus = &soft.Bus{Rate: w.net.Rate}
		}
		defer func() {
			w.net.Cut()
			time.Sleep(time.Hour)
		}()
		defer w.off()
		do(w)
	})
}

// kit gives the files for a phone.
func (l *lab) kit(phone int) (kit, error) {
	p := phones[phone]
	got, err := l.once("kit "+p.name, func() (any, error) {
		return makeKit(filepath.Join(l.dir, "kit-"+p.name), scenario.PhoneOf(p.name), p.slots)
	})
	if err != nil {
		return kit{}, err
	}
	return got.(kit), nil
}

// prepared gives the folder with a phone in a state, which is copied for each run.
func (l *lab) prepared(t *testing.T, phone int, state string) (string, error) {
	p := phones[phone]
	k, err := l.kit(phone)
	if err != nil {
		return "", err
	}
	got, err := l.once("state "+p.name+" "+state, func() (any, error) {
		dir := filepath.Join(l.dir, "state-"+p.name+"-"+state)
		if err := makeHome(dir); err != nil {
			return nil, err
		}
		failed := error(nil)
		l.inBubble(t, dir, p.name, k, func(w *world) {
			failed = w.prepare(state)
		})
		return dir, failed
	})
	if err != nil {
		return "", err
	}
	return got.(string), nil
}

// makeHome makes the home folder of a world.
func makeHome(dir string) error {
	home := filepath.Join(dir, "home")
	if err := os.MkdirAll(home, 0o700); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(home, "key.pem"), testKey, 0o600)
}

// prepare brings a new phone into a state.
func (w *world) prepare(state string) error {
	var args []string
	switch state {
	case inSystem:
		args = []string{"--mode", "system"}
	case isLocked:
		args = []string{"--locked"}
	}
	if err := w.start(args...); err != nil {
		return err
	}
	want := func(words ...string) error {
		if code, out := w.run(nil, append(words, "--yes", "--accept", "account-lock", "--accept",
			"encrypted-data")...); code != 0 {
			return fmt.Errorf("jarlid %s ended with %d:\n%s", strings.Join(words, " "), code, out)
		}
		return nil
	}
	switch state {
	case inSystem:
		return want("card")
	case isLocked:
		if w.name == "avocet" {
			return nil
		}
	case inRecovery:
		if w.name == "godwit" {
			if err := want("flash", w.kit.Overlay, "--into", "@both"); err != nil {
				return err
			}
		}
		for _, words := range [][]string{
			{"recovery", "install", w.kit.recovery},
			{"go", "recovery"},
			{"wipe", "userdata"},
		} {
			if err := want(words...); err != nil {
				return err
			}
		}
	}
	return nil
}

// copyTree copies a folder, leaving holes where there are zeros.
func copyTree(from, to string) error {
	const block = 64 << 10
	zero := make([]byte, block)
	buf := make([]byte, block)
	return filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		out := filepath.Join(to, rel)
		st, err := d.Info()
		switch {
		case err != nil:
			return err
		case d.IsDir():
			return os.MkdirAll(out, 0o755)
		case !st.Mode().IsRegular():
			return nil
		}
		in, err := os.Open(path)
		if err != nil {
			return err
		}
		defer in.Close()
		f, err := os.OpenFile(out, os.O_CREATE|os.O_WRONLY, st.Mode().Perm())
		if err != nil {
			return err
		}
		defer f.Close()
		if err := f.Truncate(st.Size()); err != nil {
			return err
		}
		for at := int64(0); ; {
			n, err := io.ReadFull(in, buf)
			if n > 0 && !bytes.Equal(buf[:n], zero[:n]) {
				if _, err := f.WriteAt(buf[:n], at); err != nil {
					return err
				}
			}
			at += int64(n)
			if err == io.EOF || err == io.ErrUnexpectedEOF {
				return nil
			}
			if err != nil {
				return err
			}
		}
	})
}

// jobs are the journals of the world's home.
func (w *world) jobs() []journal.Entry {
	list, err := journal.Jobs(w.home())
	if err != nil {
		w.bad("%v", err)
	}
	return list
}
