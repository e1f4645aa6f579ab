// Package standintest runs phones made of software inside a test, in the manner of
// net/http/httptest: on a network in memory, so that a whole job runs in a bubble of
// virtual time (testing/synctest).
package standintest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"sync"
	"syscall"
	"time"
)

const (
	// window is how much of a connection is under way before a write waits for the other end.
	window = 256 << 10
	// tick is how much time bytes cost before it is waited: small packets go at once.
	tick = time.Millisecond
	// firstPort is the first one given out where port 0 is asked for.
	firstPort = 40000
)

// Net is a network in memory: connections with a buffer, with deadlines and with a rate.
// It is the Dialer of a program and the Net of stand-ins. The zero value is ready, and safe
// for use by several goroutines.
type Net struct {
	// Rate is how many bytes a connection carries in a second; 0: as many as there are.
	Rate int64

	mu        sync.Mutex
	listeners map[string]*listener
	ports     int
	conns     map[*conn]bool
}

type addr string

func (addr) Network() string  { return "tcp" }
func (a addr) String() string { return string(a) }

// Listen listens at a TCP address; port 0 is a free one.
func (n *Net) Listen(network, address string) (net.Listener, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if port == "0" {
		address = net.JoinHostPort(host, fmt.Sprint(firstPort+n.ports))
		n.ports++
	}
	if n.listeners[address] != nil {
		return nil, &net.OpError{Op: "listen", Net: network, Addr: addr(address),
			Err: os.NewSyscallError("bind", syscall.EADDRINUSE)}
	}
	l := &listener{n: n, at: addr(address), queue: make(chan *conn, 128), closed: make(chan struct{})}
	if n.listeners == nil {
		n.listeners = map[string]*listener{}
	}
	n.listeners[address] = l
	return l, nil
}

// ListenPacket refuses: this network has connections only.
func (n *Net) ListenPacket(network, address string) (net.PacketConn, error) {
	return nil, &net.OpError{Op: "listen", Net: network, Addr: addr(address),
		Err: errors.New("this network has no datagrams")}
}

// DialContext connects to where somebody listens. Nobody there refuses, as a computer
// does whose port is closed.
func (n *Net) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	refused := &net.OpError{Op: "dial", Net: network, Addr: addr(address), Err: os.NewSyscallError("connect",
		syscall.ECONNREFUSED)}
	n.mu.Lock()
	defer n.mu.Unlock()
	l := n.listeners[address]
	if l == nil || network != "tcp" {
		return nil, refused
	}
	up, down := newStream(n.Rate), newStream(n.Rate)
	near := &conn{n: n, in: down, out: up, local: "127.0.0.1:1", remote: addr(address)}
	far := &conn{n: n, in: up, out: down, local: addr(address), remote: "127.0.0.1:1"}
	select {
	case l.queue <- far:
	default:
		return nil, refused // nobody takes them any more
	}
	if n.conns == nil {
		n.conns = map[*conn]bool{}
	}
	n.conns[near], n.conns[far] = true, true
	return near, nil
}

// Cut breaks every connection there is, as a cable that is pulled does.
func (n *Net) Cut() {
	n.mu.Lock()
	all := n.conns
	n.conns = nil
	n.mu.Unlock()
	for c := range all {
		c.in.end(syscall.ECONNRESET)
		c.out.end(syscall.ECONNRESET)
	}
}

type listener struct {
	n      *Net
	at     addr
	queue  chan *conn
	closed chan struct{}
	once   sync.Once
}

func (l *listener) Accept() (net.Conn, error) {
	select {
	case <-l.closed:
		return nil, net.ErrClosed
	default:
	}
	select {
	case c := <-l.queue:
		return c, nil
	case <-l.closed:
		return nil, net.ErrClosed
	}
}

func (l *listener) Addr() net.Addr { return l.at }

// Close ends the listening; who waits to be taken is hung up on.
func (l *listener) Close() error {
	l.once.Do(func() {
		l.n.mu.Lock()
		delete(l.n.listeners, string(l.at))
		l.n.mu.Unlock()
		close(l.closed)
		for {
			select {
			case c := <-l.queue:
				c.Close()
				continue
			default:
			}
			break
		}
	})
	return nil
}

// conn is one end of a connection.
type conn struct {
	n             *Net
	in, out       *stream
	local, remote addr
}

func (c *conn) Read(b []byte) (int, error)  { return c.in.read(b) }
func (c *conn) Write(b []byte) (int, error) { return c.out.write(b) }
func (c *conn) LocalAddr() net.Addr         { return c.local }
func (c *conn) RemoteAddr() net.Addr        { return c.remote }

