package main

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/gofrs/flock"

	"jarlid/internal/journal"
)

// testKey is the key of every home: making one takes a second.
var testKey = func() []byte {
	for _, dir := range []string{"internal/link/adb/testdata", "../link/adb/testdata"} {
		if b, err := os.ReadFile(filepath.Join(dir, "key.pem")); err == nil {
			return b
		}
	}
	return nil // each home makes its own
}()

// undisturbed is what a story comes to when nothing goes wrong.
type undisturbed struct {
	code   int
	mode   string
	hashes map[string]uint64 // of each partition that is the same every time
}

// changing are partitions that differ each time: file systems with numbers of their own, state.
var changing = []string{"userdata", "metadata", "misc", "cache"}

// hashSeed is this process's: hashes are only compared within it.
var hashSeed = maphash.MakeSeed()

// hashes are those of the phone's partitions.
func (w *world) hashes() map[string]uint64 {
	out := map[string]uint64{}
	files, _ := filepath.Glob(filepath.Join(w.at(), "partitions", "*.img"))
	for _, f := range files {
		name := strings.TrimSuffix(filepath.Base(f), ".img")
		if slices.Contains(changing, name) {
			continue
		}
		in, err := os.Open(f)
		if err != nil {
			continue
		}
		var h maphash.Hash
		h.SetSeed(hashSeed)
		_, err = io.Copy(&h, in)
		in.Close()
		if err == nil {
			out[name] = h.Sum64()
		}
	}
	return out
}

// baseline runs a story undisturbed.
func (l *lab) baseline(t *testing.T, p Plan) (undisturbed, error) {
	s, name := stories[p.Story], phones[p.Phone].name
	got, err := l.once("baseline "+name+" "+s.name, func() (any, error) {
		state, err := l.prepared(t, p.Phone, s.state)
		if err != nil {
			return nil, err
		}
		k, err := l.kit(p.Phone)
		if err != nil {
			return nil, err
		}
		dir, err := os.MkdirTemp(l.dir, "baseline-")
		if err != nil {
			return nil, err
		}
		defer os.RemoveAll(dir)
		if err := copyTree(state, dir); err != nil {
			return nil, err
		}
		var u undisturbed
		l.inBubble(t, dir, name, k, func(w *world) {
			if err = w.start(); err != nil {
				return
			}
			w.settle(s.state)
			var out string
			u.code, out = w.run(nil, w.words(s)...)
			if u.code != 0 {
				err = fmt.Errorf("undisturbed, %s on %s ends with %d:\n%s", s.name, name, u.code, out)
			}
			u.mode, u.hashes = w.mode(), w.hashes()
		})
		return u, err
	})
	if err != nil {
		return undisturbed{}, err
	}
	return got.(undisturbed), nil
}

// words are the command of a story in this world.
func (w *world) words(s story) []string {
	args := append(s.args(w.kit), accepts...)
	for i := range args {
		if args[i] == "KEPT" {
			args[i] = filepath.Join(w.dir, "kept")
		}
	}
	return args
}

// settle waits until the phone is in the mode a state begins in, and brings it there.
func (w *world) settle(state string) {
	mode := w.modeOf(state)
	if w.mode() != mode && !w.until(mode) {
		w.bad("%s does not come into %s, where this begins", w.name, mode)
	}
}

