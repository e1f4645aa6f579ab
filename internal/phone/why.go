package phone

import (
	"context"
	"errors"
	"net"
	"slices"
	"strings"
	"syscall"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/finding"
	"jarlid/internal/core/place"
	"jarlid/internal/link"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
)

// CauseName is why a phone can't be worked with, or that it can.
type CauseName string

// The causes.
const (
	CauseHere          CauseName = "here"
	CauseBusy          CauseName = "busy"
	CauseNotAuthorised CauseName = "not-authorised"
	CauseOffline       CauseName = "offline"
	CauseWrongProtocol CauseName = "wrong-protocol"
	CauseUnreachable   CauseName = "unreachable"
	CauseAbsent        CauseName = "absent"
	CauseSameSerial    CauseName = "same-serial"

	// On a cable.
	CauseNoPermission CauseName = "no-permission"
	CauseHeld         CauseName = "held"
	CauseNoDriver     CauseName = "no-driver"
	CauseFilesOnly    CauseName = "files-only"
	CauseCharging     CauseName = "charging"
	CauseLoader       CauseName = "loader"
	CauseSlowLink     CauseName = "slow-link"
	CauseFlapping     CauseName = "flapping"
)

// Cause is why a phone can't be worked with, or that it can.
type Cause struct {
	Phone  string    `json:"phone"`
	Cause  CauseName `json:"cause"`
	Mode   card.Mode `json:"mode,omitempty"`
	Tested []string  `json:"tested"` // what was tried, and its outcome
	Text   string    `json:"text"`
	Do     string    `json:"do"`
	// of this computer's key, to compare on the phone's screen
	Fingerprint string `json:"fingerprint,omitempty"`
	Serial      string `json:"serial,omitempty"`
}

// probe is what one address answered.
type probe struct {
	addr   wire.Address
	wire   wire.Conn
	err    error
	opened bool // something took the connection
	probed bool // the address alone was tried too
	there  bool // a device is in the socket
}

// Why finds out why the phone is not here. Nothing is changed on it, and it is not
// restarted.
func (p *Phone) Why(ctx context.Context) Cause {
	c := Cause{Phone: p.Name}
	unlock, err := p.Lock(p.LockNames()...)
	if err != nil {
		c.Cause, c.Text, c.Do = CauseBusy, "another jarlid is working on "+p.Name,
			"wait until it has finished, or end it"
		c.Tested = append(c.Tested, "the lock: another jarlid holds it")
		return c
	}
	defer unlock()
	at := p.Addresses()
	if err := p.Twice(at); err != nil {
		c.Cause, c.Text, c.Do = CauseSameSerial, err.Findings[0].Text, err.Findings[0].Remedy
		c.Tested = append(c.Tested, "the cables: "+wire.AddressWords(at))
		return c
	}
	var probes []probe
	if len(at) == 0 {
		c.Tested = append(c.Tested, "the cables: none of the devices there is this phone")
	}
	for _, a := range at {
		pr := p.probe(ctx, a)
		if pr.wire != nil {
			defer pr.wire.Close()
		}
		c.Tested = append(c.Tested, pr.String())
		probes = append(probes, pr)
	}
	p.judgeProbes(ctx, &c, probes)
	return c
}

// String says its outcome.
func (pr probe) String() string {
	var rule *link.ProtocolError
	var stop *finding.StopError
	cable := pr.addr.Scheme == wire.CableScheme
	what := "nothing listens there"
	switch {
	case pr.err == nil:
		what = "answers in " + string(pr.wire.Mode())
	case errors.As(pr.err, &stop) && stop.Findings[0].Explained().Barred != "":
		what = stop.Findings[0].Explained().Barred
	case wire.NotAuthorised(pr.err) != nil:
		what = "answers, and does not know this computer's key"
	case errors.As(pr.err, &rule):
		what = "answers against the protocol: " + rule.What
	case cable && pr.there:
		what = "is plugged in and says nothing"
	case cable:
		what = "nothing is plugged in there"
	case pr.opened:
		what = "takes the connection and says nothing"
	case timedOut(pr.err):
		what = "no way there: no answer at all"
	case !refused(pr.err):
		what = "no way there"
	}
	return pr.addr.String() + ": " + what
}

func refused(err error) bool {
	return errors.Is(err, syscall.ECONNREFUSED) || err != nil && strings.Contains(err.Error(), "refused")
}

func timedOut(err error) bool {
	var ne net.Error
	return errors.As(err, &ne) && ne.Timeout() || errors.Is(err, context.DeadlineExceeded)
}

// probeLimit is how long an address alone may take to be reached.
const probeLimit = time.Second

