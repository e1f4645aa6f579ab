package fastboot

import (
	"bytes"
	"context"
	"encoding/binary"
	"io"
	"net"
	"sync"
)

// UDPDevice is the phone's end of the protocol over UDP, for stand-ins and
// tests: one socket, one session at a time.
type UDPDevice struct {
	conn     net.PacketConn
	sessions chan *udpSession

	// Of the goroutine that reads the socket:
	seq    uint16
	size   int
	peer   net.Addr
	answer []byte // the last response, for a packet that comes again
	now    *udpSession
}

// udpSession is one computer's session: what it sends and what it is sent.
type udpSession struct {
	d    *UDPDevice
	mu   sync.Mutex
	in   [][]byte // pieces received and not read
	more []bool   // whether each piece is continued
	out  [][]byte // packets to be asked for
	// wish is the packet by which the computer asks for data while there is
	// none; it is answered when there is.
	wish    []byte
	wake    chan struct{}
	ended   chan struct{}
	endOnce sync.Once
}

// NewUDPDevice serves conn until it is closed.
func NewUDPDevice(conn net.PacketConn) *UDPDevice {
	d := &UDPDevice{conn: conn, sessions: make(chan *udpSession, 1), size: udpLeast}
	go d.serve()
	return d
}

// Accept waits for the next session.
func (d *UDPDevice) Accept(ctx context.Context) (Transport, error) {
	select {
	case s, ok := <-d.sessions:
		if !ok {
			return nil, net.ErrClosed
		}
		return s, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (d *UDPDevice) serve() {
	defer close(d.sessions)
	buf := make([]byte, 1<<16)
	for {
		n, from, err := d.conn.ReadFrom(buf)
		if err != nil {
			if d.now != nil {
				d.now.end()
			}
			return
		}
		if n >= udpHeader {
			d.packet(bytes.Clone(buf[:n]), from)
		}
	}
}

func (d *UDPDevice) send(p []byte) { _, _ = d.conn.WriteTo(p, d.peer) }

// packet follows the summary of the protocol: a query is always answered, the
// expected packet is processed, the one before it answered again, all others
// ignored.
func (d *UDPDevice) packet(p []byte, from net.Addr) {
	be := binary.BigEndian
	id, seq := p[0], be.Uint16(p[2:])
	switch {
	case id == udpQuery:
		r := be.AppendUint16(bytes.Clone(p[:udpHeader]), d.seq)
		_, _ = d.conn.WriteTo(r, from)
	case seq == d.seq-1 && d.answer != nil && bytes.Equal(d.answer[:1], p[:1]):
		d.peer = from
		d.send(d.answer)
	case seq != d.seq:
	case id == udpInit && len(p) >= udpHeader+4:
		d.peer = from
		d.size = max(min(int(be.Uint16(p[udpHeader+2:])), udpPacket), udpLeast)
		r := be.AppendUint16(be.AppendUint16(bytes.Clone(p[:udpHeader]), udpVersion), udpPacket)
		if d.now != nil {
			d.now.end() // whatever it was doing is over
		}
		d.now = &udpSession{d: d, wake: make(chan struct{}, 1), ended: make(chan struct{})}
		select { // one that nobody has taken yet is over too
		case <-d.sessions:
		default:
		}
		d.sessions <- d.now
		d.respond(r)
	case id == udpFastboot && d.now != nil:
		d.peer = from
		d.now.packet(p)
	default:
		r := append(bytes.Clone(p[:udpHeader]), "no session"...)
		r[0] = udpError
		_, _ = d.conn.WriteTo(r, from)
	}
}

// respond sends a response, keeps it and expects the next number.
func (d *UDPDevice) respond(r []byte) {
	d.answer = r
	d.seq++
	d.send(r)
}

func (s *udpSession) packet(p []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	head := bytes.Clone(p[:udpHeader])
	head[1] = 0
	if len(p) == udpHeader { // it asks for data
		s.wish = head
		s.give()
		return
	}
	s.in, s.more = append(s.in, p[udpHeader:]), append(s.more, p[1]&udpContinued != 0)
	s.d.respond(head)
	s.signal()
}

// give answers a wish when there is something to give; s.mu is held.
func (s *udpSession) give() {
	if s.wish == nil || len(s.out) == 0 {
		return
	}
	room := s.d.size - udpHeader
	p := s.out[0]
	n := min(len(p), room)
	r := s.wish
	if n < len(p) {
		r[1] = udpContinued
		s.out[0] = p[n:]
	} else {
		s.out = s.out[1:]
	}
	s.wish = nil
	s.d.respond(append(r, p[:n]...))
	s.signal()
}

func (s *udpSession) signal() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

func (s *udpSession) end() { s.endOnce.Do(func() { close(s.ended) }) }

// ReadData reads one packet.
func (s *udpSession) ReadData(ctx context.Context, p []byte) (int, error) {
	return s.ReadPacket(ctx, p)
}

// ReadPacket gives what was sent, its pieces put together as far as p reaches.
func (s *udpSession) ReadPacket(ctx context.Context, p []byte) (int, error) {
	got := 0
	for {
		s.mu.Lock()
		for len(s.in) > 0 && (got == 0 || len(s.in[0]) <= len(p)-got) {
			n := copy(p[got:], s.in[0])
			got += n
			more := s.more[0]
			if n < len(s.in[0]) {
				s.in[0] = s.in[0][n:]
			} else {
				s.in, s.more = s.in[1:], s.more[1:]
			}
			if !more || got == len(p) {
				s.mu.Unlock()
				return got, nil
			}
		}
		full := len(s.in) > 0
		s.mu.Unlock()
		if full {
			return got, nil
		}
		if err := s.wait(ctx); err != nil {
			return 0, err
		}
	}
}

func (s *udpSession) wait(ctx context.Context) error {
	select {
	case <-s.wake:
		return nil
	case <-s.ended:
		return io.EOF
	case <-ctx.Done():
		return ctx.Err()
	}
}

// WritePacket waits until the computer has asked for the whole packet.
func (s *udpSession) WritePacket(ctx context.Context, p []byte) error {
	s.mu.Lock()
	s.out = append(s.out, bytes.Clone(p))
	s.give()
	s.mu.Unlock()
	for {
		s.mu.Lock()
		left := len(s.out)
		s.mu.Unlock()
		if left == 0 {
			return nil
		}
		if err := s.wait(ctx); err != nil {
			return err
		}
	}
}

// Close ends the session.
func (s *udpSession) Close() error { s.end(); return nil }
