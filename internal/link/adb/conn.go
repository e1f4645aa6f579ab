package adb

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"

	"jarlid/internal/link"
)

// Conn is one connection after its handshake. Both ends use it: a computer
// opens services, a phone (a stand-in) serves them. It is safe for concurrent
// use; several streams run over it at once.
type Conn struct {
	Peer Banner // what the other side said of itself

	conn       link.Stream
	r          io.Reader
	sums       bool // the old version: checksums both ways
	maxPayload int
	serve      func(service string, s *Stream) bool
	greeted    func(m message) // a phone's side on a bus: the next client's greeting

	// writing has room for one message on the wire. It is no mutex, since a wire may make
	// who writes wait, and a goroutine that waits for a channel doesn't hold up virtual time.
	writing chan struct{}

	mu      sync.Mutex
	streams map[uint32]*Stream
	nextID  uint32
	err     error
	done    chan struct{}
}

func newConn(nc link.Stream) *Conn {
	var r io.Reader = nc
	if _, bus := nc.(link.Transfers); !bus { // on a bus nothing may be read ahead
		r = bufio.NewReaderSize(nc, 64<<10)
	}
	return &Conn{conn: nc, r: r, sums: true, maxPayload: minMaxPayload,
		streams: map[uint32]*Stream{}, done: make(chan struct{}), writing: make(chan struct{}, 1)}
}

// agree takes over what a CNXN message says.
func (c *Conn) agree(m message) error {
	if m.arg0 < VersionOld {
		return &link.ProtocolError{Protocol: "ADB",
			What: fmt.Sprintf("speaks version %#x, which is not known", m.arg0)}
	}
	c.sums = m.arg0 < VersionNoSum
	if c.sums && m.sum != checksum(m.data) {
		return badSum(m)
	}
	c.maxPayload = int(min(m.arg1, MaxPayload))
	if c.maxPayload < 1 {
		return &link.ProtocolError{Protocol: "ADB", What: "takes messages of no length"}
	}
	c.Peer = parseBanner(string(m.data))
	return nil
}

func badSum(m message) error {
	return &link.ProtocolError{Protocol: "ADB",
		What: fmt.Sprintf("sent %v with checksum %#x where its bytes give %#x", m, m.sum, checksum(m.data))}
}

func (c *Conn) send(m message) error {
	c.writing <- struct{}{}
	defer func() { <-c.writing }()
	bufs := net.Buffers{m.appendHeader(make([]byte, 0, headerSize), c.sums)}
	if len(m.data) > 0 {
		bufs = append(bufs, m.data)
	}
	_, err := bufs.WriteTo(c.conn)
	return err
}

// Close ends the connection and every stream on it.
func (c *Conn) Close() error {
	c.fail(net.ErrClosed)
	return c.conn.Close()
}

// Done is closed when the connection has ended.
func (c *Conn) Done() <-chan struct{} { return c.done }

// fail ends everything with err.
func (c *Conn) fail(err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.err != nil {
		return
	}
	c.err = err
	close(c.done)
}

func (c *Conn) failure() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.err
}

// loop hands every message to its stream until the connection ends.
func (c *Conn) loop() {
	for {
		m, err := readMessage(c.r, MaxPayload)
		if err == nil && c.sums && m.sum != checksum(m.data) {
			err = badSum(m)
		}
		if err == nil {
			err = c.handle(m)
		}
		if err != nil {
			if errors.Is(err, io.EOF) {
				err = errGone // so that no reader takes it for a stream's clean end
			}
			c.fail(err)
			c.conn.Close()
			return
		}
	}
}

// errAgain ends a connection over which another one begins.
var errAgain = errors.New("the computer greets again")

var errGone = errors.New("the connection was closed at the other end")

