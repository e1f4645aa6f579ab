// Package e2e tests whole commands against stand-ins: in one process and in a bubble of
// virtual time where it can be (lab), as processes where the system itself is in it (process).
package e2e

import (
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"jarlid/internal/cli"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
	"jarlid/internal/demo"
	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/link/usb/soft"
	"jarlid/internal/standin/scenario"
	"jarlid/internal/standin/standintest"
)

var (
	files   demo.Files // the scenario's files for dunlin
	workdir string
	dunlin  = scenario.PhoneOf("dunlin")

	// whole runs the large matrices and tables whole; without it a seeded sample is taken.
	whole = flag.Bool("whole", false, "run the large matrices whole")
	// cabled has every stand-in of a bubble on a cable instead of the network.
	cabled = flag.Bool("cable", false, "run the stand-ins on cables")
	// seed is what the sample is taken with; a failure names it.
	seed = flag.Int64("seed", seedOfDay(), "the seed of samples")
)

// seedOfDay is JARLID_SEED, which CI sets to the number of the day and prints, so that in a month every
// sample ran; otherwise 1.
func seedOfDay() int64 {
	if n, err := strconv.ParseInt(os.Getenv("JARLID_SEED"), 10, 64); err == nil {
		return n
	}
	return 1
}

func TestMain(m *testing.M) {
	// Much of a test is waiting: for the disk, for real processes, for images another one makes.
	if err := flag.Set("test.parallel", strconv.Itoa(3*runtime.GOMAXPROCS(0))); err != nil {
		panic(err)
	}
	flag.Parse() // which may say otherwise
	if *cabled {
		if err := flag.Set("test.skip", "^(?:"+strings.Join(sameOnCable, "|")+")$"); err != nil {
			panic(err)
		}
	}
	os.Exit(setUp(m))
}

func setUp(m *testing.M) int {
	if os.Getenv(wholeImages) == "" {
		standintest.Light()
	} else {
		scenario.Keep()
	}
	debug.SetGCPercent(300) // images come and go by the dozen
	dir, err := os.MkdirTemp("", "jarlid-e2e-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	workdir = dir
	if files, err = demo.MakeFiles(filepath.Join(dir, "files"), dunlin); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	return m.Run()
}

// wholeImages is the environment variable with which the tests' images are as large as the demo's.
const wholeImages = "JARLID_WHOLE_IMAGES"

// sizeOf is a file's size in bytes.
func sizeOf(path string) int64 { return must(os.Stat(path)).Size() }

// lab is one test's home folder and its stand-ins.
type lab struct {
	*testing.T
	home, dir string
	net       *standintest.Net // nil: the computer's own, and processes
	bus       *soft.Bus        // its cables
	pulled    bool             // a fault may have pulled one
	atPhone   bool             // somebody is there during the next command
	present   bool             // ... and during all of them
	columns   int              // of the terminal it is shown on; 0: none
	keys      *lab             // whose home folder has the stand-ins that are pressed; nil: this one
	follows   bool             // each command that is named as the next one is checked too
	writes    func()           // called as this computer writes to a phone's connection; nil: nobody asks
}

// rate is what a cable of the lab carries, in bytes per second.
const rate = 400 << 20

// inLab runs a test in a bubble of its own, beside others.
func inLab(t *testing.T, test func(t *testing.T, l *lab)) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		l := &lab{T: t, home: filepath.Join(dir, "home"), dir: dir, net: &standintest.Net{Rate: rate},
			bus: &soft.Bus{Rate: rate}}
		t.Cleanup(func() { // the last one: time stands still once the test has ended
			l.net.Cut()
			time.Sleep(time.Hour)
		})
		l.key()
		test(t, l)
	})
}

// other is another home folder at the same phones.
func (l *lab) other(name string) *lab {
	o := *l
	o.home, o.keys = filepath.Join(l.dir, name), l
	o.key()
	return &o
}

