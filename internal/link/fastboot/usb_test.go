package fastboot

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"jarlid/internal/link"
	"jarlid/internal/link/usb"
	"jarlid/internal/link/usb/soft"
)

// usbFar is a bootloader's end of a cable.
type usbFar struct{ d *soft.Device }

func (f usbFar) WritePacket(ctx context.Context, p []byte) error { return f.d.Send(ctx, 1, p, false) }
func (f usbFar) ReadPacket(ctx context.Context, p []byte) (int, error) {
	return f.d.Recv(ctx, 1, p)
}
func (f usbFar) ReadData(ctx context.Context, p []byte) (int, error) { return f.ReadPacket(ctx, p) }
func (f usbFar) Close() error                                        { return nil }

// rigUSB is a device on a bus in memory, and what was sent to it.
type rigUSB struct {
	bus       soft.Bus
	dev       *soft.Device
	mu        sync.Mutex
	transfers []int // lengths of all that was sent
}

func onUSB(t testing.TB, speed int) *rigUSB {
	r := &rigUSB{dev: soft.NewDevice(soft.Gadget{Speed: speed, Serial: "S",
		Functions: []soft.Function{soft.Phone(usb.ProtocolFastboot)}})}
	r.dev.Sent = func(p []byte) {
		r.mu.Lock()
		r.transfers = append(r.transfers, len(p))
		r.mu.Unlock()
	}
	t.Cleanup(r.bus.PlugAt("1-1", r.dev))
	return r
}

func (r *rigUSB) pipe(t testing.TB) usb.Pipe {
	t.Helper()
	p, err := r.bus.OpenPhone(context.Background())
	if err != nil {
		t.Fatalf("r.bus.OpenPhone(context.Background()): %v", err)
	}
	return p
}

// handle is a table of WinUSB's functions with a pipe behind it.
type handle struct {
	usb.Pipe
	most   int
	mu     sync.Mutex
	flying map[byte]context.CancelFunc
}

// flight is a transfer under way.
type flight struct {
	done chan struct{}
	n    int
	err  error
}

func (f *flight) Done() <-chan struct{} { return f.done }
func (f *flight) Result() (int, error)  { return f.n, f.err }

func (h *handle) Start(pipe byte, b []byte) (usb.Transfer, error) {
	ctx, cancel := context.WithCancel(context.Background())
	f := &flight{done: make(chan struct{})}
	h.mu.Lock()
	h.flying[pipe] = cancel
	h.mu.Unlock()
	if len(b) > h.most || pipe&0x80 != 0 && len(b)%h.Packet() != 0 {
		cancel()
		return nil, fmt.Errorf("a transfer of %d bytes", len(b))
	}
	go func() {
		defer close(f.done)
		do := h.Write
		if pipe&0x80 != 0 {
			do = h.Read
		}
		f.n, f.err = do(ctx, b)
		if errors.Is(f.err, context.Canceled) {
			f.err = usb.ErrAborted
		}
	}()
	return f, nil
}

func (h *handle) Abort(pipe byte) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.flying[pipe]()
	return nil
}

func (h *handle) Reset(byte) error { return h.ClearHalt() }
func (h *handle) Most(byte) int    { return h.most }

// windows puts WinUSB between a pipe and its client; most is what it takes at once.
func (r *rigUSB) windows(t testing.TB, most int) usb.Pipe {
	p := r.pipe(t)
	return usb.OverHandle(&handle{Pipe: p, most: most, flying: map[byte]context.CancelFunc{}},
		usb.Interface{In: 0x81, Out: 0x01, Packet: p.Packet()})
}

func (r *rigUSB) client(t testing.TB) *Client { return r.over(t, r.pipe(t)) }

func (r *rigUSB) over(t testing.TB, p usb.Pipe) *Client {
	t.Helper()
	u, err := NewUSB(context.Background(), p)
	if err != nil {
		t.Fatalf("NewUSB(context.Background(), %v): %v", p, err)
	}
	return New(u)
}

