package say

import (
	"sync"
	"time"
)

// meterEvery is how often a meter tells how far its work is.
const meterEvery = 100 * time.Millisecond

// Meter turns bytes into progress a few times a second. Several goroutines may
// set it.
type Meter struct {
	to To

	mu    sync.Mutex
	p     Progress
	start time.Time
	last  time.Time
	ended bool
}

// NewMeter begins a piece of work; total is in bytes, 0 or less when it is not
// known. End must be called.
func NewMeter(to To, w Word, what string, total int64) *Meter {
	return NewPiece(to, w, "", what, total)
}

// NewPiece is NewMeter for one of several pieces of work whose ends are told as one; kind is a verb
// as "extracted".
func NewPiece(to To, w Word, kind, what string, total int64) *Meter {
	m := &Meter{to: to, p: Progress{Word: w, Kind: kind, What: what, Total: max(total, 0)}, start: time.Now()}
	to.Work(m.p)
	return m
}

// Set says how many bytes are done.
func (m *Meter) Set(done int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.set(done)
}

// set is Set by one who holds the lock.
func (m *Meter) set(done int64) {
	m.p.Done = done
	now := time.Now()
	if m.ended || now.Sub(m.last) < meterEvery {
		return
	}
	m.last = now
	m.rate(now)
	if m.p.Rate > 0 && m.p.Total > 0 {
		m.p.Left = time.Duration(float64(m.p.Total-done) / float64(m.p.Rate) * float64(time.Second))
	}
	m.to.Work(m.p)
}

// Reach is Set for callers that report out of order: it never goes back.
func (m *Meter) Reach(done int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.set(max(done, m.p.Done))
}

// Done gives the bytes done so far, and Total those there are.
func (m *Meter) Done() int64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.p.Done
}

// Total gives how many bytes there are; 0 when it is not known.
func (m *Meter) Total() int64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.p.Total
}

// Again begins a further pass over the same work: the rate is that of the pass.
func (m *Meter) Again() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.start = time.Now()
}

// Describe says what is being done now, and how much of the whole was handed
// out at least once.
func (m *Meter) Describe(note string, total, distinct, whole int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.p.Note, m.p.Total, m.p.Distinct, m.p.Whole = note, total, distinct, whole
}

// End says that the work is over, well or not. Only the first call counts.
func (m *Meter) End() {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.ended {
		return
	}
	m.ended = true
	m.rate(time.Now())
	m.p.Left, m.p.End = 0, true
	m.to.Work(m.p)
}

// leastRated is how long a piece of work goes on before its rate says anything.
const leastRated = 50 * time.Millisecond

func (m *Meter) rate(now time.Time) {
	if el := now.Sub(m.start); el > 0 && (m.ended || el >= leastRated) {
		m.p.Rate = int64(float64(m.p.Done) / el.Seconds())
	}
}
