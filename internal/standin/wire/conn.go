// Package wire is a stand-in's side of the cable and the network: fastboot, ADB and a
// manufacturer's loader, and the faults of a cable.
package wire

import (
	"io"
	"net"
	"time"

	"jarlid/internal/standin/boot"
	"jarlid/internal/standin/device"
	"jarlid/internal/standin/recovery"
)

// Ends are the ends of a phone's cable and network: what it says over fastboot, ADB and its
// manufacturer's loader.
type Ends struct {
	*boot.Starter
	cord       cord
	loaderLine io.Closer     // what a manufacturer's loader talks over
	loaderTurn chan struct{} // held while it does
}

// New makes the ends of a phone.
func New(d *device.Phone) *Ends {
	return &Ends{Starter: &boot.Starter{Runner: &recovery.Runner{Phone: d}},
		loaderTurn: make(chan struct{}, 1)}
}

// Wrap gives a connection that faults can happen to.
func (p *Ends) Wrap(c net.Conn) net.Conn { return faultyConn{c, p} }

// faultyConn is a connection that faults can happen to.
type faultyConn struct {
	net.Conn
	p *Ends
}

// Read counts what the computer sends.
func (c faultyConn) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	p := c.p
	p.FaultMu.Lock()
	f := p.Fault
	hit := false
	if f != nil && (f.Kind == "drop" || f.Kind == "battery" || f.Kind == "stall") {
		f.After -= int64(n)
		hit = f.After < 0
	}
	if hit {
		p.Fault = nil
	}
	p.FaultMu.Unlock()
	if !hit {
		return n, err
	}
	p.Options.Log("fault: " + f.Kind)
	switch f.Kind {
	case "stall":
		time.Sleep(time.Duration(f.For) * time.Second)
		return n, err
	case "battery":
		p.Flat()
	}
	c.Conn.Close()
	return 0, net.ErrClosed
}