// key gives the lab a key that needn't be made.
func (l *lab) key() {
	l.Helper()
	if err := os.MkdirAll(l.home, 0o700); err != nil {
		l.Fatalf("os.MkdirAll(l.home, 0o700): %v", err)
	}
	b := must(os.ReadFile("../link/adb/testdata/key.pem"))
	if err := os.WriteFile(filepath.Join(l.home, "key.pem"), b, 0o600); err != nil {
		l.Fatalf("os.WriteFile(filepath.Join(l.home, 'key.pem'), b, 0o600): %v", err)
	}
}

// job is a command under way.
type job struct {
	out       *standintest.Output
	done      chan struct{}
	code      int // once it is done
	interrupt chan struct{}
}

// nothing is typed by somebody who is there and does not answer.
const nothing = "(nothing)"

// silence is what they type, until the command has ended.
type silence <-chan struct{}

func (s silence) Read([]byte) (int, error) {
	<-s
	return 0, io.EOF
}

// begin starts a command. answers are typed where attended.
func (l *lab) begin(attended bool, answers string, onLine func(string), args ...string) *job {
	home := l.home
	j := &job{out: &standintest.Output{OnLine: onLine}, done: make(chan struct{}),
		interrupt: make(chan struct{}, 2)}
	var typing io.Reader = strings.NewReader(answers)
	if answers == nothing {
		typing = silence(j.done)
	}
	c := cli.Config{Stdin: typing, Stdout: j.out, Stderr: j.out, Attended: &attended, Interrupts: j.interrupt,
		Columns: l.columns,
		Locks:   filepath.Join(l.dir, "locks"),
		Dial:    l.dialer(),
		Net:     l.net,
		Cable:   l.bus,
		Ports:   l.bus.Ports(),
		Plug:    l.bus,
		Env: func(name string) string {
			return map[string]string{"NO_COLOR": "1", "JARLID_HOME": home}[name]
		}}
	if len(args) == 0 || args[0] != "__complete" { // there the last word is the one that is completed
		args = append(args[:len(args):len(args)], "--home", home)
	}
	go func() {
		defer close(j.done)
		j.code = cli.Run(args, c)
	}()
	return j
}

// dialer connects to the lab's network.
func (l *lab) dialer() link.Dialer {
	if l.writes == nil {
		return l.net
	}
	return heard{l}
}

// phone is a running stand-in.
type phone struct {
	l    *lab
	job  *job
	list string
}

// standin starts a stand-in and waits until it can be reached.
func (l *lab) standin(model string, args ...string) *phone {
	l.Helper()
	at := filepath.Join(l.dir, strings.TrimSuffix(filepath.Base(model), ".yaml"))
	ready := make(chan struct{})
	once := sync.OnceFunc(func() { close(ready) })
	if !slices.ContainsFunc(args, func(w string) bool {
		return slices.Contains([]string{"--fastboot", "--adb", "--loader", "--usb"}, w)
	}) {
		if name, _, _ := strings.Cut(l.Name(), "/"); slices.Contains(sameOnCable, name) {
			l.Errorf("%s is not the same on a cable: take it off the list sameOnCable", name)
		}
		if *cabled {
			args = append(args, "--usb")
		}
	}
	j := l.begin(false, "", func(line string) {
		if strings.Contains(line, "its storage is in") {
			once()
		}
	}, append([]string{"standin", "run", model, "--at", at}, args...)...)
	select {
	case <-ready:
	case <-j.done:
		l.Fatalf("the stand-in did not start:\n%s", j.out)
	}
	p := &phone{l: l, job: j, list: filepath.Join(l.home, "bench.yaml")}
	l.Cleanup(p.off)
	return p
}

// off ends a stand-in in order.
func (p *phone) off() {
	select {
	case p.job.interrupt <- struct{}{}:
	default:
	}
	<-p.job.done
}

// kill ends a stand-in as a crash would: what is sent to it breaks, and it stays listed.
func (p *phone) kill() {
	listed := must(os.ReadFile(p.list))
	p.l.net.Cut()
	p.off()
	if err := os.WriteFile(p.list, listed, 0o644); err != nil {
		p.l.Fatalf("os.WriteFile(p.list, listed, 0o644): %v", err)
	}
}

