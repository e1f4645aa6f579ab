package adb

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"jarlid/internal/link"
)

func read(t *testing.T, name string) []byte {
	t.Helper()
	b, err := os.ReadFile(filepath.Join("testdata", name))
	if err != nil {
		t.Fatalf("os.ReadFile(filepath.Join('testdata', name)): %v", err)
	}
	return b
}

// TestKey holds key, signature and public key against what openssl made.
func TestKey(t *testing.T) {
	k, err := LoadKey(filepath.Join("testdata", "key.pem"), "me@here")
	if err != nil {
		t.Fatalf("LoadKey(..., 'me@here'): %v", err)
	}
	if want := string(read(t, "public")) + " me@here"; k.Public() != want {
		t.Errorf("public key %q", k.Public())
	}
	sig, err := k.sign(read(t, "token"))
	if err != nil || !bytes.Equal(sig, read(t, "signature")) {
		t.Errorf("the signature differs from openssl's: %v", err)
	}
	if err := verify(k.Public(), read(t, "token"), sig); err != nil {
		t.Errorf("verify(k.Public(), read(t, 'token'), sig): %v", err)
	}
	sig[7] ^= 1
	if verify(k.Public(), read(t, "token"), sig) == nil {
		t.Error("a changed signature is taken")
	}
	path := filepath.Join(t.TempDir(), "home", "key.pem")
	made, err := LoadKey(path, "a")
	if err != nil {
		t.Fatalf("LoadKey(%v, 'a'): %v", path, err)
	}
	if st, _ := os.Stat(path); st.Mode().Perm()&0o077 != 0 && runtime.GOOS != "windows" {
		// there an access list says it
		t.Errorf("the key can be read by others: %v", st.Mode())
	}
	if again, err := LoadKey(path, "a"); err != nil || again.Public() != made.Public() {
		t.Errorf("the second time it is another key: %v", err)
	}
}

// wire is the far end of a connection, written to by hand.
type wire struct {
	t    *testing.T
	c    net.Conn
	sums bool // a phone of the old protocol: checksums
	slow bool // a byte at a time
}

func (w *wire) put(cmd string, arg0, arg1 uint32, data string) {
	le := binary.LittleEndian
	c := le.Uint32([]byte(cmd))
	sum := uint32(0)
	if w.sums {
		for _, b := range []byte(data) {
			sum += uint32(b)
		}
	}
	var b []byte
	for _, v := range []uint32{c, arg0, arg1, uint32(len(data)), sum, c ^ 0xffffffff} {
		b = le.AppendUint32(b, v)
	}
	w.raw(append(b, data...))
}

func (w *wire) raw(b []byte) {
	step := len(b)
	if w.slow {
		step = 1
	}
	for at := 0; at < len(b); at += step {
		if _, err := w.c.Write(b[at:min(at+step, len(b))]); err != nil {
			return // the client hung up, which some of these tests want
		}
	}
}

// get reads a message and fails unless it is the wanted command.
func (w *wire) get(cmd string) (arg0, arg1 uint32, data string) {
	h := make([]byte, 24)
	if _, err := io.ReadFull(w.c, h); err != nil {
		w.t.Errorf("waiting for %s: %v", cmd, err)
		return
	}
	le := binary.LittleEndian
	b := make([]byte, le.Uint32(h[12:]))
	if _, err := io.ReadFull(w.c, b); err != nil {
		w.t.Errorf("waiting for the data of %s: %v", cmd, err)
	}
	if string(h[:4]) != cmd {
		w.t.Errorf("the client sent %s, want %s", h[:4], cmd)
	}
	if le.Uint32(h[20:]) != le.Uint32(h)^0xffffffff {
		w.t.Errorf("%s has a wrong magic number", cmd)
	}
	if w.sums || cmd == "CNXN" {
		sum := uint32(0)
		for _, c := range b {
			sum += uint32(c)
		}
		if sum != le.Uint32(h[16:]) {
			w.t.Errorf("%s has a wrong checksum", cmd)
		}
	}
	return le.Uint32(h[4:]), le.Uint32(h[8:]), string(b)
}

