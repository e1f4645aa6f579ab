package adb

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"jarlid/internal/link"
	"jarlid/internal/link/usb"
	"jarlid/internal/link/usb/soft"
)

// rigUSB is a phone on a bus in memory that echoes what a service is sent.
type rigUSB struct {
	bus  soft.Bus
	dev  *soft.Device
	mu   sync.Mutex
	sent [][]byte

	knows func() []string // keys; nil: everybody is let in
}

// onUSB plugs one in. zero says whether its own full packets end with an empty one.
func onUSB(t testing.TB, speed int, zero bool) *rigUSB {
	r := &rigUSB{dev: soft.NewDevice(soft.Gadget{Speed: speed, Serial: "S",
		Functions: []soft.Function{soft.Phone(usb.ProtocolADB)}})}
	r.dev.Sent = func(p []byte) {
		r.mu.Lock()
		r.sent = append(r.sent, bytes.Clone(p[:min(len(p), headerSize)]))
		r.mu.Unlock()
	}
	t.Cleanup(r.bus.PlugAt("1-1", r.dev))
	return r
}

// serve is the phone's side, one connection after the other, for as long as it is plugged in.
func (r *rigUSB) serve(ctx context.Context, zero bool) {
	d := &Device{Version: VersionNoSum, MaxPayload: MaxPayload, Banner: Banner{Kind: "device"},
		Knows: r.knows, Serve: func(_ string, s *Stream) bool {
			go func() {
				if s.Accept() == nil {
					io.Copy(s, s)
					s.Drain()
				}
				s.Close()
			}()
			return true
		}}
	for ctx.Err() == nil {
		c, err := d.Accept(ctx, soft.NewStream(r.dev, 1, zero))
		if err == nil {
			<-c.Done()
		}
		select {
		case <-r.dev.Gone():
			return
		case <-time.After(time.Millisecond):
		}
	}
}

func (r *rigUSB) pipe(t testing.TB) usb.Pipe {
	t.Helper()
	p, err := r.bus.OpenPhone(context.Background())
	if err != nil {
		t.Fatalf("r.bus.OpenPhone(context.Background()): %v", err)
	}
	return p
}

// TestUSB: messages of many lengths go both ways at once; each header and each payload is a
// transfer of its own, with an empty packet behind a payload that ends with a full one, and
// behind nothing else.
func TestUSB(t *testing.T) {
	for _, speed := range []int{soft.Full, soft.High, soft.Super} {
		for _, zero := range []bool{true, false} {
			t.Run(fmt.Sprintf("%d Mbit/s, empty packets %v", speed, zero), func(t *testing.T) {
				synctest.Test(t, func(t *testing.T) {
					r := onUSB(t, speed, zero)
					ctx, cancel := context.WithCancel(t.Context())
					go r.serve(ctx, zero)
					c, err := Connect(ctx, usb.NewStream(r.pipe(t)), Options{})
					if err != nil {
						t.Fatalf("Connect(usb.NewStream(r.pipe(t)), ...): %v", err)
					}
					var all sync.WaitGroup
					for _, n := range []int{1, 24, 63, 64, 65, 511, 512, 513, 1024, 64 << 10, 1<<20 - 1,
						1 << 20, 2<<20 + 512} {
						all.Go(func() {
							s, err := c.Open(ctx, "echo:")
							if err != nil {
								t.Errorf("c.Open('echo:'): %v", err)
								return
							}
							want := bytes.Repeat([]byte{byte(n), 1, 2}, n/3+1)[:n]
							go s.Write(want)
							got := make([]byte, n)
							if _, err := io.ReadFull(s, got); err != nil || !bytes.Equal(got, want) {
								t.Errorf("%d bytes: %v", n, err)
							}
							s.Close()
						})
					}
					all.Wait()
					c.Close()
					cancel()
					r.framed(t)
				})
			})
		}
	}
}

// echoes makes sure that a connection carries something both ways, and ends it.
func echoes(ctx context.Context, t *testing.T, c *Conn) {
	t.Helper()
	s, err := c.Open(ctx, "echo:")
	if err != nil {
		t.Fatalf("c.Open('echo:'): %v", err)
	}
	go s.Write([]byte("well"))
	if _, err := io.ReadFull(s, make([]byte, 4)); err != nil {
		t.Errorf("io.ReadFull(s, make([]byte, 4)): %v", err)
	}
	c.Close()
}

// framed holds what was sent to the rule of empty packets.
func (r *rigUSB) framed(t *testing.T) {
	t.Helper()
	r.mu.Lock()
	defer r.mu.Unlock()
	packet, empty := uint32(r.dev.Packet()), 0
	for i := 0; i < len(r.sent); i++ {
		if len(r.sent[i]) != headerSize {
			t.Fatalf("transfer %d is no header: %d bytes", i, len(r.sent[i]))
		}
		n := binary.LittleEndian.Uint32(r.sent[i][12:])
		if n == 0 {
			continue
		}
		i++
		if i >= len(r.sent) || len(r.sent[i]) != int(min(n, headerSize)) {
			t.Fatalf("transfer %d is not the payload of %d bytes", i, n)
		}
		if n%packet == 0 {
			i++
			empty++
			if i >= len(r.sent) || len(r.sent[i]) != 0 {
				t.Fatalf("behind a payload of %d bytes no empty packet was sent", n)
			}
		}
	}
	if empty == 0 {
		t.Error("no payload ended with a full packet, so nothing was shown")
	}
}

