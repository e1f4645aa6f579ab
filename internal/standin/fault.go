package standin

import (
	"fmt"
	"net"
	"slices"
	"strings"
	"time"
)

// Fault is something that goes wrong on demand.
type Fault struct {
	Kind string `json:"kind"`
	// After is how many bytes the computer sends before it happens, counted from
	// when the fault was ordered; of refusals and of drop-next, how many commands.
	After int64 `json:"after"`
	// For is how long a stall takes, or how often a refusal is given.
	For int64 `json:"for"`
}

// Faults are the kinds there are.
var Faults = []string{
	"drop",        // the cable is pulled after so many bytes
	"drop-next",   // the cable is pulled at the next command or service
	"battery",     // the phone goes off after so many bytes
	"stall",       // nothing is taken for so many seconds, after so many bytes
	"refuse",      // the next commands or services are refused
	"lie-size",    // sizes of partitions are told twice as large
	"full",        // the storages and the partitions take nothing any more
	"fail-at-end", // an install says that it failed, after all was written

	// On a cable only.
	"elsewhere",    // it is pulled after so many bytes, and comes back in another socket
	"halt",         // the endpoints halt after so many bytes
	"short-answer", // the next answers lack their second half
	"garbage",      // the next answers are something else
	"slow-link",    // it comes back at 12 Mbit/s
	"held",         // another program takes its interface
	"replug",       // the next mode shows itself only when the cable was pulled and put back

	"clear", // nothing more goes wrong
}

// order orders one.
func (p *Phone) order(f Fault) error {
	if !slices.Contains(Faults, f.Kind) {
		return fmt.Errorf("there is no fault %q; there is: %s", f.Kind, strings.Join(Faults, ", "))
	}
	if slices.Contains(cableFaults, f.Kind) && p.o.Cable == nil {
		return fmt.Errorf("the fault %s wants a stand-in on a cable: standin run with --usb", f.Kind)
	}
	f.For = max(f.For, 1)
	p.faultMu.Lock()
	p.fault = &f
	if f.Kind == "clear" {
		p.fault = nil
	}
	p.faultMu.Unlock()
	if p.o.Cable != nil {
		p.onCable(f)
	}
	return nil
}

// cableFaults are those that want a cable.
var cableFaults = []string{"elsewhere", "halt", "short-answer", "garbage", "slow-link", "held", "replug"}

// faulty tells whether something of this kind goes wrong now. Refusals run out.
func (p *Phone) faulty(kind string) bool {
	p.faultMu.Lock()
	defer p.faultMu.Unlock()
	if p.fault == nil || p.fault.Kind != kind {
		return false
	}
	if (kind == "refuse" || kind == "drop-next") && p.fault.After > 0 {
		p.fault.After-- // it is for a later one
		return false
	}
	switch kind {
	case "refuse", "drop-next", "fail-at-end", "short-answer", "garbage", "replug":
		if p.fault.For--; p.fault.For <= 0 {
			p.fault = nil
		}
	}
	p.o.Log("fault: " + kind)
	return true
}

// flat is a battery that gives out.
func (p *Phone) flat() {
	p.mu.Lock()
	p.st.Percent = 1
	p.mu.Unlock()
	p.move("off", 0)
}

// cable is a connection that faults can happen to.
type cable struct {
	net.Conn
	p *Phone
}

// Read counts what the computer sends.
func (c cable) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	p := c.p
	p.faultMu.Lock()
	f := p.fault
	hit := false
	if f != nil && (f.Kind == "drop" || f.Kind == "battery" || f.Kind == "stall") {
		f.After -= int64(n)
		hit = f.After < 0
	}
	if hit {
		p.fault = nil
	}
	p.faultMu.Unlock()
	if !hit {
		return n, err
	}
	p.o.Log("fault: " + f.Kind)
	switch f.Kind {
	case "stall":
		time.Sleep(time.Duration(f.For) * time.Second)
		return n, err
	case "battery":
		p.flat()
	}
	c.Conn.Close()
	return 0, net.ErrClosed
}
