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

// NewStream makes a stream of endpoints n. zero reports whether the device ends transfers whose
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

// Read takes the transfer that is due.
func (s *Stream) Read(p []byte) (int, error) {
	packet := s.d.Packet()
	n, err := s.recv((len(p)/packet + 1) * packet) // a packet without bytes belongs to a full one
	if err == nil && n != len(p) {
		err = &FramingError{len(p), n}
	}
	if err != nil {
		return 0, err
	}
	return copy(p, s.buf[:n]), nil
}

// ReadPacket takes what one packet brings.
func (s *Stream) ReadPacket(p []byte) (int, error) {
	n, err := s.recv(s.d.Packet())
	return copy(p, s.buf[:n]), err
}

func (s *Stream) recv(room int) (int, error) {
	if cap(s.buf) < room {
		s.buf = make([]byte, room)
	}
	s.buf = s.buf[:room]
	ctx, done := s.rd.Context()
	defer done()
	n, err := s.d.Recv(ctx, s.n, s.buf)
	if errors.Is(err, context.Canceled) {
		err = os.ErrDeadlineExceeded
	}
	return n, err
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