// run is one run: the story with its faults, what it claims compared with the phone, and the
// repeat.
func (l *lab) run(t *testing.T, p Plan, verbose bool) {
	s, name := stories[p.Story], phones[p.Phone].name
	base, err := l.baseline(t, p)
	if err != nil {
		t.Fatalf("%v\n(%v)", err, p)
	}
	state, err := l.prepared(t, p.Phone, s.state)
	if err != nil {
		t.Fatalf("l.prepared(p.Phone, s.state): %v", err)
	}
	k, err := l.kit(p.Phone)
	if err != nil {
		t.Fatalf("l.kit(p.Phone): %v", err)
	}
	dir := t.TempDir()
	if err := copyTree(state, dir); err != nil {
		t.Fatalf("copyTree(state, %v): %v", dir, err)
	}
	l.counts.Lock()
	l.counts.stories[s.name]++
	for _, f := range p.Faults {
		l.counts.faults[string(f.Kind)]++
	}
	l.counts.Unlock()
	var said strings.Builder
	defer func() { // a failure ends the test in the bubble
		if t.Failed() || verbose {
			t.Logf("%v\n%s", p, said.String())
		}
		if verbose {
			fmt.Println(said.String())
		}
	}()
	l.inBubble(t, dir, name, k, func(w *world) {
		w.quirk = quirks[p.Quirk]
		w.told = func(args []string, code int, out string) {
			fmt.Fprintf(&said, "$ jarlid %s\n%s(%d)\n", strings.Join(args, " "), out, code)
		}
		if err := w.start(); err != nil {
			t.Fatalf("w.start(): %v", err)
		}
		w.settle(s.state)
		w.disturbed(p, s, base)
		if !t.Failed() {
			l.counts.Lock()
			l.counts.ended[w.ended]++
			l.counts.Unlock()
		}
	})
}

// order makes something go wrong on the phone.
func (w *world) order(words ...string) {
	w.run(nil, append([]string{"standin", "fault", w.name}, words...)...)
}

// disturbed runs the story with its faults and checks what is left.
func (w *world) disturbed(p Plan, s story, base undisturbed) {
	seam := w.seams()
	other := make(chan struct{}, 1)
	second := false
	for _, f := range p.Faults {
		switch f.Kind {
		case Silence:
			w.order("stall", "--after", fmt.Sprint(f.Bytes), "--for", "200")
		case Refusal:
			w.order("refuse", "--after", fmt.Sprint(f.Count-1), "--for", fmt.Sprint(f.More))
		case Lie:
			w.order("lie-size")
		case Empty:
			w.order("battery", "--after", fmt.Sprint(f.Bytes))
		case PhoneOut:
			w.order("full")
		case Clock:
			w.ahead()
		case Second:
			second = true
		}
	}
	seam.arrange(p.Faults, func() { seam.interrupted() }, func() {
		go func() {
			q := w.begin(nil, nil, "wipe", "caches", "--yes")
			<-q.done
			other <- struct{}{}
		}()
	})
	before := len(w.jobs())
	words := w.words(s)
	held := map[string]uint64{}
	damaged := p.Damage && w.damage(words)
	if damaged {
		held = w.hashes()
	}
	code, out := w.run(seam, words...)
	if damaged {
		w.untouched(code, before, held)
	}
	w.ended = code
	w.plain(out)
	if code == -1 {
		w.locks++ // the system lets go of a dead program's locks
	}
	if second {
		select {
		case <-other:
		case <-time.After(time.Minute):
		}
	}
	if code == 0 {
		w.holdsWhatItSays()
	}
	w.journaled(code, before)
	// What went wrong is put right: the cable, the charger, the disk.
	w.order("clear")
	time.Sleep(10 * time.Minute) // a phone that takes nothing begins again when it has ended
	w.awake(s.state)
	w.holdsWhatItSays()
	w.unlocked()
	if code != 0 {
		w.again(s, base)
	}
}

// damage puts a damaged copy instead of the first file among the words of a command, with the digest of
// what it was beside it; false where there is none.
func (w *world) damage(words []string) bool {
	for i, word := range words {
		b, err := os.ReadFile(word)
		if err != nil || len(b) < 16 {
			continue
		}
		path := filepath.Join(w.dir, "damaged-"+filepath.Base(word))
		list := fmt.Appendf(nil, "%x", sha256.Sum256(b))
		for k := range 8 {
			b[len(b)/2+k] ^= 0x5a
		}
		if err := errors.Join(os.WriteFile(path, b, 0o600), os.WriteFile(path+".sha256", list,
			0o600)); err != nil {
			w.bad("%v", err)
		}
		words[i] = path
		return true
	}
	return false
}

