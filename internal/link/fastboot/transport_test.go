package fastboot

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"jarlid/internal/link"
)

// far is a small bootloader behind any transport: it keeps what it is sent and
// gives it out again.
func far(ctx context.Context, t Transport) {
	var data []byte
	buf := make([]byte, MaxCommand)
	for {
		n, err := t.ReadPacket(ctx, buf)
		if err != nil {
			return
		}
		cmd := string(buf[:n])
		say := func(s string) { t.WritePacket(ctx, []byte(s)) }
		switch verb, arg, _ := strings.Cut(cmd, ":"); verb {
		case "getvar":
			if arg == "all" {
				for i := range 40 {
					say(fmt.Sprintf("INFOpartition-size:part%d: 0x%x", i, i*4096))
				}
			}
			say("OKAY" + arg)
		case "download":
			var size int
			fmt.Sscanf(arg, "%x", &size)
			say("DATA" + arg)
			data = make([]byte, size)
			for got := 0; got < size; {
				n, err := t.ReadPacket(ctx, data[got:])
				if err != nil {
					return
				}
				got += n
			}
			say("OKAY")
		case "fetch":
			say(fmt.Sprintf("DATA%08x", len(data)))
			for at := 0; at < len(data); at += 100_000 {
				t.WritePacket(ctx, data[at:min(at+100_000, len(data))])
			}
			say("OKAY")
		case "erase":
			time.Sleep(700 * time.Millisecond) // longer than a packet waits to be sent again
			say("OKAY")
		default:
			say("FAILno")
		}
	}
}

// bad is a network that loses, doubles and reorders packets on their way to
// the phone and back.
func bad(t *testing.T, phone string, share float64) string {
	t.Helper()
	near, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatalf("net.ListenPacket('udp', '127.0.0.1:0'): %v", err)
	}
	up, err := net.Dial("udp", phone)
	if err != nil {
		t.Fatalf("net.Dial('udp', phone): %v", err)
	}
	var mu sync.Mutex
	var client net.Addr
	rnd := rand.New(rand.NewPCG(1, 2))
	pass := func(p []byte, send func([]byte)) {
		mu.Lock()
		r := rnd.Float64()
		mu.Unlock()
		p = bytes.Clone(p)
		switch {
		case r < share: // lost
		case r < 2*share:
			send(p)
			send(p)
		case r < 3*share: // overtaken by what comes later
			time.AfterFunc(20*time.Millisecond, func() { send(p) })
		default:
			send(p)
		}
	}
	var wg sync.WaitGroup
	wg.Go(func() {
		buf := make([]byte, 1<<16)
		for {
			n, from, err := near.ReadFrom(buf)
			if err != nil {
				return
			}
			mu.Lock()
			client = from
			mu.Unlock()
			pass(buf[:n], func(p []byte) { up.Write(p) })
		}
	})
	wg.Go(func() {
		buf := make([]byte, 1<<16)
		for {
			n, err := up.Read(buf)
			if err != nil {
				return
			}
			pass(buf[:n], func(p []byte) {
				mu.Lock()
				to := client
				mu.Unlock()
				near.WriteTo(p, to)
			})
		}
	})
	t.Cleanup(func() { near.Close(); up.Close(); wg.Wait() })
	return near.LocalAddr().String()
}