// TestUSB holds the cable to the conformance test of the networks, at each speed, with downloads
// that end with a full packet and without. Never is a transfer empty: a bootloader would take it
// for a command.
func TestUSB(t *testing.T) {
	for _, speed := range []int{soft.Full, soft.High, soft.Super} {
		for _, size := range []int{3<<20 + 17, 2 << 20, 1024, 64, 1} {
			t.Run(fmt.Sprintf("%d Mbit/s, %d bytes", speed, size), func(t *testing.T) {
				synctest.Test(t, func(t *testing.T) {
					r := onUSB(t, speed)
					go far(t.Context(), usbFar{r.dev})
					c := r.client(t)
					conform(t, c, size)
					c.Close()
					sum := 0
					for _, n := range r.transfers {
						if n == 0 {
							t.Fatal("an empty transfer was sent")
						}
						sum += n
					}
					if want := size + len("getvar:version"+"getvar:all"+"download:00000000"+
						"fetch:vendor_boot"+"erase:cache"+"flash:boot"); sum != want {
						t.Errorf("%d bytes were sent in %v, want %d", sum, r.transfers, want)
					}
				})
			})
		}
	}
}

// TestWinUSB holds a pipe over WinUSB's functions to the same: a read is of whole packets, nothing is
// larger than the system takes, a transfer is ended by its last piece, and what came in when one was
// given up is not lost.
func TestWinUSB(t *testing.T) {
	for _, speed := range []int{soft.Full, soft.High, soft.Super} {
		for _, most := range []int{4096, 2 << 20} {
			for _, size := range []int{3<<20 + 17, 8192, 64, 1} {
				t.Run(fmt.Sprintf("%d Mbit/s, at most %d, %d bytes", speed, most, size), func(t *testing.T) {
					synctest.Test(t, func(t *testing.T) {
						r := onUSB(t, speed)
						go far(t.Context(), usbFar{r.dev})
						c := r.over(t, r.windows(t, most))
						conform(t, c, size)
						c.Close()
					})
				})
			}
		}
	}
	synctest.Test(t, func(t *testing.T) {
		r := onUSB(t, soft.High)
		p := r.windows(t, 4096)
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		buf := make([]byte, 512)
		if n, err := p.Read(ctx, buf); n != 0 || !errors.Is(err, context.DeadlineExceeded) {
			t.Errorf("nothing came: %d, %v", n, err)
		}
		go r.dev.Send(t.Context(), 1, []byte("OKAY"), false)
		if n, err := p.Read(t.Context(), buf); err != nil || string(buf[:n]) != "OKAY" {
			t.Errorf("p.Read(buf): %q, %v; unwanted: err != nil || string(buf[:n]) != 'OKAY'", buf[:n], err)
		}
		go func() { time.Sleep(time.Second); p.Close() }()
		if _, err := p.Read(t.Context(), buf); !errors.Is(err, usb.ErrGone) {
			t.Errorf("closed meanwhile: %v", err)
		}
		if _, err := p.Write(t.Context(), buf); !errors.Is(err, usb.ErrGone) {
			t.Errorf("closed: %v", err)
		}
	})
}

