package standintest

import (
	"bytes"
	"errors"
	"io"
	"net"
	"os"
	"syscall"
	"testing"
	"testing/synctest"
	"time"
)

// pair is a connection of a network, both ends.
func pair(t *testing.T, n *Net) (near, far net.Conn) {
	t.Helper()
	l, err := n.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatalf("n.Listen('tcp', '127.0.0.1:0'): %v", err)
	}
	defer l.Close()
	if near, err = n.DialContext(t.Context(), "tcp", l.Addr().String()); err != nil {
		t.Fatalf("n.DialContext('tcp', l.Addr().String()): %v", err)
	}
	if far, err = l.Accept(); err != nil {
		t.Fatalf("l.Accept(): %v", err)
	}
	return near, far
}

// TestNet: the network behaves as the computer's own does, as far as programs see it.
func TestNet(t *testing.T) {
	for name, test := range map[string]func(t *testing.T, n *Net){
		"what is written arrives, and then the end": func(t *testing.T, n *Net) {
			near, far := pair(t, n)
			want := bytes.Repeat([]byte("0123456789abcdef"), window/8) // more than is ever under way
			go func() { near.Write(want); near.Close() }()
			got, err := io.ReadAll(far)
			if err != nil || !bytes.Equal(got, want) {
				t.Errorf("%d bytes, %v", len(got), err)
			}
		},
		"bytes take time": func(t *testing.T, n *Net) {
			n.Rate = 1 << 20
			near, far := pair(t, n)
			began := time.Now()
			go func() { near.Write(make([]byte, 3<<20)); near.Close() }()
			if _, err := io.Copy(io.Discard, far); err != nil {
				t.Errorf("io.Copy(io.Discard, far): %v", err)
			}
			if took := time.Since(began); took != 3*time.Second {
				t.Errorf("3 MiB took %v", took)
			}
		},
		"nobody listens": func(t *testing.T, n *Net) {
			if _, err := n.DialContext(t.Context(), "tcp", "127.0.0.1:5"); !errors.Is(err,
				syscall.ECONNREFUSED) {
				t.Errorf("n.DialContext('tcp', '127.0.0.1:5'): %v", err)
			}
		},
		"two at one address": func(t *testing.T, n *Net) {
			l, err := n.Listen("tcp", "127.0.0.1:5")
			if err != nil {
				t.Fatalf("n.Listen('tcp', '127.0.0.1:5'): %v", err)
			}
			if _, err := n.Listen("tcp", "127.0.0.1:5"); !errors.Is(err, syscall.EADDRINUSE) {
				t.Errorf("n.Listen('tcp', '127.0.0.1:5'): %v", err)
			}
			l.Close()
			again, err := n.Listen("tcp", "127.0.0.1:5")
			if err != nil {
				t.Fatalf("n.Listen('tcp', '127.0.0.1:5'): %v", err)
			}
			again.Close()
		},
		"a deadline ends a read and a write, and only that": func(t *testing.T, n *Net) {
			near, far := pair(t, n)
			near.SetDeadline(time.Now().Add(time.Second))
			var ne net.Error
			if _, err := near.Read(make([]byte, 1)); !errors.As(err, &ne) || !ne.Timeout() ||
				!errors.Is(err, os.ErrDeadlineExceeded) {
				t.Errorf("near.Read(make([]byte, 1)): %v", err)
			}
			if _, err := near.Write(make([]byte, 2*window)); !errors.Is(err, os.ErrDeadlineExceeded) {
				t.Errorf("near.Write(make([]byte, 2*window)): %v", err)
			}
			near.SetDeadline(time.Time{})
			go io.Copy(io.Discard, far)
			if _, err := near.Write(make([]byte, 2*window)); err != nil {
				t.Errorf("near.Write(make([]byte, 2*window)): %v", err)
			}
			near.Close()
		},
		"a deadline moved into the past wakes who waits": func(t *testing.T, n *Net) {
			near, far := pair(t, n)
			defer far.Close()
			go func() { time.Sleep(time.Minute); near.SetDeadline(time.Unix(1, 0)) }()
			if _, err := near.Read(make([]byte, 1)); !errors.Is(err, os.ErrDeadlineExceeded) {
				t.Errorf("near.Read(make([]byte, 1)): %v", err)
			}
		},
		"the other end hung up": func(t *testing.T, n *Net) {
			near, far := pair(t, n)
			far.Close()
			if _, err := near.Write([]byte("x")); !errors.Is(err, syscall.EPIPE) {
				t.Errorf("near.Write([]byte('x')): %v", err)
			}
			if _, err := near.Read(make([]byte, 1)); err != io.EOF {
				t.Errorf("near.Read(make([]byte, 1)): %v", err)
			}
			near.Close()
			if _, err := near.Read(make([]byte, 1)); !errors.Is(err, net.ErrClosed) {
				t.Errorf("near.Read(make([]byte, 1)): %v", err)
			}
		},
		"a cable that is pulled": func(t *testing.T, n *Net) {
			near, far := pair(t, n)
			near.Write([]byte("under way"))
			n.Cut()
			if _, err := far.Read(make([]byte, 1)); !errors.Is(err, syscall.ECONNRESET) {
				t.Errorf("far.Read(make([]byte, 1)): %v", err)
			}
			if _, err := near.Write([]byte("x")); !errors.Is(err, syscall.ECONNRESET) {
				t.Errorf("near.Write([]byte('x')): %v", err)
			}
		},
		"who waits at a listener that ends is hung up on": func(t *testing.T, n *Net) {
			l, err := n.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				t.Fatalf("n.Listen('tcp', '127.0.0.1:0'): %v", err)
			}
			c, err := n.DialContext(t.Context(), "tcp", l.Addr().String())
			if err != nil {
				t.Fatalf("n.DialContext('tcp', l.Addr().String()): %v", err)
			}
			l.Close()
			if _, err := c.Read(make([]byte, 1)); err != io.EOF {
				t.Errorf("c.Read(make([]byte, 1)): %v", err)
			}
			if _, err := l.Accept(); !errors.Is(err, net.ErrClosed) {
				t.Errorf("l.Accept(): %v", err)
			}
		},
	} {
		t.Run(name, func(t *testing.T) { synctest.Test(t, func(t *testing.T) { test(t, &Net{}) }) })
	}
}
