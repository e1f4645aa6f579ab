package standintest

import (
	"context"
	"testing"

	"jarlid/internal/core/model"
	"jarlid/internal/standin"
	"jarlid/internal/standin/device"
)

// Phone is a stand-in that runs until its test ends.
type Phone struct {
	*Net
	device.Addresses
	Dir string // where its storage is

	t testing.TB
}

// Start runs a new stand-in of a built-in model, or of a model file's text, on a network
// of its own. In a bubble it has to be called inside of it; it ends with the test.
func Start(t testing.TB, name string) *Phone {
	t.Helper()
	return StartWith(t, name, device.Options{})
}

// StartWith runs one with options. Dir and Net are made where they are not given.
func StartWith(t testing.TB, name string, o device.Options) *Phone {
	t.Helper()
	m, err := model.Parse([]byte(name))
	if err != nil {
		set, lerr := model.Load(nil)
		if lerr != nil {
			t.Fatalf("model.Load(): %v", lerr)
		}
		if m = set.Find(name); m == nil {
			t.Fatalf("%q is neither a model's name nor a model: %v", name, err)
		}
	}
	p := &Phone{t: t}
	if o.Dir == "" {
		o.Dir = t.TempDir()
	}
	p.Dir = o.Dir
	if o.Net == nil {
		o.Net = &Net{}
	}
	p.Net, _ = o.Net.(*Net)
	ready, ended := make(chan device.Addresses, 1), make(chan error, 1)
	o.Ready = func(a device.Addresses) { ready <- a }
	s, err := standin.New(m, o)
	if err != nil {
		t.Fatalf("standin.New(m, o): %v", err)
	}
	ctx, off := context.WithCancel(context.Background())
	go func() { ended <- s.Run(ctx) }()
	t.Cleanup(func() {
		off()
		if err := <-ended; err != nil {
			t.Errorf("the stand-in ended with: %v", err)
		}
	})
	select {
	case p.Addresses = <-ready:
	case err := <-ended:
		ended <- nil
		t.Fatalf("the stand-in did not start: %v", err)
	}
	return p
}

// Press is the owner's hands: keys, menu entries and answers, in order.
func (p *Phone) Press(keys ...string) {
	p.t.Helper()
	if _, err := standin.Press(p.t.Context(), p.Net, p.Control, keys); err != nil {
		p.t.Fatalf("standin.Press(p.t.Context(), p.Net, p.Control, keys): %v", err)
	}
}

// Fault makes something go wrong.
func (p *Phone) Fault(f device.Fault) {
	p.t.Helper()
	if err := standin.OrderFault(p.t.Context(), p.Net, p.Control, f); err != nil {
		p.t.Fatalf("standin.OrderFault(p.t.Context(), p.Net, p.Control, f): %v", err)
	}
}