// TestUSBAnswers: what is there of an earlier client is passed over, an answer may fill its
// packet, packets without bytes mean nothing, and what is too long breaks the rules.
func TestUSBAnswers(t *testing.T) {
	say := func(r *rigUSB, zero bool, list ...string) {
		go func() {
			for _, s := range list {
				r.dev.Send(context.Background(), 1, []byte(s), zero)
			}
		}()
	}
	take := func(r *rigUSB) { go r.dev.Recv(context.Background(), 1, make([]byte, 512)) }
	long := strings.Repeat("x", 60)
	for name, c := range map[string]struct {
		speed  int
		before []string
		answer []string
		zero   bool
		want   string
		rule   bool
	}{
		"left over": {soft.High, []string{"INFOold", "OKAYold"}, []string{"OKAYnew"},
			false, "new", false},
		"an empty packet before": {soft.High, nil, []string{"", "OKAYnew"}, true, "new", false},
		"as long as its packet":  {soft.Full, nil, []string{"OKAY" + long}, false, long, false},
		"as long as it, and another": {soft.Full, nil, []string{"INFO" + long, "OKAY" + long}, false,
			long, false},
		"longer than its packet": {soft.Full, nil, []string{"OKAY" + long + long}, false, long + long,
			false},
		"two packets, with an empty one": {soft.Full, nil, []string{"OKAY" + long + long + "xxxx"}, true,
			long + long + "xxxx", false},
		"256 bytes": {soft.Full, nil, []string{"OKAY" + strings.Repeat("y", 252)}, false,
			strings.Repeat("y", 252), false},
		"257 bytes": {soft.High, nil, []string{"OKAY" + strings.Repeat("y", 253)},
			false, "", true},
		"257 bytes, on a slow link": {soft.Full, nil, []string{"OKAY" + strings.Repeat("y", 253)},
			false, "", true},
		"none of the words":             {soft.High, nil, []string{"\x00\x1b[31m"}, false, "", true},
		"half a word":                   {soft.High, nil, []string{"OK"}, false, "", true},
		"data where none was asked for": {soft.High, nil, []string{"DATA00000010"}, false, "", true},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				r := onUSB(t, c.speed)
				say(r, false, c.before...)
				synctest.Wait()
				client := r.client(t)
				take(r)
				synctest.Wait()
				say(r, c.zero, c.answer...)
				a, err := client.Command(t.Context(), "getvar:x", time.Minute)
				var rule *link.ProtocolError
				if a.Text != c.want || errors.As(err, &rule) != c.rule || (err != nil) != c.rule {
					t.Errorf("client.Command('getvar:x', time.Minute): %q, %v", a.Text, err)
				}
				client.Close()
			})
		})
	}
}

// TestUSBFaults: a stall is cleared once; one that comes again, silence, and a cable that is
// pulled are errors with a type, and nothing waits for ever.
func TestUSBFaults(t *testing.T) {
	for name, c := range map[string]struct {
		do     func(r *rigUSB)
		target any // nil: it goes on
	}{
		"a stall": {func(r *rigUSB) {
			r.dev.Halt(0x81)
			r.dev.Halt(0x01)
			go far(context.Background(), usbFar{r.dev})
		}, nil},
		"a stall of a phone that listens already": {func(r *rigUSB) {
			r.dev.Halt(0x01)
			go far(context.Background(), usbFar{r.dev})
			synctest.Wait()
		}, nil},
		"stalls without end": {func(r *rigUSB) {
			r.dev.Stuck = true
			r.dev.Halt(0x01)
		}, new(*link.ProtocolError)},
		"silence": {func(r *rigUSB) {
			go r.dev.Recv(context.Background(), 1, make([]byte, 512))
		}, new(*link.LostError)},
		"takes nothing": {func(r *rigUSB) {}, new(*link.LostError)},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				r := onUSB(t, soft.High)
				client := r.client(t)
				c.do(r)
				_, _, err := client.GetVar(t.Context(), "version")
				if c.target == nil && err != nil || c.target != nil && !errors.As(err, c.target) {
					t.Errorf("client.GetVar('version'): %v", err)
				}
				client.Close()
			})
		})
	}
	// In the middle of a download, at many places.
	for at := int64(1); at < 3<<20; at = at*3 + 1 {
		synctest.Test(t, func(t *testing.T) {
			r := onUSB(t, soft.High)
			client := r.client(t)
			go far(t.Context(), usbFar{r.dev})
			list, _ := r.bus.List()
			unplug := r.bus.PlugAt(list[0].Port, r.dev)
			r.dev.After(at, unplug)
			err := client.Download(t.Context(), 3<<20, bytes.NewReader(make([]byte, 3<<20)), nil)
			var lost *link.LostError
			if !errors.As(err, &lost) {
				t.Errorf("pulled after %d bytes: %v", at, err)
			}
		})
	}
}