// dial runs script as the phone and gives the client's connection.
func dial(t *testing.T, o Options, script func(w *wire)) (*Conn, error) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatalf("net.Listen('tcp', '127.0.0.1:0'): %v", err)
	}
	var wg sync.WaitGroup
	wg.Go(func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		defer c.Close()
		c.SetDeadline(time.Now().Add(10 * time.Second))
		script(&wire{t: t, c: c})
	})
	t.Cleanup(func() { l.Close(); wg.Wait() })
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	c, err := dialTo(ctx, l.Addr().String(), o)
	if c != nil {
		t.Cleanup(func() { c.Close() })
	}
	return c, err
}

const oldVersion, newVersion = 0x01000000, 0x01000001

// TestShells: phones of the old protocol (checksums, 4 KiB, shell without exit
// codes) and of the new one, with bytes arriving in any portions.
func TestShells(t *testing.T) {
	for _, slow := range []bool{false, true} {
		c, err := dial(t, Options{}, func(w *wire) {
			w.slow, w.sums = slow, true
			w.get("CNXN")
			w.put("CNXN", oldVersion, 4096, "device::ro.product.device=turnstone;ro.product.model=T;\x00")
			id, _, service := w.get("OPEN")
			if service != "shell:getprop\x00" {
				t.Errorf("service %q", service)
			}
			w.put("OKAY", 77, id, "")
			w.put("WRTE", 77, id, "[a]: ")
			if a, b, _ := w.get("OKAY"); a != id || b != 77 {
				t.Errorf("OKAY(%d, %d)", a, b)
			}
			w.put("WRTE", 77, id, "[b]\r\n")
			w.get("OKAY")
			w.put("CLSE", 77, id, "")
			w.get("CLSE")
		})
		if err != nil {
			t.Fatalf("dial(...): %v", err)
		}
		if c.Peer.Kind != "device" || c.Peer.Props["ro.product.device"] != "turnstone" {
			t.Errorf("banner %+v", c.Peer)
		}
		out, err := c.Shell(t.Context(), "getprop", time.Minute)
		if err != nil || string(out.Stdout) != "[a]: [b]\r\n" || out.Code != -1 {
			t.Errorf("c.Shell('getprop'): %+v, %v", out, err)
		}
		c, err = dial(t, Options{}, func(w *wire) {
			w.slow = slow
			w.get("CNXN")
			w.put("CNXN", newVersion, 1<<20, "recovery::features=cmd,shell_v2")
			id, _, service := w.get("OPEN")
			if service != "shell,v2,raw:x\x00" {
				t.Errorf("service %q", service)
			}
			w.put("OKAY", 5, id, "")
			// Packets of the shell protocol, cut anywhere and joined anyhow.
			for _, s := range []string{"\x01\x03", "\x00\x00\x00out\x02\x03\x00\x00",
				"\x00err\x01\x01\x00\x00\x00!", "\x03\x01\x00\x00\x00\x07"} {
				w.put("WRTE", 5, id, s)
				w.get("OKAY")
			}
			w.get("CLSE")
		})
		if err != nil {
			t.Fatalf("dial(...): %v", err)
		}
		out, err = c.Shell(t.Context(), "x", time.Minute)
		if err != nil || string(out.Stdout) != "out!" || string(out.Stderr) != "err" || out.Code != 7 {
			t.Errorf("c.Shell('x'): %+v, %v", out, err)
		}
	}
}

