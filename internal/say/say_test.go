package say

import (
	"errors"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"jarlid/internal/core/finding"
	"jarlid/internal/core/model"
)

// keeper keeps what it is told.
type keeper struct {
	mu   sync.Mutex
	told []Event
}

func (k *keeper) Tell(e Event) {
	k.mu.Lock()
	k.told = append(k.told, e)
	k.mu.Unlock()
}
func (k *keeper) Ask(q Question) (int, error) { return 0, ErrNobody }

// TestWords: four letters each, all different.
func TestWords(t *testing.T) {
	seen := map[Word]bool{}
	for _, w := range Words {
		if len(w) != 4 || seen[w] || strings.ToLower(string(w)) != string(w) {
			t.Errorf("%q; unwanted: len(w) != 4 || seen[w] || strings.ToLower(string(w)) != string(w)", w)
		}
		seen[w] = true
	}
}

// TestTo: everything told names the phone; an event is one thing.
func TestTo(t *testing.T) {
	k := &keeper{}
	to := To{Observer: k, Phone: "dunlin"}
	to.Say(Info, "%d of %d", 1, 2)
	to.Found(finding.Finding{Name: "x"})
	to.Step(1, 3, "write it", Begin)
	to.Work(Progress{What: "boot_a"})
	if err := to.Hands(model.Recipe{Do: []string{"Press."}}, time.Minute); err != nil {
		t.Errorf("to.Hands(..., time.Minute): %v", err)
	}
	if len(k.told) != 5 || k.told[0].Text != "1 of 2" {
		t.Fatalf("%+v; unwanted: len(k.told) != 5 || k.told[0].Text != '1 of 2'", k.told)
	}
	for _, e := range k.told {
		things := 0
		for _, is := range []bool{e.Text != "", e.Finding != nil, e.Step != nil, e.Progress != nil,
			e.Hands != nil} {
			if is {
				things++
			}
		}
		if e.Phone != "dunlin" || things != 1 {
			t.Errorf("%+v; unwanted: e.Phone != 'dunlin' || things != 1", e)
		}
	}
	if yes, err := to.Confirm("Write it?"); yes || !errors.Is(err, ErrNobody) {
		t.Errorf("to.Confirm('Write it?'): %v, %v; unwanted: yes || !errors.Is(err, ErrNobody)", yes, err)
	}
}

// TestNobody: where nobody is at the phone, hands are a finding that says what would have to
// be done, at once.
func TestNobody(t *testing.T) {
	k := &keeper{}
	err := To{Observer: k, Phone: "dunlin", Nobody: true}.Hands(
		model.Recipe{Do: []string{"Hold power.", "Let go."}}, time.Minute)
	var stop *finding.StopError
	if !errors.As(err, &stop) || stop.Findings[0].Name != finding.HandsNeeded ||
		!strings.Contains(err.Error(), "Hold power. Let go.") || len(k.told) > 0 {
		t.Errorf("%v, told %+v", err, k.told)
	}
	// What the screen shows is asked of a pipe, and of nobody who said so.
	for _, away := range []bool{false, true} {
		a := &answering{}
		n, err := To{Observer: a, Nobody: true, Away: away}.Choose("What does the screen show?",
			[]string{"a", "b"})
		if away != errors.Is(err, ErrNobody) || a.asked == away || !away && n != 1 {
			t.Errorf("away: %v; asked: %v, %d, %v", away, a.asked, n, err)
		}
	}
}

// answering is somebody who gives the second answer.
type answering struct {
	keeper
	asked bool
}

func (a *answering) Ask(Question) (int, error) { a.asked = true; return 1, nil }

// TestMeter: a few words a second, the last one once, its rate that of the whole, and what is
// left worked out from it; callers out of order never make it go back.
func TestMeter(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		k := &keeper{}
		m := NewMeter(To{Observer: k}, Send, "boot_a", 1000)
		for n := range int64(1000) {
			time.Sleep(10 * time.Millisecond)
			m.Set(n)
		}
		m.Set(1000)
		m.End()
		m.End()
		m.Set(5)
		var ends int
		for _, e := range k.told {
			p := e.Progress
			if p.End {
				ends++
			}
			if p.Done > 50 && (p.Rate < 90 || p.Rate > 110) {
				t.Errorf("at %d bytes the rate is %d a second", p.Done, p.Rate)
			}
			if p.Done == 500 && (p.Left < 4500*time.Millisecond || p.Left > 5500*time.Millisecond) {
				t.Errorf("half is done, and %v are left", p.Left)
			}
		}
		last := k.told[len(k.told)-1].Progress
		if ends != 1 || !last.End || last.Done != 1000 || last.Rate != 100 || len(k.told) > 110 {
			t.Errorf("%d words, %d ends, the last is %+v", len(k.told), ends, last)
		}

		r := NewMeter(To{Observer: k}, Read, "x", 100)
		var all sync.WaitGroup
		for n := range int64(100) {
			all.Go(func() { r.Reach(n + 1) })
		}
		all.Wait()
		if r.Done() != 100 || r.Total() != 100 {
			t.Errorf("%d of %d", r.Done(), r.Total())
		}
		r.End()
	})
}