func (c *Conn) handle(m message) error {
	if m.cmd == cmdOPEN {
		return c.opened(m)
	}
	if m.cmd == cmdCNXN && c.greeted != nil {
		// On a bus nothing tells that a client has gone but the greeting of the next one.
		c.greeted(m)
		return errAgain
	}
	if m.cmd == cmdSYNC || m.cmd == cmdCNXN || m.cmd == cmdAUTH {
		return nil // nothing of ours; old phones repeat their greeting
	}
	c.mu.Lock()
	s := c.streams[m.arg1]
	c.mu.Unlock()
	switch m.cmd {
	case cmdOKAY:
		if s == nil {
			return nil // the stream was closed meanwhile
		}
		s.mu.Lock()
		if s.remote == 0 {
			s.remote = m.arg0
		}
		s.mu.Unlock()
		if !s.of(m) {
			return nil
		}
		s.allow()
	case cmdWRTE:
		if s == nil || !s.of(m) {
			// whoever reads never waits for a write
			go func() { _ = c.send(message{cmd: cmdCLSE, arg0: 0, arg1: m.arg0}) }()
			return nil
		}
		select {
		case s.in <- m.data:
		default:
			return &link.ProtocolError{Protocol: "ADB",
				What: "sent a second message before the first was confirmed"}
		}
	case cmdCLSE:
		if s != nil && (m.arg0 == 0 || s.of(m)) { // 0 of a refusal, and of phones that are done with it
			s.ended()
		}
	default:
		return &link.ProtocolError{Protocol: "ADB",
			What: fmt.Sprintf("sent %v, which is not a message of the protocol", m)}
	}
	return nil
}

// opened answers the other side's OPEN.
func (c *Conn) opened(m message) error {
	name := string(m.data)
	for len(name) > 0 && name[len(name)-1] == 0 {
		name = name[:len(name)-1]
	}
	if c.serve == nil || m.arg0 == 0 {
		return c.send(message{cmd: cmdCLSE, arg0: 0, arg1: m.arg0})
	}
	s := c.newStream()
	s.remote = m.arg0
	if !c.serve(name, s) {
		s.forget()
		return c.send(message{cmd: cmdCLSE, arg0: 0, arg1: m.arg0})
	}
	return nil
}

func (c *Conn) newStream() *Stream {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.nextID++
	s := &Stream{c: c, local: c.nextID, ready: make(chan struct{}, 1), in: make(chan []byte, 1),
		closed: make(chan struct{})}
	c.streams[s.local] = s
	return s
}

// Open asks the other side for a service. *link.RefusedError when it has none
// of that name.
func (c *Conn) Open(ctx context.Context, service string) (*Stream, error) {
	s := c.newStream()
	if err := c.send(message{cmd: cmdOPEN, arg0: s.local, data: append([]byte(service), 0)}); err != nil {
		return nil, link.Lost(service, err)
	}
	// A service that is done at once closes right behind its OKAY, and a phone
	// that restarts hangs up: the OKAY came first and counts.
	taken := func() bool {
		select {
		case <-s.ready:
			s.allow() // the first OKAY also allows the first message
			return true
		default:
			return false
		}
	}
	select {
	case <-s.ready:
		s.allow()
		return s, nil
	case <-s.closed:
		if taken() {
			return s, nil
		}
		return nil, noService(service)
	case <-c.done:
		if taken() {
			return s, nil
		}
		select {
		case <-s.closed: // the refusal came before the connection ended
			return nil, noService(service)
		default:
		}
		return nil, link.Lost(service, c.failure())
	case <-ctx.Done():
		s.Close()
		return nil, link.Lost(service, ctx.Err())
	}
}

func noService(service string) error {
	return &link.RefusedError{Command: service, Message: "there is no such service in this mode"}
}

// Stream is one service's two-way stream. Reads and writes end when the
// context given to With does.
type Stream struct {
	c     *Conn
	local uint32
	ctx   context.Context

	mu     sync.Mutex
	remote uint32
	once   sync.Once

	ready  chan struct{} // a message may be sent
	in     chan []byte   // a message that came and is not confirmed
	rest   []byte        // of a message that was read in part
	owed   bool          // its confirmation
	closed chan struct{} // the other side closed
}