// TestSideload: requests joined, split and repeated, small messages, and every
// way a session ends.
func TestSideload(t *testing.T) {
	body := bytes.Repeat([]byte("0123456789abcdef"), 10000) // two blocks and a half
	for _, c := range []struct {
		name   string
		asks   []string
		blocks []int
		want   Closing
		lost   bool
	}{
		{"one by one", []string{"00000000", "00000001", "00000002", "DONEDONE"}, []int{0, 1, 2}, ClosedDone,
			false},
		{"again and backwards", []string{"00000002", "00000000", "00000000", "FAILFAIL"}, []int{2, 0, 0},
			ClosedFail, false},
		{"blanks before the number", []string{"       1", "DONEDONE"}, []int{1}, ClosedDone, false},
		{"closes without a word", []string{"00000001", "close"}, []int{1}, ClosedMute, false},
		{"drops the link", []string{"00000001"}, []int{1}, ClosedMute, true},
	} {
		for _, max := range []uint32{4096, 1 << 20} {
			conn, err := dial(t, Options{}, func(w *wire) {
				w.get("CNXN")
				w.put("CNXN", newVersion, max, "sideload::")
				id, _, service := w.get("OPEN")
				if service != "sideload-host:160000:65536\x00" {
					t.Errorf("service %q", service)
				}
				w.put("OKAY", 9, id, "")
				for i, ask := range c.asks {
					if ask == "close" {
						w.put("CLSE", 9, id, "")
						w.get("CLSE")
						return
					}
					w.put("WRTE", 9, id, ask[:3])
					w.get("OKAY")
					w.put("WRTE", 9, id, ask[3:])
					w.get("OKAY")
					if i >= len(c.blocks) {
						continue
					}
					want := body[c.blocks[i]*65536 : min(len(body), (c.blocks[i]+1)*65536)]
					for got := 0; got < len(want); {
						_, _, data := w.get("WRTE")
						if uint32(len(data)) > max || data != string(want[got:got+len(data)]) {
							t.Errorf("%s: %d bytes of block %d, or not the right ones", c.name, len(data),
								c.blocks[i])
							return
						}
						got += len(data)
						w.put("OKAY", 9, id, "")
					}
				}
			})
			if err != nil {
				t.Fatalf("dial(...): %v", err)
			}
			var served int64
			got, err := conn.Sideload(t.Context(), bytes.NewReader(body), int64(len(body)), 5*time.Second,
				func(_, n int64) {
					served += n
				})
			var lost *link.LostError
			if got != c.want || errors.As(err, &lost) != c.lost {
				t.Errorf("%s: %s, %v; unwanted: got != c.want || errors.As(err, &lost) != c.lost",
					c.name, got, err)
			}
		}
	}
}

// TestGreeting: keys refused, offered, allowed.
func TestGreeting(t *testing.T) {
	k, err := LoadKey(filepath.Join("testdata", "key.pem"), "me@here")
	if err != nil {
		t.Fatalf("LoadKey(..., 'me@here'): %v", err)
	}
	token := string(read(t, "token"))
	_, err = dial(t, Options{Key: k}, func(w *wire) {
		w.get("CNXN")
		w.put("AUTH", 1, 0, token)
		if kind, _, sig := w.get("AUTH"); kind != 2 || sig != string(read(t, "signature")) {
			t.Errorf("AUTH(%d)", kind)
		}
		w.put("AUTH", 1, 0, "another token of 20.")
	})
	var denied *NotAuthorisedError
	if !errors.As(err, &denied) || strings.Count(denied.Fingerprint, ":") != 15 {
		t.Errorf("a phone that does not know the key: %v", err)
	}
	offered := false
	c, err := dial(t, Options{Key: k, Offer: true, Offered: func() { offered = true }}, func(w *wire) {
		w.get("CNXN")
		w.put("AUTH", 1, 0, token)
		w.get("AUTH")
		w.put("AUTH", 1, 0, token)
		if kind, _, pub := w.get("AUTH"); kind != 3 || pub != k.Public()+"\x00" {
			t.Errorf("AUTH(%d) %q", kind, pub)
		}
		w.put("CNXN", newVersion, 4096, "device::")
	})
	if err != nil || !offered || c.Peer.Kind != "device" {
		t.Errorf("allowed by its owner: %v", err)
	}
}

