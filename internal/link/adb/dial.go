package adb

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"time"

	"jarlid/internal/link"
)

// hostFeatures is what this side understands.
var hostFeatures = []string{"shell_v2", featureStat2, featureList2, featureSend2}

// NotAuthorisedError says that the phone does not know this computer's key.
type NotAuthorisedError struct{ Fingerprint string }

// Error names the key.
func (e *NotAuthorisedError) Error() string {
	return "the phone does not know this computer's key " + e.Fingerprint
}

// Options say how to connect.
type Options struct {
	Key *Key
	// Offer shows the key to a phone that does not know it, which makes the
	// phone ask its owner, and waits for the answer as long as the context
	// lasts. Without it such a phone ends in a *NotAuthorisedError at once.
	Offer bool
	// Offered is called when the key was shown; may be nil.
	Offered func()
	// Revived is told what was done to a phone that did not answer at first; may be nil.
	Revived func(did string)
}

// firstWord is how long a phone on a bus may take to answer the greeting with anything, before
// it is taken for one that an earlier client left in the middle of a message.
const firstWord = 5 * time.Second

// Connect greets the phone at the other end of nc. On a bus nothing tells a phone that its last client has
// gone: what that left unfetched is taken first, or the phone waits for it to be, or a token of that time is
// signed. One that does not answer has its endpoints cleared and is greeted again, then its connection is
// reset.
func Connect(ctx context.Context, nc link.Stream, o Options) (*Conn, error) {
	reviver, _ := nc.(link.Reviver)
	for try := 1; ; try++ {
		c := newConn(nc)
		gctx, cancel := context.WithCancel(ctx)
		heard := func() bool { return true }
		if reviver != nil {
			if err := reviver.Drain(ctx); err != nil {
				cancel()
				return nil, link.Lost("the greeting", err)
			}
			heard = time.AfterFunc(firstWord, cancel).Stop
		}
		done := link.Watch(gctx, nc)
		err := c.greet(o, heard)
		silent := err != nil && gctx.Err() != nil && ctx.Err() == nil
		err = done(err)
		heard()
		cancel()
		if err == nil {
			go c.loop()
			return c, nil
		}
		if silent {
			did, rerr := reviver.Revive(try)
			if rerr != nil {
				return nil, link.Lost("the greeting", rerr)
			}
			if did != "" {
				if o.Revived != nil {
					o.Revived(did)
				}
				continue
			}
			err = context.DeadlineExceeded
		}
		var denied *NotAuthorisedError
		if errors.As(err, &denied) {
			return nil, err
		}
		return nil, link.Lost("the greeting", err)
	}
}

// greet says who this is and follows the phone's answers; heard is called at the first.
func (c *Conn) greet(o Options, heard func() bool) error {
	hello := Banner{Kind: "host", Features: hostFeatures}
	if err := c.send(message{cmd: cmdCNXN, arg0: VersionNoSum, arg1: MaxPayload,
		data: []byte(hello.String())}); err != nil {
		return err
	}
	tokens := 0
	for {
		m, err := readGreeting(c.conn, c.r, MaxPayload)
		if err == nil {
			heard()
		}
		if errors.Is(err, io.EOF) && tokens > 1 && o.Offer {
			// The owner said no, and some phones then hang up.
			return &NotAuthorisedError{Fingerprint: o.Key.Fingerprint()}
		}
		if err != nil {
			return cut(err)
		}
		switch {
		case m.cmd == cmdCNXN:
			return c.agree(m)
		case m.cmd == cmdSTLS:
			return &link.ProtocolError{Protocol: "ADB",
				What: "wants an encrypted connection, which pairing over the network uses; take the cable " +
					"or its plain port"}
		case m.cmd == cmdAUTH && m.arg0 == authToken:
			if len(m.data) != tokenSize {
				return &link.ProtocolError{Protocol: "ADB",
					What: fmt.Sprintf("sent a token of %d bytes instead of %d", len(m.data), tokenSize)}
			}
			if o.Key == nil {
				return &NotAuthorisedError{}
			}
			if err := c.authorise(o, m.data, tokens); err != nil {
				return err
			}
			tokens++
		default:
			// Anything else before the greeting is left over from an earlier
			// connection and not for us.
			if tokens++; tokens > 64 {
				return &link.ProtocolError{Protocol: "ADB", What: "does not come to an end with its greeting"}
			}
		}
	}
}