// udpPhone runs far behind UDP and gives its address.
func udpPhone(t *testing.T) string {
	t.Helper()
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatalf("net.ListenPacket('udp', '127.0.0.1:0'): %v", err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	d := NewUDPDevice(conn)
	var wg sync.WaitGroup
	wg.Go(func() {
		for {
			s, err := d.Accept(ctx)
			if err != nil {
				return
			}
			far(ctx, s)
		}
	})
	t.Cleanup(func() { cancel(); conn.Close(); wg.Wait() })
	return conn.LocalAddr().String()
}

func quick(t *testing.T, address string) *UDP {
	t.Helper()
	u, err := dialUDP(t.Context(), address)
	if err != nil {
		t.Fatalf("dialUDP(address): %v", err)
	}
	u.resend = 40 * time.Millisecond
	t.Cleanup(func() { u.Close() })
	return u
}

// conform is what a client can do, whatever lies below.
func conform(t *testing.T, c *Client, size int) {
	t.Helper()
	ctx := t.Context()
	if v, ok, err := c.GetVar(ctx, "version"); v != "version" || !ok || err != nil {
		t.Fatalf("getvar: %q %v %v", v, ok, err)
	}
	vars, err := c.Variables(ctx)
	if err != nil || len(vars) != 40 || vars["partition-size:part3"] != "0x3000" {
		t.Fatalf("%d variables, %v", len(vars), err)
	}
	want := make([]byte, size)
	rand.NewChaCha8([32]byte{7}).Read(want)
	if err := c.Download(ctx, int64(size), bytes.NewReader(want), nil); err != nil {
		t.Fatalf("download: %v", err)
	}
	var got bytes.Buffer
	if n, err := c.Fetch(ctx, "vendor_boot", 0, int64(size), int64(size), &got); n != int64(size) ||
		err != nil || !bytes.Equal(got.Bytes(), want) {
		t.Fatalf("fetch: %d bytes, %v", n, err)
	}
	if _, err := c.Erase(ctx, "cache"); err != nil {
		t.Fatalf("a silent command: %v", err)
	}
	var refused *link.RefusedError
	if _, err := c.Flash(ctx, "boot"); !errors.As(err, &refused) || refused.Message != "no" {
		t.Fatalf("a refusal: %v", err)
	}
}

// TestTransports holds every transport to the same conformance test.
func TestTransports(t *testing.T) {
	t.Run("TCP", func(t *testing.T) {
		a, b := net.Pipe()
		var wg sync.WaitGroup
		wg.Go(func() {
			if s, err := NewTCP(t.Context(), b); err == nil {
				far(t.Context(), s)
			}
		})
		c, err := NewTCP(t.Context(), &duplex{Conn: a})
		if err != nil {
			t.Fatalf("NewTCP(...): %v", err)
		}
		conform(t, New(c), 3<<20+17)
		c.Close()
		wg.Wait()
	})
	t.Run("UDP", func(t *testing.T) { conform(t, New(quick(t, udpPhone(t))), 3<<20+17) })
	t.Run("UDP, 2 % lost, doubled, reordered", func(t *testing.T) {
		conform(t, New(quick(t, bad(t, udpPhone(t), 0.02))), 1<<20+5)
	})
	t.Run("UDP, after a client that died", func(t *testing.T) {
		phone := udpPhone(t)
		for _, dead := range []func(u *UDP){
			// and never reads the answer
			func(u *UDP) { u.WritePacket(t.Context(), []byte("getvar:version")) },
			func(u *UDP) {
				u.WritePacket(t.Context(), []byte("download:00100000"))
				u.ReadPacket(t.Context(), make([]byte, MaxResponse))
				u.WritePacket(t.Context(), make([]byte, 70_000)) // of a mebibyte
			},
			func(u *UDP) { // in the middle of a packet with pieces
				u.exchange(t.Context(), udpFastboot, udpContinued, []byte("getv"), time.Second, false)
			},
		} {
			u := quick(t, phone)
			dead(u)
			u.Close()
			conform(t, New(quick(t, phone)), 100_000)
		}
	})
}

// duplex makes a pipe writable from both ends at once, as a socket is.
type duplex struct {
	net.Conn
	once sync.Once
	out  chan []byte
}

func (d *duplex) Write(p []byte) (int, error) {
	d.once.Do(func() {
		d.out = make(chan []byte, 1024)
		go func() {
			for b := range d.out {
				if _, err := d.Conn.Write(b); err != nil {
					return
				}
			}
		}()
	})
	d.out <- bytes.Clone(p)
	return len(p), nil
}

// TestUDPPackets writes the packets of the published example byte by byte.
func TestUDPPackets(t *testing.T) {
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatalf("net.ListenPacket('udp', '127.0.0.1:0'): %v", err)
	}
	defer conn.Close()
	script := []struct{ want, answer string }{
		{"\x01\x00\x00\x00", "\x01\x00\x00\x00\x55\x55"},
		{"\x02\x00\x55\x55\x00\x01\x20\x00", "\x02\x00\x55\x55\x00\x01\x04\x00"},
		{"\x03\x00\x55\x56getvar:version", "\x03\x00\x55\x56"},
		{"\x03\x00\x55\x57", "\x03\x00\x55\x57OKAY0.4"},
		{"\x03\x00\x55\x58getvar:long", "\x03\x00\x55\x58"},
		{"\x03\x00\x55\x59", "\x03\x01\x55\x59OKAY"}, // continued
		{"\x03\x00\x55\x5a", "\x03\x00\x55\x5aanswer"},
		{"\x03\x00\x55\x5bgetvar:x", "\x00\x00\x55\x5bbusy"}, // an error packet
	}
	go func() {
		buf := make([]byte, 4096)
		for _, s := range script {
			n, from, err := conn.ReadFrom(buf)
			if err != nil {
				return
			}
			if string(buf[:n]) != s.want {
				t.Errorf("the client sent % x, want % x", buf[:n], s.want)
			}
			conn.WriteTo([]byte("\x03\x00\x12\x34OKAYold"), from) // not an answer to anything
			conn.WriteTo([]byte(s.answer), from)
		}
	}()
	u, err := dialUDP(t.Context(), conn.LocalAddr().String())
	if err != nil {
		t.Fatalf("dialUDP(conn.LocalAddr().String()): %v", err)
	}
	defer u.Close()
	if u.size != 1024 {
		t.Errorf("the packet size is %d, the smaller of both is 1024", u.size)
	}
	c := New(u)
	if v, _, err := c.GetVar(t.Context(), "version"); v != "0.4" || err != nil {
		t.Errorf("c.GetVar('version'): %q, %v; unwanted: v != '0.4' || err != nil", v, err)
	}
	if v, _, err := c.GetVar(t.Context(), "long"); v != "answer" || err != nil {
		t.Errorf("an answer in two packets: %q, %v", v, err)
	}
	var rule *link.ProtocolError
	if _, _, err := c.GetVar(t.Context(), "x"); !errors.As(err, &rule) ||
		!strings.Contains(err.Error(), "busy") {
		t.Errorf("an error packet: %v", err)
	}
}

