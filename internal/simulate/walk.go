package main

import (
	"fmt"
	"hash/fnv"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"jarlid/internal/journal"
	"jarlid/internal/link/usb/soft"
)

// The advice walk: a phone is brought into a bad state by commands and faults, and a person who knows nothing
// of phones does what Jar Lid says, and nothing more, until a system runs.

// mostSteps is how many commands a walk may take.
const mostSteps = 12

// Walk is one walk.
type Walk struct {
	Seed  int64
	N     int
	Phone int
	State int // of the list troubles
}

func (p Walk) String() string {
	return fmt.Sprintf("seed %d, walk %d: %s on %s", p.Seed, p.N, troubles[p.State].name,
		phones[p.Phone].name)
}

// walkOf is a walk by its number: each phone starts as many walks as any other, and in each of the states
// that it can be in.
func walkOf(seed int64, n int) Walk {
	p := Walk{Seed: seed, N: n, Phone: n % len(phones)}
	var can []int
	for i, s := range troubles {
		if s.can == nil || s.can(phones[p.Phone]) {
			can = append(can, i)
		}
	}
	p.State = can[n/len(phones)%len(can)]
	return p
}

// circles are walks that did not come to a running system before what they met was mended.
var circles = []struct {
	seed int64
	n    int
}{
	{1, 16}, // an update that is not merged over the data of another system: a wipe that is stopped
	{1, 18},
	{1, 27},
	{1, 34}, // no slot can start, and userspace fastboot is needed
	{1, 38},
	{1, 46}, // an update that is merging, and an emptied vendor_boot
	{1, 56},
	{1, 75},  // an unknown phone whose recovery needs an image in dtbo
	{1, 94},  // a start that could not use the data made it its own
	{1, 107}, // a loader, and a battery to be charged
	{2, 40},  // the one slot with tries left holds nothing
}

// random gives the numbers of a walk.
func (p Walk) random() *rand.Rand {
	h := fnv.New64()
	fmt.Fprint(h, "walk", p.Seed, p.N)
	return rand.New(rand.NewPCG(h.Sum64(), uint64(p.N)))
}

// walk takes a walk.
func (l *lab) walk(t *testing.T, p Walk, verbose bool) {
	state := troubles[p.State]
	dir := t.TempDir()
	k, file, err := l.walker(t, p, dir)
	if err != nil {
		t.Fatalf("l.walker(%v): %v", p, err)
	}
	var said strings.Builder
	defer func() { // a failure ends the test in the bubble
		if t.Failed() || verbose {
			fmt.Printf("=== %v\n%s\n", p, said.String())
		}
	}()
	l.inBubble(t, dir, phones[p.Phone].name, k, func(w *world) {
		w.told = func(args []string, code int, out string) {
			fmt.Fprintf(&said, "$ jarlid %s\n%s(%d) [%s]\n", strings.Join(args, " "), out, code, w.mode())
		}
		if w.file = file; file != "" { // what is in the network is listed with its model
			w.bus = &soft.Bus{Rate: w.net.Rate}
		}
		if err := w.start(); err != nil {
			t.Fatalf("w.start(): %v", err)
		}
		w.settle(state.state)
		state.make(w, p.random())
		w.looks = w.sees
		time.Sleep(20 * time.Minute) // until it has come to rest
		said.WriteString("--- the walk\n")
		w.follow()
	})
}

// walker puts a phone in dir, in the state that the walk's trouble begins in, and gives its files; file is
// the model file of one that is unknown.
func (l *lab) walker(t *testing.T, p Walk, dir string) (k kit, file string, err error) {
	state := troubles[p.State]
	if state.unknown {
		if err := makeHome(dir); err != nil {
			return k, "", err
		}
		return l.makeUnknown(p.Phone, dir)
	}
	from, err := l.prepared(t, p.Phone, state.state)
	if err != nil {
		return k, "", err
	}
	if err := copyTree(from, dir); err != nil {
		return k, "", err
	}
	k, err = l.kit(p.Phone)
	return k, "", err
}

// follow does what is said, from plain jarlid on, until a system runs or a file is missing.
func (w *world) follow() {
	tried := map[string]bool{}
	var states []string
	var todo []string
	for range mostSteps {
		if w.mode() == "system" {
			return
		}
		now := w.digest()
		switch n := slices.Index(states, now); {
		case n < 0:
			states = append(states, now)
		case n != len(states)-1:
			w.bad("a circle: this state was there before")
			return
		}
		todo = append(todo, "jarlid")
		n := slices.IndexFunc(todo, func(c string) bool { return !tried[now+c] })
		if n < 0 {
			w.bad("no way on: what is advised was done")
			return
		}
		command := todo[n]
		tried[now+command] = true
		words, missing := w.supplied(split(command)[1:])
		if missing != "" {
			return
		}
		code, out := w.run(nil, words...)
		if code == 2 {
			w.bad("advice that is wrong usage: %s", command)
			return
		}
		w.plain(out)
		if strings.Contains(out, "which a model file can give") {
			return
		}
		next, hands, accepts := advised(out)
		for _, keys := range hands {
			w.press(make(chan struct{}), keys...)
			time.Sleep(time.Minute)
		}
		if len(next) > 0 || code != 0 {
			todo = next
		}
		switch {
		case len(accepts) > 0:
			todo = append([]string{command + " " + strings.Join(accepts, " ")}, todo...)
		case len(hands) > 0:
			todo = append([]string{command}, todo...)
		}
	}
	if w.mode() != "system" {
		w.bad("after %d commands no system runs", mostSteps)
	}
}

