package usb

import (
	"context"
	"errors"
	"os"
	"sync"
	"time"

	"jarlid/internal/link"
)

const (
	// writeLimit is how long a phone may take nothing of what it is sent.
	writeLimit = 60 * time.Second
	// drainQuiet is how long an endpoint has to be silent to have nothing left over.
	drainQuiet = 40 * time.Millisecond
	// drainMost bounds what an earlier client can have left, in bytes.
	drainMost = 16 << 20
)

// Channel is a pipe whose errors have the types of package link, and on which a stall is
// cleared once and the transfer done again.
type Channel struct {
	pipe Pipe
	rest []byte // of a transfer, that was read and not asked for
	buf  []byte
}

// NewChannel makes a channel of a pipe.
func NewChannel(p Pipe) *Channel { return &Channel{pipe: p} }

// Packet is the largest packet, in bytes.
func (s *Channel) Packet() int { return s.pipe.Packet() }

// Close lets the interface go.
func (s *Channel) Close() error { return s.pipe.Close() }

// wire gives a lost phone or a broken rule its type.
func wire(err error) error {
	switch {
	case errors.Is(err, ErrStalled):
		return &link.ProtocolError{Protocol: "USB", What: "halts its endpoint again and again"}
	case errors.Is(err, ErrGone):
		return link.Lost("a transfer", err)
	}
	return err
}

// Read waits for one transfer of at most len(p) bytes. The request on the wire is rounded up
// to whole packets, as it has to be; what comes above p is kept for the next read.
func (s *Channel) Read(ctx context.Context, p []byte) (int, error) {
	if len(s.rest) > 0 {
		n := copy(p, s.rest)
		s.rest = s.rest[n:]
		return n, nil
	}
	packet := s.pipe.Packet()
	into := p
	if len(p)%packet != 0 {
		n := (len(p) + packet - 1) / packet * packet
		if cap(s.buf) < n {
			s.buf = make([]byte, n)
		}
		into = s.buf[:n]
	}
	n, err := s.pipe.Read(ctx, into)
	if errors.Is(err, ErrStalled) && n == 0 {
		if err = s.pipe.ClearHalt(); err == nil {
			n, err = s.pipe.Read(ctx, into)
		}
	}
	if len(p)%packet != 0 {
		k := copy(p, into[:n])
		s.rest = into[k:n]
		n = k
	}
	return n, wire(err)
}

// Write sends p as one transfer.
func (s *Channel) Write(ctx context.Context, p []byte) (int, error) {
	ctx, cancel := context.WithTimeout(ctx, writeLimit)
	defer cancel()
	n, err := s.pipe.Write(ctx, p)
	if errors.Is(err, ErrStalled) {
		if err = s.pipe.ClearHalt(); err == nil {
			var more int
			more, err = s.pipe.Write(ctx, p[n:])
			n += more
		}
	}
	return n, wire(err)
}

// Drain takes what an earlier client left in the phone: answers nobody fetched.
func (s *Channel) Drain(ctx context.Context) error {
	buf := make([]byte, s.Packet())
	for got := 0; ; {
		qctx, cancel := context.WithTimeout(ctx, drainQuiet)
		n, err := s.Read(qctx, buf)
		cancel()
		switch {
		case errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil:
			return nil
		case err != nil:
			return err
		}
		if got += n + 1; got > drainMost {
			return &link.ProtocolError{Protocol: "USB", What: "sends without end and without being asked"}
		}
	}
}

// Stream is a pipe as ADB uses it: what is written is one transfer, with a packet without bytes
// behind it where it ends with a full one (the platform's adb does so, and its device side waits
// for it), and what is read is never asked for ahead. It is a link.Transfers.
type Stream struct {
	s       *Channel
	rd, wr  *link.Deadline
	closing sync.Once
}

// NewStream makes a stream of a pipe.
func NewStream(p Pipe) *Stream {
	return &Stream{s: NewChannel(p), rd: link.NewDeadline(), wr: link.NewDeadline()}
}

// Read reads of one transfer; packets without bytes between messages are passed over.
func (s *Stream) Read(p []byte) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	for {
		ctx, done := s.rd.Context()
		n, err := s.s.Read(ctx, p)
		done()
		if n > 0 || err != nil {
			return n, timeout(err)
		}
	}
}

// ReadPacket takes what one packet brings.
func (s *Stream) ReadPacket(p []byte) (int, error) { return s.Read(p[:min(len(p), s.s.Packet())]) }

// Write sends p as one transfer.
func (s *Stream) Write(p []byte) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	ctx, done := s.wr.Context()
	defer done()
	n, err := s.s.Write(ctx, p)
	if err == nil && len(p)%s.s.Packet() == 0 {
		_, err = s.s.Write(ctx, nil)
	}
	return n, timeout(err)
}

// timeout is a deadline's error as streams have it.
func timeout(err error) error {
	if errors.Is(err, context.DeadlineExceeded) || errors.Is(err, context.Canceled) {
		return os.ErrDeadlineExceeded
	}
	return err
}

// SetDeadline ends reads and writes at t, those that wait now included; zero: never.
func (s *Stream) SetDeadline(t time.Time) error {
	s.rd.Set(t)
	s.wr.Set(t)
	return nil
}

// Close lets the interface go.
func (s *Stream) Close() error {
	err := error(nil)
	s.closing.Do(func() { err = s.s.Close() })
	return err
}

// Drain takes what an earlier client left: answers that nobody fetched.
func (s *Stream) Drain(ctx context.Context) error { return s.s.Drain(ctx) }

// Revive brings a phone round that does not answer the greeting: the first time its endpoints'
// halts are cleared, then its connection is reset. It tells what was done; "" when nothing is
// left to be done. What was read in part is dropped.
func (s *Stream) Revive(try int) (did string, err error) {
	s.s.rest = nil
	switch try {
	case 1:
		return "its endpoints were cleared", wire(s.s.pipe.ClearHalt())
	case 2:
		return "its USB connection was reset", wire(s.s.pipe.Reset())
	}
	return "", nil
}

// Packet is the largest packet, in bytes.
func (s *Stream) Packet() int { return s.s.Packet() }