// untouched: for a damaged file nothing is erased, written or installed, and nothing is said to be done.
func (w *world) untouched(code, before int, held map[string]uint64) {
	if code == 0 {
		w.bad("done with a damaged file")
	}
	for _, j := range w.jobs()[before:] {
		if len(j.Records) > 0 && slices.Contains(j.Records[0].Command, "caches") {
			continue // the second program's
		}
		for _, r := range j.Records {
			if r.Event == journal.Act {
				w.bad("job %s acted (%s) before its file was verified", j.Name(), r.Title)
			}
		}
	}
	if now := w.hashes(); !maps.Equal(now, held) {
		w.bad("the phone was changed for a damaged file")
	}
}

// ahead has all journals be of a year later: the clock was set back since.
func (w *world) ahead() {
	for _, j := range w.jobs() {
		file := filepath.Join(j.Dir, "journal.jsonl")
		b, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		year := time.Now().Year()
		b = bytes.ReplaceAll(b, fmt.Appendf(nil, `"at":"%d-`, year), fmt.Appendf(nil, `"at":"%d-`, year+1))
		if err := os.WriteFile(file, b, 0o600); err != nil {
			w.bad("%v", err)
		}
	}
}

// plain: no word of a library or a socket reaches a person, and no panic.
func (w *world) plain(out string) {
	for _, bad := range []string{"panic:", "goroutine ", "use of closed", "broken pipe", "context deadline",
		"context canceled", "i/o timeout", "connection reset by peer", ": EOF", "unexpected EOF",
		"nil pointer"} {
		if strings.Contains(out, bad) {
			w.bad("a person reads %q:\n%s", bad, out)
		}
	}
}

// holdsWhatItSays: what journals say was written and confirmed is what the phone holds, as long as
// nothing came behind it.
func (w *world) holdsWhatItSays() {
	type claim struct {
		sum   string
		bytes int64
		job   string
	}
	claims := map[string]claim{}
	for _, j := range w.jobs() {
		open := ""
		for _, r := range j.Records {
			data := r.Data
			if data == nil && r.Step > 0 && r.Step <= len(j.Records[0].Steps) {
				data = &j.Records[0].Steps[r.Step-1]
			}
			part := ""
			if data != nil && data.Kind == "write" {
				if with, ok := data.With.(map[string]any); ok {
					if pt, ok := with["partition"].(map[string]any); ok {
						part, _ = pt["base"].(string)
						if slot, _ := pt["slot"].(string); slot != "" {
							part += "_" + slot
						}
						if logical, _ := with["logical"].(bool); logical {
							part = ""
						}
					}
				}
			}
			switch {
			case r.Event == journal.Act && data != nil && data.Kind != "restart" && data.Kind != "put":
				open = part
				if data.Kind != "write" { // it may write anything
					clear(claims)
				}
				delete(claims, part)
			case r.Event == journal.Done && part != "" && part == open && r.SHA256 != "":
				claims[part] = claim{r.SHA256, r.Bytes, j.Name()}
			}
		}
	}
	for part, c := range claims {
		b := w.stored(part)
		if b == nil || int64(len(b)) < c.bytes {
			continue
		}
		if sum := sha256.Sum256(b[:c.bytes]); hex.EncodeToString(sum[:]) != c.sum {
			w.bad("job %s says that %s holds what was sent (%d bytes, %s), and it does not", c.job, part,
				c.bytes, c.sum)
		}
	}
}

// journaled: a job that did not come to its end says what was under way.
func (w *world) journaled(code, before int) {
	list := w.jobs()
	if len(list) <= before || code == 0 {
		return
	}
	last := list[len(list)-1]
	if last.Damage != nil {
		w.bad("the journal can't be read: %v", last.Damage)
		return
	}
	if last.Cancelled() {
		return // by a person, before anything was changed: nothing has to be resumed
	}
	open := false
	for _, r := range last.Records {
		switch r.Event {
		case journal.Act:
			open = true
		case journal.Done:
			open = false
		}
	}
	if b, err := journal.BrokenOff(w.home(), journal.Who{Name: w.name}); open && (err != nil || b == nil ||
		b.Step == "") {
		w.bad("a step was under way, and nothing says so: %+v, %v", b, err)
	}
}

