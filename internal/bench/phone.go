package bench

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
	"jarlid/internal/link/fastboot"
)

// Phone is one phone that is listed or was named by its addresses.
type Phone struct {
	Entry
	bench  *Bench
	model  *model.Model
	locked bool // by this program
}

// Model gives the phone's model, nil when none is known.
func (p *Phone) Model() *model.Model { return p.model }

// connectLimit is how long a phone may take to greet, in a look at the bench.
const connectLimit = 4 * time.Second

// Link is an open connection to a phone in one mode.
type Link struct {
	Mode    card.Mode
	Address Address
	FB      *fastboot.Client
	ADB     *adb.Conn

	vars *variables // of fastboot, once they were read
}

// Close closes the connection; a nil Link is fine.
func (l *Link) Close() {
	if l == nil {
		return
	}
	if l.FB != nil {
		l.FB.Close()
	}
	if l.ADB != nil {
		l.ADB.Close()
	}
}

// NotHereError says that a phone does not answer.
type NotHereError struct{ Name, Text string }

// Error says which one.
func (e *NotHereError) Error() string { return e.Text }

// phones gives every listed phone.
func (b *Bench) phones() ([]*Phone, error) {
	entries, err := b.Entries()
	if err != nil {
		return nil, err
	}
	var list []*Phone
	for _, e := range entries {
		list = append(list, b.phone(e))
	}
	return list, nil
}

func (b *Bench) phone(e Entry) *Phone {
	return &Phone{Entry: e, bench: b, model: b.Models.Find(e.Model)}
}

// Seen is a phone that answered a look, with what was read.
type Seen struct {
	*Phone
	Mode    card.Mode
	Address string
	Card    *card.Card
	Denied  *adb.NotAuthorisedError // it is there and does not know this computer
}

// Look asks every listed phone, at the same time, whether it is here; absent
// are the names of those that do not answer.
func (b *Bench) Look(ctx context.Context) (here []Seen, absent []string, err error) {
	list, err := b.phones()
	if err != nil {
		return nil, nil, err
	}
	seen := make([]*Seen, len(list))
	var wg sync.WaitGroup
	for i, p := range list {
		wg.Go(func() { seen[i], _ = p.Look(ctx) })
	}
	wg.Wait()
	for i, s := range seen {
		if s == nil {
			absent = append(absent, list[i].Name)
		} else {
			here = append(here, *s)
		}
	}
	return here, absent, nil
}

// Look connects, reads and lets go again.
func (p *Phone) Look(ctx context.Context) (*Seen, error) {
	l, err := p.Connect(ctx, nil)
	var denied *adb.NotAuthorisedError
	if errors.As(err, &denied) {
		return &Seen{Phone: p, Mode: card.System, Address: p.ADB, Denied: denied, Card: &card.Card{}}, nil
	}
	if err != nil {
		return nil, err
	}
	defer l.Close()
	c, err := p.Read(ctx, l)
	if err != nil {
		return nil, err
	}
	return &Seen{Phone: p, Mode: l.Mode, Address: l.Address.String(), Card: c}, nil
}

// Pick gives the phone that is meant: by name, serial number or address, or
// the only one here. It connects to tell. Errors: *NotHereError, or a
// *FindingError with several-phones.
func (b *Bench) Pick(ctx context.Context, on string) (*Phone, error) {
	if isAddress(on) {
		return b.byAddress(on)
	}
	list, err := b.phones()
	if err != nil {
		return nil, err
	}
	if on != "" {
		for _, match := range []func(*Phone) bool{
			func(p *Phone) bool { return p.Name == on },
			func(p *Phone) bool { return p.Serial == on },
		} {
			var found []*Phone
			for _, p := range list {
				if match(p) {
					found = append(found, p)
				}
			}
			if len(found) == 1 {
				return found[0], nil
			}
			if len(found) > 1 {
				return nil, several(found)
			}
		}
		return nil, &NotHereError{Name: on, Text: fmt.Sprintf("no phone on the bench is called %q or has that serial number; the bench has: %s",
			on, orNone(names(list)))}
	}
	here, absent, err := b.Look(ctx)
	if err != nil {
		return nil, err
	}
	switch len(here) {
	case 1:
		return here[0].Phone, nil
	case 0:
		text := "no phone is here"
		if len(absent) > 0 {
			text = "none of the listed phones answers: " + strings.Join(absent, ", ")
		}
		return nil, &NotHereError{Text: text}
	}
	found := make([]*Phone, len(here))
	for i := range here {
		found[i] = here[i].Phone
	}
	return nil, several(found)
}