// probe connects the whole way, and where that fails only the first part of
// it.
func (p *Phone) probe(ctx context.Context, a wire.Address) probe {
	sch, _ := wire.SchemeOf(a.Scheme)
	ctx, cancel := context.WithTimeout(ctx, max(sch.Limit, wire.ConnectLimit))
	defer cancel()
	pr := probe{addr: a}
	_, pr.there = p.Device(a)
	pr.wire, pr.err = p.ConnectTo(ctx, a, nil)
	if pr.err != nil && sch.Network != "" {
		pr.probed = true
		dctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), probeLimit)
		defer cancel()
		if conn, err := p.Dial.DialContext(dctx, sch.Network, a.Place); err == nil {
			pr.opened = true
			conn.Close()
		}
	}
	return pr
}

// judgeProbes takes the most telling answer.
func (p *Phone) judgeProbes(ctx context.Context, c *Cause, probes []probe) {
	for _, pr := range probes {
		if pr.err == nil {
			p.isHere(ctx, c, pr)
			return
		}
	}
	if slices.ContainsFunc(probes, c.barred) {
		return
	}
	for _, pr := range probes {
		if pr.addr.Scheme == wire.CableScheme && pr.there {
			c.Cause = CauseOffline
			c.Text = "it is plugged in at " + pr.addr.String() + " and answers nothing"
			c.Do = "pull the cable and put it back; if that is no help, start the phone anew by its keys"
			return
		}
		if pr.opened {
			c.Cause = CauseOffline
			c.Text = "it takes the connection at " + pr.addr.String() +
				" and says nothing: another program holds it, or its service hangs"
			c.Do = "end other programs that talk to phones; then restart the phone by its keys"
			return
		}
	}
	for _, pr := range probes {
		if pr.probed && !refused(pr.err) {
			c.Cause = CauseUnreachable
			c.Text = "the network leads nowhere: " + pr.addr.String()
			c.Do = "check the address, the cable or wireless network of the phone, and that both are in " +
				"the same one"
			return
		}
	}
	c.Cause = CauseAbsent
	if !slices.ContainsFunc(p.At, func(a wire.Address) bool { return a.Scheme != wire.CableScheme }) {
		c.Text = "it is on no cable: it is off, restarting, in a recovery without a shell, or its cable is " +
			"out, worn or without data wires"
		c.Do = "look at its screen, try another cable and another port of the computer itself, then bring " +
			"it into the bootloader by its keys, held longer"
		return
	}
	c.Text = "nothing listens at its addresses: it is off, restarting, in a recovery without a shell, in a " +
		"system with debugging off, or its cable is out"
	c.Do = "look at its screen, switch it on, and bring it into the bootloader by its keys"
	if p.Listed {
		c.Do = "look at its screen; to bring it to where images are written: jarlid go " +
			string(place.ImageMode(&card.Card{}, p.Model())) + " --on " + p.Name
	}
}

// isHere is a phone that answered.
func (p *Phone) isHere(ctx context.Context, c *Cause, pr probe) {
	c.Cause, c.Mode = CauseHere, pr.wire.Mode()
	c.Text, c.Do = "it is here, in "+string(pr.wire.Mode()), "nothing"
	if d, ok := p.Device(pr.addr); ok && d.Speed > 0 && d.Speed <= slowSpeed {
		c.Cause = CauseSlowLink
		c.Text += ", on a slow link of " + SpeedWords(d.Speed) + ", where phones do 480"
		c.Do = "take another cable, and a port of the computer itself in place of a hub"
	}
	s := p.NewSession(&card.Card{}, say.To{Phone: p.Name})
	s.Use(pr.wire)
	if s.Read(ctx) == nil {
		c.Serial = s.Card.Value(card.FactSerial)
	}
}

// barred takes from a probe what keeps this program from a phone that is there, and reports whether there is
// such a thing.
func (c *Cause) barred(pr probe) bool {
	var rule *link.ProtocolError
	denied := wire.NotAuthorised(pr.err)
	var stop *finding.StopError
	switch {
	case denied == nil && errors.As(pr.err, &stop):
		f := stop.Findings[0]
		c.Cause, c.Text, c.Do = CauseHeld, f.Text, f.Remedy
		switch f.Name {
		case finding.NoPermission:
			c.Cause = CauseNoPermission
		case finding.NoDriver:
			c.Cause = CauseNoDriver
		case finding.LineSilent:
			c.Cause = CauseOffline
		}
		return true
	case denied != nil:
		c.Cause, c.Fingerprint = CauseNotAuthorised, denied.Fingerprint
		c.Text = "its system runs and does not know this computer's key, fingerprint " +
			denied.Fingerprint
		c.Do = "wake the phone, compare the fingerprint with the one in the question on its screen, " +
			"and allow it"
		return true
	case errors.As(pr.err, &rule):
		c.Cause, c.Text = CauseWrongProtocol, "something answers at "+pr.addr.String()+
			" that does not speak the protocol: "+rule.What
		c.Do = "check the address; another service may have taken its place"
		return true
	}
	return false
}
