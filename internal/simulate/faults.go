package main

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"runtime"
	"strings"
	"sync"
	"syscall"

	"jarlid/internal/journal"
	"jarlid/internal/link"
	"jarlid/internal/link/serial"
	"jarlid/internal/link/usb"
)

// Kind is one kind of fault.
type Kind string

// The faults, each placed by a count and never by time.
const (
	// the program ends in the middle: after bytes on the wire, or before a record
	Kill     Kind = "kill"
	CtrlC    Kind = "ctrl-c"         // once; twice where more is set
	Cut      Kind = "cut"            // the connection breaks after bytes
	Silence  Kind = "silence"        // the phone takes nothing for some minutes after bytes
	Refusal  Kind = "refusal"        // the phone refuses a command
	Lie      Kind = "lie"            // it tells sizes twice as large
	Empty    Kind = "empty battery"  // it goes off after bytes
	PhoneOut Kind = "full phone"     // its storages and partitions take nothing any more
	DiskFull Kind = "full disk"      // the journal's disk, from a record on
	ReadOnly Kind = "read-only home" // no journal can be begun
	Clock    Kind = "clock set back" // what earlier jobs wrote is a year ahead
	Second   Kind = "second program" // another one works on the phone at the same time
)

var kinds = []Kind{Kill, CtrlC, Cut, Silence, Refusal, Lie, Empty, PhoneOut, DiskFull, ReadOnly,
	Clock, Second}

// Fault is one fault and where it comes.
type Fault struct {
	Kind  Kind
	Bytes int64 // on the wire; 0: not by bytes
	Count int   // of records, commands; 0: not by these
	More  int   // how often or how long
}

func (f Fault) String() string {
	return fmt.Sprintf("%s after %d bytes, at %d, %d times", f.Kind, f.Bytes, f.Count, f.More)
}

// Plan is one run.
type Plan struct {
	Seed   int64
	N      int
	Phone  int
	Story  int
	Faults []Fault
	// Damage has eight bytes of the command's file changed, with the digest of what it was beside it: nothing
	// may be changed on the phone for such a file.
	Damage bool
	// Quirk is what the phone's recoveries do differently from others, of the list quirks.
	Quirk int
}

// quirks are what recoveries do differently and a person does not notice, as in a stand-in's model file.
var quirks = []string{"", "bind: true", "banner: Welcome, old-id: true", "by-name: bootdevice",
	"by-name: platform",
	"by-name: none", "small-mke2fs: true", "unmounted: true", "lacks: [blockdev], no-sys: true",
	"lacks: [sha256sum, df]", "lacks: [readlink, head, blockdev], by-name: none"}

// damageEvery is one run of how many has a damaged file.
const damageEvery = 5

// damaged is a plan with its file damaged, where it is one of those.
func (p Plan) damaged() Plan {
	p.Damage = p.N%damageEvery == 0
	return p
}

func (p Plan) String() string {
	var faults []string
	for _, f := range p.Faults {
		faults = append(faults, f.String())
	}
	if p.Damage {
		faults = append(faults, "a damaged file")
	}
	if quirks[p.Quirk] != "" {
		faults = append(faults, "its recoveries have "+quirks[p.Quirk])
	}
	return fmt.Sprintf("seed %d, run %d: %s on %s; %s", p.Seed, p.N, stories[p.Story].name,
		phones[p.Phone].name, strings.Join(faults, "; "))
}

// plan works out a run from its number and the seed.
func plan(seed int64, n int) Plan {
	h := fnv.New64()
	fmt.Fprint(h, seed, n)
	r := rand.New(rand.NewPCG(h.Sum64(), uint64(n)))
	p := Plan{Seed: seed, N: n, Story: r.IntN(len(stories))}
	for {
		p.Phone = r.IntN(ownLoader)
		if stories[p.Story].isOn(p.Phone) {
			break
		}
	}
	if n%ownLoaderEvery == ownLoaderEvery-1 && stories[p.Story].isOn(ownLoader) {
		p.Phone = ownLoader
	}
	// Small counts meet the greeting and the first questions, large ones the images.
	sizes := []int64{200, 4 << 10, 64 << 10, 1 << 20, 4 << 20, 12 << 20, 40 << 20}
	for range 1 + r.IntN(2) {
		f := Fault{Kind: kinds[r.IntN(len(kinds))], More: 1 + r.IntN(3)}
		f.Bytes = 1 + r.Int64N(sizes[r.IntN(len(sizes))])
		f.Count = 1 + r.IntN(8)
		if f.Kind == Kill || f.Kind == CtrlC {
			if r.IntN(2) == 0 {
				f.Count = 0
			} else {
				f.Bytes = 0
			}
		}
		p.Faults = append(p.Faults, f)
	}
	if r.IntN(3) == 0 {
		p.Quirk = r.IntN(len(quirks))
	}
	return p
}

// errKilled is what seams of a program that was killed give until it notices.
var errKilled = errors.New("killed")

