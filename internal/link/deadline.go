package link

import (
	"context"
	"sync"
	"time"
)

// Deadline is a time that can be moved while it is waited for. NewDeadline makes one.
type Deadline struct {
	mu    sync.Mutex
	timer *time.Timer
	fired chan struct{} // closed when it is over
}

// NewDeadline makes one that never ends.
func NewDeadline() *Deadline { return &Deadline{fired: make(chan struct{})} }

// Set moves it; zero: never. What waits goes by the new time.
func (d *Deadline) Set(t time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.timer != nil && !d.timer.Stop() {
		<-d.fired // its function runs, or has run
	}
	d.timer = nil
	over := false
	select {
	case <-d.fired:
		over = true
	default:
	}
	left := time.Until(t)
	switch {
	case t.IsZero() || left > 0:
		if over {
			d.fired = make(chan struct{})
		}
		if !t.IsZero() {
			fired := d.fired
			d.timer = time.AfterFunc(left, func() { close(fired) })
		}
	case !over:
		close(d.fired)
	}
}

// Context gives one that ends with the deadline.
func (d *Deadline) Context() (context.Context, func()) {
	d.mu.Lock()
	fired := d.fired
	d.mu.Unlock()
	ctx, cancel := context.WithCancel(context.Background())
	go func() {
		select {
		case <-fired:
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, cancel
}
