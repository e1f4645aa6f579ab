// Package link holds what the wire protocols below it share: the errors that
// tell a refusal from a broken rule from a lost phone.
package link

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"syscall"
	"time"
)

// RefusedError is a phone saying no, in its own words.
type RefusedError struct {
	Command string // what was asked
	Message string // the phone's words; may be empty
}

// Refused reports whether an error is a refusal by the other side.
func Refused(err error) bool {
	var refused *RefusedError
	return errors.As(err, &refused)
}

// Error gives the question and the phone's words.
func (e *RefusedError) Error() string {
	if e.Message == "" {
		return fmt.Sprintf("the phone refused %q without a reason", e.Command)
	}
	return fmt.Sprintf("the phone refused %q: %s", e.Command, e.Message)
}

// ProtocolError is a phone that breaks the protocol's rules.
type ProtocolError struct {
	Protocol string // "fastboot", "ADB"
	What     string
}

// Error names the protocol and the rule.
func (e *ProtocolError) Error() string { return e.Protocol + ": the phone " + e.What }

// LostError is a phone that went away: the cable, the connection, or silence
// past every limit.
type LostError struct {
	During string // what was going on
	Err    error
}

// Error says what was going on.
func (e *LostError) Error() string {
	if errors.Is(e.Err, context.DeadlineExceeded) {
		return "the phone kept silent for too long during " + e.During
	}
	return fmt.Sprintf("the phone was lost during %s: %s", e.During, words(e.Err))
}

// words says in a person's words what a system or its library says of a wire.
func words(err error) string {
	var name *net.DNSError
	switch {
	case errors.As(err, &name):
		return "nobody knows the name " + name.Name
	case errors.Is(err, syscall.ECONNREFUSED):
		return "nothing listens there"
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH),
		errors.Is(err, syscall.EHOSTDOWN), errors.Is(err, syscall.ENETDOWN):
		return "no way leads there"
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.ErrClosedPipe),
		errors.Is(err, net.ErrClosed),
		errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE),
		errors.Is(err, syscall.ECONNABORTED):
		return "the connection was closed at the other end"
	case errors.Is(err, syscall.ESHUTDOWN), errors.Is(err, syscall.ENODEV), errors.Is(err, syscall.ENXIO),
		errors.Is(err, syscall.EPROTO), errors.Is(err, syscall.EIO), errors.Is(err, syscall.ENOTCONN):
		return "the connection is gone: was the cable pulled?"
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, syscall.ETIMEDOUT):
		return "no answer came in time"
	}
	return err.Error()
}

// Words says in our words how it was lost.
func (e *LostError) Words() string { return words(e.Err) }

// Unwrap gives the cause.
func (e *LostError) Unwrap() error { return e.Err }

// Lost wraps err as a LostError unless it is one of this package's errors or
// the person's own stop.
func Lost(during string, err error) error {
	if err == nil {
		return nil
	}
	var r *RefusedError
	var p *ProtocolError
	var l *LostError
	if errors.As(err, &r) || errors.As(err, &p) || errors.As(err, &l) || errors.Is(err, context.Canceled) {
		return err
	}
	return &LostError{During: during, Err: err}
}

// LeftError is a phone that went away before it answered an order to restart. It took the order, or its
// cable was pulled before that: in which mode it shows up next tells.
type LeftError struct{ Err error }

// Error says so.
func (e *LeftError) Error() string { return "the phone went away before it answered" }

// Unwrap gives how it was lost.
func (e *LeftError) Unwrap() error { return e.Err }

// ErrSilent is the cause where a line is there and nothing comes over it, however often it is asked.
var ErrSilent = errors.New("the line is silent")

// Left makes the loss of a phone that was told to restart a LeftError. One that is there and silent did
// not go away.
func Left(err error) error {
	var lost *LostError
	if errors.As(err, &lost) && !errors.Is(err, context.DeadlineExceeded) &&
		!errors.Is(err, context.Canceled) && !errors.Is(err, ErrSilent) {
		return &LeftError{err}
	}
	return err
}

// Dialer connects to addresses: net.Dialer, or the wire of a test.
type Dialer interface {
	DialContext(ctx context.Context, network, address string) (net.Conn, error)
}

// Stream is what a protocol needs of a wire: bytes both ways, and reads and writes that end
// at a time. A network connection is one, and so is a pair of a cable's endpoints.
type Stream interface {
	io.ReadWriteCloser
	SetDeadline(t time.Time) error
}

// Transfers is a stream over a bus that moves transfers: each Write is one, and a Read must not
// ask for more than is to come, since it would wait for the rest.
type Transfers interface {
	Stream
	// Packet is the largest packet, in bytes.
	Packet() int
	// ReadPacket takes what one packet brings, into a p of Packet bytes: that is how the
	// beginning of a message is looked for.
	ReadPacket(p []byte) (int, error)
}

// Reviver is a stream whose far end can be brought round when it does not answer.
type Reviver interface {
	// Drain takes what an earlier client left: answers that nobody fetched.
	Drain(ctx context.Context) error
	// Revive does what the try, from 1 on, calls for, and says it in words; "" when nothing
	// is left that could be done.
	Revive(try int) (did string, err error)
}

// Watch makes reads and writes on conn end when ctx does. Call the result when
// done: it lifts the limit again, and it gives the context's error in place of the time-out it caused.
func Watch(ctx context.Context, conn Stream) func(error) error {
	if d, ok := ctx.Deadline(); ok {
		conn.SetDeadline(d)
	} else {
		conn.SetDeadline(time.Time{})
	}
	fired := make(chan struct{})
	stop := context.AfterFunc(ctx, func() {
		conn.SetDeadline(time.Unix(1, 0))
		close(fired)
	})
	return func(err error) error {
		if !stop() {
			<-fired
		}
		if err == nil {
			conn.SetDeadline(time.Time{}) // it was for this alone
			return nil
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		var ne net.Error
		if errors.As(err, &ne) && ne.Timeout() {
			return context.DeadlineExceeded
		}
		return err
	}
}