// meant gives the phones that --on may mean without asking them: the one at the
// addresses, those of that name or serial number, without a word all that are listed.
func (b *Bench) meant(on string) ([]*Phone, error) {
	if isAddress(on) {
		p, err := b.byAddress(on)
		return []*Phone{p}, err
	}
	list, err := b.phones()
	if err != nil || on == "" {
		return list, err
	}
	if list = named(list, on); len(list) == 0 {
		return nil, &NotHereError{Name: on, Text: fmt.Sprintf("no phone on the bench is called %q or has that serial number", on)}
	}
	return list, nil
}

// hand gives the model file's recipe of that name, or the usual one.
func (p *Phone) hand(name string, usual model.Recipe) model.Recipe {
	if r, ok := p.model.Hand(name); ok {
		return r
	}
	return usual
}

// named keeps the phones of that name or serial number.
func named(list []*Phone, on string) []*Phone {
	return slices.DeleteFunc(list, func(p *Phone) bool { return p.Name != on && p.Serial != on })
}

func names(list []*Phone) []string {
	var out []string
	for _, p := range list {
		out = append(out, p.Name)
	}
	return out
}

func orNone(list []string) string {
	if len(list) == 0 {
		return "nothing"
	}
	return strings.Join(list, ", ")
}

func several(list []*Phone) error {
	return &FindingError{Findings: []finding.Finding{{Name: finding.SeveralPhones, Severity: finding.Stop, Final: true,
		Text: "several phones are here: " + strings.Join(names(list), ", "), Remedy: "name one with --on"}}}
}

// byAddress takes addresses from the command line, separated by commas. A
// listed phone with one of them is that phone.
func (b *Bench) byAddress(on string) (*Phone, error) {
	e := Entry{}
	for s := range strings.SplitSeq(on, ",") {
		a, err := ParseAddress(strings.TrimSpace(s))
		if err != nil {
			return nil, &UsageError{err.Error()}
		}
		if a.Protocol == "adb" {
			e.ADB = a.String()
		} else {
			e.Fastboot = a.String()
		}
		e.Name = strings.NewReplacer(":", "-", "[", "", "]", "").Replace(a.HostPort)
	}
	list, err := b.phones()
	if err != nil {
		return nil, err
	}
	for _, p := range list {
		if e.Fastboot != "" && same(p.Fastboot, e.Fastboot) || e.ADB != "" && same(p.ADB, e.ADB) {
			return p, nil
		}
	}
	return b.phone(e), nil
}

func same(a, b string) bool {
	x, err1 := ParseAddress(a)
	y, err2 := ParseAddress(b)
	return err1 == nil && err2 == nil && x == y
}

// UsageError is a word on the command line that can't be right.
type UsageError struct{ Text string }

// Error gives the text.
func (e *UsageError) Error() string { return e.Text }

// Connect connects to the phone in whatever mode it is in. offered, when not
// nil, shows this computer's key to a phone that does not know it, is called
// then, and the owner's answer is awaited until ctx ends.
func (p *Phone) Connect(ctx context.Context, offered func()) (*Link, error) {
	if offered == nil {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, connectLimit)
		defer cancel()
	}
	type result struct {
		l   *Link
		err error
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	results := make(chan result, 2)
	tries := 0
	for _, a := range []string{p.Fastboot, p.ADB} {
		if a == "" {
			continue
		}
		addr, err := ParseAddress(a)
		if err != nil {
			return nil, err
		}
		tries++
		go func() {
			l, err := p.connectTo(ctx, addr, offered)
			results <- result{l, err}
		}()
	}
	var last error
	for range tries {
		r := <-results
		if r.err == nil {
			// The other address, if it answers too, belongs to another mode of
			// the same phone and cannot: let it go.
			go func(n int) {
				for range n {
					if o := <-results; o.l != nil {
						o.l.Close()
					}
				}
			}(tries - 1)
			return r.l, nil
		}
		tries--
		var denied *adb.NotAuthorisedError
		var rule *link.ProtocolError
		if last == nil || errors.As(r.err, &denied) || errors.As(r.err, &rule) {
			last = r.err
		}
	}
	var lost *link.LostError
	if errors.As(last, &lost) {
		return nil, &NotHereError{Name: p.Name, Text: fmt.Sprintf("%s does not answer at %s: %v", p.Name,
			strings.Trim(p.Fastboot+" "+p.ADB, " "), lost.Err)}
	}
	return nil, last
}