// TestUSBAfterADeadClient: what a client left behind that died in the middle of a message, at
// either end, is got over: at once where only its bytes are there, by clearing the endpoints
// after five seconds where the phone waits for the rest of a message.
func TestUSBAfterADeadClient(t *testing.T) {
	header := func(cmd string, n int) []byte {
		return message{cmd: binary.LittleEndian.Uint32([]byte(cmd)), arg0: 1, arg1: 1,
			data: make([]byte, n)}.appendHeader(nil, false)
	}
	for name, c := range map[string]struct {
		dead  func(ctx context.Context, p usb.Pipe)
		least time.Duration
		did   []string
	}{
		"behind a header with a payload": {func(ctx context.Context, p usb.Pipe) {
			p.Write(ctx, header("WRTE", 100_000))
		}, 5 * time.Second, []string{"its endpoints were cleared"}},
		"in a payload": {func(ctx context.Context, p usb.Pipe) {
			p.Write(ctx, header("WRTE", 100_000))
			p.Write(ctx, make([]byte, 51_200))
		}, 5 * time.Second, []string{"its endpoints were cleared"}},
		"in a connection that went on": {func(ctx context.Context, p usb.Pipe) {
			conn, err := Connect(ctx, usb.NewStream(p), Options{})
			if err == nil {
				s, _ := conn.Open(ctx, "echo:")
				go s.Write(make([]byte, 3<<20))
				time.Sleep(time.Millisecond)
			}
		}, 0, nil},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				r := onUSB(t, soft.High, true)
				ctx, cancel := context.WithCancel(t.Context())
				defer cancel()
				go r.serve(ctx, true)
				p := r.pipe(t)
				c.dead(ctx, p)
				p.Close()
				var did []string
				began := time.Now()
				conn, err := Connect(ctx, usb.NewStream(r.pipe(t)), Options{Revived: func(s string) {
					did = append(did, s)
				}})
				if err != nil {
					t.Fatalf("Connect(usb.NewStream(r.pipe(t)), ...): %v", err)
				}
				if took := time.Since(began); !slices.Equal(did, c.did) || took < c.least || took > c.least+
					time.Second {
					t.Errorf("%v, after %v", did, took)
				}
				echoes(ctx, t, conn)
			})
		})
	}
}

// TestUSBLeft: a program that ended behind its greeting leaves a phone whose answer nobody fetched, a token
// among them. The next one is heard, and signs the token that is meant.
func TestUSBLeft(t *testing.T) {
	key, err := LoadKey("testdata/key.pem", "test")
	if err != nil {
		t.Fatalf("LoadKey('testdata/key.pem', 'test'): %v", err)
	}
	for name, knows := range map[string]func() []string{"to everybody": nil, "to a key": func() []string {
		return []string{key.Public()}
	}} {
		for _, fetched := range []int{0, 1, 2} { // transfers of the answer
			t.Run(fmt.Sprint(name, ", ", fetched, " fetched"), func(t *testing.T) {
				synctest.Test(t, func(t *testing.T) {
					r := onUSB(t, soft.High, true)
					r.knows = knows
					ctx, cancel := context.WithCancel(t.Context())
					go r.serve(ctx, true)
					p := r.pipe(t)
					if err := newConn(usb.NewStream(p)).send(message{cmd: cmdCNXN, arg0: VersionNoSum,
						arg1: MaxPayload, data: []byte("host::features=shell_v2")}); err != nil {
						t.Fatalf("newConn(usb.NewStream(p)).send(...): %v", err)
					}
					for range fetched {
						if _, err := p.Read(ctx, make([]byte, 512)); err != nil {
							t.Fatalf("p.Read(make([]byte, 512)): %v", err)
						}
					}
					p.Close()
					did := 0
					c, err := Connect(ctx, usb.NewStream(r.pipe(t)), Options{Key: key, Revived: func(string) {
						did++
					}})
					if err != nil || did != 0 {
						t.Fatalf("%v, %d tries", err, did)
					}
					echoes(ctx, t, c)
					cancel()
				})
			})
		}
	}
}

// TestUSBDeaf: a phone that never answers is brought round in three tries and then lost; one
// that sends without end breaks the rules. Neither hangs.
func TestUSBDeaf(t *testing.T) {
	for name, c := range map[string]struct {
		send   func(ctx context.Context, d *soft.Device)
		target any
		did    int
	}{
		"deaf": {func(ctx context.Context, d *soft.Device) {}, new(*link.LostError), 2},
		"noise from a greeting on": {func(ctx context.Context, d *soft.Device) {
			time.Sleep(time.Second)
			for d.Send(ctx, 1, make([]byte, 64<<10), false) == nil {
			}
		}, new(*link.ProtocolError), 0},
		"noise": {func(ctx context.Context, d *soft.Device) {
			for d.Send(ctx, 1, make([]byte, 64<<10), false) == nil {
			}
		}, new(*link.ProtocolError), 0},
		"a length that lies": {func(ctx context.Context, d *soft.Device) {
			time.Sleep(time.Second) // what is sent before anybody listens
			h := message{cmd: cmdCNXN, arg0: VersionNoSum, arg1: MaxPayload}.appendHeader(nil, false)
			binary.LittleEndian.PutUint32(h[12:], 0xfffffff0)
			d.Send(ctx, 1, h, false)
		}, new(*link.ProtocolError), 0},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				r := onUSB(t, soft.High, true)
				ctx, cancel := context.WithCancel(t.Context())
				go func() {
					for {
						if _, err := r.dev.Recv(ctx, 1, make([]byte, 16<<10)); err != nil {
							return
						}
					}
				}()
				go c.send(ctx, r.dev)
				did := 0
				began := time.Now()
				_, err := Connect(ctx, usb.NewStream(r.pipe(t)), Options{Revived: func(string) { did++ }})
				if !errors.As(err, c.target) || did != c.did || time.Since(began) > 16*time.Second {
					t.Errorf("%v, %d tries, after %v", err, did, time.Since(began))
				}
				cancel()
			})
		})
	}
}