// awake brings the phone back from where the fault left it: charged, on, and in the mode the
// story begins in where that can be reached.
func (w *world) awake(state string) {
	never := make(chan struct{})
	w.press(never, "charge")
	time.Sleep(10 * time.Second)
	// Straight into the mode, by its keys: a system that starts on the way may change what is there.
	mode, keys := w.modeOf(state), phones[w.which].keys
	writes := phones[w.which].writes
	if w.mode() == mode {
		return
	}
	if mode == "system" && keys[mode] == nil {
		w.press(never, keys[writes]...)
		w.until(writes)
		w.press(never, "start")
		w.until("system")
		return
	}
	w.press(never, keys[mode]...)
	// What it would start may be broken, or a manufacturer's recovery that does not listen: the bootloader
	// is always there.
	if !w.until(mode) || mode == "recovery" && !w.answers() {
		w.press(never, keys[writes]...)
		w.until(writes)
	}
}

// modeOf is the mode of a state on this phone.
func (w *world) modeOf(state string) string {
	if state == inBootloader || state == isLocked {
		return phones[w.which].writes
	}
	return state
}

// answers reports whether the phone is here.
func (w *world) answers() bool {
	code, _ := w.run(nil, "bench")
	return code == 0
}

// unlocked: nobody holds a lock any more.
func (w *world) unlocked() {
	files, _ := filepath.Glob(filepath.Join(w.dir, fmt.Sprint("locks-", w.locks), "*"))
	for _, f := range files {
		if strings.HasSuffix(f, ".who") {
			continue
		}
		l := flock.New(f)
		ok, err := l.TryLock()
		if err != nil && !errors.Is(err, os.ErrNotExist) || !ok {
			w.bad("%s is still locked: %v", filepath.Base(f), err)
		}
		l.Unlock()
	}
}

// again runs what was interrupted again, as jarlid says where it says so: it has to end as an
// undisturbed run.
func (w *world) again(s story, base undisturbed) {
	words := w.words(s)
	if s.once {
		var here struct {
			Phones []struct {
				Broken *struct{ Command []string } `json:"broken_off"`
			} `json:"phones"`
		}
		_, out := w.run(nil, "--json")
		lines := strings.Split(strings.TrimSpace(out), "\n")
		if json.Unmarshal([]byte(lines[len(lines)-1]), &here) == nil && len(here.Phones) == 1 {
			if b := here.Phones[0].Broken; b != nil && len(b.Command) > 1 {
				words = b.Command[1:]
				if i := slices.Index(words, "--home"); i >= 0 {
					words = slices.Delete(slices.Clone(words), i, i+2)
				}
				if !slices.Contains(words, "--yes") { // what is left of it, and not what was typed
					words = append(slices.Clone(words), "--yes")
					if words[0] != "go" {
						words = append(words, accepts...)
					}
				}
			}
		}
	}
	code, out := w.run(nil, words...)
	w.plain(out)
	if code != base.code {
		w.bad("the repeat ends with %d, undisturbed it is %d:\n%s", code, base.code, out)
		return
	}
	w.holdsWhatItSays()
	if s.once || words[0] == "go" {
		return
	}
	now := w.hashes()
	for part, sum := range base.hashes {
		if now[part] != sum {
			w.bad("after the repeat %s is not what it is after an undisturbed run", part)
		}
	}
}

// report says what was run.
func (l *lab) report(out io.Writer) {
	l.counts.Lock()
	defer l.counts.Unlock()
	list := func(m map[string]int) string {
		var s []string
		for name, n := range m {
			s = append(s, fmt.Sprintf("%s %d", name, n))
		}
		slices.Sort(s)
		return strings.Join(s, ", ")
	}
	ended := map[string]int{}
	for code, n := range l.counts.ended {
		ended[map[bool]string{true: "killed", false: fmt.Sprintf("exit %d", code)}[code == -1]] += n
	}
	fmt.Fprintf(out, "commands: %s\nfaults: %s\nends: %s\n", list(l.counts.stories), list(l.counts.faults),
		list(ended))
}