// run runs jarlid and gives its exit code and what it printed.
func (l *lab) run(args ...string) (int, string) {
	l.Helper()
	if l.net == nil {
		return l.runProcess(args...)
	}
	if *cabled && l.pulled {
		time.Sleep(2 * time.Second) // a person puts a cable back that fell out
	}
	hear, heard := l.hears(args)
	j := l.begin(l.atPhone || l.present, "", hear, args...)
	<-j.done
	l.atPhone = false
	l.nexts(args, j.code, j.out.String())
	l.upheld(args, j.code, j.out.String(), heard)
	return j.code, j.out.String()
}

// onePlural is one thing that is spoken of as several.
var onePlural = regexp.MustCompile(
	`(?m)(?:^|[^0-9.,:/_-])1 ` +
		`(?:accounts|add-ons|apps|bytes|causes|checks|commands|days|digests|entries|facts|files|findings|` +
		`folders|hours|images|items|jobs|keys|lines|members|messages|minutes|modes|models|names|packages|` +
		`parts|partitions|passes|patches|phones|pieces|points|requirements|scripts|seconds|services|sheets|` +
		`slots|stops|tasks|times|tries|versions|warnings)\b`)

// libraryWords are what a library or the system calls an error.
var libraryWords = regexp.MustCompile(
	`no such file or directory|permission denied|not a directory|is a directory|file exists|directory not ` +
		`empty|connection (?:refused|reset)|broken pipe|i/o timeout|i/o error|input/output ` +
		`error|unexpected EOF|\bEOF\b|context (?:canceled|deadline)|use of closed|closed network ` +
		`connection|invalid argument|bad file descriptor|no space ` +
		`left|cross-device|\b(?:open|openat|mkdir|mkdirat|stat|lstat|fstatat|read|rename|remove|unlink|` +
		`unlinkat|truncate|readlink|chmod|link) /\w|strconv\.|(?:: |  ` +
		`)(?:yaml|json|xml|zip|gzip|flate|xz|zlib|asn1|x509|pkcs7): |invalid character|cannot ` +
		`unmarshal|runtime error|<nil>|%!|dial tcp|lookup `)

// nexts holds the commands a run names as the next ones to what can be typed, and, where the lab
// follows them, to what the phone can do in its mode.
func (l *lab) nexts(args []string, code int, out string) {
	l.Helper()
	if bad := onePlural.FindString(out); bad != "" {
		l.Errorf("jarlid %s says %q:\n%s", strings.Join(args, " "), bad, out)
	}
	if bad := libraryWords.FindString(out); bad != "" {
		l.Errorf("jarlid %s says %q:\n%s", strings.Join(args, " "), bad, out)
	}
	// Every end of a command names the next one, but where what it printed is a page, or for another program.
	if !strings.Contains(out, "\nnext  ") && !strings.HasPrefix(out, "next  ") &&
		len(args) > 0 && !slices.Contains([]string{"help", "man", "explain", "completion", "__complete"},
		args[0]) &&
		!slices.ContainsFunc(args, func(w string) bool {
			return slices.Contains([]string{"--json", "--help", "--rule", "--version"}, w)
		}) {
		l.Errorf("jarlid %s names no next command:\n%s", strings.Join(args, " "), out)
	}
	for line := range strings.Lines(out) {
		text, named := strings.CutPrefix(line, "next  ")
		if !named || l.columns > 0 { // a terminal breaks it
			continue
		}
		words := typed(strings.TrimSpace(text))
		if words[0] != "jarlid" {
			l.Errorf("jarlid %s goes on with %q", strings.Join(args, " "), line)
			continue
		}
		if err := cli.Parses(words[1:]); err != nil {
			l.Errorf("jarlid %s goes on with %q, which can't be typed: %v", strings.Join(args, " "), line,
				err)
		}
		// FILE, PACKAGE
		made := slices.ContainsFunc(words[1:], func(w string) bool {
			return w == strings.ToUpper(w) && !strings.Contains(w, "-")
		})
		if !l.follows && !*whole || made || len(words) < 2 ||
			slices.Contains([]string{"explain", "demo", "--help", "standin", "bench"}, words[1]) {
			continue
		}
		j := l.begin(false, "", nil, append(words[1:], "--dry-run", "--yes", "--no-hands")...)
		<-j.done
		if j.code == 2 || strings.Contains(j.out.String(), finding.NotInThisMode) {
			l.Errorf("jarlid %s goes on with %q, and that ends with %d:\n%s", strings.Join(args, " "), line,
				j.code, j.out)
		}
	}
}