// With makes reads and writes end with ctx.
func (s *Stream) With(ctx context.Context) *Stream {
	s.ctx = ctx
	return s
}

func (s *Stream) context() context.Context {
	if s.ctx == nil {
		return context.Background()
	}
	return s.ctx
}

// of reports whether a message comes from the other end of this stream: its number is the one that
// end gave itself.
func (s *Stream) of(m message) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.remote == 0 || s.remote == m.arg0
}

// allow allows one message. Confirmed twice there is nothing more it could allow, and nothing to
// wait for.
func (s *Stream) allow() {
	select {
	case s.ready <- struct{}{}:
	default:
	}
}

func (s *Stream) ended() { s.once.Do(func() { close(s.closed) }) }

func (s *Stream) forget() {
	s.c.mu.Lock()
	delete(s.c.streams, s.local)
	s.c.mu.Unlock()
}

func (s *Stream) id() uint32 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.remote
}

// Accept tells the opener that its service is there.
func (s *Stream) Accept() error {
	s.allow()
	return s.c.send(message{cmd: cmdOKAY, arg0: s.local, arg1: s.id()})
}

// Read reads; a message is confirmed, and the next one thereby allowed, when
// all of it was taken. io.EOF when the other side closed.
func (s *Stream) Read(p []byte) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	for len(s.rest) == 0 {
		if err := s.confirm(); err != nil {
			return 0, err
		}
		m, err := s.next()
		if err != nil {
			return 0, err
		}
		s.rest, s.owed = m, true
	}
	n := copy(p, s.rest)
	s.rest = s.rest[n:]
	if len(s.rest) == 0 {
		return n, s.confirm()
	}
	return n, nil
}

func (s *Stream) confirm() error {
	if !s.owed {
		return nil
	}
	s.owed = false
	err := s.c.send(message{cmd: cmdOKAY, arg0: s.local, arg1: s.id()})
	select {
	case <-s.closed:
		return nil // it closed behind its last message
	default:
		return err
	}
}

func (s *Stream) next() ([]byte, error) {
	select {
	case m := <-s.in:
		return m, nil
	case <-s.closed:
	case <-s.c.done:
	case <-s.context().Done():
		return nil, s.context().Err()
	}
	// What came before the close, or before the connection went, is still to
	// be had, and a stream that was closed in order has ended in order.
	select {
	case m := <-s.in:
		return m, nil
	default:
	}
	select {
	case <-s.closed:
		return nil, io.EOF
	default:
		return nil, s.c.failure()
	}
}

// Write sends p in messages of a size the other side takes, each after the
// one before was confirmed.
func (s *Stream) Write(p []byte) (int, error) {
	done := 0
	for done < len(p) {
		select {
		case <-s.ready:
		case <-s.closed:
			return done, io.ErrClosedPipe
		case <-s.c.done:
			return done, s.c.failure()
		case <-s.context().Done():
			return done, s.context().Err()
		}
		n := min(len(p)-done, s.c.maxPayload)
		if err := s.c.send(message{cmd: cmdWRTE, arg0: s.local, arg1: s.id(),
			data: p[done : done+n]}); err != nil {
			return done, err
		}
		done += n
	}
	return done, nil
}

// Drain waits until the other side has confirmed everything, or closed.
func (s *Stream) Drain() {
	select {
	case <-s.ready:
		s.allow()
	case <-s.closed:
	case <-s.c.done:
	case <-s.context().Done():
	}
}

// Close closes the stream.
func (s *Stream) Close() error {
	s.forget()
	id := s.id()
	if id == 0 {
		return nil
	}
	err := s.c.send(message{cmd: cmdCLSE, arg0: s.local, arg1: id})
	if errors.Is(err, net.ErrClosed) {
		return nil
	}
	return err
}