// TestBadPhones: what is against the protocol ends in a typed error.
func TestBadPhones(t *testing.T) {
	shell := func(script func(w *wire, id uint32)) error {
		c, err := dial(t, Options{}, func(w *wire) {
			w.get("CNXN")
			w.put("CNXN", newVersion, 4096, "device::features=shell_v2")
			id, _, _ := w.get("OPEN")
			script(w, id)
		})
		if err != nil {
			return err
		}
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		_, err = c.Shell(ctx, "x", time.Minute)
		return err
	}
	var rule *link.ProtocolError
	var lost *link.LostError
	var refused *link.RefusedError
	for name, c := range map[string]struct {
		err    error
		target any
	}{
		"no such service": {shell(func(w *wire, id uint32) { w.put("CLSE", 0, id, "") }), &refused},
		"an unknown word": {shell(func(w *wire, id uint32) { w.put("NOPE", 1, id, "") }), &rule},
		"a wrong magic":   {shell(func(w *wire, id uint32) { w.raw(bytes.Repeat([]byte{7}, 24)) }), &rule},
		"too long": {shell(func(w *wire, id uint32) {
			w.raw(
				[]byte(
					"WRTE\x01\x00\x00\x00\x01\x00\x00\x00\xff\xff\xff\x7f\x00\x00\x00\x00\xa8\xad\xab\xba"))
		}), &rule},
		"cut in a header": {shell(func(w *wire, id uint32) { w.raw([]byte("WRTE\x01")) }), &lost},
		"cut in a packet": {shell(func(w *wire, id uint32) {
			w.put("OKAY", 3, id, "")
			w.put("WRTE", 3, id, "\x01\x10\x00\x00\x00ab")
			w.get("OKAY")
			w.put("CLSE", 3, id, "")
		}), &lost},
		"endless output": {shell(func(w *wire, id uint32) {
			w.put("OKAY", 3, id, "")
			w.put("WRTE", 3, id, "\x01\xff\xff\xff\x7f")
		}), &rule},
		"silence": {shell(func(w *wire, id uint32) { w.put("OKAY", 3, id, ""); w.get("CLSE") }), &lost},
	} {
		if c.err == nil || !errors.As(c.err, c.target) {
			t.Errorf("%s: the error is %T %v, want %T", name, c.err, c.err, c.target)
		}
	}
	for name, first := range map[string]func(w *wire){
		"encryption only": func(w *wire) { w.put("STLS", newVersion, 0, "") },
		"short token":     func(w *wire) { w.put("AUTH", 1, 0, "abc") },
		"wrong checksum":  func(w *wire) { w.put("CNXN", oldVersion, 4096, "device::") },
	} {
		if _, err := dial(t, Options{}, func(w *wire) { w.get("CNXN"); first(w) }); !errors.As(err, &rule) {
			t.Errorf("dial(..., ...): %s: %v; unwanted: !errors.As(err, &rule)", name, err)
		}
	}
}

// TestClosedAtOnce: OKAY and CLSE in one breath, as a restart gives them, are a
// service that was there.
func TestClosedAtOnce(t *testing.T) {
	for range 50 {
		c, err := dial(t, Options{}, func(w *wire) {
			w.get("CNXN")
			w.put("CNXN", newVersion, 4096, "recovery::")
			id, _, _ := w.get("OPEN")
			le := binary.LittleEndian
			var b []byte
			for _, cmd := range []string{"OKAY", "CLSE"} {
				n := le.Uint32([]byte(cmd))
				for _, v := range []uint32{n, 3, id, 0, 0, ^n} {
					b = le.AppendUint32(b, v)
				}
			}
			w.raw(b)
		})
		if err != nil {
			t.Fatalf("dial(...): %v", err)
		}
		if err := c.Reboot(t.Context(), "sideload"); err != nil {
			t.Fatalf("a restart that was taken: %v", err)
		}
	}
}

// TestLimit: the limit on the greeting does not end the connection later.
func TestLimit(t *testing.T) {
	a, b := net.Pipe()
	d := &Device{Version: VersionNoSum, MaxPayload: 4096, Serve: func(_ string, s *Stream) bool {
		go func() { s.Accept(); s.Write([]byte("late")); s.Drain(); s.Close() }()
		return true
	}}
	go d.Accept(t.Context(), b)
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	c, err := Connect(ctx, a, Options{})
	if err != nil {
		t.Fatalf("Connect(a, ...): %v", err)
	}
	defer c.Close()
	time.Sleep(150 * time.Millisecond)
	if out, err := c.Shell(t.Context(), "x", time.Minute); err != nil || string(out.Stdout) != "late" {
		t.Errorf("c.Shell('x'): %q, %v; unwanted: err != nil || string(out.Stdout) != 'late'", out.Stdout,
			err)
	}
}