// typed takes a command apart as a shell would: quoted words keep their blanks.
func typed(text string) (words []string) {
	for i, part := range strings.Split(text, `"`) {
		if i%2 == 1 {
			words = append(words, part)
		} else {
			words = append(words, strings.Fields(part)...)
		}
	}
	return words
}

// want runs jarlid and fails unless it ends with code and says all texts.
func (l *lab) want(code int, texts []string, args ...string) string {
	l.Helper()
	got, out := l.run(args...)
	l.check(code, texts, got, out, args)
	return out
}

func (l *lab) check(code int, texts []string, got int, out string, args []string) {
	l.Helper()
	if got != code {
		l.Fatalf("jarlid %s ended with %d, want %d:\n%s", strings.Join(args, " "), got, code, out)
	}
	for _, s := range texts {
		if !strings.Contains(out, s) {
			l.Fatalf("jarlid %s does not say %q:\n%s", strings.Join(args, " "), s, out)
		}
	}
}

// result runs jarlid with --json, fails unless it ends with code, and decodes
// the last line into v.
func (l *lab) result(code int, v any, args ...string) {
	l.Helper()
	out := l.want(code, nil, append(args, "--json")...)
	lines := strings.Split(strings.TrimSpace(out), "\n")
	for _, line := range lines {
		var e struct{ Event string }
		if err := json.Unmarshal([]byte(line), &e); err != nil || e.Event == "" {
			l.Fatalf("not a JSON line with an event: %q", line)
		}
	}
	if err := json.Unmarshal([]byte(lines[len(lines)-1]), v); err != nil {
		l.Fatalf("the result can't be read: %v\n%s", err, lines[len(lines)-1])
	}
}

// owner runs jarlid with somebody at the phone who does what it asks for: what to
// press stands behind a piece of the text that asks. answers are typed.
func (l *lab) owner(phone string, answers string, does map[string][]string, args ...string) (int, string) {
	l.Helper()
	var presses sync.WaitGroup
	done := make(chan struct{})
	hear, heard := l.hears(args)
	j := l.begin(true, answers, func(line string) {
		hear(line)
		for asks, keys := range does {
			if strings.HasPrefix(line, "hand  ") && strings.Contains(line, asks) {
				presses.Go(func() { l.pressing(done, phone, keys) })
			}
		}
	}, args...)
	<-j.done
	close(done)
	presses.Wait()
	l.nexts(args, j.code, j.out.String())
	l.upheld(args, j.code, j.out.String(), heard)
	return j.code, j.out.String()
}

// pressEvery is how often something is pressed that the phone does not have yet.
const pressEvery = 100 * time.Millisecond

// pressing presses keys one after the other, each as soon as the phone takes it.
func (l *lab) pressing(done <-chan struct{}, phone string, keys []string) {
	time.Sleep(300 * time.Millisecond) // nobody is faster
	for _, k := range keys {
		for !l.pressed(phone, k) {
			select {
			case <-done:
				return
			case <-time.After(pressEvery):
			}
		}
	}
}

// pressed presses one thing and reports whether the phone took it.
func (l *lab) pressed(name string, keys ...string) bool {
	if l.keys != nil {
		l = l.keys
	}
	j := l.begin(false, "", nil, append([]string{"standin", "press", name}, keys...)...)
	<-j.done
	return j.code == 0
}

// did runs jarlid with the owner at the phone and wants it to end well.
func (l *lab) did(phone, answers string, texts []string, args ...string) string {
	l.Helper()
	code, out := l.owner(phone, answers, standintest.Owner, args...)
	l.check(0, texts, code, out, args)
	return out
}

