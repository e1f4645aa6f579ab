package soft

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"jarlid/internal/link"
)

// Stream is a device's pair of endpoints as its side of ADB uses it: a read takes a transfer of
// the length that is due, and one of another length breaks the connection, as it does with the
// devices of the platform. It is a link.Transfers.
type Stream struct {
	d      *Device
	n      byte
	zero   bool // packets without bytes behind full ones are sent
	buf    []byte
	rd, wr *link.Deadline
}

// NewStream makes a stream of endpoints n. zero tells whether the device ends transfers whose
// last packet is full by one without bytes.
func NewStream(d *Device, n byte, zero bool) *Stream {
	return &Stream{d: d, n: n, zero: zero, rd: link.NewDeadline(), wr: link.NewDeadline()}
}

// Packet is the largest packet, in bytes.
func (s *Stream) Packet() int { return s.d.Packet() }

// FramingError is a transfer of another length than the one that was due.
type FramingError struct{ Want, Got int }

// Error gives both lengths.
func (e *FramingError) Error() string {
	return fmt.Sprintf("a transfer of %d bytes where %d were due", e.Got, e.Want)
}

// Read takes the transfer that is due. One of exactly a packet's length takes whatever a packet
// brings: that is how the beginning of a message is looked for.
func (s *Stream) Read(p []byte) (int, error) {
	packet := s.d.Packet()
	room := (len(p)/packet + 1) * packet // a packet without bytes belongs to a full one
	if len(p) == packet {
		room = packet
	}
	if cap(s.buf) < room {
		s.buf = make([]byte, room)
	}
	ctx, done := s.rd.Context()
	defer done()
	n, err := s.d.Recv(ctx, s.n, s.buf[:room])
	switch {
	case errors.Is(err, context.Canceled):
		return 0, os.ErrDeadlineExceeded
	case err != nil:
		return 0, err
	case len(p) == packet:
		return copy(p, s.buf[:n]), nil
	case n != len(p):
		return 0, &FramingError{len(p), n}
	}
	return copy(p, s.buf[:n]), nil
}

// Write gives the computer a transfer and waits until it was fetched.
func (s *Stream) Write(p []byte) (int, error) {
	ctx, done := s.wr.Context()
	defer done()
	if err := s.d.Send(ctx, s.n, p, s.zero); err != nil {
		if errors.Is(err, context.Canceled) {
			err = os.ErrDeadlineExceeded
		}
		return 0, err
	}
	return len(p), nil
}

// SetDeadline ends reads and writes at t.
func (s *Stream) SetDeadline(t time.Time) error {
	s.rd.Set(t)
	s.wr.Set(t)
	return nil
}

// Close ends what waits; the device stays plugged in.
func (s *Stream) Close() error { return s.SetDeadline(time.Unix(1, 0)) }