// TestBadUDPPhones: what breaks the rules of UDP ends in a typed error.
func TestBadUDPPhones(t *testing.T) {
	var rule *link.ProtocolError
	var lost *link.LostError
	be := binary.BigEndian
	for name, c := range map[string]struct {
		answer func(p []byte) []byte
		target any
	}{
		"short sequence number": {func(p []byte) []byte { return p[:udpHeader] }, &rule},
		"packets too small": {func(p []byte) []byte {
			if p[0] == udpQuery {
				return append(p[:udpHeader:udpHeader], 0, 9)
			}
			return append(p[:udpHeader:udpHeader], 0, 1, 0, 100)
		}, &rule},
		"answers longer than allowed": {func(p []byte) []byte {
			switch {
			case p[0] == udpQuery:
				return append(p[:udpHeader:udpHeader], 0, 9)
			case p[0] == udpInit:
				return append(p[:udpHeader:udpHeader], 0, 1, 4, 0)
			case len(p) > udpHeader:
				return p[:udpHeader]
			}
			p = append(p[:udpHeader:udpHeader], bytes.Repeat([]byte("x"), 500)...)
			p[1] = udpContinued
			return p
		}, &rule},
		"data in an acknowledgement": {func(p []byte) []byte {
			switch p[0] {
			case udpQuery:
				return append(p[:udpHeader:udpHeader], 0, 9)
			case udpInit:
				return append(p[:udpHeader:udpHeader], 0, 1, 4, 0)
			}
			return append(p[:udpHeader:udpHeader], "OKAY"...)
		}, &rule},
		"silence": {func([]byte) []byte { return nil }, &lost},
		"never the right number": {func(p []byte) []byte {
			if p[0] == udpQuery {
				return append(p[:udpHeader:udpHeader], 0, 9)
			}
			be.PutUint16(p[2:], 77)
			return p
		}, &lost},
	} {
		conn, err := net.ListenPacket("udp", "127.0.0.1:0")
		if err != nil {
			t.Fatalf("net.ListenPacket('udp', '127.0.0.1:0'): %v", err)
		}
		go func() {
			buf := make([]byte, 4096)
			for {
				n, from, err := conn.ReadFrom(buf)
				if err != nil {
					return
				}
				if a := c.answer(bytes.Clone(buf[:n])); a != nil {
					conn.WriteTo(a, from)
				}
			}
		}()
		ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
		u, err := dialUDP(ctx, conn.LocalAddr().String())
		if err == nil {
			_, err = New(u).Command(ctx, "getvar:version", time.Second)
			u.Close()
		}
		cancel()
		conn.Close()
		if err == nil || !errors.As(err, c.target) {
			t.Errorf("%s: the error is %T %v, want %T", name, err, err, c.target)
		}
	}
}