// connected gives the computer's end of a connection to a phone of this package.
func connected(t *testing.T, d *Device) *Conn {
	t.Helper()
	a, b := net.Pipe()
	go d.Accept(t.Context(), b)
	c, err := Connect(t.Context(), a, Options{})
	if err != nil {
		t.Fatalf("Connect(a, ...): %v", err)
	}
	t.Cleanup(func() { c.Close() })
	return c
}

// TestManyStreams runs several services at once over one connection, this
// package at both ends.
func TestManyStreams(t *testing.T) {
	d := &Device{Version: VersionNoSum, MaxPayload: 4096,
		Banner: Banner{Kind: "device", Features: []string{"shell_v2"}},
		Serve: func(service string, s *Stream) bool {
			go func() {
				defer s.Close()
				s.Accept()
				ShellPacket(s, 1, bytes.Repeat([]byte(service), 5000))
				ShellPacket(s, 3, []byte{0})
				s.Drain()
			}()
			return true
		}}
	c := connected(t, d)
	defer c.Close()
	var wg sync.WaitGroup
	for i := range 8 {
		wg.Go(func() {
			name := fmt.Sprintf("job-%d", i)
			out, err := c.Shell(t.Context(), name, time.Minute)
			if want := strings.Repeat("shell,v2,raw:"+name, 5000); err != nil || string(out.Stdout) != want {
				t.Errorf("%s: %d bytes, %v", name, len(out.Stdout), err)
			}
		})
	}
	wg.Wait()
}

func FuzzMessage(f *testing.F) {
	f.Add([]byte("OKAY\x01\x00\x00\x00\x02\x00\x00\x00\x03\x00\x00\x00\x00\x00\x00\x00\xb0\xb4\xbe\xa6abc"))
	f.Add(
		[]byte(
			"CNXN\x01\x00\x00\x01\x00\x10\x00\x00\x08\x00\x00\x00\x00\x00\x00\x00\xbc\xb1\xa7\xb1device::"))
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := readMessage(bytes.NewReader(b), 4096)
		if err == nil && len(m.data) > 4096 {
			t.Error("more than the limit was taken")
		}
		parseBanner(string(b))
	})
}

// TestSideloadWhole sends a package as old phones take it: all of it, then four
// letters back.
func TestSideloadWhole(t *testing.T) {
	pkg := bytes.Repeat([]byte("package "), SideloadBlock/2)
	var refused *link.RefusedError
	var lost *link.LostError
	for _, c := range []struct {
		answer string
		take   int // bytes taken before the phone goes away
		target any
	}{
		{"OKAY", len(pkg), nil},
		{"FAILno room", len(pkg), &refused},
		{"OK", len(pkg), &lost},
		{"", SideloadBlock, &lost},
	} {
		got := make(chan []byte, 1)
		d := &Device{Version: VersionNoSum, MaxPayload: 4096, Banner: Banner{Kind: "sideload"},
			Serve: func(service string, s *Stream) bool {
				if service != fmt.Sprintf("sideload:%d", len(pkg)) {
					return false
				}
				go func() {
					s.Accept()
					b := make([]byte, c.take)
					io.ReadFull(s, b)
					got <- b
					io.WriteString(s, c.answer)
					s.Drain()
					s.Close()
				}()
				return true
			}}
		conn := connected(t, d)
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
		err := conn.SideloadWhole(ctx, bytes.NewReader(pkg), int64(len(pkg)), 5*time.Second, nil)
		cancel()
		conn.Close()
		if b := <-got; !bytes.Equal(b, pkg[:c.take]) {
			t.Errorf("%q: the phone got other bytes", c.answer)
		}
		if c.target == nil && err != nil || c.target != nil && !errors.As(err, c.target) {
			t.Errorf("%q: %v; unwanted: c.target == nil && err != nil || c.target != nil && ...",
				c.answer, err)
		}
	}
}

// dialTo connects to a phone at host:port.
func dialTo(ctx context.Context, address string, o Options) (*Conn, error) {
	var d net.Dialer
	nc, err := d.DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, link.Lost("connecting", err)
	}
	c, err := Connect(ctx, nc, o)
	if err != nil {
		nc.Close()
	}
	return c, err
}