// sees gives the number of what the phone's screen shows, of those that arrive asks about.
func (w *world) sees() string {
	return map[string]string{"system": "1", "": "3", "recovery": "4", "sideload": "4", "bootloader": "5",
		"loader": "5"}[w.mode()]
}

// files are words for files that a person has to get.
var files = regexp.MustCompile(`^(FILE|SET|PACKAGE|[A-Z]+-IMAGE)$`)

// supplied puts files in place of the words in capitals; missing is a file that is not there.
func (w *world) supplied(words []string) (full []string, missing string) {
	have := map[string]string{"recovery FILE": w.kit.recovery, "sideload PACKAGE": w.kit.Package,
		"flash SET": w.kit.Set, "flash FILE": w.kit.Set, "flash DTBO-IMAGE": w.kit.Overlay,
		"backup DIR": filepath.Join(w.dir, "kept")}
	for _, word := range words {
		if word == strings.ToUpper(word) && strings.ContainsAny(word, "ABCDEFGHIJKLMNOPQRSTUVWXYZ") {
			f := have[words[0]+" "+word]
			if f == "" && files.MatchString(word) {
				return nil, word
			}
			word = f
		}
		full = append(full, word)
	}
	return full, ""
}

// allows is the option that lifts a stop, as a todo says it.
var allows = regexp.MustCompile(`--accept \S+`)

// advised gives the commands of what was said, in its order, the keys of what a person has to do without a
// command, and the options that lift a stop of the command that said it.
func advised(out string) (commands []string, hands [][]string, accepts []string) {
	var lines []string
	for line := range strings.Lines(out) {
		line = strings.TrimRight(line, "\n")
		if strings.HasPrefix(line, "      ") && len(lines) > 0 { // folded
			lines[len(lines)-1] += " " + strings.TrimSpace(line)
			continue
		}
		lines = append(lines, line)
	}
	stops, about := 0, ""
	for _, line := range lines {
		kind, text, _ := strings.Cut(line, "  ")
		if kind != "todo" {
			about = kind
		}
		if kind != "next" && kind != "todo" {
			continue
		}
		text = strings.TrimSpace(text)
		if kind == "todo" {
			for words, keys := range deeds {
				if strings.Contains(text, words) {
					hands = append(hands, keys)
				}
			}
			n := strings.LastIndex(text, ": jarlid ")
			if end := strings.Index(text[max(n, 0):], ". "); n >= 0 && end >= 0 { // the sentence's
				text = text[:n+end]
			}
			switch {
			case strings.HasPrefix(text, "jarlid "):
			case n >= 0:
				text = strings.TrimSuffix(text[n+2:], ".")
			default:
				accepts = append(accepts, allows.FindAllString(text, -1)...)
				continue
			}
		}
		if about == "stop" { // what stops the job is seen to before what it warns of
			commands = slices.Insert(commands, stops, text)
			stops++
			continue
		}
		commands = append(commands, text)
	}
	return commands, hands, accepts
}

// deeds are what a person does where no command is said, by the words that say it.
var deeds = map[string][]string{"charged": {"charge", "cable-in"},
	"charge the phone": {"charge"}}

// split takes a command apart as a shell does.
func split(command string) (words []string) {
	var word strings.Builder
	quote, inside := rune(0), false
	for _, c := range command {
		switch {
		case quote != 0 && c == quote:
			quote = 0
		case quote != 0:
			word.WriteRune(c)
		case c == '\'' || c == '"':
			quote, inside = c, true
		case c == ' ':
			if inside {
				words = append(words, word.String())
			}
			word.Reset()
			inside = false
		default:
			word.WriteRune(c)
			inside = true
		}
	}
	if inside {
		words = append(words, word.String())
	}
	return words
}

// digest is the state of the phone and of what is known of it: its storage, mode, screen and open job.
func (w *world) digest() string {
	h := fnv.New128a()
	files, _ := filepath.Glob(filepath.Join(w.at(), "partitions", "*.img"))
	for _, f := range files {
		in, err := os.Open(f)
		if err != nil {
			continue
		}
		fmt.Fprint(h, f)
		if _, err := io.Copy(h, in); err != nil {
			w.bad("%v", err)
		}
		in.Close()
	}
	state, _ := os.ReadFile(filepath.Join(w.at(), "state.json"))
	h.Write(state)
	if b, err := journal.BrokenOff(w.home(), journal.Who{Name: w.name}); err == nil && b != nil {
		fmt.Fprint(h, b.Step)
	}
	return fmt.Sprintf("%x", h.Sum(nil))
}