// TestFetchBadPhones: a phone that gives out more than it has.
func TestFetchBadPhones(t *testing.T) {
	c, err := dial(t, "FB01", 0, func(w *wire) {
		w.want("fetch:vendor_boot_a:0x00001000:0x00000004")
		w.put("DATA00000004", "12", "34", "OKAY")
	})
	if err != nil {
		t.Fatalf("dial('FB01', 0, ...): %v", err)
	}
	var got bytes.Buffer
	if _, err := c.Fetch(t.Context(), "vendor_boot_a", 4096, 4, 1<<20, &got); err != nil ||
		got.String() != "1234" {
		t.Errorf("a piece: %q, %v", got.String(), err)
	}
	for name, script := range map[string]func(w *wire){
		"more than the partition": func(w *wire) { w.put("DATA00100000") },
		"more than announced":     func(w *wire) { w.put("DATA00000004", "12345678") },
		"data twice":              func(w *wire) { w.put("DATA00000004", "1234", "DATA00000004") },
		"no data":                 func(w *wire) { w.put("OKAY") },
		"a packet beyond any limit": func(w *wire) {
			w.put("DATA00000004")
			w.raw([]byte("\x7f\xff\xff\xff\xff\xff\xff\xff"))
		},
	} {
		c, err := dial(t, "FB01", 0, func(w *wire) { w.get(); script(w) })
		if err != nil {
			t.Fatalf("dial('FB01', 0, ...): %v", err)
		}
		var rule *link.ProtocolError
		if _, err := c.Fetch(t.Context(), "vendor_boot", 0, 4, 4, io.Discard); !errors.As(err, &rule) {
			t.Errorf("c.Fetch('vendor_boot', 0, 4, 4, io.Discard): %s: %v; unwanted: !errors.As(err, &rule)",
				name, err)
		}
	}
}

// FuzzUDP feeds a client packets nobody meant.
func FuzzUDP(f *testing.F) {
	f.Add([]byte("\x01\x00\x00\x00\x00\x09"), []byte("\x02\x00\x00\x09\x00\x01\x04\x00"),
		[]byte("\x03\x01\x00\x0aOK"))
	f.Fuzz(func(t *testing.T, a, b, c []byte) {
		conn, err := net.ListenPacket("udp", "127.0.0.1:0")
		if err != nil {
			t.Skip(err)
		}
		defer conn.Close()
		go func() {
			buf := make([]byte, 4096)
			for i := 0; ; i++ {
				_, from, err := conn.ReadFrom(buf)
				if err != nil {
					return
				}
				conn.WriteTo([][]byte{a, b, c}[min(i, 2)], from)
			}
		}()
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
		defer cancel()
		if u, err := dialUDP(ctx, conn.LocalAddr().String()); err == nil {
			u.ReadPacket(ctx, make([]byte, MaxResponse))
			u.Close()
		}
	})
}

// dialUDP finds a phone at host:port, learns its sequence number and begins a
// session, which ends whatever an earlier one left behind.
func dialUDP(ctx context.Context, address string) (*UDP, error) {
	var d net.Dialer
	conn, err := d.DialContext(ctx, "udp", address)
	if err != nil {
		return nil, link.Lost("connecting", err)
	}
	u, err := NewUDP(ctx, conn)
	if err != nil {
		conn.Close()
	}
	return u, err
}
