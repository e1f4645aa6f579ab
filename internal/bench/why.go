package bench

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/link"
	"jarlid/internal/link/adb"
)

// Cause is why a listed phone can't be worked with, or that it can.
type Cause struct {
	Phone       string    `json:"phone"`
	Cause       string    `json:"cause"` // here, busy, not-authorised, offline, other-service, wrong-protocol, unreachable, absent, same-serial
	Mode        card.Mode `json:"mode,omitempty"`
	Tested      []string  `json:"tested"` // what was tried, and what came of it
	Text        string    `json:"text"`
	Do          string    `json:"do"`
	Fingerprint string    `json:"fingerprint,omitempty"` // of this computer's key, to compare on the phone's screen
	Serial      string    `json:"serial,omitempty"`
}

// probe is what one address answered.
type probe struct {
	addr   Address
	link   *Link
	err    error
	opened bool // something took the connection
}

// Why finds out, for every listed phone or the one named, why it is not here.
// Nothing is changed on a phone, and no phone is restarted.
func (b *Bench) Why(ctx context.Context, on string) ([]Cause, error) {
	list, err := b.meant(on)
	if err != nil {
		return nil, err
	}
	causes := make([]Cause, len(list))
	var wg sync.WaitGroup
	for i, p := range list {
		wg.Go(func() { causes[i] = p.why(ctx) })
	}
	wg.Wait()
	return twice(causes), nil
}

// twice marks phones that report the same serial number.
func twice(causes []Cause) []Cause {
	first := map[string]string{}
	for i := range causes {
		c := &causes[i]
		if c.Serial == "" {
			continue
		}
		if other, ok := first[c.Serial]; ok {
			c.Cause = "same-serial"
			c.Text = fmt.Sprintf("it reports the serial number %s, as %s does: the list may name one phone twice, or two phones never had numbers of their own", c.Serial, other)
			c.Do = "name it by its address or bench name, never by its serial number"
			continue
		}
		first[c.Serial] = c.Phone
	}
	return causes
}

func (p *Phone) why(ctx context.Context) Cause {
	c := Cause{Phone: p.Name}
	unlock, err := p.Lock()
	if err != nil {
		c.Cause, c.Text, c.Do = "busy", err.Error(), "wait until it has finished, or end it"
		c.Tested = append(c.Tested, "the lock: another jarlid holds it")
		return c
	}
	defer unlock()
	var probes []probe
	for _, a := range []string{p.Fastboot, p.ADB} {
		addr, err := ParseAddress(a)
		if a == "" || err != nil {
			continue
		}
		pr := p.probe(ctx, addr)
		defer pr.link.Close()
		c.Tested = append(c.Tested, pr.String())
		probes = append(probes, pr)
	}
	p.judgeProbes(ctx, &c, probes)
	return c
}

// String says what came of it.
func (pr probe) String() string {
	denied := notAuthorised(pr.err)
	var rule *link.ProtocolError
	what := "nothing listens there"
	switch {
	case pr.err == nil:
		what = "answers in " + string(pr.link.Mode)
	case denied != nil:
		what = "answers, and does not know this computer's key"
	case errors.As(pr.err, &rule):
		what = "answers against the protocol: " + rule.What
	case pr.opened:
		what = "takes the connection and says nothing"
	case timedOut(pr.err):
		what = "no way there: no answer at all"
	case !refused(pr.err):
		what = "no way there: " + pr.err.Error()
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

// listed tells whether the phone is on the list, rather than named by its
// address alone.
func (p *Phone) listed() bool {
	list, err := p.bench.Entries()
	return err == nil && slices.ContainsFunc(list, func(e Entry) bool { return e.Name == p.Name })
}

// probe connects the whole way, and where that fails only the first part of
// it.
func (p *Phone) probe(ctx context.Context, a Address) probe {
	ctx, cancel := context.WithTimeout(ctx, connectLimit)
	defer cancel()
	pr := probe{addr: a}
	pr.link, pr.err = p.connectTo(ctx, a, nil)
	if pr.err != nil && a.Protocol != "udp" {
		d := net.Dialer{Timeout: time.Second}
		if conn, err := d.Dial("tcp", a.HostPort); err == nil {
			pr.opened = true
			conn.Close()
		}
	}
	return pr
}

// judgeProbes takes the most telling answer.
func (p *Phone) judgeProbes(ctx context.Context, c *Cause, probes []probe) {
	var rule *link.ProtocolError
	for _, pr := range probes {
		if pr.err == nil {
			c.Cause, c.Mode = "here", pr.link.Mode
			c.Text, c.Do = "it is here, in "+string(pr.link.Mode), "nothing"
			if got, err := p.Read(ctx, pr.link); err == nil {
				c.Serial = got.Value(card.FactSerial)
			}
			return
		}
	}
	for _, pr := range probes {
		var denied *adb.NotAuthorisedError
		switch {
		case errors.As(pr.err, &denied):
			c.Cause, c.Fingerprint = "not-authorised", denied.Fingerprint
			c.Text = "its system runs and does not know this computer's key, fingerprint " + denied.Fingerprint
			c.Do = "wake the phone, compare the fingerprint with the one in the question on its screen, and allow it"
			return
		case errors.As(pr.err, &rule):
			c.Cause, c.Text = "wrong-protocol", "something answers at "+pr.addr.String()+" that does not speak the protocol: "+rule.What
			c.Do = "check the address; another service may have taken its place"
			return
		}
	}
	for _, pr := range probes {
		if pr.opened {
			c.Cause = "offline"
			c.Text = "it takes the connection at " + pr.addr.String() + " and says nothing: another program holds it, or its service hangs"
			c.Do = "end other programs that talk to phones; then restart the phone by its keys"
			return
		}
	}
	for _, pr := range probes {
		if !refused(pr.err) && pr.addr.Protocol != "udp" {
			c.Cause = "unreachable"
			c.Text = "the network leads nowhere: " + pr.addr.String()
			c.Do = "check the address, the cable or wireless network of the phone, and that both are in the same one"
			return
		}
	}
	c.Cause = "absent"
	c.Text = "nothing listens at its addresses: it is off, restarting, in a recovery without a shell, in a system with debugging off, or its cable is out"
	c.Do = "look at its screen, switch it on, and bring it into the bootloader by its keys"
	if p.listed() {
		c.Do = "look at its screen; to bring it into the bootloader: jarlid go bootloader --on " + p.Name
	}
}