// Close ends both directions: the other end reads what is under way and then the end, and
// what it writes breaks.
func (c *conn) Close() error {
	c.n.mu.Lock()
	delete(c.n.conns, c)
	c.n.mu.Unlock()
	c.out.finish()
	c.in.hangUp()
	return nil
}

func (c *conn) SetDeadline(t time.Time) error {
	c.in.readUntil(t)
	c.out.writeUntil(t)
	return nil
}

func (c *conn) SetReadDeadline(t time.Time) error  { c.in.readUntil(t); return nil }
func (c *conn) SetWriteDeadline(t time.Time) error { c.out.writeUntil(t); return nil }

// stream is one direction.
type stream struct {
	rate int64

	mu       sync.Mutex
	changed  *sync.Cond
	waiting  [][]byte
	size     int
	finished bool  // the writer closed
	hungUp   bool  // the reader closed
	broken   error // both ends are cut off
	rd, wr   limit
	owed     time.Duration // time that bytes have cost and nobody has waited yet
}

func newStream(rate int64) *stream {
	s := &stream{rate: rate}
	s.changed = sync.NewCond(&s.mu)
	return s
}

// limit is a deadline that wakes who waits when it comes.
type limit struct {
	at    time.Time
	timer *time.Timer
}

func (l *limit) over() bool { return !l.at.IsZero() && !time.Now().Before(l.at) }

func (s *stream) set(l *limit, t time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if l.timer != nil {
		l.timer.Stop()
		l.timer = nil
	}
	l.at = t
	if d := time.Until(t); !t.IsZero() && d > 0 {
		l.timer = time.AfterFunc(d, s.wake)
	}
	s.changed.Broadcast()
}

func (s *stream) readUntil(t time.Time)  { s.set(&s.rd, t) }
func (s *stream) writeUntil(t time.Time) { s.set(&s.wr, t) }

func (s *stream) wake() {
	s.mu.Lock()
	s.changed.Broadcast()
	s.mu.Unlock()
}

func (s *stream) finish() {
	s.mu.Lock()
	s.finished = true
	s.stopTimers()
	s.changed.Broadcast()
	s.mu.Unlock()
}

func (s *stream) hangUp() {
	s.mu.Lock()
	s.hungUp, s.waiting, s.size = true, nil, 0
	s.stopTimers()
	s.changed.Broadcast()
	s.mu.Unlock()
}

func (s *stream) end(err error) {
	s.mu.Lock()
	s.broken, s.waiting, s.size = err, nil, 0
	s.changed.Broadcast()
	s.mu.Unlock()
}

func (s *stream) stopTimers() {
	for _, l := range []*limit{&s.rd, &s.wr} {
		if l.timer != nil {
			l.timer.Stop()
			l.timer = nil
		}
	}
}

func (s *stream) read(b []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for {
		switch {
		case s.hungUp:
			return 0, net.ErrClosed
		case s.broken != nil:
			return 0, &net.OpError{Op: "read", Net: "tcp", Err: s.broken}
		case s.rd.over():
			return 0, os.ErrDeadlineExceeded
		case s.size > 0:
			n := copy(b, s.waiting[0])
			if s.waiting[0] = s.waiting[0][n:]; len(s.waiting[0]) == 0 {
				s.waiting = s.waiting[1:]
			}
			s.size -= n
			s.changed.Broadcast()
			return n, nil
		case s.finished:
			return 0, io.EOF
		case len(b) == 0:
			return 0, nil
		}
		s.changed.Wait()
	}
}

func (s *stream) write(b []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.rate > 0 {
		s.owed += time.Duration(int64(len(b)) * int64(time.Second) / s.rate)
		if d := s.owed; d >= tick {
			s.owed = 0
			s.mu.Unlock()
			time.Sleep(d)
			s.mu.Lock()
		}
	}
	for sent := 0; ; {
		switch {
		case s.finished:
			return sent, net.ErrClosed
		case s.broken != nil:
			return sent, &net.OpError{Op: "write", Net: "tcp", Err: s.broken}
		case s.hungUp:
			return sent, &net.OpError{Op: "write", Net: "tcp",
				Err: os.NewSyscallError("write", syscall.EPIPE)}
		case s.wr.over():
			return sent, os.ErrDeadlineExceeded
		case len(b) == sent:
			return sent, nil
		case s.size < window:
			n := min(len(b)-sent, window-s.size)
			s.waiting = append(s.waiting, append([]byte(nil), b[sent:sent+n]...))
			s.size += n
			sent += n
			s.changed.Broadcast()
			continue
		}
		s.changed.Wait()
	}
}