// authorise signs the first token; a second one says that the phone does not
// know the key.
func (c *Conn) authorise(o Options, token []byte, before int) error {
	switch {
	case before == 0:
		sig, err := o.Key.sign(token)
		if err != nil {
			return err
		}
		return c.send(message{cmd: cmdAUTH, arg0: authSignature, data: sig})
	case before == 1 && o.Offer:
		if o.Offered != nil {
			o.Offered()
		}
		return c.send(message{cmd: cmdAUTH, arg0: authPublicKey, data: append([]byte(o.Key.Public()), 0)})
	case before > 1 && o.Offer && before < 64:
		return nil // still waiting for the owner
	}
	return &NotAuthorisedError{Fingerprint: o.Key.Fingerprint()}
}

// Device is a phone's side of a connection: what a stand-in serves.
type Device struct {
	Banner     Banner
	Version    uint32 // VersionOld or VersionNoSum
	MaxPayload int
	// Knows reports whether a public key is allowed; nil lets everyone in.
	Knows func() []string
	// Ask asks the owner about a public key and gives the answer.
	Ask func(ctx context.Context, public string) bool
	// Serve starts a service on its own goroutine and reports whether there is
	// one of that name. It calls Accept first and closes the stream last.
	Serve func(service string, s *Stream) bool

	first *message // the greeting that ended the connection before
}

// Accept greets the computer at the other end of nc.
func (d *Device) Accept(ctx context.Context, nc link.Stream) (*Conn, error) {
	c := newConn(nc)
	c.serve = d.Serve
	if _, bus := nc.(link.Transfers); bus {
		c.greeted = func(m message) { d.first = &m }
	}
	done := link.Watch(ctx, nc)
	err := d.greet(ctx, c)
	if err = done(err); err != nil {
		nc.Close()
		return nil, err
	}
	go c.loop()
	return c, nil
}

func (d *Device) greet(ctx context.Context, c *Conn) error {
	var token [tokenSize]byte
	for {
		var m message
		var err error
		if d.first != nil { // it was kept
			m, d.first = *d.first, nil
		} else {
			m, err = readGreeting(c.conn, c.r, MaxPayload)
		}
		if err != nil {
			return err
		}
		switch {
		case m.cmd == cmdCNXN:
			if err := c.agree(m); err != nil {
				return err
			}
			c.sums = min(m.arg0, d.Version) < VersionNoSum
			c.maxPayload = min(c.maxPayload, d.MaxPayload)
			if d.Knows == nil {
				return d.hello(c)
			}
		case m.cmd == cmdAUTH && m.arg0 == authSignature:
			for _, pub := range d.Knows() {
				if verify(pub, token[:], m.data) == nil {
					return d.hello(c)
				}
			}
		case m.cmd == cmdAUTH && m.arg0 == authPublicKey:
			if !d.Ask(ctx, string(m.data)) {
				return errors.New("the owner did not allow the key")
			}
			return d.hello(c)
		default:
			if c.greeted != nil {
				continue // an earlier client's
			}
			return fmt.Errorf("%v before the greeting", m)
		}
		rand.Read(token[:])
		if err := c.send(message{cmd: cmdAUTH, arg0: authToken, data: token[:]}); err != nil {
			return err
		}
	}
}

func (d *Device) hello(c *Conn) error {
	return c.send(message{cmd: cmdCNXN, arg0: d.Version, arg1: uint32(d.MaxPayload),
		data: []byte(d.Banner.String())})
}