// TestUSBKilled: a program that was killed in the middle of a download leaves a bootloader that
// waits. The next one fills it up, to the byte, and goes on; nothing shifts its answers.
func TestUSBKilled(t *testing.T) {
	const size = 3<<20 + 100
	for _, speed := range []int{soft.Full, soft.High, soft.Super} {
		for _, at := range []int64{1, 1 << 20, 1<<20 + 512, 2<<20 - 512, 3 << 20, size - 20} {
			synctest.Test(t, func(t *testing.T) {
				r := onUSB(t, speed)
				go far(t.Context(), usbFar{r.dev})
				dead := r.client(t)
				ctx, kill := context.WithCancel(t.Context())
				var known int64
				r.dev.After(at+int64(len("download:00000000")), kill)
				err := dead.Download(ctx, size, bytes.NewReader(make([]byte, size)), func(n int64) {
					known = n
				})
				if err == nil && at+int64(r.dev.Packet()) > size {
					return // its last packet was taken, and the answer was faster than the kill
				}
				if err == nil {
					t.Fatal("it was not killed")
				}
				dead.Close()
				r.dev.Resume()
				client := r.client(t)
				filled, err := client.Sync(t.Context(), size, known)
				if err != nil || !filled && known < size {
					t.Fatalf("%d Mbit/s, killed after %d bytes, %d known: %v, %v", speed, at, known,
						filled, err)
				}
				conform(t, client, 100_000)
				// Without a word of what was under way, hands are asked for.
				client.Close()
			})
		}
	}
	synctest.Test(t, func(t *testing.T) {
		r := onUSB(t, soft.High)
		go r.dev.Recv(t.Context(), 1, make([]byte, 1<<20))
		client := r.client(t)
		_, err := client.Sync(t.Context(), 0, 0)
		var swallowed *SwallowedError
		var lost *link.LostError
		if !errors.As(err, &swallowed) || !errors.As(err, &lost) ||
			!strings.Contains(err.Error(), "pull the cable") {
			t.Errorf("client.Sync(0, 0): %v", err)
		}
		client.Close()
	})
}

// TestUSBUnreadable: a file that can't be read to its end is filled up, since closing tells a
// bootloader on a cable nothing.
func TestUSBUnreadable(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := onUSB(t, soft.High)
		go far(t.Context(), usbFar{r.dev})
		client := r.client(t)
		broken := io.MultiReader(bytes.NewReader(make([]byte, 1<<20+77)), errReader{})
		if err := client.Download(t.Context(), 2<<20, broken, nil); err == nil ||
			!strings.Contains(err.Error(), "could not be read") {
			t.Fatalf("client.Download(2<<20, broken): %v", err)
		}
		next := r.client(t)
		conform(t, next, 100_000)
		next.Close()
	})
}

type errReader struct{}

func (errReader) Read([]byte) (int, error) { return 0, errors.New("the disk is gone") }

// BenchmarkUSB sends into a device in memory, framing and all.
func BenchmarkUSB(b *testing.B) {
	const size = 32 << 20
	r := onUSB(b, soft.Super)
	r.dev.Sent = nil
	go func() {
		cmd, data := make([]byte, MaxCommand), make([]byte, size)
		for {
			n, err := r.dev.Recv(context.Background(), 1, cmd)
			if err != nil {
				return
			}
			r.dev.Send(context.Background(), 1, []byte("DATA"+string(cmd[n-8:n])), false)
			for got := 0; got < size; {
				n, err := r.dev.Recv(context.Background(), 1, data[got:])
				if err != nil {
					return
				}
				got += n
			}
			r.dev.Send(context.Background(), 1, []byte("OKAY"), false)
		}
	}()
	c := r.client(b)
	defer c.Close()
	img := make([]byte, size)
	b.SetBytes(size)
	for b.Loop() {
		if err := c.Download(context.Background(), size, bytes.NewReader(img), nil); err != nil {
			b.Fatalf("c.Download(context.Background(), size, bytes.NewReader(img)): %v", err)
		}
	}
}