// whenAsked runs jarlid and does something as soon as it prints what; it has to
// end well.
func (l *lab) whenAsked(what string, do func(), args ...string) {
	l.Helper()
	var doing sync.WaitGroup
	begun := do == nil
	j := l.begin(true, "", func(line string) {
		if !begun && strings.Contains(line, what) {
			begun = true
			doing.Go(do)
		}
	}, args...)
	<-j.done
	doing.Wait()
	if j.code != 0 || !begun {
		l.Fatalf("%v ended with %d:\n%s", args, j.code, j.out)
	}
}

// atLine runs jarlid and does something each time it prints says, before it goes on.
func (l *lab) atLine(says string, do func(), code int, args ...string) string {
	l.Helper()
	j := l.begin(true, "", func(line string) {
		if strings.Contains(line, says) {
			do()
		}
	}, args...)
	<-j.done
	l.check(code, nil, j.code, j.out.String(), args)
	return j.out.String()
}

// later presses something at a stand-in when jarlid has had time to ask for it.
func (l *lab) later(phone string, keys ...string) {
	l.atPhone = true
	time.AfterFunc(1500*time.Millisecond, func() { l.pressed(phone, keys...) })
}

// hands presses things at a stand-in, each as soon as it has them, until the
// returned function is called.
func (l *lab) hands(name string, keys ...string) (stop func()) {
	l.present = true
	done := make(chan struct{})
	var wg sync.WaitGroup
	wg.Go(func() { l.pressing(done, name, keys) })
	return func() { close(done); wg.Wait(); l.present = false }
}

// press presses things at a stand-in and waits until it has taken each.
func (l *lab) press(name string, keys ...string) {
	l.Helper()
	for _, k := range keys {
		l.until("the phone takes "+k, func() bool { return l.pressed(name, k) })
	}
}

// fault makes something go wrong at a stand-in.
func (l *lab) fault(phone, kind string, after int64, more ...string) {
	l.Helper()
	defer func() { l.pulled = kind != "stall" }()
	l.want(0, nil, append([]string{"standin", "fault", phone, kind, "--after", fmt.Sprint(after)},
		more...)...)
}

// until waits for something that takes its time.
func (l *lab) until(what string, is func() bool) {
	l.Helper()
	for end := time.Now().Add(time.Minute); !is(); time.Sleep(pressEvery) {
		if time.Now().After(end) {
			l.Fatalf("waited a minute for this: %s", what)
		}
	}
}

// untilMode waits until a phone shows up in a mode.
func (l *lab) untilMode(name, mode string) {
	l.Helper()
	l.until(name+" shows up in "+mode, func() bool {
		var r struct{ Phones []struct{ Name, Mode string } }
		_, out := l.run("bench", "--json")
		lines := strings.Split(strings.TrimSpace(out), "\n")
		if json.Unmarshal([]byte(lines[len(lines)-1]), &r) != nil {
			return false
		}
		for _, p := range r.Phones {
			if p.Name == name && p.Mode == mode {
				return true
			}
		}
		return false
	})
}

// journals reads all journals of the lab, in order.
func (l *lab) journals() [][]journal.Record {
	l.Helper()
	var all [][]journal.Record
	for _, j := range must(journal.Jobs(l.home)) {
		all = append(all, j.Records)
	}
	return all
}

// lastJournal gives the newest job's records.
func (l *lab) lastJournal() []journal.Record {
	l.Helper()
	all := l.journals()
	if len(all) == 0 {
		l.Fatal("there is no journal")
	}
	return all[len(all)-1]
}

// model writes a model file with changes to dunlin's and gives its path.
func (l *lab) model(name string, replace ...string) string {
	l.Helper()
	return l.modelOf("dunlin", name, replace...)
}

// modelOf does so with another built-in one. A change that changes nothing is a
// mistake in the test.
func (l *lab) modelOf(base, name string, replace ...string) string {
	l.Helper()
	text := string(must(os.ReadFile("../core/model/models/" + base + ".yaml")))
	for i := 0; i < len(replace); i += 2 {
		if !strings.Contains(text, replace[i]) {
			l.Fatalf("the model file of %s has no %q", base, replace[i])
		}
		text = strings.ReplaceAll(text, replace[i], replace[i+1])
	}
	must(model.Parse([]byte(text)))
	return l.file(name+".yaml", []byte(text))
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}