// seams are where a program meets the world, and where faults are put.
type seams struct {
	dial link.Dialer
	mu   sync.Mutex
	// bytes that went over all connections, and records that were written
	bytes   int64
	records int
	conns   map[io.Closer]bool
	dead    bool
	// On a cable: what counts its bytes, and what pulls it and puts it back.
	cable usb.Bus
	ports serial.Ports
	pull  func()
	// on is called with what has gone by, each time something goes.
	on     []func(bytes int64, records int)
	opened func() error // of the journal
	record func() error
	// interrupt presses Ctrl-C, once there is a program.
	interrupt func()
}

func (s *seams) interrupted() {
	s.mu.Lock()
	press := s.interrupt
	s.mu.Unlock()
	if press != nil {
		press()
	}
}

// DialContext connects, and counts what goes over it.
func (s *seams) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	c, err := opened(s, func() (net.Conn, error) { return s.dial.DialContext(ctx, network, address) })
	if err != nil {
		return nil, err
	}
	return &counted{c, s}, nil
}

// opened opens something, and notes that it is open; nothing for a program that was killed.
func opened[T io.Closer](s *seams, open func() (T, error)) (c T, err error) {
	if s.killed() {
		return c, errKilled
	}
	if c, err = open(); err != nil {
		return c, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.conns == nil {
		s.conns = map[io.Closer]bool{}
	}
	s.conns[c] = true
	return c, nil
}

// counted takes what went over a wire; a program that was killed hears nothing of it.
func (s *seams) counted(n int, err error) (int, error) {
	s.went(n, 0)
	if s.killed() {
		return 0, errKilled
	}
	return n, err
}

// kill ends the program: what it sends, hears and writes from now on is nothing.
func (s *seams) kill() {
	s.mu.Lock()
	s.dead = true
	conns := s.conns
	s.conns = nil
	s.mu.Unlock()
	for c := range conns {
		c.Close()
	}
}

// cut breaks the connections that are open.
func (s *seams) cut() {
	if s.pull != nil {
		s.pull()
		return
	}
	s.mu.Lock()
	conns := s.conns
	s.conns = map[io.Closer]bool{}
	s.mu.Unlock()
	for c := range conns {
		c.Close()
	}
}

func (s *seams) killed() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.dead
}

func (s *seams) went(n int, records int) {
	s.mu.Lock()
	s.bytes += int64(n)
	s.records += records
	bytes, recs, on := s.bytes, s.records, s.on
	s.mu.Unlock()
	for _, f := range on {
		f(bytes, recs)
	}
}

// counted is a connection whose bytes are counted.
type counted struct {
	net.Conn
	s *seams
}

func (c *counted) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	return c.s.counted(n, err)
}

func (c *counted) Write(b []byte) (int, error) {
	if c.s.killed() {
		return 0, errKilled
	}
	// A fault comes between the bytes it is placed at.
	const piece = 16 << 10
	done := 0
	for done < len(b) || len(b) == 0 {
		n, err := c.Conn.Write(b[done:min(done+piece, len(b))])
		done += n
		c.s.went(n, 0)
		if err != nil || len(b) == 0 {
			return done, err
		}
		if c.s.killed() {
			return done, errKilled
		}
	}
	return done, nil
}

// sink is a journal on a disk that may be full.
type sink struct {
	journal.Sink
	s *seams
}

func (s *seams) openSink(path string) (journal.Sink, error) {
	if s.opened != nil {
		if err := s.opened(); err != nil {
			return nil, &os.PathError{Op: "open", Path: path, Err: err}
		}
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_APPEND|os.O_EXCL, 0o600)
	return sink{f, s}, err
}

func (k sink) Write(b []byte) (int, error) {
	k.s.went(0, 1)
	if k.s.killed() {
		runtime.Goexit() // nothing comes behind what was written before
	}
	if k.s.record != nil {
		if err := k.s.record(); err != nil {
			return 0, &os.PathError{Op: "write", Path: "journal", Err: err}
		}
	}
	return k.Sink.Write(b)
}

// arrange puts the faults that are on the computer's side.
func (s *seams) arrange(faults []Fault, interrupt func(), second func()) {
	once := func(f Fault, do func()) func(int64, int) {
		done := false
		var mu sync.Mutex
		return func(bytes int64, records int) {
			mu.Lock()
			hit := !done && (f.Bytes > 0 && bytes >= f.Bytes || f.Count > 0 && f.Bytes == 0 &&
				records >= f.Count)
			done = done || hit
			mu.Unlock()
			if hit {
				do()
			}
		}
	}
	for _, f := range faults {
		switch f.Kind {
		case Kill:
			s.on = append(s.on, once(f, s.kill))
		case Cut:
			s.on = append(s.on, once(f, s.cut))
		case CtrlC:
			s.on = append(s.on, once(f, func() {
				for range min(f.More, 2) {
					interrupt()
				}
			}))
		case Second:
			s.on = append(s.on, once(f, second))
		case DiskFull:
			left := f.Count
			s.record = func() error {
				if left--; left < 0 {
					return syscall.ENOSPC
				}
				return nil
			}
		case ReadOnly:
			s.opened = func() error { return syscall.EROFS }
		}
	}
}