func (p *Phone) connectTo(ctx context.Context, a Address, offered func()) (*Link, error) {
	l := &Link{Address: a}
	if a.Protocol != "adb" {
		t, err := p.dialFastboot(ctx, a)
		if err != nil {
			return nil, err
		}
		l.FB, l.Mode = fastboot.New(t), card.Bootloader
		v, _, err := l.FB.GetVar(ctx, "is-userspace")
		if err != nil {
			l.Close()
			return nil, err
		}
		if yes, ok := card.ParseYes(v); ok && yes {
			l.Mode = card.Fastbootd
		}
		return l, nil
	}
	key, err := p.bench.Key()
	if err != nil {
		return nil, err
	}
	l.ADB, err = adb.Dial(ctx, a.HostPort, adb.Options{Key: key, Offer: offered != nil, Offered: offered})
	if err != nil {
		return nil, err
	}
	switch l.ADB.Peer.Kind {
	case "device":
		l.Mode = card.System
	case "recovery":
		l.Mode = card.Recovery
	case "sideload":
		l.Mode = card.Sideload
	default:
		l.Close()
		return nil, &link.ProtocolError{Protocol: "ADB", What: fmt.Sprintf("says it is in a mode %q, which Jar Lid does not know", l.ADB.Peer.Kind)}
	}
	return l, nil
}

// dialFastboot connects over TCP or UDP. A new session over UDP ends the one
// there is, so a phone that another jarlid works on is let alone.
func (p *Phone) dialFastboot(ctx context.Context, a Address) (fastboot.Transport, error) {
	if a.Protocol == "tcp" {
		return fastboot.DialTCP(ctx, a.HostPort)
	}
	if !p.locked {
		unlock, err := p.Lock()
		if err != nil {
			return nil, &link.LostError{During: "connecting", Err: err}
		}
		unlock()
	}
	return fastboot.DialUDP(ctx, a.HostPort)
}

// Lock makes this program the only one that works on the phone.
func (p *Phone) Lock() (unlock func(), err error) {
	dir := filepath.Join(p.bench.Home, "locks")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	lock := flock.New(filepath.Join(dir, safeName(p.Name)))
	ok, err := lock.TryLock()
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, fmt.Errorf("another jarlid is working on %s; wait until it has finished", p.Name)
	}
	p.locked = true
	return func() {
		p.locked = false
		lock.Unlock()
	}, nil
}

func safeName(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9', r == '-', r == '_':
			return r
		case r == '.':
			return '_'
		}
		return '-'
	}, s)
}

// WrongModeError says that a phone came up in another mode than it was sent to.
type WrongModeError struct{ Want, Got card.Mode }

// Error names both.
func (e *WrongModeError) Error() string {
	return fmt.Sprintf("the phone came up in %s instead of %s", e.Got, e.Want)
}

const (
	pollEvery = 150 * time.Millisecond
	// settle is how long a phone may be seen in another mode before that is
	// taken for where it ended up: some pass through the bootloader.
	settle = 6 * time.Second
)

// Await waits until the phone shows up in the wanted mode. With patient set,
// other modes on the way do not count: a person is at work. Errors:
// *WrongModeError, *adb.NotAuthorisedError, *NotHereError when limit is over.
func (p *Phone) Await(ctx context.Context, want card.Mode, limit time.Duration, patient bool) (*Link, error) {
	return p.awaitOne(ctx, limit, patient, want)
}

// awaitOne waits for one of several modes, of which the first is the one that was
// wanted.
func (p *Phone) awaitOne(ctx context.Context, limit time.Duration, patient bool, modes ...card.Mode) (*Link, error) {
	want := modes[0]
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	var other card.Mode
	var since time.Time
	for {
		l, err := p.Connect(ctx, nil)
		var denied *adb.NotAuthorisedError
		switch {
		case err == nil && slices.Contains(modes, l.Mode):
			return l, nil
		case errors.As(err, &denied) && want == card.System:
			return nil, err
		case err == nil:
			if l.Mode != other {
				other, since = l.Mode, time.Now()
			}
			l.Close()
			if !patient && time.Since(since) > settle {
				return nil, &WrongModeError{Want: want, Got: other}
			}
		default:
			other = card.None
		}
		select {
		case <-ctx.Done():
			if other != card.None {
				return nil, &WrongModeError{Want: want, Got: other}
			}
			if errors.Is(ctx.Err(), context.Canceled) {
				return nil, ctx.Err()
			}
			return nil, &NotHereError{Name: p.Name, Text: fmt.Sprintf("%s did not show up in %s within %s", p.Name, want, limit.Round(time.Second))}
		case <-time.After(pollEvery):
		}
	}
}
